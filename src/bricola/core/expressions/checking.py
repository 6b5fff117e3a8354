"""From a tree to a typed term: what a part is, that it fits its place, and the text of the Python that works it out.

`Checker` goes through the tree once. A part that is wrong is noted with its position and the types involved, and gives no term; what stands
around it is then not judged, so one mistake is told once. A value that may be absent must be known to be there where it is used: `known`
holds what a condition says of the parts below it (`a is not None and a > 3`), by the text of names and dots.

In the text that is made, `s` is the mapping of names, `b` the budget of loops, a name of a loop has `v_` before it, and every other name
is a function or a constant of the compiled expression's own namespace.
"""

import ast
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from decimal import Decimal
from typing import Any, NamedTuple

from bricola.core.expressions import arithmetic
from bricola.core.expressions.operators import Operators
from bricola.core.expressions.reading import Source
from bricola.core.expressions.types import (
    BOOLEAN,
    NONE,
    NOTHING,
    SIMPLE,
    TEXT,
    Of,
    Type,
    join,
    list_of,
    meant,
    of_value,
    record_of,
)
from bricola.core.nearness import did_you_mean
from bricola.core.problems import Problem, shown

Names = Mapping[str, Type]
_MOST_BITS = int(arithmetic.MOST_DIGITS * 3.3)


class Term(NamedTuple):
    """A part of an expression: the text of its Python, and its type."""

    code: str
    type: Type


@dataclass(frozen=True)
class Function:
    """A function of the language: how many arguments it takes, how a call is checked, and one line on it for people."""

    name: str
    form: str
    least: int
    most: int
    check: "Callable[[Checker, ast.Call], Term | None]"
    words: str = ""


class Checker(Operators):
    """Makes terms. `names` are what an expression may speak of, `known` those parts of them that are known to be there."""

    def __init__(self, source: Source, names: Names, known: frozenset[str], functions: Mapping[str, Function]) -> None:
        self.source = source
        self.problems: list[Problem] = []
        self.constants: dict[str, Any] = {}
        self.loops = False  # whether a budget is needed
        self.wide = False  # whether decimals may get more places than the process's own context keeps
        self._names, self._known, self._functions = names, known, functions
        self._locals: dict[str, Type] = {}
        self.used: set[str] = set()
        self.secret = False  # whether something sensitive goes into it

    # what tables of functions use

    def wrong(self, node: ast.AST, code: str, message: str, expected: str = "", found: str = "", mend: str = "") -> None:
        self.problems.append(self.source.problem(node, code, message, expected, found, mend))

    def mismatch(self, node: ast.AST, expected: str, term: Term, mend: str = "") -> None:
        self.wrong(node, "type", "A value of another type belongs here.", expected, f"{self.source.part(node)}, {term.type.words}"[:300],
                   mend)

    def constant(self, value: Any) -> str:
        """The name under which a value is known to the compiled expression."""
        for name, known in self.constants.items():
            if known is value:
                return name
        name = f"c{len(self.constants)}"
        self.constants[name] = value
        return name

    def helper(self, function: Callable[..., Any]) -> str:
        name = f"_{function.__name__}"
        if self.constants.get(name, function) is not function:
            name = f"_{function.__name__}{len(self.constants)}"
        self.constants[name] = function
        return name

    def visited(self, items: Term, body: ast.AST | None = None) -> str:
        """The text of a list that is gone through, counted with what is done at each item."""
        self.loops = True
        weight = sum(1 for _ in ast.walk(body)) if body is not None else 1
        return f"{self.helper(arithmetic.visit)}(b, {items.code}, {weight})"

    def list_term(self, node: ast.expr) -> Term | None:
        """A list; None, with a problem, for anything else."""
        term = self.term(node)
        if term is None:
            return None
        if term.type.of is not Of.LIST:
            self.mismatch(node, "a list", term)
            return None
        return term

    def each(self, node: ast.expr, item: Type, whole: ast.AST) -> tuple[str, Term] | None:
        """What a lambda makes of an item, or the field of it that a text names: the text of its name, and its term."""
        if isinstance(node, ast.Constant) and isinstance(node.value, str):
            return self._field_of_each(node, node.value, item)
        if not isinstance(node, ast.Lambda):
            self.wrong(node, "lambda", "What is done with each item is said here.", "lambda one: …",
                       mend=f'Name a field, "…", or write lambda one: {self.source.part(node)[:40]}' )
            return None
        name = node.args.args[0].arg
        with self.local(node.args.args[0], name, item) as fits:
            body = self.term(node.body) if fits else None
        return (f"v_{name}", body) if body is not None else None

    def _field_of_each(self, node: ast.Constant, path: str, item: Type) -> tuple[str, Term] | None:
        name = f"one{len(self._locals)}"
        part: ast.expr = ast.copy_location(ast.Name(name, ast.Load()), node)
        for step in path.split("."):
            part = ast.copy_location(ast.Attribute(part, step, ast.Load()), node)
        with self.local(node, name, item) as fits:
            body = self.term(part) if fits else None
        return (f"v_{name}", body) if body is not None else None

    @contextmanager
    def local(self, node: ast.AST, name: str, item: Type) -> Iterator[bool]:
        """A name of a loop, for what stands inside of it."""
        if name in self._names or name in self._locals or name in self._functions:
            self.wrong(node, "name", "This name is taken.", "a name of its own", shown(name))
            yield False
            return
        self._locals[name] = item
        before = self._known
        yield True
        del self._locals[name]
        self._known = before

    @contextmanager
    def knowing(self, more: frozenset[str]) -> Iterator[None]:
        before, self._known = self._known, self._known | more
        yield
        self._known = before

    # terms

    def term(self, node: ast.expr) -> Term | None:
        """The term of a part, or None when something in it is wrong."""
        method: Callable[[Any], Term | None] | None = getattr(self, f"_{type(node).__name__.lower()}", None)
        if method is None:
            self.wrong(node, "not-allowed", "This stands alone, or where it does not belong.")
            return None
        return method(node)

    def needed(self, node: ast.expr) -> Term | None:
        """A term that is there; None, with a problem, where it may be absent."""
        term = self.term(node)
        if term is None:
            return None
        if term.type.optional:
            what = self.source.part(node)
            self.wrong(node, "absent", "This may be absent, and is used as if it were there.", "a value that is there",
                       f"{what}, {term.type.words}"[:300], f"Write coalesce({what[:60]}, …), or ask first: {what[:60]} is not None")
            return None
        return term

    def condition(self, node: ast.expr) -> Term | None:
        term = self.needed(node)
        if term is not None and term.type.of is not Of.BOOLEAN:
            self.mismatch(node, "true or false", term, "Compare it with something.")
            return None
        return term

    def _constant(self, node: ast.Constant) -> Term | None:
        value: Any = node.value
        if isinstance(value, float):  # as it is written, since 0.1 is no binary number
            value = Decimal(self.source.part(node).replace("_", ""))
        if (isinstance(value, Decimal) and abs(value.adjusted()) > arithmetic.MOST_DIGITS) or (
                type(value) is int and value.bit_length() > _MOST_BITS):
            self.wrong(node, "value", "The number has too many digits.", f"at most {arithmetic.MOST_DIGITS}")
            return None
        return Term(self.constant(value) if isinstance(value, Decimal) else repr(value), of_value(value))

    def _name(self, node: ast.Name) -> Term | None:
        name = node.id
        if name not in self._locals:
            name = meant(name, self._names)
        if name in self._locals:
            if self._locals[name].of is Of.UNKNOWN:
                return None
            return self._narrowed(node, Term(f"v_{name}", self._locals[name]))
        kind = self._names.get(name)
        if kind is None:
            self._unknown(node, name)
            return None
        self.used.add(name)
        if kind.of is Of.UNKNOWN:
            return None
        code = f"s.get({name!r})" if kind.optional else f"(s.get({name!r}) or [])" if kind.of is Of.LIST else f"s[{name!r}]"
        return self._narrowed(node, Term(code, kind))

    def _unknown(self, node: ast.AST, name: str) -> None:
        known = [*self._locals, *self._names]
        mend = f"A function is called: {self._functions[name].form}" if name in self._functions else did_you_mean(name, known)
        self.wrong(node, "name", "Nothing has this name here.", f"one of {', '.join(known[:20])}" if known else "", shown(name), mend)

    def _narrowed(self, node: ast.expr, term: Term) -> Term:
        self.secret = self.secret or term.type.sensitive
        return Term(term.code, term.type.present) if term.type.optional and path_of(node) in self._known else term

    def _attribute(self, node: ast.Attribute) -> Term | None:
        base = self.needed(node.value)
        if base is None:
            return None
        if base.type.of is not Of.RECORD:
            whole = "Take one of them: first(…), …[0], or go through them: [one.x for one in …]." if base.type.of is Of.LIST else ""
            self.mismatch(node.value, f"a record with {node.attr}", base, whole)
            return None
        attr = meant(node.attr, base.type.names)
        kind = base.type.field(attr)
        if kind is not None and kind.of is Of.UNKNOWN:
            return None
        if kind is None:
            names = base.type.names
            self.wrong(node, "field", "The record has no such field.",
                       f"one of {', '.join(names[:20])}" if names else "a record with fields",
                       f"{node.attr} of {base.type.words}"[:300], did_you_mean(node.attr, names))
            return None
        field = f"{base.code}[{attr!r}]"
        if kind.of is Of.LIST:
            field = f"({base.code}.get({attr!r}) or [])"
        elif kind.optional:
            field = f"{base.code}.get({attr!r})"
        return self._narrowed(node, Term(field, kind))

    def _subscript(self, node: ast.Subscript) -> Term | None:
        base = self.needed(node.value)
        if base is None:
            return None
        if isinstance(node.slice, ast.Slice):
            return self._slice(node, node.slice, base)
        index = self.needed(node.slice)
        if index is None:
            return None
        if base.type.of is Of.LIST and base.type.item is not None:
            if index.type.of is not Of.WHOLE:
                self.mismatch(node.slice, "a whole number, counted from 0", index)
                return None
            kind = base.type.item
            if index.type.constant is not NONE and 0 <= index.type.constant < base.type.least:
                return Term(f"{base.code}[{index.code}]", kind)
            return self._narrowed(node, Term(f"{self.helper(arithmetic.at)}({base.code}, {index.code})", kind.absent))
        if base.type.of is Of.LOOKUP and base.type.item is not None and base.type.key is not None:
            if not self.comparable(base.type.key, index.type):
                self.mismatch(node.slice, base.type.key.words, index)
                return None
            return self._narrowed(node, Term(f"{self.helper(arithmetic.find)}({base.code}, {index.code})", base.type.item.absent))
        self.mismatch(node.value, "a list, or what index_by() makes", base)
        return None

    def _slice(self, node: ast.Subscript, part: ast.Slice, base: Term) -> Term | None:
        if base.type.of not in (Of.LIST, Of.TEXT):
            self.mismatch(node.value, "a list or a text", base)
            return None
        ends = []
        for end in (part.lower, part.upper):
            term = self.needed(end) if end is not None else Term("", NOTHING)
            if term is None:
                return None
            if end is not None and term.type.of is not Of.WHOLE:
                self.mismatch(end, "a whole number, counted from 0", term)
                return None
            ends.append(term.code)
        kind = list_of(base.type.item or NOTHING) if base.type.of is Of.LIST else Type(Of.TEXT, length=base.type.length)
        return Term(f"{base.code}[{ends[0]}:{ends[1]}]", kind)

    def _list(self, node: ast.List) -> Term | None:
        terms = [self.term(one) for one in node.elts]
        if any(one is None for one in terms):
            return None
        kind: Type | None = None
        found = [one for one in terms if one is not None]
        for one, part in zip(found, node.elts, strict=True):
            joined = one.type if kind is None else join(kind, one.type)
            if joined is None or (kind is not None and kind.of is not joined.of and Of.NOTHING not in (kind.of, one.type.of)):
                self.mismatch(part, f"the same as the items before it: {kind.words if kind else ''}", one)
                return None
            kind = joined
        return Term(f"[{', '.join(one.code for one in found)}]", list_of(kind.kept if kind is not None else NOTHING, len(found)))

    def _dict(self, node: ast.Dict) -> Term | None:
        parts, fields, optional = list[str](), list[tuple[str, Type]](), False
        sound = True
        for key, value in zip(node.keys, node.values, strict=True):
            if not isinstance(key, ast.Constant) or not isinstance(key.value, str) or not key.value.isidentifier():
                self.wrong(key or value, "record", "The fields of a record are named by texts.", '{"name": value}')
                sound = False
                continue
            term = self.term(value)
            if term is None:
                sound = False
                continue
            if key.value in dict(fields):
                self.wrong(key, "record", "The field stands twice.", found=shown(key.value))
                sound = False
            optional = optional or term.type.optional
            fields.append((key.value, term.type))
            parts.append(f"{key.value!r}: {term.code}")
        if not sound:
            return None
        code = f"{{{', '.join(parts)}}}"
        return Term(f"{self.helper(arithmetic.without_absent)}({code})" if optional else code, record_of(fields))

    def _listcomp(self, node: ast.ListComp | ast.GeneratorExp) -> Term | None:
        return self._loop(node, node.generators, node.elt)

    _generatorexp = _listcomp

    def _loop(self, node: ast.expr, clauses: list[ast.comprehension], element: ast.expr) -> Term | None:
        made = self._clauses(node, list(clauses), element)
        if made is None:
            return None
        text, body = made
        return Term(f"[{body.code}{text}]", list_of(body.type.kept))

    def _clauses(self, node: ast.expr, clauses: list[ast.comprehension], element: ast.expr) -> tuple[str, Term] | None:
        clause, *rest = clauses
        items = self.list_term(clause.iter)
        if items is None or not isinstance(clause.target, ast.Name):
            return None
        name = clause.target.id
        with self.local(clause.target, name, items.type.item or NOTHING) as fits:
            if not fits:
                return None
            tests = []
            for test in clause.ifs:
                term = self.condition(test)
                if term is None:
                    return None
                tests.append(f" if {term.code}")
                self._known = self._known | facts(test, True)
            inner: tuple[str, Term] | None
            if rest:
                inner = self._clauses(node, rest, element)
            else:
                body = self.term(element)
                inner = ("", body) if body is not None else None
        if inner is None:
            return None
        return f" for v_{name} in {self.visited(items, node)}{''.join(tests)}{inner[0]}", inner[1]

    def _ifexp(self, node: ast.IfExp) -> Term | None:
        test = self.condition(node.test)
        with self.knowing(facts(node.test, True)):
            body = self.term(node.body)
        with self.knowing(facts(node.test, False)):
            other = self.term(node.orelse)
        if test is None or body is None or other is None:
            return None
        both = self.either(node.orelse, body, other)
        return Term(f"({both[0]} if {test.code} else {both[1]})", both[2]) if both is not None else None

    def either(self, node: ast.AST, one: Term, other: Term) -> tuple[str, str, Type] | None:
        """Two terms of which one is taken, in one class."""
        kind = join(one.type, other.type)
        if kind is None:
            self.mismatch(node, f"the same as the other side: {one.type.words}", other)
            return None
        return self.as_class(one, kind), self.as_class(other, kind), kind

    def as_class(self, term: Term, kind: Type) -> str:
        """The text of a term where a class is wanted that takes its values."""
        if kind.of is Of.DECIMAL and term.type.of is Of.WHOLE:
            if term.type.optional:
                return f"{self.helper(arithmetic.decimal_of)}({term.code})"
            return f"{self.constant(Decimal)}({term.code})"
        return term.code

    def _lambda(self, node: ast.Lambda) -> None:
        self.wrong(node, "lambda", "A lambda stands in a call of map(), where(), sort_by() and their kin.")

    def _joinedstr(self, node: ast.JoinedStr) -> Term | None:
        parts: list[str] = []
        sound = True
        for one in node.values:
            if isinstance(one, ast.Constant):
                parts.append(repr(str(one.value)))
                continue
            assert isinstance(one, ast.FormattedValue)
            term = self.needed(one.value)
            if term is not None and term.type.of not in SIMPLE:
                self.mismatch(one.value, "a value that is one text", term)
                term = None
            sound = sound and term is not None
            parts.append(self.as_text(term) if term is not None else "")
        if not sound:
            return None
        return Term(f"{self.helper(arithmetic.fitting)}(''.join(({', '.join(parts)},)))" if parts else "''", TEXT)

    def _call(self, node: ast.Call) -> Term | None:
        assert isinstance(node.func, ast.Name)  # looked at when it was read
        name = node.func.id
        function = self._functions.get(name)
        if function is None:
            self.wrong(node.func, "function", "There is no such function.", "a function of docs/workflows.md", shown(name),
                       did_you_mean(name, list(self._functions)))
            return None
        if node.keywords:
            self.wrong(node, "argument", "Arguments have no names here.", function.form)
            return None
        if not function.least <= len(node.args) <= function.most:
            self.wrong(node, "argument", "The function takes another number of arguments.", function.form, f"{len(node.args)} arguments")
            return None
        term = function.check(self, node)
        return self._narrowed(node, term) if term is not None else None

    def _boolop(self, node: ast.BoolOp) -> Term | None:
        joins, truth = (" and ", True) if isinstance(node.op, ast.And) else (" or ", False)
        codes: list[str] = []
        before = self._known
        for one in node.values:
            term = self.condition(one)
            if term is not None:
                codes.append(term.code)
            self._known = self._known | facts(one, truth)
        self._known = before
        return Term(f"({joins.join(codes)})", BOOLEAN) if len(codes) == len(node.values) else None


def path_of(node: ast.AST) -> str:
    """The text under which a part is known to be there; since nothing in an expression changes anything, one text is one value. '' for
    what is never asked after."""
    return ast.unparse(node) if isinstance(node, ast.Name | ast.Attribute | ast.Subscript | ast.Call) else ""


def facts(node: ast.expr, truth: bool) -> frozenset[str]:
    """What is there when a condition turns out so: `x is not None` when it is true, `x is None` when it is false."""
    if isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.Not):
        return facts(node.operand, not truth)
    if isinstance(node, ast.BoolOp):
        parts = [facts(one, truth) for one in node.values]
        together = isinstance(node.op, ast.And) is truth
        return frozenset().union(*parts) if together else frozenset.intersection(*parts)
    if not isinstance(node, ast.Compare) or len(node.ops) != 1:
        return frozenset()
    left, right, sign = node.left, node.comparators[0], node.ops[0]
    absent = [one for one in (left, right) if isinstance(one, ast.Constant) and one.value is None]
    if absent:
        says_there = isinstance(sign, ast.IsNot | ast.NotEq)
        other = right if absent[0] is left else left
        return frozenset({path_of(other)} - {""}) if says_there is truth else frozenset()
    if isinstance(sign, ast.Eq) and truth and (isinstance(left, ast.Constant) or isinstance(right, ast.Constant)):
        return frozenset({path_of(left), path_of(right)} - {""})
    if isinstance(sign, ast.In) and truth and isinstance(right, ast.List):
        return frozenset({path_of(left)} - {""})
    return frozenset()
