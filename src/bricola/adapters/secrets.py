"""How adapters come by what Bricola presents to a backend. The vault of the service is behind it."""

from dataclasses import dataclass, field
from typing import Protocol


@dataclass(frozen=True, slots=True)
class Secret:
    """One version of a credential, opened. `kind` is password, token or certificate."""

    kind: str
    user: str = ""
    value: str = field(default="", repr=False)  # the password, the token, or the private key (PEM)
    certificate: str = ""  # PEM


class Presented:
    """One credential as a session presents it: asked for at each sign-on, and never kept."""

    def __init__(self, secrets: "Secrets", credential: str) -> None:
        self._secrets, self._credential = secrets, credential

    def versions(self) -> "list[Secret]":
        return self._secrets.secrets(self._credential)

    def used(self) -> None:
        self._secrets.used(self._credential)


class Secrets(Protocol):
    """Raises ProblemError when there is no such credential, or when it has expired."""

    def secrets(self, credential: str) -> list[Secret]:
        """The versions that may be presented now, the newest first; more than one while a rotation overlaps."""
        ...

    def used(self, credential: str) -> None:
        """A sign-on with it succeeded just now."""
        ...
