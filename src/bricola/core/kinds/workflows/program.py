"""A workflow as it runs: its steps as values, checked and compiled as far as that goes without a backend.

`path` is where a step stands, with dots (`booking.taken`), and is its name in findings, traces and what is kept of a job.
"""

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from bricola.core.expressions.compiling import Compiled
from bricola.core.kinds.kind import ResolvedOperation
from bricola.core.kinds.workflows.definition import WorkflowDefinition
from bricola.core.shapes.model import FaultShape, Record


@dataclass(frozen=True, kw_only=True)
class Node:
    """What every step has."""

    name: str
    path: str
    action: str
    only_if: Compiled | None = None
    seconds: float | None = None


@dataclass(frozen=True)
class Block:
    """Steps in order."""

    nodes: tuple[Node, ...] = ()


@dataclass(frozen=True)
class Undoing:
    """What undoes a step: an operation with its input."""

    text: str
    inner: ResolvedOperation
    into: Compiled


@dataclass(frozen=True, kw_only=True)
class CallNode(Node):
    text: str
    inner: ResolvedOperation
    into: Compiled
    tries: int = 1
    pause: float = 0.0
    undo: Undoing | None = None
    repeatable: bool = False


@dataclass(frozen=True, kw_only=True)
class HttpNode(Node):
    """A call of an address; `gives` is what its JSON answer is read as."""

    backend: str
    method: str
    where: Compiled | None
    headers: Mapping[str, Compiled]
    body: Compiled | None
    body_record: Record | None
    gives: Record | None
    accepts: tuple[int, ...]
    tries: int = 1
    pause: float = 0.0
    repeatable: bool = False


@dataclass(frozen=True, kw_only=True)
class SetNode(Node):
    values: tuple[tuple[str, Compiled], ...]


@dataclass(frozen=True, kw_only=True)
class WhenNode(Node):
    branches: tuple[tuple[str, Compiled, Block], ...]
    otherwise: Block | None


@dataclass(frozen=True)
class Catching:
    """One handler: which failures it is for, what is done, and in a loop what the item's value is."""

    name: str
    fault: str  # the declared fault; '' for problems
    codes: tuple[str, ...]  # first parts of problem codes; empty for anything
    block: Block
    collect: Compiled | None = None
    stop: bool = False


@dataclass(frozen=True, kw_only=True)
class EachNode(Node):
    items: Compiled
    item: str
    index: str
    at_once: int
    at_most: int
    block: Block
    collect: Compiled | None
    handlers: tuple[Catching, ...]


@dataclass(frozen=True, kw_only=True)
class WhileNode(Node):
    test: Compiled
    at_most: int
    block: Block


@dataclass(frozen=True, kw_only=True)
class ParallelNode(Node):
    lanes: tuple[tuple[str, Block], ...]


@dataclass(frozen=True, kw_only=True)
class AttemptNode(Node):
    block: Block
    handlers: tuple[Catching, ...]
    always: Block


@dataclass(frozen=True, kw_only=True)
class SessionNode(Node):
    backend: str
    block: Block
    writes: bool = False
    alone: bool = True  # whether all that it writes is on this session
    repeatable: bool = False


@dataclass(frozen=True, kw_only=True)
class ReplyNode(Node):
    answer: Compiled


@dataclass(frozen=True, kw_only=True)
class FailNode(Node):
    """`detail` None: it ends with the one fault for everything else."""

    fault: str
    message: Compiled
    detail: Compiled | None
    has_message: bool = False  # whether the detail tells the message, too


@dataclass(frozen=True, kw_only=True)
class NoteNode(Node):
    text: Compiled


@dataclass(frozen=True, kw_only=True)
class WaitNode(Node):
    duration: Compiled


@dataclass(frozen=True, kw_only=True)
class FileNode(Node):
    folder: str
    where: Compiled
    text: Compiled | None  # what is written; None for reading


@dataclass(frozen=True)
class Passing:
    """A fault of something inside that leaves the workflow under a name that it declares."""

    fault: str
    detail: Compiled


@dataclass(frozen=True)
class Program:
    """A workflow with all that it needs, whatever operation runs it."""

    definition: WorkflowDefinition
    input: Record
    output: Record
    faults: tuple[FaultShape, ...]
    block: Block
    writes: bool
    backends: tuple[str, ...]
    passing: Mapping[str, Passing] = field(default_factory=dict)  # fault of something inside -> as which it leaves
    inner: tuple[ResolvedOperation, ...] = ()  # all operations that it calls
    sees_call: bool = False  # whether a step speaks of the call


def nodes_of(block: Block) -> list[Node]:
    """All steps, in the order in which they are written."""
    found: list[Node] = []
    for node in block.nodes:
        found.append(node)
        for inner in blocks_of(node):
            found += nodes_of(inner)
    return found


def writes_of(node: Node) -> bool:
    """Whether a step stores something, apart from steps inside of it."""
    if isinstance(node, CallNode):
        return node.inner.shape.writes
    if isinstance(node, HttpNode):
        return node.method != "GET"
    return isinstance(node, FileNode) and node.text is not None


def stays_on(backend: str, block: Block) -> bool:
    """Whether everything that steps write goes to one backend, on the session that they keep to it."""
    for node in nodes_of(block):
        if isinstance(node, SessionNode):
            if node.backend != backend:
                return False
        elif writes_of(node) and not (isinstance(node, CallNode) and set(node.inner.backends) <= {backend}):
            return False
    return True


def blocks_of(node: Node) -> list[Block]:
    """The blocks inside of a step."""
    parts: list[Any] = []
    if isinstance(node, WhenNode):
        parts = [*(block for _, _, block in node.branches), node.otherwise]
    elif isinstance(node, EachNode):
        parts = [node.block, *(one.block for one in node.handlers)]
    elif isinstance(node, AttemptNode):
        parts = [node.block, *(one.block for one in node.handlers), node.always]
    elif isinstance(node, ParallelNode):
        parts = [block for _, block in node.lanes]
    elif isinstance(node, WhileNode | SessionNode):
        parts = [node.block]
    return [one for one in parts if one is not None]


def defined_names(block: Block) -> frozenset[str]:
    """The names that its steps give values to."""
    found: set[str] = set()
    for node in nodes_of(block):
        if isinstance(node, SetNode):
            found |= {name for name, _ in node.values}
        elif isinstance(node, CallNode | HttpNode | FileNode | EachNode):
            found.add(node.name)
    return frozenset(found)
