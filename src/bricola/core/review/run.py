"""Running the review."""

from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.findings import Facts, Finding, Severity
from bricola.core.definitions.model import EnvironmentDefinition, ServiceDefinition
from bricola.core.kinds.resolve import ResolvedService, resolve_service
from bricola.core.problems import ProblemError
from bricola.core.review import capacity, contract, environments, security, service
from bricola.core.review.rules import all_rules


def review(catalogue: Catalogue, definition: ServiceDefinition, environment: EnvironmentDefinition | None = None,
           facts: Facts | None = None) -> list[Finding]:
    """All findings of a service, and of running it in an environment when one is given; errors first."""
    facts = facts or Facts()
    rules = all_rules()
    findings = list(service.findings(catalogue, definition, environment, facts))
    resolved: ResolvedService | None = None
    try:
        resolved = resolve_service(definition, catalogue)
        findings += contract.findings(definition, resolved, facts)
    except ProblemError as error:
        findings += [service.unresolved(definition, problem, rules) for problem in error.problems]
    if environment is not None:
        findings += environments.findings(catalogue, definition, environment, facts)
        findings += environments.unused_context(catalogue, environment)
        if resolved is not None:
            findings += environments.context_findings(catalogue, definition, resolved, environment)
        findings += security.findings(catalogue, definition, environment, facts)
        findings += capacity.findings(catalogue, definition, environment, facts)
    order, codes = list(Severity), [*rules, ""]  # what a type itself says of a value comes last
    explained = [one.problem.place for one in findings if one.severity is Severity.ERROR and one.problem.code != environments.UNSEEN]
    findings = [one for one in findings if one.problem.code != environments.UNSEEN
                or not any(place.startswith(one.problem.place) for place in explained)]  # one mend for one cause
    unique = {(one.severity, one.problem): one for one in findings}

    def rank(one: Finding) -> tuple[int, int]:
        return order.index(one.severity), codes.index(one.problem.code if one.problem.code in rules else "")

    return sorted(unique.values(), key=rank)
