"""What is known where of the variables of a process. A workflow names values: each place in a variable that is written becomes a name, and
each place that is read the name or step from which its value comes."""

import keyword
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

from bricola.core.expressions.functions import FUNCTIONS
from bricola.core.expressions.types import record_of
from bricola.core.kinds.workflows.knowledge import CALL, CAUGHT
from bricola.core.kinds.workflows.processes.terms import MissingError, Term, UntakenError, fitted, step, type_in
from bricola.core.shapes.model import Element, Record
from bricola.core.shapes.simple import SimpleType

Path = tuple[str, ...]
Steps = dict[str, object]


@dataclass(frozen=True)
class Variable:
    """A variable: what it holds, and where in that the parts of its message are."""

    name: str
    holds: Record | SimpleType | None
    parts: Mapping[str, Path] = field(default_factory=dict)


class Names:
    """Gives names that nothing else has."""

    def __init__(self, taken: Iterable[str]) -> None:
        self._taken = {*taken, *keyword.kwlist, *FUNCTIONS, CALL, CAUGHT}

    def new(self, wanted: str) -> str:
        plain = "".join(one if one.isalnum() or one == "_" else "_" for one in wanted).strip("_") or "step"
        plain = plain if plain[0].isalpha() else f"s{plain}"
        plain = plain[0].lower() + plain[1:60]
        name, number = plain, 1
        while name in self._taken:
            number += 1
            name = f"{plain}{number}"
        self._taken.add(name)
        return name

    def state(self) -> set[str]:
        return set(self._taken)

    def back(self, state: set[str]) -> None:
        """As if nothing had been named since."""
        self._taken = state


class Places:
    """`bound` says what is at which place: the variable, then the path in it."""

    def __init__(self, variables: Mapping[str, Variable], names: Names) -> None:
        self.variables = dict(variables)
        self.names = names
        self.bound: dict[Path, Term] = {}
        self._own: dict[Path, str] = {}  # the name under which a place is set

    def name_of(self, place: Path) -> str:
        if place not in self._own:
            words = [one for one in place if one]
            self._own[place] = self.names.new(words[0] + "".join(one[:1].upper() + one[1:] for one in words[1:]))
        return self._own[place]

    def own(self) -> dict[Path, str]:
        return dict(self._own)

    def back(self, own: dict[Path, str]) -> None:
        self._own = own

    def has(self, place: Path) -> bool:
        """Whether something is known to be there, or in a part of it."""
        return any(key[:len(place)] == place or place[:len(key)] == key for key in self.bound)

    def below(self, place: Path) -> dict[Path, Term]:
        """What is known of its parts, where it is put together of them."""
        if place in self.bound:
            return {}
        return {key[len(place):]: term for key, term in self.bound.items() if len(key) > len(place) and key[:len(place)] == place}

    def holder(self, place: Path) -> "Element | Record | SimpleType | None":
        """What the documents say of a place."""
        known = self.variables.get(place[0])
        found: Element | Record | SimpleType | None = known.holds if known is not None else None
        for name in place[1:]:
            record = found.type if isinstance(found, Element) else found
            found = next((one for one in record.slots if one.name == name), None) if isinstance(record, Record) else None
        return found

    def slot(self, place: Path, local: str, attribute: bool = False) -> str:
        """The name of a part as messages write it."""
        holder = self.holder(place)
        record = holder.type if isinstance(holder, Element) else holder
        if not isinstance(record, Record):
            raise UntakenError(f"{'.'.join(place)} has no parts.")
        return slot_of(record, local, attribute)

    def read(self, place: Path) -> Term:
        """What is there. Raises MissingError where nothing is."""
        inner = any(len(key) > len(place) and key[:len(place)] == place for key in self.bound)
        for length in range(len(place), 0, -1):
            base = self.bound.get(place[:length])
            if base is None:
                continue
            if inner:
                return self._built(place)
            for name in place[length:]:
                base = step(base, name)
            return base
        if inner:
            return self._built(place)
        raise MissingError(f"Nothing has given {'.'.join(place)} a value here.")

    def _built(self, place: Path) -> Term:
        """A record of what is known of its parts."""
        holder = self.holder(place)
        record = holder.type if isinstance(holder, Element) else holder
        if not isinstance(record, Record):
            raise UntakenError(f"{'.'.join(place)} was written in parts that no document describes.")
        parts = []
        for one in record.slots:
            try:
                parts.append((one.name, self.read((*place, one.name))))
            except UntakenError:
                continue
        return Term("{" + ", ".join(f'"{name}": {term.text}' for name, term in parts) + "}", record_of(
            tuple((name, term.type) for name, term in parts)))

    def bind(self, place: Path, term: Term) -> None:
        """From here on it has this value, whatever was known of its parts."""
        self.bound = {key: one for key, one in self.bound.items() if key[:len(place)] != place}
        self.bound[place] = term

    def tree(self, place: Path, record: Record) -> dict[str, object]:
        """A map that fills a record of a message from a place."""
        found: dict[str, object] = {}
        for one in record.slots:
            inner = (*place, one.name)
            below = any(len(key) > len(inner) and key[:len(inner)] == inner for key in self.bound)
            if below and isinstance(one.type, Record) and not one.is_list and inner not in self.bound:
                found[one.name] = self.tree(inner, one.type)
                continue
            try:
                found[one.name] = written(self.read(inner), one)
            except UntakenError:
                continue
        return found


def written(term: Term, target: "Element | Record | SimpleType | None") -> str:
    """A term as it stands in a map."""
    return fitted(term, type_in(target)).text


def slot_of(record: Record, local: str, attribute: bool = False) -> str:
    """The slot of a record that messages write under a name."""
    among = record.attributes if attribute else record.elements
    found = next((one for one in among if one.local == local), None)
    if found is None:
        raise UntakenError(f"There is no {'attribute' if attribute else 'element'} {local} in {record.name}.")
    return found.name
