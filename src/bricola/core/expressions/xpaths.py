"""`xpath()`: values out of raw XML (XPath 1.0, W3C Recommendation).

The engine counts nothing and cannot be stopped, so what a path may cost is worked out before it runs. A step that looks at much of the
document (`//`, an axis other than child, attribute and self), and a test that is more than a number or an attribute beside a text, may look
at every node for every node before it: with `n` nodes and `k` of them a path costs up to n to the power of k. Above `MOST_COST` it is
refused, as it would be for any document of that size.
"""

import ast
import re
from functools import lru_cache
from typing import Any

from lxml import etree

from bricola.core.expressions.arithmetic import Budget, FailedError, SpentError
from bricola.core.expressions.checking import Checker, Term
from bricola.core.expressions.functions import TEXT_ONLY, arguments, constant_of, function
from bricola.core.expressions.types import TEXT, Of, list_of
from bricola.core.problems import ProblemError, shown
from bricola.core.xml import MOST_BYTES, parse_xml

MOST_PATH = 500  # characters
MOST_COST = 4_000_000  # nodes that may be looked at, in the worst case
_A_VISIT = 20  # nodes that cost as much as a visit of a list's item
_FUNCTIONS = frozenset({
    "last", "position", "count", "local-name", "namespace-uri", "name", "string", "concat", "starts-with", "contains", "substring-before",
    "substring-after", "substring", "string-length", "normalize-space", "translate", "boolean", "not", "true", "false", "number", "sum",
    "floor", "ceiling", "round", "text", "node", "comment",
})
_MARKUP = frozenset({Of.TEXT, Of.XML})
_STRING = re.compile(r"'[^']*'|\"[^\"]*\"")
_CALL = re.compile(r"([A-Za-z_][\w.-]*(?::[A-Za-z_][\w.-]*)?)\s*\(")
_FAR = re.compile(r"//|\.\.|\b(?:descendant|descendant-or-self|ancestor|ancestor-or-self|following|following-sibling|preceding"
                  r"|preceding-sibling|parent|namespace)\s*::")
_TEST = re.compile(r"\[([^\[\]]*)\]")
_CHEAP = re.compile(r"\s*(?:\d+|last\(\)|position\(\)\s*[<>=!]+\s*\d+|@[\w.:-]+(?:\s*!?=\s*(?:''|\d+))?)\s*")
_PREFIX = re.compile(r"([A-Za-z_][\w.-]*)=(\S+)")


def weight(path: str) -> int:
    """How many of its steps may look at everything."""
    bare = _STRING.sub("''", path)
    found = len(_FAR.findall(bare))
    while True:  # tests inside of tests, from the inside out
        tests = _TEST.findall(bare)
        if not tests:
            return found
        found += sum(1 for one in tests if not _CHEAP.fullmatch(one))
        bare = _TEST.sub("", bare)


@lru_cache(256)
def compile_path(path: str, namespaces: tuple[tuple[str, str], ...]) -> tuple[Any, int]:
    """Raises ValueError with what is wrong with it."""
    if len(path) > MOST_PATH:
        raise ValueError(f"it has {len(path)} characters, and may have {MOST_PATH}")
    bare = _STRING.sub("''", path)
    unknown = [one for one in _CALL.findall(bare) if one not in _FUNCTIONS]
    if unknown:
        raise ValueError(f"{unknown[0]}() is no function of XPath 1.0 that is offered here")
    if "$" in bare:
        raise ValueError("there are no variables here; put their values together in the expression around it")
    prefixes = set(re.findall(r"([A-Za-z_][\w.-]*):(?!:)[A-Za-z_*]", bare))
    missing = sorted(prefixes - {name for name, _ in namespaces})
    if missing:
        raise ValueError(f"the prefix {missing[0]} has no namespace; write \"{missing[0]}=urn:…\" as a further argument")
    try:
        return etree.XPath(path, namespaces=dict(namespaces), regexp=False, smart_strings=False), weight(path)
    except etree.XPathSyntaxError as error:
        raise ValueError(str(error).lower()) from None


def find(budget: Budget, markup: str, compiled: Any, heavy: int) -> list[str]:
    """The texts of what the path leads to; of a number or a truth the one text. Raises FailedError, and SpentError for a budget that is too
    small."""
    if len(markup) > MOST_BYTES // 2:
        raise FailedError("The XML is too large for a path.", f"at most {MOST_BYTES // 2} characters", f"{len(markup)} characters")
    budget.left -= len(markup) // 200 + 1
    if budget.left < 0:
        raise SpentError
    try:
        root = parse_xml(markup.encode())
    except ProblemError as error:
        raise FailedError(error.problem.message, "XML", error.problem.found) from None
    nodes = sum(1 + len(one.attrib) for one in root.iter())
    cost = nodes ** max(1, heavy)
    if cost > MOST_COST:
        most = int(MOST_COST ** (1 / max(1, heavy)))
        raise FailedError("The path may look at too much of such a document.",
                          f"a path with fewer '//' and tests, or a document of at most {most} nodes", f"{nodes} nodes")
    budget.left -= cost // _A_VISIT
    if budget.left < 0:
        raise SpentError
    try:
        found = compiled(root)
    except etree.XPathError as error:
        raise FailedError(f"The path does not work on this document: {error}.") from None
    return [_text(one) for one in (found if isinstance(found, list) else [found])]


def _text(found: Any) -> str:
    if isinstance(found, str):
        return found
    if isinstance(found, bool):
        return "true" if found else "false"
    if isinstance(found, float):
        return str(int(found)) if found == found and abs(found) < 1e15 and found == int(found) else repr(found)
    return "".join(found.itertext())


@function("xpath(xml, path, \"p=urn:…\")", "the texts that a path (XPath 1.0) leads to in XML; namespaces by further texts", 2, 12)
def _xpath(checker: Checker, node: ast.Call) -> Term | None:
    terms = arguments(checker, node, [_MARKUP, *[TEXT_ONLY] * (len(node.args) - 1)])
    if terms is None:
        return None
    texts = [constant_of(checker, part, term) for part, term in zip(node.args[1:], terms[1:], strict=True)]
    if any(one is None for one in texts):
        return None
    namespaces = []
    for part, text in zip(node.args[2:], texts[1:], strict=True):
        found = _PREFIX.fullmatch(text)
        if found is None:
            checker.wrong(part, "xpath", "This names no namespace.", "a prefix and its namespace, like \"o=urn:orders\"", shown(text))
            return None
        namespaces.append((found[1], found[2]))
    try:
        compiled, heavy = compile_path(texts[0], tuple(namespaces))
    except ValueError as error:
        checker.wrong(node.args[1], "xpath", f"The path cannot be used: {error}.", "a path of XPath 1.0", shown(texts[0]))
        return None
    checker.loops = True
    return Term(f"{checker.helper(find)}(b, {terms[0].code}, {checker.constant(compiled)}, {heavy})", list_of(TEXT))
