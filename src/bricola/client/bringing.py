"""What is brought in from elsewhere, through the management API."""

import base64
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, cast

from bricola.client.transport import ApiConnection, Json, raise_problems, send

if TYPE_CHECKING:
    from bricola.api import packages as api
    from bricola.api import requests as asked
    from bricola.api import workflows


class BringingCalls(ApiConnection):
    """The part of the management API about processes of others, packages and integration requests."""

    def take_process(self, files: Mapping[str, bytes], service: str, main: str = "", role: str = "",
                     choices: Mapping[str, str] | None = None, accept: bool = False, plan_only: bool = False) -> "workflows.TakenProcess":
        """Make drafts of a process in WS-BPEL 2.0 with its WSDL. `choices` says what its open ends become, by their ids; `accept` takes the
        proposals for all others."""
        body = {"files": encoded(files), "service": service, "main": main, "role": role, "choices": dict(choices or {}), "accept": accept,
                "plan_only": plan_only}
        return cast("workflows.TakenProcess", self._ask("POST", "/processes", json=body))

    def packages(self) -> "list[api.KeptPackage]":
        """The packages that are kept, with their parameters and what came out of them."""
        return cast("list[api.KeptPackage]", self._ask("GET", "/packages"))

    def package(self, name: str, version: str) -> bytes:
        """A package that is kept, as its zip."""
        response = send(self._http, "GET", f"/packages/{name}/{version}")
        raise_problems(response)
        return response.content

    def keep_package(self, content: bytes) -> "api.ToldPackage":
        """Keep a package, to be used as often as one likes."""
        return cast("api.ToldPackage", self._ask("POST", "/packages", json={"content": base64.b64encode(content).decode()}))

    def drop_package(self, name: str, version: str) -> None:
        self._ask("DELETE", f"/packages/{name}/{version}")

    def make_package(self, name: str, version: str, definitions: Sequence[str], description: str = "",
                     parameters: Mapping[str, Mapping[str, str]] | None = None, alone: bool = False,
                     keep: bool = False) -> "api.MadePackage":
        """A package of drafts ('kind name') and of what they need; `parameters` are by the word that they stand for."""
        body = {"name": name, "version": version, "definitions": list(definitions), "description": description,
                "parameters": {word: dict(one) for word, one in (parameters or {}).items()}, "alone": alone, "keep": keep}
        return cast("api.MadePackage", self._ask("POST", "/packages/make", json=body))

    def plan_package(self, content: bytes = b"", name: str = "", version: str = "", values: Mapping[str, str] | None = None,
                     choices: Mapping[str, str] | None = None) -> "api.TakenPackage":
        """What taking in a zip, or a package that is kept, would do; with every mismatch."""
        return cast("api.TakenPackage", self._ask("POST", "/packages/plan", json=_wish(content, name, version, values, choices)))

    def take_package(self, content: bytes = b"", name: str = "", version: str = "", values: Mapping[str, str] | None = None,
                     choices: Mapping[str, str] | None = None, align: bool = False) -> "api.TakenPackage":
        """Make drafts of its parts. `align` takes the proposals for all mismatches that `choices` does not name."""
        return cast("api.TakenPackage", self._ask("POST", "/packages/take",
                                                json=_wish(content, name, version, values, choices) | {"align": align}))

    def requests(self) -> "list[asked.Request]":
        """The integration requests that were taken in."""
        return cast("list[asked.Request]", self._ask("GET", "/requests"))

    def request(self, name: str) -> "asked.RequestDetail":
        """One, with what was taken over, what is locked, and what it leaves open."""
        return cast("asked.RequestDetail", self._ask("GET", f"/requests/{name}"))

    def take_request(self, text: str, files: Mapping[str, bytes] | None = None, plan_only: bool = False) -> "asked.TakenRequest":
        """Make drafts of a request in YAML or JSON; `files` are the contracts that it names."""
        body = {"text": text, "files": encoded(files or {}), "plan_only": plan_only}
        return cast("asked.TakenRequest", self._ask("POST", "/requests", json=body))


def _wish(content: bytes, name: str, version: str, values: Mapping[str, str] | None, choices: Mapping[str, str] | None) -> Json:
    return {"content": base64.b64encode(content).decode(), "name": name, "version": version, "values": dict(values or {}),
            "choices": dict(choices or {})}


def encoded(files: Mapping[str, bytes]) -> dict[str, str]:
    """Files as they go through JSON."""
    return {path: base64.b64encode(one).decode() for path, one in files.items()}
