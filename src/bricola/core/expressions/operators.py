"""Signs between terms: arithmetic, comparisons, not."""

import ast
from collections.abc import Callable
from decimal import Decimal
from typing import TYPE_CHECKING, Any

from bricola.core.expressions import arithmetic
from bricola.core.expressions.types import (
    BOOLEAN,
    DECIMAL,
    DURATION,
    EXACT,
    FLOAT,
    NONE,
    NUMBERS,
    ORDERED,
    SIMPLE,
    Digits,
    Of,
    Type,
    join,
    list_of,
)
from bricola.core.nearness import did_you_mean
from bricola.core.problems import Problem, shown
from bricola.core.shapes.primitives import lexical

if TYPE_CHECKING:
    from bricola.core.expressions.checking import Term
    from bricola.core.expressions.reading import Source

_SAFE_DIGITS = 28  # that the process's own context of decimals keeps
_SIGNS: dict[type[ast.operator], str] = {ast.Add: "+", ast.Sub: "-", ast.Mult: "*", ast.Div: "/", ast.FloorDiv: "//", ast.Mod: "%"}
_COMPARING: dict[type[ast.cmpop], str] = {
    ast.Eq: "==", ast.NotEq: "!=", ast.Lt: "<", ast.LtE: "<=", ast.Gt: ">", ast.GtE: ">=", ast.In: "in", ast.NotIn: "not in",
    ast.Is: "is", ast.IsNot: "is not",
}
_CALENDAR = (Of.DATE, Of.MOMENT)


class Operators:
    """A half of the checker; what it uses of the other half is declared here."""

    source: "Source"
    problems: list[Problem]
    loops: bool
    wide: bool
    term: "Callable[[ast.expr], Term | None]"
    needed: "Callable[[ast.expr], Term | None]"
    condition: "Callable[[ast.expr], Term | None]"
    wrong: Callable[..., None]
    mismatch: Callable[..., None]
    constant: Callable[[Any], str]
    helper: Callable[[Callable[..., Any]], str]
    as_class: "Callable[[Term, Type], str]"

    def _unaryop(self, node: ast.UnaryOp) -> "Term | None":
        if isinstance(node.op, ast.Not):
            term = self.condition(node.operand)
            return term._replace(code=f"(not {term.code})", type=BOOLEAN) if term is not None else None
        term = self.needed(node.operand)
        if term is None:
            return None
        if term.type.of not in NUMBERS:
            self.mismatch(node.operand, "a number", term)
            return None
        constant = NONE if term.type.constant is NONE else -term.type.constant if isinstance(node.op, ast.USub) else term.type.constant
        sign = "-" if isinstance(node.op, ast.USub) else "+"
        return term._replace(code=f"({sign}{term.code})", type=Type(term.type.of, digits=term.type.digits, constant=constant))

    def _binop(self, node: ast.BinOp) -> "Term | None":
        left, right = self.needed(node.left), self.needed(node.right)
        if left is None or right is None:
            return None
        sign = _SIGNS[type(node.op)]
        one, other = left.type.of, right.type.of
        if one in NUMBERS and other in NUMBERS:
            return self._numbers(node, sign, left, right)
        if sign == "+" and one is other is Of.TEXT:
            return left._replace(code=f"{self.helper(arithmetic.joined)}({left.code}, {right.code})", type=Type(Of.TEXT))
        if sign == "+" and one is other is Of.LIST:
            return self._lists(node, left, right)
        if sign in "+-" and (one in (*_CALENDAR, Of.DURATION) or other is Of.DURATION):
            term = self._calendar(sign, left, right)
            if term is not None:
                return term
        mend = f"Write text({self.source.part(node.right)[:40]})." if sign == "+" and one is Of.TEXT and other in SIMPLE else ""
        if sign == "+" and other is Of.TEXT and one in SIMPLE:
            mend = f"Write text({self.source.part(node.left)[:40]})."
        if sign in "+-" and one in _CALENDAR and other in NUMBERS:
            mend = f"Write days({self.source.part(node.right)[:40]})."
        self.wrong(node, "type", f"The sign {sign} does not stand between these.", "two numbers, two texts, a date and a duration, …",
                   f"{left.type.words} {sign} {right.type.words}"[:300], mend)
        return None

    def _lists(self, node: ast.BinOp, left: "Term", right: "Term") -> "Term | None":
        kind = join(left.type, right.type)
        if kind is None:
            self.mismatch(node.right, left.type.words, right)
            return None
        item = kind.item
        code = f"{self.helper(arithmetic.chained)}({left.code}, {right.code})"
        return left._replace(code=code, type=list_of(item, left.type.least + right.type.least) if item is not None else kind)

    def _numbers(self, node: ast.BinOp, sign: str, left: "Term", right: "Term") -> "Term | None":
        one, other = left.type, right.type
        if Of.FLOAT in (one.of, other.of):
            left, right = self._as_float(left), self._as_float(right)
            if Of.DECIMAL in (left.type.of, right.type.of):
                self.wrong(node, "type", "A floating-point number is not exact, and a decimal number is.", "two of one kind",
                           f"{one.words} {sign} {other.words}", "Say which one is meant: decimal(…) or float(…).")
                return None
            if sign == "/":
                return left._replace(code=f"{self.helper(arithmetic.divide_floats)}({left.code}, {right.code})", type=FLOAT)
            if sign in ("//", "%"):
                self.wrong(node, "type", f"The sign {sign} stands between exact numbers.", "whole or decimal numbers",
                           f"{one.words} {sign} {other.words}")
                return None
            return left._replace(code=f"({left.code} {sign} {right.code})", type=FLOAT)
        if other.constant is not NONE and not other.constant and sign in ("/", "//", "%"):
            self.wrong(node.right, "zero", "This divides by zero.", "a divisor other than 0")
            return None
        if sign == "/":
            return left._replace(code=f"{self.helper(arithmetic.divide)}({left.code}, {right.code})", type=DECIMAL)
        if sign in ("//", "%"):
            function = arithmetic.floor_divide if sign == "//" else arithmetic.modulo
            of = Of.WHOLE if sign == "//" or one.of is other.of is Of.WHOLE else Of.DECIMAL
            code = f"({left.code} {sign} {right.code})" if other.constant is not NONE and one.of is other.of is Of.WHOLE else ""
            return left._replace(code=code or f"{self.helper(function)}({left.code}, {right.code})",
                                 type=Type(of, digits=other.digits if sign == "%" else one.digits if one.of is Of.WHOLE else None))
        of = Of.WHOLE if one.of is other.of is Of.WHOLE else Of.DECIMAL
        digits = _after(sign, one.digits, other.digits)
        if of is Of.DECIMAL:
            self.widen(digits)
        if of is Of.WHOLE and sign == "*" and (digits is None or digits[0] > arithmetic.MOST_DIGITS):
            return left._replace(code=f"{self.helper(arithmetic.multiply)}({left.code}, {right.code})", type=Type(of))
        return left._replace(code=f"({left.code} {sign} {right.code})", type=Type(of, digits=digits))

    def widen(self, digits: Digits | None) -> None:
        """Note that decimals may get longer than the process's own context keeps."""
        self.wide = self.wide or digits is None or sum(digits) > _SAFE_DIGITS

    def _as_float(self, term: "Term") -> "Term":
        """Exact constants, and whole numbers, where floating-point numbers are."""
        if term.type.constant is not NONE and term.type.of in EXACT:
            return term._replace(code=repr(float(term.type.constant)), type=FLOAT)
        return term._replace(type=FLOAT) if term.type.of is Of.WHOLE else term

    def _calendar(self, sign: str, left: "Term", right: "Term") -> "Term | None":
        one, other = left.type.of, right.type.of
        plus = "1" if sign == "+" else "-1"
        if one in _CALENDAR and other is Of.DURATION:
            return left._replace(code=f"{self.helper(arithmetic.shift)}({left.code}, {right.code}, {plus})", type=Type(one))
        if sign == "+" and one is Of.DURATION and other in _CALENDAR:
            return left._replace(code=f"{self.helper(arithmetic.shift)}({right.code}, {left.code}, 1)", type=Type(other))
        if one is other is Of.DURATION:
            return left._replace(code=f"{self.helper(arithmetic.add_durations)}({left.code}, {right.code}, {plus})", type=DURATION)
        if sign == "-" and one is other and one in _CALENDAR:
            return left._replace(code=f"{self.helper(arithmetic.between)}({left.code}, {right.code})", type=DURATION)
        return None

    # comparisons

    def _compare(self, node: ast.Compare) -> "Term | None":
        terms = [self.term(one) for one in (node.left, *node.comparators)]
        parts = [node.left, *node.comparators]
        codes: list[str] = []
        for index, sign in enumerate(node.ops):
            one, other = terms[index], terms[index + 1]
            if one is None or other is None:
                return None
            code = self._one_comparison(node, _COMPARING[type(sign)], one, other, parts[index], parts[index + 1])
            if code is None:
                return None
            codes.append(code)
        first = terms[0]
        assert first is not None
        return first._replace(code=f"({' and '.join(codes)})", type=BOOLEAN)

    def _one_comparison(self, node: ast.Compare, sign: str, one: "Term", other: "Term", left: ast.expr, right: ast.expr) -> str | None:
        nothing = Of.NOTHING in (one.type.of, other.type.of)
        if sign in ("is", "is not") or (nothing and sign in ("==", "!=")):
            if not nothing:
                self.wrong(node, "compare", "Only None is compared with 'is'.", "== or !=", f"{one.type.words} {sign} {other.type.words}")
                return None
            return f"({one.code} {sign.replace('==', 'is').replace('!=', 'is not')} {other.code})"
        if sign in ("in", "not in"):
            return self._inside(sign, one, other, left, right)
        if sign not in ("==", "!="):
            for part, term in ((left, one), (right, other)):
                if term.type.optional:
                    self.wrong(part, "absent", "This may be absent, and is compared as if it were there.", "a value that is there",
                               f"{self.source.part(part)}, {term.type.words}"[:300],
                               f"Ask first: {self.source.part(part)[:60]} is not None and …")
                    return None
        if not self.comparable(one.type, other.type) or (sign not in ("==", "!=") and one.type.of not in ORDERED):
            self._incomparable(node, sign, one, other, left, right)
            return None
        if not self._codes_fit(one.type, other, right) or not self._codes_fit(other.type, one, left):
            return None
        if one.type.of is Of.DURATION:
            if one.type.optional or other.type.optional:
                return f"({one.code} {sign} {other.code})"
            return f"({self.helper(arithmetic.compare_durations)}({one.code}, {other.code}) {sign} 0)"
        if Of.FLOAT in (one.type.of, other.type.of):
            one, other = self._as_float(one), self._as_float(other)
        return f"({one.code} {sign} {other.code})"

    def _incomparable(self, node: ast.Compare, sign: str, one: "Term", other: "Term", left: ast.expr, right: ast.expr) -> None:
        mend = ""
        for part, term, beside in ((right, other, one), (left, one, other)):
            wanted = {Of.DATE: "date", Of.MOMENT: "moment", Of.TIME: "time"}.get(beside.type.of)
            if wanted and term.type.of is Of.TEXT:
                mend = f"Write {wanted}({self.source.part(part)[:40]})."
            elif beside.type.of in EXACT and term.type.of is Of.TEXT:
                mend = f"Write decimal({self.source.part(part)[:40]}), or take the quotes away." if term.type.constant is NONE else \
                    "Take the quotes away."
            elif beside.type.of is Of.DATE and term.type.of is Of.MOMENT:
                mend = f"Write date({self.source.part(part)[:40]})."
        self.wrong(node, "compare", "These cannot be compared.", "two values of one type",
                   f"{one.type.words} {sign} {other.type.words}"[:300],
                   mend)

    def comparable(self, one: Type, other: Type) -> bool:
        if one.of is other.of:
            return one.of in SIMPLE and one.base == other.base
        if {one.of, other.of} <= EXACT:
            return True
        return {one.of, other.of} <= NUMBERS and (other.constant is not NONE or one.constant is not NONE or Of.WHOLE in (one.of, other.of))

    def _codes_fit(self, listed: Type, other: "Term", node: ast.expr) -> bool:
        """A constant that a list of codes does not have is a name typed wrongly."""
        if not listed.codes or listed.constant is not NONE or other.type.of is not Of.TEXT or not other.type.codes:
            return True
        if set(listed.codes) & set(other.type.codes):
            return True
        found = ", ".join(other.type.codes[:6])
        self.wrong(node, "code", "The value is not in the code list, so they are never equal.", f"one of {', '.join(listed.codes[:12])}",
                   shown(found), did_you_mean(found, list(listed.codes)))
        return False

    def _inside(self, sign: str, one: "Term", other: "Term", left: ast.expr, right: ast.expr) -> str | None:
        if other.type.optional or other.type.of not in (Of.LIST, Of.TEXT):
            self.mismatch(right, "a list, or a text that is there", other)
            return None
        if other.type.of is Of.TEXT:
            if one.type.of is not Of.TEXT or one.type.optional:
                self.mismatch(left, "a text that is there", one)
                return None
            return f"({one.code} {sign} {other.code})"
        item = other.type.item
        if item is None or item.of is Of.NOTHING or not self.comparable(one.type, item):
            self.wrong(left, "compare", "The list holds no such values.", item.words if item is not None else "a list with items",
                       f"{self.source.part(left)}, {one.type.words}"[:300])
            return None
        if isinstance(right, ast.List):
            for part in right.elts:
                term = self.term(part)
                if term is not None and not self._codes_fit(one.type, term, part):
                    return None
        self.loops = True
        return f"({one.code} {sign} {self.helper(arithmetic.visit)}(b, {other.code}, 1))"

    # as text

    def as_text(self, term: "Term") -> str:
        """The text of a simple value, in its lexical form."""
        return term.code if term.type.of in (Of.TEXT, Of.DURATION, Of.PART) else f"{self.helper(lexical)}({term.code})"

    def exact(self, term: "Term") -> str:
        """An exact number as a decimal."""
        return term.code if term.type.of is Of.DECIMAL else f"{self.constant(Decimal)}({term.code})"


def _after(sign: str, one: Digits | None, other: Digits | None) -> Digits | None:
    """How many places a result has at most."""
    if one is None or other is None:
        return None
    if sign == "*":
        return one[0] + other[0], one[1] + other[1]
    return max(one[0], other[0]) + 1, max(one[1], other[1])
