"""Values of parameters to the areas of a call, and the areas of a reply to values: compiled once for each operation."""

import contextlib
from collections.abc import Callable, Collection, Mapping
from dataclasses import dataclass, replace
from itertools import islice, product
from typing import Any

from bricola.core.cobol.codec import Codec, compiled
from bricola.core.cobol.items import Item
from bricola.core.kinds.programs.definition import Area, ProgramDefinition
from bricola.core.kinds.programs.shape import Mapped, ResolvedProgram
from bricola.core.kinds.programs.values import reader_of, writer_of
from bricola.core.problems import Kind, Problem, ProblemError, shown
from bricola.core.programs.frames import SentArea
from bricola.core.shapes.model import Values

_MOST_AT_ONCE = 64  # combinations of views that are compiled with the deployment; rarer ones at their first call
Contents = Mapping[str, Any]  # of a record or a group, as the codec gives it


@dataclass(frozen=True)
class AreaCodec:
    """One area: how its bytes are made, and how they are read back."""

    area: Area
    name: str
    length: int
    encode: Callable[[Mapping[str, Any]], bytes]
    decode: Callable[[bytes], Contents]
    judge: Callable[[bytes], Contents]  # only what faults look at and tell, without what cannot be read


def _deep(values: dict[str, Any], way: tuple[str, ...], value: Any) -> None:
    for key in way[:-1]:
        values = values.setdefault(key, {})
    values[way[-1]] = value


def found_at(contents: Any, way: tuple[str, ...]) -> Any:
    """What lies at the end of a way; None where nothing does."""
    for key in way:
        if not isinstance(contents, Mapping):
            return None
        contents = contents.get(key)
    return contents


def _writing(one: Mapped) -> Callable[[Any], Any]:
    """A function from a value of an element to contents."""
    if not one.fields:
        write = writer_of(one.item, one.element, one.dates, one.means or {})
        return (lambda values: [write(value) for value in values]) if one.element.is_list else write
    fields = [(field.element.name, field.way, _writing(field)) for field in one.fields]

    def record(value: Mapping[str, Any]) -> dict[str, Any]:
        contents: dict[str, Any] = {}
        for name, way, write in fields:
            if value.get(name) is not None:
                _deep(contents, way, write(value[name]))
        return contents

    return (lambda values: [record(value) for value in values]) if one.element.is_list else record


def _reading(one: Mapped, place: str) -> Callable[[Any], Any]:
    """A function from contents to a value of an element; None for nothing."""
    place = f"{place}/{one.element.name}"
    if not one.fields:
        read = reader_of(one.item, one.element, one.dates, one.means or {}, place)
        return (lambda rows: [read(row) for row in rows or ()]) if one.element.is_list else read
    fields = [(field.element, field.way, _reading(field, place)) for field in one.fields]
    needed = one.element.least > 0

    def record(contents: Any) -> Any:
        if contents is None and not needed:
            return None
        values: dict[str, Any] = {}
        for element, way, read in fields:
            value = read(found_at(contents, way))
            if value is not None:
                values[element.name] = value
        return values

    return (lambda rows: [record(row) for row in rows or ()]) if one.element.is_list else record


class Records:
    """All areas of one program."""

    def __init__(self, source: ResolvedProgram, place: str) -> None:
        self._source, self._place = source, place
        definition = source.definition
        wanted, judged = _wanted(source), _judged(source)
        self.areas = [self._area(one, definition, wanted, judged) for one in definition.areas]
        self._inputs = [(one.element.name, one.area, one.way, _writing(one)) for one in source.inputs]
        self._outputs = [(one.element.name, one.area, one.way, _reading(one, f"{place}Response")) for one in source.outputs]
        self._places = {(one.area, one.item.path): one.element.name for one in source.inputs}
        self._returned = [one for one in self.areas if one.area.use != "in"]

    def _area(self, area: Area, definition: ProgramDefinition, wanted: Callable[[Item], bool],
              judged: Callable[[Item], bool]) -> AreaCodec:
        record = self._source.areas.records[area.name]
        follows = definition.held.table_follows
        views = {name: rule for name, rule in definition.views.items() if any(one.name == name.upper() for one in record.items())}
        made: dict[tuple[str, ...], Codec] = {}

        def codec(chosen: tuple[str, ...]) -> Codec:
            if chosen not in made:
                named = {name: view for name, view in zip(views, chosen, strict=True) if view}
                made[chosen] = compiled(record, self._source.ways, follows, named, missing="initial", wanted=wanted)
            return made[chosen]

        whole = codec(("",) * len(views))
        judging = compiled(record, self._source.ways, follows, {}, "absent", "initial", judged)

        def judge(data: bytes) -> Contents:
            return dict(judging.decode(data)[record.name])

        if not views:
            return AreaCodec(area, record.name, record.length, whole.encode, lambda data: dict(whole.decode(data)[record.name]), judge)
        choices = [dict.fromkeys((*rule.views.values(), *((rule.otherwise,) if rule.otherwise else ()))) for rule in views.values()]
        for chosen in islice(product(*choices), _MOST_AT_ONCE):
            codec(chosen)  # now, and not at the first call that meets it
        deciding = {rule.by.upper().rpartition(".")[2] for rule in views.values()}
        first = compiled(record, self._source.ways, follows, {}, missing="initial", wanted=lambda item: item.name in deciding)
        ways = [self._source.areas.way(self._source.areas.find(rule.by, self._place, [area.name])[1], None, self._place)
                for rule in views.values()]

        def decode(data: bytes) -> Contents:
            contents = first.decode(data)[record.name]
            chosen = []
            for way, (name, rule) in zip(ways, views.items(), strict=True):
                says = str(found_at(contents, way) or "").rstrip(" \x00")
                view = rule.views.get(says, rule.otherwise)
                if not view:
                    raise ProblemError(Problem("program.view", f"Nothing says which view of {name} holds.", Kind.BACKEND, place=self._place,
                                               expected=f"one of {', '.join(rule.views)} in {rule.by}", found=shown(says)))
                chosen.append(view)
            return dict(codec(tuple(chosen)).decode(data)[record.name])

        return AreaCodec(area, record.name, record.length, whole.encode, decode, judge)

    def sent(self, values: Values) -> list[SentArea]:
        """The areas of a call. Raises ProblemError for a value that does not fit its picture, before anything is sent."""
        contents: dict[str, dict[str, Any]] = {one.area.name: {} for one in self.areas}
        for area, way, value in self._source.fixed:
            _deep(contents[area], way, value)
        for name, area, way, write in self._inputs:
            if values.get(name) is not None:
                _deep(contents[area], way, write(values[name]))
        sent = []
        for one in self.areas:
            data = b"" if one.area.use == "out" else self._encoded(one, contents[one.area.name])
            room = len(data) if one.area.use != "out" and one.area.room == "filled" else one.length
            sent.append(SentArea(room, one.area.use != "in", data))
        return sent

    def _encoded(self, one: AreaCodec, contents: dict[str, Any]) -> bytes:
        try:
            return one.encode({one.name: contents})
        except ProblemError as error:
            raise ProblemError(*(self._told(problem, one.area.name) for problem in error.problems)) from None

    def _told(self, problem: Problem, area: str) -> Problem:
        """The same at the caller's element, where an item was filled from one."""
        path = problem.place.partition("[")[0]
        name = next((name for (of, item), name in self._places.items() if of == area and (path == item or path.startswith(f"{item}."))), "")
        place = f"{self._place}/{name}" if name else self._place
        return replace(problem, place=place, inner=f"{problem.place} {problem.inner}".strip())

    def judged(self, areas: tuple[bytes, ...]) -> dict[str, Contents]:
        """What faults look at and tell, by area: a program that refuses may leave the rest as it was. Raises ProblemError for areas that
        are not of the layout."""
        return self._read(areas, lambda one: one.judge)

    def received(self, areas: tuple[bytes, ...]) -> dict[str, Contents]:
        """What the areas of a reply hold, by area. Raises ProblemError for bytes that are not of the layout."""
        return self._read(areas, lambda one: one.decode)

    def _read(self, areas: tuple[bytes, ...], how: Callable[[AreaCodec], Callable[[bytes], Contents]]) -> dict[str, Contents]:
        if len(areas) != len(self._returned):
            raise ProblemError(Problem("program.areas", "The program gives back another number of areas.", Kind.BACKEND, place=self._place,
                                       expected=str(len(self._returned)), found=str(len(areas))))
        found: dict[str, Contents] = {}
        for one, data in zip(self._returned, areas, strict=True):
            try:
                found[one.area.name] = how(one)(data)
            except ProblemError as error:
                raise ProblemError(*(_theirs(problem, self._place) for problem in error.problems)) from None
        return found

    def told(self, names: Collection[str], contents: Mapping[str, Contents]) -> Values:
        """Some of the outputs, as far as they can be read."""
        values: Values = {}
        for name, area, way, read in self._outputs:
            if name in names and (found := found_at(contents.get(area), way)) is not None:
                with contextlib.suppress(ProblemError):  # what the program left there is no value: the fault is told without it
                    values[name] = read(found)
        return values

    def outputs(self, contents: Mapping[str, Contents]) -> Values:
        """The outputs. Raises ProblemError for contents that their types do not take."""
        values: Values = {}
        for name, area, way, read in self._outputs:
            value = read(found_at(contents.get(area), way))
            if value is not None:
                values[name] = value
        return values


def _theirs(problem: Problem, place: str) -> Problem:
    """A mistake in a reply is the backend's; what stood there is for its owners."""
    return Problem("program.reply", "The reply of the program is not as its copybook says.", Kind.BACKEND, place=place,
                   expected=problem.expected, mend="The owner of the service compares the copybook with the program's.",
                   inner=f"{problem.place}: {problem.message} found {problem.found}")


def _wanted(source: ResolvedProgram) -> Callable[[Item], bool]:
    """Which items are read of a reply: outputs, and what says which view holds."""
    names: set[int] = set()

    def add(one: Mapped) -> None:
        names.add(id(one.item))
        for field in one.fields:
            add(field)

    for one in source.outputs:
        add(one)
    deciding = {rule.by.upper().rpartition(".")[2] for rule in source.definition.views.values()}
    return lambda item: id(item) in names or item.name in deciding


def _judged(source: ResolvedProgram) -> Callable[[Item], bool]:
    """Which items faults look at and tell: those of their rules, their messages, and outputs that their details have."""
    ways = {(rule.area, rule.way) for rule in source.faults if rule.area} | {rule.message for rule in source.faults if rule.message}
    fields = {name for rule in source.faults for name in rule.fault.fields}
    items = {id(one.item) for one in source.outputs if one.element.name in fields}
    for area, way in ways:
        items |= {id(item) for item in source.areas.records[area].items() if item.name and not item.children
                  and source.areas.keys[id(item)] == way[-1]}
    return lambda item: id(item) in items
