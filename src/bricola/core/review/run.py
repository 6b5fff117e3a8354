"""Running the review."""

from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.model import EnvironmentDefinition, ServiceDefinition
from bricola.core.problems import ProblemError
from bricola.core.review import capacity, contract, environments, security, service
from bricola.core.review.findings import RULES, Facts, Finding, Severity
from bricola.core.shapes.resolve import ResolvedService, resolve_service


def review(catalogue: Catalogue, definition: ServiceDefinition, environment: EnvironmentDefinition | None = None,
           facts: Facts | None = None) -> list[Finding]:
    """All findings of a service, and of running it in an environment when one is given; errors first."""
    facts = facts or Facts()
    findings = list(service.findings(catalogue, definition, facts))
    resolved: ResolvedService | None = None
    try:
        resolved = resolve_service(definition, catalogue)
        findings += contract.findings(definition, resolved, facts)
    except ProblemError as error:
        findings += [service.unresolved(definition, problem) for problem in error.problems]
    if environment is not None:
        findings += environments.findings(catalogue, definition, environment, facts)
        findings += environments.unused_context(catalogue, environment)
        if resolved is not None:
            findings += environments.context_findings(resolved, environment)
        findings += security.findings(catalogue, definition, environment, facts)
        findings += capacity.findings(catalogue, definition, environment, facts)
    order, codes = list(Severity), [*RULES, ""]  # what a type itself says of a value comes last
    unique = {(one.severity, one.problem): one for one in findings}

    def rank(one: Finding) -> tuple[int, int]:
        return order.index(one.severity), codes.index(one.problem.code if one.problem.code in RULES else "")

    return sorted(unique.values(), key=rank)
