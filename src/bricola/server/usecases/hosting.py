"""What an environment can host: kinds of source and engines, with the reason where it cannot."""

from typing import Any

from bricola.adapters.engines import able
from bricola.core.definitions.engines import ENGINES
from bricola.core.definitions.engines.engine import Family
from bricola.core.definitions.model import EnvironmentDefinition
from bricola.core.kinds.registry import kinds


def hosting(environment: EnvironmentDefinition) -> list[dict[str, Any]]:
    """Every kind and every engine. An engine needs its adapter with all that it loads; a kind needs at least one engine of the families
    that it works on, and whatever else it says."""
    missing = able()
    reasons = {word: missing.get(word, "this installation has no adapter for it") for word in ENGINES}
    engines = [{"what": "engine", "word": word, "title": one.title, "able": not reasons[word], "reason": reasons[word]}
               for word, one in ENGINES.items()]
    reachable: set[Family] = {one.family for word, one in ENGINES.items() if not reasons[word]}
    found = []
    for kind in kinds():
        lacking = kind.lacks(environment) or (
            f"no {kind.runs_on} can be reached from here" if kind.runs_on is not None and kind.runs_on not in reachable else "")
        found.append({"what": "kind", "word": kind.word, "title": kind.title, "able": not lacking, "reason": lacking})
    return [*found, *engines]
