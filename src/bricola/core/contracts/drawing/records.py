"""Record definitions that are being drawn: names that fit, one record for each shape, notes for people."""

import re
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from bricola.core.definitions.names import camel_case, pascal_case
from bricola.core.definitions.parts import RecordDefinition
from bricola.core.definitions.text import read_data
from bricola.core.patterns.matcher import compile_pattern
from bricola.core.patterns.syntax import PatternError
from bricola.core.problems import Problem, ProblemError

_NAME = re.compile(r"[A-Za-z_][A-Za-z0-9_]{0,79}")
_MOST, _DEEPEST = 500, 50  # records of one drawing, and inside each other


@dataclass(frozen=True)
class DrawnRecords:
    """`records` begin with the one that is meant; the others stand inside it. `notes` say what is not as it was shown."""

    records: tuple[RecordDefinition, ...]
    notes: tuple[str, ...]


class Drawing:
    """Collects records. `begin` keeps the name, so that a record can be named before what is inside it is known."""

    def __init__(self) -> None:
        self._fields: dict[str, dict[str, Any] | None] = {}
        self._descriptions: dict[str, str] = {}
        self._notes: dict[str, None] = {}

    def note(self, words: str) -> None:
        self._notes[words] = None

    def begin(self, wanted: str) -> str:
        """A name for a record that no other one has."""
        if len(self._fields) >= _MOST:
            raise ProblemError(Problem("sample.records", "There are too many records in it.", expected=f"at most {_MOST}"))
        if sum(one is None for one in self._fields.values()) >= _DEEPEST:
            raise ProblemError(Problem("sample.depth", "Records are nested too deep.", expected=f"at most {_DEEPEST} inside each other"))
        base = wanted if _NAME.fullmatch(wanted) and wanted[0].isupper() else pascal_case(wanted)
        base = (base if _NAME.fullmatch(base) else f"Record{base}")[:76]
        name, count = base, 2
        while name in self._fields:
            name, count = f"{base}{count}", count + 1
        self._fields[name] = None
        return name

    def used(self, name: str) -> str:
        """The type of a field that holds a record of that name; a text where it is inside that record itself."""
        if self._fields[name] is not None:
            return name
        self.note(f"{name} stands inside itself, which a record cannot; the inner one is drawn as a text.")
        return "string"

    def pattern(self, ours: str | None, theirs: str, key: str) -> dict[str, str]:
        """A pattern as a facet, where it is one of XML Schema (W3C, Part 2, appendix F) by now; else it is told."""
        try:
            if ours is not None:
                compile_pattern(ours)
                return {"pattern": ours}
        except PatternError:
            pass  # told below, as what it was
        self.note(f"The pattern of {key} is none of XML Schema and is left out: {theirs[:80]}")
        return {}

    def end(self, name: str, fields: Mapping[str, Mapping[str, Any]], description: str = "") -> str:
        """Give a record its fields. Of one that is equal to another but for its name the other is taken; answers the name that counts."""
        for known, others in self._fields.items():
            if others == fields and known.rstrip("0123456789") == name.rstrip("0123456789") and known != name:
                del self._fields[name]
                return known
        if not fields:
            self.note(f"{name} has nothing in it, and a record needs a field.")
        self._fields[name] = {key: dict(one) for key, one in fields.items()}
        self._descriptions[name] = description
        return name

    def field(self, taken: Mapping[str, Any], wanted: str) -> str:
        """A name for a field that none of those taken has."""
        base = wanted if _NAME.fullmatch(wanted) else camel_case(wanted)
        base = (base if _NAME.fullmatch(base) else f"field{pascal_case(wanted)}")[:76]
        if base != wanted:
            self.note(f"{wanted} is called {base}: a field's name has letters, digits and underscores.")
        name, count = base, 2
        while name in taken:
            name, count = f"{base}{count}", count + 1
        if name != base:
            self.note(f"A second {wanted} is called {name}.")
        return name

    def done(self, first: str) -> DrawnRecords:
        """All of them, `first` before the others. Raises ProblemError where one is no record."""
        order = [first, *(one for one in self._fields if one != first)]
        bodies = [(one, self._fields[one]) for one in order]
        empty = [one for one, fields in bodies if not fields]
        if empty:
            raise ProblemError(*(Problem("sample.nothing", "There is nothing in it that a record could hold.", place=one,
                                         mend="Take a sample in which it is filled.") for one in empty))
        made = [read_data(RecordDefinition, {"name": one, **_described(self._descriptions[one]), "fields": fields}, f"record {one}")
                for one, fields in bodies]
        return DrawnRecords(tuple(one for one in made if isinstance(one, RecordDefinition)), tuple(self._notes))


def _described(words: str) -> dict[str, str]:
    return {"description": words[:2000]} if words else {}
