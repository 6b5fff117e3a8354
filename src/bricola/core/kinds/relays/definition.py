"""Relays: operations of somebody else's contract, sent on to their service."""

from typing import ClassVar, Literal

from bricola.core.definitions.base import Definition, Line, Name, Names


class RelayDefinition(Definition):
    """Which contract, through which backend. `check` says what is held against the contract on the way; `headers` which header blocks go
    along: those that the contract declares, all, or none. `clean` says out of which messages is taken what an application put beside the
    contract (core/messages/cleaning.py). `writes` names the operations that change something there."""

    kind: ClassVar[str] = "relay"
    name: Name
    description: Line = ""
    contract: Name
    service: str = ""
    backend: Name
    check: Literal["both", "request", "answer", "none"] = "both"
    clean: Literal["both", "request", "answer", "none"] = "both"
    headers: Literal["declared", "all", "none"] = "declared"
    writes: Names = ()
