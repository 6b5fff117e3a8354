"""Programs reached through records: over frames, HTTP and a folder, with programs that do well, refuse, break, loop and lie."""

import asyncio
import json
import random
import shutil
import ssl
import struct
import subprocess
import sys
import time
from collections.abc import AsyncIterator, Iterator
from contextlib import asynccontextmanager, contextmanager
from datetime import date
from decimal import Decimal
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from bricola.adapters.engines import DOORS
from bricola.adapters.engines.program_host.sessions import ProgramHostKind
from bricola.adapters.folders import Folders
from bricola.adapters.stages import run
from bricola.adapters.surroundings import Surroundings
from bricola.core.calls.call import Call
from bricola.core.cobol.record import Options, chosen_record
from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.copybooks import CopybookDefinition
from bricola.core.definitions.engines.places import Endpoint
from bricola.core.definitions.model import Binding, EnvironmentDefinition, PoolSettings
from bricola.core.definitions.text import read_definition, write_definition
from bricola.core.kinds.kind import ResolvedOperation
from bricola.core.kinds.programs.definition import Area, Held
from bricola.core.kinds.programs.drafting import drafted
from bricola.core.kinds.programs.kind import PROGRAM
from bricola.core.kinds.resolve import resolve_service
from bricola.core.messages.faults import DeclaredFaultError
from bricola.core.pool.pool import Pool
from bricola.core.problems import ProblemError
from bricola.core.programs import frames
from bricola.demo.programs.__main__ import described
from bricola.demo.programs.host import Host
from bricola.demo.start import catalogue_files
from tests.certificates import certificate
from tests.core.terminals import Passwords, problem_of, until
from tests.length import often

CATALOGUE = Catalogue(read_definition(text, path) for path, text in catalogue_files().items())
PASSAGE = {"registration": "LM1234", "lockNumber": 7, "lengthM": Decimal("24.80"), "beamM": Decimal("4.55"), "draughtM": Decimal("1.63"),
           "cargoTonnes": Decimal("120.0")}
# What a process of a program host does, in Python: reads a call, and does what it is made for.
WORKER = """
import os, struct, sys, time
i, o = sys.stdin.buffer, sys.stdout.buffer
while n := i.read(1):
    areas = []
    for _ in range(n[0]):
        room, given = struct.unpack(">II", i.read(8))
        areas.append(bytearray(i.read(given).ljust(room, b"\\0")))
    code = 0
    DO
    o.write(struct.pack(">i", code) + b"".join(struct.pack(">I", len(a)) + a for a in areas))
    o.flush()
"""


def worker(does: str) -> list[str]:
    return [sys.executable, "-c", WORKER.replace("DO", does.replace("\n", "\n    "))]


def programs(**does: str) -> dict[str, Any]:
    """A host's description with programs of one area of 332 bytes."""
    return {"words": "a host of the tests", "most": 4,
            "programs": [{"name": name.upper(), "areas": [332], "run": worker(does_)} for name, does_ in does.items()]}


@asynccontextmanager
async def hosted(description: dict[str, Any], user: str = "", secret: str = "", tls: ssl.SSLContext | None = None) -> AsyncIterator[int]:
    host = Host(description, user, secret)
    port = await host.start(0, tls=tls)
    try:
        yield port
    finally:
        await host.close()


@asynccontextmanager
async def pool_at(address: str, engine: str = "program-host", credential: str = "", folder: Path = Path("."), **parts: Any) -> AsyncIterator[Pool[Any]]:
    ends = (Endpoint(name="counter", address=address),)
    settings = PoolSettings(max_size=parts.pop("max_size", 4), connect_timeout=20)
    binding = Binding(name="toll-office", endpoints=ends, credential=credential, pool=settings, **parts)
    backend = CATALOGUE.find_backend("toll-office")
    assert backend is not None
    kind = DOORS[engine].sessions(backend, binding, Surroundings(Folders(folder), Passwords()), "live")
    pool: Pool[Any] = Pool("toll-office", kind, ends, settings, time.monotonic)
    pool.start()
    try:
        yield pool
    finally:
        await pool.close()


def with_backend(engine: str, **changes: str) -> Catalogue:
    """The demo's catalogue with another engine for the toll office, and texts replaced in its definitions."""
    files = dict(catalogue_files())
    files["backends/toll-office.yaml"] = f"backend: toll-office\nengine: {engine}\n"
    for old, new in changes.items():
        assert old.replace("_", " ") in files["programs/toll-calc.yaml"]
        files["programs/toll-calc.yaml"] = files["programs/toll-calc.yaml"].replace(old.replace("_", " "), new)
    return Catalogue(read_definition(text, path) for path, text in files.items())


def resolved(catalogue: Catalogue = CATALOGUE) -> ResolvedOperation:
    service = catalogue.find_service("TollCalculator")
    assert service is not None
    return resolve_service(service, catalogue).operations[0]


def handler(pool: Pool[Any], catalogue: Catalogue = CATALOGUE) -> Any:
    operation = resolved(catalogue)
    compiled = PROGRAM.compile(operation, EnvironmentDefinition(name="live"), {"toll-office": pool})
    return lambda values, call=None: compiled.handle(call or Call(), values)


def examples() -> Iterator[dict[str, Any]]:
    yield from json.loads((Path(__file__).parent / "vectors" / "copybooks" / "demo" / "examples.json").read_text())["calls"]


async def test_the_toll_is_what_the_compiled_program_works_out(tmp_path: Path) -> None:
    description = described(tmp_path / "programs")
    assert ("compiled by GnuCOBOL" in description["words"]) == (shutil.which("cobc") is not None)
    async with hosted(description) as port, pool_at(f"127.0.0.1:{port}") as pool:
        call = handler(pool)
        assert await call(dict(PASSAGE)) == {
            "line": [{"code": code, "text": text, "amount": Decimal(amount)} for code, text, amount in (
                ("BASE", "LARKMERE GATE", "12.00"), ("LOA", "METRES OVER TWELVE", "10.20"), ("BEAM", "BROAD BEAM", "3.33"),
                ("DEEP", "DEEP DRAUGHT", "4.80"), ("CARG", "CARGO BY THE TONNE", "37.20"), ("REBT", "LARKMERE REBATE", "-6.75"))],
            "total": Decimal("60.78"), "returnCode": 0, "message": "TOLL WORKED OUT"}
        for one in examples():
            request, reply = one["request"], one["reply"]
            if not all(request.values()) or not request["TRQ-VESSEL-REG"].strip():
                continue
            values = dict(zip(PASSAGE, (request["TRQ-VESSEL-REG"].strip(), int(request["TRQ-LOCK-NO"]),
                                        *(Decimal(text) for text in list(request.values())[2:])), strict=True))
            if int(reply["TRP-RETURN-CODE"]) >= 8:
                with pytest.raises(DeclaredFaultError) as refused:
                    await call(values)
                assert (refused.value.name, refused.value.detail["returnCode"]) == ("TollRefused", int(reply["TRP-RETURN-CODE"]))
                assert str(refused.value) == reply["TRP-MESSAGE"].strip()
            else:
                assert (await call(values))["total"] == Decimal(reply["TRP-TOTAL"])


@pytest.mark.skipif(shutil.which("cobc") is None, reason="no COBOL compiler is installed")
async def test_the_stand_in_answers_as_the_compiled_program_does(tmp_path: Path) -> None:
    dice = random.Random(7)
    real, = described(tmp_path)["programs"]
    stand_in = real | {"run": [sys.executable, "-m", "bricola.demo.programs.tollcalc"], "name": "STANDIN"}
    async with hosted({"programs": [real, stand_in]}) as port, pool_at(f"127.0.0.1:{port}") as pool:
        session = await pool.borrow(Call())
        for _ in range(often(400, 20000)):
            area = b"".join((dice.choice((b"LM1234  ", b"W0000001", b"LK-0412 ", b" " * 8, b"\0" * 8)), dice.choice((b"001", b"002", b"007", b"014", b"021", b"0 7")),
                             f"{dice.choice((0, 1100, 1200, 1299, 2200, 2201, 6500, dice.randrange(99999))):05}".encode(),
                             f"{dice.choice((0, 420, 421, 1100, dice.randrange(1300))):04}".encode(),
                             bytes.fromhex(f"{dice.choice((0, 150, 151, 320, dice.randrange(400))):05}{dice.choice('fffc')}"),
                             bytes.fromhex(f"{dice.choice((0, 1, 99999, dice.randrange(999999))):07}{dice.choice('fffd')}")))
            asked = [frames.SentArea(332, True, area)]
            one, other = await session.call("TOLLCALC", asked, 5), await session.call("STANDIN", asked, 5)
            assert one.areas[0].hex(" ") == other.areas[0].hex(" ")
        pool.give_back(session, False)


BREAKS = {
    "abend": ("sys.stderr.write('S0C7 at line 41\\n'); sys.exit(3)", "program.abend", "E3", "S0C7 at line 41"),
    "crash": ("os.kill(os.getpid(), 11)", "program.abend", "SSEGV", ""),
    "stop": ("sys.exit(0)", "program.abend", "E0", "it ended without an answer"),
    "loop": ("time.sleep(60)", "program.time", "TIME", "0.5 s"),
    "longer": ("areas[0] += b'more'", "program.abend", "AREA", "336 bytes of an area of 332"),
    "garbage": ("areas[0][:] = b'\\x99' * 332", "program.reply", "", "cannot be read"),
    "count": ("areas[0][27:] = bytes.fromhex('0000') + b' ' * 40 + bytes.fromhex('000000000c') + b'\\x00\\x09' + bytes(256)", "program.reply", "",
              "does not count"),
    "code": ("areas[0][27:] = bytes(2) + b' ' * 40 + bytes.fromhex('000000000c') + bytes(258); code = 12", "program.return-code", "12", ""),
}


@pytest.mark.parametrize("name", BREAKS)
async def test_a_program_that_breaks_is_told_and_the_next_call_is_answered(name: str) -> None:
    does, code, found, inner = BREAKS[name]
    catalogue = with_backend("program-host", **{"seconds:_5": "seconds: 0.5"} if name == "loop" else {})
    async with hosted(programs(tollcalc=does)) as port, pool_at(f"127.0.0.1:{port}") as pool:
        call = handler(pool, catalogue)
        problem = await problem_of(call(dict(PASSAGE)))
        assert (problem.code, problem.found) == (code, found)
        assert inner in problem.inner
        assert problem.kind.http_status in (502, 503)
        assert (await problem_of(call(dict(PASSAGE)))).code == code  # another process, the same session
        assert pool.statistics()["connections_lost"] == 0


async def test_a_refusal_is_told_whatever_else_the_program_left_in_its_area() -> None:
    does = "areas[0][27:] = bytes.fromhex('000c') + b'VESSEL TOO LONG'.ljust(40) + b'\\x99' * 5 + bytes(258)"
    async with hosted(programs(tollcalc=does)) as port, pool_at(f"127.0.0.1:{port}") as pool:
        with pytest.raises(DeclaredFaultError, match="VESSEL TOO LONG") as refused:
            await handler(pool)(dict(PASSAGE))
        assert refused.value.detail == {"message": "VESSEL TOO LONG", "returnCode": 12}


async def test_what_does_not_fit_its_picture_is_refused_before_anything_is_sent() -> None:
    async with hosted(programs(tollcalc="raise SystemExit")) as port, pool_at(f"127.0.0.1:{port}") as pool:
        call = handler(pool)
        for changed, place, told in (({"registration": "Lä1"}, "registration", 'ascii has no "ä"'), ({"lockNumber": 1000}, "lockNumber", "more digits"),
                                     ({"lengthM": Decimal("1.005")}, "lengthM", "more decimals"), ({"cargoTonnes": Decimal(-1)}, "cargoTonnes", "negative")):
            problem = await problem_of(call(PASSAGE | changed))
            assert (problem.code, problem.place) == ("record.value", f"CalculateToll/{place}")
            assert told in problem.message
            assert problem.kind.http_status == 400
        assert pool.statistics()["requests_num"] == 0


async def test_a_host_that_is_none_that_is_full_or_lets_nobody_in(tmp_path: Path) -> None:
    async def nonsense(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        await reader.read(5)
        writer.write(b"HTTP/1.1 400 Bad Request\r\n\r\n")
        await reader.read()
        writer.close()

    server = await asyncio.start_server(nonsense, "127.0.0.1", 0)
    async with server, pool_at(f"127.0.0.1:{server.sockets[0].getsockname()[1]}") as pool:
        assert (await problem_of(handler(pool)(dict(PASSAGE)))).kind.http_status in (502, 503)
    async with hosted(programs(other="pass")) as port, pool_at(f"127.0.0.1:{port}") as pool:
        problem = await problem_of(handler(pool)(dict(PASSAGE)))
        assert (problem.code, problem.found) == ("program.refused", "PROGRAM")
    async with hosted({"programs": [{"name": "TOLLCALC", "areas": [300], "run": worker("pass")}]}) as port, pool_at(f"127.0.0.1:{port}") as pool:
        problem = await problem_of(handler(pool)(dict(PASSAGE)))
        assert (problem.code, problem.found) == ("program.refused", "AREAS")
    async with hosted(programs(tollcalc="time.sleep(0.6)") | {"most": 1}) as port, pool_at(f"127.0.0.1:{port}", max_size=2) as pool:
        call = handler(pool)
        told = await asyncio.gather(*(call(dict(PASSAGE)) for _ in range(2)), return_exceptions=True)
        refused = [one.problem for one in told if isinstance(one, ProblemError)]
        assert [(one.code, one.kind.http_status) for one in refused] == [("program.busy", 503)]
    async with hosted(described(tmp_path), "LKCLERK", "SLUICE77") as port:
        async with pool_at(f"127.0.0.1:{port}", credential="clerk") as pool:
            assert (await handler(pool)(dict(PASSAGE)))["total"] == Decimal("60.78")
            assert pool.view()["sessions"][0]["identity"] == "LKCLERK"
        async with pool_at(f"127.0.0.1:{port}") as pool:
            assert (await problem_of(handler(pool)(dict(PASSAGE)))).code == "backend.sign-on"


async def test_a_host_behind_tls_is_verified_or_refused(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    certificate_file, key_file = certificate(tmp_path)
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(certificate_file, key_file)
    async with hosted(described(tmp_path / "programs"), tls=context) as port:
        async with pool_at(f"localhost:{port}", tls="verify") as pool:
            problem = await problem_of(handler(pool)(dict(PASSAGE)))
            assert problem.code == "backend.unreachable"
            assert "certificate verify failed" in problem.inner
        monkeypatch.setenv("SSL_CERT_FILE", str(certificate_file))
        async with pool_at(f"localhost:{port}", tls="verify") as pool:
            assert (await handler(pool)(dict(PASSAGE)))["total"] == Decimal("60.78")


async def test_a_host_that_goes_away_in_the_middle_is_called_again_where_nothing_is_written(tmp_path: Path) -> None:
    cut = 0

    async def once(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        nonlocal cut
        there, back = await asyncio.open_connection("127.0.0.1", behind)

        async def pump() -> None:
            while data := await there.read(65536):
                writer.write(data)

        task = asyncio.create_task(pump())
        while data := await reader.read(65536):
            if cut < 1 and data[4:5] == b"\x03":
                cut += 1
                break
            back.write(data)
        task.cancel()
        writer.close()
        back.close()

    async with hosted(described(tmp_path)) as behind:
        server = await asyncio.start_server(once, "127.0.0.1", 0)
        async with server, pool_at(f"127.0.0.1:{server.sockets[0].getsockname()[1]}") as pool:
            assert (await handler(pool)(dict(PASSAGE)))["total"] == Decimal("60.78")
            assert cut == 1
            cut = 0
            writing = with_backend("program-host", **{"writes:_false": "writes: true"})
            assert (await problem_of(handler(pool, writing)(dict(PASSAGE)))).code == "program-host.dropped"


async def test_a_check_goes_stage_by_stage_and_a_caller_who_leaves_costs_a_session(tmp_path: Path) -> None:
    async with hosted(programs(tollcalc="time.sleep(5)")) as port, pool_at(f"127.0.0.1:{port}") as pool:
        backend = CATALOGUE.find_backend("toll-office")
        assert backend is not None
        end = Endpoint(name="counter", address=f"127.0.0.1:{port}")
        binding = Binding(name="toll-office", endpoints=(end,))
        checker = DOORS["program-host"].checker(backend, binding, end, (), Surroundings(Folders(tmp_path), Passwords()), None)
        stages = [await run(str(number), step) for number, step in enumerate(checker.steps())]
        await checker.close()
        assert [one.outcome for one in stages] == ["passed", "passed", "skipped", "passed", "passed", "skipped", "passed"]
        assert stages[-1].detail == "1 program: TOLLCALC"
        leaving = asyncio.create_task(handler(pool)(dict(PASSAGE)))
        await until(lambda: any(one["state"] == "in use" for one in pool.view()["sessions"]))
        leaving.cancel()
        with pytest.raises(asyncio.CancelledError):
            await leaving
        await until(lambda: all(one["state"] != "in use" for one in pool.view()["sessions"]))
    assert isinstance(DOORS["program-host"].sessions(backend, binding, Surroundings(Folders(tmp_path), Passwords()), "live"), ProgramHostKind)


@contextmanager
def peer(way: str, what: str, folder: Path) -> Iterator[int]:
    process = subprocess.Popen([sys.executable, "-m", "tests.peers.records", way, what, str(folder)], stdout=subprocess.PIPE, text=True,
                               cwd=Path(__file__).parents[2])
    assert process.stdout is not None
    try:
        yield int(process.stdout.readline())
    finally:
        process.kill()
        process.wait()


OTHER_WAYS = [("well", "", ""), ("short", "program.reply", "at least"), ("long", "program.reply", "at most 332"), ("garbage", "program.reply", ""),
              ("slow", "", "within")]


@pytest.mark.parametrize(("what", "code", "told"), [*OTHER_WAYS, ("refuse", "program.status", "200"), ("media", "program.media", "octet-stream")])
async def test_a_record_goes_by_http_and_comes_back(tmp_path: Path, what: str, code: str, told: str) -> None:
    catalogue = with_backend("http", **{"seconds:_5": "seconds: 1.0"})
    with peer("http", what, tmp_path) as port:
        async with pool_at(f"http://127.0.0.1:{port}/programs", "http") as pool:
            await judged(handler(pool, catalogue)(dict(PASSAGE)), what, code or "outside.slow", told)


@pytest.mark.parametrize(("what", "code", "told"), OTHER_WAYS)
async def test_a_record_is_left_in_a_folder_and_one_is_taken_from_it(tmp_path: Path, what: str, code: str, told: str) -> None:
    catalogue = with_backend("files", **{"seconds:_5": "seconds: 1.0"})
    desk = tmp_path / "desk"
    desk.mkdir()
    with peer("folder", what, desk):
        async with pool_at("desk", "files", folder=tmp_path) as pool:
            await judged(handler(pool, catalogue)(dict(PASSAGE)), what, code or "program.slow", told)
    assert [one.name for one in desk.iterdir()] == []  # nothing is left lying


async def judged(work: Any, what: str, code: str, told: str) -> None:
    if what == "well":
        assert (await work)["total"] == Decimal("60.78")
        return
    problem = await problem_of(work)
    assert problem.code == code
    assert told in problem.expected
    assert problem.kind.http_status in (502, 503)


EVENT = (Path(__file__).parent / "vectors" / "copybooks" / "LKEVENT.cpy").read_text()
DAY_BOOK = """
program: day-book
backend: toll-office
calls: DAYBOOK
writes: false
held: {code_page: cp273}
areas:
  wanted: {copybook: wanted, use: in, room: filled}
  event: {copybook: event, use: out}
  state: {copybook: state}
input:
  day: {item: WANTED-DAY, type: date, dates: YYYYMMDD}
  lock: {item: STATE-LOCKS, type: int, repeats: true, at_least: 2, at_most: 2}
  open: {item: W-OPEN, type: boolean, means: {Y: 'true', N: 'false'}, default: 'true'}
fixed: {W-DESK: N9}
output:
  kind: {item: EV-KIND, type: string, means: {P: passage, D: damage, L: level}, codes: [passage, damage, level]}
  passage: {item: EV-PASSAGE, type: Seen, required: false, fields: {toll: EP-TOLL, vessel: EP-VESSEL, lock: {item: EP-LOCK}}}
  damage: {item: EV-DAMAGE, type: Broken, required: false, fields: {gate: ED-GATE, codes: ED-CODES}}
  on: {item: EV-DATE-X, type: date, dates: YYYYMMDD, required: false}
  state: {item: STATE-TEXT, type: string, required: false}
views:
  EV-BODY: {by: EV-KIND, views: {P: EV-PASSAGE, D: EV-DAMAGE}, otherwise: EV-BODY}
faults:
  Closed: {item: RETURN-CODE, values: [20..29], description: The day book is closed., cause: receiver}
accepts: [0, 4]
"""


async def test_several_areas_views_dates_meanings_and_tables() -> None:
    texts = {
        "book": DAY_BOOK, "backend": "backend: toll-office\nengine: program-host\n",
        "wanted": json.dumps({"copybook": "wanted", "text": "01 WANTED. 05 WANTED-DAY PIC 9(8) COMP-3. 05 W-OPEN PIC X. 05 W-DESK PIC X(3)."}),
        "event": json.dumps({"copybook": "event", "text": EVENT, "source_format": "fixed"}),
        "state": json.dumps({"copybook": "state", "text": "01 STATE-AREA. 05 STATE-LOCKS PIC 99 OCCURS 2. 05 STATE-TEXT PIC X(6) JUST."}),
        "seen": "record: Seen\nfields:\n  lock: {type: int}\n  vessel: {type: string}\n  toll: {type: decimal}\n",
        "broken": "record: Broken\nfields:\n  gate: {type: string}\n  codes: {type: int, repeats: true}\n",
        "service": "service: DayBook\nnamespace: urn:x:day\naccess: {public: [GetDay]}\noperations:\n  GetDay: {runs: program day-book}\n",
    }
    catalogue = Catalogue(read_definition(text, name) for name, text in texts.items())
    service = catalogue.find_service("DayBook")
    assert service is not None
    operation = resolve_service(service, catalogue).operations[0]
    does = """
seen = areas[0].hex()
assert seen == '020261130f' + 'e8d5f940', seen
assert areas[1] == bytes(31)
locks = areas[2][:4].decode('cp273')
bodies = {'0102': bytes.fromhex('d7f0f2f1d3d4f0f1f2f0f7400001250de8'), '0304': 'DG2'.encode('cp273') + bytes.fromhex('000009990c') + b'\\xf0\\xf1' * 3 + b'\\x40' * 3}
areas[1][:17] = bodies.get(locks, b'\\xd3' + b'\\x40' * 16)
areas[1][17:] = ('20261130' + '131559').encode('cp273') if locks != '0304' else b'\\x40' * 8 + b'\\xf0' * 6
areas[2][4:] = '  open'.encode('cp273')
code = 20 if locks == '0909' else 4 if locks == '0102' else 9 if locks == '0808' else 0
"""
    description = {"programs": [{"name": "DAYBOOK", "areas": [9, 31, 10], "run": worker(does.strip())}]}
    async with hosted(description) as port, pool_at(f"127.0.0.1:{port}") as pool:
        compiled = PROGRAM.compile(operation, EnvironmentDefinition(name="live"), {"toll-office": pool})

        async def call(*locks: int) -> Any:
            return await compiled.handle(Call(), {"day": date(2026, 11, 30), "lock": list(locks), "open": True})

        assert await call(1, 2) == {"kind": "passage", "passage": {"lock": 21, "vessel": "LM01207", "toll": Decimal("-12.50")},
                                    "on": date(2026, 11, 30), "state": "open"}
        assert await call(3, 4) == {"kind": "damage", "damage": {"gate": "G2", "codes": [1, 1, 1]}, "state": "open"}
        assert (await call(5, 6))["kind"] == "level"
        with pytest.raises(DeclaredFaultError, match="The day book is closed") as closed:
            await call(9, 9)
        assert closed.value.cause == "receiver"
        assert (await problem_of(call(8, 8))).code == "program.return-code"


SIDE = ("01 LOCK-SIDE. 05 LS-LOCK PIC 99. 05 LS-GATE PIC X(2). 05 LS-STATE PIC X. 88 LS-REFUSED VALUE 'R'. 05 LS-MESSAGE PIC X(10).")


async def test_two_areas_that_are_laid_out_alike_are_told_by_their_names() -> None:
    """A name of an item is of both: the name of its area stands before it, in drafts and where somebody writes it."""
    copybook = CopybookDefinition(name="lock-side", text=SIDE)
    areas = [Area(name="upper", copybook="lock-side"), Area(name="lower", copybook="lock-side")]
    records = {one.name: chosen_record(SIDE, Options()) for one in areas}
    with pytest.raises(ProblemError) as caught:
        drafted("sides", "toll-office", "SIDES", areas, records, Held(), ["LS-LOCK"], [])
    assert caught.value.problem.choices == ("UPPER.LOCK-SIDE.LS-LOCK", "LOWER.LOCK-SIDE.LS-LOCK")
    made = drafted("sides", "toll-office", "SIDES", areas, records, Held(), ["UPPER.LS-LOCK", "LOWER.LOCK-SIDE.LS-LOCK"],
                   ["UPPER.LS-GATE", "LOWER.LS-GATE", "LOWER.LS-STATE", "LOWER.LS-MESSAGE"])
    assert [(one.name, one.item) for one in made.program.input] == [
        ("upperLock", "UPPER.LOCK-SIDE.LS-LOCK"), ("lowerLock", "LOWER.LOCK-SIDE.LS-LOCK")]
    assert [one.name for one in made.program.output] == ["upperGate", "lowerGate", "state", "message"]
    assert [(one.condition, one.message) for one in made.program.faults] == [
        ("LOWER.LOCK-SIDE.LS-STATE.LS-REFUSED", "LOWER.LOCK-SIDE.LS-MESSAGE")]
    text = write_definition(made.program)
    service = "service: Sides\nnamespace: urn:x:s\naccess: {public: [Ask]}\noperations:\n  Ask: {runs: program sides}\n"
    catalogue = Catalogue([copybook, read_definition(text, "p"), read_definition("backend: toll-office\nengine: program-host\n", "b"),
                           read_definition(service, "s")])
    found = catalogue.find_service("Sides")
    assert found is not None
    operation = resolve_service(found, catalogue).operations[0]
    does = ("areas[0][2:4] = b'G' + areas[1][1:2]; areas[1][2:5] = b'G' + areas[0][1:2] + (b'R' if areas[0][:2] == b'09' else b'O'); "
            "areas[1][5:] = b'NOT BOTH  '")
    async with hosted({"programs": [{"name": "SIDES", "areas": [15, 15], "run": worker(does)}]}) as port, \
            pool_at(f"127.0.0.1:{port}") as pool:
        handle = PROGRAM.compile(operation, EnvironmentDefinition(name="live"), {"toll-office": pool}).handle
        assert await handle(Call(), {"upperLock": 1, "lowerLock": 2}) == {
            "upperGate": "G2", "lowerGate": "G1", "state": "O", "message": "NOT BOTH"}
        with pytest.raises(DeclaredFaultError, match="NOT BOTH"):
            await handle(Call(), {"upperLock": 9, "lowerLock": 2})
        problem = await problem_of(handle(Call(), {"upperLock": 1, "lowerLock": 200}))
        assert (problem.code, problem.place) == ("record.value", "Ask/lowerLock")


MISTAKES = [
    ("item: TRP-TOTAL", "item: TRP-TOTEL", "program.item", "TRP-TOTAL"),
    ("item: TRP-LINE\n", "item: TRP-MESSAGE\n", "program.table", "an item with OCCURS"),
    ("code: {item: TRL-CODE}", "code: {item: TRP-TOTAL}", "program.item", "TRL-CODE"),
    ("item: TRP-TOTAL", "item: TRL-AMOUNT", "program.table", "fields"),
    ("condition: TRP-REFUSED", "condition: TRP-REFUSD", "program.condition", "TRP-REFUSED"),
    ("fields: [returnCode]", "fields: [returnCod]", "program.fault-field", "returnCode"),
    ("backend: toll-office", "backend: registry", "program.backend", "a program host"),
    ("copybook: toll-area", "copybook: toll-are", "program.copybook", "toll-area"),
    ("writes: false", "held: {code_page: cp99}", "codepage.unknown", "cp037"),
]


@pytest.mark.parametrize(("old", "new", "code", "told"), MISTAKES, ids=[one[1] for one in MISTAKES])
def test_what_does_not_fit_together_is_told_with_its_place(old: str, new: str, code: str, told: str) -> None:
    files = dict(catalogue_files())
    assert old in files["programs/toll-calc.yaml"]
    files["programs/toll-calc.yaml"] = files["programs/toll-calc.yaml"].replace(old, new, 1)
    catalogue = Catalogue(read_definition(text, path) for path, text in files.items())
    with pytest.raises(ProblemError) as caught:
        resolved(catalogue)
    assert caught.value.problem.code == code
    assert told in caught.value.problem.sentence()
    assert caught.value.problem.place.startswith("program toll-calc")


_names = st.text("ABCDEFÄ$#0", min_size=1, max_size=20)
_numbers = st.integers(0, 2**32 - 1)
_areas = st.tuples(st.integers(0, 50), st.booleans(), st.binary(max_size=50)).map(lambda one: frames.SentArea(one[0] + len(one[2]), one[1], one[2]))
_messages = st.one_of(
    st.builds(frames.Hello, st.integers(0, 255), _names, _names), st.builds(frames.Welcome, st.integers(0, 255), _names, st.integers(0, 65535)),
    st.builds(frames.Called, _numbers, _names, _numbers, st.lists(_areas, max_size=5).map(tuple)),
    st.builds(frames.Replied, _numbers, st.integers(-2**31, 2**31 - 1), st.lists(st.binary(max_size=60), max_size=5).map(tuple)),
    st.builds(frames.Failed, _numbers, st.booleans(), _names, _names), st.builds(frames.Asked, _numbers, _names),
    st.builds(frames.Listed, _numbers, st.lists(st.builds(frames.Program, _names, st.lists(_numbers, max_size=4).map(tuple), _names), max_size=4).map(tuple)),
    st.builds(frames.Sign, _numbers, st.booleans()),
)


@given(st.lists(_messages, max_size=6), st.integers(1, 40))
def test_frames_come_back_however_they_are_cut(messages: list[frames.AnyMessage], size: int) -> None:
    data = b"".join(frames.write(one) for one in messages)
    reader = frames.FrameReader()
    assert [one for at in range(0, len(data), size) for one in reader.receive(data[at:at + size])] == messages


@given(st.binary(max_size=80))
def test_what_is_no_message_is_a_broken_protocol_and_nothing_else(body: bytes) -> None:
    reader = frames.FrameReader()
    try:
        for _ in reader.receive(struct.pack(">I", len(body)) + body):
            pass
    except ProblemError as error:
        assert error.problem.code == "program-host.protocol"
