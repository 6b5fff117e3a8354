"""What engines are given beside a binding."""

from collections.abc import Mapping
from dataclasses import dataclass, field

from bricola.adapters.folders import Folders
from bricola.adapters.networks import ANYWHERE, Networks
from bricola.adapters.secrets import Secrets
from bricola.core.kinds.screens.film import Film


@dataclass(frozen=True)
class Surroundings:
    """What a door may need beside the binding: where files may lie and hosts may be, credentials, and the films that may stand in for
    hosts."""

    folders: Folders
    secrets: Secrets
    films: Mapping[str, Film] = field(default_factory=dict)
    networks: Networks = ANYWHERE
