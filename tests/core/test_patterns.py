"""Patterns: held against libxml2's own engine, and in time that grows no faster than the text."""

import time

import pytest
from hypothesis import given
from hypothesis import strategies as st
from lxml import etree

from bricola.core.patterns.matcher import compile_pattern
from bricola.core.patterns.sample import samples_of
from bricola.core.patterns.syntax import PatternError, read_pattern
from bricola.core.patterns.words import in_words
from bricola.core.shapes.simple import SimpleType

PATTERNS = [
    r"LK-\d{4}", r"(\w+\s?)+!", r"[\i-[:]][\c-[:]]*", r"[^\d\w\-]", r"a{2,}|b*", r"[+\-]?\d+(\.\d{1,2})?", r"[a-]", r"[-a]+", r"\p{Lu}\p{Ll}*",
    r"\p{IsGreek}+", r"[\w.\-]+@[\w.\-]+", r"[^\w]+", r".{0,320}", r"(ab){1,1500}", r"\P{Lu}+", r"^a$", r"[^a-c-[x]]+", r"(a|b|cd){2,3}",
    r"[A-Z-[AEIOU]]{3}", r"\$\^", r"(|x)y", r"", r"[\p{L}\p{Nd}_]{1,8}", r"\s*\S+\s*", r"((a{0,3}b){2}c){1,2}", r"[&-&]", r"\.\?\*\+\(\)\{\}\[\]\|\\",
]
TEXTS = st.one_of(
    st.text(st.sampled_from("ab cdLK-0419.!@_xyAEZ\u03b1\u0661^$&é\t"), max_size=12),
    st.sampled_from(["LK-0412", "word word!", "x:y", "name", "", "ab" * 40, "a.b@c-d", "XYZ", "-1.25", "abbcabbc", "^a$", "\u03b1\u03b2", ".?*+(){}[]|\\"]))


def schema(pattern: str) -> etree.XMLSchema:
    root = etree.fromstring('<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema"><xs:element name="v"><xs:simpleType><xs:restriction '
                            'base="xs:string"><xs:pattern/></xs:restriction></xs:simpleType></xs:element></xs:schema>')
    next(root.iter("{*}pattern")).set("value", pattern)
    return etree.XMLSchema(root)


JUDGES = {one: schema(one) for one in PATTERNS}


@pytest.mark.parametrize("pattern", PATTERNS)
@given(text=TEXTS)
def test_the_verdict_is_the_schema_validators(pattern: str, text: str) -> None:
    node = etree.Element("v")
    node.text = text
    if pattern == r"\p{IsGreek}+" or "\u0661" in text:
        return  # libxml2 knows older tables
    assert compile_pattern(pattern).matches(text) == JUDGES[pattern].validate(node), (pattern, text)


@pytest.mark.parametrize("pattern", PATTERNS)
def test_a_sample_is_of_its_pattern(pattern: str) -> None:
    assert any(compile_pattern(pattern).matches(one) for one in samples_of(pattern))


@pytest.mark.parametrize("pattern", [r"(\w+\s?)+!", r"(a|aa)+b", r"(a*)*b", r"(([a-z])+.)+[A-Z]([a-z])+", r"(x+x+)+y", r"(.*a){20}"])
def test_patterns_that_hurt_take_time_as_the_text_is_long(pattern: str) -> None:
    """A backtracking engine needs more than the age of the world for these texts."""
    started = time.process_time()
    assert not compile_pattern(pattern).matches("a" * 20_000 + "!?")
    assert time.process_time() - started < 5


@pytest.mark.parametrize(("pattern", "words"), [
    ("(?=a)b", "question mark"), ("a**", "second count"), ("[a", "ends too early"), ("(a", "not closed"), ("a)", "closing bracket"),
    (r"\q", "does not have"), (r"\p{Xx}", "no category"), (r"\p{IsNowhere}", "no block"), ("a{3,1}", "from 3 to 1"), ("[z-a]", "backwards"),
    ("*a", "without anything before"), ("a{x}", "number"), ("(" * 100 + ")" * 100, "deep"), ("a" * 20_000, "longer"), ("[a-[b]c]", "taken out"),
])
def test_what_is_no_pattern_is_told_with_its_place(pattern: str, words: str) -> None:
    with pytest.raises(PatternError, match=words):
        read_pattern(pattern)


@given(st.text(st.sampled_from("ab[]()-^\\pLu{},0123|*+?.diw "), max_size=30))
def test_no_text_breaks_the_reader(text: str) -> None:
    try:
        compile_pattern(text)
    except PatternError as error:
        assert str(error)


def test_lengths_are_looked_at_first() -> None:
    kind = SimpleType("string", max_length=5, pattern=r"(a{1,2000}b)+")
    assert kind.check("x" * 1_000_000) == "value.length"


def test_a_pattern_over_numbers_is_about_how_they_are_written() -> None:
    kind = SimpleType("int", pattern=r"\d{4}")
    assert kind.read("0412") == (412, None)
    assert kind.read("412")[1] is not None
    assert kind.check(412) == "value.pattern"


@pytest.mark.parametrize(("pattern", "words"), [
    (r"LK-\d{4}", "LK-, then 4 digits"), ("[A-Z]{2}[0-9]{3,5}", "2 capital letters, then 3 to 5 digits"), ("A|B", "A or B"),
    (r"\d{1,3}\.\d{2}", "1 to 3 digits, then a point, then 2 digits"), ("[A-Za-z]+", "one or more letters"), ("(a|b)c", ""), ("[!-~]*", ""), (r"\p{L}", ""),
])
def test_plain_patterns_have_words(pattern: str, words: str) -> None:
    assert in_words(pattern) == words
