"""Queries: a SELECT with named prompts, published as rows, as groups with totals, and as the rows behind a group."""

from typing import Annotated, ClassVar, Literal

from pydantic import Field as Described

from bricola.core.definitions.base import Definition, ElementName, Line, Lines, Name, NamedPart, NamedParts, Names, Refers
from bricola.core.definitions.names import pascal_case
from bricola.core.definitions.parts import TypedPart
from bricola.core.sql.filters import Filter
from bricola.core.sql.parts import ResultColumn


class Prompt(TypedPart):
    """A value that the SELECT takes where it says `:name`; always required, since the SELECT needs it.

    `binds: next-day` gives the statement the day after, so that `moment < :toDate` means to the end of that day.
    """

    binds: Literal["as-given", "next-day"] = "as-given"
    """Whether the statement gets the value, or the day after."""


class Measure(TypedPart):
    """A value of a group: a function over a column of its rows, or their count when no column is named."""

    type: str = "long"
    """Its type."""
    of: Literal["count", "sum", "least", "greatest", "mean"] = "count"
    """What is worked out of the rows of a group."""
    column: Annotated[ElementName | Literal[""], Refers(".columns")] = ""
    """Of which column."""


class Total(NamedPart):
    """A value over all rows of an answer: the sum of one of their elements."""

    sum: ElementName
    """The element that is added up."""
    description: Line = ""
    """What it means, for callers."""


class QueryDefinition(Definition):
    """A report-like SELECT published as operations.

    `runs: query tonnage` gives its rows, grouped where `groups` are named; `runs: query tonnage.details` the rows
    behind them, a page at a time, with an optional input for each group's column. Rows come in the stated order.
    """

    kind: ClassVar[str] = "query"
    folder: ClassVar[str] = "queries"
    name: Name
    """What operations name it by."""
    description: Line = ""
    """What it reports, for callers."""
    backend: Annotated[Name, Refers("backend")]
    """The database."""
    record: ElementName | Literal[""] = ""
    """The name of a row in messages; made of the name when empty."""
    select: Annotated[str, Lines()] = Described(min_length=1)
    """The SELECT, with :name where a prompt stands."""
    prompts: NamedParts[Prompt] = ()
    """Values that the SELECT takes; each is required."""
    columns: NamedParts[ResultColumn] = Described(min_length=1)
    """The columns of the SELECT, in this order."""
    filters: NamedParts[Filter] = ()
    """What callers may say beside the prompts."""
    key: Annotated[Names, Refers(".columns")] = Described(min_length=1)
    """Columns that no two rows of the SELECT share."""
    order: Annotated[Names, Refers(".columns")] = ()
    """The order of the rows."""
    groups: Annotated[Names, Refers(".columns")] = ()
    """Columns by which rows are grouped."""
    measures: NamedParts[Measure] = ()
    """What is worked out for each group."""
    totals: NamedParts[Total] = ()
    """Sums over all rows of an answer."""
    most_rows: int = Described(1000, ge=1, le=100_000)
    """The most rows that it works with."""

    @property
    def record_name(self) -> str:
        return self.record or f"{pascal_case(self.name)}Row"

    def column(self, name: str) -> ResultColumn | None:
        return next((one for one in self.columns if one.name == name), None)
