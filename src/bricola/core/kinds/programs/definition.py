"""Programs that are reached through records: what goes in, what comes out, and where it lies in the areas of the program."""

from collections.abc import Mapping
from typing import Annotated, Any, ClassVar, Literal

from pydantic import Field as Described
from pydantic import model_validator

from bricola.core.cobol.alphabets import Floats, Order, Signs
from bricola.core.cobol.making import TableFollows
from bricola.core.definitions.base import Definition, Frozen, Line, Name, NamedPart, NamedParts, Names, Refers, Scalar
from bricola.core.definitions.parts import TypedPart
from bricola.core.shapes.model import Cause


class Held(Frozen):
    """How the areas of the program are held. What is not said follows from the code page: an EBCDIC one has big-endian COMP-5 and
    hexadecimal floats, any other the little-endian ones of a PC."""

    code_page: str = "ascii"
    """The code page of its texts, such as cp037 or cp273."""
    table_follows: TableFollows = "slides"
    """Whether what follows a table of varying length slides up when the table is short, or stays."""
    binary_truncate: bool = True
    """Whether COMP holds only what its picture says."""
    native_bytes: Literal[1, 2] = 1
    """How many bytes a COMP-5 of one or two digits takes."""
    order: Order | None = None
    """The order of the bytes of COMP-5 and of IEEE floats."""
    floats: Floats | None = None
    """The form of COMP-1 and COMP-2."""
    signs: Signs = "ascii"
    """How zoned numbers in ASCII hold their sign."""


class Area(NamedPart):
    """One record that is passed to the program, by reference. `room: whole` passes it at its full length, as a program that fills a table
    needs it; `filled` only as far as its tables are."""

    name: Name
    """What it is called here."""
    copybook: Annotated[Name, Refers("copybook")]
    """What lays it out."""
    record: str = ""
    """Which record (level 01) of the copybook, where it has several."""
    use: Literal["both", "in", "out"] = "both"
    """Whether the program reads it, writes it, or both."""
    room: Literal["whole", "filled"] = "whole"
    """Whether it is passed at its full length."""


class _Mapped(Frozen):
    item: str = ""
    """The item of the copybook, with as much of its path as it needs: TOLL-REPLY.TRP-TOTAL."""
    dates: str = ""
    """How a date or time looks in the item, such as YYYYMMDD."""
    means: dict[str, Scalar] = {}
    """What contents of the item mean, where that is something else: {N: narrow, B: barge}."""
    fields: "NamedParts[FieldMap]" = ()
    """For a group or a table: which item each field of the record is."""


class FieldMap(_Mapped, NamedPart):
    """Which item a field of a record is; written as `amount: TRL-AMOUNT` where nothing else is said."""

    @model_validator(mode="before")
    @classmethod
    def _short(cls, given: Any) -> Any:
        if isinstance(given, Mapping) and "" in given:
            return {"item": given[""], **{name: one for name, one in given.items() if name != ""}}
        return given


_Mapped.model_rebuild()


class ProgramInput(TypedPart, _Mapped):
    """What a caller gives, and the item that it goes to. One with a default may be left out."""

    default: Scalar | None = None
    """What is used when the caller leaves it out."""
    sensitive: bool = False
    """Whether it is masked wherever people look on."""


class ProgramOutput(TypedPart, _Mapped):
    """What a caller gets, and the item that it comes from. One that is not required is absent while the item is blank."""

    sensitive: bool = False
    """Whether it is masked wherever people look on."""


class ProgramFault(NamedPart):
    """A refusal of the program that callers are told as such: while a condition-name (level 88) holds, or an item has one of some values.
    `item: RETURN-CODE` is the register by which a program ends."""

    description: Line = ""
    """When it comes."""
    cause: Cause = "sender"
    """Who has to do something about it: the sender of the request, or the receiver."""
    condition: str = ""
    """The condition-name (level 88) that holds then."""
    item: str = ""
    """Or the item to look at."""
    values: Names = ()
    """Its values then: single ones, or ranges like 8..99."""
    message: str = ""
    """The item whose text is the message."""
    fields: Names = ()
    """Inputs and outputs that its detail has."""


class ViewRule(Frozen):
    """Which view of an item holds, by the contents of another."""

    by: str
    """The item that says it."""
    views: dict[str, str]
    """The view for each of its contents."""
    otherwise: str = ""
    """The view for all others."""


class ProgramDefinition(Definition):
    """A program reached through records that copybooks lay out.

    One that `writes` is never called again by itself once the call has begun. Items that nothing fills hold what the copybook gives them
    (VALUE), else blanks and zeros.
    """

    kind: ClassVar[str] = "program"
    name: Name
    """What operations name it by."""
    description: Line = ""
    """What it does, for callers."""
    backend: Annotated[Name, Refers("backend")]
    """Where it runs: a program host, an HTTP service that takes the record, or a folder where records are left."""
    calls: str = Described(min_length=1, max_length=200, pattern=r"^[A-Za-z0-9#@$_./-]+$")
    """Its name there; at an HTTP service the path below its address."""
    writes: bool = True
    """Whether it changes anything; one that does not may be called again when the connection is lost."""
    seconds: float = Described(30.0, gt=0, le=3600)
    """How long a call may take."""
    held: Held = Held()
    """How its areas are held."""
    areas: NamedParts[Area] = Described(min_length=1)
    """The records that are passed to it, in the order of its PROCEDURE DIVISION USING."""
    input: NamedParts[ProgramInput] = ()
    """What callers give."""
    fixed: dict[str, Scalar] = {}
    """What other items always hold."""
    output: NamedParts[ProgramOutput] = ()
    """What callers get."""
    views: dict[str, ViewRule] = {}
    """Which view holds of an item that is redefined."""
    faults: NamedParts[ProgramFault] = ()
    """Refusals that callers are told as faults, the first that holds."""
    accepts: tuple[int, ...] = (0,)
    """Return codes by which a program ends well; any other that no fault tells is a failure."""
