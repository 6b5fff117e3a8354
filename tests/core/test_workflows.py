"""Workflows: what is refused before they run, and what they do when they run."""

import asyncio
import time
from collections.abc import AsyncIterator
from decimal import Decimal
from pathlib import Path
from typing import Any

import pytest

from bricola.core.calls.call import Call
from bricola.core.calls.trace import Trace
from bricola.core.calls.trials import Trial
from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.model import EnvironmentDefinition, ServiceDefinition
from bricola.core.definitions.outside import ContractDefinition
from bricola.core.definitions.text import read_definition, write_definition
from bricola.core.kinds.resolve import resolve_service
from bricola.core.kinds.workflows.definition import WorkflowDefinition
from bricola.core.kinds.workflows.shape import program_of
from bricola.core.messages.faults import DeclaredFaultError
from bricola.core.problems import Problem, ProblemError
from bricola.core.serving.live import LiveService, compile_service
from bricola.core.shapes.forms import NEWEST
from tests.core.databases import ENGINES, Database, Servers, call
from tests.core.outside import wsdl

HALF = """
workflow: half
input: {number: {type: int}}
output: {half: {type: int}}
faults:
  Odd: {description: An odd number has no half., fields: {number: {type: int}}}
steps:
  odd: {fail: Odd, only_if: number % 2 == 1, detail: {number: number}}
  answer: {reply: {half: number // 2}}
"""


def test_a_fault_about_which_the_sender_can_do_nothing_says_so() -> None:
    for text, cause in ((HALF, "sender"), (HALF.replace("Odd: {description", "Odd: {cause: receiver, description"), "receiver")):
        definition = read_definition(text)
        assert read_definition(write_definition(definition)) == definition
        own = read_definition("service: Try\noperations:\n  Run: {runs: workflow half}\n")
        assert isinstance(own, ServiceDefinition)
        (operation,) = resolve_service(own, Catalogue([own, definition])).operations
        assert [one.cause for one in operation.shape.faults] == [cause]


RECORDS = ("record: Item\nfields:\n  number: {type: int}\n  half: {type: int, required: false}\n  why: {type: string, required: false}",)


def service(text: str, *more: str, **environment: Any) -> LiveService:
    """A workflow without backends, live."""
    definitions = [read_definition(one) for one in (text, HALF, *RECORDS, *more)]
    name = definitions[0].name
    assert read_definition(write_definition(definitions[0])) == definitions[0]
    own = read_definition(f"service: Try\noperations:\n  Run: {{runs: workflow {name}}}\n")
    catalogue = Catalogue([own, *definitions])
    place = EnvironmentDefinition(name="live", **environment)
    return compile_service(place, own, 1, resolve_service(own, catalogue), {})  # type: ignore[arg-type]


def steps(text: str, given: str = "number: {type: int}", gives: str = "half: {type: int}", **parts: str) -> str:
    more = "".join(f"{name}:\n{body}\n" for name, body in parts.items())
    body = "\n".join(f"  {line}" for line in text.strip("\n").splitlines())
    return f"workflow: tried\ninput: {{{given}}}\noutput: {{{gives}}}\n{more}steps:\n{body}\n"


WRONG: list[tuple[str, str, str, str]] = [  # the steps, and the code, place and words of what is found
    ("a: {set: {x: number}}", "workflow.silent", "steps", "the path that ends with a"),
    ("a: {reply: {half: number}, only_if: number > 3}", "workflow.silent", "steps", "a, when its condition does not hold"),
    ("a:\n  when:\n    big: {test: number > 9, steps: {b: {reply: {half: 1}}}}\n    small: {test: number < 3}\n  otherwise: {c: {set: {x: number}}}", "workflow.silent", "steps", "a.small, which has no steps"),
    ("a:\n  when:\n    big: {test: number > 9, steps: {b: {reply: {half: 1}}}}", "workflow.silent", "steps", "a, when none of its branches is taken"),
    ("a: {reply: {half: number}}\nb: {note: number}", "workflow.unreachable", "steps, b", "end with a"),
    ("a: {fail: Odd}", "workflow.fault", "steps, a, fail", "one of problem"),
    ("a: {call: workflow half, input: {number: number}}\nb: {reply: {half: a.half}}", "workflow.undeclared", "faults", "Odd"),
    ("a: {call: workflow half, input: {nummer: number}}\nb: {reply: {half: number}}", "map.target", "steps, a, input, nummer", "number"),
    ("a: {call: workflow half}\nb: {reply: {half: number}}", "map.required", "steps, a, input", "number is required"),
    ("a: {call: workflow hlf, input: {number: number}}\nb: {reply: {half: number}}", "reference.workflow", "steps, a, call", "hlf"),
    ("a: {call: workflow tried, input: {number: number}}\nb: {reply: {half: number}}", "workflow.circle", "workflow tried", "tried -> tried"),
    ("a: {call: operation Nobody.Knows}\nb: {reply: {half: number}}", "workflow.call", "steps, a, call", "no such service"),
    ("a: {call: nothing at all}\nb: {reply: {half: number}}", "workflow.call", "steps, a, call", "names nothing"),
    ("a: {call: http nowhere}\nb: {reply: {half: number}}", "workflow.backend", "steps, a, call", "engine: http"),
    ("a: {write_file: nowhere, path: '=x', text: '=y'}\nb: {reply: {half: number}}", "workflow.backend", "steps, a, write_file", "engine: files"),
    ("number: {set: {x: 1}}\nb: {set: {number: 3}}\nc: {reply: {half: number}}", "workflow.name", "steps, b, number", "something else"),
    ("call: {set: {x: 1}}\nb: {reply: {half: number}}", "workflow.name", "steps, call", "language"),
    ("a: {set: {x: 1}}\nb: {set: {x: '\"one\"'}}\nc: {reply: {half: x}}", "workflow.unlike", "steps, b, x", "whole number"),
    ("a:\n  when: {big: {test: number > 9, steps: {b: {set: {x: 1}}}}}\n  otherwise: {c: {set: {x: '\"s\"'}}}\nd: {reply: {half: number}}", "workflow.unlike", "steps, a", "text"),
    ("a:\n  when: {big: {test: number > 9, steps: {b: {set: {x: 1}}}}}\nd: {reply: {half: x}}", "expression.absent", "steps, d, reply, half", "may be absent"),
    ("a: {for_each: 'numbers(1, 3)', item: n, steps: {b: {set: {x: n}}}}\nd: {reply: {half: x}}", "expression.name", "steps, d, reply, half", "Nothing has this name"),
    ("t: {set: {x: 0}}\na: {for_each: 'numbers(1, 3)', item: n, at_once: 2, steps: {b: {set: {x: n}}}}\nd: {reply: {half: x}}", "workflow.shared", "steps, a, b, x", "same time"),
    ("t: {set: {x: 0}}\na: {parallel: {one: {steps: {b: {set: {x: 1}}}}}}\nd: {reply: {half: x}}", "workflow.shared", "steps, a, one, b, x", "same time"),
    ("a: {for_each: 'numbers(1, 3)', item: n, at_once: 2, steps: {b: {reply: {half: n}}}}\nd: {reply: {half: number}}", "workflow.reply", "steps, a, b", "answer for all"),
    ("a: {parallel: {one: {steps: {b: {reply: {half: 1}}}}}}\nd: {reply: {half: number}}", "workflow.reply", "steps, a, one, b", "side by side"),
    ("a: {parallel: {one: {steps: {b: {set: {x: 1}}}}, two: {steps: {c: {set: {x: 2}}}}}}\nd: {reply: {half: x}}", "workflow.name", "steps, a", "Two lanes"),
    ("a: {for_each: number, item: n}\nd: {reply: {half: number}}", "expression.type", "steps, a, for_each, character 1", "a list"),
    ("a: {for_each: 'numbers(1, 2)'}\nd: {reply: {half: number}}", "workflow.item", "steps, a", "item: NAME"),
    ("a: {for_each: 'numbers(1, 2)', item: number}\nd: {reply: {half: number}}", "workflow.name", "steps, a", "taken"),
    ("a: {repeat_while: number > 3, steps: {b: {note: number}}}\nd: {reply: {half: number}}", "workflow.bound", "steps, a", "at_most: N"),
    ("a: {repeat_while: number > 3, at_most: 9, steps: {b: {note: number}}}\nd: {reply: {half: number}}", "workflow.bound", "steps, a, repeat_while", "Nothing in the loop changes"),
    ("a: {attempt: {b: {note: number}}}\nd: {reply: {half: number}}", "workflow.attempt", "steps, a", "catch: or always:"),
    ("a: {attempt: {b: {note: number}}, catch: {Odd: {}}}\nd: {reply: {half: number}}", "workflow.catch", "steps, a, catch, Odd", "Nothing in it ends with Odd"),
    ("a: {attempt: {b: {note: number}}, catch: {anything: {}, back: {codes: [backend]}}}\nd: {reply: {half: number}}", "workflow.unreachable", "steps, a, catch, back", "everything"),
    ("a: {attempt: {b: {note: number}}, always: {c: {reply: {half: 1}}}}\nd: {reply: {half: number}}", "workflow.reply", "steps, a, always, c", "answers nothing"),
    ("a: {attempt: {b: {set: {x: 1}}}, catch: {anything: {steps: {c: {set: {y: x}}}}}}\nd: {reply: {half: number}}", "expression.name", "steps, a, catch, anything, c, y", "Nothing has this name"),
    ("a: {session: nowhere, steps: {b: {note: number}}}\nd: {reply: {half: number}}", "workflow.backend", "steps, a, session", "no such backend"),
    ("a: {wait: '\"x\"'}\nd: {reply: {half: number}}", "expression.type", "steps, a, wait, character 1", "seconds"),
    ("a: {note: 'numbers(1, 2)'}\nd: {reply: {half: number}}", "expression.type", "steps, a, note, character 1", "one text"),
    ("a: {reply: {half: number, other: 1}}", "map.target", "steps, a, reply, other", "half"),
    ("a: {reply: {half: numbr}}", "expression.name", "steps, a, reply, half, character 1", "Did you mean number"),
    ("a: {reply: {half: 3}}", "workflow.unused-input", "input, number", "Nothing takes"),
]


@pytest.mark.parametrize(("text", "code", "place", "words"), WRONG, ids=[f"{number} {code}" for number, (_, code, *_) in enumerate(WRONG)])
def test_what_is_wrong_is_told_before_it_runs(text: str, code: str, place: str, words: str) -> None:
    with pytest.raises(ProblemError) as caught:
        service(steps(text))
    found = [one for one in caught.value.problems if one.code == code]
    assert found, [one.sentence() for one in caught.value.problems]
    assert place in found[0].place
    assert words in found[0].sentence()


def test_declared_faults_are_kept_or_taken_out() -> None:
    with pytest.raises(ProblemError, match="Nothing ends with the fault Late"):
        service(steps("a: {reply: {half: number}}", faults="  Late: {}"))
    with pytest.raises(ProblemError, match="does not fit the one that is declared"):
        service(steps("a: {call: workflow half, input: {number: number}}\nb: {reply: {half: a.half}}", faults="  Odd: {fields: {number: {type: date}}}"))


def test_all_that_is_wrong_is_told_at_once_and_nothing_that_follows_from_it() -> None:
    with pytest.raises(ProblemError) as caught:
        service(steps("a: {call: workflow hlf, input: {number: number}}\nb: {set: {x: nmber + 1, y: x + 2}}\nc: {reply: {half: a.half + x, quarter: 1}}"))
    assert [one.code for one in caught.value.problems] == ["reference.workflow", "expression.name", "map.target"]


async def run(live: LiveService, within: Call | None = None, **values: Any) -> dict[str, Any]:
    return await call(live, "Run", within, **values)


async def test_it_calls_decides_and_answers_or_fails_in_a_declared_way() -> None:
    live = service(steps("""
tried: {call: workflow half, input: {number: number}}
small: {reply: {half: 0}, only_if: tried.half < 2}
sizes:
  when:
    huge: {test: tried.half > 100, steps: {most: {set: {found: 100}}}}
    large: {test: tried.half > 10, steps: {many: {set: {found: tried.half - 1}}}}
  otherwise: {few: {set: {found: tried.half}}}
answer: {reply: {half: found}}
""", faults="  Odd: {fields: {number: {type: int}}}"))
    assert [(await run(live, number=one))["half"] for one in (2, 6, 40, 4000)] == [0, 3, 19, 100]
    with pytest.raises(DeclaredFaultError) as fault:
        await run(live, number=7)
    assert (fault.value.name, fault.value.detail) == ("Odd", {"message": "An odd number has no half.", "number": 7})


async def test_items_are_answered_one_by_one_in_their_order() -> None:
    live = service(steps("""
halves:
  for_each: number
  item: one
  index: at
  at_once: 4
  steps:
    pause: {wait: '0.02 if at == 0 else 0'}
    tried: {call: workflow half, input: {number: one}}
  collect: {number: one, half: tried.half}
  catch:
    Odd: {collect: {number: caught.detail.number, why: caught.message}}
answer: {reply: {item: halves}}
""", "number: {type: int, repeats: true}", "item: {type: Item, repeats: true}"))
    assert (await run(live, number=[8, 3, 2]))["item"] == [
        {"number": 8, "half": 4}, {"number": 3, "why": "An odd number has no half."}, {"number": 2, "half": 1}]
    assert await run(live, number=[]) == {"item": []}


async def test_a_loop_stops_or_goes_on_and_is_bounded() -> None:
    text = """
halves:
  for_each: number
  item: one
  at_most: 5
  steps: {tried: {call: workflow half, input: {number: one}}}
  collect: tried.half
  catch: {Odd: %s}
answer: {reply: {half: count(halves)}}
"""
    given = "number: {type: int, repeats: true}"
    assert await run(service(steps(text % "{}", given)), number=[2, 3, 4]) == {"half": 2}
    assert await run(service(steps(text % "{stop: true}", given)), number=[2, 3, 4]) == {"half": 1}
    assert await run(service(steps(text % "{collect: 0, stop: true}", given)), number=[2, 3, 4]) == {"half": 2}
    with pytest.raises(ProblemError) as many:
        await run(service(steps(text % "{}", given)), number=[2] * 100_000)
    assert many.value.problem.code == "workflow.items"


async def test_variables_add_up_and_what_one_round_knew_the_next_does_not() -> None:
    live = service(steps("""
begin: {set: {total: 0, rounds: 0}}
add:
  for_each: number
  item: one
  steps:
    odd: {set: {extra: one}, only_if: one % 2 == 1}
    plus: {set: {total: 'total + coalesce(extra, 0)'}}
shrink:
  repeat_while: total > 3
  at_most: 50
  steps: {less: {set: {total: total - 2, rounds: rounds + 1}}}
answer: {reply: {half: total, rounds: rounds}}
""", "number: {type: int, repeats: true}", "half: {type: int}, rounds: {type: int}"))
    assert await run(live, number=[1, 2, 3, 2, 5]) == {"half": 3, "rounds": 3}
    with pytest.raises(ProblemError) as long:
        await run(live, number=[999])
    assert long.value.problem.code == "workflow.rounds"


async def test_lanes_run_side_by_side_and_one_that_fails_stops_the_others() -> None:
    live = service(steps("""
both:
  parallel:
    left: {steps: {rest: {wait: 0.05}, a: {call: workflow half, input: {number: number}}}}
    right: {steps: {pause: {wait: 0.05}, b: {set: {x: number}}}}
answer: {reply: {half: a.half + x}}
""", faults="  Odd: {fields: {number: {type: int}}}"))
    began = time.monotonic()
    assert await run(live, number=4) == {"half": 6}
    assert time.monotonic() - began < 0.095
    slow = service(steps("""
both:
  parallel:
    left: {steps: {a: {call: workflow half, input: {number: number}}}}
    right: {steps: {pause: {wait: 30}}}
answer: {reply: {half: 1}}
""", faults="  Odd: {fields: {number: {type: int}}}"))
    with pytest.raises(DeclaredFaultError):
        await run(slow, number=3)


async def test_failures_are_caught_by_fault_by_code_or_all_and_something_is_always_done() -> None:
    live = service(steps("""
outer:
  attempt:
    first: {call: workflow half, input: {number: number}}
    slow: {wait: 5, seconds: 0.01, only_if: first.half == 2}
    zero: {set: {x: 'first.half // (first.half - 3)'}}
  catch:
    Odd: {steps: {odd: {set: {why: 'f"{caught.fault} {caught.detail.number}"'}}}}
    busy: {codes: [workflow.step-time], steps: {late: {set: {why: 'caught.step + " " + caught.code'}}}}
    anything: {steps: {other: {set: {why: caught.code}}}}
  always: {done: {set: {cleaned: 'True'}}}
answer: {reply: {half: number, why: 'coalesce(why, "fine")'}}
""", gives="half: {type: int}, why: {type: string}"))
    assert [(await run(live, number=one))["why"] for one in (3, 4, 6, 8)] == ["Odd 3", "outer workflow.step-time", "expression.failed", "fine"]


async def test_a_call_that_waits_too_long_or_whose_caller_is_gone_ends() -> None:
    live = service(steps("a: {wait: 20}\nb: {reply: {half: number}}") + "seconds: 0.05\n")
    with pytest.raises(ProblemError) as late:
        await run(live, number=1)
    assert late.value.problem.code == "workflow.time"
    task = asyncio.create_task(run(service(steps("a: {wait: 20}\nb: {reply: {half: number}}")), number=1))
    await asyncio.sleep(0.02)
    task.cancel()
    with pytest.raises(asyncio.CancelledError):
        await task
    spinning = service(steps("t: {set: {x: 0}}\na: {repeat_while: x < 100000000, at_most: 100000, steps: {b: {set: {x: x + 0 * number}}}}\nb: {reply: {half: x}}"))
    with pytest.raises(ProblemError) as over:
        await run(spinning, Call(deadline=time.monotonic() + 0.05), number=1)
    assert over.value.problem.code == "call.deadline"


async def test_the_loop_of_events_is_not_held_up() -> None:
    """An expression over many items runs beside it, and a long loop of steps lets others run."""
    live = service(steps("""
a: {set: {x: 'count([one for one in numbers(1, 300000) if one % 7 == number])'}}
b: {for_each: 'numbers(1, 3000)', item: n, steps: {c: {set: {y: n}}}}
d: {reply: {half: x}}
"""))
    longest, last = 0.0, time.monotonic()

    async def watch() -> None:
        nonlocal longest, last
        while True:
            await asyncio.sleep(0.001)
            now = time.monotonic()
            longest, last = max(longest, now - last), now

    watching = asyncio.create_task(watch())
    await asyncio.sleep(0)
    assert await run(live, number=3) == {"half": 42857}
    watching.cancel()
    assert longest < 0.15  # the work as a whole takes far longer than that


async def test_so_many_calls_at_once_and_no_more() -> None:
    live = service(steps("a: {wait: 0.05}\nb: {reply: {half: number}}") + "at_once: 2\n")
    began = time.monotonic()
    found = await asyncio.gather(*(run(live, number=one) for one in range(6)))
    assert [one["half"] for one in found] == list(range(6))
    assert time.monotonic() - began > 0.14


async def test_calls_side_by_side_share_nothing() -> None:
    live = service(steps("a: {set: {x: number}}\nb: {wait: 0.01}\nc: {set: {x: x + 1}}\nd: {reply: {half: x}}"))
    found = await asyncio.gather(*(run(live, number=one) for one in range(200)))
    assert [one["half"] for one in found] == list(range(1, 201))


async def test_a_trace_has_every_step_with_its_values_and_hides_what_is_sensitive() -> None:
    live = service(steps("""
who: {set: {both: 'f"{name} of {number}"'}}
tried: {call: workflow half, input: {number: number}}
told: {note: 'f"half is {tried.half}"'}
answer: {reply: {half: tried.half, name: both}}
""", "number: {type: int}, name: {type: string, sensitive: true}", "half: {type: int}, name: {type: string}", faults="  Odd: {fields: {number: {type: int}}}"))
    trace = Trace(time.monotonic)
    within = Call(trace=trace, span=trace.root)
    await run(live, within, number=8, name="Imke")
    plain = trace.as_plain()
    assert [(one["name"], one["action"], one["depth"]) for one in plain["spans"][1:]] == [
        ("who", "set", 1), ("tried", "call", 1), ("answer", "reply", 2), ("told", "note", 1), ("answer", "reply", 1)]
    assert plain["spans"][2]["taken"] == {"number": 8}
    assert plain["spans"][2]["given"] == {"half": 4}
    assert plain["spans"][4]["lines"] == ["half is 4"]
    assert "Imke" not in str(plain)
    assert plain["spans"][-1]["given"] == {"half": 4, "name": "not shown"}
    failing = Trace(time.monotonic)
    with pytest.raises(DeclaredFaultError):
        await run(live, Call(trace=failing, span=failing.root), number=3, name="Imke")
    assert [one["name"] for one in failing.as_plain()["spans"] if one.get("failed") == "Odd"] == ["tried", "odd"]


# with a database


WEIRS = (
    "object: weir\nbackend: river\ntable: weir\nkey: code\nchange_token: version\nfields:\n  code: {type: string, max_length: 8}\n  crest: {type: decimal, digits: 6, fraction: 2}",
    """
workflow: raise
input: {codes: {type: string, repeats: true}, by: {type: decimal, digits: 6, fraction: 2}}
output: {raised: {type: int}}
faults:
  NoWeir: {fields: {code: {type: string}}}
steps:
  all:
    for_each: codes
    item: code
    steps:
      found:
        attempt: {weir: {call: weir.get, input: {code: code}}}
        catch: {NotFound: {steps: {none: {fail: NoWeir, message: '=no such weir', detail: {code: code}}}}}
      higher:
        attempt:
          raised:
            call: weir.update
            input: {code: code, changeToken: weir.weir.changeToken, crest: weir.weir.crest + by}
            undo:
              call: weir.update
              input: {code: code, changeToken: raised.changeToken, crest: weir.weir.crest}
        catch:
          Conflict: {steps: {again: {fail: NoWeir, detail: {code: code}}}}
          NotFound: {steps: {gone: {fail: NoWeir, detail: {code: code}}}}
  answer: {reply: {raised: count(codes)}}
""",
    """
workflow: together
input: {first: {type: string}, second: {type: string}}
output: {seen: {type: boolean}}
faults:
  AlreadyExists: {fields: {code: {type: string, required: false}}}
  Conflict: {}
steps:
  both:
    session: river
    steps:
      one: {call: weir.create, input: {weir: {code: first, crest: 1}}}
      seen: {attempt: {own: {call: weir.get, input: {code: first}}}, catch: {NotFound: {}}}
      two: {call: weir.create, input: {weir: {code: second, crest: 2}}}
  answer: {reply: {seen: own is not None}}
""",
    "service: Weirs\noperations:\n  Raise: {runs: workflow raise}\n  Together: {runs: workflow together}\n  GetWeir: {runs: weir.get}\n  DeleteWeir: {runs: weir.delete}",
)


@pytest.fixture(params=ENGINES)
async def database(request: pytest.FixtureRequest, tmp_path: Path, servers: Servers) -> AsyncIterator[Database]:
    found = Database(request.param, tmp_path, servers)
    found.run("CREATE TABLE weir (code VARCHAR(8) PRIMARY KEY, crest DECIMAL(6,2) NOT NULL CHECK (crest < 100), version INTEGER NOT NULL)",
              "INSERT INTO weir VALUES ('W1', 4.20, 1)", "INSERT INTO weir VALUES ('W2', 5.10, 1)", "INSERT INTO weir VALUES ('W3', 99.50, 1)")
    yield found
    await found.pool.close()


async def crest(live: LiveService, code: str) -> Decimal:
    return Decimal((await call(live, "GetWeir", code=code))["weir"]["crest"])


async def test_what_was_done_is_undone_in_reverse_order_when_something_fails(database: Database) -> None:
    live = database.publish(WEIRS, "Weirs")
    assert await call(live, "Raise", codes=["W1", "W2"], by=Decimal("0.30")) == {"raised": 2}
    with pytest.raises(DeclaredFaultError) as fault:
        await call(live, "Raise", codes=["W1", "W2", "W9"], by=Decimal("1.00"))
    assert fault.value.name == "NoWeir"
    assert (await crest(live, "W1"), await crest(live, "W2")) == (Decimal("4.50"), Decimal("5.40"))
    trial = Trial()
    await call(live, "Raise", Call(trial=trial), codes=["W1"], by=Decimal("1.00"))
    assert [one.fields["crest"] for one in trial.changes] == [("4.50", "5.50")]
    assert await crest(live, "W1") == Decimal("4.50")


async def test_what_cannot_be_undone_is_reported_with_the_cause(database: Database) -> None:
    """Somebody else writes the row in between, so that the undo's change token is stale."""
    meddling = WEIRS[1].replace("  answer:", "  meddle: {call: weir.update, input: {code: '\"W1\"', changeToken: '\"2\"', crest: 7}}\n  stop: {fail: NoWeir, detail: {code: '=x'}}\n  answer:")
    meddling = meddling.replace("  answer: {reply: {raised: count(codes)}}\n", "").replace("faults:", "faults:\n  NotFound: {}\n  Conflict: {}").replace("raise\n", "raise\n", 1)
    live = database.publish((WEIRS[0], meddling, WEIRS[2], WEIRS[3]), "Weirs")
    with pytest.raises(ProblemError) as caught:
        await call(live, "Raise", codes=["W1"], by=Decimal("0.30"))
    assert [one.code for one in caught.value.problems] == ["workflow.not-undone", "workflow.failed"]
    assert "all.higher.raised could not be undone" in caught.value.problem.sentence()
    assert await crest(live, "W1") == Decimal("7.00")


async def test_a_step_that_is_stopped_while_it_writes_is_undone_as_well(database: Database) -> None:
    """The other lane fails between what the step stored and its end; what was stored then is no less to be undone."""
    slowly = """
workflow: slowly
input: {code: {type: string}, crest: {type: decimal}}
output: {was: {type: decimal}}
faults: {NotFound: {}, Conflict: {}}
steps:
  weir: {call: weir.get, input: {code: code}}
  set: {call: weir.update, input: {code: code, changeToken: weir.weir.changeToken, crest: crest}}
  rest: {wait: 0.3}
  answer: {reply: {was: weir.weir.crest}}
"""
    both = """
workflow: both
input: {code: {type: string}, seconds: {type: decimal}}
output: {was: {type: decimal, required: false}}
faults: {NotFound: {}, Conflict: {}, Late: {}}
steps:
  lanes:
    parallel:
      one:
        steps:
          raised:
            call: workflow slowly
            input: {code: code, crest: 50}
            undo: {call: workflow slowly, input: {code: code, crest: raised.was}}
      two:
        steps:
          pause: {wait: seconds}
          late: {fail: Late, only_if: seconds < 1}
  answer: {reply: {was: raised.was}}
"""
    services = WEIRS[3] + "\n  Both: {runs: workflow both}"
    live = database.publish((*WEIRS[:3], slowly, both, services), "Weirs")
    with pytest.raises(DeclaredFaultError) as fault:
        await call(live, "Both", code="W1", seconds=Decimal("0.1"))
    assert fault.value.name == "Late"
    assert await crest(live, "W1") == Decimal("4.20")


async def test_an_undo_whose_input_cannot_be_worked_out_is_reported(database: Database) -> None:
    broken = WEIRS[1].replace("crest: weir.weir.crest}", "crest: weir.weir.crest / (by - by)}")
    live = database.publish((WEIRS[0], broken, *WEIRS[2:]), "Weirs")
    with pytest.raises(ProblemError) as caught:
        await call(live, "Raise", codes=["W1", "W2"], by=Decimal("0.30"))  # it goes no further with what it could not take back
    assert [one.code for one in caught.value.problems] == ["workflow.not-undone", "workflow.undo-input"]
    assert (await crest(live, "W1"), await crest(live, "W2")) == (Decimal("4.50"), Decimal("5.10"))


async def test_steps_of_a_session_are_stored_together_or_not_at_all(database: Database) -> None:
    live = database.publish(WEIRS, "Weirs")
    assert await call(live, "Together", first="A", second="B") == {"seen": True}  # a later step reads what an earlier one wrote
    assert await crest(live, "B") == Decimal("2.00")
    with pytest.raises(DeclaredFaultError) as fault:
        await call(live, "Together", first="C", second="B")
    assert fault.value.name == "AlreadyExists"
    with pytest.raises(DeclaredFaultError):
        await crest(live, "C")
    trial = Trial()
    assert await call(live, "Together", Call(trial=trial), first="D", second="E") == {"seen": True}
    assert [one.key for one in trial.changes] == [{"code": "D"}, {"code": "E"}]
    assert trial.transactions == 1
    with pytest.raises(DeclaredFaultError):
        await crest(live, "D")
    assert await asyncio.gather(*(call(live, "Together", first=f"X{one}", second=f"Y{one}") for one in range(8)))  # more than there are sessions
    for _ in range(1000):  # one that is being opened is not idle yet
        view = database.pool.view()["statistics"]
        if view["pool_available"] == view["pool_size"]:
            return
        await asyncio.sleep(0.01)
    raise AssertionError(view)


async def test_a_constraint_inside_a_session_leaves_the_steps_before_it_when_it_is_caught(database: Database) -> None:
    caught = WEIRS[2].replace("      two: {call: weir.create, input: {weir: {code: second, crest: 2}}}\n",
                              "      maybe: {attempt: {two: {call: weir.create, input: {weir: {code: second, crest: 200}}}}, catch: {anything: {}}}\n")
    live = database.publish((WEIRS[0], WEIRS[1], caught, WEIRS[3]), "Weirs")
    assert await call(live, "Together", first="A", second="B") == {"seen": True}
    assert await crest(live, "A") == Decimal("1.00")
    with pytest.raises(DeclaredFaultError):
        await crest(live, "B")


def test_problems_of_a_workflow_name_its_steps() -> None:
    with pytest.raises(ProblemError) as caught:
        service(steps("a: {reply: {half: numbr}}"))
    assert caught.value.problem == Problem("expression.name", "Nothing has this name here.", place="workflow tried, steps, a, reply, half, character 1",
                                           expected="one of number, call", found='"numbr"', mend="Did you mean number?")


def test_a_contract_with_names_that_are_none_here() -> None:
    """Elements called `order-id` and `from` are read and filled as any others."""
    schema = ('<xs:element name="Ask"><xs:complexType><xs:sequence><xs:element name="order-id" type="xs:string"/>'
              '<xs:element name="from" type="xs:date" minOccurs="0"/></xs:sequence></xs:complexType></xs:element>'
              '<xs:element name="AskResponse"><xs:complexType><xs:sequence><xs:element name="order-id" type="xs:string"/>'
              '<xs:element name="class" type="xs:string"/></xs:sequence></xs:complexType></xs:element>')
    text = ("workflow: tried\ncontract: theirs\noperation: Ask\nsteps:\n  answer:\n"
            '    reply: {order-id: order_id, class: \'"old" if from_ is not None else "new"\'}\n')
    catalogue = Catalogue([ContractDefinition(name="theirs", main="a.wsdl", files={"a.wsdl": wsdl(schema)}), read_definition(text)])
    definition = catalogue.get(WorkflowDefinition, "tried")
    assert definition is not None
    program = program_of(definition, catalogue, NEWEST)
    assert [one.name for one in program.output.elements] == ["order-id", "class"]
