"""How long tests take: short and seeded in `make test`, at length in `make endurance`."""

import os

from hypothesis import settings

AT_LENGTH = bool(os.environ.get("BRICOLA_AT_LENGTH"))

# How long an example takes says more of the machine than of the code, so nothing has a deadline.
settings.register_profile("short", deadline=None, derandomize=True)
settings.register_profile("at length", deadline=None, max_examples=3000)


def often(short: int, at_length: int) -> int:
    """How often something is tried."""
    return at_length if AT_LENGTH else short
