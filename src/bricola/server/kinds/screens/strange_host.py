"""A terminal of a host that nobody has defined, at an address; and from what a person did there to a backend with its way in."""

import re
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from dataclasses import dataclass, replace
from typing import Any, Protocol

from bricola.adapters.engines.terminals.sessions import TerminalKind
from bricola.api.words import CredentialKind
from bricola.core.definitions.engines import ENGINES
from bricola.core.definitions.engines.engine import Family
from bricola.core.definitions.engines.terminals import KnownScreen, Leave, Mark, TerminalHost
from bricola.core.definitions.model import BackendDefinition, Binding
from bricola.core.kinds.screens.film import Shot
from bricola.core.kinds.screens.learning import Learned, learn
from bricola.core.problems import Kind, Problem, ProblemError, shown
from bricola.server.kinds.screens.live_terminal import LiveTerminal, dialled
from bricola.server.usecases import credentials
from bricola.server.usecases.connecting import connect
from bricola.server.usecases.definitions import Ports as DefinitionPorts


class Ports(DefinitionPorts, credentials.Ports, Protocol):
    """What connecting needs, and the store of credentials."""


_ITSELF = "this host"  # stands for the name that it has not yet
_NAME = re.compile(r"[A-Za-z][A-Za-z0-9_-]{0,79}")  # as names of definitions are
_NOWHERE = KnownScreen(name="nowhere", marks=(Mark(text="\uffff"),))  # a definition needs a screen; no host shows this one


@dataclass(frozen=True)
class Strange:
    """A host that is somewhere, and how a terminal talks to it. `model` of a 3270, `wide` of a 5250."""

    environment: str
    address: str
    engine: str
    tls: str = "off"
    device: str = ""
    code_page: str = "cp037"
    model: int = 2
    wide: bool = False

    @property
    def settings(self) -> dict[str, Any]:
        """What a definition says of the terminal itself."""
        return {"model": self.model, "wide": self.wide, "code_page": self.code_page}

    @property
    def binding(self) -> dict[str, Any]:
        return {"address": self.address, **({"tls": self.tls} if self.tls != "off" else {}),
                **({"devices": [self.device]} if self.device else {})}


@asynccontextmanager
async def strange_terminal(ports: Ports, host: Strange, role: str) -> AsyncIterator[LiveTerminal]:
    """A terminal that nobody signed on, with its walk kept. Raises ProblemError."""
    place = ports.drafts.environment(host.environment)
    about = ENGINES.get(host.engine)
    terminals = tuple(word for word, one in ENGINES.items() if one.family is Family.TERMINAL_HOST)
    if about is None or about.word not in terminals:
        raise ProblemError(Problem("terminal.engine", "No terminal talks to such a host.", place="engine", found=shown(host.engine),
                                   choices=terminals))
    if place.protected and role != "admin":
        raise ProblemError(Problem("terminal.protected-environment", f"{place.name} is protected: only an admin opens a terminal there.",
                                   Kind.PERMISSION, expected="the role admin", found=role, mend="Take another environment."))
    for setting, said, known in (("model", str(host.model), ("2", "3", "4", "5")), ("tls", host.tls, ("off", "encrypt", "verify"))):
        if said not in known:
            raise ProblemError(Problem("terminal.setting", f"No terminal has this {setting}.", place=setting, found=shown(said),
                                       choices=known))
    leave = Leave(press=("PF3",))
    definition = BackendDefinition.model_validate({
        "name": "strange", "engine": host.engine,
        "terminal": TerminalHost.model_validate({**host.settings, "start": _NOWHERE.name, "screens": (_NOWHERE,), "leave": leave})})
    binding = Binding.model_validate({"name": definition.name, **host.binding})
    kind = ports.places.kind_at(definition, binding, place.name)
    assert isinstance(kind, TerminalKind)
    session = await dialled(kind, definition, binding)
    live = LiveTerminal(session, definition, ())
    live.walk = []
    try:
        yield live
    finally:
        await kind.close(session)


def opened(live: LiveTerminal, host: Strange) -> dict[str, Any]:
    """The first word of a terminal of such a host."""
    return {**live.opened(False), "backend": _ITSELF, "start": "", "address": host.address}


def learned(live: LiveTerminal, host: Strange) -> Learned:
    """What the walk says so far. Raises ProblemError."""
    assert live.walk is not None
    hidden = {id(one): {field.start for field in one.before.inputs if field.hidden} for one in live.walk}
    told = [replace(one, typed={at: None if at in hidden[id(one)] else text for at, text in one.typed.items() if text})
            for one in live.walk]
    return learn(told, live.session.screen, host.settings, sorted(live.session.terminal.keys))


async def connect_learned(ports: Ports, live: LiveTerminal, host: Strange, name: str, credential: str, author: str,
                          is_admin: bool) -> dict[str, Any]:
    """A backend of what was learned, bound where the host is, with a credential of what was typed at the sign-on, in one change: the
    password goes from the terminal into the sealed store, and to nobody's eyes. Only admins bring a secret in, as everywhere. Raises
    ProblemError; no backend and no credential that is there is taken."""
    assert live.walk is not None
    for word in (name, credential or name):
        if not _NAME.fullmatch(word):
            raise ProblemError(Problem("learning.name", "This cannot be a name.", place="name", found=shown(word),
                                       expected="up to 80 letters, digits, - and _, with a letter first"))
    if ports.drafts.catalogue.find_backend(name) is not None:
        raise ProblemError(Problem("learning.taken", f"There is a backend {name} already.", Kind.CONFLICT, place="name", found=name,
                                   mend="Take another name for this host."))
    found = learned(live, host)
    binding, first = dict(host.binding), None
    if found.password is not None:
        if not is_admin:
            raise ProblemError(Problem("credential.admin", "Only an admin keeps what was typed as a credential.", Kind.PERMISSION,
                                       expected="the role admin", mend="Let an admin connect the host."))
        binding["credential"] = credential or name
        first = credentials.adding(ports, binding["credential"], CredentialKind.PASSWORD, _typed(live.walk, found.user),
                                   _typed(live.walk, found.password), "", None, "Typed at the host's sign-on", author)
    made = await connect(ports, name, host.environment, host.engine, binding, f"The host at {host.address}", author, is_admin,
                         {"terminal": found.host}, first)
    return {"type": "learned", "backend": name, "environment": host.environment, "credential": binding.get("credential", ""),
            "start": found.host.start, "screens": [one.name for one in found.host.screens], "notes": list(found.notes), **made}


def _typed(walk: list[Shot], place: tuple[int, int] | None) -> str:
    return walk[place[0]].typed.get(place[1]) or "" if place is not None else ""
