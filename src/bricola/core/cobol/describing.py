"""A layout in words that a person and a program read: one row for each item, in the order of the copybook."""

from typing import NotRequired

from pydantic import ConfigDict, with_config
from typing_extensions import TypedDict

from bricola.core.cobol.clauses import Literal
from bricola.core.cobol.items import Item, Record

_CLOSED = ConfigDict(extra="forbid")


@with_config(_CLOSED)
class Occurs(TypedDict):
    """How often an item is there, from `least` to `most`; `depending_on` is the path of the item that counts."""

    least: int
    most: int
    depending_on: NotRequired[str]


@with_config(_CLOSED)
class ConditionRow(TypedDict):
    """A condition-name and what it stands for: single values, or two ends of a range with THRU between."""

    name: str
    values: list[str]


@with_config(_CLOSED)
class ItemRow(TypedDict):
    """One item. Offset and length are in bytes, of the first occurrence, with every table full."""

    path: str
    name: str
    level: int
    line: int
    member: NotRequired[str]
    offset: int
    length: int
    kind: str
    picture: NotRequired[str]
    digits: NotRequired[int]
    scale: NotRequired[int]
    flags: list[str]
    occurs: NotRequired[Occurs]
    redefines: NotRequired[str]
    conditions: NotRequired[list[ConditionRow]]
    value: NotRequired[str]


@with_config(_CLOSED)
class Layout(TypedDict):
    """A record: its length with every table full and, where it varies, with every table as short as it may be."""

    record: str
    length: int
    shortest: int
    items: list[ItemRow]
    renames: list[ItemRow]


def described(record: Record, truncate: bool = True) -> Layout:
    """The whole layout of a record. `truncate` says whether COMP holds only what its picture says."""
    renames = [
        ItemRow(
            path=f"{record.name}.{one.name}",
            name=one.name,
            level=66,
            line=record.item.spot.line,
            offset=one.offset,
            length=one.length,
            kind=one.item.kind if one.item is not None else "text",
            flags=[],
        )
        for one in record.renamings
    ]
    return Layout(
        record=record.name,
        length=record.length,
        shortest=shortest(record.item),
        items=[_row(one, truncate) for one in record.items()],
        renames=renames,
    )


def shortest(item: Item) -> int:
    """Bytes of an item with every table as short as it may be."""
    if not item.children:
        one = item.length
    else:
        one = item.length - sum(child.total - shortest(child) for child in item.children if child.redefines is None and not child.views())
    return one * (item.occurs[0] if item.occurs else 1)


def flags_of(item: Item, truncate: bool) -> list[str]:
    """What else there is to know of how the bytes are held."""
    flags = [
        name
        for name, holds in (
            ("signed", item.signed),
            ("sign-separate", item.separate),
            ("sign-leading", item.leading),
            ("blank-when-zero", item.blank_zero),
            ("justified-right", item.justified),
            ("synchronized", item.sync),
        )
        if holds
    ]
    if item.kind == "binary":
        flags += ["full-range"] if item.native else ["big-endian", "truncated-to-picture"] if truncate else ["big-endian"]
    return flags


def _row(item: Item, truncate: bool) -> ItemRow:
    path = item.path if item.name else f"{item.path}.FILLER"
    row = ItemRow(
        path=path,
        name=item.name or "FILLER",
        level=item.level,
        line=item.spot.line,
        offset=item.offset,
        length=item.length,
        kind=item.kind,
        flags=[] if item.children else flags_of(item, truncate),
    )
    if item.spot.member:
        row["member"] = item.spot.member
    if item.picture:
        row["picture"] = item.picture
    if item.kind in ("zoned", "packed", "unsigned-packed", "binary"):
        row["digits"], row["scale"] = item.digits, item.scale
    if item.occurs:
        row["occurs"] = Occurs(least=item.occurs[0], most=item.occurs[1])
        if item.depending is not None:
            row["occurs"]["depending_on"] = item.depending.path
    if item.redefines is not None:
        row["redefines"] = item.redefines.name
    if item.conditions:
        row["conditions"] = [
            ConditionRow(
                name=one.name, values=[f"{said(low)} THRU {said(high)}" if high is not None else said(low) for low, high in one.values]
            )
            for one in item.conditions
        ]
    if item.values:
        row["value"] = said(item.values[0][0])
    return row


def said(literal: Literal) -> str:
    """A literal as it may stand in a copybook."""
    if literal.kind in ("number", "figurative"):
        return literal.text
    quoted = f"X'{literal.text}'" if literal.kind == "hex" else "'" + literal.text.replace("'", "''") + "'"
    return f"ALL {quoted}" if literal.all else quoted
