"""Made-up copybooks, held against the COBOL compiler of this machine (Debian: gnucobol3): places, lengths, values, bytes."""

import random
import shutil
import subprocess
from dataclasses import dataclass, field
from decimal import Decimal
from pathlib import Path
from typing import Any

import pytest

from bricola.core.cobol import decode, encode
from bricola.core.cobol.describing import described
from bricola.core.cobol.layout import record_of, records_of
from tests.length import often

HELPER = Path(__file__).parent / "vectors" / "copybooks" / "vecfld.c"
USAGES = ("", "", "", "COMP", "COMP-3", "COMP-5", "COMP-1", "COMP-2", "PACKED-DECIMAL", "BINARY")


@dataclass
class Made:
    """A made-up record: its lines, what is moved where, what its values are, and which items are looked at."""

    name: str
    lines: list[str] = field(default_factory=list)
    moves: list[str] = field(default_factory=list)
    values: dict[str, Any] = field(default_factory=dict)
    looked_at: list[tuple[str, str]] = field(default_factory=list)  # path, how the program says it


class Maker:
    def __init__(self, seed: int, slides: bool) -> None:
        self.dice, self.slides, self.number = random.Random(seed), slides, 0

    def record(self, name: str) -> Made:
        made = Made(name, [f"01  {name}."])
        self.group(made, 5, name, made.values, [], 0)
        return made

    def name(self, made: Made) -> str:
        self.number += 1
        return f"{made.name}-{self.number}"

    def group(self, made: Made, level: int, path: str, values: dict[str, Any], at: list[int], depth: int) -> None:
        for _ in range(self.dice.randint(2, 5)):
            what = self.dice.random()
            if what < 0.2 and depth < 2:
                name = self.name(made)
                made.lines.append(f"{level:02}  {name}{self.dice.choice(['', '', ' COMP-3', ' SIGN LEADING SEPARATE'])}.")
                inherited = made.lines[-1]
                inner: dict[str, Any] = {}
                values[name] = inner
                made.looked_at.append((f"{path}.{name}", name))
                self.numbers_only = " COMP-3" in inherited
                self.leaf(made, level + 5, f"{path}.{name}", inner, [], bare="COMP-3" in inherited)
                self.leaf(made, level + 5, f"{path}.{name}", inner, [], bare="COMP-3" in inherited)
            elif what < 0.35 and depth < 2 and not at:
                self.table(made, level, path, values, depth)
            elif what < 0.42 and not at:
                made.lines.append(f"{level:02}  FILLER PIC X({self.dice.randint(1, 3)}).")
            elif what < 0.5 and not at and not any("DEPENDING" in line for line in made.lines):
                # In a record with a table that slides this compiler counts the bytes of views once more.
                self.views(made, level, path, values)
            else:
                self.leaf(made, level, path, values, at)

    def views(self, made: Made, level: int, path: str, values: dict[str, Any]) -> None:
        """A number of digits, and its parts seen as two numbers."""
        name, other = self.name(made), self.name(made)
        digits = str(self.dice.randint(0, 999999)).zfill(6)
        made.lines += [f"{level:02}  {name} PIC 9(6).", f"{level:02}  {other} REDEFINES {name}.", f"{level + 2:02}  {other}-A PIC 9(2)V9.",
                       f"{level + 2:02}  {other}-B PIC X(3)."]
        made.moves.append(f"move {digits} to {name}")
        values[name] = Decimal(digits)
        values[other] = {f"{other}-A": Decimal(f"{digits[:2]}.{digits[2]}"), f"{other}-B": digits[3:]}
        made.looked_at += [(f"{path}.{name}", name), (f"{path}.{other}.{other}-B", f"{other}-B")]

    def table(self, made: Made, level: int, path: str, values: dict[str, Any], depth: int) -> None:
        name, most = self.name(made), self.dice.randint(1, 4)
        # One for each record: of two the compiler does not tell the length of the record that it works with.
        varying = self.slides and self.dice.random() < 0.8 and not any("DEPENDING" in line or "REDEFINES" in line for line in made.lines)
        count = self.dice.randint(0, most) if varying else most
        if varying:
            counter = self.name(made)
            made.lines.append(f"{level:02}  {counter} PIC 9(2){self.dice.choice(['', ' COMP', ' COMP-3'])}.")
            made.lines.append(f"{level:02}  {name} OCCURS 0 TO {most} TIMES DEPENDING ON {counter}.")
            made.moves.append(f"move {count} to {counter}")
            values[counter] = Decimal(count)
        else:
            made.lines.append(f"{level:02}  {name} OCCURS {most} TIMES.")
        first, second = self.plain(made), self.plain(made)
        made.lines += [f"{level + 5:02}  {first[0]} {first[1]}.", f"{level + 5:02}  {second[0]} {second[1]} OCCURS 2."]
        rows = []
        for index in range(1, count + 1):
            row: dict[str, Any] = {first[0]: self.moved(made, first, f"({index})")}
            row[second[0]] = [self.moved(made, second, f"({index} {inner})") for inner in (1, 2)]
            rows.append(row)
        if rows:
            values[name] = rows
            made.looked_at.append((f"{path}.{name}.{second[0]}", f"{second[0]} (1 1)"))

    def plain(self, made: Made) -> tuple[str, str, int, int, bool]:
        digits, scale, signed = self.dice.randint(1, 12), 0, self.dice.random() < 0.5
        scale = self.dice.randint(0, min(digits, 4))
        whole = digits - scale
        picture = ("S" if signed else "") + (f"9({whole})" if whole else "") + (f"V9({scale})" if scale else "")
        usage = self.dice.choice(("", "COMP", "COMP-3", "COMP-5"))
        return self.name(made), f"PIC {picture} {usage}".strip(), digits, scale, signed

    def moved(self, made: Made, item: tuple[str, str, int, int, bool], at: str) -> Decimal:
        name, _, digits, scale, signed = item
        number = self.dice.choice((0, 1, 10 ** digits - 1, self.dice.randrange(10 ** digits)))
        value = Decimal(-number if signed and self.dice.random() < 0.5 else number).scaleb(-scale)
        made.moves.append(f"move {value:f} to {name} {at}".strip())
        return value or abs(value)

    def leaf(self, made: Made, level: int, path: str, values: dict[str, Any], at: list[int], bare: bool = False) -> None:
        usage = self.dice.choice(USAGES)
        name = self.name(made)
        made.looked_at.append((f"{path}.{name}", name))
        if usage in ("COMP-1", "COMP-2") and not bare:
            made.lines.append(f"{level:02}  {name} {usage}.")
            value = Decimal(self.dice.randint(-4000, 4000)) / 8
            made.moves.append(f"move {value:f} to {name}")
            values[name] = value
        elif not usage and not bare and self.dice.random() < 0.5:
            size = self.dice.randint(1, 12)
            text = "".join(self.dice.choice("ABCxyz019 '-") for _ in range(size))
            right = self.dice.random() < 0.2
            made.lines.append(f"{level:02}  {name} PIC X({size}){' JUST' if right else ''}.")
            quoted = text.replace("'", "''")
            made.moves.append(f"move '{quoted}' to {name}")
            values[name] = text
        else:
            item = self.plain(made)
            clauses = item[1] if not bare else item[1].split(" COMP")[0]
            if " " not in clauses.removeprefix("PIC ") and item[4] and not bare:
                clauses += self.dice.choice(("", " SIGN LEADING", " SIGN TRAILING SEPARATE", " SIGN LEADING SEPARATE"))
            made.lines.append(f"{level:02}  {name} {clauses}.")
            values[name] = self.moved(made, (name, *item[1:]), "")


@pytest.mark.skipif(shutil.which("cobc") is None, reason="no COBOL compiler is installed")
@pytest.mark.parametrize("slides", [False, True], ids=["tables full", "tables of any length"])
def test_made_up_copybooks_are_what_the_compiler_makes_of_them(tmp_path: Path, slides: bool) -> None:
    maker = Maker(15 + slides, slides)
    made = [maker.record(f"REC{number}") for number in range(often(12, 60))]
    program = ["identification division.", "program-id. MADEUP.", "data division.", "working-storage section."]
    program += [line for one in made for line in one.lines]
    program += ["procedure division.", "main-line."]
    for one in made:
        program += [f"    move low-values to {one.name}"]
        program += [f"    {move}" for move in sorted(one.moves, key=lambda move: "PIC" in move)]
        program += [f'    display "=|{one.name}|" length of {one.name}', f'    call "VECRAW" using {one.name}']
        for path, said in one.looked_at:
            program += [f'    display "@|{path}"', f'    call "VECFLD" using {one.name} {said}']
    program += ["    stop run."]
    source = tmp_path / "madeup.cbl"
    source.write_text("\n".join(program) + "\n")
    subprocess.run(["cobc", "-x", "-free", "-std=ibm", "-fbinary-truncate", *(["-fodoslide"] if slides else []), "-o", tmp_path / "madeup",
                    source, HELPER], check=True, cwd=tmp_path, capture_output=True, text=True)
    told = subprocess.run([tmp_path / "madeup"], check=True, capture_output=True, text=True).stdout.splitlines()
    by_name = {one.name: one for one in made}
    record, path = made[0], ""
    raw: dict[str, bytes] = {}
    places: dict[str, tuple[int, int]] = {}
    for line in told:
        head, *parts = line.split("|")
        if head == "=":
            record = by_name[parts[0]]
        elif head == "R":
            raw[record.name] = bytes.fromhex(parts[1])
        elif head == "@":
            path = parts[0]
        elif head == "F":
            places[path] = (int(parts[0]), int(parts[1]))
    assert set(raw) == set(by_name)
    assert len(places) == sum(len(one.looked_at) for one in made)
    for one in made:
        copybook = "\n".join(one.lines)
        rows = {row["path"]: row for row in described(record_of(records_of(copybook, "free")))["items"]}
        fixed = all("DEPENDING" not in line for line in one.lines)
        for path, _ in one.looked_at:
            row = rows[path]
            assert row["length"] == places[path][1] or "DEPENDING" in copybook, (path, copybook)
            if fixed:
                assert row["offset"] == places[path][0], (path, copybook)
        data = raw[one.name]
        if not fixed and not slides:
            continue
        shown = decode(copybook, data, "ascii", {"source_format": "free"})
        assert shown == {one.name: one.values}, copybook
        back = bytearray(encode(copybook, shown, "ascii", {"source_format": "free"}))
        assert len(back) == len(data)
        assert decode(copybook, bytes(back), "ascii", {"source_format": "free"}) == shown
        if fixed and all("FILLER" not in row["path"] for row in rows.values()):
            assert back.hex(" ") == data.hex(" "), copybook
