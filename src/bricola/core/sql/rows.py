"""From a driver's row to values: made once for the columns of a statement."""

from collections.abc import Callable
from datetime import UTC, date, datetime, time, timedelta
from decimal import Decimal
from functools import lru_cache
from ipaddress import IPv4Address, IPv6Address
from typing import Any
from uuid import UUID

from bricola.core.shapes.model import Element, Values
from bricola.core.shapes.primitives import lexical
from bricola.core.shapes.simple import SimpleType
from bricola.core.sql.sessions import DriverRow


@lru_cache(2048)
def compile_row(elements: tuple[Element, ...], utc: frozenset[str] = frozenset()) -> Callable[[DriverRow], Values]:
    """A function from a row to values by name, as straight-line source: a value of the right class passes as it is,
    another is converted. Half the cost of a loop over the columns.

    `utc` names the elements whose moments are in UTC without saying so."""
    constants: dict[str, Any] = {}
    lines = ["def to_values(row):", f" {', '.join(f'v{index}' for index in range(len(elements)))}, = row"]
    for index, element in enumerate(elements):
        python = None if element.name in utc else _simple(element).primitive.python  # None: every value is converted
        constants |= {f"k{index}": python, f"c{index}": _in_utc if element.name in utc else _converter(element)}
        lines.append(f" if v{index}.__class__ is not k{index} and v{index} is not None: v{index} = c{index}(v{index})")
    lines.append(f" return {{{', '.join(f'{one.name!r}: v{index}' for index, one in enumerate(elements))}}}")
    exec(compile("\n".join(lines), "<row>", "exec"), constants)  # names of elements are checked by the definitions' models
    made: Callable[[DriverRow], Values] = constants["to_values"]
    return made


def _simple(element: Element) -> SimpleType:
    assert isinstance(element.type, SimpleType)  # columns are simple
    return element.type


def _converter(element: Element) -> Callable[[Any], Any]:
    """From what a driver gives, when it is not the Python class of the type already. What cannot be converted
    stays as it is: the encoder then names the field and the rule."""
    kind = _simple(element)
    python, read = kind.primitive.python, kind.primitive.read
    if python is Decimal:
        places = f"%.{kind.fraction or 0}f"  # 5.1 of a column with two places is 5.10

        def to_decimal(value: Any) -> Any:
            if value.__class__ not in (float, int):
                return _read_or_keep(read, value)
            text = places % value
            rounded = float(text)
            # What floating point adds to a sum is dropped; more places than declared are not hidden.
            if rounded == value or abs(rounded - value) <= max(abs(value) * 1e-12, 1e-9):
                return Decimal(text)
            return Decimal(repr(value))

        return to_decimal
    if python is str:
        return _text_or_keep
    if python is bool:
        return lambda value: bool(value) if value in (0, 1) else _read_or_keep(read, value)
    if python is float:
        return lambda value: float(value) if value.__class__ in (int, Decimal) else _read_or_keep(read, value)
    if python is date:
        return lambda value: _read_or_keep(date.fromisoformat, value)
    if python is datetime:
        return lambda value: _read_or_keep(datetime.fromisoformat, value)
    if python is time:
        return lambda value: _time_of(value) if value.__class__ is timedelta else _read_or_keep(read, value)
    if python is int:
        return lambda value: int(value) if value.__class__ in (Decimal, float) and value == int(value) else _read_or_keep(read, value)
    return lambda value: _read_or_keep(read, value)


def _text_or_keep(value: Any) -> Any:
    """A value of another type that messages know in their form; whatever else it is stays, and is refused: its `str()` would be Python's
    own form, which no database reads back."""
    try:
        return value if value.__class__ in (bytes, bytearray) else lexical(value)
    except TypeError:
        return str(value) if value.__class__ in _WRITTEN_AS_READ else value


_WRITTEN_AS_READ = frozenset((UUID, IPv4Address, IPv6Address))  # classes whose text is the standard's


def _read_or_keep(read: Callable[[str], Any], value: Any) -> Any:
    if value.__class__ is not str:
        return value
    try:
        return read(value)
    except ValueError:
        return value


def _in_utc(value: Any) -> Any:
    moment = _read_or_keep(datetime.fromisoformat, value)
    return moment.replace(tzinfo=UTC) if moment.__class__ is datetime and moment.tzinfo is None else moment


def _time_of(value: timedelta) -> Any:
    """A time of day as a span since midnight, as some drivers give it; a longer span is no time of day."""
    return (datetime.min + value).time() if timedelta(0) <= value < timedelta(days=1) else value
