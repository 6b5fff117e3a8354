"""Elements, records, operations and services as callers see them. All immutable; made once per release.

One model for contracts that we write and for those of others. What we write is plain: records are sequences of elements in one
namespace. What others write may have attributes, text beside attributes, alternatives, repeated groups, open parts, several
namespaces, derived types and records inside themselves. Whatever it is, the value of a record is a mapping from the names of its
`slots` to values, so that forms, maps, JSON and documentation need to know slots only; `content` is the grammar that the codecs follow.

| slot | value |
| --- | --- |
| an element, an attribute | its value; a list where it repeats |
| the text of a record with simple content | its value, under `value` |
| a group that repeats | a list of mappings, one for each time that it stands |
| an open part (`any`), mixed content | elements, or markup, as XML text |
| `@type` | which derived type stands, by its name |
"""

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from enum import StrEnum
from functools import cached_property
from typing import Any, Literal

from bricola.core.shapes.forms import NEWEST, Form
from bricola.core.shapes.primitives import Value
from bricola.core.shapes.simple import SimpleType

Values = dict[str, Any]  # of a message, by the names of its slots
TYPE = "@type"
Cause = Literal["sender", "receiver"]  # of a fault, in the words of SOAP 1.2 (Part 1, section 5.4.6)


class Passed(dict[str, Any]):
    """Values that came as a message and are passed on as they came: `markup` is their element as XML text, `headers` are header blocks.
    The values themselves are there for faces that do not speak XML."""

    def __init__(self, values: Values, markup: str, headers: tuple[str, ...] = ()) -> None:
        super().__init__(values)
        self.markup = markup
        self.headers = headers


@dataclass(frozen=True)
class Element:
    """One element of a message, or an attribute. `most` None means unbounded; a list is an element with `most` other than 1.

    `name` is the name of its value. `tag` is its expanded name, `{namespace}local`, where that is not `name` in the service's namespace.
    """

    name: str
    type: "SimpleType | Record"
    least: int = 1
    most: int | None = 1
    description: str = ""
    default: Value = None  # applied when the caller leaves it out
    sample: Value = None  # a value that really works, for forms and sample messages
    labels: tuple[tuple[str, str], ...] = ()  # for people: (language, text), the first when none fits
    unit: str = ""
    sensitive: bool = False  # masked wherever people look on
    nillable: bool = False  # nil is a value here: it empties a field
    key_of: str = ""  # the object whose key it holds
    echoed: bool = False  # it was given by an earlier answer, so nobody makes one up
    tag: str | None = None
    fixed: Value = None  # the only value that it may have; filled in where it must stand
    when_empty: Value = None  # its value when it stands empty (the default of an element in XML Schema)

    @property
    def label(self) -> str:
        return self.labels[0][1] if self.labels else ""

    @property
    def is_list(self) -> bool:
        return self.most != 1

    @property
    def occurrence(self) -> str:
        """How often it stands, in words."""
        if not self.is_list:
            return "required" if self.least else "optional"
        return f"{self.least} to {'any number' if self.most is None else self.most}"

    def tag_in(self, namespace: str) -> str:
        """Its expanded name in a service with this namespace."""
        return f"{{{namespace}}}{self.name}" if self.tag is None else self.tag

    @property
    def local(self) -> str:
        """The name that stands in messages."""
        return self.name if self.tag is None else self.tag.rpartition("}")[2]


class Order(StrEnum):
    """How the parts of a group stand: all in order, one of them, all in any order (XML Schema Part 1, section 3.8)."""

    SEQUENCE = "sequence"
    CHOICE = "choice"
    ALL = "all"


@dataclass(frozen=True)
class Wildcard:
    """An open part: elements, or attributes, of these namespaces (Part 1, section 3.10). `namespaces` None means any; `but` turns the
    meaning round. `checked`: its content must be known (strict), is judged when it is (lax), or is let through (skip)."""

    name: str = "any"
    namespaces: tuple[str, ...] | None = None
    but: bool = False
    checked: str = "strict"
    least: int = 1
    most: int | None = 1
    find: "Callable[[str], Record | None] | None" = field(default=None, compare=False, repr=False)  # a global element by its tag
    known: "Callable[[], Iterable[str]] | None" = field(default=None, compare=False, repr=False)  # the tags of all of them

    def takes(self, tag: str) -> bool:
        if self.namespaces is None:
            return True
        namespace = tag[1:].partition("}")[0] if tag[:1] == "{" else ""
        return (namespace in self.namespaces) is not self.but

    @property
    def words(self) -> str:
        if self.namespaces is None:
            return "any element"
        named = ", ".join(one or "no namespace" for one in self.namespaces)
        return f"an element of {'another namespace than ' if self.but else ''}{named}"


@dataclass(frozen=True)
class Group:
    """Parts in an order. One that stands more than once has a `name`, under which its values are a list of mappings."""

    order: Order
    parts: tuple["Element | Group | Wildcard", ...]
    least: int = 1
    most: int | None = 1
    name: str = ""

    @cached_property
    def names(self) -> frozenset[str]:
        """The slots that its parts fill."""
        if self.name:
            return frozenset((self.name,))
        return frozenset(one for part in self.parts for one in (part.names if isinstance(part, Group) else (part.name,)))

    @cached_property
    def inside(self) -> "Group":
        """What stands each time."""
        return Group(self.order, self.parts)

    @cached_property
    def may_be_empty(self) -> bool:
        def empty(part: "Element | Group | Wildcard") -> bool:
            return part.least == 0 or (isinstance(part, Group) and part.may_be_empty)

        return self.least == 0 or (any if self.order is Order.CHOICE else all)(empty(part) for part in self.parts)


@dataclass(frozen=True, eq=False)
class Record:
    """A sequence of elements, and in contracts of others what else there is. `name` is the complex type's name in the contract, or that of
    the message's element. Those of others are equal by their `id` alone, since they may hold themselves."""

    name: str
    elements: tuple[Element, ...] = ()
    description: str = ""
    tag: str | None = None  # of a message: its element's expanded name, where that is not `name` in the service's namespace
    type: str = ""  # the expanded name of its type, for xsi:type; '' when the type has none
    content: Group | None = None  # where `elements` are not simply a sequence
    attributes: tuple[Element, ...] = ()
    open_attributes: Wildcard | None = None  # its value is a mapping from expanded names to text
    text: Element | None = None  # simple content: there are no elements then
    mixed: str = ""  # the slot of what stands inside as markup, where text may stand between the elements
    abstract: bool = False
    derived: tuple["Record", ...] = ()  # what may stand in its place by xsi:type, all the way down
    nillable: bool = False  # of a message's element
    part: bool = False  # a group that repeats, and no element of its own
    id: str = ""  # of a record of somebody's contract

    def __eq__(self, other: object) -> bool:
        if not isinstance(other, Record) or self.id or other.id:
            return isinstance(other, Record) and self.id == other.id
        return (self.name, self.description, self.elements) == (other.name, other.description, other.elements)

    def __hash__(self) -> int:
        return hash(self.id or (self.name, self.elements))

    @cached_property
    def slots(self) -> tuple[Element, ...]:
        """Everything that has a value, in the order of the message."""
        own = (*self.attributes, *((self.text,) if self.text is not None else ()))
        if self.mixed:
            return (*own, Element(self.mixed, MARKUP, 0, description="What stands inside, as XML"))
        open_part = self.open_attributes
        more = (Element(open_part.name, MARKUP, 0, description="Further attributes"),) if open_part is not None else ()
        return (*own, *self.elements, *more)

    @cached_property
    def is_plain(self) -> bool:
        """Whether it is a sequence of elements and nothing else."""
        return not (self.content or self.attributes or self.open_attributes or self.text or self.mixed or self.abstract or self.derived)

    def tag_in(self, namespace: str) -> str:
        """The expanded name of its element, as a message of a service with this namespace."""
        return f"{{{namespace}}}{self.name}" if self.tag is None else self.tag

    @property
    def local(self) -> str:
        return self.name if self.tag is None else self.tag.rpartition("}")[2]


MARKUP = SimpleType("anyType")


def type_names(record: Record) -> dict[str, Record]:
    """The types that may stand where one is declared, by what `@type` calls them: their names, or expanded names where two are alike."""
    found: dict[str, Record] = {}
    for one in (record, *record.derived):
        found[one.type if one.name in found else one.name] = one
    return found


@dataclass(frozen=True)
class FaultShape:
    """A declared fault: its detail element has the fault's name and holds these elements. `cause` is who has to do something about it."""

    name: str
    record: Record
    description: str = ""
    cause: Cause = "sender"


@dataclass(frozen=True)
class OperationShape:
    """One operation. Input and output are the contents of the wrapper elements (document/literal wrapped)."""

    name: str
    input: Record
    output: Record
    faults: tuple[FaultShape, ...] = ()
    description: str = ""
    writes: bool = False
    one_way: bool = False  # nothing is answered
    action: str | None = None  # SOAPAction, where the contract is somebody else's; None: made from names
    headers: tuple[Record, ...] = ()  # header blocks that the contract declares for requests
    calls: str = ""  # the namespace of its wrappers, where input and output are one part each of an rpc message; see `styles`
    rows: str = ""  # the element of the output that holds a row of a source, or several
    keys: tuple[str, ...] = ()  # what tells those rows apart

    @property
    def understood(self) -> frozenset[str]:
        """The tags of header blocks that the contract declares."""
        return frozenset(str(one.tag) for one in self.headers)


@dataclass(frozen=True)
class ServiceShape:
    """All that callers see of a service, without the address."""

    name: str
    namespace: str
    operations: tuple[OperationShape, ...]
    description: str = ""
    types: tuple[SimpleType, ...] = field(default=())  # the named simple types in use
    form: Form = NEWEST
    soap: tuple[str, ...] = ("1.1", "1.2")
    style: str = "wrapped"
    foreign: bool = False  # whether the contract is somebody else's, and served as it came

    def operation(self, name: str) -> OperationShape | None:
        return next((one for one in self.operations if one.name == name), None)

    def records(self) -> tuple[Record, ...]:
        """Every record below the wrappers and fault details, each once, in the order of first use."""
        seen: dict[str, Record] = {}

        def visit(record: Record) -> None:
            waiting = [record]
            while waiting:
                inner = waiting.pop()
                found = [one.type for one in inner.elements if isinstance(one.type, Record)]
                for one in (*found, *inner.derived):
                    if (one.id or one.name) not in seen:
                        seen[one.id or one.name] = one
                        waiting.append(one)

        for operation in self.operations:
            for top in (operation.input, operation.output, *(fault.record for fault in operation.faults)):
                visit(top)
        return tuple(seen.values())
