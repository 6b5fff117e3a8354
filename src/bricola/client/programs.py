"""Programs and their copybooks, and who is affected by what is below."""

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any, cast

from bricola.client.transport import ApiConnection

if TYPE_CHECKING:
    from bricola.api import impact, programs


class ProgramCalls(ApiConnection):
    """The part of the management API about programs."""

    def impact(self, of: str, environments: Sequence[str] = ()) -> "impact.Impact":
        """Who is affected by a backend, a source, a copybook or a contract, and what does not fit what is there now."""
        return cast("impact.Impact", self._ask("GET", "/impact", params={"of": of, "environment": list(environments)}))

    def copybook_layout(self, text: str, **said: Any) -> "programs.Layouts":
        """Where each item of a copybook lies; `said` are source_format, members, replacing and held."""
        return cast("programs.Layouts", self._ask("POST", "/copybooks/layout", json={"text": text, **said}))

    def spread_record(self, text: str, data: bytes, **said: Any) -> "programs.SpreadRecord":
        """A record byte by byte, each item with its place and its value."""
        return cast("programs.SpreadRecord", self._ask("POST", "/copybooks/spread", json={"text": text, "hex": data.hex(), **said}))

    def take_copybook(self, name: str, text: str, save: bool = False, **said: Any) -> "programs.TakenCopybook":
        """Bring in a copybook: what differs from the one that is kept, and who is affected; with `save` it becomes a draft."""
        return cast("programs.TakenCopybook", self._ask("PUT", f"/copybooks/{name}", json={"text": text, "save": save, **said}))

    def hosted_programs(self, environment: str, backend: str, search: str = "") -> "list[programs.HostedProgram]":
        """The programs that a host offers."""
        path = f"/hosted-programs/{environment}/{backend}"
        return cast("list[programs.HostedProgram]", self._ask("GET", path, params={"search": search}))

    def draft_program(self, name: str, backend: str, calls: str, areas: Sequence[Mapping[str, Any]],
                      copybooks: Sequence[Mapping[str, Any]] = (), save: bool = False, **said: Any) -> "programs.ProgramDraft":
        """Definitions of a program from its areas; `said` are inputs, outputs, held, writes, service, operation, roles, description."""
        body = {"name": name, "backend": backend, "calls": calls, "areas": list(areas), "copybooks": list(copybooks), "save": save, **said}
        return cast("programs.ProgramDraft", self._ask("POST", "/programs", json=body))
