"""Database servers and the registry that the core's tests share."""

from collections.abc import Iterator
from pathlib import Path

import pytest
import structlog

from bricola.demo.registry import make_registry
from tests.core.databases import Servers

# The default lays out the values of all variables with every exception, which takes seconds.
structlog.configure(processors=[structlog.processors.add_log_level,
                                structlog.dev.ConsoleRenderer(colors=False, exception_formatter=structlog.dev.plain_traceback)])


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
