"""Queries: a SELECT with named prompts, published as rows, as groups with totals, and as the rows behind a group."""

from typing import ClassVar, Literal

from pydantic import Field as Described

from bricola.core.definitions.base import Definition, ElementName, Line, Name, NamedPart, NamedParts, Names
from bricola.core.definitions.names import pascal_case, snake_case
from bricola.core.definitions.parts import TypedPart
from bricola.core.sql.filters import Filter


class Prompt(TypedPart):
    """A value that the SELECT takes where it says `:name`; always required, since the SELECT needs it.

    `binds: next-day` gives the statement the day after, so that `moment < :toDate` means to the end of that day.
    """

    binds: Literal["as-given", "next-day"] = "as-given"


class QueryColumn(TypedPart):
    """A column of the SELECT: named by `column`, or by the name in snake_case."""

    column: str = ""
    sensitive: bool = False
    zone: Literal["", "utc"] = ""

    @property
    def column_name(self) -> str:
        return self.column or snake_case(self.name)


class Measure(TypedPart):
    """A value of a group: a function over a column of its rows, or their count when no column is named."""

    type: str = "long"
    of: Literal["count", "sum", "least", "greatest", "mean"] = "count"
    column: ElementName | Literal[""] = ""


class Total(NamedPart):
    """A value over all rows of an answer: the sum of one of their elements."""

    sum: ElementName
    description: Line = ""


class QueryDefinition(Definition):
    """A report-like SELECT published as operations.

    `runs: query tonnage` gives its rows, grouped where `groups` are named; `runs: query tonnage.details` the rows
    behind them, a page at a time, with an optional input for each group's column. Rows come in the stated order.
    """

    kind: ClassVar[str] = "query"
    name: Name
    description: Line = ""
    backend: Name
    record: ElementName | Literal[""] = ""
    select: str = Described(min_length=1)
    prompts: NamedParts[Prompt] = ()
    columns: NamedParts[QueryColumn] = Described(min_length=1)
    filters: NamedParts[Filter] = ()
    key: Names = Described(min_length=1)  # columns that no two rows of the SELECT share
    order: Names = ()
    groups: Names = ()
    measures: NamedParts[Measure] = ()
    totals: NamedParts[Total] = ()
    most_rows: int = Described(1000, ge=1, le=100_000)

    @property
    def record_name(self) -> str:
        return self.record or f"{pascal_case(self.name)}Row"

    def column(self, name: str) -> QueryColumn | None:
        return next((one for one in self.columns if one.name == name), None)
