"""What workflows cost: a step, twenty steps, an expression beside plain Python, a thousand calls at once on a slow backend, a trace.

    python bench/workflows.py [--calls 1000]

Figures are medians of several rounds in this process. Expressions are compared with functions that a person would write for the same,
on the same values, in the same run.
"""

import argparse
import asyncio
import datetime
import resource
import statistics
import time
from collections.abc import Callable
from decimal import Decimal
from functools import partial
from typing import Any

from bricola.core.calls.call import Call
from bricola.core.calls.trace import Trace
from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.engines.places import Endpoint
from bricola.core.definitions.model import Binding, EnvironmentDefinition, PoolSettings
from bricola.core.definitions.text import read_definition
from bricola.core.expressions.arithmetic import Budget
from bricola.core.expressions.compiling import compile_expression
from bricola.core.expressions.types import list_of, of_record, type_of
from bricola.core.kinds.resolve import resolve_service
from bricola.core.messages.http import Answered
from bricola.core.pool.pool import Pool
from bricola.core.serving.live import LiveService, compile_service
from bricola.core.shapes.model import Element, Record
from bricola.core.shapes.simple import SimpleType
from bricola.server.logs import LogLevel, set_up_logs

ROUNDS = 7


def median(work: Callable[[], Any], times: int) -> float:
    """Seconds of one, the median of several rounds."""
    found = []
    for _ in range(ROUNDS):
        began = time.perf_counter()
        for _ in range(times):
            work()
        found.append((time.perf_counter() - began) / times)
    return statistics.median(found)


def live(*texts: str, pools: dict[str, Any] | None = None, backends: tuple[Binding, ...] = ()) -> LiveService:
    definitions = [read_definition(one) for one in texts]
    service = read_definition(f"service: Bench\noperations:\n  Run: {{runs: workflow {definitions[0].name}}}\n")
    catalogue = Catalogue([service, *definitions])
    place = EnvironmentDefinition(name="bench", backends=backends)
    return compile_service(place, service, 1, resolve_service(service, catalogue), pools or {})  # type: ignore[arg-type]


# expressions beside plain Python

MOVE = Record("Move", (Element("kind", SimpleType("string")), Element("tonnes", SimpleType("decimal", digits=8, fraction=2)),
                       Element("on", SimpleType("date"))))
NAMES = {"move": of_record(MOVE), "moves": list_of(of_record(MOVE)),
         "rate": type_of(Element("rate", SimpleType("decimal", digits=4, fraction=2)))}
MOVES = [{"kind": ("barge", "tug", "tanker")[number % 3], "tonnes": Decimal(number) / 4,
          "on": datetime.date(2026, 1, 1)} for number in range(200)]
VALUES: dict[str, Any] = {"move": MOVES[7], "moves": MOVES, "rate": Decimal("0.06")}


def by_kind(values: dict[str, Any]) -> list[dict[str, Any]]:
    found: dict[str, list[dict[str, Any]]] = {}
    for one in values["moves"]:
        found.setdefault(one["kind"], []).append(one)
    return [{"kind": kind, "count": len(found[kind]),
             "tonnes": sum((one["tonnes"] for one in found[kind]), Decimal(0))} for kind in sorted(found)]


EXPRESSIONS: tuple[tuple[str, Callable[[dict[str, Any]], Any], int], ...] = (
    ("move.tonnes * rate + 4.50", lambda values: values["move"]["tonnes"] * values["rate"] + Decimal("4.50"), 40_000),
    ('move.kind == "tug" and move.tonnes > 10', lambda values: values["move"]["kind"] == "tug" and values["move"]["tonnes"] > 10, 40_000),
    ('f"{move.kind} on {move.on}"', lambda values: f"{values['move']['kind']} on {values['move']['on'].isoformat()}", 40_000),
    ("sum(one.tonnes for one in moves)", lambda values: sum((one["tonnes"] for one in values["moves"]), Decimal(0)), 2_000),
    ('[{"kind": one.key, "count": count(one.items), "tonnes": sum(two.tonnes for two in one.items)} '
     'for one in sort_by(group_by(moves, "kind"), "key")]', by_kind, 1_000),
)


def expressions() -> None:
    print("Expressions beside plain Python that does the same\n")
    print("| expression | here, µs | Python, µs | ratio | a second |\n| --- | --- | --- | --- | --- |")
    ratios = []
    for text, plain, times in EXPRESSIONS:
        compiled = compile_expression(text, NAMES, "bench")
        run, loops = compiled.run, compiled.loops

        def ours_once(run: Any = run, loops: bool = loops) -> Any:
            return run(VALUES, Budget(10**9) if loops else None)

        assert ours_once() == plain(VALUES), text
        ours, theirs = median(ours_once, times), median(partial(plain, VALUES), times)
        ratios.append(ours / theirs)
        print(f"| `{text[:60]}` | {ours * 1e6:.2f} | {theirs * 1e6:.2f} | {ours / theirs:.2f} | {1 / ours:,.0f} |")
    print(f"\ngeometric mean of the ratios: {statistics.geometric_mean(ratios):.2f}\n")


# steps


def steps(number: int) -> str:
    body = "".join(f"  s{index}:\n    set: {{x{index}: number + {index}}}\n" for index in range(number - 1))
    head = f"workflow: steps{number}\ninput: {{number: {{type: int}}}}\noutput: {{sum: {{type: int}}}}\n"
    return f"{head}steps:\n{body}  answer: {{reply: {{sum: number}}}}\n"


CALLED = "workflow: called\ninput: {number: {type: int}}\noutput: {number: {type: int}}\nsteps:\n  answer: {reply: {number: number}}\n"
CALLS = ("workflow: calls\ninput: {number: {type: int}}\noutput: {number: {type: int}}\nsteps:\n"
         + "".join(f"  c{index}: {{call: workflow called, input: {{number: number}}}}\n" for index in range(19))
         + "  answer: {reply: {number: c18.number}}\n")


async def one_by_one(service: LiveService, times: int, traced: bool = False) -> float:
    handle = service.by_name["Run"].handle
    found = []
    for _ in range(ROUNDS):
        began = time.perf_counter()
        for _ in range(times):
            call = Call()
            if traced:
                call.trace = Trace(time.monotonic)
                call.span = call.trace.root
            await handle(call, {"number": 3})
        found.append((time.perf_counter() - began) / times)
    return statistics.median(found)


async def cost_of_steps() -> None:
    one, twenty = await one_by_one(live(steps(1)), 3000), await one_by_one(live(steps(20)), 2000)
    traced = await one_by_one(live(steps(20)), 2000, traced=True)
    calls = await one_by_one(live(CALLS, CALLED), 500)
    calls_traced = await one_by_one(live(CALLS, CALLED), 500, traced=True)
    print("Steps without backends\n\n| what | µs |\n| --- | --- |")
    print(f"| a workflow of 1 step | {one * 1e6:.1f} |\n| a workflow of 20 steps | {twenty * 1e6:.1f} |")
    print(f"| a further step that sets a value | {(twenty - one) / 19 * 1e6:.2f} |\n| a further step that calls a workflow of 1 step | "
          f"{(calls - one) / 19 * 1e6:.2f} |")
    print(f"| 20 steps, traced | {traced * 1e6:.1f} ({traced / twenty:.2f} times) |\n| 19 calls, traced | {calls_traced * 1e6:.1f} "
          f"({calls_traced / calls:.2f} times) |\n")


# many at once on a slow backend


class SlowSession:
    def __init__(self, seconds: float) -> None:
        self._seconds = seconds

    async def ask(self, method: str, path: str, headers: Any, body: bytes, seconds: float) -> Answered:
        await asyncio.sleep(self._seconds)
        return Answered(200, "application/json", b'{"level": 3}')


class SlowKind:
    """Sessions that open at once and answer after a while."""

    def __init__(self, seconds: float) -> None:
        self._seconds = seconds

    async def open(self, endpoint: Endpoint) -> SlowSession:
        return SlowSession(self._seconds)

    def is_sound(self, session: SlowSession) -> bool:
        return True

    is_clean = is_sound

    async def check(self, session: SlowSession) -> bool:
        return True

    reset = check

    async def close(self, session: SlowSession) -> None: ...

    def cut(self, session: SlowSession) -> None: ...

    def identity(self, session: SlowSession) -> str:
        return ""

    async def most_sessions(self, session: SlowSession) -> int | None:
        return None


ASKS = """
workflow: asks
input: {number: {type: int}}
output: {number: {type: int}}
steps:
  told: {call: http slow, path: 'f"level/{number}"', gives: Level}
  more: {set: {twice: told.body.level * 2}}
  answer: {reply: {number: twice}}
"""


async def many(calls: int, sessions: int, seconds: float) -> None:
    pool: Pool[Any] = Pool("slow", SlowKind(seconds), (Endpoint(name="main", address="x:1"),),
                           PoolSettings(max_size=sessions, min_size=sessions, max_waiting=calls, timeout=3600), time.monotonic)
    pool.start()
    service = live(ASKS, "record: Level\nfields:\n  level: {type: int}\n", "backend: slow\nengine: http\n", pools={"slow": pool},
                   backends=(Binding(name="slow", address="http://127.0.0.1:1"),))
    handle = service.by_name["Run"].handle
    while pool.statistics()["pool_size"] < sessions:  # noqa: ASYNC110 — a pool tells nobody when it is warm
        await asyncio.sleep(0.05)
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    took: list[float] = []

    async def one() -> None:
        began = time.perf_counter()
        await handle(Call(), {"number": 1})
        took.append(time.perf_counter() - began)

    began = time.perf_counter()
    await asyncio.gather(*(one() for _ in range(calls)))
    whole = time.perf_counter() - began
    bound = sessions / seconds
    grown = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before
    took.sort()
    print(f"{calls} calls at once, a backend of {seconds * 1000:.0f} ms, {sessions} sessions\n\n| what | |\n| --- | --- |")
    print(f"| calls a second | {calls / whole:,.0f}, {calls / whole / bound:.2f} of what the pool can do ({bound:,.0f}) |")
    print(f"| p50, p99 | {took[calls // 2] * 1000:,.0f} ms, {took[int(calls * 0.99)] * 1000:,.0f} ms of {whole * 1000:,.0f} ms in all |")
    print(f"| memory for one waiting call | {grown / calls:.1f} KiB |\n")
    await pool.close()


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--calls", type=int, default=1000)
    arguments = parser.parse_args()
    set_up_logs(LogLevel.WARNING)
    expressions()
    asyncio.run(cost_of_steps())
    asyncio.run(many(arguments.calls, 40, 0.05))


if __name__ == "__main__":
    main()
