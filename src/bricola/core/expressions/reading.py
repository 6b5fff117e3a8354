"""From the text of an expression to a tree, within bounds and with nothing in it but what is on the list.

Whatever Python could be talked into is not on the list: no attribute of an object is ever fetched (a dot means a field of a record), a
call is a call of a function of the tables, and there is no power, no assignment, no formatting with a width.
"""

import ast
import io
import tokenize
import warnings
from collections.abc import Iterator

from bricola.core.problems import Problem, ProblemError, shown

MOST_TEXT = 4_000  # characters
MOST_NODES = 1_500
MOST_DEPTH = 60
_MOST_OPEN = 60  # brackets inside brackets, before Python's own parser sees them

_ALLOWED: tuple[type[ast.AST], ...] = (
    ast.BoolOp, ast.And, ast.Or, ast.UnaryOp, ast.Not, ast.USub, ast.UAdd, ast.BinOp, ast.Add, ast.Sub, ast.Mult, ast.Div, ast.FloorDiv,
    ast.Mod, ast.Compare, ast.Eq, ast.NotEq, ast.Lt, ast.LtE, ast.Gt, ast.GtE, ast.In, ast.NotIn, ast.Is, ast.IsNot, ast.IfExp, ast.Call,
    ast.Attribute, ast.Name, ast.Load, ast.Store, ast.Subscript, ast.Slice, ast.Constant, ast.List, ast.Tuple, ast.Dict, ast.ListComp,
    ast.GeneratorExp, ast.comprehension, ast.Lambda, ast.arguments, ast.arg, ast.JoinedStr, ast.FormattedValue, ast.keyword,
)
_WORDS = {
    "Pow": "The sign ** is not used here.", "NamedExpr": "An expression gives a value and keeps none.",
    "Starred": "A star is not used here.",
    "Await": "An expression waits for nothing.", "Yield": "An expression gives one value.", "Set": "Write a list: [...].",
    "DictComp": "Write index_by(list, lambda one: key).", "SetComp": "Write distinct([...]).", "MatMult": "The sign @ is not used here.",
    "BitOr": "Write 'or' between conditions.", "BitAnd": "Write 'and' between conditions.", "Invert": "Write 'not'.",
}
# A backslash that means nothing is left as it stands, which patterns need; Python's remark on it is for authors of programs.
warnings.filterwarnings("ignore", category=SyntaxWarning, module="<expression>")
warnings.filterwarnings("ignore", category=DeprecationWarning, module="<expression>")


class Source:
    """The text of one expression and where it stands, for problems with positions."""

    def __init__(self, text: str, place: str) -> None:
        self.text, self.place = text, place
        self._lines = f"({text}\n)".split("\n")

    def position(self, node: ast.AST) -> int:
        """The character at which a part begins, counted from 1."""
        return self.offset(node.lineno, node.col_offset) + 1  # type: ignore[attr-defined]

    def part(self, node: ast.AST) -> str:
        """The text of a part."""
        start = self.offset(node.lineno, node.col_offset)  # type: ignore[attr-defined]
        return self.text[start:self.offset(node.end_lineno, node.end_col_offset)]  # type: ignore[attr-defined]

    def start_of(self, line: int) -> int:
        """Where a line begins, with the bracket that is put around the text."""
        return sum(len(one) + 1 for one in self._lines[:line - 1])

    def offset(self, line: int, column: int) -> int:
        """The index in the text of a place in bytes."""
        return self.start_of(line) + len(self._lines[line - 1].encode()[:column].decode(errors="ignore")) - 1

    def problem(self, node: ast.AST, code: str, message: str, expected: str = "", found: str = "", mend: str = "") -> Problem:
        return self.at(self.position(node), code, message, expected, found or shown(self.part(node)), mend)

    def at(self, position: int, code: str, message: str, expected: str = "", found: str = "", mend: str = "") -> Problem:
        return Problem(f"expression.{code}", message, place=f"{self.place}, character {position}", expected=expected, found=found,
                       mend=mend)


def read_expression(source: Source) -> ast.expr:
    """The tree. Raises ProblemError with the first thing that cannot be read, or with everything that is not on the list."""
    text = source.text
    if not text.strip():
        raise ProblemError(Problem("expression.empty", "There is no expression.", place=source.place, expected="a name, a value, a sum, …"))
    if len(text) > MOST_TEXT:
        raise ProblemError(Problem("expression.size", "The expression is too long.", place=source.place, found=str(len(text)),
                                   expected=f"at most {MOST_TEXT} characters", mend="Divide it with a step 'set:'."))
    _check_tokens(source)
    try:
        tree = ast.parse(f"({text}\n)", "<expression>", "eval").body
    except SyntaxError as error:
        raise ProblemError(_unreadable(source, error)) from None
    except (ValueError, RecursionError, MemoryError):
        raise ProblemError(Problem("expression.syntax", "This cannot be read as an expression.", place=source.place)) from None
    problems = list(_refused(source, tree))
    if problems:
        raise ProblemError(*problems[:20])
    return tree


def _check_tokens(source: Source) -> None:
    """Brackets that are balanced and not too deep, and no remarks: what follows one would be lost without a word."""
    depth, signs, last_line = 0, 0, source.text.count("\n") + 2
    try:
        for token in tokenize.generate_tokens(io.StringIO(f"({source.text}\n)").readline):
            position = source.start_of(token.start[0]) + token.start[1]  # columns of tokens are characters, those of a tree are bytes
            if token.type == tokenize.COMMENT:
                raise ProblemError(source.at(position, "syntax", "There are no remarks inside an expression.", found=shown(token.string),
                                             mend="Say it in 'description:'."))
            signs = signs + 1 if token.string in ("-", "+", "not", "~", "lambda") else 0
            if token.type == tokenize.OP:
                depth += (token.string in "([{") - (token.string in ")]}")
                if depth == 0 and token.start[0] < last_line:
                    raise ProblemError(source.at(position, "syntax", "A bracket is closed that was not opened.", found=shown(token.string)))
            if depth > _MOST_OPEN or signs > _MOST_OPEN:
                raise ProblemError(source.at(position, "depth", "The expression is nested too deep.",
                                             expected=f"at most {_MOST_OPEN} levels"))
    except (tokenize.TokenError, SyntaxError):
        pass  # Python's parser says what it is


def _unreadable(source: Source, error: SyntaxError) -> Problem:
    position = source.start_of(error.lineno or 1) + (error.offset or 1) - 1 if error.lineno else 1
    position = min(max(position, 1), len(source.text) + 1)
    mend = "Compare with '==', not with '='." if "==" in (error.msg or "") or "=" in source.text[position - 1:position] else ""
    return source.at(position, "syntax", "This cannot be read as an expression.", found=shown(source.text[position - 1:]) or "its end",
                     mend=mend or "Check the signs, quotes and brackets there.")


def _refused(source: Source, tree: ast.expr) -> Iterator[Problem]:
    """Walks without recursion, since how deep the tree is, is what is asked."""
    waiting: list[tuple[ast.AST, int, ast.AST]] = [(tree, 1, tree)]
    nodes = 0
    while waiting:
        node, depth, placed = waiting.pop()
        placed = node if hasattr(node, "lineno") else placed
        nodes += 1
        if nodes > MOST_NODES or depth > MOST_DEPTH:
            yield source.problem(placed, "depth" if depth > MOST_DEPTH else "size", "The expression is too large.",
                                 expected=f"at most {MOST_NODES} parts, {MOST_DEPTH} deep", mend="Divide it with a step 'set:'.")
            return
        word = type(node).__name__
        if not isinstance(node, _ALLOWED):
            yield source.problem(placed, "not-allowed", _WORDS.get(word, "This is not part of the language of expressions."))
            continue
        yield from _refused_parts(source, node)
        waiting += [(one, depth + 1, placed) for one in ast.iter_child_nodes(node)]


def _refused_parts(source: Source, node: ast.AST) -> Iterator[Problem]:
    if isinstance(node, ast.Constant) and not isinstance(node.value, str | int | float | bool | None.__class__):
        yield source.problem(node, "not-allowed", "There are no such values here.", expected="text, numbers, True, False, None")
    elif isinstance(node, ast.FormattedValue) and (node.format_spec is not None or node.conversion != -1):
        yield source.problem(node, "not-allowed", "A value is put into a text as it is.", mend="Use round(), pad_left() and their kin.")
    elif isinstance(node, ast.Call) and not isinstance(node.func, ast.Name):
        yield source.problem(node.func, "not-allowed", "Only functions of the language can be called.",
                             mend="Write upper(name), not name.upper().")
    elif isinstance(node, ast.comprehension) and (node.is_async or not isinstance(node.target, ast.Name)):
        yield source.problem(node.target, "not-allowed", "A loop goes over one name.", expected="for one in list")
    elif isinstance(node, ast.Lambda) and not _takes_one(node.args):
        yield source.problem(node, "not-allowed", "A lambda takes one name here.", expected="lambda one: …")
    elif isinstance(node, ast.Slice) and node.step is not None:
        yield source.problem(node.step, "not-allowed", "A part has a beginning and an end, and no step.", expected="text[2:5]")


def _takes_one(taken: ast.arguments) -> bool:
    return len(taken.args) == 1 and not (taken.posonlyargs or taken.kwonlyargs or taken.vararg or taken.kwarg or taken.defaults)


