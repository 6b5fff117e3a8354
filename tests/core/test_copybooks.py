"""Copybooks and records held against what a compiler made of them (tests/core/vectors/copybooks), and what is wrong with a copybook in words."""

import json
import re
from collections.abc import Iterator
from decimal import Decimal
from importlib.resources import files
from pathlib import Path
from typing import Any

import pytest

from bricola.core.cobol import decode, encode
from bricola.core.cobol.describing import described
from bricola.core.cobol.layout import record_of, records_of
from bricola.core.problems import ProblemError
from tests.length import often

VECTORS = Path(__file__).parent / "vectors" / "copybooks"
TOLL_AREA = Path(str(files("bricola.demo.programs"))) / "TOLLAREA.cpy"
POINT = (VECTORS / "LKPOINT.cpy").read_text()


def cases() -> Iterator[Any]:
    for file in sorted((VECTORS / "vectors").glob("*.json")):
        vectors = json.loads(file.read_text())
        for run in vectors["runs"]:
            for case in run["cases"]:
                yield pytest.param(vectors, run, case, id=f"{file.stem}: {case['name']}{'' if run['options'].get('binary_truncate', True) else ', not cut'}")


def texts(values: Any) -> Any:
    if isinstance(values, dict):
        return {name: texts(one) for name, one in values.items()}
    return [texts(one) for one in values] if isinstance(values, list) else str(values)


@pytest.mark.parametrize(("vectors", "run", "case"), list(cases()))
def test_bytes_are_the_values_of_the_compiler_and_back(vectors: Any, run: Any, case: Any) -> None:
    copybook = (VECTORS / vectors["copybook"]).read_text()
    options = {"source_format": vectors["source_format"], "members": {"LKPOINT": POINT}, "table_follows": run["table_follows"],
               "views": case.get("views_that_hold", {}), **run["options"]}
    for held in case["bytes"]:
        data = bytes.fromhex(held["hex"])
        if case.get("not_usable"):
            alone = {"views": {item: views[:1] for item, views in case.get("views_that_hold", {}).items()}}
            with pytest.raises(ProblemError, match="cannot be read: it is"):
                decode(copybook, data, held["codepage"], options | alone)
        values = decode(copybook, data, held["codepage"], options | {"bad_numbers": "absent"})
        assert texts(values) == case["values"]
        if case["encode"]:
            made = bytearray(encode(copybook, case["values"], held["codepage"], options))
            for offset, length in case.get("not_in_a_named_field", []):
                made[offset:offset + length] = data[offset:offset + length]
            assert made.hex(" ") == data.hex(" ")
            assert decode(copybook, bytes(made), held["codepage"], options) == values  # the fast way and the careful one agree


@pytest.mark.parametrize(("vectors", "run", "case"), list(cases()))
def test_every_item_lies_where_the_compiler_put_it(vectors: Any, run: Any, case: Any) -> None:
    records = records_of((VECTORS / vectors["copybook"]).read_text(), vectors["source_format"], {"LKPOINT.cpy": POINT})
    layout = described(record_of(records, vectors["record"]), run["options"].get("binary_truncate", True))
    rows = {one["path"]: one for one in layout["items"]}

    def offset(path: str) -> int:
        parts = path.split(".")
        moved = 0
        for count in range(1, len(parts) + 1):
            index = re.search(r"\[(\d+)\]$", parts[count - 1])
            if index:
                moved += (int(index[1]) - 1) * rows[re.sub(r"\[\d+\]", "", ".".join(parts[:count]))]["length"]
        return rows[re.sub(r"\[\d+\]", "", path)]["offset"] + moved

    for one in case["fields"]:
        row = rows[re.sub(r"\[\d+\]", "", one["path"])]
        found = {"path": one["path"], "offset": offset(one["path"])} | {name: row.get(name) for name in ("length", "kind", "picture", "digits", "scale")}
        assert found == {"path": one["path"]} | {name: one.get(name) for name in ("offset", "length", "kind", "picture", "digits", "scale")}
        assert sorted(row["flags"]) == sorted(one["flags"])
    for one in case["groups"]:
        if one["path"] != vectors["record"]:
            assert (offset(one["path"]), rows[re.sub(r"\[\d+\]", "", one["path"])]["length"]) == (one["offset"], one["length"])
    assert layout["shortest"] <= case["record_length"] <= layout["length"]


def test_the_area_of_a_program_is_written_and_read() -> None:
    copybook = TOLL_AREA.read_text()
    for call in json.loads((VECTORS / "demo" / "examples.json").read_text())["calls"]:
        for page in ("ascii", "cp037"):
            area = bytes.fromhex(call[page]["reply_hex"])  # behind a table that is not full is what is left of the area
            values = decode(copybook, area, page)
            assert texts(values)["TOLL-AREA"]["TOLL-REQUEST"] == call["request"]
            assert texts(values)["TOLL-AREA"]["TOLL-REPLY"] == {name: one for name, one in call["reply"].items() if one != []}
            assert encode(copybook, values, page) == area[:call["area_used"]]


SLIDING = """
01 SHEET.
   05 N PIC 9.
   05 M PIC 9.
   05 DAY OCCURS 0 TO 3 DEPENDING ON N.
      10 K PIC 9.
      10 BOAT PIC X(2) OCCURS 1 TO 4 DEPENDING ON K.
      10 TIDE PIC S9 SIGN TRAILING SEPARATE.
   05 NOTE PIC X(3).
   05 LOCK OCCURS 1 TO 2 DEPENDING ON M PIC 99.
   05 LAST-ONE PIC XX JUST.
"""


def test_what_follows_a_short_table_slides_or_stays() -> None:
    values = {"SHEET": {"N": "2", "M": "1", "DAY": [{"K": "1", "BOAT": ["AB"], "TIDE": "-3"}, {"K": "3", "BOAT": ["CD", "EF", "GH"], "TIDE": "4"}],
                        "NOTE": "yes", "LOCK": ["17"], "LAST-ONE": " Z"}}
    slid = encode(SLIDING, values, "ascii")
    assert slid == b"211AB3-3CDEFGH4+yes17 Z"
    assert texts(decode(SLIDING, slid, "ascii")) == values
    stayed = encode(SLIDING, values, "cp037", {"table_follows": "stays"})
    assert len(stayed) == 2 + 3 * 11 + 3 + 4 + 2
    assert texts(decode(SLIDING, stayed, "cp037", {"table_follows": "stays"})) == values
    counted = {"SHEET": {name: one for name, one in values["SHEET"].items() if name not in ("N", "M")}}
    assert encode(SLIDING, counted, "ascii") == slid  # the tables say how many there are
    for cut in range(len(slid)):
        with pytest.raises(ProblemError):
            decode(SLIDING, slid[:cut], "ascii")


FLOATS = """
01 WEATHER.
   05 A COMP-1.
   05 B COMP-2.
   05 S PIC S9(4) COMP SYNC.
   05 T OCCURS 2.
      10 C PIC X.
      10 D PIC S9(9) COMP SYNC.
   05 U PIC N(3).
   05 P POINTER.
   05 Z PIC 9(5) COMP-6.
   05 H BINARY-LONG UNSIGNED.
"""


def test_floats_slack_and_what_is_seldom() -> None:
    rows = {one["name"]: (one["offset"], one["length"]) for one in described(records_of(FLOATS)[0])["items"]}
    assert rows["S"] == (12, 2)
    assert (rows["T"], rows["D"]) == ((14, 8), (16, 4))  # slack before D, and none at the end
    values = {"WEATHER": {"A": "-118.625", "B": "0.1", "S": "-7", "T": [{"C": "x", "D": "1"}, {"C": "y", "D": "-2"}], "U": "ä→b", "P": "00FF00FF",
                          "Z": "12345", "H": "4294967295"}}
    for page in ("cp037", "ascii"):
        assert texts(decode(FLOATS, encode(FLOATS, values, page), page)) == values
    hexadecimal = encode(FLOATS, values, "cp037")
    assert hexadecimal[:12].hex() == "c276a000" + "401999999999999a"  # the textbook's example, and a tenth in 56 bits
    assert encode(FLOATS, values, "ascii")[:4].hex() == "0040edc2"
    for text in ("1E-70", "7.2E75", "0.333333333333333333", "123456789.125"):
        one = {"X": {"D": Decimal(text)}}
        back = decode("01 X. 05 D COMP-2.", encode("01 X. 05 D COMP-2.", one, "cp037"), "cp037")["X"]["D"]
        assert abs(back - Decimal(text)) <= abs(Decimal(text)) * Decimal("1e-16")


WRONG = [
    ("01 A.\n   05 B PIC X(3)\n   05 C PIC X.", "line 3, column 4", "does not end before the next begins"),
    ("01 A.\n   05 B PIC 9(3.", "line 2, column", "cannot be understood"),
    ("01 A.\n   05 B PIC 9V9V9.", "line 2, column 13", "V at most once"),
    ("01 A.\n   05 B PIC X(3).\n   05 C PIC X.\n   05 D REDEFINES B PIC X.", "line 4, column 9", "C stands between them: the two would overlap"),
    ("01 A.\n   05 B PIC X.\n   05 C REDEFINES D PIC X.", "line 3, column 9", "not before it on the same level"),
    ("01 A.\n   05 B PIC X OCCURS 3 TO 2 DEPENDING ON C.", "line 2", "cannot have these bounds"),
    ("01 A.\n   05 B PIC X OCCURS 1 TO 2 DEPENDING ON C.", "line 2", "depends on C, which is not before it"),
    ("01 A.\n   05 C PIC X.\n   05 B PIC X OCCURS 1 TO 2 DEPENDING ON C.", "line 3", "cannot count occurrences"),
    ("01 A.\n   05 B PICC X.", "line 2, column 9", "no clause of a data description entry"),
    ("01 A.\n   05 B PIC X VALUE 'abc.", "line 2, column 21", "A literal has no end"),
    ("01 A.\n   05 B.", "line 2, column 4", "has no PICTURE, and no items below it"),
    ("01 A.\n   05 B PIC X COMP-3.", "line 2", "needs a PICTURE of a number"),
    ("01 A.\n   05 B PIC X.\n     10 C PIC X.", "line 2", "has a PICTURE and items below it"),
    ("01 A.\n   COPY ELSEWHERE.", "line 2, column 9", "was not handed in"),
    ("01 A.\n   COPY SELF.", "SELF, line 1, column 6", "copies itself"),
    ("01 A. 05 B PIC X", "line 1, column", "has no end"),
    ("", "line 1, column 1", "no data description entry"),
    ("MOVE A TO B.", "line 1, column 1", "begins with a level number"),
    ("01 A. 05 B PIC X(99999999).", "line 1", "cannot be understood"),
    ("01 A. 05 T OCCURS 9999999. 10 U OCCURS 9999999 PIC X.", "line 1", "longer than anything"),
    ("000100 01  A.\n000200     05  B  PIC X.\n000300?    05  C  PIC X.", "line 3, column 7", "no such indicator"),
]


@pytest.mark.parametrize(("text", "place", "told"), WRONG, ids=[one[2] for one in WRONG])
def test_what_is_wrong_is_told_with_its_place(text: str, place: str, told: str) -> None:
    form = "fixed" if text.startswith("000100") else "free"
    with pytest.raises(ProblemError) as caught:
        records_of(text, form, {"SELF": "COPY SELF."})
    assert caught.value.problem.place.startswith(place)
    assert told in caught.value.problem.sentence()


BOTH = "01 R. 05 KEY-X PIC X(4). 05 AMOUNT PIC S9(5)V99 COMP-3. 05 N PIC 9(2). 05 L PIC X OCCURS 1 TO 3 DEPENDING ON N."
BAD_VALUES = [
    ({"KEY-X": "ABCDE"}, "R.KEY-X", "it has 5 characters, and 4 fit"),
    ({"KEY-X": "A€"}, "R.KEY-X", 'has no "€"'),
    ({"KEY-X": 7}, "R.KEY-X", "it is not a text"),
    ({"AMOUNT": "123456.00"}, "R.AMOUNT", "more digits"),
    ({"AMOUNT": "1.005"}, "R.AMOUNT", "more decimals"),
    ({"AMOUNT": "1." + "0" * 90 + "1"}, "R.AMOUNT", "more"),
    ({"AMOUNT": True}, "R.AMOUNT", "not a decimal number"),
    ({"AMOUNT": 1.5}, "R.AMOUNT", "not a decimal number"),
    ({"AMOUNT": " 1"}, "R.AMOUNT", "not a decimal number"),
    ({"N": "-1"}, "R.N", "it is negative"),
    ({"L": []}, "R.L", "1 to 3"),
    ({"L": ["a", "b", "c", "d"]}, "R.L", "1 to 3"),
    ({"N": "3"}, "R.L", "does not count the occurrences"),
    ({"KEY": "x"}, "R.KEY", "no such item"),
    ({"AMOUNT": None}, "R.AMOUNT", "No value is given"),
]


@pytest.mark.parametrize(("changed", "place", "told"), BAD_VALUES, ids=[f"{one[1]} {one[2]}" for one in BAD_VALUES])
def test_a_value_that_does_not_fit_is_refused_with_its_picture(changed: dict[str, Any], place: str, told: str) -> None:
    good = {"KEY-X": "ABC", "AMOUNT": "-1.50", "N": "2", "L": ["x", "y"]}
    assert encode(BOTH, {"R": good}, "cp037").hex() == "c1c2c3400000150df0f2a7a8"
    with pytest.raises(ProblemError) as caught:
        encode(BOTH, {"R": good | changed}, "cp037")
    assert caught.value.problem.place == place
    assert told in caught.value.problem.sentence()


BAD_BYTES = [
    ("c1c2c34040404040f0f2a7a8", "R.AMOUNT", "40 40 40 40"),
    ("c1c2c3400000150df0f9a7a8", "R.L", "1 to 3, found 9"),
    ("c1c2c3400000150df0f3a7a8", "R", "ends too early"),
    ("c1c2c3400000150df0f2a7a8000000", "R", "at most 13 bytes, found 15 bytes"),
    ("c1c2c3400000150d40f2a7a8", "R.N", "40 f2"),
]


@pytest.mark.parametrize(("data", "place", "told"), BAD_BYTES, ids=[f"{one[1]} {one[2]}" for one in BAD_BYTES])
def test_bytes_that_are_not_of_the_layout_are_told_with_item_offset_and_bytes(data: str, place: str, told: str) -> None:
    with pytest.raises(ProblemError) as caught:
        decode(BOTH, bytes.fromhex(data), "cp037")
    assert (caught.value.problem.place.split("[")[0], told in caught.value.problem.sentence()) == (place, True)


def test_code_pages_that_are_none_and_forms_that_are_others() -> None:
    with pytest.raises(ProblemError, match="no such code page"):
        decode(BOTH, b"", "cp9999")
    with pytest.raises(ProblemError, match="no such code page"):
        decode(BOTH, b"", "utf-16")
    with pytest.raises(ProblemError, match="source_format"):
        decode(BOTH, b"", "cp037", {"source_format": "loose"})
    fixed = f"{'000100 01  A.':72}ABCD0001\n000200     05  B PIC X(2).\n000300*    05  C PIC X.\n"
    assert decode(fixed, b"xy", "ascii") == {"A": {"B": "xy"}}
    assert decode("01 A. *> a record\n  05 B PIC X(2). *> two letters", b"xy", "ascii") == {"A": {"B": "xy"}}
    assert decode("05 B PIC 9(2). 05 C PIC X.", b"17z", "ascii", {"record": "PART"}) == {"PART": {"B": Decimal(17), "C": "z"}}
    translated = decode("01 A. 05 B PIC S9(3).", b"12}", "ascii", {"signs": "translated"})
    assert translated == {"A": {"B": Decimal(-120)}}


def test_what_is_copied_is_replaced_in_words_and_in_their_parts() -> None:
    member = "05 :P:-NAME PIC X(:L:).\n05 OLD-KEY PIC 9.\n05 KEPT PIC X."
    text = "01 A. COPY 'part.cpy' IN LIB REPLACING ==:P:== BY ==SHIP== ==(:L:)== BY ==(2)==  LEADING ==OLD== BY ==NEW== KEPT BY B-C."
    assert decode(text, b"xy1z", "ascii", {"members": {"PART": member}}) == {"A": {"SHIP-NAME": "xy", "NEW-KEY": Decimal(1), "B-C": "z"}}
    assert decode("01 A. 05 X-Y PIC X(TAG).", b"ab", "ascii", {"replacing": {"TAG": "2"}}) == {"A": {"X-Y": "ab"}}
    assert decode("01 A. EXEC SQL INCLUDE PART END-EXEC. 05 Q PIC X.", b"12q", "ascii", {"members": {"PART": "05 N PIC 9(2)."}})["A"] == {
        "N": Decimal(12), "Q": "q"}
    replaced = "REPLACE ==PRE== BY ==POST==. 01 A. 05 PRE PIC X. REPLACE OFF. 05 PRE PIC X."
    assert decode(replaced, b"xy", "ascii") == {"A": {"POST": "x", "PRE": "y"}}


def test_a_long_copybook_is_read_in_time_that_grows_with_it() -> None:
    lines = [f"           05  ITEM-{number:05}          PIC S9(5)V99 COMP-3." for number in range(often(5000, 20000))]
    record = records_of("       01  LONG-ONE.\n" + "\n".join(lines), "fixed")[0]
    assert record.length == len(lines) * 4
