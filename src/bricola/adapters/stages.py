"""What a staged check is made of: its stages, their outcomes, and the words for a failure."""

import asyncio
import os
import time
from collections.abc import Awaitable, Callable, Sequence
from dataclasses import dataclass
from typing import Protocol

from bricola.core.kinds.kind import Probe
from bricola.core.problems import Kind, Problem, ProblemError

STAGES = ("resolved", "reachable", "tls", "signed on", "version", "allowed", "sample read")
SECONDS = 5.0  # for each stage


@dataclass(frozen=True)
class Stage:
    """One stage's outcome: passed, failed, skipped (does not apply) or not tried."""

    stage: str
    outcome: str
    detail: str = ""
    ms: float = 0.0
    problem: Problem | None = None


class Skip(Exception):  # noqa: N818 — no error: the stage does not apply
    """This stage does not apply, for the reason in words."""


Step = Callable[[], Awaitable[str]]


class Checker(Protocol):
    """How one endpoint of an engine is checked: a step for each stage."""

    def steps(self) -> list[Step]: ...
    async def close(self) -> None: ...


async def run(name: str, step: Step) -> Stage:
    began = time.perf_counter()

    def took() -> float:
        return round((time.perf_counter() - began) * 1000, 2)

    try:
        async with asyncio.timeout(SECONDS):
            detail = await step()
    except Skip as reason:
        return Stage(name, "skipped", str(reason))
    except ProblemError as error:
        return Stage(name, "failed", error.problem.message, took(), error.problem)
    except TimeoutError:
        problem = failed(name, "Nothing came back in time.", f"an answer within {SECONDS:g} s", "",
                          "Look whether the backend is overloaded or a firewall swallows the answer.")
        return Stage(name, "failed", problem.message, took(), problem)
    except (OSError, EOFError) as error:  # the other side went away in the middle of a word
        words = os.strerror(error.errno) if isinstance(error, OSError) and error.errno else "the connection closed"
        problem = failed(name, "The connection broke off.", "an answer", words, "Look at the log of the other side.")
        return Stage(name, "failed", problem.message, took(), problem)
    return Stage(name, "passed", detail, took())


def failed(stage: str, message: str, expected: str, found: str, mend: str) -> Problem:
    return Problem(f"check.{stage.replace(' ', '-')}", message, Kind.BACKEND, expected=expected, found=found, mend=mend)


def fail(stage: str, message: str, expected: str = "", found: str = "", mend: str = "") -> ProblemError:
    return ProblemError(failed(stage, message, expected, found, mend))


def sample_failed(probe: Probe, found: str) -> ProblemError:
    return fail("sample read", f"The object {probe.object} cannot be read.", f"the columns of {probe.object} in {probe.table}",
                 found, "Correct 'table:' and 'column:' in the object, or the database.")


def read_words(probes: Sequence[Probe]) -> str:
    read = ", ".join(dict.fromkeys(one.object for one in probes if one.sample))
    return read or ("routines are not tried" if any(one.calls for one in probes) else "nothing is published from it yet")


def allowed_words(verb: str, tables: int, probes: Sequence[Probe]) -> str:
    """What the user may do there."""
    routines = len({one.calls for one in probes if one.calls})
    told = [f"{verb} {tables} {'table' if tables == 1 else 'tables'}"] if tables or not routines else []
    told += [f"call {routines} {'routine' if routines == 1 else 'routines'}"] if routines else []
    return f"may {' and '.join(told)}"


def no_routine(name: str) -> ProblemError:
    return fail("allowed", f"There is no routine {name} that this user may call.", "the routine of a definition",
                mend="Correct 'calls:' or 'database:', or give the right to execute it.")
