"""YAML texts as nodes, within bounds.

Strategy: libyaml's parser gives events one by one and needs no stack for it; its composer, like every one that calls itself for what is
nested, ends the process on a text of brackets. So the events are composed here, with a stack of our own, and each bound is looked at
before what it bounds is made: depth, number of nodes, digits of a number. Aliases are not taken at all.
"""

from typing import Any

import yaml
from yaml.nodes import MappingNode, Node, ScalarNode, SequenceNode

from bricola.core.characters import outside_xml
from bricola.core.problems import Problem, ProblemError, shown

MOST_DEPTH = 64
MOST_NODES = 200_000
MOST_DIGITS = 40  # of a whole number; a text may be longer

_NEW_DOCUMENT = "A file holds one definition."


def compose(text: str, loader_class: Any, place: str) -> Node | None:
    """The root node of a text with one document; None of an empty one. Raises ProblemError for a bound, yaml.YAMLError for the syntax."""
    return _Composer(loader_class(text), place).run()


class _Composer:
    def __init__(self, loader: Any, place: str) -> None:
        self._loader = loader
        self._place = place
        self._open: list[tuple[Node, list[Node]]] = []  # a collection that has begun, and what is in it so far
        self._root: Node | None = None
        self._nodes = 0
        self._documents = 0

    def run(self) -> Node | None:
        loader = self._loader
        while True:
            event: Any = loader.get_event()
            kind = event.__class__
            if kind is yaml.ScalarEvent:
                self._add(self._scalar(event))
            elif kind is yaml.MappingStartEvent or kind is yaml.SequenceStartEvent:
                self._begin(event, MappingNode if kind is yaml.MappingStartEvent else SequenceNode)
            elif kind is yaml.MappingEndEvent or kind is yaml.SequenceEndEvent:
                self._end(event)
            elif kind is yaml.AliasEvent:
                raise self._refused(event, "yaml.alias", "YAML aliases are not used here.", found=shown(f"*{event.anchor}"),
                                    mend="Write the value out.")
            elif kind is yaml.DocumentStartEvent:
                self._documents += 1
                if self._documents > 1:
                    raise self._refused(event, "yaml.syntax", _NEW_DOCUMENT, mend="Put the second one into a file of its own.")
            elif kind is yaml.StreamEndEvent:
                return self._root

    def _scalar(self, event: Any) -> ScalarNode:
        self._untagged(event)
        value = event.value
        tag = self._loader.resolve(ScalarNode, value, event.implicit)
        if len(value) > MOST_DIGITS and tag == "tag:yaml.org,2002:int":
            raise self._refused(event, "yaml.number", "The number has too many digits.", expected=f"at most {MOST_DIGITS} digits",
                                found=f"{len(value)} digits", mend="Write it in quotes if it is a text.")
        if outside := outside_xml(value):
            raise self._refused(event, "value.character", "The text has a character that XML cannot hold.", found=outside,
                                mend="Leave the character out.")
        return ScalarNode(tag, value, event.start_mark, event.end_mark, style=event.style)

    def _untagged(self, event: Any) -> None:
        if event.tag not in (None, "!"):
            raise self._refused(event, "yaml.tag", "YAML tags are not used here.", found=shown(event.tag), mend="Write the value alone.")

    def _begin(self, event: Any, kind: type) -> None:
        if len(self._open) >= MOST_DEPTH:
            raise self._refused(event, "yaml.depth", "The text is nested too deep.", expected=f"at most {MOST_DEPTH} levels")
        self._untagged(event)
        tag = self._loader.resolve(kind, None, event.implicit)
        node = kind(tag, [], event.start_mark, None, flow_style=event.flow_style)
        self._add(node)
        self._open.append((node, []))

    def _end(self, event: Any) -> None:
        node, items = self._open.pop()
        node.end_mark = event.end_mark
        node.value = list(zip(items[::2], items[1::2], strict=True)) if isinstance(node, MappingNode) else items

    def _add(self, node: Node) -> None:
        self._nodes += 1
        if self._nodes > MOST_NODES:
            raise ProblemError(Problem("yaml.nodes", "The text has too many parts.", place=f"{self._place}:{node.start_mark.line + 1}",
                                       expected=f"at most {MOST_NODES} values and keys", mend="Divide it."))
        if self._open:
            self._open[-1][1].append(node)
        else:
            self._root = node

    def _refused(self, event: Any, code: str, words: str, expected: str = "", found: str = "", mend: str = "") -> ProblemError:
        line = event.start_mark.line + 1 if event.start_mark else 1
        return ProblemError(Problem(code, words, place=f"{self._place}:{line}", expected=expected, found=found, mend=mend))
