"""Test suites: cases with what they send and what is expected, kept with the service that they are about.

A text may have places: `{known}` is a value of the suite, which the environment overrides by its `test_values`; `{registration}` a column
of the row that a case is run for; `{enter.changeToken}` a part of what the case or step `enter` was answered before, in the same run;
`{today}`, `{now}` and `{unique}` are made for each run. A text that is one place only keeps the value's type. `{{` stands for a brace.
"""

from collections.abc import Iterator, Mapping
from typing import Annotated, Any, ClassVar, Literal, Self

from pydantic import BeforeValidator, Field, PlainSerializer, model_validator

from bricola.core.definitions.base import Definition, ElementName, Frozen, Line, Name, NamedPart, NamedParts, Names, Scalar
from bricola.core.definitions.runs import add_kind

FACES = ("soap 1.1", "soap 1.2", "rest")
Face = Literal["", "soap 1.1", "soap 1.2", "rest"]
Identity = Literal["", "none", "wrong-token", "expired-token", "no-role"]


class Comparison(Frozen):
    """What one value of an answer must be. Of several all must hold; of a value inside of a list, every one of them.

    | word | it holds when |
    | --- | --- |
    | equal, unlike | the value is this one, or another, by its type: 1.50 equals 1.5 |
    | one_of | it is one of these |
    | between | it lies between these two, or is one of them |
    | matches | its whole text has this pattern (XML Schema Part 2, appendix F) |
    | contains | its text has this in it |
    | count | the list has so many items, or from so many to so many |
    | order, by | the list goes `up` or `down`, by this field of its items |
    | absent, present | it does not stand, or stands |
    | source | it is what is stored where it comes from, read by another way |
    """

    equal: Any = None
    unlike: Any = None
    one_of: tuple[Any, ...] = ()
    between: tuple[Any, Any] | None = None
    matches: str = ""
    contains: str = ""
    count: int | str | tuple[int, int] | None = None
    order: Literal["", "up", "down"] = ""
    by: str = ""
    absent: bool = False
    present: bool = False
    source: bool = False

    @model_validator(mode="after")
    def _says_something(self) -> Self:
        if not self.model_dump(exclude_defaults=True):
            raise ValueError("it compares nothing; write a value, or one of " + ", ".join(Comparison.model_fields))
        if self.by and not self.order:
            raise ValueError("'by' needs an 'order'")
        return self


def _short(value: object) -> object:
    return value if isinstance(value, Mapping | Comparison) else {"equal": value}


def _shortest(value: Comparison) -> Any:
    written = value.model_dump(mode="json", exclude_defaults=True)
    return written["equal"] if list(written) == ["equal"] and not isinstance(written["equal"], dict) else written


ValueComparison = Annotated[Comparison, BeforeValidator(_short), PlainSerializer(_shortest, return_type=Any)]


class Expected(Frozen):
    """What becomes of a case. Without a `fault` or a `problem` it is answered.

    `fault` is one that the contract declares, by its name; `problem` is the code of any other, or the beginning of it up to a dot, and
    `place` where it is. `values` are by path: dots go into records, `[0]` into a list, and without an index all items are meant. `holds`
    are conditions in the language of expressions about the parts of the answer. `xml` is what stands in the body, equal but for the paths
    of `but`. An answer is always held against the contract, unless `unchecked`. `within` is seconds."""

    fault: ElementName | Literal[""] = ""
    problem: Line = ""
    place: Line = ""
    status: int | None = Field(None, ge=100, le=599)
    values: dict[str, ValueComparison] = {}
    holds: Names = ()
    xml: str = ""
    but: Names = ()
    equals_source: bool = False
    unchecked: bool = False
    within: float | None = Field(None, gt=0, le=3600)

    @model_validator(mode="after")
    def _is_one_outcome(self) -> Self:
        if self.fault and self.problem:
            raise ValueError("a case ends in a declared fault or in another problem, not in both")
        if self.place and not self.problem:
            raise ValueError("'place' is where a 'problem' is")
        if self.but and not self.xml:
            raise ValueError("'but' leaves parts of 'xml' out")
        if self.problem and (self.holds or self.values):
            raise ValueError("a problem has a code, a place and words, but no values of the contract")
        return self

    @property
    def answered(self) -> bool:
        return not (self.fault or self.problem)

    @property
    def words(self) -> str:
        """The outcome, in a few words."""
        return f"the fault {self.fault}" if self.fault else f"the problem {self.problem}" if self.problem else "an answer"


class StandIn(Frozen):
    """What an inner call of a workflow is answered instead of being made: by the step that makes it, in the order of its turns, or with
    `takes` where it asks for just that. Of an address over HTTP the answer is its `status` and `body`, of a file its `text`."""

    step: str
    takes: dict[str, Any] | None = None
    answer: dict[str, Any] = {}
    fault: str = ""
    message: Line = ""
    detail: dict[str, Any] = {}
    problem: str = ""


class _Case(NamedPart):
    name: Name


class Case(_Case):
    """One call and what is expected of it. `values` as JSON has them, or a whole `envelope`; `face` the first that the service has;
    `caller` the suite's, or the first who may; `identity` is for calls without one, with a token that nobody has, with one that has
    expired, or as a caller without any role. What writes is rolled back, unless the case `writes`; then `clean_up` takes away what it
    left. `rows` are values for as many runs: written here, or the name of a CSV file of the suite. With `film` the recorded
    film of that screen flow stands in for its host, and `stand_ins` for what a workflow calls; it then runs without them. `set_up` and
    `clean_up` name steps of the suite."""

    operation: ElementName
    description: Line = ""
    values: dict[str, Any] = {}
    envelope: str = ""
    face: Face = ""
    caller: Name | Literal[""] = ""
    identity: Identity = ""
    writes: bool = False
    rows: tuple[dict[ElementName, Scalar], ...] | str = ()
    set_up: Names = ()
    clean_up: Names = ()
    film: Name | Literal[""] = ""
    stand_ins: tuple[StandIn, ...] = ()
    expects: Expected = Expected()

    @model_validator(mode="after")
    def _is_whole(self) -> Self:
        if self.envelope and self.values:
            raise ValueError("it has values and an envelope; one of the two is sent")
        if self.envelope and self.face == "rest":
            raise ValueError("an envelope is a SOAP message; the face rest takes values")
        if self.identity and self.identity != "expired-token" and self.caller:
            raise ValueError(f"with '{self.identity}' nobody is named, so it has no caller")
        if self.writes and not self.clean_up and not self.stand_ins:
            raise ValueError("a case that writes says in 'clean_up' which steps take away what it left")
        return self


class SuiteDefinition(Definition):
    """The test cases of one service. `steps` have the form of cases and run where `set_up` and `clean_up` name them; those of the suite
    itself run once, before and after all. `files` are CSV files by name, the first line with the names of columns."""

    kind: ClassVar[str] = "test-suite"
    service: ElementName
    description: Line = ""
    caller: Name | Literal[""] = ""
    values: dict[ElementName, Scalar] = {}
    set_up: Names = ()
    clean_up: Names = ()
    cases: NamedParts[Case] = ()
    steps: NamedParts[Case] = ()
    files: dict[str, str] = {}

    @property
    def all_parts(self) -> Iterator[tuple[str, Case]]:
        """Cases and steps, each with where it stands."""
        yield from (("cases", one) for one in self.cases)
        yield from (("steps", one) for one in self.steps)

    def step(self, name: str) -> Case | None:
        return next((one for one in self.steps if one.name == name), None)

    def case(self, name: str) -> Case | None:
        return next((one for one in self.cases if one.name == name), None)


add_kind(SuiteDefinition)
