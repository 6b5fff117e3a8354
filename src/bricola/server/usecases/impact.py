"""Who is affected when something below a service changes: its operations, the cases that prove them, the callers who use them."""

import time
from collections.abc import Iterable, Iterator
from typing import Any

from bricola.core.definitions.catalogue import Catalogue, Reference
from bricola.core.definitions.model import Operation, ServiceDefinition
from bricola.core.definitions.suites import SuiteDefinition
from bricola.core.durations import DAY
from bricola.core.kinds.registry import needs
from bricola.server.ports.calls import Calls
from bricola.server.ports.drafts import Drafts

_DAYS = 30


def reaching(catalogue: Catalogue, wanted: Iterable[Reference]) -> Iterator[tuple[ServiceDefinition, Operation, list[Reference]]]:
    """The operations that need one of these definitions, directly or by something else, with those that they need."""
    sought = list(wanted)
    for service in catalogue.all_of(ServiceDefinition):
        for operation in service.operations:
            thin = service.model_copy(update={"operations": (operation,), "contract": ""})
            needed = needs(catalogue, thin)
            found = [one for one in sought if one in needed]
            if found:
                yield service, operation, found


async def affected(drafts: Drafts, calls: Calls, wanted: Iterable[Reference]) -> list[dict[str, Any]]:
    """The operations that need one of these definitions, each with its cases and with who called it in the last month."""
    catalogue = drafts.catalogue
    cases: dict[tuple[str, str], list[str]] = {}
    for suite in catalogue.all_of(SuiteDefinition):
        for one in suite.cases:
            cases.setdefault((suite.service, one.operation), []).append(f"{suite.name}.{one.name}")
    rows: list[dict[str, Any]] = []
    used: dict[str, list[dict[str, Any]]] = {}
    for service, operation, found in reaching(catalogue, wanted):
        if service.name not in used:
            used[service.name] = await calls.users_of(service.name, time.time() - _DAYS * DAY, "")
        callers = {one["caller"] for one in used[service.name] if one["operation"] == operation.name and one["caller"]}
        rows.append({"service": service.name, "operation": operation.name, "by": [f"{kind} {name}" for kind, name in found],
                     "cases": cases.get((service.name, operation.name), []), "callers": sorted(callers)})
    return rows
