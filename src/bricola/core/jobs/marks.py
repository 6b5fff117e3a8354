"""Marks of requests: what a repeatable write leaves in the backend, in the same transaction."""

import json
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any


@dataclass
class RequestMark:
    """What a write leaves in the backend's own transaction. What expired before `at` may be removed there; what was accepted since
    `since` may be of the same request. Moments are seconds since 1970, as `core.ages` gives them."""

    id: str
    at: float
    expires: float
    since: float
    answer: Callable[[dict[str, Any]], str] = json.dumps  # of values, as it is remembered
    read: Callable[[str], dict[str, Any]] = json.loads
