"""What may stand in the place of what: types by derivation (XML Schema Part 1, section 3.4.6), elements by substitution (3.3.6)."""

from collections.abc import Mapping, Sequence

from bricola.core.contracts.reading.schemas import Index, Schema, X

_CONTENTS = (f"{X}complexContent", f"{X}simpleContent")


class Derivations:
    """Found in one walk through the schemas, when it is first asked for."""

    def __init__(self, index: Index) -> None:
        self._index = index
        self._derived: dict[str, list[str]] | None = None
        self._members: dict[str, list[str]] | None = None

    def next(self, tag: str) -> Sequence[str]:
        """The named types that derive from a type in one step."""
        return self._steps.get(tag, ())

    def below(self, tag: str) -> list[str]:
        """The named types that derive from a type, all the way down."""
        return _reached(tag, self._steps) if self.next(tag) else []

    @property
    def _steps(self) -> dict[str, list[str]]:
        if self._derived is None:
            self._derived = self._find()
        return self._derived

    def members(self, head: str) -> list[str]:
        """The members of a substitution group, all the way down."""
        if self._members is None:
            self._members = {}
            for tag, component in self._index.elements.items():
                name = component.node.get("substitutionGroup")
                group = component.schema.expand(component.node, name) if name else None
                if group is not None:
                    self._members.setdefault(group, []).append(tag)
        return _reached(head, self._members)

    def _find(self) -> dict[str, list[str]]:
        found: dict[str, list[str]] = {}
        declared: dict[object, list[tuple[str, Schema]]] = {}  # a schema without namespace may be included under several
        for tag, component in self._index.types.items():
            declared.setdefault(component.node, []).append((tag, component.schema))
        for root in {id(one): one for several in declared.values() for _, schema in several for one in (schema.root,)}.values():
            for step in root.iter(f"{X}extension", f"{X}restriction"):
                outer = step.getparent()
                if outer is not None and outer.tag in _CONTENTS:
                    outer = outer.getparent()
                for tag, schema in declared.get(outer, ()) if step.get("base") else ():
                    base = schema.expand(step, step.get("base", ""))
                    if base is not None and base != tag:
                        found.setdefault(base, []).append(tag)
        return found


def _reached(start: str, steps: Mapping[str, Sequence[str]]) -> list[str]:
    found: dict[str, None] = {}
    waiting = list(steps.get(start, ()))
    while waiting:
        one = waiting.pop(0)
        if one not in found and one != start:
            found[one] = None
            waiting += steps.get(one, ())
    return list(found)
