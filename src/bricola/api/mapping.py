"""Maps between a contract of somebody else and what implements it, in the management API."""

from typing_extensions import TypedDict

from bricola.api.base import Problem, closed
from bricola.api.definitions import Change


@closed
class MapPart(TypedDict):
    """One part to fill. `source` fills it, by a line, the same name, or the contract's own value; `fits` could, the likeliest first."""

    path: str
    type: str
    required: bool
    list: bool
    source: str
    by: str
    fits: "list[str]"


@closed
class Map(TypedDict):
    """`missing` are parts that are required and filled by nothing."""

    parts: list[MapPart]
    missing: list[str]


@closed
class Implementation(TypedDict):
    """How an operation of the contract is implemented: `map_in` fills what it runs, `map_out` the answer. `offers` is what others run."""

    service: str
    operation: str
    runs: str
    same_contract: bool
    map_in: Map
    map_out: Map
    problems: list[Problem]
    offers: list[str]
    changes: list[Change]
