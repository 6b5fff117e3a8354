"""The fallback for patterns that no linear engine holds: it answers, and what takes too long ends with its process."""

import time
from collections.abc import Iterator

import pytest

from bricola.adapters.patterns import PatternProcess
from bricola.core.patterns import matcher
from bricola.core.patterns.matcher import compile_pattern, use_fallback
from bricola.core.shapes.simple import SimpleType

LARGE = r"((a{1,900}b){1,900}c){1,900}"  # RE2 cannot hold it


@pytest.fixture
def process() -> Iterator[PatternProcess]:
    one = PatternProcess(0.5)
    use_fallback(matcher._no_fallback)  # a service in this process may have left its own
    yield one
    one.end()
    use_fallback(matcher._no_fallback)


def test_a_large_pattern_is_judged_apart_and_refuses_everything_without_a_judge(process: PatternProcess) -> None:
    assert not compile_pattern(LARGE).linear
    assert not compile_pattern(LARGE).matches("abc")
    use_fallback(process.run)
    assert compile_pattern(LARGE).matches("aababc")
    assert not compile_pattern(LARGE).matches("aabab")
    assert SimpleType("string", pattern=LARGE).check("abc") == ""


def test_the_process_starts_where_a_pattern_is_compiled_and_not_under_a_call(process: PatternProcess) -> None:
    use_fallback(process.run)
    pattern = compile_pattern(LARGE)
    running = process._process
    assert running is not None
    assert pattern.matches("abc")
    assert process._process is running


def test_what_takes_too_long_is_ended_and_given_up_after_three_times(process: PatternProcess) -> None:
    hurts, text = r"(?:a|aa)+b", "a" * 60
    started = time.monotonic()
    assert not any(process.run(hurts, text) for _ in range(20))
    assert time.monotonic() - started < 15
    assert process.run("x+", "xx")
