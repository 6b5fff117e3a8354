"""From the records of a program to a definition of it: names that people read, types that hold just what the items do.

What goes in and what comes out is chosen item by item, each for itself; where nothing was chosen it is guessed from the names of groups.
"""

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from bricola.core.cobol.describing import said
from bricola.core.cobol.items import Item, Record
from bricola.core.definitions.parts import RecordDefinition, TypedPart
from bricola.core.kinds.programs.definition import Area, FieldMap, Held, ProgramDefinition, ProgramFault, ProgramInput, ProgramOutput
from bricola.core.kinds.programs.places import Areas
from bricola.core.kinds.programs.room import most_of
from bricola.core.kinds.programs.values import NUMBERS

_IN = re.compile(r"(^|-)(REQ|REQUEST|IN|INPUT|QUERY|ASK)(-|$)")
_OUT = re.compile(r"(^|-)(REP|REPLY|RSP|RES|RESP|RESPONSE|OUT|OUTPUT|ANSWER|RESULT)(-|$)")
_REFUSES = re.compile(r"REFUS|ERR|FAIL|INVALID|REJECT|NOT-")
_DATED = re.compile(r"(^|-)(DATE|DAY|DT)(-|$)")


@dataclass
class Draft:
    """What a draft is made of: the program, and the records of its tables."""

    program: ProgramDefinition
    records: list[RecordDefinition] = field(default_factory=list)


def drafted(name: str, backend: str, calls: str, areas: Sequence[Area], records: Mapping[str, Record], held: Held,
            inputs: Sequence[str] | None, outputs: Sequence[str] | None, taken: Sequence[str] = ()) -> Draft:
    """A definition from areas with their records. `inputs` and `outputs` are items or groups by their paths (None: guessed), `taken` the
    names of records that there are already. Raises ProblemError for an item that is none."""
    known = Areas.of(records)
    maker = _Maker(known, set(taken))
    into = [one.name for one in areas if one.use != "out"]
    back = [one.name for one in areas if one.use != "in"]
    given = _chosen(known, into, inputs, _IN, _OUT, "input")
    got = _chosen(known, back, outputs, _OUT, _IN, "output")
    program = ProgramDefinition(
        name=name, backend=backend, calls=calls, held=held, areas=tuple(areas),
        input=tuple(ProgramInput(**one) for one in maker.parts(given, "", True)),
        output=tuple(ProgramOutput(**one) for one in maker.parts(got, "", False)),
        faults=tuple(_faults(got, maker)),
    )
    return Draft(program, maker.records)


def _chosen(areas: Areas, among: Sequence[str], wanted: Sequence[str] | None, like: re.Pattern[str], unlike: re.Pattern[str],
            side: str) -> list[Item]:
    """The items of one side: elementary ones and tables."""
    if wanted is not None:
        return [leaf for path in wanted for leaf in _leaves(areas.find(path, f"{side}, {path}", among)[1])]
    roots = [areas.records[name].item for name in among]
    groups = [group for root in roots for group in root.walk() if group.children and not group.occurs and like.search(group.name)]
    if not groups:
        groups = [root for root in roots if not any(unlike.search(one.name) for one in root.walk() if one.children)]
    return [leaf for group in groups if not any(above in groups for above in _above(group)) for leaf in _leaves(group)]


def proposed(record: Record) -> tuple[list[str], list[str]]:
    """What is guessed to go in and to come out of one area: paths of items and tables."""
    areas = Areas.of({"area": record})
    sides = (_chosen(areas, ["area"], None, _IN, _OUT, "input"), _chosen(areas, ["area"], None, _OUT, _IN, "output"))
    into, back = ([item.path for item in side] for side in sides)
    return into, back


def _above(item: Item) -> Iterator[Item]:
    while item.parent is not None:
        item = item.parent
        yield item


def _leaves(item: Item) -> Iterator[Item]:
    """What has a value of its own: items with a PICTURE and tables; of alternatives the first."""
    if item.occurs or not item.children:
        if item.kind != "bytes" and item.name:
            yield item
        return
    for child in item.children:
        if child.redefines is None:
            yield from _leaves(child)


class _Maker:
    def __init__(self, areas: Areas, taken: set[str]) -> None:
        self.areas, self.taken = areas, taken
        self.records: list[RecordDefinition] = []
        self.names: dict[int, str] = {}  # of elements, by item

    def parts(self, items: Sequence[Item], above: str, given: bool) -> Iterator[dict[str, Any]]:
        """Typed parts for items that stand beside each other."""
        counts = {id(one.depending) for item in items for one in item.walk() if one.depending is not None}
        shown = [one for one in items if id(one) not in counts]  # the table says how many there are
        prefix = common_prefix([one.name for one in shown])
        used: set[str] = set()
        sides = {item.name: {self.areas.area_of(one) for one in shown if one.name == item.name} for item in shown} if not above else {}
        for item in shown:
            side = f"{self.areas.area_of(item)}-" if len(sides.get(item.name, ())) > 1 else ""  # areas that are laid out alike
            name = readable(f"{side}{item.name[len(prefix):]}", used)
            self.names[id(item)] = name
            yield {"name": name, "item": item.name if above else self.path(item), **self._typed(item, name, given, bool(above))}

    def path(self, item: Item) -> str:
        """As little of its path as makes it one of its kind."""
        everywhere = [one for record in self.areas.records.values() for one in record.items() if one.name == item.name]
        return item.name if len(everywhere) == 1 else self.areas.path(self.areas.area_of(item), item)

    def _typed(self, item: Item, name: str, given: bool, within: bool) -> dict[str, Any]:
        made: dict[str, Any] = {}
        if item.occurs:
            made = {"repeats": True, "at_most": item.occurs[1], "at_least": item.occurs[0] if given else 0}
        if not item.children:
            return made | typed(item, given, given or within)
        inner = [leaf for child in item.children if child.redefines is None for leaf in _leaves(child)]
        fields = list(self.parts(inner, item.name, given))
        record = self._record(name[:1].upper() + name[1:], tuple(
            TypedPart(**{key: value for key, value in one.items() if key not in ("item", "dates", "means", "fields")}) for one in fields))
        maps = tuple(FieldMap(**{key: one[key] for key in ("name", "item", "dates", "means", "fields") if key in one}) for one in fields)
        return made | {"type": record, "fields": maps}

    def _record(self, name: str, fields: tuple[TypedPart, ...]) -> str:
        """The name of a record with these fields, one of before where it is the same."""
        number, free = 1, name
        while free in self.taken:
            if any(one.name == free and one.fields == fields for one in self.records):
                return free
            number += 1
            free = f"{name}{number}"
        self.taken.add(free)
        self.records.append(RecordDefinition(name=free, fields=fields))
        return free


def typed(item: Item, given: bool, bounded: bool) -> dict[str, Any]:
    """The type that holds what an item does. Of what is given condition-names are its codes, and what is `bounded` has all its bounds."""
    conditions = {said(low).strip("'"): one.name for one in item.conditions for low, high in one.values if high is None}
    if item.kind in ("float", "double"):
        return {"type": "double"}
    if item.kind not in NUMBERS:
        made: dict[str, Any] = {"type": "string", "max_length": item.length // 2 if item.kind == "national" else item.length}
        if item.length == 8 and _DATED.search(item.name):
            return {"type": "date", "dates": "YYYYMMDD"}
        if conditions and given and all(high is None for one in item.conditions for _, high in one.values):
            prefix = common_prefix(list(conditions.values()))
            means = {contents: readable(one[len(prefix):], set()) for contents, one in conditions.items()}
            if len(set(means.values())) == len(means) and all(contents.strip() for contents in means):
                return {"type": "string", "codes": tuple(means.values()), "means": means}
        return made
    if item.digits == 8 and item.scale == 0 and _DATED.search(item.name):
        return {"type": "date", "dates": "YYYYMMDD"}
    most = most_of(item)
    bounds = {"max": format(most, "f"), "min": format(-most if item.signed else most * 0, "f")} if bounded else {}
    if item.scale <= 0 and item.digits <= 18:
        return {"type": "int" if item.digits <= 9 and abs(most) < 2 ** 31 else "long", **bounds}
    return {"type": "decimal", "digits": max(item.digits, item.scale, 1), "fraction": max(0, item.scale), **bounds}


def common_prefix(names: Sequence[str]) -> str:
    """What all names begin with, up to a hyphen; "" where a name would be left empty, or there is one only."""
    if len(names) < 2:
        return ""
    first, last = min(names), max(names)
    same = 0
    while same < min(len(first), len(last)) and first[same] == last[same]:
        same += 1
    prefix = first[:first.rfind("-", 0, same) + 1]
    return prefix if prefix and all(re.match(r"[A-Z]", one[len(prefix):]) for one in names) else ""


def readable(name: str, used: set[str]) -> str:
    """A name as an element has it: totalWeight of TOTAL-WEIGHT, with a number where it is used already."""
    words = [one for one in re.split(r"[^A-Za-z0-9]+", name) if one]
    made = "".join(one.lower() if not index else one[:1].upper() + one[1:].lower() for index, one in enumerate(words)) if len(words) != 1 \
        else words[0].lower() if words[0].isupper() or words[0].islower() else words[0]
    if not made or not made[0].isalpha():
        made = f"item{made}"
    number, free = 1, made
    while free in used:
        number += 1
        free = f"{made}{number}"
    used.add(free)
    return free


def _faults(items: Sequence[Item], maker: _Maker) -> Iterator[ProgramFault]:
    """A refusal, where a condition-name of what comes out is called so."""
    said_by = next((one for one in items if re.search(r"(^|-)(MESSAGE|MSG|TEXT)$", one.name) and one.kind == "text"), None)
    used: set[str] = set()
    for item in items:
        for condition in item.conditions:
            if _REFUSES.search(condition.name):
                words = readable(condition.name.partition("-")[2] or condition.name, used)
                several = sum(1 for _ in maker.areas.condition(condition.name)) > 1
                yield ProgramFault(name=words[:1].upper() + words[1:],
                                   condition=f"{maker.path(item)}.{condition.name}" if several else condition.name,
                                   message=maker.path(said_by) if said_by else "",
                                   fields=(maker.names[id(item)],) if id(item) in maker.names else ())
