"""Database servers that the core's tests share."""

from collections.abc import Iterator

import pytest

from tests.core.databases import Servers


@pytest.fixture(scope="session")
def servers() -> Iterator[Servers]:
    found = Servers()
    yield found
    found.close()
