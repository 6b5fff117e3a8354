"""The functions on lists. What is done with each item is a lambda, and becomes a loop of Python."""

import ast
from collections.abc import Callable
from dataclasses import replace
from typing import Any

from bricola.core.expressions import arithmetic
from bricola.core.expressions.checking import Checker, Term, facts
from bricola.core.expressions.functions import arguments, function
from bricola.core.expressions.types import (
    BOOLEAN,
    DECIMAL,
    EXACT,
    NONE,
    NUMBERS,
    ORDERED,
    SIMPLE,
    WHOLE,
    Of,
    Type,
    list_of,
    record_of,
)

_COUNT = Type(Of.WHOLE, digits=(7, 0))


@function("count(list)", "how many items", 1)
def _count(checker: Checker, node: ast.Call) -> Term | None:
    items = checker.list_term(node.args[0])
    return Term(f"{checker.constant(len)}({items.code})", _COUNT) if items is not None else None


def _numbers(checker: Checker, node: ast.expr) -> tuple[Term, Type] | None:
    """A list of numbers that are there, and the type of one."""
    items = checker.list_term(node)
    if items is None:
        return None
    item = items.type.item
    if item is None or (item.of is Of.NOTHING and items.type.least == 0 and items.code == "[]"):
        return items, WHOLE
    if item.of not in NUMBERS or item.optional:
        mend = "Leave absent ones out: [one.x for one in … if one.x is not None]" if item.of in NUMBERS else ""
        checker.mismatch(node, "a list of numbers", items, mend)
        return None
    return items, item


@function("sum(list)", "0 for an empty one", 1)
def _sum(checker: Checker, node: ast.Call) -> Term | None:
    found = _numbers(checker, node.args[0])
    if found is None:
        return None
    items, item = found
    checker.wide = checker.wide or item.of is Of.DECIMAL
    start = {Of.DECIMAL: f", {checker.exact(Term('0', WHOLE))}", Of.FLOAT: ", 0.0"}.get(item.of, "")
    return Term(f"{checker.constant(sum)}({checker.visited(items)}{start})", Type(item.of))


@function("average(list)", "absent for an empty one", 1)
def _average(checker: Checker, node: ast.Call) -> Term | None:
    found = _numbers(checker, node.args[0])
    if found is None:
        return None
    items, item = found
    checker.wide = checker.wide or item.of is Of.DECIMAL
    return Term(f"{checker.helper(arithmetic.average)}({checker.visited(items)})",
                replace(DECIMAL if item.of in EXACT else item.kept, optional=items.type.least == 0))


def _extreme(checker: Checker, node: ast.Call, made: Callable[..., Any]) -> Term | None:
    if len(node.args) > 1:
        terms = [checker.needed(one) for one in node.args]
        whole = terms[0]
        for part, one in zip(node.args[1:], terms[1:], strict=True):
            if whole is None or one is None:
                return None
            both = checker.either(part, whole, one)
            if both is None:
                return None
            whole = Term(f"{both[0]}, {both[1]}", both[2])
        if whole is None or whole.type.of not in ORDERED - {Of.DURATION}:
            if whole is not None:
                checker.mismatch(node, "values with an order", whole)
            return None
        return Term(f"{checker.constant(made)}({whole.code})", whole.type)
    items = checker.list_term(node.args[0])
    if items is None:
        return None
    item = items.type.item
    if item is None or item.optional or item.of not in ORDERED - {Of.DURATION}:
        checker.mismatch(node.args[0], "a list of values with an order", items)
        return None
    default = "" if items.type.least else ", default=None"
    return Term(f"{checker.constant(made)}({checker.visited(items)}{default})", item if items.type.least else item.absent)


@function("min(list)", "the least, absent for an empty list; min(a, b) of several values", 1, 20)
def _min(checker: Checker, node: ast.Call) -> Term | None:
    return _extreme(checker, node, min)


@function("max(list)", "the greatest, absent for an empty list; max(a, b) of several values", 1, 20)
def _max(checker: Checker, node: ast.Call) -> Term | None:
    return _extreme(checker, node, max)


def _end(checker: Checker, node: ast.Call, index: int) -> Term | None:
    items = checker.list_term(node.args[0])
    if items is None or items.type.item is None:
        return None
    if items.type.least:
        return Term(f"{items.code}[{index}]", items.type.item)
    return Term(f"{checker.helper(arithmetic.at)}({items.code}, {index})", items.type.item.absent)


@function("first(list)", "its first item, absent for an empty one", 1)
def _first(checker: Checker, node: ast.Call) -> Term | None:
    return _end(checker, node, 0)


@function("last(list)", "its last item, absent for an empty one", 1)
def _last(checker: Checker, node: ast.Call) -> Term | None:
    return _end(checker, node, -1)


@function("reverse(list)", "the other way round", 1)
def _reverse(checker: Checker, node: ast.Call) -> Term | None:
    items = checker.list_term(node.args[0])
    return Term(f"{checker.visited(items)}[::-1]", items.type) if items is not None else None


@function("flatten(list)", "the items of a list of lists", 1)
def _flatten(checker: Checker, node: ast.Call) -> Term | None:
    items = checker.list_term(node.args[0])
    if items is None:
        return None
    if items.type.item is None or items.type.item.of is not Of.LIST:
        checker.mismatch(node.args[0], "a list of lists", items)
        return None
    return Term(f"{checker.helper(arithmetic.flatten)}({checker.visited(items)})", replace(items.type.item, least=0))


@function("distinct(list)", "each value once, in the order in which they come first", 1)
def _distinct(checker: Checker, node: ast.Call) -> Term | None:
    items = checker.list_term(node.args[0])
    if items is None:
        return None
    if items.type.item is None or items.type.item.of not in SIMPLE:
        checker.mismatch(node.args[0], "a list of simple values", items, "Of records: map(group_by(list, lambda one: one.x), …)")
        return None
    return Term(f"{checker.helper(arithmetic.distinct)}({checker.visited(items)})", replace(items.type, least=min(1, items.type.least)))


@function("join(list, between)", "texts one after the other", 2)
def _join(checker: Checker, node: ast.Call) -> Term | None:
    items = checker.list_term(node.args[0])
    terms = arguments(checker, ast.Call(node.func, node.args[1:], []), [frozenset({Of.TEXT})])
    if items is None or not terms:
        return None
    if items.type.item is None or items.type.item.of not in (Of.TEXT, Of.NOTHING) or items.type.item.optional:
        checker.mismatch(node.args[0], "a list of texts", items, "Write join([text(one) for one in …], …).")
        return None
    return Term(f"{checker.helper(arithmetic.join_texts)}({checker.visited(items)}, {terms[0].code})", Type(Of.TEXT))


@function("numbers(first, last)", "the whole numbers from one to the other", 2)
def _numbers_from(checker: Checker, node: ast.Call) -> Term | None:
    terms = arguments(checker, node, [frozenset({Of.WHOLE})] * 2)
    if terms is None:
        return None
    checker.loops = True
    return Term(f"{checker.helper(arithmetic.count_up)}(b, {terms[0].code}, {terms[1].code})", list_of(WHOLE))


# with a lambda


def _keyed(checker: Checker, node: ast.Call, classes: frozenset[Of], what: str) -> tuple[Term, str, Term] | None:
    """A list, the name of an item in the made text, and the key of each item, which is there."""
    items = checker.list_term(node.args[0])
    if items is None or items.type.item is None:
        return None
    each = checker.each(node.args[1], items.type.item, node)
    if each is None:
        return None
    name, key = each
    if key.type.optional:
        checker.wrong(node.args[1], "absent", f"The {what} may be absent.", "a value that is there", key.type.words,
                      "Write coalesce(…, …).")
        return None
    if key.type.of not in classes:
        checker.mismatch(node.args[1], f"a simple value as {what}", key)
        return None
    return items, name, key


@function("map(list, lambda one: …)", "what the lambda makes of each item", 2)
def _map(checker: Checker, node: ast.Call) -> Term | None:
    items = checker.list_term(node.args[0])
    if items is None or items.type.item is None:
        return None
    each = checker.each(node.args[1], items.type.item, node)
    if each is None:
        return None
    return Term(f"[{each[1].code} for {each[0]} in {checker.visited(items, node)}]", list_of(each[1].type.kept, items.type.least))


def _filtered(checker: Checker, node: ast.Call) -> tuple[Term, str, str, Type] | None:
    """A list, the name of an item, its condition, and the type of an item for which it holds."""
    items = checker.list_term(node.args[0])
    if items is None or items.type.item is None:
        return None
    each = checker.each(node.args[1], items.type.item, node)
    if each is None:
        return None
    name, test = each
    if test.type.of is not Of.BOOLEAN or test.type.optional:
        checker.mismatch(node.args[1], "true or false", test)
        return None
    item = items.type.item
    told = node.args[1]
    if item.optional and isinstance(told, ast.Lambda) and told.args.args[0].arg in facts(told.body, True):
        item = item.present
    return items, name, test.code, item


@function("where(list, lambda one: …)", "the items for which it holds", 2)
def _where(checker: Checker, node: ast.Call) -> Term | None:
    found = _filtered(checker, node)
    if found is None:
        return None
    items, name, test, item = found
    return Term(f"[{name} for {name} in {checker.visited(items, node)} if {test}]", list_of(item))


def _holds(checker: Checker, node: ast.Call, made: Callable[..., Any]) -> Term | None:
    """any and all, of a list that is true or false itself (one.x > 3 for one in list), or of a list and a condition."""
    if len(node.args) == 2:
        found = _filtered(checker, node)
        if found is None:
            return None
        items, name, test, _ = found
        return Term(f"{checker.constant(made)}({test} for {name} in {checker.visited(items, node)})", BOOLEAN)
    conditions = checker.list_term(node.args[0])
    if conditions is None:
        return None
    if conditions.type.item is None or conditions.type.item.of is not Of.BOOLEAN or conditions.type.item.optional:
        checker.mismatch(node.args[0], "a list of conditions", conditions, "Write any(one.x > 3 for one in …).")
        return None
    return Term(f"{checker.constant(made)}({checker.visited(conditions)})", BOOLEAN)


@function("any(one.x > 3 for one in list)", "whether it holds for some item; or any(list, lambda one: …)", 1, 2)
def _any(checker: Checker, node: ast.Call) -> Term | None:
    return _holds(checker, node, any)


@function("all(one.x > 3 for one in list)", "whether it holds for every item; or all(list, lambda one: …)", 1, 2)
def _all(checker: Checker, node: ast.Call) -> Term | None:
    return _holds(checker, node, all)


@function('sort_by(list, "field", True)', "in the order of a field, or of lambda one: …; with True, the greatest first", 2, 3)
def _sort_by(checker: Checker, node: ast.Call) -> Term | None:
    found = _keyed(checker, node, ORDERED - {Of.DURATION}, "order")
    if found is None:
        return None
    descending = False
    if len(node.args) > 2:
        told = checker.condition(node.args[2])
        if told is None or told.type.constant is NONE:
            if told is not None:
                checker.wrong(node.args[2], "constant", "The direction is written out.", "True or False")
            return None
        descending = bool(told.type.constant)
    items, name, key = found
    held, keys = checker.visited(items, node), f"lambda {name}: {key.code}"
    return Term(f"{checker.helper(arithmetic.sort_by)}({held}, {keys}, {descending})", items.type)


@function('group_by(list, "field")', "records of a key and its items, in the order in which the keys come first", 2)
def _group_by(checker: Checker, node: ast.Call) -> Term | None:
    found = _keyed(checker, node, SIMPLE, "key")
    if found is None:
        return None
    items, name, key = found
    held, keys = checker.visited(items, node), f"lambda {name}: {key.code}"
    group = record_of((("key", key.type.kept), ("items", list_of(items.type.item or WHOLE, 1))))
    return Term(f"{checker.helper(arithmetic.grouped)}({held}, {keys})", list_of(group, min(1, items.type.least)))


@function('index_by(list, "field")', "finds the first item by its key: index_by(…)[key]", 2)
def _index_by(checker: Checker, node: ast.Call) -> Term | None:
    found = _keyed(checker, node, SIMPLE, "key")
    if found is None:
        return None
    items, name, key = found
    held, keys = checker.visited(items, node), f"lambda {name}: {key.code}"
    return Term(f"{checker.helper(arithmetic.indexed)}({held}, {keys})", Type(Of.LOOKUP, item=items.type.item, key=key.type.kept))
