"""A record to values and back in one call, as documented for those who hold Bricola's reading against a compiler's."""

from collections.abc import Mapping
from functools import lru_cache
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from bricola.core.cobol.alphabets import Floats, Order, Signs, alphabet
from bricola.core.cobol.codec import Codec, compiled
from bricola.core.cobol.fields import Ways
from bricola.core.cobol.items import Record
from bricola.core.cobol.layout import UNNAMED, record_of, records_of
from bricola.core.cobol.making import TableFollows
from bricola.core.cobol.source import Dialect, SourceFormat
from bricola.core.problems import Problem, ProblemError, shown


class Options(BaseModel):
    """How a copybook is read and its records are held. What is not said follows from the code page.

    `source_format` fixed or free, guessed where it is not said; `replacing` what stands instead of what in the text; `members` the
    copybooks that COPY names; `record` the 01 that is meant; `table_follows` whether what follows a table of varying length slides up or
    stays; `binary_truncate` whether COMP holds only what its picture says; `views` the view that holds of a redefined item, or several;
    `order` of COMP-5 and IEEE floats, `floats` their form, `signs` those of zoned numbers in ASCII; `bad_numbers` whether a number
    whose bytes are none is refused or left out; `missing` whether a value that is not given is refused or what the item holds initially;
    `currency`, `decimal_comma` and `native_bytes` what the program says of PICTUREs and of COMP-5 (see `Dialect`).
    """

    model_config = ConfigDict(frozen=True, extra="forbid")

    source_format: SourceFormat | None = None
    replacing: Mapping[str, str] = {}
    members: Mapping[str, str] = {}
    record: str = ""
    table_follows: TableFollows = "slides"
    binary_truncate: bool = True
    views: Mapping[str, str | tuple[str, ...]] = {}
    order: Order | None = None
    floats: Floats | None = None
    signs: Signs = "ascii"
    bad_numbers: Literal["refuse", "absent"] = "refuse"
    missing: Literal["refuse", "initial"] = "refuse"
    currency: str = Field(default="$", min_length=1, max_length=1)
    decimal_comma: bool = False
    native_bytes: Literal[1, 2] = 1

    @property
    def dialect(self) -> Dialect:
        return Dialect(self.currency, self.decimal_comma, self.native_bytes)


def ways_of(codepage: str, options: Options) -> Ways:
    """How records of a code page are held: big-endian and hexadecimal floats on a mainframe, little-endian and IEEE elsewhere."""
    page = alphabet(codepage)
    return Ways(
        page,
        options.order or ("big" if page.mainframe else "little"),
        options.floats or ("hexadecimal" if page.mainframe else "ieee"),
        options.signs,
        options.binary_truncate,
    )


def codec_of(copybook: str, codepage: str, options: Options) -> Codec:
    """The codec of a record of a copybook. Raises ProblemError."""
    record, ways = chosen_record(copybook, options), ways_of(codepage, options)
    return compiled(record, ways, options.table_follows, options.views, options.bad_numbers, options.missing)


def chosen_record(copybook: str, options: Options) -> Record:
    """The record that the options mean. Raises ProblemError."""
    records = all_records(copybook, options)
    if options.record and len(records) == 1 and records[0].name == UNNAMED:  # the 01 is left to whoever copies it
        records = all_records(copybook, options, options.record)
    return record_of(records, options.record)


def all_records(copybook: str, options: Options, name: str = UNNAMED) -> list[Record]:
    """The records of a copybook; `name` is that of one whose 01 is not in it. Raises ProblemError."""
    return records_of(copybook, options.source_format, options.members, options.replacing, name, options.dialect)


def options_of(options: Mapping[str, Any] | None) -> Options:
    """Options as they are given. Raises ProblemError that names the one that is wrong."""
    try:
        return Options.model_validate(dict(options or {}))
    except ValidationError as error:
        first = error.errors()[0]
        name = ".".join(str(part) for part in first["loc"])
        raise ProblemError(
            Problem(
                "copybook.option",
                f"The option {name} cannot be this: {first['msg']}.",
                place=name,
                found=shown(first.get("input", "")),
                choices=tuple(Options.model_fields) if len(first["loc"]) == 1 and first["type"] == "extra_forbidden" else (),
            )
        ) from None


def decode(copybook: str, data: bytes, codepage: str, options: Mapping[str, Any] | None = None) -> dict[str, Any]:
    """The values of a record: by record, group and item, numbers as Decimal with the digits of their scale, tables as lists.

    `options` are those of `Options`. Raises ProblemError for a copybook that cannot be understood, an unknown code page, bytes that are
    not of the layout.
    """
    return _codec(copybook, codepage, options).decode(data)


def encode(copybook: str, values: Mapping[str, Any], codepage: str, options: Mapping[str, Any] | None = None) -> bytes:
    """The bytes of a record, from values as `decode` gives them; numbers may be decimal text too.

    Raises ProblemError for a value that does not fit its picture, is missing, or is none of the record's.
    """
    return _codec(copybook, codepage, options).encode(values)


def _codec(copybook: str, codepage: str, options: Mapping[str, Any] | None) -> Codec:
    return _made(copybook, codepage, _key(options_of(options)))


def _key(options: Options) -> str:
    return options.model_dump_json()


@lru_cache(64)
def _made(copybook: str, codepage: str, options: str) -> Codec:
    return codec_of(copybook, codepage, Options.model_validate_json(options))
