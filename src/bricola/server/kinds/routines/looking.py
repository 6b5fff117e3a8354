"""Looking around among the routines of a database, and drafting definitions of them."""

from collections.abc import Mapping, Sequence
from typing import Any

from bricola.adapters.engines import DOORS
from bricola.core.definitions.base import Definition
from bricola.core.definitions.catalogue import Catalogue
from bricola.core.definitions.folder import default_path
from bricola.core.definitions.text import write_definition
from bricola.core.kinds.routines.comparing import differences, nearest, newly_optional
from bricola.core.kinds.routines.definition import RoutineDefinition
from bricola.core.kinds.routines.drafting import Wish, draft_routine, left_out, open_zones
from bricola.core.kinds.routines.renewing import renewed, untold_columns
from bricola.core.kinds.routines.shape import resolve_routine
from bricola.core.kinds.routines.trying import results_of
from bricola.core.problems import Problem, ProblemError, shown
from bricola.core.shapes.simple import SimpleType
from bricola.core.sql.routines import CURSOR, Parameter, Results, Routine
from bricola.server.ports.calls import Calls
from bricola.server.ports.drafts import unknown
from bricola.server.ports.places import bound_backend
from bricola.server.usecases import definitions
from bricola.server.usecases.definitions import Ports
from bricola.server.usecases.impact import affected
from bricola.server.usecases.new_services import new_service, refuse_taken
from bricola.server.usecases.publishing_state import published


async def routines(ports: Ports, environment: str, backend: str, search: str) -> list[dict[str, Any]]:
    """The routines whose name, comment or parameter has each word in it, with what is published of them."""
    words = search.lower().split()
    everything = await _all(ports, environment, backend)
    found = [one for one in everything if all(_mentions(one, word) for word in words)]
    return [_summary(ports, environment, backend, one, [two for two in everything if two.name == one.name]) for one in found]


async def routine(ports: Ports, environment: str, backend: str, name: str, signature: str | None) -> dict[str, Any]:
    """One routine with everything that is known of it."""
    everything = await _all(ports, environment, backend)
    found = _chosen(everything, name, signature)
    return _summary(ports, environment, backend, found, [one for one in everything if one.name == name]) | {
        "parameters": [_parameter(one) for one in found.parameters],
        "columns": [{"name": one.name, "declared": one.declared, "type": one.type.base} for one in found.columns]}


async def draft(ports: Ports, environment: str, backend: str, wish: Mapping[str, Any], author: str) -> dict[str, Any]:
    """The definition of a routine, and a service where one is named; with `save` they become drafts. With `try_with`, arguments by
    parameter, it is called once, and what it did is rolled back, to see what rows it gives."""
    found = _chosen(await _all(ports, environment, backend), wish["routine"], wish["signature"])
    seen = None
    if wish["try_with"] is not None:
        seen = await _tried(ports, environment, backend, found, wish["try_with"])
    made = draft_routine(found, Wish(backend, wish["name"], wish["zone"], seen, wish["try_with"] or {}))
    news: list[Definition] = [made]
    if wish["service"]:
        words = made.description or f"Calls {made.calls}"
        news.append(new_service(ports.drafts.catalogue, wish["service"], made, words, wish["operation"], wish["roles"]))
    refuse_taken(ports.drafts.catalogue, news)
    files = {default_path(one): write_definition(one) for one in news}
    changes = [definitions.plain_change(one) for one in await definitions.apply(ports, files, author)] if wish["save"] else []
    return {"files": files, "saved": wish["save"], "changes": changes, "unseen_rows": found.shows_rows and seen is None,
            "left_out": [{"name": name, "declared": declared} for name, declared in left_out(found)],
            "open_zones": [] if wish["zone"] else open_zones(found, seen)}


async def renew(ports: Ports, calls: Calls, environment: str, name: str, wish: Mapping[str, Any], author: str) -> dict[str, Any]:
    """A definition brought up to what its routine is now in an environment: what differs, what would not fit any more, and who is affected;
    with `save` it becomes a draft."""
    catalogue, began = ports.drafts.catalogue, ports.drafts.revisions
    known = catalogue.get(RoutineDefinition, name)
    if known is None:
        raise ProblemError(unknown("routine", name, [one.name for one in catalogue.all_of(RoutineDefinition)]))
    named = [one for one in await _all(ports, environment, known.backend) if one.name == known.calls]
    found = _chosen(named, known.calls, wish["signature"]) if wish["signature"] is not None or not named else nearest(known, named)
    made = renewed(known, found, wish["zone"])
    differs = differences(known, found) + newly_optional(known, found)
    try:
        resolve_routine(made, catalogue | Catalogue([made]))
        problems: list[Problem] = []
    except ProblemError as error:
        problems = list(error.problems)
    rows = await affected(ports.drafts, calls, [(RoutineDefinition.kind, name)]) if differs else []
    files = {ports.drafts.path_of(RoutineDefinition.kind, name): write_definition(made)}
    changes: list[dict[str, Any]] = []
    if wish["save"] and differs:  # the database was asked meanwhile, and somebody may have saved the definition
        base = definitions.started_from(began, [(RoutineDefinition.kind, name)])
        changes = [definitions.plain_change(one) for one in await definitions.apply(ports, files, author, based_on=base)]
    said = {one.name for one in known.parameters}
    return {"text": write_definition(made), "differences": [{"name": one, "was": was, "now": now} for one, was, now in differs],
            "problems": [one.as_dict() for one in problems], "untold": untold_columns(known, found), "affected": rows,
            "open_zones": [] if wish["zone"] else [one for one in open_zones(found, None) if one not in said],
            "saved": bool(wish["save"] and differs), "changes": changes}


async def _tried(ports: Ports, environment: str, backend: str, found: Routine, texts: Mapping[str, str]) -> Sequence[Results]:
    place = ports.drafts.environment(environment)
    if found.reasons:
        raise ProblemError(*(Problem("discover.routine", f"{found.called} cannot be called: {one}.", place=found.name)
                             for one in found.reasons))
    taken = {one.name: one for one in found.parameters if one.way in ("in", "in-out")}
    problems = [Problem("discover.parameter", "The routine takes no such parameter.", place=name, found=shown(name), choices=tuple(taken))
                for name in texts if name not in taken]
    values = {}
    for name, text in texts.items():
        if name in taken and taken[name].type.base:
            values[name], problem = SimpleType(taken[name].type.base).read(text)
            problems += [problem.at(name)] if problem is not None else []
    if problems:
        raise ProblemError(*problems)
    definition, binding = bound_backend(place, backend, ports.drafts.catalogue)
    if found.writes and binding.read_only:
        raise ProblemError(Problem("binding.read-only", f"{found.name} may write, but {backend} is read only in {environment}.",
                                   place=f"environment {environment}, backends, {backend}, read_only"))
    async with ports.places.visit(place, backend, ports.drafts.catalogue) as session:
        dialect = definition.about.dialect
        assert dialect is not None  # it has routines
        return await results_of(session, dialect.routines, found, values)


async def _all(ports: Ports, environment: str, backend: str) -> list[Routine]:
    place = ports.drafts.environment(environment)
    engine = bound_backend(place, backend, ports.drafts.catalogue)[0].about
    reader = DOORS[engine.word].routines
    if reader is None:
        raise ProblemError(Problem("discover.routines", f"{backend} is a {engine.title} and has no routines.", place=backend,
                                   expected="a database server"))
    async with ports.places.visit(place, backend, ports.drafts.catalogue) as session:
        return await reader(session)


def _chosen(everything: Sequence[Routine], name: str, signature: str | None) -> Routine:
    found = [one for one in everything if one.name == name and signature in (None, one.signature)]
    if not found:
        raise ProblemError(unknown("routine", name, [one.name for one in everything]))
    if len(found) > 1:
        raise ProblemError(Problem("discover.several", f"Several routines are called {name}.", place=name,
                                   choices=tuple(one.signature for one in found), mend="Say which one by its parameters."))
    return found[0]


def _mentions(one: Routine, word: str) -> bool:
    told = [one.name, one.comment, *(each.name for each in one.parameters), *(each.name for each in one.columns)]
    return any(word in text.lower() for text in told)


def _summary(ports: Ports, environment: str, backend: str, one: Routine, named: Sequence[Routine]) -> dict[str, Any]:
    """`named` are all routines of its name, of which a definition means the one that is most like it."""
    catalogue = ports.drafts.catalogue
    used, serving, differs = [], False, []
    for known in catalogue.all_of(RoutineDefinition):
        if (known.backend, known.calls) != (backend, one.name):
            continue
        if differences(known, one):
            differs += [known.name] if nearest(known, named) == one else []
        else:
            words, live = published(ports.drafts, ports.places, environment, known)
            used.append(words)
            serving = serving or live
    return {"name": one.name, "form": one.form, "signature": one.signature, "comment": one.comment, "writes": one.writes,
            "gives_rows": one.gives_rows, "shows_rows": one.shows_rows, "reasons": list(one.reasons), "used": used,
            "serving": serving, "differs": differs,
            "takes": [each.name for each in one.parameters if each.way in ("in", "in-out") and each.declared != CURSOR],
            "gives": [*(each.name for each in one.parameters if each.way != "in" and each.declared != CURSOR),
                      *(each.name for each in one.columns)]}


def _parameter(one: Parameter) -> dict[str, Any]:
    kind = "rows" if one.declared == CURSOR else one.type.base
    return {"name": one.name, "way": one.way, "declared": one.declared, "type": kind, "optional": one.optional,
            "default": one.default, "codes": list(one.codes), "zone": one.type.zone}
