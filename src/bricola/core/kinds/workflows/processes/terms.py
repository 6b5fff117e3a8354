"""Terms of expressions that a process becomes: their text with their types, and how one of a type becomes one of another."""

import json
import re
from dataclasses import dataclass, replace

from bricola.core.expressions.types import EXACT, NUMBERS, TEXT, Of, Type, spoken, type_of
from bricola.core.shapes.model import Element, Record
from bricola.core.shapes.simple import SimpleType

WHOLE = Type(Of.WHOLE)
TRUTH = Type(Of.BOOLEAN)
_MAKERS = {Of.WHOLE: "whole", Of.DECIMAL: "decimal", Of.FLOAT: "float", Of.DATE: "date", Of.TIME: "time", Of.MOMENT: "moment",
           Of.DURATION: "duration"}
_NUMBER = re.compile(r"-?(?:0|[1-9]\d*)(?:\.\d+)?")


class UntakenError(Exception):
    """Something of a process that has no counterpart; says what, in a sentence."""


class MissingError(UntakenError):
    """Nothing has given a place a value where it is read."""


@dataclass(frozen=True)
class Term:
    """The text of an expression and the type of its value. `tight`: it needs no brackets. `given`: its names never get another value."""

    text: str
    type: Type
    tight: bool = True
    given: bool = False

    @property
    def inner(self) -> str:
        return self.text if self.tight else f"({self.text})"


def quoted(text: str) -> str:
    """A text as an expression."""
    return json.dumps(text, ensure_ascii=False)


def constant(text: str) -> Term:
    """A literal whose type nobody says: a number where it looks like one."""
    if _NUMBER.fullmatch(text):
        return Term(text, Type(Of.DECIMAL if "." in text else Of.WHOLE), not text.startswith("-"), True)
    return Term(quoted(text), TEXT, True, True)


def type_in(holder: "Element | Record | SimpleType | None") -> Type | None:
    """The type of what stands somewhere."""
    if holder is None:
        return None
    return type_of(holder if isinstance(holder, Element) else Element("value", holder))


def step(base: Term, name: str, number: int = 0) -> Term:
    """A part of a record, or of every record of a list."""
    said = spoken(name)
    if base.type.of is Of.LIST:
        item = base.type.item.field(name) if base.type.item is not None else None
        if item is None:
            raise UntakenError(f"There is no part {name} in {base.text}.")
        one = "one" if not number else f"one{number}"
        made = f"[{one}.{said} for {one} in {base.text}{f' if {one}.{said} is not None' if item.optional else ''}]"
        if item.of is Of.LIST:
            return Term(f"flatten({made})", item)
        return Term(made, Type(Of.LIST, item=item.present))
    found = base.type.field(name)
    if found is None:
        raise UntakenError(f"There is no part {name} in {base.text or 'the message'}.")
    if base.type.optional and not found.optional:
        found = replace(found, optional=found.of is not Of.LIST)
    return Term(f"{base.inner}.{said}" if base.text else said, found, True, base.given)


def fitted(term: Term, wanted: Type | None) -> Term:
    """The term as a value of another type, where one can be made of it."""
    if wanted is None or wanted.of is term.type.of or Of.UNKNOWN in (wanted.of, term.type.of):
        return term
    if term.type.of is Of.LIST and wanted.of is not Of.LIST:
        return fitted(Term(f"first({term.text})", replace(term.type.item or TEXT, optional=True)), wanted)
    if term.type.of is Of.RECORD and "value" in term.type.names:
        return fitted(step(term, "value"), wanted)
    if wanted.of is Of.LIST:
        return Term(f"[{term.text}]", Type(Of.LIST, item=term.type))
    text = _made(term, wanted)
    if text is None:
        return term
    if term.type.optional:
        return Term(f"{text} if {term.inner} is not None else None", replace(wanted, optional=True), False)
    return Term(text, replace(wanted, optional=False, constant=Type(Of.TEXT).constant), True)


def _made(term: Term, wanted: Type) -> str | None:
    have, want = term.type.of, wanted.of
    literal: str | None = json.loads(term.text) if have is Of.TEXT and term.text.startswith('"') else None
    if want is Of.TEXT and have not in (Of.RECORD, Of.LIST, Of.NOTHING):
        return quoted(term.text) if have in EXACT and _NUMBER.fullmatch(term.text) else f"text({term.text})"
    if want is Of.BOOLEAN and have is Of.TEXT:
        return str(literal.strip() in ("true", "1")) if literal is not None else f"{term.inner} == \"true\""
    if want in NUMBERS and have is Of.TEXT and literal is not None and _NUMBER.fullmatch(literal.strip()):
        return literal.strip()
    if want is Of.DECIMAL and have is Of.WHOLE:
        return None  # a whole number is one
    if want in _MAKERS and (have in (Of.TEXT, Of.MOMENT) or (want in NUMBERS and have in NUMBERS)):
        return f"{_MAKERS[want]}({term.text})"
    return None


def number(term: Term) -> Term:
    """The term where XPath takes a number."""
    term = single(term)
    return term if term.type.of in NUMBERS or term.type.of in (Of.DURATION, Of.DATE, Of.MOMENT) else fitted(term, Type(Of.DECIMAL))


def text(term: Term) -> Term:
    """The term where XPath takes a text: what is absent is an empty one."""
    term = single(term)
    made = term if term.type.of is Of.TEXT else fitted(replace(term, type=term.type.present), TEXT)
    if term.type.optional:
        if made is term:
            return Term(f"coalesce({term.text}, \"\")", TEXT)
        return Term(f"{made.text} if {term.inner} is not None else \"\"", TEXT, False)
    return made


def truth(term: Term) -> Term:
    """The term where XPath takes a condition."""
    if term.type.of is Of.BOOLEAN:
        return Term(f"{term.inner} is not None and {term.inner}", TRUTH, False) if term.type.optional else term
    if term.type.of is Of.LIST:
        return Term(f"count({term.text}) > 0", TRUTH, False)
    if term.type.optional:
        return Term(f"{term.inner} is not None", TRUTH, False)
    if term.type.of in NUMBERS:
        return Term(f"{term.inner} != 0", TRUTH, False)
    return Term(f"{term.inner} != \"\"", TRUTH, False) if term.type.of is Of.TEXT else Term("True", TRUTH)


def single(term: Term) -> Term:
    """The first of a list, as XPath takes it where one value belongs."""
    if term.type.of is Of.LIST:
        return Term(f"first({term.text})", replace(term.type.item or TEXT, optional=True))
    if term.type.of is Of.RECORD:  # simple content has its text under `value`
        if "value" in term.type.names:
            return step(term, "value")
        raise UntakenError(f"{term.text or 'The message'} is a record, and no single value.")
    return term
