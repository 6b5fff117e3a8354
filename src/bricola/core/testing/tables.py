"""The rows that a case is run for: written in the suite, or lines of a CSV file (RFC 4180) whose first one names the columns."""

import csv
import io
from collections.abc import Mapping

from bricola.core.definitions.suites import Case, SuiteDefinition
from bricola.core.problems import Problem, ProblemError, shown

MOST_ROWS = 10_000


def rows_of(suite: SuiteDefinition, case: Case, place: str) -> list[dict[str, str]]:
    """The rows of a case; one without columns where it has none. Raises ProblemError for a file that is not there or not regular."""
    if not case.rows:
        return [{}]
    if not isinstance(case.rows, str):
        return [dict(one) for one in case.rows]
    text = suite.files.get(case.rows)
    if text is None:
        raise ProblemError(Problem("test.file", "The suite has no such file.", place=f"{place}, rows", found=shown(case.rows),
                                   expected="a file below 'files:'", choices=tuple(suite.files),
                                   mend="Put it beside the suite in the folder that you apply."))
    return read_table(text, case.rows)


def read_table(text: str, name: str) -> list[dict[str, str]]:
    """The lines of a CSV file by column. Raises ProblemError with the line that has another number of values."""
    try:
        lines = list(csv.reader(io.StringIO(text), strict=True))
    except csv.Error as error:
        raise ProblemError(Problem("test.file", f"The file is no CSV: {error}.", place=name)) from None
    if not lines:
        raise ProblemError(Problem("test.file", "The file is empty.", place=name, expected="a first line with the names of columns"))
    head = [one.strip() for one in lines[0]]
    problems = [Problem("test.file", "A column has no name, or the same as another.", place=f"{name}:1", found=", ".join(map(shown, head)))
                ] if len(set(head)) < len(head) or "" in head else []
    rows = []
    for number, line in enumerate(lines[1:], 2):
        if not line:
            continue
        if len(line) != len(head):
            problems.append(Problem("test.file", "The line has another number of values than there are columns.", place=f"{name}:{number}",
                                    expected=str(len(head)), found=str(len(line))))
            continue
        rows.append(dict(zip(head, line, strict=True)))
    if len(rows) > MOST_ROWS:
        problems.append(Problem("test.file", "There are too many lines.", place=name, expected=f"at most {MOST_ROWS}",
                                found=str(len(rows))))
    if problems:
        raise ProblemError(*problems[:20])
    return rows


def row_label(row: Mapping[str, str], number: int) -> str:
    """How a row is told from the others: by its first value."""
    return next(iter(row.values()), "")[:60] or str(number + 1)
