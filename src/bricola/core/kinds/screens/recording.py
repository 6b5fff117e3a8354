"""From a recording to a screen flow: names and types guessed from labels and content, marks chosen, the whole checked.

A recording is what a person did at the live terminal and pointed at: moves, screens with their names, places with a meaning. The names
of screens that the backend knows are kept; the others get marks of their own.
"""

import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import date
from decimal import Decimal
from typing import Literal

from bricola.core.definitions.base import Definition
from bricola.core.definitions.engines.terminals import (
    Collect,
    Fill,
    KnownScreen,
    ListColumn,
    ListRegion,
    Mark,
    Move,
    Place,
    Spot,
    TerminalHost,
    Turn,
)
from bricola.core.definitions.parts import RecordDefinition, TypedPart
from bricola.core.kinds.screens.definition import FlowFault, FlowInput, FlowOutput, ScreenFlowDefinition
from bricola.core.kinds.screens.film import Film, Shot
from bricola.core.kinds.screens.guessing import guess, guess_marks
from bricola.core.kinds.screens.recognise import compile_recogniser
from bricola.core.kinds.screens.texts import compile_reader
from bricola.core.problems import Problem, ProblemError, shown
from bricola.core.shapes.model import Element
from bricola.core.shapes.simple import SimpleType
from bricola.core.terminals.screen import Screen

Kind = Literal["input", "fixed", "output"]



@dataclass(frozen=True)
class MarkedPlace:
    """A place that a person gave a meaning."""

    screen: str
    name: str
    kind: Kind
    row: int
    column: int
    length: int | None = None
    type: str = "string"
    dates: str = ""
    decimal: Literal["point", "comma"] = "point"
    fraction: int | None = None
    required: bool = True
    description: str = ""


@dataclass(frozen=True)
class MarkedColumn:
    name: str
    column: int
    length: int
    type: str = "string"
    dates: str = ""
    decimal: Literal["point", "comma"] = "point"
    fraction: int | None = None
    line: int = 1


@dataclass(frozen=True)
class MarkedList:
    """A region that is a list; `lines` of the screen are one row of it, and `line` of a column says on which of them it stands."""

    screen: str
    name: str
    first_row: int
    last_row: int
    columns: tuple[MarkedColumn, ...]
    press: str = ""
    goes_on: Mark | None = None
    ends: Mark | None = None
    until_same: bool = False
    most: int = 1000
    lines: int = 1


@dataclass(frozen=True)
class MarkedFault:
    """A message on a screen that is a declared fault of the flow."""

    screen: str
    message: str
    name: str


@dataclass(frozen=True)
class Recording:
    """All of it. `shots` are the moves with their screens; a name of a screen stands for the first one of that name."""

    name: str
    backend: str
    shots: tuple[Shot, ...]
    places: tuple[MarkedPlace, ...] = ()
    lists: tuple[MarkedList, ...] = ()
    faults: tuple[MarkedFault, ...] = ()
    description: str = ""
    writes: bool = True
    messages: Mapping[str, tuple[int, int, int]] = field(default_factory=dict)  # screen: row, column, length of its message line
    quiet: float | None = None  # of the host, as far as it was heard


# the flow


def check(recording: Recording, host: TerminalHost) -> list[Problem]:
    """What a finished recording lacks: the stages, the way back, something to answer; and what must not be in it."""
    place = f"recording {recording.name}"
    problems = []
    shots = recording.shots
    if not shots:
        return [Problem("recording.empty", "Nothing was recorded.", place=place, mend="Walk through the task once.")]
    if shots[0].known != host.start:
        problems.append(Problem("recording.start", "The recording does not begin on the start screen.", place=place, expected=host.start,
                                found=shots[0].known or "a screen without a name", mend="Go there first, and begin anew."))
    if shots[-1].came != host.start:
        problems.append(Problem("recording.back", "The recording does not end on the start screen.", place=place, expected=host.start,
                                found=shots[-1].came or "a screen without a name",
                                mend=f"Go back to {host.start}; the moves after the last output are the way back."))
    nameless = sum(1 for one in shots if not one.known or not one.came)
    if nameless:
        problems.append(
            Problem("recording.screen", f"{nameless} of the screens have no name.", place=place, mend="Name each screen that was met.")
        )
    for shot in shots:
        for one in shot.before.inputs:
            if one.hidden and shot.typed.get(one.start, "") != "" and not _is_input(recording, shot, one.start):
                problems.append(Problem("recording.secret", "A hidden field was typed into.", place=f"{place}, {shot.known}",
                                        mend="Signing on belongs to the backend: take this move out. Or make the field an input, which "
                                             "callers give and nobody sees."))
    if not any(one.kind == "output" for one in recording.places) and not recording.lists:
        problems.append(
            Problem("recording.output", "Nothing is answered.", place=place, mend="Click a field to make it an output, or mark a list.")
        )
    return problems


def _is_input(recording: Recording, shot: Shot, start: int) -> bool:
    row, column = divmod(start, shot.before.columns)
    return any(one.kind == "input" and one.screen == shot.known and (one.row, one.column) == (row + 1, column + 1)
               for one in recording.places)


def _is_hidden(recording: Recording, place: MarkedPlace) -> bool:
    """Whether what is typed there is shown to nobody."""
    return any(field.hidden and field.start == shot.before.position(place.row, place.column)
               for shot in recording.shots if shot.known == place.screen for field in shot.before.inputs)


def draft(recording: Recording, host: TerminalHost) -> list[Definition]:
    """The flow and the records of its lists. Raises ProblemError with everything that `check` finds, and for marks that fail."""
    problems = check(recording, host)
    if problems:
        raise ProblemError(*problems)
    recording = _with_fixed(recording, host)
    met = _met(recording.shots)
    known = {one.name for one in host.screens}
    screens = tuple(_screen(name, screen, recording, met) for name, screen in met.items() if name not in known)
    _refuse_confusion(screens, met)
    split = _last_of_task(recording)
    records = tuple(
        RecordDefinition(
            name=_record_name(recording, one),
            fields=tuple(
                TypedPart(name=column.name, type=column.type, fraction=column.fraction if column.type == "decimal" else None)
                for column in one.columns
            ),
        )
        for one in recording.lists
    )
    inputs = {one.name: one for one in recording.places if one.kind == "input"}
    flow = ScreenFlowDefinition(
        name=recording.name, description=recording.description, backend=recording.backend, writes=recording.writes,
        input=tuple(FlowInput(**_typed(one), sample=_sample(one, recording), sensitive=_is_hidden(recording, one))
                    for one in inputs.values()),
        output=(*(FlowOutput(**_typed(one)) for one in recording.places if one.kind == "output"), *_list_outputs(recording)),
        faults=tuple(FlowFault(name=one, fields=tuple(inputs)) for one in dict.fromkeys(one.name for one in recording.faults)),
        screens=screens, moves=_moves(recording, recording.shots[:split], host, True),
        back=_moves(recording, recording.shots[split:], host, False))
    return [*records, flow]


def _with_fixed(recording: Recording, host: TerminalHost) -> Recording:
    """What was typed on the flow's own screens without a meaning is always typed so."""
    known = {one.name for one in host.screens}
    places = list(recording.places)
    for shot in recording.shots:
        if shot.known in known:
            continue
        for start, text in shot.typed.items():
            row, column = divmod(start, shot.before.columns)
            marked = any(one.screen == shot.known and (one.row, one.column) == (row + 1, column + 1) for one in places)
            paging = any(one.screen == shot.known and one.press == shot.key for one in recording.lists)
            if text and not marked and not paging:
                field = shot.before.field_at(start)
                taken = {one.name for one in places if one.screen == shot.known}
                name = guess(shot.before, row + 1, column + 1, field.length if field else None).name
                while name in taken:
                    name += "Too"
                places.append(MarkedPlace(shot.known, name, "fixed", row + 1, column + 1, field.length if field else None))
    return replace(recording, places=tuple(places))


def film_of(recording: Recording, environment: str, inputs: Mapping[str, str]) -> Film:
    """The recording as a film."""
    split = _last_of_task(recording)
    shots = tuple(Shot("task" if number < split else "back", one.before, one.known, one.typed, one.key, one.after, one.came)
                  for number, one in enumerate(recording.shots))
    return Film(recording.name, environment, inputs, shots, recording.backend, recording.quiet)


def sample_inputs(recording: Recording) -> dict[str, str]:
    """The inputs as they were typed while recording."""
    return {one.name: text for one in recording.places if one.kind == "input" and (text := _sample(one, recording)) is not None}


def _met(shots: Iterable[Shot]) -> dict[str, Screen]:
    found: dict[str, Screen] = {}
    for one in shots:
        found.setdefault(one.known, one.before)
        found.setdefault(one.came, one.after)
    return found


def _last_of_task(recording: Recording) -> int:
    """How many moves are the task: up to the last screen that something is read on."""
    reading = {one.screen for one in recording.places if one.kind == "output"} | {one.screen for one in recording.lists}
    last = max((number for number, one in enumerate(recording.shots) if one.came in reading), default=len(recording.shots) - 1)
    while last + 1 < len(recording.shots) and recording.shots[last + 1].came == recording.shots[last + 1].known and \
            recording.shots[last + 1].came in reading:
        last += 1
    return last + 1


def _screen(name: str, screen: Screen, recording: Recording, met: Mapping[str, Screen]) -> KnownScreen:
    places = tuple(Place(name=one.name, row=one.row, column=one.column, length=one.length, dates=one.dates, decimal=one.decimal)
                   for one in recording.places if one.screen == name)
    lists = tuple(ListRegion(
        name=one.name, rows=(one.first_row, one.last_row), lines=one.lines,
        columns=tuple(ListColumn(name=two.name, column=two.column, length=two.length, line=two.line, dates=two.dates, decimal=two.decimal)
                      for two in one.columns),
        press=one.press, goes_on=(one.goes_on,) if one.goes_on else (), ends=(one.ends,) if one.ends else (), until_same=one.until_same)
        for one in recording.lists if one.screen == name)
    message = recording.messages.get(name)
    needs = any(one.screen == name for one in recording.faults)
    spot = Spot(row=message[0], column=message[1], length=message[2] or None) if message else \
        Spot(row=screen.rows - 1, column=2) if needs else None
    return KnownScreen(
        name=name, marks=guess_marks(screen, [other for key, other in met.items() if key != name], _visits(recording, name)), places=places,
        lists=lists, message=spot
    )


def _visits(recording: Recording, name: str) -> list[Screen]:
    """Every time that a screen was seen."""
    return [screen for one in recording.shots for screen, known in ((one.before, one.known), (one.after, one.came)) if known == name]


def _refuse_confusion(screens: Iterable[KnownScreen], met: Mapping[str, Screen]) -> None:
    for one in screens:
        recogniser = compile_recogniser(one)
        also = [name for name, screen in met.items() if name != one.name and recogniser.matches(screen)]
        if also:
            raise ProblemError(
                Problem(
                    "recording.mark",
                    f"{one.name} cannot be told from {', '.join(also)}.",
                    place=f"screen {one.name}, marks",
                    mend="Are they the same screen? Then give them one name.",
                )
            )


def _moves(recording: Recording, shots: Sequence[Shot], host: TerminalHost, task: bool) -> tuple[Move, ...]:
    moves: list[Move] = []
    lists = {one.screen: one for one in recording.lists}
    reads: dict[str, list[str]] = {}
    for one in recording.places:
        if one.kind == "output":
            reads.setdefault(one.screen, []).append(one.name)
    known = {one.name: one for one in host.screens}
    for shot in shots:
        if shot.known == shot.came and shot.known in lists and shot.key == lists[shot.known].press:
            continue  # paging belongs to the list
        read, collect = (tuple(reads.pop(shot.known, ())), lists.pop(shot.known, None)) if task else ((), None)
        fills = tuple(_fill(shot, start, text, recording, known) for start, text in shot.typed.items()
                      if text or (text is None and _is_input(recording, shot, start)))
        turns = [Turn(screen=shot.came), *(Turn(screen=one.screen, message=one.message, fault=one.name) for one in recording.faults
                                           if task and one.screen in (shot.known, shot.came))]
        moves.append(Move(on=shot.known, read=read, collect=_collect(collect, recording) if collect else None, fill=fills, press=shot.key,
                          expect=tuple(sorted(turns, key=lambda one: not one.message))))
    if task and shots:
        last = shots[-1].came
        if last in reads or last in lists:
            left = lists.get(last)
            moves.append(Move(on=last, read=tuple(reads.get(last, ())), collect=_collect(left, recording) if left else None))
    return tuple(moves)


def _fill(shot: Shot, start: int, text: str | None, recording: Recording, known: Mapping[str, KnownScreen]) -> Fill:
    row, column = divmod(start, shot.before.columns)
    place = next((one for one in recording.places if one.screen == shot.known and (one.row, one.column) == (row + 1, column + 1)), None)
    if place is not None:
        return Fill(name=place.name, input=place.name) if place.kind == "input" else Fill(name=place.name, value=text or "")
    own = known.get(shot.known)
    spot = next((one for one in own.places if (one.row, one.column) == (row + 1, column + 1)), None) if own is not None else None
    if spot is None:
        raise ProblemError(Problem("recording.place", f"{shot.known} belongs to the backend, and has no name for this field.",
                                   place=f"{shot.known}, row {row + 1}, column {column + 1}", found=shown(text or ""),
                                   mend="Name the place in the backend's screen, then record again."))
    return Fill(name=spot.name, value=text or "")


def _typed(one: MarkedPlace) -> dict[str, object]:
    more: dict[str, object] = {"fraction": one.fraction} if one.type == "decimal" and one.fraction is not None else {}
    if one.type == "string" and one.length:
        more["max_length"] = one.length
    return {"name": one.name, "type": one.type, "required": one.required, "description": one.description, **more}


def _sample(one: MarkedPlace, recording: Recording) -> str | None:
    """What was typed there, in the form of its type."""
    for shot in recording.shots:
        text = shot.typed.get(shot.before.position(one.row, one.column)) if shot.known == one.screen else None
        if text:
            return _lexical(text, one)
    return None


def _lexical(text: str, one: MarkedPlace) -> str | None:
    kind = SimpleType(one.type)
    try:
        value: date | Decimal | int | str = compile_reader(Place(name=one.name, row=1, column=1, dates=one.dates, decimal=one.decimal),
                                                            Element(one.name, kind), one.name)(text)
    except ProblemError:
        return None
    return kind.write(value)


def _record_name(recording: Recording, one: MarkedList) -> str:
    words = re.split(r"[-_]", recording.name)
    return "".join(word[:1].upper() + word[1:] for word in words) + one.name[:1].upper() + one.name[1:]


def _list_outputs(recording: Recording) -> list[FlowOutput]:
    found = []
    for number, one in enumerate(recording.lists):
        found.append(FlowOutput(name=one.name, type=_record_name(recording, one), repeats=True))
        found.append(FlowOutput(name="complete" if not number else f"{one.name}Complete", type="boolean",
                                description="Whether these are all"))
    return found


def _collect(one: MarkedList, recording: Recording) -> Collect:
    number = recording.lists.index(one)
    return Collect(list=one.name, into=one.name, most=str(one.most), complete="complete" if not number else f"{one.name}Complete")
