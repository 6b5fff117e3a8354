"""Objects: typed business views on tables, with their fields, parents, children and finders."""

from typing import Annotated, ClassVar, Literal

from pydantic import Field as Described

from bricola.core.definitions.base import Definition, ElementName, Frozen, Line, Name, NamedPart, NamedParts, Names, Refers, Scalar
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
    """The column; the name in snake_case when empty."""
    parent: Annotated[str, Refers(".parents")] = ""
    """The parent whose column it is; it is read only then."""
    refers_to: Annotated[str, Refers("object")] = ""
    """The object whose key it holds."""
    read_only: bool = False
    """Whether the database fills it, and callers never do."""
    default: Scalar | None = None
    """The value where the caller gives none."""
    database_default: bool = False
    """Whether the database gives a value where the caller gives none."""
    sensitive: bool = False
    """Whether it is masked wherever people look on."""
    zone: Literal["", "utc", "local"] = ""
    """What a moment without a zone means."""

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
    """What it finds, for callers."""
    filters: NamedParts[Filter] = ()
    """What callers may say."""
    order: Annotated[Names, Refers(".fields")] = ()
    """The order of the rows, like 'passedAt descending'."""
    limit: PageLimit = PageLimit()
    """How many rows an answer has."""
    unfit: Literal["fault", "left-out"] = "fault"
    """What becomes of rows that break the contract."""


class Parent(NamedPart):
    """A table whose row belongs to each row of the object: `on` gives the parent's column for each field that it equals."""

    table: str
    """The table of the row that belongs to it."""
    on: dict[ElementName, str] = Described(min_length=1)
    """For each column of the parent the field that it equals."""


class Child(NamedPart):
    """Rows of another object that belong to each row: `match` gives the object's field for each field of the child.

    They are read with their parent, and unless they are read only written with it in one transaction.
    """

    object: Annotated[Name, Refers("object")]
    """The object whose rows belong to it."""
    match: dict[ElementName, ElementName] = Described(min_length=1)
    """For each field of the child the field that it equals."""
    description: Line = ""
    """What they are, for callers."""
    at_most: int = Described(1000, ge=1, le=100_000)
    """The most rows of one parent."""
    read_only: bool = False
    """Whether they are only read with it."""


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
    """What operations name it by."""
    description: Line = ""
    """What it is, for callers."""
    backend: Annotated[Name, Refers("backend")]
    """The database."""
    table: str
    """The table or view."""
    record: ElementName | Literal[""] = ""
    """Its name in messages; made of the name when empty."""
    key: Annotated[Names, Refers(".fields")] = Described(min_length=1)
    """The fields that no two rows share."""
    change_token: HashToken | str = ""
    """A column that every write raises by one; tells that a row was changed meanwhile."""
    messages: Literal["from-database", "own"] = "from-database"
    """Whether callers read the words with which the database refuses a write."""
    parents: NamedParts[Parent] = ()
    """Tables whose row belongs to each row."""
    fields: NamedParts[ObjectField] = Described(min_length=1)
    """Its fields, in this order."""
    children: NamedParts[Child] = ()
    """Rows of other objects that belong to each row."""
    finders: NamedParts[Finder] = ()
    """Named searches."""

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
