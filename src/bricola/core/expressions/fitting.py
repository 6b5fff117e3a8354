"""Terms in the places of a message: whether they fit, and the Python that brings them there.

A record is filled field by field, by name; what is absent leaves no trace in the mapping. What can be known of a value beforehand is a
problem here, with both types: another class, a constant out of range, a code that the list does not have, an absent value in a required
place. Facets that only a value can break (how long a text is) are checked when it is put there.
"""

import ast
from dataclasses import replace
from decimal import Decimal
from typing import Any

from bricola.core.expressions import arithmetic
from bricola.core.expressions.arithmetic import FailedError
from bricola.core.expressions.checking import Checker, Term, path_of
from bricola.core.expressions.types import DECIMAL, Of, Type, type_of
from bricola.core.problems import shown
from bricola.core.shapes.model import Element, Record
from bricola.core.shapes.simple import SimpleType

_MOST_DEPTH = 24


def fitted(checker: Checker, node: ast.expr, term: Term, target: Element) -> str | None:
    """The text of a term in an element's place; None, with a problem, where it does not belong there. An absent value gives None."""
    wanted = type_of(target)
    if term.type.of is Of.NOTHING and term.type.constant is None:
        if target.least and target.default is None:
            _absent(checker, node, term, target)
            return None
        return "None"
    if term.type.optional and not (wanted.optional or target.default is not None or target.is_list):
        _absent(checker, node, term, target)
        return None
    if isinstance(node, ast.List) and target.is_list:  # item by item, so that a wrong one is told at its place
        inside = replace(target, least=1, most=1)
        parts = []
        for one in node.elts:
            inner = checker.term(one)
            parts.append(fitted(checker, one, inner, inside) if inner is not None else None)
        return f"[{', '.join(str(one) for one in parts)}]" if None not in parts else None
    if isinstance(node, ast.Dict) and isinstance(target.type, Record) and not target.is_list:
        return _literal(checker, node, target.type)
    if isinstance(node, ast.Constant) and isinstance(target.type, SimpleType) and not target.is_list:
        return _constant(checker, node, term, target.type)
    return _brought(checker, node, term.code, term.type, wanted, target, 0)


def _absent(checker: Checker, node: ast.expr, term: Term, target: Element) -> None:
    what = checker.source.part(node)
    checker.wrong(node, "absent", f"{target.name} is required, and this may be absent.", type_of(target).words,
                  f"{what}, {term.type.words}"[:300],
                  f"Write coalesce({what[:60]}, …), or ask first: {what[:60]} is not None" if path_of(node) else "Write coalesce(…, …).")


def _literal(checker: Checker, node: ast.Dict, record: Record) -> str | None:
    """A record that is written out, field by field."""
    known = {one.name: one for one in record.slots}
    parts: list[str] = []
    sound = True
    given: set[str] = set()
    for key, value in zip(node.keys, node.values, strict=True):
        name = key.value if isinstance(key, ast.Constant) else ""
        slot = known.get(str(name))
        given.add(str(name))
        if slot is None:
            checker.wrong(key or value, "field", f"{record.name or 'The record'} has no such field.", f"one of {', '.join(known)}",
                          shown(str(name)))
            sound = False
            continue
        term = checker.term(value)
        code = fitted(checker, value, term, slot) if term is not None else None
        sound = sound and code is not None
        parts.append(f"{slot.name!r}: {code}")
    for name, slot in known.items():
        if name not in given and slot.least and slot.default is None and slot.fixed is None:
            checker.wrong(node, "required", f"{name} is required, and nothing is put there.", type_of(slot).words, "no such field",
                          f'Add "{name}": …')
            sound = False
    return f"{checker.helper(arithmetic.without_absent)}({{{', '.join(parts)}}})" if sound else None


def _constant(checker: Checker, node: ast.Constant, term: Term, kind: SimpleType) -> str | None:
    """A value that is written out is checked whole, facets too. A number may stand where a text goes only in quotes."""
    value = term.type.constant
    wants_text = kind.primitive.python is str
    if value is not None and isinstance(value, str) is not wants_text:
        number = kind.primitive.python in (int, Decimal, float)
        checker.mismatch(node, kind.rule, term, "Put it in quotes." if wants_text else "Take the quotes away." if number else
                         "Write date(…), moment(…) or what else is meant.")
        return None
    accepted, problem = kind.accept(value)
    if problem is not None:
        code = "code" if problem.code == "value.code" else "value"
        checker.wrong(node, code, problem.message, problem.expected, f"{checker.source.part(node)}, {term.type.of}")
        return None
    return checker.constant(accepted) if not isinstance(accepted, str | int) else repr(accepted)


def _brought(checker: Checker, node: ast.expr, code: str, given: Type, wanted: Type, target: Element, depth: int) -> str | None:
    """Text that brings a value of one type to another. `target` is for what types do not say: the records inside."""
    if wanted.of is Of.LIST:
        return _list(checker, node, code, given, wanted, target, depth)
    if given.of is Of.LIST:
        checker.wrong(node, "type", f"One value goes to {target.name}, and this is a list.", wanted.words, _found(checker, node, given),
                      "Take one of them: first(…), …[0].")
        return None
    if wanted.of is Of.RECORD:
        return _record(checker, node, code, given, target, depth)
    if given.of is wanted.of:
        same = _same(checker, node, code, given, wanted, target)
        return _checked(checker, same, given, target) if same is not None else None
    if given.of is Of.WHOLE and wanted.of is Of.DECIMAL:
        return _checked(checker, checker.as_class(Term(code, given), replace(DECIMAL, optional=given.optional)), given, target)
    if given.of is Of.WHOLE and wanted.of is Of.FLOAT and not given.optional:
        return f"{checker.constant(float)}({code})"
    mend = {Of.TEXT: "Write text(…).", Of.WHOLE: "Write whole(…), or round it.", Of.DATE: "Write date(…).", Of.MOMENT: "Write moment(…).",
            Of.DECIMAL: "Write decimal(…).", Of.TIME: "Write time(…)."}.get(wanted.of, "")
    checker.wrong(node, "type", f"A value of another type goes to {target.name}.", wanted.words, _found(checker, node, given),
                  mend if given.of not in (Of.RECORD, Of.XML) else "Take a field of it.")
    return None


def _found(checker: Checker, node: ast.expr, given: Type) -> str:
    return f"{checker.source.part(node)}, {given.words}"[:300]


def _same(checker: Checker, node: ast.expr, code: str, given: Type, wanted: Type, target: Element) -> str | None:
    if given.base != wanted.base:
        checker.wrong(node, "type", f"A value of another type goes to {target.name}.", wanted.words, _found(checker, node, given))
        return None
    if wanted.codes and given.codes and not set(given.codes) <= set(wanted.codes):
        outside = [one for one in given.codes if one not in wanted.codes]
        checker.wrong(node, "code", f"{target.name} does not have every code that this can be.", f"one of {', '.join(wanted.codes[:12])}",
                      f"{', '.join(outside[:6])} of {given.words}"[:300], 'Write recode(…, {"from": "to"}).')
        return None
    return code


def _list(checker: Checker, node: ast.expr, code: str, given: Type, wanted: Type, target: Element, depth: int) -> str | None:
    if given.of is not Of.LIST or given.item is None or wanted.item is None:
        checker.wrong(node, "type", f"A list goes to {target.name}.", wanted.words, _found(checker, node, given),
                      f"Write [{checker.source.part(node)[:60]}].")
        return None
    if given.item.of is Of.NOTHING:
        return code
    if given.item.optional:
        checker.wrong(node, "absent", f"An item of {target.name} is never absent.", wanted.item.words, _found(checker, node, given),
                      "Leave absent ones out: [one for one in … if one is not None]")
        return None
    name = f"v__{depth}"
    inner = _brought(checker, node, name, given.item, wanted.item, replace(target, most=1, least=1), depth + 1)
    if inner is None:
        return None
    if inner != name:
        code = f"[{inner} for {name} in {checker.visited(Term(code, given))}]"
    if target.most is None and given.least >= target.least:
        return code
    return f"{checker.constant(_Counted(target))}({code})"


class _Counted:
    """As many items as an element may have."""

    def __init__(self, target: Element) -> None:
        self._target = target

    def __call__(self, items: list[Any] | None) -> list[Any] | None:
        found = len(items or ())
        target = self._target
        if items is not None and (found < target.least or (target.most is not None and found > target.most)):
            raise FailedError(f"{target.name} has another number of items.", target.occurrence, str(found))
        return items


class _Fits:
    """A value that is worked out, held against the facets of its place."""

    def __init__(self, name: str, kind: SimpleType) -> None:
        self._name, self._kind, self._check = name, kind, kind.check

    def __call__(self, value: Any) -> Any:
        if value is not None and self._check(value):
            _, problem = self._kind.accept(value)
            words = problem.message if problem is not None else "The value does not fit."
            raise FailedError(f"{self._name}: {words}", self._kind.rule, shown(self._kind.write(value)))
        return value


def _checked(checker: Checker, code: str, given: Type, target: Element) -> str:
    """The text with a look at the facets, where what is given does not have them all already."""
    kind = target.type
    assert isinstance(kind, SimpleType)
    if given.simple == kind or kind.is_plain:
        return code
    if given.codes and set(given.codes) <= set(kind.codes):
        return code
    return f"{checker.constant(_Fits(target.name, kind))}({code})"


def _record(checker: Checker, node: ast.expr, code: str, given: Type, target: Element, depth: int) -> str | None:
    record = target.type
    assert isinstance(record, Record)
    if given.of is not Of.RECORD:
        checker.wrong(node, "type", f"A record goes to {target.name}.", f"record {record.name}", _found(checker, node, given),
                      "Write its fields: {…}.")
        return None
    if given.record is not None and (given.record is record or given.record == record):
        return code
    if depth > _MOST_DEPTH:
        checker.wrong(node, "depth", "The record is nested too deep to be brought over field by field.", f"record {record.name}",
                      _found(checker, node, given))
        return None
    made = given.record is None
    known = {one.name: one for one in record.slots}
    sound = True
    if made:
        for name in given.names:
            if name not in known:
                checker.wrong(node, "field", f"{record.name or 'The record'} has no field {name}.", f"one of {', '.join(known)}",
                              _found(checker, node, given))
                sound = False
    name, parts = f"v__{depth}", []
    for slot in known.values():
        inside = given.field(slot.name)
        if inside is None or inside.of is Of.NOTHING:
            if slot.least and slot.default is None and slot.fixed is None:
                checker.wrong(node, "required", f"{slot.name} of {target.name} is required, and nothing is put there.", type_of(slot).words,
                              _found(checker, node, given), f"Write its fields out: {{\"{slot.name}\": …}}.")
                sound = False
            continue
        wanted = type_of(slot)
        if inside.optional and slot.least and slot.default is None and not slot.is_list:
            checker.wrong(node, "absent", f"{slot.name} of {target.name} is required, and may be absent here.", wanted.words,
                          f"{slot.name}, {inside.words}")
            sound = False
            continue
        part = _brought(checker, node, f"{name}.get({slot.name!r})", inside, wanted, slot, depth + 1)
        sound = sound and part is not None
        parts.append(f"{slot.name!r}: {part}")
    if not sound:
        return None
    held = f"(lambda {name}: {checker.helper(arithmetic.without_absent)}({{{', '.join(parts)}}}))({code})"
    return f"(None if {code} is None else {held})" if given.optional else held
