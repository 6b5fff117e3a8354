"""Compiled patterns.

Which engine runs one is decided when it is compiled: Python's where it cannot backtrack (a seventh of the cost), RE2 for everything
else, and for the few that RE2 cannot hold the fallback: Python's engine in a process of its own that is ended when it takes too long. The
fallback is given from outside (`use_fallback`), since the core starts no processes; without one such a pattern matches nothing.
"""

import re
from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache

import re2

from bricola.core.patterns.syntax import PatternError, read_pattern
from bricola.core.patterns.translate import TooLargeError, for_python, for_re2, is_plain

MOST_FALLBACK_TEXT = 100_000  # characters of a value that the fallback looks at
Matches = Callable[[str], bool]


@dataclass(frozen=True)
class Pattern:
    """`matches` tells whether a whole text is of the pattern. `linear`: in time that grows no faster than the text."""

    text: str
    matches: Matches
    linear: bool = True


def _no_fallback(expression: str, text: str) -> bool:
    return False


_fallback: Callable[[str, str], bool] = _no_fallback


def use_fallback(run: Callable[[str, str], bool]) -> None:
    """Let patterns that no linear engine holds be run by `run(expression, text)`, with an expression for Python's `re.fullmatch`."""
    global _fallback
    _fallback = run
    compile_pattern.cache_clear()


@lru_cache(4096)
def compile_pattern(text: str) -> Pattern:
    """The pattern of XML Schema, ready to run. Raises PatternError with what is wrong and where."""
    tree = read_pattern(text)
    if is_plain(tree):
        found = re.compile(for_python(tree)).fullmatch
        return Pattern(text, lambda value: found(value) is not None)
    try:
        return Pattern(text, _re2(for_re2(tree)))
    except (TooLargeError, re2.error):
        return Pattern(text, _outside(for_python(tree)), linear=False)


@lru_cache(256)
def compile_older(text: str) -> Pattern:
    """A pattern of an older release in another dialect than XML Schema's, run as it always was but in the fallback. Raises PatternError."""
    try:
        re.compile(text)
    except re.error as error:
        raise PatternError(str(error)) from None
    return Pattern(text, _outside(text), linear=False)


def compile_search(text: str) -> re2._Regexp:
    """An expression that is looked for inside a text, in RE2's own notation (that of Perl without what cannot be linear). Raises
    PatternError."""
    try:
        return re2.compile(text, options=_options())
    except re2.error as error:
        raise PatternError(error.args[0].decode() if isinstance(error.args[0], bytes) else str(error)) from None


def _options() -> "re2.Options":
    options = re2.Options()
    options.log_errors = False
    options.max_mem = 32 << 20
    return options


def _re2(expression: str) -> Matches:
    found = re2.compile(expression.encode(), options=_options()).fullmatch  # bytes: for text every match would be counted out in characters
    return lambda value: found(value.encode("utf-8", "replace")) is not None


def _outside(expression: str) -> Matches:
    _fallback(expression, "")  # its process starts now, where contracts are compiled, and not while a call waits for it
    return lambda value: len(value) <= MOST_FALLBACK_TEXT and _fallback(expression, value)
