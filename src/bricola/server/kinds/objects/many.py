"""Publishing many tables at once by a rule: what it would do table by table, and doing it. Repeated, it adds what is new and leaves alone
what is there."""

import asyncio
from dataclasses import dataclass, field, replace
from typing import Any

from pydantic import ValidationError

from bricola.core.definitions.base import Definition
from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.folder import default_path
from bricola.core.definitions.model import Operation, ServiceDefinition
from bricola.core.definitions.names import kebab_case, readable
from bricola.core.definitions.table_rules import TableRule
from bricola.core.definitions.text import write_definition
from bricola.core.kinds.objects.definition import ObjectDefinition
from bricola.core.kinds.objects.drafting import OPERATIONS, Wish, draft, left_out
from bricola.core.problems import Kind, Problem, ProblemError, shown
from bricola.core.sql.sessions import DatabaseSession
from bricola.core.sql.tables import Table
from bricola.server.kinds.objects.discovery import all_tables, real_values
from bricola.server.ports.drafts import unknown
from bricola.server.usecases import definitions
from bricola.server.usecases.definitions import Ports

_MOST = 500  # tables of one go


@dataclass
class _Planned:
    """What becomes of one table: new, extended, there, cannot."""

    table: str
    action: str
    object: str = ""
    service: str = ""
    operations: list[str] = field(default_factory=list)  # that are added
    reasons: list[str] = field(default_factory=list)
    left_out: list[str] = field(default_factory=list)


def rule_of(ports: Ports, name: str) -> TableRule:
    found = ports.drafts.catalogue.get(TableRule, name)
    if found is None:
        raise ProblemError(unknown("table-rule", name, [one.name for one in ports.drafts.catalogue.all_of(TableRule)]))
    return found


def read_rule(name: str, backend: str, said: dict[str, Any]) -> TableRule:
    """A rule of what somebody said. Raises ProblemError."""
    try:
        return TableRule.model_validate({"name": name, "backend": backend, **said})
    except ValidationError as error:
        first = error.errors()[0]
        words, place = str(first["msg"]).removeprefix("Value error, "), ", ".join(map(str, first["loc"]))
        raise ProblemError(Problem("table-rule.form", words, place=place, found=shown(str(first["input"])))) from None


async def publish_many(ports: Ports, environment: str, rule: TableRule, only: list[str] | None, keep: bool, save: bool,
                       author: str) -> dict[str, Any]:
    """The plan of a rule; with `save` its definitions become drafts, all or none. `only` are tables that were ticked, None for all; with
    `keep` the rule itself becomes a draft too. Raises ProblemError."""
    place = ports.drafts.environment(environment)
    wrong = [one for one in rule.operations if one not in OPERATIONS]
    if wrong:
        raise ProblemError(*(Problem("discover.operation", "There is no such operation.", choices=OPERATIONS, found=shown(one))
                             for one in wrong))
    everything = await all_tables(ports, place, rule.backend)
    chosen = [one for one in everything if rule.takes(one.name)]
    if only is not None:
        known = {one.name for one in chosen}
        missing = [one for one in only if one not in known]
        if missing:
            raise ProblemError(unknown("table", missing[0], sorted(known)))
        chosen = [one for one in chosen if one.name in only]
    if not chosen:
        raise ProblemError(Problem("discover.none", f"No table of {rule.backend} matches.", Kind.MISSING, found=", ".join(rule.tables),
                                   choices=tuple(one.name for one in everything)))
    if len(chosen) > _MOST:
        raise ProblemError(Problem("discover.too-many", f"{len(chosen)} tables match.", Kind.TOO_LARGE, expected=f"at most {_MOST} at once",
                                   mend="Narrow the pattern."))
    began = ports.drafts.revisions
    async with ports.places.visit(place, rule.backend, ports.drafts.catalogue) as session:
        plan, made = await _draft_all(session, rule, chosen, ports.drafts.catalogue)
    if keep and ports.drafts.catalogue.find((rule.kind, rule.name)) != rule:
        made[rule.kind, rule.name] = rule
    paths = {one.reference: one.path for one in ports.drafts.files}
    files = {paths.get(reference, default_path(one)): write_definition(one) for reference, one in made.items()}
    changes = []
    if save and files:
        based_on = definitions.started_from(began, made)
        changes = [definitions.plain_change(one) for one in await definitions.apply(ports, files, author, based_on=based_on)]
    return {"tables": [vars(one) for one in plan], "files": files, "saved": save, "changes": changes,
            "services": sorted({one.service for one in plan if one.operations})}


async def _draft_all(session: DatabaseSession, rule: TableRule, tables: list[Table],
                     catalogue: Catalogue) -> tuple[list[_Planned], dict[tuple[str, str], Definition]]:
    plan: list[_Planned] = []
    made: dict[tuple[str, str], Definition] = {}
    for table in _in_order(tables):
        narrowed = replace(table, columns=tuple(one for one in table.columns if one.name in table.key or not rule.leaves_out(one.name)))
        name, service = rule.names(table.name)
        one = _Planned(table.name, "new", kebab_case(readable(name)), service,
                       left_out=[two.name for two in table.columns if narrowed.column(two.name) is None or two in left_out(narrowed)])
        plan.append(one)
        wanted = tuple(two for two in rule.operations if table.kind == "table" or two in OPERATIONS[:3])
        if table.reasons:
            one.action, one.reasons = "cannot", list(table.reasons)
            continue
        here = catalogue | Catalogue(made.values())
        known = next((two for two in here.all_of(ObjectDefinition) if (two.backend, two.table) == (rule.backend, table.name)), None)
        samples = {} if known is not None else await real_values(session, narrowed)
        wish = Wish(rule.backend, known.name if known is not None else _free(one.object, rule.backend, here), service, wanted, rule.roles,
                    samples=samples, zone=rule.zone)
        try:
            drafted = await asyncio.to_thread(draft, narrowed, wish, here)
        except ProblemError as error:
            one.action, one.reasons = "cannot", [two.message for two in error.problems]
            continue
        definition = known or next(two for two in drafted if isinstance(two, ObjectDefinition))
        offer = next(two for two in drafted if isinstance(two, ServiceDefinition))
        one.object = definition.name
        target, added = _extended(here.find_service(service), offer.model_copy(update={"description": f"Tables of {rule.backend}"}))
        one.operations = added
        one.action = "new" if known is None else "extended" if added else "there"
        if known is None:
            made[definition.kind, definition.name] = definition
        if added:
            made[target.kind, target.name] = target
    return plan, made


def _in_order(tables: list[Table]) -> list[Table]:
    """Those that others refer to first, so that these know them; tables that refer to each other as they come."""
    rest, ordered = {one.name: one for one in tables}, list[Table]()
    while rest:
        ready = [one for one in rest.values() if not any(key.table in rest and key.table != one.name for key in one.foreign_keys)]
        for one in ready or [next(iter(rest.values()))]:
            ordered.append(rest.pop(one.name))
    return ordered


def _free(name: str, backend: str, catalogue: Catalogue) -> str:
    """A name for an object that no other one has."""
    taken = {one.name for one in catalogue.all_of(ObjectDefinition)}
    candidates = [name, f"{backend}-{name}", *(f"{backend}-{name}-{number}" for number in range(2, 1000))]
    return next(one for one in candidates if one not in taken)


def _extended(service: ServiceDefinition | None, offer: ServiceDefinition) -> tuple[ServiceDefinition, list[str]]:
    """A service with the operations of an offer that it does not have yet, under names that are free; and which those are."""
    if service is None:
        return offer, [one.name for one in offer.operations]
    has = {one.runs for one in service.operations}
    names = {one.name for one in service.operations}
    new: list[Operation] = []
    for one in offer.operations:
        if one.runs in has:
            continue
        free = next(two for two in (one.name, *(f"{one.name}{number}" for number in range(2, 1000))) if two not in names)
        names.add(free)
        new.append(one.model_copy(update={"name": free}))
    if not new:
        return service, []
    access = dict(service.access)
    for role in offer.access:
        granted = access.get(role, ())
        if granted != "all":
            access[role] = (*granted, *(one.name for one in new)) if role in access else tuple(one.name for one in new)
    return service.model_copy(update={"operations": (*service.operations, *new), "access": access}), [one.name for one in new]
