"""What is known at a point of a workflow: which names there are, of which types, and which of them are there for certain."""

import re
from collections.abc import Iterable
from dataclasses import dataclass, field, replace

from bricola.core.expressions.types import Type, merge

_WORDS = re.compile(r"\w+")
CAUGHT = "caught"  # what a handler knows of the failure
CALL = "call"  # what a workflow knows of the call that it answers


@dataclass(frozen=True)
class Known:
    """`names` by name; `there` are parts that are known to be there, `variables` the names that may be set again."""

    names: dict[str, Type]
    there: frozenset[str] = frozenset()
    variables: frozenset[str] = frozenset()

    def knowing(self, more: Iterable[str]) -> "Known":
        return replace(self, there=self.there | frozenset(more))

    def with_name(self, name: str, kind: Type, variable: bool = False) -> "Known":
        """With a new value under a name; what was known of the parts of an older one does not hold any more."""
        there = forgetting(self.there, (name,))
        return Known({**self.names, name: kind}, there, self.variables | {name} if variable else self.variables)

    def forgetting(self, names: Iterable[str]) -> "Known":
        return replace(self, there=forgetting(self.there, names))


def forgetting(there: frozenset[str], names: Iterable[str]) -> frozenset[str]:
    """What still holds when names get other values."""
    changed = frozenset(names)
    return frozenset(one for one in there if changed.isdisjoint(_WORDS.findall(one)))


@dataclass
class Merged:
    """What is known where ways come together, and names that are of other types on each."""

    known: Known | None
    unlike: list[tuple[str, Type, Type]] = field(default_factory=list)


def together(ways: Iterable[Known | None]) -> Merged:
    """Where several ways meet; None for one that ends before. A name that only some ways have may be absent."""
    merged = Merged(None)
    for one in ways:
        if one is None:
            continue
        before = merged.known
        if before is None:
            merged.known = one
            continue
        names: dict[str, Type] = {}
        for name in dict.fromkeys((*before.names, *one.names)):
            left, right = before.names.get(name), one.names.get(name)
            if left is None or right is None:
                names[name] = (left or right or one.names[name]).absent
                continue
            both = left if left == right else merge(left, right)
            if both is None:
                merged.unlike.append((name, left, right))
                continue
            names[name] = both
        merged.known = Known(names, before.there & one.there, before.variables | one.variables)
    return merged
