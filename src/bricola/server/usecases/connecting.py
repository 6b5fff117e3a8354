"""Connecting: a backend is defined where it is new, and bound in an environment."""

from collections.abc import Callable, Mapping
from typing import Any

from bricola.core.definitions.engines import ENGINES
from bricola.core.definitions.folder import default_path
from bricola.core.definitions.model import BackendDefinition, Binding
from bricola.core.definitions.text import write_definition
from bricola.core.problems import Kind, Problem, ProblemError
from bricola.server.ports.changes import Change, Topic
from bricola.server.usecases import credentials, definitions
from bricola.server.usecases.definitions import Ports

_KEPT = ("pool", "requests", "limits", "devices")  # of a binding that is made anew elsewhere


async def connect(
    ports: Ports, name: str, environment: str, engine: str, binding: dict[str, Any], description: str, author: str, agrees: bool = False,
    parts: Mapping[str, Any] | None = None, first: Callable[[Change], object] | None = None,
) -> dict[str, Any]:
    """Define a backend where it is new, and bind it in an environment. The environment takes it up at once. With `agrees`, as an admin,
    its credential belongs there from now on. `parts` are what its engine adds to the definition of a new one;
    `first` is done in the same change, before the rest: the credential that is bound."""
    began = ports.drafts.revisions
    place = ports.drafts.environment(environment)
    existing = ports.drafts.catalogue.find_backend(name)
    if existing is not None and existing.engine != engine:
        raise ProblemError(
            Problem(
                "connect.engine",
                f"The backend {name} has the engine {existing.engine}.",
                Kind.CONFLICT,
                place=f"backend {name}",
                expected=existing.engine,
                found=engine,
                mend="Choose another name for the new backend.",
            )
        )
    if existing is None and ENGINES[engine].backend is not None and not parts:
        raise ProblemError(Problem("connect.definition", "Such a backend needs a definition of its own before it can be bound.",
                                   place=f"backend {name}",
                                   mend=f"See the host first: bricola terminal {binding.get('address') or 'HOST:PORT'} --engine {engine}; "
                                        "it is connected with what was learned there."))
    backend = existing or BackendDefinition.model_validate(
        {"name": name, "engine": engine, "description": description, **(parts or {})})
    old = place.binding(name)
    kept = {key: getattr(old, key) for key in _KEPT} if old is not None else {}
    said = {key: value for key, value in binding.items() if key not in _KEPT or value}
    bound = Binding(**{**kept, **said, "name": name})
    bound_there = tuple(bound if one.name == name else one for one in place.backends) if old is not None else (*place.backends, bound)
    changed = place.model_copy(update={"backends": bound_there})
    paths = {one.reference: one.path for one in ports.drafts.files}
    files = {paths.get((one.kind, one.name), default_path(one)): write_definition(one) for one in (backend, changed)}
    works = [*((first,) if first is not None else ()), *((credentials.agreeing(ports, files, author),) if agrees else ())]

    def more(change: Change) -> None:
        for work in works:
            work(change)

    based_on = definitions.started_from(began, [(one.kind, one.name) for one in (backend, changed)])
    made = await definitions.apply(ports, files, author, based_on=based_on, also=[Topic.CREDENTIALS] if works else [], more=more)
    return {"changes": [definitions.plain_change(one) for one in made]}
