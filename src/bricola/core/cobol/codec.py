"""Records to values and back, by functions that are written out for each layout.

The strategy: `compiled` walks the items once and writes Python source in which every offset is a number where it can be, and a sum where a
table of varying length came before. Bytes are turned to text and to hexadecimal once for the whole record; texts, zoned and packed numbers
are slices of these, binary numbers come from one `struct` call for each stretch. What these slices hold is checked by the stretch, in one
go: where it does not hold (or anything else is unusual) the same record is read again by the careful function, made by the same walk out of
one reader for each item, which names the item, its offset and its bytes. So there is one place where errors are worded, and the fast
way never says what is wrong.

Values: a group is a dict, a table a list (both left out where nothing is in them), items of groups without a name stand one level up.
A redefined item and its views are alternatives: `views` says which hold; where nothing is said every view is given that can be read.
"""

import struct
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from decimal import DecimalException
from typing import Any, Literal

from bricola.core.cobol import reading, writing
from bricola.core.cobol.fields import Ways
from bricola.core.cobol.items import Item, Record
from bricola.core.cobol.making import Maker, TableFollows, Unusual, Views, chosen_views
from bricola.core.problems import Problem, ProblemError, shown


@dataclass(frozen=True)
class Codec:
    """The two functions of a layout. `decode` raises ProblemError for bytes that are not of it, `encode` for values."""

    decode: Callable[[bytes], dict[str, Any]]
    encode: Callable[[Mapping[str, Any]], bytes]
    source: str = field(repr=False, default="")


def compiled(
    record: Record,
    ways: Ways,
    table_follows: TableFollows = "slides",
    views: Views | None = None,
    bad_numbers: Literal["refuse", "absent"] = "refuse",
    missing: Literal["refuse", "initial"] = "refuse",
    wanted: Callable[[Item], bool] | None = None,
) -> Codec:
    """The codec of one record.

    `bad_numbers` says what becomes of a number whose bytes are none: refused, or left out. `missing` says what is written for a value
    that is not given: nothing (it is refused), or what the item holds initially. `wanted` picks the elementary items that are read.
    """
    maker = Maker(
        record,
        ways,
        table_follows,
        chosen_views(record, views or {}),
        bad_numbers == "absent",
        missing == "initial",
        wanted or (lambda item: True),
    )
    fast = reading.source_of(maker, careful=False)
    careful = reading.source_of(maker, careful=True)
    write = writing.source_of(maker)
    space: dict[str, Any] = maker.names
    exec(compile(f"{fast}\n{careful}\n{write}", f"<codec of {record.name}>", "exec"), space)  # our own source, made of numbers and keys
    quick, slow, put = space["fast"], space["careful"], space["encode"]
    unusual = (Unusual, KeyError, IndexError, ValueError, struct.error, DecimalException)

    def decode(data: bytes) -> dict[str, Any]:
        try:
            return {record.name: quick(data)}
        except unusual:
            return {record.name: slow(bytes(data))}

    def encode(values: Mapping[str, Any]) -> bytes:
        extra = [name for name in values if name != record.name]
        if extra or record.name not in values:
            raise ProblemError(
                Problem(
                    "record.name",
                    "These are not the values of this record.",
                    place=record.name,
                    choices=(record.name,),
                    found=shown(extra[0]) if extra else "nothing",
                )
            )
        made: bytes = put(values[record.name])
        return made

    return Codec(decode, encode, f"{fast}\n{careful}\n{write}")
