"""Reading the text of a SELECT just far enough to know its prompts: sans-I/O, no grammar.

The reader knows what ends what (strings, quoted names, comments) by the rules that SQL engines share (ISO/IEC 9075-2,
5.3), so that `:name` inside a string is text and a `?` inside a name is no parameter.
"""

import re
from typing import NamedTuple

from bricola.core.problems import Problem, ProblemError, shown


class SqlPiece(NamedTuple):
    """Text of the statement, or the name of a prompt."""

    text: str
    is_prompt: bool = False


_TOKEN = re.compile(
    r"""(?P<comment>--[^\n]*|/\*.*?\*/)|(?P<string>'(?:[^']|'')*')|(?P<name>"(?:[^"]|"")*")|(?P<open>['"]|/\*)"""
    r"""|(?P<cast>::)|(?P<prompt>:[A-Za-z_]\w*)|(?P<mark>[?;])|(?P<word>[A-Za-z_]\w*)|(?P<bracket>[()])|(?P<other>.)""", re.DOTALL)
_OUTSIDE = {"order": "order:", "limit": "most_rows:", "offset": "most_rows:", "fetch": "most_rows:", "into": ""}


def read_sql(text: str, place: str) -> tuple[SqlPiece, ...]:
    """The pieces of one SELECT. Raises ProblemError for what is no single SELECT, for a `?`, and for an ORDER BY or LIMIT
    of its own, which the definition states instead."""
    pieces: list[SqlPiece] = []
    problems: list[Problem] = []
    words: list[str] = []
    depth = 0
    text = text.strip()
    for found in _TOKEN.finditer(text):
        kind, token = found.lastgroup, found[0]
        if kind == "comment":
            token = " "  # a comment may hold what the engine reads as more
        elif kind == "open":
            problems.append(Problem("query.sql", "A string, name or comment does not end.", place=place, found=shown(text[found.start():])))
            break
        elif kind == "mark":
            what = "A value is taken by its name." if token == "?" else "One SELECT, without a semicolon."
            problems.append(Problem("query.sql", what, place=place, expected=":name" if token == "?" else "", found=shown(token)))
        elif kind == "bracket":
            depth += 1 if token == "(" else -1
        elif kind == "word":
            word = token.lower()
            words.append(word)
            if depth == 0 and word in _OUTSIDE:
                problems.append(Problem("query.sql", f"The SELECT says {token.upper()} itself.", place=place, found=shown(token),
                                        mend=f"Say it in the definition: '{_OUTSIDE[word]}'." if _OUTSIDE[word] else "Take it out."))
        if kind == "prompt":
            pieces.append(SqlPiece(token[1:], True))
        elif pieces and not pieces[-1].is_prompt:
            pieces[-1] = SqlPiece(pieces[-1].text + token)
        else:
            pieces.append(SqlPiece(token))
    if words[:1] not in (["select"], ["with"]) or any(
        word in ("insert", "update", "delete", "merge", "drop", "alter") for word in words[:1]
    ):
        problems.append(Problem("query.sql", "This is not a SELECT.", place=place, expected="a statement that begins with SELECT or WITH",
                                found=shown(text)))
    if depth:
        problems.append(Problem("query.sql", "The brackets do not match.", place=place))
    if problems:
        raise ProblemError(*dict.fromkeys(problems))
    return tuple(pieces)


def with_plain_names(sql: str) -> str:
    """A statement whose quoted names stand in backticks. Where SQLite knows no column of that name, it would take one in the standard's
    quotes for a text, and a column that went would answer with its own name (documentation, Quirks, section 8)."""
    return "".join(
        "`" + found[0][1:-1].replace('""', '"').replace("`", "``") + "`" if found.lastgroup == "name" else found[0]
        for found in _TOKEN.finditer(sql))


def numbered(sql: str, mark: str) -> str:
    """A statement with each `?` outside of strings and names as `mark` says: `$` for $1, $2, …; `%s` for %s, with
    every other % doubled."""
    count, pieces = 0, []
    for found in _TOKEN.finditer(sql):
        token = found[0]
        if token == "?":
            count += 1
            token = f"${count}" if mark == "$" else mark
        elif mark == "%s" and "%" in token:
            token = token.replace("%", "%%")
        pieces.append(token)
    return "".join(pieces)
