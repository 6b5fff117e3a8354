"""Which kinds of definition there are, and how an operation's `runs:` names what it runs.

A kind of source says here, when it is loaded, by which word its files begin and how it is named. So reading a definition needs no
knowledge of what kinds there are.
"""

import importlib
import re
from dataclasses import dataclass
from functools import lru_cache
from typing import NamedTuple

from bricola.core.definitions.base import Definition

_RUNS = re.compile(r"(?:(?P<kind>[a-z][a-z0-9-]*) )?(?P<name>[A-Za-z][\w-]*)(?:\.(?P<verb>[A-Za-z]\w*))?")


@dataclass(frozen=True)
class RunsForm:
    """How a kind of source is named: `object.verb` where it is `bare`, else `kind name.verb`. `verbs` are those that may be written,
    None for any; without one the `default` is meant, and where there is none a verb must be written."""

    bare: bool = False
    verbs: tuple[str, ...] | None = ()
    default: str = "run"

    def example(self, word: str) -> str:
        start = "name" if self.bare else f"{word} name"
        return f"{start}.verb" if not self.default else start


class Runs(NamedTuple):
    """What an operation runs: the kind and name of a definition, and what of it."""

    kind: str
    name: str
    verb: str


_MODELS: dict[str, type[Definition]] = {}
_FORMS: dict[str, RunsForm] = {}


def add_kind(model: type[Definition], form: RunsForm | None = None) -> None:
    """Make a kind of definition known; with a form, operations can run it. Again: the newer one counts."""
    _MODELS[model.kind] = model
    if form is not None:
        _FORMS[model.kind] = form
    read_runs.cache_clear()


def remove_kind(word: str) -> None:
    _MODELS.pop(word, None)
    _FORMS.pop(word, None)
    read_runs.cache_clear()


def models() -> dict[str, type[Definition]]:
    """Every kind of definition by its word."""
    _load()
    return dict(_MODELS)


def _load() -> None:
    """The kinds that ship with Bricola, at the first need. They are found by name, since nothing down here may know them."""
    if not _FORMS:
        importlib.import_module("bricola.core.kinds")


@lru_cache(4096)
def read_runs(text: str) -> Runs:
    """What a `runs:` names. Raises ValueError with the forms that there are."""
    _load()
    found = _RUNS.fullmatch(text)
    forms = ", ".join(f"'{form.example(word)}'" for word, form in _FORMS.items())
    if found is None:
        raise ValueError(f"this names nothing that an operation can run; the forms are {forms}")
    bare = next((word for word, form in _FORMS.items() if form.bare), "")
    kind, verb = found["kind"] or bare, found["verb"] or ""
    form = _FORMS.get(kind)
    if form is None:
        raise ValueError(f"there is no kind of source called {kind}; the forms are {forms}")
    if not verb and not form.default:
        raise ValueError(f"what of {found['name']} is missing; write '{form.example(kind)}'")
    if verb and form.verbs is not None and verb not in form.verbs:
        raise ValueError(f"a {kind} has no {verb}; write '{form.example(kind)}'" + (
            f", or with .{' or .'.join(form.verbs)}" if form.verbs else ""))
    return Runs(kind, found["name"], verb or form.default)
