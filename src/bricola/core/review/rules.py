"""The table of all rules, assembled from the areas of the review from the kinds of source and from the engines."""

from collections.abc import Mapping

from bricola.core.definitions.engines import ENGINES
from bricola.core.definitions.findings import Area, Rule
from bricola.core.kinds.registry import kinds
from bricola.core.review import capacity, contract, environments, security, service


def all_rules() -> Mapping[str, Rule]:
    """By code: area by area, in each area what concerns every service first, then what a kind adds."""
    tables = [one.RULES for one in (service, contract, environments, security, capacity)] + [one.rules for one in kinds()]
    tables += [one.rules for one in ENGINES.values()]
    found = [rule for table in tables for rule in table.values()]
    order = list(Area)
    return {one.code: one for one in sorted(found, key=lambda one: order.index(one.area))}
