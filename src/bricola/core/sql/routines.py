"""What a database tells of its procedures and functions, and what a session does with them."""

from collections.abc import Callable, Coroutine, Sequence
from dataclasses import dataclass
from typing import Any, Literal, NamedTuple, Protocol

from bricola.core.sql.sessions import NO_LIMIT, DatabaseSession, DatabaseTransaction, DriverRow, T
from bricola.core.sql.tables import Column, ColumnType

Way = Literal["in", "out", "in-out", "returns"]  # ISO/IEC 9075-2, 11.60; `returns` is the value of a function
Form = Literal["function", "procedure"]
CURSOR = "refcursor"  # the type of a parameter that names an open cursor, where an engine has it


@dataclass(frozen=True)
class Parameter:
    """A parameter, or the value of a function (`returns`). One without a name has none; `optional` ones may be left out of a call."""

    name: str
    way: Way
    declared: str
    type: ColumnType
    optional: bool = False
    default: str = ""
    codes: tuple[str, ...] = ()


@dataclass(frozen=True)
class Routine:
    """A procedure or function. `signature` tells it from others of its name; '' where there can be none.

    `columns` are those of the rows that a function gives, with `gives_rows`. With `shows_rows` what rows it gives, if any, shows only when
    it runs. `writes` says that it may change something, as far as its declaration tells. `obstacles` say why it cannot be called."""

    name: str
    form: Form
    signature: str = ""
    comment: str = ""
    parameters: tuple[Parameter, ...] = ()
    columns: tuple[Column, ...] = ()
    gives_rows: bool = False
    shows_rows: bool = False
    writes: bool = True
    obstacles: tuple[str, ...] = ()

    @property
    def called(self) -> str:
        """Its name with what tells it from others, for people."""
        return f"{self.name}({self.signature})"

    @property
    def reasons(self) -> tuple[str, ...]:
        """Why it cannot be published; empty when it can."""
        found = list(self.obstacles)
        if "." in self.name.partition(".")[2] or not all(self.name.split(".")):
            found.append("its name has a dot in it")
        for one in self.parameters:
            if not one.type.base and one.declared != CURSOR and not one.optional and one.way in ("in", "in-out"):
                found.append(f"messages have no type for {one.declared}, which {one.name} takes")
        return tuple(found)


class Results(NamedTuple):
    """The rows that a statement gave, in its own order, with the names of their columns; `types` asks what they are."""

    columns: tuple[str, ...]
    rows: list[DriverRow]
    types: Callable[[], Sequence[ColumnType | None]]


class RoutineTransaction(DatabaseTransaction, Protocol):
    """What runs around a call; see DatabaseTransaction for statements and errors."""

    async def results(self, sql: str, parameters: Sequence[Any]) -> list[Results]:
        """Everything that a call of a routine gives: no rows, or some, or several times. What it leaves on the session (settings, temporary
        tables) is taken away before anybody else has it. Raises RefusedError for what the database or the routine does not allow."""
        ...

    async def ended(self) -> bool:
        """Whether the transaction is over already: a routine has committed it, or rolled it back."""
        ...


Calls = Callable[[RoutineTransaction], Coroutine[Any, Any, T]]


class RoutineSession(DatabaseSession, Protocol):
    """A session to a database that has routines."""

    async def in_transaction(self, work: Calls[T], within: float = NO_LIMIT) -> T: ...

    async def reading(self, work: Calls[T], within: float = NO_LIMIT) -> T:
        """Run `work` in a transaction in which the database refuses every change; see `in_transaction`. As a part of one that is kept over
        several steps it may change what that one may."""
        ...

    async def alone(self, work: Calls[T], within: float = NO_LIMIT) -> T:
        """Run `work` without a transaction around it: each statement stands for itself, and what a routine commits is stored.

        Raises ProblemError in a transaction that is kept over several steps."""
        ...
