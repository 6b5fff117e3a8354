"""What the review says of screen flows. Most of it is found when a flow is resolved: see `shape`."""

from collections.abc import Iterator, Mapping
from dataclasses import dataclass

from bricola.core.definitions.findings import Area, Finding, Rule, Rules, Severity
from bricola.core.kinds.kind import Subject
from bricola.core.kinds.screens.definition import ScreenFlowDefinition

_E, _W = Severity.ERROR, Severity.WARNING

RULES = Rules(
    Rule("reference.screen-flow", Area.SERVICE, _E, "What an operation runs must exist."),
    Rule("flow.backend", Area.SERVICE, _E, "A screen flow walks through the screens of a terminal host."),
    Rule("flow.code-page", Area.SERVICE, _E, "A code page that is not known shows and types nothing."),
    Rule("flow.screen", Area.SERVICE, _E, "Moves are made on screens that the flow or its host knows."),
    Rule("flow.mark", Area.SERVICE, _E, "A screen is known by something that stands on it."),
    Rule("flow.start", Area.SERVICE, _E, "A flow begins on the start screen, where every session waits."),
    Rule("flow.expect", Area.SERVICE, _E, "After a key something is waited for; without one nothing comes."),
    Rule("flow.go", Area.SERVICE, _E, "A branch goes on at a move that there is."),
    Rule("flow.message", Area.SERVICE, _E, "A message is looked for where the screen has a place for messages."),
    Rule("flow.place", Area.SERVICE, _E, "Moves fill and read places that their screen has."),
    Rule("flow.input", Area.SERVICE, _E, "What is typed is a single simple input."),
    Rule("flow.fill", Area.SERVICE, _E, "Two sources for one field would leave it to chance which is typed."),
    Rule("flow.secret", Area.SERVICE, _E, "Secrets belong to the backend's sign-on; in a flow everybody could read them."),
    Rule("flow.output", Area.SERVICE, _E, "What is read goes into an output of its kind."),
    Rule("flow.unread", Area.SERVICE, _E, "A required output that nothing fills makes every answer invalid."),
    Rule("flow.unused-input", Area.SERVICE, _E, "An input that nothing takes changes nothing."),
    Rule("flow.fault", Area.SERVICE, _E, "A branch ends with a fault that the flow declares."),
    Rule("flow.unused-fault", Area.SERVICE, _E, "A declared fault that nothing raises promises what never comes."),
    Rule("flow.fault-field", Area.SERVICE, _E, "A fault tells which input it is about."),
    Rule("flow.default", Area.SERVICE, _E, "Only a simple input has a default."),
    Rule("flow.dates", Area.SERVICE, _E, "A date is read by where its day, month and year stand."),
    Rule("flow.pattern", Area.SERVICE, _E, "What is read by a pattern is looked for in time that grows no faster than the text."),
    Rule("flow.list", Area.SERVICE, _E, "A list is collected from a screen that has it."),
    Rule("flow.region", Area.SERVICE, _E, "The rows of a list fill its region without a rest."),
    Rule("flow.column", Area.SERVICE, _E, "The columns of a list are the fields of its record, each once."),
    Rule("flow.endless", Area.SERVICE, _E, "A list over pages needs a sign of its end, or it pages for ever."),
    Rule("flow.position", Area.SERVICE, _E, "A list that is positioned types a column of its last row into a place."),
    Rule("flow.most", Area.SERVICE, _E, "The most rows are a number, so that no list is read without bound."),
    Rule("flow.unfilmed", Area.ENVIRONMENT, _E, "Without a film, wrong answers are the first to tell that a screen was changed."),
    Rule("flow.moved", Area.ENVIRONMENT, _E, "A screen that is not as it was filmed stops the first call that meets it."),
)
finding = RULES.finding


@dataclass(frozen=True)
class FilmFacts:
    """The flows that have a film, and by flow what its last check found on the host of the environment, where that was not as filmed."""

    filmed: frozenset[str]
    moved: Mapping[str, str]


def findings(subject: Subject) -> Iterator[Finding]:
    facts: FilmFacts | None = subject.facts.of_kind.get(ScreenFlowDefinition.kind)
    if subject.environment is None or facts is None:
        return
    where = subject.environment.name
    for definition in subject.needed.all_of(ScreenFlowDefinition):
        binding = subject.environment.binding(definition.backend)
        if binding is None or binding.film:
            continue
        if definition.name not in facts.filmed:
            yield finding("flow.unfilmed", f"There is no film of {definition.name}.", f"screen-flow {definition.name}",
                          mend="Film the walk on a host where that does no harm.",
                          command=f"bricola screens film {definition.name} {where}{' --writes' if definition.writes else ''}")
        elif definition.name in facts.moved:
            yield finding("flow.moved", f"The host in {where} is not as {definition.name} was filmed.",
                          f"screen-flow {definition.name}, screens", found=facts.moved[definition.name],
                          mend="Correct the screens, or film the walk anew.", command=f"bricola screens check {where} {definition.name}")
