"""Help with maps: every part that can be filled, what fills it, and what else would fit.

Strategy: a part fits when its value may be read as the target's type at all. Among those that fit, names count first, since people who
wrote two contracts for one matter mostly agree on words; then what both mean, by the object whose key they hold, by descriptions, labels
and units; then types.
"""

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from decimal import Decimal
from functools import lru_cache
from itertools import islice

from bricola.core.problems import ProblemError
from bricola.core.shapes.mapping import compile_map
from bricola.core.shapes.model import Element, Record
from bricola.core.shapes.simple import SimpleType

_MOST_DEPTH, _MOST_PARTS, _MOST_SOURCES, _MOST_CANDIDATES = 8, 400, 1000, 8  # what a person can look through
_WORD = re.compile(r"[A-Z]+(?![a-z])|[A-Z]?[a-z]+|\d+")
_EMPTY = frozenset({"the", "and", "for", "its", "which", "what", "that", "this", "one", "with", "from", "who", "whose", "how", "are", "was",
                    "were", "has", "have", "not", "when", "where", "than", "then"})
_ANYTHING: frozenset[type] = frozenset((str,))
_NUMBERS: frozenset[type] = frozenset((int, Decimal, float))


@dataclass(frozen=True)
class Part:
    """One part to fill. `source` is what fills it, '' for nothing; `by` says why: `line`, `name` (the same), `own` (of the contract).
    `fits` are the parts that could fill it, the likeliest first."""

    path: str
    type: str
    required: bool
    list: bool
    source: str
    by: str
    fits: tuple[str, ...]


@dataclass(frozen=True)
class Matched:
    parts: tuple[Part, ...]
    missing: tuple[str, ...]  # required, and filled by nothing
    problems: ProblemError | None = None  # of lines that lead nowhere or do not fit


def match(target: Record, source: Record, lines: Mapping[str, str], place: str) -> Matched:
    """What a map of these lines fills, and with what."""
    problems: ProblemError | None = None
    named: dict[str, str] = {}
    missing: tuple[str, ...] = ()
    try:
        mapped = compile_map(target, source, lines, place)
        named, missing = dict(mapped.proposed), mapped.missing
    except ProblemError as error:
        problems = error
        try:
            mapped = compile_map(target, source, {}, place)  # at least what names alone fill
            named = dict(mapped.proposed)
        except ProblemError:
            pass
    sources = [(path, one, said_of(one)) for path, one in islice(_parts(source), _MOST_SOURCES)]
    parts = []
    for path, element in islice(_parts(target), _MOST_PARTS):
        line = lines.get(path, "")
        if isinstance(element.type, Record):
            if not element.is_list and not line:
                continue  # its parts are filled one by one
            fits = tuple(one for one, other, _ in sources if isinstance(other.type, Record) and other.is_list == element.is_list)
        else:
            fits = _ranked(path, element, sources)
        if isinstance(element.type, Record) and not line:  # a list that is filled item by item shows in its parts
            inside = next((one for target, one in named.items() if target.startswith(f"{path}.")), "")
            named |= {path: inside.rpartition(".")[0]} if inside else {}
        by = "line" if line else "name" if path in named else "own" if element.fixed is not None or element.default is not None else ""
        parts.append(Part(path, _words(element), bool(element.least), element.is_list, line or named.get(path, ""), by,
                          fits[:_MOST_CANDIDATES]))
    return Matched(tuple(parts), missing, problems)


def _parts(record: Record, at: str = "", depth: int = 0, around: tuple[str, ...] = ()) -> Iterator[tuple[str, Element]]:
    for slot in record.slots:
        path = f"{at}.{slot.name}" if at else slot.name
        yield path, slot
        if isinstance(slot.type, Record) and depth < _MOST_DEPTH and (not slot.type.id or slot.type.id not in around):
            yield from _parts(slot.type, path, depth + 1, (*around, slot.type.id))


def _words(element: Element) -> str:
    return element.type.name if isinstance(element.type, Record) else element.type.name or element.type.base


def _ranked(path: str, element: Element, sources: list[tuple[str, Element, frozenset[str]]]) -> tuple[str, ...]:
    kind, said = element.type, said_of(element)
    assert isinstance(kind, SimpleType)
    found = []
    for other, one, theirs in sources:
        if isinstance(one.type, SimpleType) and _fits(kind, one.type):
            alike = 0.25 * (kind.base == one.type.base) + 0.1 * (element.is_list == one.is_list)
            found.append((likeness(path, other) + 0.6 * meaning(element, one, said, theirs) + alike, other))
    return tuple(other for _, other in sorted(found, key=lambda one: -one[0]))


def _fits(kind: SimpleType, other: SimpleType) -> bool:
    wanted, given = kind.primitive.python, other.primitive.python
    return wanted is given or wanted in _ANYTHING or given in _ANYTHING or {wanted, given} <= _NUMBERS


def likeness(one: str, other: str) -> float:
    """How much two paths say the same, from 0 to 1: the last steps first, then the words around them."""
    mine, theirs = _words_of(one), _words_of(other)
    shared = len(mine & theirs) / max(1, len(mine | theirs))
    return 0.7 * _alike(one.rpartition(".")[2].lower(), other.rpartition(".")[2].lower()) + 0.3 * shared


def meaning(one: Element, other: Element, mine: frozenset[str], theirs: frozenset[str]) -> float:
    """How much two parts mean the same whatever they are called, from 0 to 1: the key of one object, or one named type; else the words that
    are said of them (`said_of`), and their unit."""
    if one.key_of and one.key_of == other.key_of:
        return 1.0
    if isinstance(one.type, SimpleType) and isinstance(other.type, SimpleType) and one.type.name and one.type.name == other.type.name:
        return 0.8
    shared = len(mine & theirs) / min(len(mine), len(theirs)) if mine and theirs else 0.0
    return min(1.0, 0.8 * shared + 0.2 * (bool(one.unit) and one.unit == other.unit))


def said_of(element: Element) -> frozenset[str]:
    """The words of its descriptions and labels that say something."""
    return _meant(" ".join((element.description, *(text for _, text in element.labels))))


@lru_cache(8192)
def _meant(text: str) -> frozenset[str]:
    """The words of a text that say something, without their endings."""
    words = (word.lower() for word in _WORD.findall(text))
    return frozenset(word[:-1] if word.endswith("s") and len(word) > 4 else word for word in words if len(word) > 2 and word not in _EMPTY)


@lru_cache(8192)
def _words_of(path: str) -> frozenset[str]:
    return frozenset(word.lower() for word in _WORD.findall(path))


def _alike(one: str, other: str) -> float:
    """The share of pairs of letters that two names have in common (Dice's coefficient), their ends marked: a step of it takes a set's
    intersection only, and of two large records there are some hundred thousand."""
    mine, theirs = _pairs(one), _pairs(other)
    return 2 * len(mine & theirs) / (len(mine) + len(theirs))


@lru_cache(8192)
def _pairs(name: str) -> frozenset[str]:
    ends = f" {name} "
    return frozenset(ends[at:at + 2] for at in range(len(ends) - 1))
