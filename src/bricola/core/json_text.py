"""JSON that strangers send (RFC 8259), within bounds: depth, digits, and no character that XML cannot hold.

The parser of the standard library stops at the interpreter's own depth, far above ours; what it gives is walked with a list, not by calls.
Numbers with a fraction or an exponent become decimals, so that no digit is lost on the way.
"""

import json
import re
from collections.abc import Mapping
from decimal import Decimal
from typing import Any

from bricola.core.characters import outside_xml
from bricola.core.problems import Problem, ProblemError

MOST_DEPTH = 64
_MOST_DIGITS = 1000  # of one number
_MOST_EXPONENT = 400  # beyond what a double has; written out it would still be short
_MAY_BE_SURROGATE = re.compile(rb"\\[uU][dD][89abAB]")
_MAY_BE_CONTROL = re.compile(rb"\\[uU](?:00[01]|[fF]{3}[eEfF])|\xef\xbf[\xbe\xbf]")


def read_json(content: bytes, exact: bool = True) -> Any:
    """The value of a JSON text; without `exact`, with doubles in place of decimals. Raises ProblemError with line and column of what is
    not JSON, or with the place of what is beyond a bound."""
    try:
        text = content.decode(json.detect_encoding(content), "strict")
        value = json.loads(text.removeprefix("\ufeff"), parse_float=_decimal if exact else float, parse_constant=_no_constant)
    except json.JSONDecodeError as error:
        raise ProblemError(Problem("json.syntax", "The body is not JSON.", place=f"line {error.lineno}, column {error.colno}",
                                   found=error.msg, mend="Send one JSON value.")) from None
    except UnicodeDecodeError:
        raise ProblemError(Problem("json.syntax", "The body is not JSON.", expected="UTF-8",
                                   found="bytes that are none", mend="Send it in UTF-8.")) from None
    except RecursionError:
        raise ProblemError(_too_deep("")) from None
    except ValueError as error:
        raise ProblemError(Problem("json.number", "A number of the body is not taken.", found=str(error)[:200],
                                   expected=f"at most {_MOST_DIGITS} digits, an exponent within {_MOST_EXPONENT}")) from None
    may_be_odd = _MAY_BE_SURROGATE.search(content) or _MAY_BE_CONTROL.search(content)
    if may_be_odd or content.count(b"{") + content.count(b"[") > MOST_DEPTH:
        check_plain(value)
    return value


def check_plain(value: object) -> None:
    """Hold data against the bounds. Raises ProblemError with the place."""
    waiting: list[tuple[object, str, int]] = [(value, "", 0)]
    while waiting:
        one, place, depth = waiting.pop()
        if isinstance(one, str):
            _check_text(one, place)
        elif isinstance(one, Mapping):
            if depth >= MOST_DEPTH:
                raise ProblemError(_too_deep(place))
            for name, inner in one.items():
                _check_text(str(name), place)
                waiting.append((inner, f"{place}/{name}" if place else str(name), depth + 1))
        elif isinstance(one, list | tuple):
            if depth >= MOST_DEPTH:
                raise ProblemError(_too_deep(place))
            waiting.extend((inner, place, depth + 1) for inner in one)


def _check_text(text: str, place: str) -> None:
    if outside := outside_xml(text):
        raise ProblemError(Problem("value.character", "A text has a character that XML cannot hold.", place=place[:200].encode(
            "ascii", "replace").decode(), found=outside, mend="Leave the character out."))


def _too_deep(place: str) -> Problem:
    return Problem("json.depth", "The body is nested too deep.", place=place[:200], expected=f"at most {MOST_DEPTH} levels")


def _decimal(text: str) -> Decimal:
    number = Decimal(text) if len(text) <= _MOST_DIGITS else None
    if number is None or abs(number.adjusted()) > _MOST_EXPONENT:
        raise ValueError(text[:40])
    return number


def _no_constant(text: str) -> object:
    raise ValueError(text)  # NaN and Infinity are no JSON
