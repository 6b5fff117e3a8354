"""Relays: operations of somebody else's contract, sent on to their service."""

from typing import Annotated, ClassVar, Literal

from bricola.core.definitions.base import Definition, Line, Name, Names, Refers


class RelayDefinition(Definition):
    """Which contract, through which backend. `check` says what is held against the contract on the way; `headers` which header blocks go
    along: those that the contract declares, all, or none. `clean` says out of which messages is taken what an application put beside the
    contract (core/messages/cleaning.py). `writes` names the operations that change something there."""

    kind: ClassVar[str] = "relay"
    name: Name
    """What operations name it by."""
    description: Line = ""
    """What it is."""
    contract: Annotated[Name, Refers("contract")]
    """The contract of somebody else."""
    service: str = ""
    """Which service of it, where it has several."""
    backend: Annotated[Name, Refers("backend")]
    """The service that answers."""
    check: Literal["both", "request", "answer", "none"] = "both"
    """Which messages are held against the contract."""
    clean: Literal["both", "request", "answer", "none"] = "both"
    """Out of which messages is taken what stands beside the contract."""
    headers: Literal["declared", "all", "none"] = "declared"
    """Which header blocks go along."""
    writes: Names = ()
    """The operations that change something there."""
