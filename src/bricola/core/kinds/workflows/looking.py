"""A workflow for people who write it: what is wrong where, what is known before each step, what each map fills and what would fit there."""

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any

from bricola.core.definitions.catalogue import Catalogue
from bricola.core.expressions.compiling import UnjudgedError, compile_expression
from bricola.core.expressions.types import EXACT, NUMBERS, SIMPLE, Of, Type, meant, spoken, type_of
from bricola.core.kinds.workflows.building import Builder
from bricola.core.kinds.workflows.definition import WorkflowDefinition
from bricola.core.kinds.workflows.knowledge import Known
from bricola.core.kinds.workflows.program import Block
from bricola.core.kinds.workflows.reaching import circle
from bricola.core.kinds.workflows.shape import message_shapes, walk
from bricola.core.problems import Problem, ProblemError
from bricola.core.shapes.forms import NEWEST
from bricola.core.shapes.matching import likeness, meaning, said_of
from bricola.core.shapes.model import Element, Record

_MOST_DEPTH, _MOST_PARTS, _MOST_PATHS, _MOST_FITS = 4, 200, 400, 8  # what a person can look through
Said = Mapping[str, tuple[Element, frozenset[str]]]  # by the text that names a part: where it is declared, and what is said there
_MEANT = 0.75  # of two parts whose names say nothing
_ALIKE = 0.8  # names that are so much alike mean the same


@dataclass(frozen=True)
class Filled:
    """One part of a map: what it takes, what is put there (`line`), and what would fit, the likeliest first. `proposal` is what names and
    types say should stand there, '' where they say nothing."""

    path: str
    type: str
    required: bool
    list: bool
    line: str
    proposal: str
    fits: tuple[str, ...]


@dataclass(frozen=True)
class Look:
    """What is known of a workflow, sound or not."""

    problems: tuple[Problem, ...]
    input: Record
    output: Record
    builder: Builder | None = None
    block: Block = field(default_factory=Block)
    filled: dict[tuple[str, str], list[Filled]] = field(default_factory=dict)  # by path of a step and part of it


def look(definition: WorkflowDefinition, catalogue: Catalogue) -> Look:
    """Never raises: what is wrong is in it."""
    around = circle(definition, catalogue)
    if around:
        return Look((Problem("workflow.circle", "The workflow calls itself, so no call of it would ever end.",
                             place=f"workflow {definition.name}", found=" -> ".join(around), mend="Take one of these calls out."),),
                    Record(""), Record(""))
    try:
        taken, given, faults = message_shapes(definition, catalogue)
        builder, block, _ = walk(definition, catalogue, NEWEST, taken, given, faults)
    except ProblemError as error:
        return Look(error.problems, Record(""), Record(""))
    filled = {key: list(_filled(record, tree, known, taken)) for key, (record, tree, known) in builder.targets.items()}
    return Look(tuple(dict.fromkeys(builder.problems)), taken, given, builder, block, filled)


def paths_of(known: Known) -> list[tuple[str, Type]]:
    """Everything that a step may speak of, by the text that names it."""
    found: list[tuple[str, Type]] = []

    def visit(path: str, kind: Type, depth: int) -> None:
        if len(found) >= _MOST_PATHS:
            return
        kind = kind.present if path in known.there else kind
        found.append((path, kind))
        if kind.of is Of.RECORD and not kind.optional and depth < _MOST_DEPTH:
            for name in kind.names:
                inner = kind.field(name)
                if inner is not None:
                    visit(f"{path}.{spoken(name)}", inner, depth + 1)

    for name, kind in known.names.items():
        visit(spoken(name), kind, 0)
    return found


def _filled(record: Record, tree: Any, known: Known, taken: Record) -> Iterator[Filled]:
    sources = [(path, kind) for path, kind in paths_of(known) if kind.of is not Of.RECORD or kind.record is not None]
    said = {path: (slot, said_of(slot)) for path, _ in sources if (slot := _slot_at(path, known, taken)) is not None}
    for count, (path, slot) in enumerate(_parts(record, tree)):
        if count >= _MOST_PARTS:
            return
        fits = _ranked(path, slot, sources, said)
        line = _line(tree, path)
        yield Filled(path, _words(slot), bool(slot.least) and slot.default is None and slot.fixed is None, slot.is_list, line,
                     "" if line else _proposal(path, slot, fits, known, said), tuple(one for one, _ in fits[:_MOST_FITS]))


def _parts(record: Record, tree: Any, at: str = "", depth: int = 0) -> Iterator[tuple[str, Element]]:
    """What is filled one by one: simple parts, lists, and records as a whole where one expression stands for them."""
    for slot in record.slots:
        path = f"{at}.{slot.name}" if at else slot.name
        inner = tree.get(slot.name) if isinstance(tree, dict) else None
        if isinstance(slot.type, Record) and not slot.is_list and depth < _MOST_DEPTH and not isinstance(inner, str):
            yield from _parts(slot.type, inner, path, depth + 1)
        else:
            yield path, slot


def _line(tree: Any, path: str) -> str:
    for step in path.split("."):
        if not isinstance(tree, dict):
            return ""
        tree = tree.get(step)
    return "" if tree is None else "{…}" if isinstance(tree, dict) else str(tree)


def _words(slot: Element) -> str:
    kind = slot.type
    return kind.name if isinstance(kind, Record) else kind.name or kind.base


def _slot_at(path: str, known: Known, taken: Record) -> Element | None:
    """What is said of a part where it is declared: of an input, or of a field of what a step gave."""
    first, *rest = path.split(".")
    first = meant(first, known.names)
    kind = known.names.get(first)
    slot = next((one for one in taken.slots if one.name == first), None)
    for name in rest:
        if kind is None or kind.record is None:
            return None
        name = meant(name, kind.names)
        slot = next((one for one in kind.record.slots if one.name == name), None)
        kind = kind.field(name)
    return slot


def _ranked(path: str, slot: Element, sources: list[tuple[str, Type]], said: Said) -> list[tuple[str, Type]]:
    wanted = type_of(slot)
    found = []
    for source, kind in sources:
        if _could(wanted, kind):
            same_type = bool(kind.simple is not None and kind.simple.name and kind.simple == slot.type)
            meant = _meant(slot, source, said)
            found.append((likeness(path, source) + 0.4 * same_type + 0.5 * meant + 0.15 * (kind.of is wanted.of) - 0.2 * kind.optional,
                          source, kind))
    return [(source, kind) for _, source, kind in sorted(found, key=lambda one: -one[0])]


def _meant(slot: Element, source: str, said: Said) -> float:
    found = said.get(source)
    return meaning(slot, found[0], said_of(slot), found[1]) if found is not None else 0.0


def _could(wanted: Type, given: Type) -> bool:
    if wanted.of is Of.LIST or given.of is Of.LIST:
        return wanted.of is given.of and wanted.item is not None and given.item is not None and _could(wanted.item, given.item)
    if wanted.of is Of.RECORD or given.of is Of.RECORD:
        return wanted.of is given.of
    return wanted.of is given.of or (given.of in EXACT and wanted.of in NUMBERS and given.of is not Of.DECIMAL) or (
        wanted.of is Of.XML and given.of in SIMPLE)


def _proposal(path: str, slot: Element, fits: list[tuple[str, Type]], known: Known, said: Said) -> str:
    """The likeliest, when its name, its named type or what is said of it says so, and it really fits."""
    for source, kind in fits[:3]:
        alike = likeness(path.rpartition(".")[2], source.rpartition(".")[2]) >= _ALIKE
        same = bool(kind.simple is not None and kind.simple.name and kind.simple == slot.type)
        only = sum(1 for _, other in fits if other.simple == slot.type) == 1
        if alike or (same and only) or _meant(slot, source, said) >= _MEANT:
            try:
                compile_expression(source, known.names, "", known.there, slot)
            except (ProblemError, UnjudgedError):
                continue
            return source
    return ""
