"""Expressions and maps, ready to run.

    Expression(text)  one value of a mapping of names
    Map(tree)         the values of a record: a mapping of its slots to expressions, with mappings for records inside

A leaf of a map that begins with `=` is a text that is put there as it stands. Where a slot is a list, `{for_each: LIST, item: NAME,
only_if: CONDITION, at_most: N, give: MAP}` makes an item of each item.

Nothing here reads a clock or waits: whoever evaluates may do so with a small budget first, and again with more in a thread of its own.
"""

import ast
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from decimal import Context, DecimalException, Inexact, getcontext, setcontext
from typing import Any

from bricola.core.expressions import arithmetic
from bricola.core.expressions.arithmetic import EXACT, Budget, FailedError, SpentError
from bricola.core.expressions.checking import Checker, Names, Term, facts
from bricola.core.expressions.fitting import fitted
from bricola.core.expressions.functions import FUNCTIONS
from bricola.core.expressions.lists import _COUNT  # noqa: F401 — its functions are in the table from here on
from bricola.core.expressions.reading import Source, read_expression
from bricola.core.expressions.types import NONE, NOTHING, Of, Type, of_value, record_of, type_of
from bricola.core.expressions.xpaths import MOST_PATH as _MOST_PATH  # noqa: F401
from bricola.core.problems import Kind, Problem, ProblemError, shown
from bricola.core.shapes.model import Element, Record, Values
from bricola.core.shapes.simple import SimpleType

Tree = Any  # of a map: text, or a mapping of names to trees
AT_ONCE = 50_000  # visits, weighed: a few milliseconds
AT_MOST = 20_000_000  # beside the event loop
Run = Callable[[Mapping[str, Any], Budget | None], Any]
_ITEM_KEYS = ("for_each", "item", "index", "only_if", "at_most", "give")


@dataclass(frozen=True)
class Compiled:
    """An expression or map. `run(names, budget)` gives its value and raises ProblemError for values that it cannot be worked out of,
    SpentError when the budget is used up; `loops` says whether it needs a budget. `when_true` and `when_false` are the parts that are
    known to be there when a condition turned out so."""

    type: Type
    run: Run = field(compare=False, repr=False)
    loops: bool = False
    used: frozenset[str] = frozenset()
    when_true: frozenset[str] = frozenset()
    when_false: frozenset[str] = frozenset()
    secret: frozenset[str] = frozenset()  # fields into which something sensitive goes; '' for all of it

    def value(self, names: Mapping[str, Any], most: int = AT_MOST) -> Any:
        """Worked out here and now, whatever it takes within bounds. Raises ProblemError."""
        try:
            return self.run(names, Budget(most) if self.loops else None)
        except SpentError:
            raise spent() from None


class UnjudgedError(Exception):
    """The expression speaks of something that is wrong itself, so nothing can be said of it."""


def _refused(checker: Checker) -> Exception:
    return ProblemError(*dict.fromkeys(checker.problems)) if checker.problems else UnjudgedError()


def spent() -> ProblemError:
    return ProblemError(Problem("expression.spent", "An expression goes through more items than it may.", Kind.TOO_LARGE,
                                expected=f"at most {AT_MOST} visits", mend="Bound the lists, or divide the work over several calls."))


def compile_expression(text: str, names: Names, place: str, known: frozenset[str] = frozenset(), target: Element | None = None) -> Compiled:
    """An expression for its value, or for the place of an element. Raises ProblemError with everything that is wrong in it."""
    source = Source(text, place)
    tree = read_expression(source)
    checker = Checker(source, names, known, FUNCTIONS)
    term = checker.term(tree)
    code = term.code if term is not None else None
    if term is not None and target is not None:
        code = fitted(checker, tree, term, target)
    if checker.problems or term is None or code is None:
        raise _refused(checker)
    return Compiled(type_of(target) if target is not None else term.type, _function(code, checker.constants, checker.wide, place),
                    checker.loops, frozenset(checker.used), facts(tree, True), facts(tree, False), _secret(checker))


def compile_condition(text: str, names: Names, place: str, known: frozenset[str] = frozenset()) -> Compiled:
    """An expression that is true or false."""
    source = Source(text, place)
    tree = read_expression(source)
    checker = Checker(source, names, known, FUNCTIONS)
    term = checker.condition(tree)
    if checker.problems or term is None:
        raise _refused(checker)
    return Compiled(term.type, _function(term.code, checker.constants, checker.wide, place), checker.loops, frozenset(checker.used),
                    facts(tree, True), facts(tree, False), _secret(checker))


def compile_map(tree: Tree, record: Record, names: Names, place: str, known: frozenset[str] = frozenset()) -> Compiled:
    """The values of a record. Raises ProblemError with everything that is wrong, and every required slot that nothing fills."""
    maker = _Map(place)
    code = maker.record(tree, record, names, known, place, 0)
    if maker.problems or maker.missing:
        raise ProblemError(*dict.fromkeys((*maker.problems, *(
            Problem("map.required", f"{path} is required, and nothing is put there.", place=place,
                    expected=f"a line '{path}: …' with {words}") for path, words in maker.missing))))
    if maker.unjudged:
        raise UnjudgedError
    return Compiled(Type(Of.RECORD, record=record), _function(code, maker.constants, maker.wide, place), maker.loops,
                    frozenset(maker.used), secret=frozenset(maker.secret))


def compile_record(tree: Tree, names: Names, place: str, known: frozenset[str] = frozenset()) -> Compiled:
    """A value that no contract asks for: one expression, or a record of expressions, whose type is what they give."""
    if not isinstance(tree, Mapping):
        return compile_expression(_leaf(tree), names, place, known)
    maker = _Map(place)
    code, kind = maker.free(tree, names, known, place)
    if maker.problems:
        raise ProblemError(*dict.fromkeys(maker.problems))
    if maker.unjudged:
        raise UnjudgedError
    return Compiled(kind, _function(code, maker.constants, maker.wide, place), maker.loops, frozenset(maker.used),
                    secret=frozenset(maker.secret))


class _Map:
    """Puts the terms of many expressions together to one function."""

    def __init__(self, place: str) -> None:
        self.problems: list[Problem] = []
        self.missing: list[tuple[str, str]] = []
        self.constants: dict[str, Any] = {"_without_absent": arithmetic.without_absent}
        self.loops = self.wide = False
        self.used: set[str] = set()
        self.secret: set[str] = set()
        self.unjudged = False
        self._place = place

    def record(self, tree: Tree, record: Record, names: Names, known: frozenset[str], place: str, depth: int) -> str:
        if not isinstance(tree, Mapping):
            return self._value(str(tree), Element(record.name, record), names, known, place)
        slots = {one.name: one for one in record.slots}
        parts = []
        for name, inside in tree.items():
            slot = slots.get(name)
            if slot is None:
                self.problems.append(Problem("map.target", "There is no such part to fill.", place=f"{place}, {name}", found=shown(name),
                                             expected="nothing", choices=tuple(slots)))
                continue
            parts.append(f"{name!r}: {self._slot(inside, slot, names, known, f'{place}, {name}', depth)}")
        for name, slot in slots.items():
            if name in tree:
                continue
            if slot.default is not None:
                parts.append(f"{name!r}: {self._constant(slot.default)}")
            elif slot.least and slot.fixed is None:
                steps = [*place.removeprefix(self._place).strip(", ").split(", "), name]
                self.missing.append((".".join(one for one in steps if one), type_of(slot).words))
        return f"_without_absent({{{', '.join(parts)}}})"

    def free(self, tree: Mapping[str, Tree], names: Names, known: frozenset[str], place: str) -> tuple[str, Type]:
        """A record of whatever its parts give."""
        parts, fields = [], []
        for name, inside in tree.items():
            where = f"{place}, {name}"
            if isinstance(inside, Mapping):
                code, kind = self.free(inside, names, known, where)
            elif isinstance(inside, str) and inside.startswith("="):
                code, kind = repr(inside[1:]), of_value(inside[1:])
            else:
                checker = Checker(Source(_leaf(inside), where), names, known, FUNCTIONS)
                term = self._term(checker, checker.term)
                code, kind = (term.code, replace(term.type, sensitive=checker.secret)) if term is not None else ("None", NOTHING)
            parts.append(f"{name!r}: {code}")
            fields.append((str(name), kind.kept))
        return f"_without_absent({{{', '.join(parts)}}})", record_of(fields)

    def _slot(self, tree: Tree, slot: Element, names: Names, known: frozenset[str], place: str, depth: int) -> str:
        if not isinstance(tree, Mapping):
            return self._value(_leaf(tree), slot, names, known, place)
        if slot.is_list and "for_each" in tree:
            return self._items(tree, slot, names, known, place, depth)
        if isinstance(slot.type, Record) and not slot.is_list:
            return self.record(tree, slot.type, names, known, place, depth + 1)
        self.problems.append(Problem("map.kind", f"{slot.name} is no record that could be filled by its parts.", place=place,
                                     expected=type_of(slot).words, found="a mapping",
                                     mend="Write {for_each: …, item: …, give: …}." if slot.is_list else "Write one expression."))
        return "None"

    def _items(self, tree: Mapping[str, Tree], slot: Element, names: Names, known: frozenset[str], place: str, depth: int) -> str:
        unknown = [one for one in tree if one not in _ITEM_KEYS]
        name, give = str(tree.get("item", "")), tree.get("give")
        if unknown or not name.isidentifier() or give is None or name in names:
            self.problems.append(Problem("map.items", "Items are made of items so.", place=place, found=", ".join(map(str, tree)),
                                         expected="for_each: LIST, item: a free name, give: what an item becomes, only_if, at_most"))
            return "None"
        checker = Checker(Source(str(tree["for_each"]), f"{place}, for_each"), names, known, FUNCTIONS)
        items = self._term(checker, lambda node: checker.list_term(node))
        if items is None:
            return "None"
        inner = {**names, name: items.type.item or NOTHING}
        more = known
        test = ""
        if "only_if" in tree:
            told = Checker(Source(str(tree["only_if"]), f"{place}, only_if"), inner, known, FUNCTIONS)
            held: list[frozenset[str]] = []

            def condition(node: ast.expr) -> Term | None:
                held.append(facts(node, True))
                return told.condition(node)

            term = self._term(told, condition)
            more = known | (held[0] if held else frozenset())
            test = f" if {term.code}" if term is not None else ""
        one = Element(slot.name, slot.type)
        body = self.record(give, slot.type, inner, more, f"{place}, give", depth + 1) if isinstance(give, Mapping) and isinstance(
            slot.type, Record) else self._value(_leaf(give), one, inner, more, f"{place}, give")
        most = str(tree.get("at_most", ""))
        if most and not most.isdigit():
            self.problems.append(Problem("map.items", "At most so many items, written out.", place=f"{place}, at_most", found=shown(most),
                                         expected="a whole number"))
        # The body speaks of `name` as of any other name, so each item gets a mapping of names of its own.
        loop = f"[{body} for s in ({{**s, {name!r}: v_one}} for v_one in {checker.visited(items)}){test}]"
        self.loops = True
        return f"{loop}[:{most}]" if most.isdigit() else loop

    def _value(self, text: str, slot: Element, names: Names, known: frozenset[str], place: str) -> str:
        if text.startswith("=") and isinstance(slot.type, SimpleType):
            value, problem = slot.type.read(text[1:])
            if problem is not None:
                self.problems.append(problem.at(place))
                return "None"
            return f"[{self._constant(value)}]" if slot.is_list else self._constant(value)
        checker = Checker(Source(text, place), names, known, FUNCTIONS)

        def fit(node: ast.expr) -> Term | None:
            term = checker.term(node)
            code = fitted(checker, node, term, slot) if term is not None else None
            return Term(code, term.type) if term is not None and code is not None else None

        term = self._term(checker, fit)
        return term.code if term is not None else "None"

    def _term(self, checker: Checker, make: Callable[[ast.expr], Term | None]) -> Term | None:
        """The term of a text, with its constants under names that are free here."""
        try:
            tree = read_expression(checker.source)
        except ProblemError as error:
            self.problems += error.problems
            return None
        checker.constants = self.constants
        term = make(tree)
        self.problems += checker.problems
        self.unjudged = self.unjudged or (term is None and not checker.problems)
        self.loops, self.wide = self.loops or checker.loops, self.wide or checker.wide
        self.used |= checker.used
        if checker.secret:
            self.secret.add(checker.source.place.removeprefix(self._place).strip(", ").partition(",")[0])
        return term

    def _constant(self, value: Any) -> str:
        if value is None or isinstance(value, str | bool):
            return repr(value)
        name = f"c{len(self.constants)}"
        self.constants[name] = value
        return name


def _secret(checker: Checker) -> frozenset[str]:
    return frozenset(("",)) if checker.secret else frozenset()


def _leaf(tree: Tree) -> str:
    """A number, true and false may stand in YAML as they are."""
    return {True: "True", False: "False", None: "None"}[tree] if tree is None or isinstance(tree, bool) else str(tree)


def _function(code: str, constants: Mapping[str, Any], wide: bool, place: str) -> Run:
    """A function of the text of an expression; its namespace holds what the text names and nothing else."""
    namespace: dict[str, Any] = {"__builtins__": {}, **constants}
    exec(compile(f"def run(s, b):\n return {code}", "<expression>", "exec"), namespace)
    inner: Run = namespace["run"]

    def run(names: Mapping[str, Any], budget: Budget | None) -> Any:
        try:
            return inner(names, budget)
        except SpentError:
            raise
        except Exception as error:
            raise _failed(error, place) from None

    def run_wide(names: Mapping[str, Any], budget: Budget | None) -> Any:
        before: Context = getcontext()
        setcontext(EXACT)
        try:
            return inner(names, budget)
        except SpentError:
            raise
        except Exception as error:
            raise _failed(error, place) from None
        finally:
            setcontext(before)

    return run_wide if wide else run


def _failed(error: Exception, place: str) -> ProblemError:
    """What values can do to an expression that is right: told with its place. Anything else is a mistake of ours, and stays one."""
    if isinstance(error, FailedError):
        return ProblemError(Problem("expression.failed", error.message, Kind.CONFLICT, place=place, expected=error.expected,
                                    found=error.found))
    if isinstance(error, Inexact):
        return ProblemError(Problem("expression.failed", "A number gets more digits than are kept.", Kind.CONFLICT, place=place,
                                    expected=f"at most {arithmetic.MOST_DIGITS} digits", mend="Round it on the way."))
    if isinstance(error, DecimalException):
        return ProblemError(Problem("expression.failed", "A number cannot be worked out.", Kind.CONFLICT, place=place))
    if isinstance(error, TypeError) and "offset-naive" in str(error):
        return ProblemError(Problem("expression.failed", "Moments with and without a time zone have no order.", Kind.CONFLICT, place=place,
                                    expected="both with a zone, or both without"))
    if isinstance(error, KeyError | TypeError):  # a backend gave less than its definition promises
        return ProblemError(Problem("expression.failed", "A value that must be there is absent.", Kind.BACKEND, place=place,
                                    inner=f"{type(error).__name__}: {error}"))
    raise error


__all__ = ["AT_MOST", "AT_ONCE", "NONE", "Compiled", "Tree", "UnjudgedError", "Values", "compile_condition", "compile_expression",
           "compile_map", "spent"]
