"""Problem documents: what goes wrong, as RFC 9457 has it for HTTP answers."""

from typing import Any

from bricola.core.contracts.names import PROBLEM
from bricola.core.problems import ProblemError

JSON = b"application/json"
PROBLEM_JSON = b"application/problem+json"


def problem_document(error: ProblemError, call: str = "", for_owners: bool = False) -> dict[str, Any]:
    """The RFC 9457 document of all causes; `type` names the first cause's stable code."""
    first = error.problem
    document: dict[str, Any] = {
        "type": f"{PROBLEM}:{first.code}", "title": first.message, "status": first.kind.http_status,
        "detail": first.sentence(), "problems": [one.as_dict(for_owners) for one in error.problems],
    }
    if call:
        document["call"] = call
    return document
