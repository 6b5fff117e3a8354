"""Doing the mends of the review that are mechanical."""

from typing import Protocol

from bricola.api.words import ChangeAction
from bricola.core.definitions.folder import default_path
from bricola.core.definitions.text import write_definition
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.server.usecases import definitions, reviews
from bricola.server.usecases.definitions import Change, apply
from bricola.server.usecases.reviews import review_service


class Ports(definitions.Ports, reviews.Ports, Protocol):
    """Reviews, and changes drafts."""


async def mend(ports: Ports, service: str, environment: str, code: str, author: str) -> list[Change]:
    """Do the mends that are mechanical: of one rule, or of all that stop and warn when no code is given."""
    changes: list[Change] = []
    for _ in range(100):  # each mend may change what the next one starts from
        findings = [one for one in await review_service(ports, service, environment)
                    if one.mended is not None and (one.problem.code == code if code else one.problem.code != "access.anonymous")]
        if not findings:
            break
        mended = findings[0].mended
        assert mended is not None
        path = next((one.path for one in ports.drafts.files if one.reference == (mended.kind, mended.name)), default_path(mended))
        changes += [one for one in await apply(ports, {path: write_definition(mended)}, author) if one.action is not ChangeAction.UNCHANGED]
    if not changes:
        raise ProblemError(Problem("mend.nothing", "There is nothing that can be mended mechanically.", Kind.MISSING, place=code,
                                   mend=f"Read the findings: bricola review {service} {environment}".rstrip()))
    return changes
