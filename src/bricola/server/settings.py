"""What a service is started with."""

from dataclasses import dataclass
from pathlib import Path


@dataclass(frozen=True)
class Settings:
    """`data` holds the stores; `public` is the base address that callers reach, when no environment says its own;
    `key_file` holds the key of the vault, in the data folder when nothing is said."""

    data: Path
    host: str = "127.0.0.1"
    port: int = 8480
    public: str = ""
    organisation: str = ""
    key_file: Path | None = None
    networks: tuple[str, ...] = ()  # besides public ones, that contracts may be fetched from
    backend_networks: tuple[str, ...] = ()  # where backends may be; anywhere when none is named
    call_backs: tuple[str, ...] = ()  # addresses, with all below them, that callers may have told of the end of a job
    backend_folders: tuple[Path, ...] = ()  # where files of backends may lie; the data folder when none is named
