"""What a database tells of its tables and views."""

from dataclasses import dataclass, field, replace

OPEN_ZONE = "open"


@dataclass(frozen=True)
class ColumnType:
    """The simple type that fits a column, with its facets; `base` is empty where none does. `zone` of a moment: utc, or open where the
    database does not say which zone it is in; empty where each value says it."""

    base: str
    facets: dict[str, object] = field(default_factory=dict, hash=False)
    zone: str = ""


@dataclass(frozen=True)
class Column:
    """A column. `declared` is the database's own word for its type; `default` a literal, or '' where it is none.

    `made` says that the database alone gives the value: a serial number, an expression over the row. `filled` says that it gives one where
    none is given: a clock, an identifier, any default that is no literal."""

    name: str
    declared: str
    type: ColumnType
    nullable: bool = True
    default: str = ""
    filled: bool = False
    made: bool = False
    comment: str = ""
    codes: tuple[str, ...] = ()
    codes_from: str = ""  # check constraint, enumeration, or the lookup table


@dataclass(frozen=True)
class ForeignKey:
    """Columns that hold the key of another table."""

    columns: tuple[str, ...]
    table: str
    targets: tuple[str, ...]


@dataclass(frozen=True)
class Table:
    """A table or view. `name` has its schema before a dot where it is not the connection's own.

    `rows` is a count, or an estimate where `exact` is False; None where the database does not tell.
    """

    name: str
    kind: str  # table or view
    comment: str = ""
    rows: int | None = None
    exact: bool = True
    columns: tuple[Column, ...] = ()
    key: tuple[str, ...] = ()
    key_from: str = ""  # primary key, or the unique index
    unique: tuple[str, ...] = ()  # columns whose values tell the rows apart alone, beside the key
    foreign_keys: tuple[ForeignKey, ...] = ()
    referenced_by: tuple[tuple[str, ForeignKey], ...] = ()  # the table that refers, and how
    obstacles: tuple[str, ...] = ()  # why it cannot be read at all

    def column(self, name: str) -> Column | None:
        return next((one for one in self.columns if one.name == name), None)

    @property
    def reasons(self) -> tuple[str, ...]:
        """Why no object can be made of it; empty when one can."""
        found = list(self.obstacles)
        if "." in self.name.partition(".")[2] or (self.name.count(".") == 1 and not all(self.name.split("."))):
            found.append("its name has a dot in it")
        if not self.key:
            found.append("it has no key: no primary key, and no unique index on columns that always have a value" if self.kind == "table"
                         else "a view has no key of its own: name the columns that tell its rows apart")
        if self.columns and not any(one.type.base for one in self.columns):
            found.append("none of its columns has a type that messages know")
        unusable = [one.name for one in self.columns if one.name in self.key and not one.type.base]
        if unusable:
            found.append(f"its key has a type that messages do not know: {', '.join(unusable)}")
        return tuple(found)

    def keyed(self, key: tuple[str, ...]) -> "Table":
        """The table with a key that somebody named."""
        return replace(self, key=key, key_from="named here")
