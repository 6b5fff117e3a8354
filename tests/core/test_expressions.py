"""The language of conditions and maps: what it gives, what it refuses with position and types, and what it must never do."""

import datetime
import sys
import tracemalloc
from decimal import Decimal
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from bricola.core.expressions.arithmetic import Budget, SpentError
from bricola.core.expressions.compiling import AT_ONCE, compile_condition, compile_expression, compile_map
from bricola.core.expressions.types import XML, Of, Type, list_of, of_record, record_of, type_of
from bricola.core.problems import ProblemError
from bricola.core.shapes.model import Element, Record
from bricola.core.shapes.simple import SimpleType

TEXT, INT, DATE = SimpleType("string"), SimpleType("int"), SimpleType("date")
MONEY = SimpleType("decimal", digits=8, fraction=2)
KIND = SimpleType("string", codes=("barge", "tug", "tanker"))
PERMIT = Record("Permit", (Element("number", TEXT), Element("validTo", DATE)))
VESSEL = Record("Vessel", (
    Element("registration", SimpleType("string", pattern=r"LK-\d{4}")), Element("name", TEXT), Element("kind", KIND),
    Element("lengthM", MONEY), Element("tonnes", MONEY, 0), Element("notes", TEXT, 0), Element("built", DATE),
    Element("permit", PERMIT, 0), Element("seen", SimpleType("dateTime")), Element("crew", INT), Element("speed", SimpleType("double")),
))
MOVE = Record("Move", (Element("kind", KIND), Element("tonnes", MONEY), Element("on", DATE), Element("cargo", TEXT, 0)))
NAMES = {
    "vessel": of_record(VESSEL), "moves": type_of(Element("moves", MOVE, 0, None)), "some": type_of(Element("some", MOVE, 1, 9)),
    "count_of": type_of(Element("n", INT)), "fee": type_of(Element("fee", MONEY)), "note": type_of(Element("note", TEXT, 0)),
    "day": type_of(Element("day", DATE)), "at": type_of(Element("at", SimpleType("dateTime"))), "open": type_of(Element("open", SimpleType("boolean"))),
    "big": type_of(Element("big", SimpleType("integer"))), "stay": type_of(Element("stay", SimpleType("duration"))), "doc": XML,
    "words": list_of(type_of(Element("w", TEXT))), "late": type_of(Element("late", DATE, 0)),
}


def move(kind: str, tonnes: str, day: int, cargo: str | None = None) -> dict[str, Any]:
    return {"kind": kind, "tonnes": Decimal(tonnes), "on": datetime.date(2026, 1, day)} | ({"cargo": cargo} if cargo else {})


VALUES: dict[str, Any] = {
    "vessel": {"registration": "LK-0412", "name": "Grey Wagtail", "kind": "barge", "lengthM": Decimal("17.40"), "built": datetime.date(1994, 3, 31),
               "seen": datetime.datetime(2026, 11, 24, 6, 30, tzinfo=datetime.UTC), "crew": 3, "speed": 5.5},
    "moves": [move("tug", "1.50", 1), move("barge", "2.00", 2, "salt"), move("tug", "3.25", 3, "coal")], "some": [move("barge", "9.00", 5)],
    "count_of": 5, "fee": Decimal("12.50"), "day": datetime.date(2026, 1, 31), "at": datetime.datetime(2026, 1, 31, 9, 0, tzinfo=datetime.UTC),
    "doc": '<o:Bill xmlns:o="urn:bills" no="7"><o:line kind="toll">4.50</o:line><o:line kind="fee">1</o:line></o:Bill>',
    "open": True, "big": 10**30, "stay": "P1DT12H", "words": ["a", "b", "a"],
}

GIVES: list[tuple[str, Any]] = [
    ('xpath(doc, "//b:line", "b=urn:bills")', ["4.50", "1"]), ('first(xpath(doc, "/b:Bill/@no", "b=urn:bills"))', "7"), ('xpath(doc, "count(//b:line)", "b=urn:bills")', ["2"]),
    ('decimal(coalesce(xpath(doc, "//b:line[@kind=\'toll\']", "b=urn:bills")[0], "0")) * 2', Decimal("9.00")), ('xpath("<a><b/></a>", "//c")', []),
    ("1 + 2 * count_of", 11), ("7 // 2", 3), ("-7 // 2", -4), ("-7 % 3", 2), ("7.5 // 2", 3), ("-7.5 // 2", -4), ("-7.5 % 2", Decimal("0.5")),
    ("0.1 + 0.2", Decimal("0.3")), ("1 / 3", Decimal("0.3333333333333333333333333333")), ("fee * 3 - 0.01", Decimal("37.49")),
    ("big * big", 10**60), ("decimal(big) * 1.000000000000000000000000000001", Decimal(10**30 + 1)),
    ("vessel.speed * 2", 11.0), ("vessel.speed + count_of", 10.5), ("round(2.5)", Decimal(2)), ("round(2.675, 2)", Decimal("2.68")),
    ('round(2.665, 2, "half-up")', Decimal("2.67")), ("round(1250, -2)", Decimal(1200)), ("floor(-1.5)", -2), ("ceiling(1.1)", 2), ("abs(-fee)", Decimal("12.50")),
    ("whole('42')", 42), ("whole(3.0)", 3), ("decimal('1.10')", Decimal("1.10")), ("text(fee)", "12.50"), ("text(open)", "true"),
    ('"LK-" + text(count_of)', "LK-5"), ('f"{vessel.name}: {vessel.lengthM} m on {day}"', "Grey Wagtail: 17.40 m on 2026-01-31"),
    ("upper(vessel.kind)", "BARGE"), ("vessel.registration[3:]", "0412"), ("length(vessel.name)", 12), ("split('a,b', ',')", ["a", "b"]),
    ("pad_left(text(count_of), 4, '0')", "0005"), ("replace(vessel.name, 'Grey', 'Pied')", "Pied Wagtail"), (r"matches(vessel.registration, 'LK-\d{4}')", True),
    ("starts_with(vessel.name, 'Grey') and ends_with(vessel.name, 'tail')", True), ("'Wag' in vessel.name", True), ("contains(vessel.name, 'x')", False),
    ("day + months(1)", datetime.date(2026, 2, 28)), ("day + days(1)", datetime.date(2026, 2, 1)), ("day - date('2026-01-01')", "P30D"),
    ("at + hours(20)", datetime.datetime(2026, 2, 1, 5, tzinfo=datetime.UTC)), ("stay + hours(13)", "P2DT1H"), ("stay > hours(35)", True), ("stay == hours(36)", True),
    ("date(at)", datetime.date(2026, 1, 31)), ("year_month(day)", "2026-01"), ("weekday(day)", 6), ("days_between(vessel.built, day)", 11629),
    ("seconds_between(at, at + minutes(2))", Decimal(120)), ("time('06:30:00') < without_zone(time(at))", True),
    ("count(moves)", 3), ("sum(one.tonnes for one in moves)", Decimal("6.75")), ("sum([])", 0), ("average(one.tonnes for one in moves)", Decimal("2.25")),
    ("average(one.tonnes for one in moves if one.tonnes > 99)", None), ("min(one.on for one in moves)", datetime.date(2026, 1, 1)), ("max(3, count_of, 4)", 5),
    ("first(moves).kind if first(moves) is not None else 'none'", "tug"), ("last(some).tonnes", Decimal("9.00")), ("some[0].kind", "barge"), ("moves[7] is None", True),
    ("[one.kind for one in moves if one.cargo is not None]", ["barge", "tug"]), ("[one.cargo for one in moves if one.cargo is not None and length(one.cargo) > 3]", ["salt", "coal"]),
    ("distinct(one.kind for one in moves)", ["tug", "barge"]), ("distinct(words)", ["a", "b"]), ("reverse(words)", ["a", "b", "a"]), ("join(words, '-')", "a-b-a"),
    ('[one.on for one in sort_by(moves, "on", True)]', [datetime.date(2026, 1, day) for day in (3, 2, 1)]),
    ('[(one.key + text(count(one.items))) for one in sort_by(group_by(moves, "kind"), "key")]', ["barge1", "tug2"]),
    ('[one.tonnes for one in sort_by(moves, lambda one: one.tonnes * -1)]', [Decimal("3.25"), Decimal("2.00"), Decimal("1.50")]),
    ('coalesce(index_by(moves, "kind")["barge"], some[0]).tonnes', Decimal("2.00")), ('index_by(moves, "kind")["tanker"] is None', True),
    ("map(moves, lambda one: one.tonnes)", [Decimal("1.50"), Decimal("2.00"), Decimal("3.25")]), ("count(where(moves, lambda one: one.tonnes >= 2))", 2),
    ("any(one.tonnes > 3 for one in moves)", True), ("all(moves, lambda one: one.kind == 'tug')", False), ("flatten([[1], [2, 3]])", [1, 2, 3]),
    ("sum(number * number for number in numbers(1, 10))", 385), ("[a + b for a in ['x', 'y'] for b in words]", ["xa", "xb", "xa", "ya", "yb", "ya"]),
    ("coalesce(note, vessel.notes, 'nothing said')", "nothing said"), ("note is None", True), ("note == 'x'", False), ("vessel.permit is None or vessel.permit.validTo < day", True),
    ("'wide' if vessel.lengthM > 15 else 'slim'", "wide"), ("vessel.kind in ['barge', 'tanker']", True), ("not open or count_of == 5", True), ("1 < count_of <= 5", True),
    ("recode(vessel.kind, {'barge': 'B', 'tug': 'T', 'tanker': 'K'})", "B"), ("recode(vessel.name, {'x': 'y'}, 'other')", "other"),
    ('{"kind": vessel.kind, "notes": vessel.notes}', {"kind": "barge"}), ('[{"k": one.kind, "t": one.tonnes} for one in some]', [{"k": "barge", "t": Decimal("9.00")}]),
    ("count_of if vessel.crew > 2 else fee", 5), ("[1, 2] + [3]", [1, 2, 3]), ("None if open else 3", None), ("vessel.name[0:4]", "Grey"),
]


@pytest.mark.parametrize(("text", "value"), GIVES, ids=[text for text, _ in GIVES])
def test_an_expression_gives_a_value(text: str, value: Any) -> None:
    found = compile_expression(text, NAMES, "here").value(VALUES)
    assert found == value
    assert type(found) is type(value) or isinstance(found, Decimal)


@pytest.mark.parametrize("path", ["//*[.//*[.//*]]", "//*[count(//*) > 1]", "//b//b//b", "//*[preceding::*[following::*]]", "//*[../*[../*]]"])
def test_a_path_that_would_look_at_everything_again_and_again_is_refused(path: str) -> None:
    found = compile_expression(f'xpath(doc, "{path}")', NAMES, "here")
    with pytest.raises(ProblemError, match="may look at too much"):
        found.value({**VALUES, "doc": f"<a>{'<b/>' * 5000}</a>"})
    assert compile_expression('count(xpath(doc, "//b"))', NAMES, "here").value({**VALUES, "doc": f"<a>{'<b/>' * 5000}</a>"}) == 5000


# What is wrong, the code, the character at which it begins, and what must be told of types or names.
WRONG: list[tuple[str, str, int, str]] = [
    ('xpath(doc, "//b:line")', "xpath", 12, "b=urn:…"), ('xpath(doc, "//line[")', "xpath", 12, "XPath 1.0"), ('xpath(doc, note)', "absent", 12, "may be absent"),
    ('xpath(doc, vessel.name)', "constant", 12, "written out"), ('xpath(doc, "document(\'file:///etc/passwd\')")', "xpath", 12, "document()"), ('xpath(count_of, "//a")', "type", 7, "whole number"),
    ('xpath(doc, "//a", "b")', "xpath", 19, "a prefix"), ('xpath(doc, "//a[. = $x]")', "xpath", 12, "variables"),
    ("", "empty", 0, "expression"), ("   ", "empty", 0, "expression"), ("1 +", "syntax", 4, ""), ("(1", "syntax", 1, ""), ("1) + (2", "syntax", 2, ")"),
    ("vessel.", "syntax", 8, ""), ("a b", "syntax", 1, ""), ("count_of = 3", "syntax", 1, ""), ("'open", "syntax", 1, ""), ("1 # one", "syntax", 3, "remarks"),
    ("\x00", "syntax", 1, ""), ("lambda: 1", "not-allowed", 1, "one name"), ("lambda x: x", "lambda", 1, "call of map"), ("x := 3", "not-allowed", 1, "keeps none"), ("(x := 3)", "not-allowed", 2, "keeps none"),
    ("vessl.name", "name", 1, "Did you mean vessel"), ("Vessel.name", "name", 1, "Did you mean vessel"), ("nme", "name", 1, "vessel, moves"), ("count", "name", 1, "count(list)"),
    ("vessel.nam", "field", 1, "Did you mean name"), ("vessel.LengthM", "field", 1, "Did you mean lengthM"), ("first(some).weight", "field", 1, "record Move"), ("some[0].kin", "field", 1, "kind"),
    ("fee.amount", "type", 1, "decimal number"), ("moves.kind", "type", 1, "go through them"), ("words.x", "type", 1, "list of text"),
    ("fee + vessel.name", "type", 1, "decimal number + text"), ("vessel.name + 3", "type", 1, "text(3)"), ("3 + vessel.name", "type", 1, "text(3)"), ("day + 3", "type", 1, "days(3)"), ("at - 1", "type", 1, "days(1)"),
    ("day + day", "type", 1, "date + date"), ("open + 1", "type", 1, "true or false + whole number"), ("vessel.name * 3", "type", 1, "text"), ("vessel.name / 2", "type", 1, "text"), ("-vessel.name", "type", 2, "a number"),
    ("not fee", "type", 5, "true or false"), ("fee and open", "type", 1, "true or false"), ("1 if fee else 2", "type", 6, "true or false"), ("1 if open else 'x'", "type", 16, "whole number"),
    ("fee + vessel.speed", "type", 1, "not exact"), ("vessel.speed // 2", "type", 1, "exact"), ("[1, 'a']", "type", 5, "whole number"), ("words + [1]", "type", 9, "list of whole number"), ("day - at", "type", 1, "date - moment"),
    ("vessel.notes + 'x'", "absent", 1, "coalesce(vessel.notes"), ("upper(note)", "absent", 7, "text that may be absent"), ("late < day", "absent", 1, "is not None"), ("note if open else 'x'[0]", "type", 19, ""),
    ("vessel.permit.number", "absent", 1, "record Permit that may be absent"), ("moves[0].kind", "absent", 1, "record Move that may be absent"), ("first(moves).kind", "absent", 1, "may be absent"),
    ("max(one.tonnes for one in moves) + 1", "absent", 1, "may be absent"), ("sum(one.tonnes for one in moves) + vessel.tonnes", "absent", 36, "may be absent"), ("note is None and length(note) > 3", "absent", 25, "may be absent"),
    ("note is not None or length(note) > 3", "absent", 28, "may be absent"), ("f'{note}'", "absent", 4, "may be absent"), ('index_by(moves, "kind")["tug"].tonnes', "absent", 1, "may be absent"), ('sort_by(moves, "cargo")', "absent", 16, "order may be absent"),
    ("length(one.cargo for one in moves)", "type", 7, "text"), ("join([one.cargo for one in moves], ',')", "type", 6, "list of texts"), ("sum(one.cargo for one in moves)", "type", 4, "list of numbers"), ("sum(words)", "type", 5, "list of text"), ("average(fee)", "type", 9, "a list"),
    ("count(fee)", "type", 7, "a list"), ("distinct(moves)", "type", 10, "simple values"), ("first(3)", "type", 7, "a list"), ("max(moves)", "type", 5, "with an order"), ("max(open, open)", "type", 1, "with an order"),
    ("vessel.kind == 'barg'", "code", 16, "Did you mean barge"), ("'boat' == vessel.kind", "code", 1, "barge, tug, tanker"), ("vessel.kind in ['tug', 'bargee']", "code", 24, "Did you mean barge"), ("vessel.kind != 'Tug'", "code", 16, "Did you mean tug"),
    ("recode(vessel.kind, {'tugg': 'T'})", "code", 22, "barge, tug, tanker"), ("day == '2026-01-01'", "compare", 1, "date('2026-01-01')"), ("fee > '3'", "compare", 1, "quotes"), ("at > day", "compare", 1, "date(at)"), ("vessel == vessel", "compare", 1, "record Vessel"),
    ("open < open", "compare", 1, "true or false"), ("moves == some", "compare", 1, "list of record Move"), ("fee is 3", "compare", 1, "== or !="), ("3 in words", "compare", 1, "text"), ("fee in fee", "type", 8, "a list"), ("vessel.speed == vessel.lengthM", "compare", 1, "floating-point number"),
    ("1 / 0", "zero", 5, "other than 0"), ("fee % 0", "zero", 7, "other than 0"), ("fee // 0.0", "zero", 8, "other than 0"), ("date('2026-13-01')", "value", 6, "a date like"), ("whole('3.5')", "value", 7, "whole number"), ("moment('x')", "value", 8, "date and time"), ("1e999", "value", 1, "too many digits"),
    ("matches(note, '(')", "absent", 9, "may be absent"), ("matches(vessel.name, '(')", "pattern", 22, "cannot be read"), ("matches(vessel.name, vessel.kind)", "constant", 22, "written out"), ("round(fee, 2, 'up-ish')", "argument", 15, "half-even"), ("round(fee, 2, vessel.name)", "constant", 15, "written out"),
    ("uper(vessel.name)", "function", 1, "Did you mean upper"), ("upper()", "argument", 1, "upper(text)"), ("upper('a', 'b')", "argument", 1, "2 arguments"), ("round(fee, places=2)", "argument", 1, "no names"), ("upper(fee)", "type", 7, "text(fee)"), ("year('2026')", "type", 6, "date"), ("days(1.5)", "type", 6, "whole number"),
    ("map(moves, upper)", "lambda", 12, "lambda one"), ("map(moves, lambda a, b: a)", "not-allowed", 12, "one name"), ("map(moves, lambda fee: fee)", "name", 19, "taken"), ("[vessel for vessel in moves]", "name", 13, "taken"), ('group_by(moves, "knd")', "field", 17, "Did you mean kind"), ("where(moves, lambda one: one.tonnes)", "type", 14, "true or false"),
    ("[one for one in fee]", "type", 17, "a list"), ("[one for one, two in moves]", "not-allowed", 10, "one name"), ("{'a b': 1}", "record", 2, "named by texts"), ("{'a': 1, 'a': 2}", "record", 10, "stands twice"), ("{1: 2}", "record", 2, "named by texts"), ("words['a']", "type", 7, "counted from 0"), ("fee[0]", "type", 1, "a list"), ("vessel.name[0]", "type", 1, "a list"),
    ("words[::2]", "not-allowed", 9, "no step"), ("f'{fee:>10}'", "not-allowed", 1, "as it is"), ("f'{moves}'", "type", 4, "one text"), ("(1, 2)", "not-allowed", 1, ""), ("b'x'", "not-allowed", 1, "no such values"), ("...", "not-allowed", 1, "no such values"), ("1j", "not-allowed", 1, "no such values"),
]


@pytest.mark.parametrize(("text", "code", "position", "told"), WRONG, ids=[f"{number} {text}" for number, (text, *_) in enumerate(WRONG)])
def test_a_wrong_expression_is_told_with_its_position_and_the_types(text: str, code: str, position: int, told: str) -> None:
    with pytest.raises(ProblemError) as caught:
        compile_expression(text, NAMES, "here")
    problem = caught.value.problem
    assert problem.code == f"expression.{code}"
    assert not position or problem.place == f"here, character {position}"
    assert told in problem.sentence()


def test_there_are_a_hundred_wrong_ones() -> None:
    assert len(WRONG) >= 100
    assert len({text for text, *_ in WRONG}) == len(WRONG)


# Known ways to talk Python's expressions into something else.
TRICKS = [
    "__import__('os').system('true')", "().__class__.__bases__[0].__subclasses__()", "vessel.__class__", "''.__class__.__mro__", "(lambda: 0).__globals__",
    "[one for one in ().__class__.__base__.__subclasses__()]", "eval('1')", "exec('1')", "compile('1', '', 'eval')", "open('/etc/passwd')", "getattr(vessel, '__class__')", "globals()", "locals()", "vars()", "type(vessel)",
    "vessel['__class__']", "f'{vessel.__class__}'", "'{0.__class__}'.format(vessel)", "'%s' % vessel", "str(vessel)", "print('x')", "input()", "help()", "breakpoint()", "__builtins__", "__name__", "s", "b", "v_one", "c0", "_visit", "_joined", "s['vessel']",
    "[(lambda x: x)(1)]", "(lambda x: x)(1)", "map(moves, lambda one: one.__dict__)", "vessel.name.upper()", "vessel.name.__len__()", "vessel.get('name')", "words.append('x')", "9 ** 9 ** 9", "1 << 999999", "'a' * 10 ** 9", "[0] * 10 ** 9", "2 ** -1",
    "await fee", "yield 1", "async_", "[*words]", "{**vessel}", "upper(*words)", "{one for one in words}", "{one: 1 for one in words}", "[one async for one in words]", "fee @ fee", "fee | fee", "~count_of", "count_of if", "import os", "fee; fee", "fee\nfee", "fee)(", "fee]", "(((((", "0x" + "f" * 3000,
]


@pytest.mark.parametrize("text", TRICKS, ids=range(len(TRICKS)))
def test_python_itself_is_out_of_reach(text: str) -> None:
    with pytest.raises(ProblemError):
        compile_expression(text, NAMES, "here")


@pytest.mark.parametrize("text", [
    "(" * 4000, "-" * 3999 + "1", "not " * 900 + "open", "[" * 500 + "]" * 500, "1" + "+1" * 1990, "lambda x: " * 300 + "1", "fee" + ".a" * 1900, "'" + "x" * 5000 + "'", "x" * 4000, "1" * 3999, "f'" + "{fee}" * 790 + "'", "{'a':" * 300,
    "vessel" + "[0]" * 1300, "(" * 59 + "fee" + ")" * 59 + "(" * 3000,
])
def test_what_is_meant_to_burn_the_reader_ends_at_once(text: str) -> None:
    with pytest.raises(ProblemError):
        compile_expression(text, NAMES, "here")


BURNING = [
    "[a for a in numbers(1, 1000000)]", "[a for a in numbers(1, 100000) for b in numbers(1, 100000)]", "sum(a * b for a in numbers(1, 9999) for b in numbers(1, 9999))",
    "count([c for a in numbers(1, 300) for b in numbers(1, 300) for c in numbers(1, 300)])", "numbers(1, 10 * 1000 * 1000 * 1000)", "numbers(1, big)",
]


@pytest.mark.parametrize("text", BURNING)
def test_time_and_memory_are_bounded(text: str) -> None:
    """A small budget is spent soon; what may be allocated until then is bounded, too."""
    compiled = compile_expression(text, NAMES, "here")
    tracemalloc.start()
    with pytest.raises((SpentError, ProblemError)):
        compiled.run(VALUES, Budget(AT_ONCE))
    peak = tracemalloc.get_traced_memory()[1]
    tracemalloc.stop()
    assert peak < 20_000_000


def test_texts_and_numbers_that_double_are_stopped() -> None:
    """A loop of a workflow could say it again and again."""
    text, number, exact = "x" * 10, 3, Decimal("1.1")
    doubled = compile_expression("note + note", NAMES | {"note": NAMES["vessel"].field("name")}, "here")  # type: ignore[dict-item]
    squared = compile_expression("big * big", NAMES, "here")
    sharper = compile_expression("fee * fee", NAMES | {"fee": type_of(Element("f", SimpleType("decimal")))}, "here")
    for compiled, name, value in ((doubled, "note", text), (squared, "big", number), (sharper, "fee", exact)):
        with pytest.raises(ProblemError) as caught:  # noqa: PT012 — at which round it is stopped is its own business
            for _ in range(60):
                value = compiled.value({name: value})
        assert caught.value.problem.code == "expression.failed"
        assert sys.getsizeof(value) < 2_000_000


def test_values_can_break_what_is_right_and_are_told() -> None:
    for text, values, words in (
            ("fee / count_of", VALUES | {"count_of": 0}, "divides by zero"), ("whole(vessel.name)", VALUES, "not a whole number"), ("whole(fee)", VALUES, "not a whole number"),
            ("day + days(big)", VALUES, "calendar"), ("at < moment(vessel.name)", VALUES, "date and time"), ("vessel.seen < at", VALUES | {"at": datetime.datetime(2026, 1, 1)}, "time zone"),
            ("stay > months(1)", VALUES | {"stay": "P30D"}, "cannot be compared"), ("vessel.name", {"vessel": {}}, "is absent")):
        with pytest.raises(ProblemError) as caught:
            compile_expression(text, NAMES, "here").value(values)
        assert caught.value.problem.code == "expression.failed"
        assert words in caught.value.problem.sentence(), text


def test_a_condition_says_what_is_there_afterwards() -> None:
    found = compile_condition("note is not None and vessel.permit is not None", NAMES, "here")
    assert found.when_true == {"note", "vessel.permit"}
    assert not found.when_false
    assert compile_condition("note is None or late is None", NAMES, "here").when_false == {"note", "late"}
    assert compile_condition("not (note is None)", NAMES, "here").when_true == {"note"}
    assert compile_condition("note == 'x'", NAMES, "here").when_true == {"note"}


OUT = Record("Out", (
    Element("number", SimpleType("string", max_length=6)), Element("toll", MONEY), Element("kind", SimpleType("string", codes=("barge", "tug")), 0),
    Element("line", Record("Line", (Element("code", SimpleType("string", max_length=4)), Element("amount", MONEY), Element("day", DATE, 0))), 0, 3),
    Element("ship", Record("Ship", (Element("name", TEXT), Element("notes", TEXT, 0)))), Element("limit", INT, 0, default=20),
))
FULL = {"number": "=PS-1", "toll": "fee", "ship": {"name": "vessel.name"}}


def test_a_map_fills_a_record() -> None:
    lines = {"for_each": "moves", "item": "one", "only_if": "one.cargo is not None", "at_most": 1, "give": {"code": "one.cargo", "amount": "one.tonnes", "day": "one.on"}}
    found = compile_map(FULL | {"kind": "=tug", "line": lines}, OUT, NAMES, "reply").value(VALUES)
    assert found == {"number": "PS-1", "toll": Decimal("12.50"), "kind": "tug", "ship": {"name": "Grey Wagtail"}, "limit": 20,
                     "line": [{"code": "salt", "amount": Decimal("2.00"), "day": datetime.date(2026, 1, 2)}]}
    whole = compile_map({"number": "vessel.registration[0:4]", "toll": "count_of", "ship": "vessel", "line": '[{"code": "X", "amount": 1}]'}, OUT, NAMES, "reply")
    assert whole.value(VALUES)["ship"] == {"name": "Grey Wagtail"}
    assert whole.value(VALUES)["toll"] == Decimal(5)


@pytest.mark.parametrize(("change", "code", "place", "told"), [
    ({"number": None}, "map.required", "reply", "number is required"), ({"ship": {}}, "map.required", "reply", "ship.name is required"), ({"tol": "fee"}, "map.target", "reply, tol", "number, toll"), ({"ship": {"nam": "fee"}}, "map.target", "reply, ship, nam", "name, notes"),
    ({"toll": "vessel.name"}, "expression.type", "reply, toll, character 1", "decimal number"), ({"toll": "vessel.tonnes"}, "expression.absent", "reply, toll, character 1", "may be absent"), ({"toll": "'12'"}, "expression.type", "reply, toll, character 1", "quotes"), ({"toll": "=x"}, "value.type", "reply, toll", "decimal number"),
    ({"toll": "1.234"}, "expression.value", "reply, toll, character 1", "digits"), ({"number": "'PS-00001'"}, "expression.value", "reply, number, character 1", "length"), ({"kind": "'boat'"}, "expression.code", "reply, kind, character 1", "barge, tug"), ({"kind": "vessel.kind"}, "expression.code", "reply, kind, character 1", "tanker"),
    ({"kind": "day"}, "expression.type", "reply, kind, character 1", "text(…)"), ({"line": "moves"}, "expression.required", "reply, line, character 1", "code of line"), ({"line": "some[0]"}, "expression.type", "reply, line, character 1", "[some[0]]"), ({"line": '[{"code": "X"}]'}, "expression.required", "reply, line, character 2", "amount is required"),
    ({"line": '[{"code": "X", "amount": 1, "dy": 2}]'}, "expression.field", "reply, line, character 29", "code, amount, day"), ({"line": {"code": "1"}}, "map.kind", "reply, line", "for_each"), ({"line": {"for_each": "moves"}}, "map.items", "reply, line", "item"), ({"ship": "fee"}, "expression.type", "reply, ship, character 1", "record Ship"), ({"ship": "moves"}, "expression.type", "reply, ship, character 1", "first("),
    ({"limit": "fee"}, "expression.type", "reply, limit, character 1", "whole(…)"), ({"toll": {"a": "1"}}, "map.kind", "reply, toll", "one expression"),
])
def test_a_map_that_does_not_fit_is_told_at_its_place(change: dict[str, Any], code: str, place: str, told: str) -> None:
    tree = {name: value for name, value in (FULL | change).items() if value is not None}
    with pytest.raises(ProblemError) as caught:
        compile_map(tree, OUT, NAMES, "reply")
    problem = caught.value.problem
    assert (problem.code, problem.place) == (code, place)
    assert told in problem.sentence()


def test_facets_that_only_a_value_can_break_are_held_when_it_is_put_there() -> None:
    for change, words in (({"number": "vessel.name"}, "wrong length"), ({"toll": "fee * 100000000"}, "too many digits"), ({"line": '[{"code": "X", "amount": one} for one in numbers(1, 9)]'}, "another number of items")):
        with pytest.raises(ProblemError) as caught:
            compile_map(FULL | change, OUT, NAMES, "reply").value(VALUES)
        assert words in caught.value.problem.sentence()


_PARTS = st.sampled_from(["vessel", "moves", "fee", "note", "day", "1", "0", "1.5", "'x'", "None", "+", "-", "*", "/", "==", "<", "in", "is", "not", "and", "or", "if", "else", "for", "one", "lambda", "(", ")", "[", "]", "{", "}", ":", ",", ".", ".name", "sum", "count", "first", "map", "f'{", "}'", "__class__", "\n", "é"])


@settings(max_examples=400, deadline=None)
@given(st.lists(_PARTS, max_size=14))
def test_whatever_is_written_is_refused_or_gives_a_value(parts: list[str]) -> None:
    try:
        compiled = compile_expression(" ".join(parts), NAMES, "here")
    except ProblemError as error:
        assert all(one.message and one.place for one in error.problems)
        return
    try:
        compiled.value(VALUES, 10_000)
    except ProblemError as error:
        assert error.problem.code in ("expression.failed", "expression.spent")


@settings(max_examples=200, deadline=None)
@given(st.text(max_size=30))
def test_any_text_is_read_or_refused(text: str) -> None:
    try:
        compile_expression(text, NAMES, "here")
    except ProblemError as error:
        assert error.problem.place.startswith("here")


@settings(max_examples=150, deadline=None)
@given(st.decimals(-10**9, 10**9, places=4), st.decimals(-10**9, 10**9, places=4), st.sampled_from(["+", "-", "*"]))
def test_decimals_are_exact(one: Decimal, other: Decimal, sign: str) -> None:
    from fractions import Fraction

    names = {"a": type_of(Element("a", SimpleType("decimal"))), "b": type_of(Element("b", SimpleType("decimal")))}
    found = compile_expression(f"a {sign} b", names, "here").value({"a": one, "b": other})
    exact = {"+": Fraction(one) + Fraction(other), "-": Fraction(one) - Fraction(other), "*": Fraction(one) * Fraction(other)}[sign]
    assert Fraction(found) == exact


def test_names_of_contracts_that_are_no_names_here() -> None:
    """`order-id` is `order_id`, `from` is `from_`; a name that is one means itself."""
    inner = record_of((("from", Type(Of.DATE)), ("to.day", Type(Of.DATE)), ("plain", Type(Of.TEXT))))
    names = {"order-id": Type(Of.TEXT), "class": inner, "a-b": Type(Of.TEXT), "a_b": Type(Of.WHOLE), "2nd": Type(Of.TEXT)}
    values = {"order-id": "O-1", "class": {"from": datetime.date(2026, 11, 1), "to.day": datetime.date(2026, 11, 3), "plain": "x"}, "a-b": "dash", "a_b": 7, "2nd": "two"}
    for text, expected in (("order_id", "O-1"), ("class_.from_", datetime.date(2026, 11, 1)), ("days_between(class_.from_, class_.to_day)", 2),
                           ("a_b", 7), ("_2nd", "two"), ("[one.from_ for one in [class_]]", [datetime.date(2026, 11, 1)])):
        assert compile_expression(text, names, "here").value(values) == expected
    with pytest.raises(ProblemError):
        compile_expression("class_.until", names, "here")
