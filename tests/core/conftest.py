"""Database servers and the registry that the core's tests share."""

from collections.abc import Iterator
from pathlib import Path

import pytest

from bricola.demo.registry import make_registry
from tests.core.databases import Servers


@pytest.fixture(scope="session")
def servers() -> Iterator[Servers]:
    found = Servers()
    yield found
    found.close()


@pytest.fixture(scope="session")
def registry(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The demo's registry database."""
    path = tmp_path_factory.mktemp("registry") / "registry.db"
    make_registry(path)
    return path
