"""XPath of a process (1.0, and what of 2.0 is in use) as expressions of workflows. The text is parsed by `elementpath`; what each sign and
function becomes stands in the tables at the end. Whatever has no counterpart raises UntakenError, which says what it is."""

import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from typing import Any

from elementpath import ElementPathError
from elementpath.xpath2 import XPath2Parser

from bricola.core.contracts.reading.parts import local_name
from bricola.core.expressions.types import EXACT, NUMBERS, TEXT, Of, Type
from bricola.core.kinds.workflows.processes.documents import BPEL, Documents
from bricola.core.kinds.workflows.processes.places import Path, Places, slot_of
from bricola.core.kinds.workflows.processes.terms import (
    TRUTH,
    WHOLE,
    Term,
    UntakenError,
    constant,
    fitted,
    number,
    quoted,
    single,
    step,
    text,
    truth,
)
from bricola.core.shapes.model import Element, Record

_PROPERTY = re.compile(r"""(?:[\w.-]+:)?getVariableProperty\(\s*(['"])(?P<variable>[^'"]+)\1\s*,\s*(['"])(?P<property>[^'"]+)\3\s*\)""")
_MOST = 4_000
_DECIMAL = Type(Of.DECIMAL)


@dataclass(frozen=True)
class Counter:
    """A counter of a loop: `items` is the list that it goes through, by its text, `item` what stands at it there; '' for a plain one."""

    index: Term
    items: str = ""
    item: Term | None = None


@dataclass(frozen=True)
class Place:
    """A place that is named, before it is read. `at` is a test behind it: the list's own item."""

    path: Path
    at: Any = None


Node = Term | Place


class Paths:
    """Turns paths into terms, in the light of what is known at one point of a process."""

    def __init__(self, documents: Documents, places: Places) -> None:
        self._documents, self.places = documents, places
        self.counters: dict[str, Counter] = {}
        self._prefixes: Mapping[str, str] = {}
        self._here: list[Term] = []  # what '.' is inside of tests
        self._numbers = 0
        self._base: Path | None = None  # what a query goes from

    def term(self, written: str, prefixes: Mapping[str, str]) -> Term:
        """What an expression gives. Raises UntakenError."""
        found = self._read(self.named(written, prefixes))
        if len(found.text) > _MOST:
            raise UntakenError("The expression is too long.")
        return found

    def condition(self, written: str, prefixes: Mapping[str, str]) -> str:
        return truth(self.term(written, prefixes)).text

    def place(self, written: str, prefixes: Mapping[str, str]) -> Place:
        """The place that an expression names, to be written."""
        found = self.named(written, prefixes)
        if isinstance(found, Term):
            raise UntakenError(f"{written} names no one place that can be written.")
        return found

    def value(self, node: Node) -> Term:
        return self._read(node)

    def named(self, written: str, prefixes: Mapping[str, str]) -> Node:
        """What an expression names: a place where it is nothing else."""
        self._prefixes, self._numbers = prefixes, 0
        return self._node(self._parsed(written, prefixes))

    def within(self, place: Path, query: str, prefixes: Mapping[str, str]) -> Place:
        """A place below another one, by a query as they stand behind a part."""
        query = query if query.startswith(("/", "[")) else f"/{query}"
        self._base = place
        try:
            return self.place(f"$this{query}", prefixes)
        finally:
            self._base = None

    def _parsed(self, written: str, prefixes: Mapping[str, str]) -> Any:
        if "doXslTransform" in written:
            raise UntakenError("A style sheet (doXslTransform) has no counterpart: say part by part what it makes, or call what does it.")
        changed = _PROPERTY.sub(self._property, written.strip())
        parser = XPath2Parser(namespaces={name: uri for name, uri in prefixes.items() if uri != BPEL})
        try:
            return parser.parse(changed)
        except (ElementPathError, SyntaxError, ValueError, KeyError) as error:
            raise UntakenError(f"The expression cannot be read: {str(error)[:200]}.") from None

    def _property(self, found: "re.Match[str]") -> str:
        """A property of a message as the path that its alias says."""
        prefix, _, local = found["property"].rpartition(":")
        tag = f"{{{self._prefixes.get(prefix, '')}}}{local}"
        known = self.places.variables.get(found["variable"])
        for alias in self._documents.aliases.get(tag, ()):
            if known is not None and (not alias.part or alias.part in known.parts):
                query = re.sub(r"[\w.-]+:(?!:)", "", alias.query)
                joint = "" if not query or query.startswith(("/", "[")) else "/"
                return f"${found['variable']}{f'.{alias.part}' if alias.part else ''}{joint}{query}"
        raise UntakenError(f"The property {found['property']} of {found['variable']} has no alias.")

    # -- nodes

    def _node(self, token: Any) -> Node:
        made = _SIGNS.get(token.symbol)
        if made is not None:
            return made(self, token)
        function = _FUNCTIONS.get(local_name(token.symbol).rpartition(":")[2])
        if function is not None:
            return function(self, [self._read(self._node(one)) for one in token])
        raise UntakenError(f"{token.source.strip()[:80]} ({token.symbol}) has no counterpart in expressions.")

    def read(self, token: Any) -> Term:
        return self._read(self._node(token))

    def _read(self, node: Node) -> Term:
        if isinstance(node, Term):
            return node
        found = self.places.read(node.path)
        return self._tested(found, node.at) if node.at is not None else found

    def _variable(self, token: Any) -> Node:
        name = str(token.value)
        if name == "this" and self._base is not None:
            return Place(self._base)
        counter = self.counters.get(name)
        if counter is not None:
            return counter.index
        variable, dot, part = name.rpartition(".")
        if name in self.places.variables:
            variable, dot, part = name, "", ""
        known = self.places.variables.get(variable)
        if known is None:
            raise UntakenError(f"There is no variable {name}.")
        if dot and part not in known.parts:
            raise UntakenError(f"The message of {variable} has no part {part}.")
        return Place((variable, *known.parts.get(part, ())))

    def _step(self, token: Any) -> Node:
        if len(token) == 1:  # '/x' in a query goes from the part
            return self._child(self._start(), token[0])
        return self._child(self._node(token[0]), token[1])

    def _start(self) -> Node:
        if not self._here:
            raise UntakenError("A path from the root of a document has no counterpart; name the variable.")
        return self._here[-1]

    def _child(self, base: Node, token: Any) -> Node:
        symbol = token.symbol
        if symbol == "[":
            return self._test(base, token)
        if symbol in (".", "text", "self"):
            return base
        if symbol == "child":
            return self._child(base, token[0])
        attribute = symbol in ("@", "attribute")
        named = token[0] if attribute else token
        if named.symbol not in (":", "(name)"):
            raise UntakenError(f"The step {token.source.strip()[:60]} has no counterpart.")
        local = str(named.value).rpartition(":")[2]
        if isinstance(base, Place) and base.at is None:
            holder = self.places.holder(base.path)
            record = holder.type if isinstance(holder, Element) else holder
            if not (isinstance(holder, Element) and holder.is_list) and isinstance(record, Record):
                if isinstance(holder, Record) and record.local == local and all(one.local != local for one in record.elements):
                    return base  # the part's own element, named where a query begins
                return Place((*base.path, slot_of(record, local, attribute)))
        if isinstance(base, Place) and base.at is not None and self.places.variables.get("#item " + ".".join(base.path)) is not None:
            path: Path = ("#item " + ".".join(base.path),)
            return Place((*path, self.places.slot(path, local, attribute)))
        return self._part(self._read(base), local, attribute)

    def _part(self, base: Term, local: str, attribute: bool) -> Term:
        kind = base.type.item if base.type.of is Of.LIST else base.type
        name = slot_of(kind.record, local, attribute) if kind is not None and kind.record is not None else local
        self._numbers += 1
        return step(base, name, self._numbers - 1)

    def _test(self, base: Node, token: Any) -> Node:
        """`a/b[test]` comes as a step whose last part is tested."""
        inner, test = token[0], token[1]
        found = self._child(base, inner)
        return Place(found.path, test) if isinstance(found, Place) and found.at is None else self._tested(self._read(found), test)

    def _tested_first(self, token: Any) -> Node:
        """`$a[test]`: what is tested is a variable or something in brackets."""
        found = self._node(token[0])
        return Place(found.path, token[1]) if isinstance(found, Place) and found.at is None else self._tested(self._read(found), token[1])

    def _tested(self, found: Term, test: Any) -> Term:
        if test.symbol == "$" and (counter := self.counters.get(str(test.value))) and counter.items == found.text and counter.item:
            return counter.item
        if found.type.of is not Of.LIST:
            if test.symbol == "(integer)" and test.value == 1:
                return found
            raise UntakenError(f"{found.text} stands once, and is tested.")
        item = found.type.item or TEXT
        if test.symbol == "last":
            return Term(f"last({found.text})", replace(item, optional=True))
        name = f"each{len(self._here) or ''}"
        self._here.append(Term(name, item.present, True, True))
        try:
            tested = self.read(test)
        finally:
            self._here.pop()
        if tested.type.of in NUMBERS:
            index = str(int(test.value) - 1) if test.symbol == "(integer)" else f"{tested.text[:-4]}" if tested.text.endswith(" + 1") \
                else f"{tested.inner} - 1"
            return Term(f"{found.inner}[{index}]", replace(item, optional=True))
        return Term(f"[{name} for {name} in {found.text} if {truth(tested).text}]", Type(Of.LIST, item=item))

    def _context(self, token: Any) -> Node:
        return self._start()

    def _relative(self, token: Any) -> Node:
        return self._child(self._start(), token)

    # -- signs

    def _compared(self, token: Any) -> Term:
        sign = {"=": "==", "eq": "==", "ne": "!=", "lt": "<", "le": "<=", "gt": ">", "ge": ">="}.get(token.symbol, token.symbol)
        left, right = self.read(token[0]), self.read(token[1])
        if Of.LIST in (left.type.of, right.type.of):
            many, other, turned = (left, right, sign) if left.type.of is Of.LIST else (right, left, sign.translate(_TURNED))
            item = Term("each", (many.type.item or TEXT).present, True)
            one, two = _alike(single(item), single(other), turned)
            return Term(f"any({one.inner} {turned} {two.inner} for each in {many.text})", TRUTH)
        left, right = _alike(single(left), single(right), sign)
        guards = [f"{one.inner} is not None" for one in (left, right) if one.type.optional]
        return Term(" and ".join([*guards, f"{left.inner} {sign} {right.inner}"]), TRUTH, False)

    def _joined(self, token: Any) -> Term:
        sides = [truth(self.read(one)) for one in token]
        inner = [one.text if one.tight or not (" or " in one.text or " if " in one.text) else f"({one.text})" for one in sides]
        return Term(f" {token.symbol} ".join(inner), TRUTH, False)

    def _counted(self, token: Any) -> Term:
        if len(token) == 1:
            side = number(self.read(token[0]))
            return Term(f"{token.symbol}{side.inner}", side.type, False)
        left, right = (self.read(one) for one in token)
        sign = {"div": "/", "mod": "%", "idiv": "//"}.get(token.symbol, token.symbol)
        left, right = number(left), number(right)
        both = left.type.of is Of.WHOLE and right.type.of is Of.WHOLE and sign != "/"
        kind = WHOLE if both else left.type if left.type.of not in NUMBERS else _DECIMAL
        return Term(f"{left.inner} {sign} {right.inner}", replace(kind, optional=False), False)

    def _chosen(self, token: Any) -> Term:
        test, one, other = truth(self.read(token[0])), self.read(token[1]), self.read(token[2])
        return Term(f"{one.inner} if {test.inner} else {other.inner}", one.type, False)

    def _literal(self, token: Any) -> Term:
        return Term(quoted(str(token.value)), TEXT, True, True) if token.symbol == "(string)" else constant(f"{token.value}")


_TURNED = str.maketrans("<>", "><")


def _alike(left: Term, right: Term, sign: str) -> tuple[Term, Term]:
    """Both sides of a comparison as values of one type: a number where one is, or where order is asked of texts."""
    kinds = left.type.of, right.type.of
    if kinds[0] is kinds[1] or (kinds[0] in EXACT and kinds[1] in EXACT):
        if kinds[0] is Of.TEXT and sign not in ("==", "!="):
            return number(left), number(right)
        return left, right
    if Of.TEXT in kinds:
        other = right if kinds[0] is Of.TEXT else left
        wanted = _DECIMAL if other.type.of is Of.WHOLE else other.type.present  # a text may have a fraction
        return (fitted(left, wanted), right) if kinds[0] is Of.TEXT else (left, fitted(right, wanted))
    if Of.BOOLEAN in kinds:
        return truth(left), truth(right)
    return number(left), number(right)


_SIGNS: dict[str, Callable[[Paths, Any], Node]] = {
    "$": Paths._variable, "/": Paths._step, "[": Paths._tested_first, ".": Paths._context, "(name)": Paths._relative,
    ":": Paths._relative, "@": Paths._relative, "text": Paths._context, "if": Paths._chosen,
    **dict.fromkeys(("=", "!=", "<", "<=", ">", ">=", "eq", "ne", "lt", "le", "gt", "ge"), Paths._compared),
    **dict.fromkeys(("and", "or"), Paths._joined),
    **dict.fromkeys(("+", "-", "*", "div", "mod", "idiv"), Paths._counted),
    **dict.fromkeys(("(string)", "(integer)", "(decimal)", "(float)"), Paths._literal),
    "(": lambda self, token: self._node(token[0]),
}
_Made = Callable[[Paths, list[Term]], Term]


def _of_texts(form: str, kind: Type = TEXT) -> _Made:
    """A function of texts, by the form in which it is written."""
    return lambda paths, terms: Term(form.format(*(text(one).text for one in terms), inner=text(terms[0]).inner if terms else ""), kind)


def _substring(paths: Paths, terms: list[Term]) -> Term:
    start = terms[1].text
    first = str(int(start) - 1) if start.isdigit() else f"{terms[1].inner} - 1"
    end = ""
    if len(terms) > 2:
        length = terms[2].text
        end = str(int(first) + int(length)) if first.isdigit() and length.isdigit() else f"{first} + {terms[2].inner}"
    return Term(f"{text(terms[0]).inner}[{'' if first == '0' else first}:{end}]", TEXT)


def _numbers(form: str, kind: Type = _DECIMAL) -> _Made:
    return lambda paths, terms: Term(form.format(*(number(one).text for one in terms)), kind)


def _list(form: str, kind: Type | None) -> _Made:
    def made(paths: Paths, terms: list[Term]) -> Term:
        if terms[0].type.of is not Of.LIST:
            raise UntakenError(f"{terms[0].text} is no list.")
        item, made = terms[0].type.item, terms[0]
        if item is not None and item.of is Of.RECORD and "value" in item.names:  # simple content with attributes
            made = step(made, "value", 9)
        return Term(form.format(made.text), kind or replace(made.type.item or _DECIMAL, optional=True))
    return made


def _count(paths: Paths, terms: list[Term]) -> Term:
    one = terms[0]
    if one.type.of is Of.LIST:
        return Term(f"count({one.text})", WHOLE)
    return Term(f"1 if {one.inner} is not None else 0", WHOLE, False) if one.type.optional else Term("1", WHOLE)


def _not(paths: Paths, terms: list[Term]) -> Term:
    return Term(f"not {truth(terms[0]).inner}", TRUTH, False)


def _concat(paths: Paths, terms: list[Term]) -> Term:
    return Term(" + ".join(text(one).inner for one in terms), TEXT, False)


_FUNCTIONS: dict[str, _Made] = {
    "string": lambda paths, terms: text(terms[0]),
    "concat": _concat,
    "contains": _of_texts("contains({0}, {1})", TRUTH),
    "starts-with": _of_texts("starts_with({0}, {1})", TRUTH),
    "ends-with": _of_texts("ends_with({0}, {1})", TRUTH),
    "string-length": _of_texts("length({0})", WHOLE),
    "normalize-space": _of_texts('join([word for word in split({0}, " ") if word != ""], " ")'),
    "substring-before": _of_texts('(coalesce(split({0}, {1})[0], "") if contains({0}, {1}) else "")'),
    "substring": _substring,
    "string-join": lambda paths, terms: Term(f"join({terms[0].text}, {terms[1].text if len(terms) > 1 else quoted('')})", TEXT),
    "upper-case": _of_texts("upper({0})"),
    "lower-case": _of_texts("lower({0})"),
    "not": _not,
    "true": lambda paths, terms: Term("True", TRUTH),
    "false": lambda paths, terms: Term("False", TRUTH),
    "boolean": lambda paths, terms: truth(terms[0]),
    "exists": lambda paths, terms: truth(terms[0]),
    "number": lambda paths, terms: number(terms[0]),
    "sum": _list("sum({})", _DECIMAL),
    "count": _count,
    "min": _list("min({})", None),
    "max": _list("max({})", None),
    "avg": _list("average({})", None),
    "distinct-values": lambda paths, terms: Term(f"distinct({terms[0].text})", terms[0].type),
    "floor": _numbers("floor({})", WHOLE),
    "ceiling": _numbers("ceiling({})", WHOLE),
    "round": _numbers("floor({} + 0.5)", WHOLE),
    "current-dateTime": lambda paths, terms: Term("call.at", Type(Of.MOMENT)),
    "current-date": lambda paths, terms: Term("date(call.at)", Type(Of.DATE)),
}
