"""Test suites on values alone: what is told when one is saved, and how replies are held against expectations."""

import asyncio
from collections.abc import Mapping, Sequence
from typing import Any

import pytest

from bricola.core.definitions.folder import read_folder
from bricola.core.definitions.suites import Case, SuiteDefinition
from bricola.core.definitions.text import read_definition, write_definition
from bricola.core.messages.encoder import compile_encoder
from bricola.core.messages.envelope import Soap
from bricola.core.messages.faults import DeclaredFaultError, declared_fault, problem_fault
from bricola.core.messages.plain import from_plain
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.core.shapes.model import OperationShape
from bricola.core.testing.checking import check_suite
from bricola.core.testing.junit import write_junit
from bricola.core.testing.mending import mend_suite
from bricola.core.testing.replies import Seen, read_rest, read_soap
from bricola.core.testing.running import Outcome, Result, Shot, SuiteRun
from tests.core.samples import gauge_service

SHAPE = gauge_service().shape
HEAD = "test-suite: gauges\nservice: GaugeBook\n"
GAUGE = {"code": "G01", "place": "Aldebrook", "datum": "1.50", "automatic": True, "readings": 4, "installed": "2026-11-02", "changeToken": "7"}
ANSWER = {"GetGauge": {"gauge": GAUGE}, "FindGauges": {"gauge": [GAUGE, {**GAUGE, "code": "G02", "datum": "2.25"}], "more": False}}


def suite(text: str) -> SuiteDefinition:
    found = read_definition(HEAD + text)
    assert isinstance(found, SuiteDefinition)
    return found


def problems(text: str) -> list[Problem]:
    return check_suite(suite(text), SHAPE)


def case(expects: str, operation: str = "GetGauge", values: str = "{code: G01}") -> str:
    return f"cases:\n  one:\n    operation: {operation}\n    values: {values}\n    expects: {expects}\n"


def envelope(operation: str, answer: Mapping[str, Any]) -> bytes:
    shape = SHAPE.operation(operation)
    assert shape is not None
    wrong: list[Problem] = []
    values = from_plain(shape.output, answer, operation, wrong)
    assert not wrong
    return (Soap.V11.head + compile_encoder(shape.output, SHAPE.namespace)(values) + Soap.V11.tail).encode()


def not_found(code: str) -> bytes:
    fault = next(one for one in SHAPE.operations[0].faults if one.name == "NotFound")
    detail = compile_encoder(fault.record, SHAPE.namespace)({"message": "There is none.", "code": code})
    return declared_fault(Soap.V11, DeclaredFaultError("NotFound", "There is none.", {}), detail, "c1")


class Door:
    """Answers what it is told to; remembers what was sent."""

    def __init__(self, answers: Mapping[str, Any] | None = None, body: bytes | None = None, status: int = 200, gone: bool = False) -> None:
        self.answers, self.body, self.status, self.gone = answers or ANSWER, body, status, gone
        self.shots: list[Shot] = []
        self.at_once = self.most = 0

    async def send(self, shot: Shot) -> tuple[Seen, str]:
        self.shots.append(shot)
        self.at_once += 1
        self.most = max(self.most, self.at_once)
        await asyncio.sleep(0)
        self.at_once -= 1
        if self.gone:
            raise ProblemError(Problem("test.no-answer", "The endpoint did not answer.", Kind.BACKEND))
        body = self.body if self.body is not None else envelope(shot.operation.name, self.answers[shot.operation.name])
        return read_soap(SHAPE, shot.operation, self.status, body, 0.01, {"call-id": f"c{len(self.shots)}"}), shot.caller

    async def beside(self, shot: Shot, seen: Seen) -> Mapping[str, Any] | None:
        return None

    async def thin(self, shot: Shot, seen: Seen) -> Sequence[Problem]:
        return ()

    async def close(self) -> None: ...

    def why_not(self, case: Case, operation: OperationShape) -> str:
        return ""


def run(text: str, door: Door, only: str = "", **values: str) -> list[Result]:
    found: list[Result] = []

    async def go() -> None:
        await SuiteRun(suite(text), SHAPE, door, values, {"today": "2026-11-28"}, asyncio.Semaphore(4), found.append,
                       lambda name: only in name).run()

    asyncio.run(go())
    return found


def test_a_suite_is_written_as_it_was_read() -> None:
    text = HEAD + ("caller: harbour-desk\nvalues:\n  known: G01\ncases:\n  good:\n    operation: GetGauge\n    values: {code: '{known}'}\n"
                   "    expects:\n      values:\n        gauge.code: G01\n        gauge.datum: {between: [1, 2.50]}\n")
    assert write_definition(read_definition(text)) == text


@pytest.mark.parametrize(("text", "code", "words"), [
    (case("{values: {gauge.nmae: x}}"), "test.path", "gauge has no part nmae"),
    (case("{values: {gauge.code: X1}}"), "test.value", "No answer can have this value here"),
    (case("{values: {gauge: {count: 2}}}"), "test.comparison", "Only a list has a count"),
    (case("{values: {gauge: {order: up}}}", "FindGauges", "{}"), "test.comparison", "goes up or down by a field"),
    (case("{fault: Missing}"), "test.fault", "declares no fault Missing"),
    (case("{holds: gauge.code > 3}"), "expression", ""),
    (case("{}", "GetGuage"), "test.operation", "no operation GetGuage"),
    (case("{}", values="{cod: G01}"), "element", ""),
    (case("{}", values="{code: X}"), "value.pattern", ""),
    (case("{}", values="{code: '{other.gauge.code}'}"), "test.place", "Nothing is called so here"),
    (case("{}").replace("values", "rows: absent.csv\n    values"), "test.file", "no such file"),
    (case("{}", values="{code: '{cod}'}").replace("    values", "    rows: [{code: G01}]\n    values"), "test.place", "no such column"),
    (case("{}").replace("values", "set_up: make\n    values"), "test.step", "no such step"),
    (case("{}").replace("values", "face: soap 1.2\n    writes: true\n    clean_up: one\n    values"), "test.writes", "writes nothing"),
    ("cases:\n  a: {operation: GetGauge, values: {code: '{b.gauge.code}'}}\n  b: {operation: GetGauge, values: {code: '{a.gauge.code}'}}\n",
     "test.circle", "wait for each other"),
    ("steps:\n  a: {operation: GetGauge, values: {code: G01}, set_up: b}\n  b: {operation: GetGauge, values: {code: G01}, set_up: a}\n",
     "test.circle", "wait for each other"),
])
def test_what_cannot_come_true_is_told(text: str, code: str, words: str) -> None:
    found = problems(text)
    assert [one for one in found if one.code.startswith(code) and words in one.message], found
    assert all(one.place.startswith("test-suite gauges") for one in found)


def test_a_near_name_is_offered() -> None:
    assert problems(case("{values: {gauge.plce: x}}"))[0].mend == "Did you mean gauge.place?"


@pytest.mark.parametrize("text", [
    "cases:\n  one: {operation: GetGauge, expects: {fault: NotFound, problem: value}}\n",
    "cases:\n  one: {operation: GetGauge, expects: {values: {gauge.code: {equals: G01}}}}\n",
    "cases:\n  one: {operation: GetGauge, values: {code: G01}, envelope: <a/>}\n",
    "cases:\n  one: {operation: GetGauge, writes: true}\n",
    "cases:\n  one: {operation: GetGauge, identity: none, caller: harbour-desk}\n",
])
def test_what_contradicts_itself_is_not_read(text: str) -> None:
    with pytest.raises(ProblemError):
        suite(text)


@pytest.mark.parametrize(("expects", "place"), [
    ("{values: {gauge.datum: '1.5'}}", ""),  # by its type, not by its text
    ("{values: {gauge.datum: {between: [1, 2]}, gauge.automatic: 'true', gauge.readings: 4}}", ""),
    ("{values: {gauge.place: {matches: 'Alde.*', contains: brook, unlike: Sedgebank}, gauge.drift: {absent: true}}}", ""),
    ("{holds: ['gauge.readings > 3', 'gauge.installed < date(\"2026-12-01\")']}", ""),
    ("{status: 200, within: 5}", ""),
    ("{values: {gauge.datum: 1.51}}", "gauge.datum"),
    ("{values: {gauge.place: {one_of: [Sedgebank, Ferry]}}}", "gauge.place"),
    ("{values: {gauge.place: {absent: true}}}", "gauge.place"),
    ("{values: {gauge.drift: {present: true}}}", "gauge.drift"),
    ("{holds: gauge.readings > 9}", "gauge.readings > 9"),
    ("{status: 500}", "status"),
    ("{within: 0.001}", "time"),
    ("{fault: NotFound}", ""),
    ("{problem: value}", ""),
])
def test_an_answer_is_held_against_what_is_expected(expects: str, place: str) -> None:
    result, = run(case(expects), Door())
    good = not place and "NotFound" not in expects and "problem" not in expects
    assert (result.outcome is Outcome.PASSED) == good, result.problems
    if not good:
        assert result.problems[0].place == place
        assert result.problems[0].expected
        assert result.problems[0].found


@pytest.mark.parametrize(("expects", "good"), [
    ("{values: {gauge: {count: 2, order: up, by: code}, gauge.code: {matches: 'G\\d\\d'}, 'gauge[1].code': G02}}", True),
    ("{values: {gauge: {count: [3, 9]}}}", False), ("{values: {gauge: {order: down, by: datum}}}", False),
    ("{values: {gauge.datum: '1.50'}}", False), ("{values: {'gauge[7].code': G02}}", False),
])
def test_lists_are_held_by_count_order_and_each_item(expects: str, good: bool) -> None:
    result, = run(case(expects, "FindGauges", "{}"), Door())
    assert (result.outcome is Outcome.PASSED) is good


def test_a_fault_is_known_by_name_status_and_parts() -> None:
    door = Door(body=not_found("G77"), status=500)
    assert run(case("{fault: NotFound, status: 500, values: {code: G77}}"), door)[0].outcome is Outcome.PASSED
    other, = run(case("{fault: NotFound, values: {code: G78}}"), door)
    assert (other.problems[0].place, other.problems[0].found) == ("code", '"G77"')
    unforeseen, = run(case("{}"), door)
    assert unforeseen.problems[0].found == "the fault NotFound: There is none. (call c1)"


def test_a_problem_is_known_by_code_and_place() -> None:
    body = problem_fault(Soap.V11, ProblemError(Problem("value.pattern", "Not so.", place="GetGauge/code")), "c1")
    door = Door(body=body, status=500)
    assert run(case("{problem: value, place: code}"), door)[0].outcome is Outcome.PASSED
    assert run(case("{problem: value.pattern, place: datum}"), door)[0].problems[0].code == "test.problem-place"
    assert "value.pattern" in run(case("{problem: element}"), door)[0].problems[0].found


def test_xml_is_compared_but_for_some_paths() -> None:
    element = envelope("GetGauge", ANSWER["GetGauge"]).decode().partition("<soap:Body>")[2].partition("</soap:Body>")[0]
    wanted = element.replace(">7<", ">8<")
    text = case("").replace("expects: ", f"expects:\n      xml: |\n        {wanted}\n")
    assert run(text, Door())[0].problems[0].place == "gauge.changeToken"
    assert run(text + "      but: gauge.changeToken\n", Door())[0].outcome is Outcome.PASSED


@pytest.mark.parametrize(("body", "status", "words"), [
    (b"hello", 200, "not what the contract promises"), (b"", 200, "not what the contract promises"),
    (b"<html/>", 502, "not what the contract promises"),
    (envelope("GetGauge", ANSWER["GetGauge"]).replace(b">G01<", b">X<"), 200, "not what the contract promises"),
    (not_found("G11"), 500, "not answered"),
])
def test_a_reply_that_is_none_fails(body: bytes, status: int, words: str) -> None:
    result, = run(case("{}"), Door(body=body, status=status))
    assert result.outcome is Outcome.FAILED
    assert words in result.problems[0].message


def test_an_answer_may_be_let_be() -> None:
    body = envelope("GetGauge", ANSWER["GetGauge"]).replace(b">G01<", b">X<")
    assert run(case("{unchecked: true}"), Door(body=body))[0].outcome is Outcome.PASSED


def test_places_are_filled_from_rows_values_the_environment_and_earlier_answers() -> None:
    text = ("values:\n  known: G01\ncases:\n"
            "  later:\n    operation: GetGauge\n    values: {code: '{first.gauge.code}'}\n"
            "  first:\n    operation: GetGauge\n    values: {code: '{known}'}\n"
            "  each:\n    operation: FindGauges\n    rows: t.csv\n    values: {placeContains: 'x{part}{{y'}\n"
            "files:\n  t.csv: |\n    part\n    a&b\n    <c>\n")
    door = Door()
    results = run(text, door, known="G09")
    assert {(one.case, one.row): one.outcome for one in results} == {
        ("first", ""): Outcome.PASSED, ("later", ""): Outcome.PASSED, ("each", "a&b"): Outcome.PASSED, ("each", "<c>"): Outcome.PASSED}
    sent = {(one.case.name, one.values.get("code", one.values.get("placeContains"))) for one in door.shots}
    assert sent == {("first", "G09"), ("later", "G01"), ("each", "xa&b{y"), ("each", "x<c>{y")}
    assert door.most > 1  # several at once


def test_a_chosen_case_brings_those_that_it_needs_and_one_that_fails_leaves_it_out() -> None:
    text = ("cases:\n  later:\n    operation: GetGauge\n    values: {code: '{first.gauge.code}'}\n"
            "  first:\n    operation: GetGauge\n    values: {code: G01}\n    expects: {status: 201}\n  other: {operation: FindGauges}\n")
    results = {one.case: one for one in run(text, Door(), only="later")}
    assert (results["first"].outcome, results["later"].outcome, len(results)) == (Outcome.FAILED, Outcome.LEFT_OUT, 2)
    assert "first gave no answer" in results["later"].problems[0].message


def test_set_ups_run_first_and_clean_ups_whatever_happens() -> None:
    text = ("set_up: ready\nclean_up: [broken, done]\ncases:\n  one:\n    operation: GetGauge\n    values: {code: G01}\n"
            "    set_up: before\n    clean_up: after\n    expects: {status: 404}\n"
            "steps:\n" + "".join(f"  {name}: {{operation: GetGauge, values: {{code: G1{number}}}}}\n"
                                 for number, name in enumerate(("ready", "before", "after", "done")))
            + "  broken: {operation: GetGauge, values: {code: G19}, expects: {fault: NotFound}}\n")
    door = Door()
    results = run(text, door)
    assert [one.case.name for one in door.shots] == ["ready", "before", "one", "after", "broken", "done"]
    assert [(one.case, one.part, one.outcome) for one in results] == [
        ("one", "case", Outcome.FAILED), ("broken", "clean-up", Outcome.FAILED)]


def test_a_set_up_that_fails_leaves_its_cases_out_and_still_cleans_up() -> None:
    text = ("set_up: ready\nclean_up: done\ncases:\n  one: {operation: GetGauge, values: {code: G01}}\n"
            "steps:\n  ready: {operation: GetGauge, values: {code: G01}, expects: {fault: NotFound}}\n"
            "  done: {operation: GetGauge, values: {code: G02}}\n")
    door = Door()
    results = run(text, door)
    assert [(one.case, one.outcome) for one in results] == [("ready", Outcome.FAILED), ("one", Outcome.LEFT_OUT)]
    assert [one.case.name for one in door.shots] == ["ready", "done"]


def test_a_run_that_is_stopped_cleans_up() -> None:
    text = "clean_up: done\ncases:\n  one: {operation: GetGauge, values: {code: G01}}\nsteps:\n  done: {operation: GetGauge, values: {code: G02}}\n"

    begun = asyncio.Event()

    class Slow(Door):
        async def send(self, shot: Shot) -> tuple[Seen, str]:
            if shot.case.name == "one":
                self.shots.append(shot)
                begun.set()
                await asyncio.sleep(60)
            return await super().send(shot)

    door = Slow()

    async def go() -> None:
        task = asyncio.create_task(SuiteRun(suite(text), SHAPE, door, {}, {}, asyncio.Semaphore(1), lambda one: None).run())
        await begun.wait()
        task.cancel()
        with pytest.raises(asyncio.CancelledError):
            await task

    asyncio.run(go())
    assert [one.case.name for one in door.shots] == ["one", "done"]


def test_when_nothing_answers_any_more_the_rest_is_left_out() -> None:
    text = "cases:\n" + "".join(f"  c{number}: {{operation: GetGauge, values: {{code: G01}}}}\n" for number in range(20))
    door = Door(gone=True)
    results = run(text, door)
    assert len(results) == 20
    assert len(door.shots) < 8
    assert {one.outcome for one in results} == {Outcome.FAILED, Outcome.LEFT_OUT}


def test_the_rest_face_is_read_like_the_other() -> None:
    operation = SHAPE.operations[0]
    fault = b'{"title": "NotFound", "detail": "none", "fault": {"message": "none", "code": "G01"}, "call": "c"}'
    assert read_rest(SHAPE, operation, 422, fault, 0, {}).fault.name == "NotFound"  # type: ignore[union-attr]
    problem = b'{"title": "x", "problems": [{"code": "value.pattern", "message": "m", "kind": "input", "place": "GetGauge/code"}]}'
    assert read_rest(SHAPE, operation, 400, problem, 0, {}).fault.problems[0].place == "GetGauge/code"  # type: ignore[union-attr]
    assert read_rest(SHAPE, operation, 200, b'{"gauge": {"code": "X"}}', 0, {}).against
    assert read_rest(SHAPE, operation, 200, b"[]", 0, {}).against


@pytest.mark.parametrize(("text", "words"), [("a,b\n1\n", "another number of values"), ("a,a\n1,2\n", "same as another"), ("", "empty"),
                                             ('a\n"x\n', "no CSV")])
def test_a_table_that_is_not_regular_is_told_with_its_line(text: str, words: str) -> None:
    made = suite(case("{}").replace("values", "rows: t.csv\n    values")).model_copy(update={"files": {"t.csv": text}})
    found = check_suite(made, SHAPE)
    assert words in found[0].message


def test_a_table_beside_a_suite_becomes_a_part_of_it(tmp_path: Any) -> None:
    (tmp_path / "s.yaml").write_text(HEAD + "cases:\n  one: {operation: GetGauge, values: {code: '{code}'}, rows: codes.csv}\n")
    (tmp_path / "codes.csv").write_text("code\nG01\nG02\n")
    made = read_definition(read_folder(tmp_path)["s.yaml"])
    assert isinstance(made, SuiteDefinition)
    assert made.files == {"codes.csv": "code\nG01\nG02\n"}


def test_results_as_build_servers_read_them() -> None:
    one = {"suite": "s", "service": "S", "case": "c", "row": "", "part": "case", "operation": "Op", "outcome": "failed", "rule": "", "element": "",
           "problems": [Problem("test.value", "Other.", place="a", expected="1", found="2\x00").as_dict()], "warnings": [], "ms": 12.5, "call": "x"}
    text = write_junit({"environment": "e", "begun_at": 0.0}, [one, {**one, "outcome": "passed", "problems": []},
                                                               {**one, "outcome": "left out"}]).decode()
    assert 'tests="3"' in text
    assert 'failures="1"' in text
    assert 'skipped="1"' in text
    assert "Expected 1, found 2" in text


def test_a_suite_follows_a_contract_that_changed() -> None:
    older = suite("cases:\n  good:\n    operation: GetGage\n    values: {cod: G01}\n    expects:\n      values: {gauge.plce: x, gauge.gone: 1}\n"
                  "  refused: {operation: GetGauge, values: {cod: X, other: 1}, expects: {problem: value.pattern}}\n"
                  "  found: {operation: FindGauges, values: {grade: A, wrong: 2}}\n  fault: {operation: GetGauge, expects: {fault: NotFond}}\n")
    mended, told = mend_suite(older, SHAPE)
    assert [one.operation for one in mended.cases] == ["GetGauge", "GetGauge", "FindGauges", "GetGauge"]
    assert [dict(one.values) for one in mended.cases] == [{"code": "G01"}, {"code": "X", "other": 1}, {"grade": "A"}, {"code": "G01"}]
    assert list(mended.cases[0].expects.values) == ["gauge.place"]
    assert mended.cases[3].expects.fault == "NotFound"
    assert any("gauge.gone is gone" in words for _, words in told)
    assert [one.code for one in check_suite(mended, SHAPE)] == []
    assert mend_suite(mended, SHAPE) == (mended, [])


def test_an_answer_of_many_megabytes_is_held_against_what_is_expected() -> None:
    one = envelope("FindGauges", {"gauge": [GAUGE], "more": False}).decode()
    head, _, rest = one.partition("<gauge>")
    item, _, tail = rest.partition("</gauge>")
    count = 5_000_000 // len(item) + 1
    body = (head + f"<gauge>{item}</gauge>" * count + tail).encode()
    assert len(body) > 5_000_000
    text = case("{values: {gauge: {count: COUNT}, gauge.code: G02}}".replace("COUNT", str(count)), "FindGauges", "{}")
    result, = run(text, Door(body=body))
    assert len(result.problems) == 5  # the first of them, and not all
    assert {two.place for two in result.problems} == {f"gauge[{number}].code" for number in range(5)}
