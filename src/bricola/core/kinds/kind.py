"""What a kind of source is: the one value by which everything else knows it.

A kind is a folder in `core/kinds` that exports such a value. Whoever reads definitions, resolves, compiles, reviews or lists sources
asks the registry and never which kind it is. Kinds do not know each other.
"""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Generic, NamedTuple, TypeVar

from bricola.core.calls.call import Handler
from bricola.core.definitions.base import Definition
from bricola.core.definitions.catalogue import Catalogue, Reference
from bricola.core.definitions.engines.engine import Dialect, Family
from bricola.core.definitions.findings import Facts, Finding, Rules
from bricola.core.definitions.model import EnvironmentDefinition, Operation, ServiceDefinition
from bricola.core.definitions.parts import TypedPart
from bricola.core.definitions.runs import RunsForm
from bricola.core.messages.cleaning import Cleaner
from bricola.core.pool.pool import Pool
from bricola.core.problems import Problem
from bricola.core.shapes.forms import Form
from bricola.core.shapes.given import Given
from bricola.core.shapes.mapping import Mapped
from bricola.core.shapes.model import Element, OperationShape, Record
from bricola.core.sql.routines import Routine

D = TypeVar("D", bound=Definition)
UNFIT = "backend.unfit"  # the code of what does not fit a backend
Pools = Mapping[str, Pool[Any]]  # by backend


@dataclass(frozen=True)
class ResolvedOperation:
    """An operation's shape with what it runs and the values that callers neither give nor see.

    `source` is what the kind made of the definition, and nobody else's business. `nested` is the element that holds all inputs, where
    there is one. `ways` leads from the contract of somebody else, where `shape` is that contract's and not what the source would have;
    `told` are the declared faults by which failures are told, by the first part of their code, '' for all others."""

    shape: OperationShape
    kind: "SourceKind[Any]"
    source: Any
    verb: str
    backends: tuple[str, ...] = ()
    given: Given = field(default_factory=Given)
    nested: str = ""
    ways: "Ways | None" = None
    told: Mapping[str, tuple[str, Mapped]] = field(default_factory=dict)
    of: str = ""  # the operation of the service that it is published with, for the same callers
    written: Operation | None = None  # how the service says it; of a companion, how it would


@dataclass(frozen=True)
class Ways:
    """Between an operation of somebody's contract and what runs it: the maps in and out, and which fault becomes which."""

    inner: "ResolvedOperation"  # what runs it, as it would be with a contract of its own
    into: Mapped
    out: Mapped
    faults: Mapping[str, tuple[str, Mapped]]


class Compiled(NamedTuple):
    """A handler. `marked`: as a write it leaves a mark of its request in the backend. Without `checks_input` messages are handed on as they
    came, and nothing is read of them. Where the handler accepts a job only, `job` is what does it, with all inputs."""

    handle: Handler
    marked: bool = False
    checks_input: bool = True
    job: "Lasting | None" = None
    desk: bool = False  # it accepts jobs, or tells of them
    tells_writes: bool = False  # with the answer goes what was written
    sees_caller: bool = False  # the answer may depend on who asks
    gives_result: bool = False  # of a job of the operation that it is published with
    calls_back: bool = False  # what it accepts is told to an address, where the caller names one
    stops_when_left: bool = False  # when the caller is gone, it is stopped
    leaves_queue: bool = False  # until it has its one session nothing has begun, so a caller who is gone stops waiting for it
    clean: Cleaner | None = None  # takes out of a message what an application put beside the contract


class Lasting(NamedTuple):
    """What does a job, with the records of what it takes and gives, and of what its steps give, by where they are written."""

    run: Handler
    input: Record
    output: Record
    steps: Mapping[str, Record]


class Probe(NamedTuple):
    """What is tried once on a backend before a service goes live; without a statement a session that is signed on says enough.
    `object` and `table` are for people who check the way; `sample` reads one row.

    `columns` are the fields that the columns of the statement fill, in order, and `place` is where they are written. `holds` are statements
    whose rows are held until the end of a transaction, and `writes` those that change rows: the backend reads them, and runs none. `grants`
    are rights that its user needs beside those on tables, as a GRANT says them, and `marked` tells that what it writes leaves marks of its
    requests there; `calls` is a routine, and `routine` tells what of it does not fit those that are there."""

    backend: str
    statement: str = ""
    object: str = ""
    table: str = ""
    sample: str = ""
    place: str = ""
    columns: tuple[Element, ...] = ()
    dialect: Dialect | None = None
    holds: tuple[str, ...] = ()
    writes: tuple[str, ...] = ()
    grants: tuple[str, ...] = ()
    marked: bool = False
    calls: str = ""
    routine: "Callable[[Sequence[Routine]], Iterable[Problem]] | None" = None


@dataclass(frozen=True)
class Subject:
    """What a review looks at: a service with its catalogue and the operations that run this kind, and where it is to run."""

    catalogue: Catalogue
    service: ServiceDefinition
    environment: EnvironmentDefinition | None
    facts: Facts
    needed: Catalogue = field(default_factory=Catalogue)  # everything that it runs, directly or by something else

    def operations(self, kind: str, name: str) -> list[Operation]:
        return [one for one in self.service.operations if one.source == (kind, name)]

    def sources(self, model: type[D]) -> list[tuple[D, list[Operation]]]:
        """The definitions of a kind that the service runs, each with the operations that do."""
        found: dict[str, D] = {}
        for one in self.service.operations:
            kind, name = one.source
            definition = self.catalogue.get(model, name) if kind == model.kind else None
            if definition is not None:
                found[name] = definition
        return [(definition, self.operations(model.kind, name)) for name, definition in found.items()]


class Entry(NamedTuple):
    """How people meet the kind in lists and finders: what several are called, and what one is, in a few words. `page` is the address
    in the console where all of them stand; without one they are found among the definitions."""

    plural: str
    words: str
    page: str = ""


def no_findings(subject: Subject) -> Iterator[Finding]:
    return iter(())


def nothing_needed(definition: Any) -> Iterable[Reference]:
    return ()


class Followed(NamedTuple):
    """A contract of somebody else that is followed through a backend. `service` is the one of the contract; '' when it has one only."""

    contract: str
    service: str
    backend: str


@dataclass(frozen=True)
class SourceKind(Generic[D]):
    """A kind of source. Every function raises ProblemError with all that is wrong, unless it says otherwise.

    | what | |
    | --- | --- |
    | title | what one is called in a sentence: `object`, `screen flow` |
    | model, runs | the definition's model (its `kind` is the first key of a file), and how `runs:` names one |
    | parts | the typed parts whose types and records a definition needs |
    | needs | the other definitions that it names, of any kind, directly |
    | backends | the backends that it reaches: none, one, several |
    | resolve | an operation with its definition to a shape, in the form of its release; the text is the place for problems |
    | compile | a resolved operation to a handler, in an environment with its pools |
    | probes | what is tried before it goes live |
    | runs_on, lacks | the family of backends that it works on, and why an environment cannot host it; '' when it can |
    | rules, findings | what the review says of it; never raises |
    | follows | the contracts of others that the other side must keep |
    | stubs | whether its operations answer samples until something implements them |
    | hollow | why one does almost nothing though it looks complete; '' when it does something |
    | companions | the operations that are published together with one |
    | verbs | what of one can be run, where its definition says so; else what `runs` allows |
    | entry | how people meet it |
    """

    title: str
    model: type[D]
    runs: RunsForm
    backends: Callable[[D, Catalogue], Sequence[str]]
    resolve: Callable[[Operation, D, Catalogue, str, Form], ResolvedOperation]
    compile: Callable[[ResolvedOperation, EnvironmentDefinition, Pools], Compiled]
    entry: Entry
    parts: Callable[[D], Iterable[TypedPart]] = nothing_needed  # type: ignore[assignment]
    needs: Callable[[D], Iterable[Reference]] = nothing_needed
    probes: Callable[[ResolvedOperation], Sequence[Probe]] = lambda operation: ()
    follows: Callable[[D], Sequence[Followed]] = lambda definition: ()
    companions: Callable[[Operation, D], Sequence[Operation]] = lambda operation, definition: ()
    verbs: Callable[[D], Sequence[str]] | None = None
    stubs: bool = False
    hollow: Callable[[D], str] = lambda definition: ""
    runs_on: Family | None = None
    lacks: Callable[[EnvironmentDefinition], str] = lambda environment: ""
    rules: Rules = field(default_factory=Rules)
    findings: Callable[[Subject], Iterator[Finding]] = no_findings

    @property
    def word(self) -> str:
        return self.model.kind

    @property
    def article(self) -> str:
        return "an" if self.title[0] in "aeiou" else "a"
