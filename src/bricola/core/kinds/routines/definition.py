"""Procedures and functions of a database: which one, what goes in, what comes out, and which of its errors callers are told."""

from collections.abc import Mapping
from typing import Annotated, Any, ClassVar, Literal

from pydantic import BeforeValidator, StringConstraints, model_validator
from pydantic import Field as Described

from bricola.core.definitions.base import Definition, ElementName, Line, Name, NamedPart, NamedParts, Names, Refers, Scalar
from bricola.core.definitions.names import pascal_case, snake_case
from bricola.core.definitions.parts import TypedPart
from bricola.core.shapes.model import Cause
from bricola.core.sql.parts import ResultColumn

ParameterName = Annotated[str, StringConstraints(pattern=r"^[^\x00-\x1f]{1,128}$")]
SqlState = Annotated[str, StringConstraints(pattern=r"^[0-9A-Z]{5}$")]  # ISO/IEC 9075-2, 24.1


def _list_of_texts(given: object) -> object:
    """`states: 45001` is a number in YAML, and a code here."""
    several = given if isinstance(given, list | tuple) else [given]
    return [str(one) if isinstance(one, int) and not isinstance(one, bool) else one for one in several]


class RoutineParameter(NamedPart):
    """A parameter as the database declares it, in its order; written as `p_lock: text` where it only goes in. One without a name is called
    $1, $2, … by its place. `returns` is the value of a function."""

    name: ParameterName
    """What the database calls it."""
    declared: str = Described(min_length=1, max_length=200, pattern=r'^[A-Za-z_"][\w ."(),\'\[\]]*$')
    """Its type there."""
    way: Literal["in", "out", "in-out", "returns"] = "in"
    """Whether it goes in, comes out, or both; or is what a function gives."""
    optional: bool = False
    """Whether a call may leave it out, since it has a default there."""

    @model_validator(mode="before")
    @classmethod
    def _short(cls, given: Any) -> Any:
        if isinstance(given, Mapping) and "" in given:
            return {"declared": given[""], **{name: one for name, one in given.items() if name != ""}}
        return given


class _Held(TypedPart):
    parameter: str = ""
    """The parameter; the name in snake_case when empty."""
    sensitive: bool = False
    """Whether it is masked wherever people look on."""
    zone: Literal["", "utc", "local"] = ""
    """What a moment without a zone means: UTC, or the clock on the wall."""

    @property
    def parameter_name(self) -> str:
        return self.parameter or snake_case(self.name)


class RoutineInput(_Held):
    """What a caller gives, and the parameter that it goes to. One with a default may be left out; one that is not required is NULL, or left
    out of the call where the database has a default for it."""

    default: Scalar | None = None
    """What is used when the caller leaves it out."""


class RoutineOutput(_Held):
    """What a caller gets, and the parameter that it comes from."""


class ResultSet(NamedPart):
    """Rows that the routine gives, as a list in the answer."""

    record: ElementName | Literal[""] = ""
    """The name of a row in messages; made of the name when empty."""
    description: Line = ""
    """What the rows are, for callers."""
    set: int = Described(0, ge=0, le=50)
    """Which result it is, counted from 1; 0 for the one after those before."""
    optional: bool = False
    """Whether the routine may leave it out."""
    most: int = Described(1000, ge=1, le=100_000)
    """The most rows of an answer."""
    columns: NamedParts[ResultColumn] = Described(min_length=1)
    """The columns of the result, by their names there."""

    @property
    def record_name(self) -> str:
        return self.record or pascal_case(self.name)


class RoutineFault(NamedPart):
    """A refusal that callers are told as such: an error that the routine raises, by its state, its number or its words; or a value of what
    comes out. Nothing of the call is stored then, but for what a routine has committed by itself."""

    description: Line = ""
    """When it comes."""
    cause: Cause = "sender"
    """Who has to do something about it: the sender of the request, or the receiver."""
    states: Annotated[tuple[SqlState, ...], BeforeValidator(_list_of_texts)] = ()
    """The SQLSTATEs of the error, each of five characters."""
    numbers: tuple[int, ...] = ()
    """Numbers that the engine itself gives the error, where it has them."""
    says: str = ""
    """A regular expression that its words hold."""
    parameter: str = ""
    """Or the parameter that comes out, whose value tells it."""
    values: Annotated[tuple[Scalar, ...], BeforeValidator(_list_of_texts)] = ()
    """The values of that parameter."""
    message: str = ""
    """What callers are told in place of the routine's own words."""
    fields: Names = ()
    """Inputs and outputs that its detail has."""


class RoutineDefinition(Definition):
    """A procedure or function of a database, published as an operation.

    It runs in one transaction, which is committed when it ends and rolled back when a fault is told. A routine that ends transactions
    itself is `transaction: own`: it can have no trial, and no part in a transaction of several steps. One of `writes: false` runs where
    the database refuses every change, and is called again when the connection is lost.
    """

    kind: ClassVar[str] = "routine"
    name: Name
    """What operations name it by."""
    description: Line = ""
    """What it does, for callers."""
    backend: Annotated[Name, Refers("backend")]
    """The database."""
    calls: str = Described(min_length=1, max_length=200)
    """Its name there, after its schema and a dot where it is not the connection's own."""
    form: Literal["function", "procedure"]
    """Whether it is a function or a procedure."""
    writes: bool = True
    """Whether it changes anything."""
    transaction: Literal["joins", "own"] = "joins"
    """Whether it runs in a transaction of ours, or makes its own."""
    messages: Literal["from-database", "own"] = "from-database"
    """Whether callers read the words with which it refuses."""
    parameters: NamedParts[RoutineParameter] = ()
    """Its parameters, as the database declares them."""
    input: NamedParts[RoutineInput] = ()
    """What callers give."""
    fixed: dict[str, Scalar | None] = {}
    """What other parameters always get; null for NULL."""
    output: NamedParts[RoutineOutput] = ()
    """What callers get of the parameters that come out."""
    rows: NamedParts[ResultSet] = ()
    """The rows that it gives, result by result."""
    faults: NamedParts[RoutineFault] = ()
    """Refusals that callers are told as faults, the first that fits."""

    @property
    def gives_rows(self) -> bool:
        """Whether it is a function that gives rows of its own, and no values or cursors."""
        return self.form == "function" and bool(self.rows) and all(one.way == "in" for one in self.parameters)
