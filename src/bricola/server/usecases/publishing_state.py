"""What is published of something that a backend holds, and whether it answers anywhere."""

from bricola.core.definitions.base import Definition
from bricola.server.ports.drafts import Drafts
from bricola.server.ports.places import Places


def published(drafts: Drafts, places: Places, environment: str, definition: Definition) -> tuple[str, bool]:
    """A definition with the services whose drafts publish it, in words; and whether one of their operations is live in an environment."""
    words, serving = [], False
    for service in drafts.catalogue.services():
        names = [one.name for one in service.operations if one.source == (definition.kind, definition.name)]
        if names:
            words.append(service.name)
            live = places.find(environment, service.segment)
            serving = serving or (live is not None and any(one in live.by_name for one in names))
    return f"{definition.kind} {definition.name}" + (f", in {', '.join(words)}" if words else ", not published"), serving
