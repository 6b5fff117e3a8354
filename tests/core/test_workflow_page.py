"""The page of the language: every example on it is sound, every expression gives what it says, every function is there."""

import json
import re
from pathlib import Path

from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.text import read_definition, write_definition
from bricola.core.expressions.compiling import compile_expression
from bricola.core.expressions.functions import FUNCTIONS
from bricola.core.expressions.sampling import type_of_plain
from bricola.core.kinds.workflows.definition import ACTIONS, WorkflowDefinition
from bricola.core.kinds.workflows.looking import look
from bricola.core.messages.showing import Left, shown_plain
from bricola.demo.start import catalogue_files

PAGE = (Path(__file__).parents[2] / "docs" / "workflows.md").read_text()


def blocks(word: str) -> list[str]:
    return re.findall(rf"```{word}\n(.*?)```", PAGE, re.DOTALL)


def test_every_example_is_sound() -> None:
    examples = [read_definition(text) for text in blocks("yaml")]
    catalogue = Catalogue([*(read_definition(text, path) for path, text in catalogue_files().items()), *examples])
    workflows = [one for one in examples if isinstance(one, WorkflowDefinition)]
    assert len(workflows) >= 6
    for text, one in zip(blocks("yaml"), examples, strict=True):
        assert read_definition(write_definition(one)) == one, text
        if isinstance(one, WorkflowDefinition):
            assert [problem.sentence() for problem in look(one, catalogue).problems] == []


def test_every_expression_gives_what_the_page_says() -> None:
    sample = json.loads(blocks("json")[0])
    names = {name: type_of_plain(value) for name, value in sample.items()}
    lines = blocks("expressions")[0].strip().splitlines()
    assert len(lines) >= 10
    for line in lines:
        text, _, wanted = line.rpartition("->")
        found = compile_expression(text.strip(), names, "page").value(sample)
        assert shown_plain(None, found, Left(10_000)) == json.loads(wanted), text


def test_every_function_and_every_step_has_its_line() -> None:
    for one in FUNCTIONS.values():
        assert f"| `{one.form}` | {one.words} |" in PAGE
    for action in ACTIONS:
        assert re.search(rf"^\| .*`{action}`", PAGE, re.MULTILINE), action
