"""What the simulated hosts have on file: made from the registry database and from seeds, the same on every machine."""

import random
import sqlite3
from contextlib import closing
from dataclasses import dataclass
from datetime import date, timedelta
from decimal import Decimal
from pathlib import Path

from bricola.demo.registry import LAST_DAY, SEED

LONG_LEDGER = "LK-0412"  # whose ledger goes back so far that it has 300 lines
LONG_LINES = 300


@dataclass(frozen=True)
class LedgerLine:
    number: str
    passed_on: date
    lock: int
    direction: str  # U or D
    tonnes: Decimal
    toll: Decimal


@dataclass(frozen=True)
class LedgerAccount:
    registration: str
    name: str
    status: str
    due: Decimal
    lines: tuple[LedgerLine, ...]  # the newest first


class LedgerFile:
    """The ledger's accounts, read from the registry when they are asked for."""

    def __init__(self, registry: Path) -> None:
        self._registry = registry
        self._read: dict[str, LedgerAccount] = {}

    def account(self, registration: str) -> LedgerAccount | None:
        """The account as it was when it was read first: the ledger is closed every night, not every minute."""
        if registration not in self._read:
            found = self._account(registration)
            if found is None:
                return None
            self._read[registration] = found
        return self._read[registration]

    def _account(self, registration: str) -> LedgerAccount | None:
        with closing(sqlite3.connect(f"file:{self._registry}?mode=ro", uri=True)) as db:
            head = db.execute("SELECT v.name, o.account_status FROM vessel v JOIN operator o ON o.number = v.operator_number "
                              "WHERE v.registration = ?", (registration,)).fetchone()
            if head is None:
                return None
            rows = db.execute("SELECT number, passed_at, lock, direction, cargo_tonnes, toll FROM passage WHERE vessel = ? "
                              "AND number < 'PS-040001' ORDER BY passed_at DESC, number DESC", (registration,)).fetchall()
        lines = [LedgerLine(number, date.fromisoformat(at[:10]), lock, direction[0].upper(), _money(tonnes), _money(toll))
                 for number, at, lock, direction, tonnes, toll in rows]
        if registration == LONG_LEDGER:
            lines += _older(LONG_LINES - len(lines))
        recent = sum((one.toll for one in lines if one.passed_on > LAST_DAY - timedelta(days=90)), Decimal(0))
        return LedgerAccount(registration, head[0], head[1], recent, tuple(lines))


def _older(count: int) -> list[LedgerLine]:
    """Lines from before the registry begins."""
    rng = random.Random(f"{SEED}-{LONG_LEDGER}")
    day = LAST_DAY - timedelta(days=3 * 365 + 1)
    found = []
    for number in range(count):
        day -= timedelta(days=rng.randrange(1, 9))
        found.append(LedgerLine(f"PL-{90_000 - number:06}", day, rng.randint(1, 24), rng.choice("UD"), _money(rng.uniform(0, 1_400)),
                                _money(rng.uniform(6, 96))))
    return found


def _money(value: float | str) -> Decimal:
    return Decimal(str(round(float(value), 2))).quantize(Decimal("0.01"))


@dataclass(frozen=True)
class Booking:
    start: date
    end: date
    registration: str


@dataclass(frozen=True)
class Berth:
    code: str
    place: str
    metres: Decimal
    kind: str
    rate: Decimal
    bookings: tuple[Booking, ...]


class BerthFile:
    """The berths of the registry with their bookings, which only this host has."""

    def __init__(self, registry: Path) -> None:
        with closing(sqlite3.connect(f"file:{registry}?mode=ro", uri=True)) as db:
            rows = db.execute("SELECT b.code, l.name, b.metres, b.mooring, b.daily_rate FROM berth b JOIN lock l ON l.number = b.lock "
                              "ORDER BY b.code").fetchall()
        self._berths = {code: Berth(code, place, _money(metres), kind, _money(rate), _bookings(code))
                        for code, place, metres, kind, rate in rows}

    def berth(self, code: str) -> Berth | None:
        return self._berths.get(code)

    def from_code(self, code: str) -> list[Berth]:
        """The berths from a code on, in the order of their codes."""
        return [one for name, one in self._berths.items() if name >= code]


def _bookings(code: str) -> tuple[Booking, ...]:
    rng = random.Random(f"{SEED}-{code}")
    day = date(2026, 11, 2) + timedelta(days=rng.randrange(5))
    found = []
    for _ in range(rng.choice((0, 3, 7, 14, 23, 37))):
        end = day + timedelta(days=rng.randrange(1, 6))
        found.append(Booking(day, end, f"LK-{rng.randint(1, 1200):04}"))
        day = end + timedelta(days=rng.randrange(0, 4))
    return tuple(found)
