"""What a definition names of others, and how to give those other names.

Where a name stands is not asked of the kinds: a text is tried with the new name, and if the definition then names the other one, it stood
there. So a field, a code or a word that happens to read the same stays what it is.
"""

import re
from collections.abc import Iterator, Mapping
from typing import Any

from pydantic import ValidationError

from bricola.core.definitions.base import Definition
from bricola.core.definitions.catalogue import Catalogue, Reference
from bricola.core.definitions.model import BackendDefinition, ServiceDefinition
from bricola.core.definitions.outside import ContractDefinition
from bricola.core.definitions.parts import RecordDefinition, TypeDefinition, TypedPart
from bricola.core.definitions.suites import SuiteDefinition
from bricola.core.kinds.registry import kind_of

_NOTHING = Catalogue()
_UNHEARD = "Zz_unheard_of"  # a name that nothing has
Place = tuple[str | int, ...]


def references_of(definition: Definition) -> set[Reference]:
    """Everything that a definition names directly: sources, types, records, contracts, backends, the service of a suite. A type and a
    record are named alike, so each such name stands for both."""
    found: set[Reference] = set()
    parts: list[TypedPart] = []
    if isinstance(definition, ServiceDefinition):
        found |= set(definition.sources)
        if definition.contract:
            found.add((ContractDefinition.kind, definition.contract))
    elif isinstance(definition, SuiteDefinition):
        found.add((ServiceDefinition.kind, definition.service))
    elif isinstance(definition, RecordDefinition):
        parts += definition.fields
    kind = kind_of(definition)
    if kind is not None:
        found |= set(kind.needs(definition))
        parts += kind.parts(definition)
        found |= {(BackendDefinition.kind, one) for one in kind.backends(definition, _NOTHING)}
    return found | {(word, one.type) for one in parts for word in (TypeDefinition.kind, RecordDefinition.kind)}


def renamed(definition: Definition, names: Mapping[Reference, str]) -> Definition:
    """The definition with other names: its own, and those of what it names. What a definition calls itself is a reference, too."""
    own = names.get((definition.kind, definition.name))
    data = definition.model_dump(exclude_unset=True)
    if own is not None:
        data["name"] = own
        definition = type(definition).model_validate(data)
    for reference, new in names.items():
        if reference in references_of(definition):
            definition = _named_anew(definition, reference, new)
    return definition


def _named_anew(definition: Definition, reference: Reference, new: str) -> Definition:
    kind, old = reference
    word = re.compile(rf"(?<![\w-]){re.escape(old)}(?![\w-])")
    data = definition.model_dump(exclude_unset=True)
    places = [(place, text) for place, text in _texts(data, ()) if word.search(text)]
    for place, text in places:
        tried = definition.model_dump(exclude_unset=True)
        _put(tried, place, word.sub(_UNHEARD, text))
        try:
            stands_there = (kind, _UNHEARD) in references_of(type(definition).model_validate(tried))
        except (ValidationError, ValueError):
            continue  # it stood for something else, which must read as it does
        if stands_there:
            _put(data, place, word.sub(lambda found: new, text))
    return type(definition).model_validate(data)


def _texts(data: Any, place: Place) -> Iterator[tuple[Place, str]]:
    if isinstance(data, str):
        yield place, data
    elif isinstance(data, dict):
        for key, value in data.items():
            yield from _texts(value, (*place, key))
    elif isinstance(data, list | tuple):
        for number, value in enumerate(data):
            yield from _texts(value, (*place, number))


def _put(data: Any, place: Place, text: str) -> None:
    for step in place[:-1]:
        if isinstance(data[step], tuple):
            data[step] = list(data[step])
        data = data[step]
    data[place[-1]] = text
