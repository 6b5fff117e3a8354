"""Objects: typed business views on tables, with their fields, parents, children and finders."""

from typing import ClassVar, Literal

from pydantic import Field as Described

from bricola.core.definitions.base import Definition, ElementName, Frozen, Line, Name, NamedPart, NamedParts, Names, Scalar
from bricola.core.definitions.names import pascal_case, snake_case
from bricola.core.definitions.parts import TypedPart
from bricola.core.sql.filters import Filter, PageLimit


class ObjectField(TypedPart):
    """A field of an object; its column is the field's name in snake_case when nothing else is said.

    What is read only is never taken from callers: the database fills it. What it fills only where nothing is given has a
    `database_default`, and may be left out. A field of a `parent` is joined, and read
    only. `refers_to` names the object whose key the field holds. `zone` of a column that holds moments without saying their zone: `utc`, or
    `local` for the clock on the wall, which is told without a zone. What is sensitive is masked wherever people look on.
    """

    column: str = ""
    parent: str = ""
    refers_to: str = ""
    read_only: bool = False
    default: Scalar | None = None
    database_default: bool = False
    sensitive: bool = False
    zone: Literal["", "utc", "local"] = ""

    @property
    def column_name(self) -> str:
        return self.column or snake_case(self.name)

    @property
    def writable(self) -> bool:
        return not self.read_only and not self.parent

    @property
    def may_be_made(self) -> bool:
        """Whether the database gives a value where none is given."""
        return self.read_only or self.database_default


class Finder(NamedPart):
    """A named query of an object. Rows come in the stated order, the key last, so that paging is exact.

    An order names fields; `passedAt descending` turns one round. A row with a value that breaks the contract is a fault that names it;
    with `unfit: left-out` the page leaves such rows out, and says how many and which.
    """

    description: Line = ""
    filters: NamedParts[Filter] = ()
    order: Names = ()
    limit: PageLimit = PageLimit()
    unfit: Literal["fault", "left-out"] = "fault"


class Parent(NamedPart):
    """A table whose row belongs to each row of the object: `on` gives the parent's column for each field that it equals."""

    table: str
    on: dict[ElementName, str] = Described(min_length=1)


class Child(NamedPart):
    """Rows of another object that belong to each row: `match` gives the object's field for each field of the child.

    They are read with their parent, and unless they are read only written with it in one transaction.
    """

    object: Name
    match: dict[ElementName, ElementName] = Described(min_length=1)
    description: Line = ""
    at_most: int = Described(1000, ge=1, le=100_000)
    read_only: bool = False


class HashToken(Frozen):
    """A change token without a column of its own: worked out from the values of the row and of its children."""

    hash: Literal["row"]


class ObjectDefinition(Definition):
    """A typed business view on one table of a database backend.

    `messages` says whether callers read the words with which triggers and functions of the database refuse a write; `own` keeps them for
    the record of the call.
    """

    kind: ClassVar[str] = "object"
    name: Name
    description: Line = ""
    backend: Name
    table: str
    record: ElementName | Literal[""] = ""
    key: Names = Described(min_length=1)
    change_token: HashToken | str = ""  # a column that every write raises by one, or {hash: row}
    messages: Literal["from-database", "own"] = "from-database"
    parents: NamedParts[Parent] = ()
    fields: NamedParts[ObjectField] = Described(min_length=1)
    children: NamedParts[Child] = ()
    finders: NamedParts[Finder] = ()

    @property
    def record_name(self) -> str:
        return self.record or pascal_case(self.name)

    @property
    def token_column(self) -> str:
        return self.change_token if isinstance(self.change_token, str) else ""

    @property
    def hashed(self) -> bool:
        return isinstance(self.change_token, HashToken)

    @property
    def made_keys(self) -> tuple[str, ...]:
        """The parts of the key that the database makes where they are not given."""
        return tuple(one for one in self.key if (found := self.field(one)) is not None and found.may_be_made)

    def finder(self, name: str) -> Finder | None:
        return next((one for one in self.finders if one.name == name), None)

    def field(self, name: str) -> ObjectField | None:
        return next((one for one in self.fields if one.name == name), None)
