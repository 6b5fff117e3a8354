"""What is known of a kind of backend without talking to it: its word, its family, and which settings are its own.

The doors to it (sessions, staged checks, discovery) stand in `adapters/engines/<engine>/`, which the core does not know.
"""

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Any, Literal

from bricola.core.definitions.base import Frozen
from bricola.core.definitions.findings import Finding, Rules


class Family(StrEnum):
    """What a backend is, whatever its engine."""

    DATABASE = "database"
    TERMINAL_HOST = "terminal host"
    PROGRAM_HOST = "program host"
    SERVICE = "service"
    HTTP = "HTTP service"
    FOLDER = "folder"


@dataclass(frozen=True)
class Dialect:
    """How an engine's SQL differs from what all of them share."""

    casts_decimals: bool = False  # an expression has no affinity by which text would be compared as a number
    compares_rows: bool = True  # an index finds the place of (a, b) > (?, ?)
    # How the database itself writes a column as text, by the Python class of its type; `None` for the other classes.
    texts: Mapping[type | None, str] = field(default_factory=lambda: {None: "CAST({0} AS TEXT)"}, hash=False)

    routines: Literal["", "named", "variables"] = ""  # how procedures and functions are called, if there are any; see `core.sql.calling`

    def as_text(self, place: str, python: type) -> str:
        """An expression for the text of a column; of bytes in hexadecimal digits."""
        return self.texts.get(python, self.texts[None]).format(place)


@dataclass(frozen=True)
class Engine:
    """One engine. `backend` and `binding` are the parts of a definition and of a binding that belong to it; `example` is what to
    write where its place is missing, `is_file` whether that place is a file below the data folder (`is_folder`: a folder there), `is_web`
    whether it is a web address.

    Of a backend with its binding it says whether Bricola signs on (`needs_sign_on`), whether something stands in for it that needs no
    address (`stands_in`), and what the review finds (`findings`, given the environment and the place, by `rules`)."""

    word: str
    title: str
    family: Family
    binding: tuple[type[Frozen], ...]
    backend: type[Frozen] | None = None
    is_file: bool = False
    is_web: bool = False
    is_folder: bool = False
    example: str = "address: host:port"
    port: int | None = None  # that its servers listen on unless told otherwise
    dialect: Dialect | None = None
    needs_sign_on: Callable[[Any, Any], bool] = lambda backend, binding: True
    stands_in: Callable[[Any], bool] = lambda binding: False
    rules: Rules = field(default_factory=Rules)
    findings: Callable[[Any, Any, Any, str], Iterator[Finding]] = lambda backend, binding, environment, where: iter(())

    @property
    def settings(self) -> frozenset[str]:
        """The keys of a binding that mean something for this engine, beside its name and its pool."""
        return frozenset(name for part in self.binding for name in part.model_fields)


def by_word(engines: tuple[Engine, ...]) -> Mapping[str, Engine]:
    return {one.word: one for one in engines}
