"""The registry database of Larkmere Waterways: made from a seed, so that every machine has the same rows."""

import random
import sqlite3
from collections.abc import Iterator
from datetime import date, datetime, time, timedelta
from pathlib import Path
from typing import Any

SEED = 412
OPERATORS, VESSELS, PASSAGES = 300, 1_200, 40_000
LAST_DAY = date(2026, 10, 31)

SCHEMA = """
CREATE TABLE operator (number TEXT PRIMARY KEY, name TEXT NOT NULL, town TEXT NOT NULL, email TEXT NOT NULL,
    account_status TEXT NOT NULL CHECK (account_status IN ('open', 'held', 'closed')));
CREATE TABLE vessel (registration TEXT PRIMARY KEY, name TEXT NOT NULL,
    kind TEXT NOT NULL CHECK (kind IN ('narrowboat', 'barge', 'tug', 'tanker', 'passenger')),
    length_m DECIMAL(5,2) NOT NULL, beam_m DECIMAL(4,2) NOT NULL, draught_m DECIMAL(4,2) NOT NULL,
    operator_number TEXT NOT NULL REFERENCES operator (number), registered_on DATE NOT NULL,
    status TEXT NOT NULL CHECK (status IN ('active', 'laid-up', 'struck-off')), notes TEXT,
    row_version INTEGER NOT NULL DEFAULT 1);
CREATE INDEX vessel_operator ON vessel (operator_number, registration);
CREATE TABLE permit (number TEXT PRIMARY KEY, vessel TEXT NOT NULL REFERENCES vessel (registration),
    class TEXT NOT NULL, valid_from DATE NOT NULL, valid_to DATE NOT NULL, fee DECIMAL(8,2) NOT NULL, conditions TEXT);
CREATE INDEX permit_vessel ON permit (vessel, valid_to);
CREATE TABLE lock (number INTEGER PRIMARY KEY, name TEXT NOT NULL, river_km DECIMAL(5,1) NOT NULL,
    chamber_length_m DECIMAL(5,2) NOT NULL, chamber_width_m DECIMAL(4,2) NOT NULL, sill_depth_m DECIMAL(4,2) NOT NULL,
    open_from TIME NOT NULL, open_to TIME NOT NULL, out_of_service_until DATE);
CREATE TABLE berth (code TEXT PRIMARY KEY, lock INTEGER NOT NULL REFERENCES lock (number), metres DECIMAL(5,2) NOT NULL,
    mooring TEXT NOT NULL, daily_rate DECIMAL(7,2) NOT NULL);
CREATE TABLE passage (number TEXT PRIMARY KEY, vessel TEXT NOT NULL REFERENCES vessel (registration),
    lock INTEGER NOT NULL REFERENCES lock (number), direction TEXT NOT NULL CHECK (direction IN ('up', 'down')),
    passed_at DATETIME NOT NULL, cargo_kind TEXT, cargo_tonnes DECIMAL(8,2) NOT NULL, toll DECIMAL(8,2) NOT NULL);
CREATE INDEX passage_vessel ON passage (vessel, number);
CREATE INDEX passage_lock ON passage (lock, passed_at);
CREATE TABLE bricola_request (id CHAR(64) PRIMARY KEY, expires BIGINT NOT NULL, answer TEXT NOT NULL);
CREATE INDEX bricola_request_expires ON bricola_request (expires);
CREATE TABLE notice (id TEXT PRIMARY KEY, title TEXT NOT NULL, text TEXT NOT NULL, lock INTEGER REFERENCES lock (number), reach TEXT,
    valid_from DATE NOT NULL, valid_to DATE, urgency TEXT NOT NULL CHECK (urgency IN ('information', 'warning', 'closure')));
CREATE TABLE gauge (code TEXT PRIMARY KEY, place TEXT NOT NULL, datum DECIMAL(6,2) NOT NULL);
"""

_LOCKS = ("Alderfen", "Stokemere", "Hollinweir", "Brackwater", "Osier Cut", "Fernsluice", "Mallard Reach", "Coldspring",
          "Thornlode", "Saltersgate", "Kingcup", "Longstaithe", "Wherry Bridge", "Millrace", "Heronsford", "Rushbeck",
          "Dunlin", "Greyling", "Sedgebank", "Tollgate", "Withy End", "Marlpit", "Oxbow", "Larkmere Basin")
_TOWNS = ("Larkmere", "Alderby", "Stoke Fen", "Hollin", "Brackley Quay", "Ferness", "Malling Staithe", "Thornwick",
          "Salterby", "Longwater", "Heron Cross", "Rushden Wharf")
_HOUSES = ("Amberley", "Birkett", "Corrigan", "Dunmore", "Eastwick", "Farrow", "Garrick", "Hallam", "Ibsley", "Jessop",
           "Kestrel", "Lowther", "Merrow", "Norling", "Oakley", "Pemberly", "Quennell", "Rowan", "Selwyn", "Tarrant",
           "Underhill", "Varley", "Winslow", "Yarrow", "Zennor")
_TRADES = ("Carriers", "Haulage", "River Trading", "Boatyard", "Lighterage", "Cruises", "Towing", "Fuel and Stores",
           "Aggregates", "Timber", "Grain", "Hire Boats")
_FIRST = ("Silver", "Merry", "Proud", "Morning", "Quiet", "Northern", "Golden", "Windward", "Little", "Brave", "Gentle",
          "Autumn", "Swift", "Evening", "Lucky", "Patient", "Wandering", "Rising", "Amber", "Northerly")
_SECOND = ("Heron", "Otter", "Reed", "Lantern", "Kingfisher", "Willow", "Grebe", "Tern", "Harvester", "Mallard",
           "Bittern", "Maiden", "Pilot", "Teal", "Marigold", "Curlew", "Drover", "Plover", "Swan", "Sedge")
_SIZES = {  # length, beam, draught in metres: from, to
    "narrowboat": ((9.0, 21.9), (2.05, 2.15), (0.45, 0.85)), "barge": ((18.0, 61.0), (3.6, 6.8), (0.9, 2.4)),
    "tug": ((11.0, 24.0), (3.4, 6.2), (1.2, 2.3)), "tanker": ((28.0, 67.0), (4.8, 7.2), (1.4, 2.6)),
    "passenger": ((14.0, 42.0), (3.2, 6.4), (0.7, 1.6)),
}
_KINDS = ("narrowboat",) * 9 + ("barge",) * 5 + ("tug",) * 2 + ("tanker",) * 2 + ("passenger",) * 2
_CARGO = ("gravel", "grain", "timber", "fuel", "coal", "salt", "containers")
_NOTES = ("Bow thruster out of order", "Carries a folding mast", "Tow astern only", "Owner asks for a call before locking",
          "Low freeboard when laden", "Heritage vessel, no night passage", "Fenders must stay rigged")


def make_registry(path: Path) -> None:
    """Write the database, whole or not at all."""
    path.parent.mkdir(parents=True, exist_ok=True)
    new = path.with_suffix(".new")
    new.unlink(missing_ok=True)
    rng = random.Random(SEED)
    db = sqlite3.connect(new)
    try:
        db.executescript(SCHEMA)
        operators = list(_operators(rng))
        vessels = list(_vessels(rng, [row[0] for row in operators]))
        locks = list(_locks(rng))
        tables: dict[str, list[tuple[Any, ...]]] = {
            "operator": operators, "vessel": vessels, "permit": list(_permits(rng, vessels)), "lock": locks,
            "berth": list(_berths(rng)), "passage": list(_passages(rng, vessels)),
            "notice": list(_notices()),
            "gauge": [(f"G{n:02}", f"{name} tail", round(62 - 2.3 * n, 2)) for n, name in enumerate(_LOCKS[::2], 1)],
        }
        for table, rows in tables.items():
            db.executemany(f"INSERT INTO {table} VALUES ({','.join('?' * len(rows[0]))})", rows)
        db.commit()
        db.execute("ANALYZE")
        db.commit()
        db.execute("PRAGMA journal_mode=WAL")
    finally:
        db.close()
    new.replace(path)


def _notices() -> Iterator[tuple[Any, ...]]:
    """What hangs on the board on the last day. Without the generator, so that everything else stays as it was."""
    yield ("N-0001", "Sedgebank lock closed", "Closed for repairs of the lower gate.", 19, None, "2026-10-12", "2026-12-18", "closure")
    yield ("N-0002", "Low water above Osier Cut", "Sill depth down by 30 cm until the rain comes.", None, "Osier Cut to Fernsluice",
           "2026-10-20", None, "warning")
    yield ("N-0003", "Winter hours", "Locks open at 8 from 1 November.", None, None, "2026-11-01", "2027-03-15", "information")


def _operators(rng: random.Random) -> Iterator[tuple[Any, ...]]:
    for number in range(1, OPERATORS + 1):
        house, trade = rng.choice(_HOUSES), rng.choice(_TRADES)
        email = f"{house.lower()}.{number}@{trade.split()[0].lower()}.example"
        status = rng.choices(("open", "held", "closed"), (92, 5, 3))[0]
        yield f"OP-{number:04}", f"{house} {trade}", rng.choice(_TOWNS), email, status


def _vessels(rng: random.Random, operators: list[str]) -> Iterator[tuple[Any, ...]]:
    for number in range(1, VESSELS + 1):
        kind = rng.choice(_KINDS)
        sizes = [round(rng.uniform(low, high), 2) for low, high in _SIZES[kind]]
        registered = date(1994, 3, 1) + timedelta(days=rng.randrange(11_500))
        status = "active" if number == 412 else rng.choices(("active", "laid-up", "struck-off"), (90, 7, 3))[0]
        notes = rng.choice(_NOTES) if rng.random() < 0.18 else None
        yield (f"LK-{number:04}", f"{rng.choice(_FIRST)} {rng.choice(_SECOND)}", kind, *sizes, rng.choice(operators),
               registered.isoformat(), status, notes, 1)


def _permits(rng: random.Random, vessels: list[tuple[Any, ...]]) -> Iterator[tuple[Any, ...]]:
    for number, vessel in enumerate(vessels, 1):
        start = date(2026, 1, 1) + timedelta(days=rng.randrange(-330, 270))
        kind = {"narrowboat": "leisure", "passenger": "trip"}.get(vessel[2], "freight")
        fee = round(60 + 4.2 * vessel[3] * vessel[4] / 10, 2)
        conditions = "Daylight passages only" if rng.random() < 0.1 else None
        yield (f"P{26_000 + number}", vessel[0], kind, start.isoformat(), (start + timedelta(days=365)).isoformat(), fee,
               conditions)


def _locks(rng: random.Random) -> Iterator[tuple[Any, ...]]:
    km = 2.4
    for number, name in enumerate(_LOCKS, 1):
        length, width = rng.choice(((24.5, 4.6), (42.0, 6.5), (68.0, 7.4), (72.0, 8.2)))
        opens, closes = rng.choice((("06:00:00", "21:00:00"), ("07:00:00", "19:30:00"), ("05:30:00", "22:00:00")))
        closed = "2026-12-18" if name == "Sedgebank" else None
        yield number, name, round(km, 1), length, width, round(rng.uniform(1.9, 3.1), 2), opens, closes, closed
        km += rng.uniform(2.1, 6.8)


def _berths(rng: random.Random) -> Iterator[tuple[Any, ...]]:
    for lock, name in enumerate(_LOCKS, 1):
        for index in range(1, 4):
            metres, mooring = round(rng.uniform(12, 70), 1), rng.choice(("quay", "pontoon", "piles", "lay-by"))
            yield f"{name[:4].upper().strip()}-{index}", lock, metres, mooring, round(8 + metres * 0.35, 2)


def _passages(rng: random.Random, vessels: list[tuple[Any, ...]]) -> Iterator[tuple[Any, ...]]:
    """Three years up to LAST_DAY, in the order of time; freight vessels carry cargo on most passages."""
    start = LAST_DAY - timedelta(days=3 * 365)
    moments = sorted(rng.randrange(3 * 365 * 86_400) for _ in range(PASSAGES))
    for number, seconds in enumerate(moments, 1):
        vessel = rng.choice(vessels)
        moment = datetime.combine(start, time()) + timedelta(seconds=seconds)
        moment = moment.replace(hour=6 + moment.hour % 15, second=0)
        freight = vessel[2] in ("barge", "tanker") and rng.random() < 0.8
        tonnes = round(rng.uniform(5, vessel[3] * vessel[4] * 0.9), 2) if freight else 0
        cargo = ("fuel" if vessel[2] == "tanker" else rng.choice(_CARGO)) if freight else None
        toll = round(4.5 + 0.11 * vessel[3] * vessel[4] + 0.06 * float(tonnes), 2)
        yield (f"PS-{number:06}", vessel[0], rng.randint(1, len(_LOCKS)), rng.choice(("up", "down")),
               f"{moment.isoformat()}Z", cargo, tonnes, toll)
