"""Objects in a running service: an editor, drafts from tables, keys to pick, and rows beside answers."""

from bricola.core.kinds.objects.kind import OBJECT
from bricola.server.kinds.kind import KindServer
from bricola.server.kinds.objects import context_feed, discovery_routes, routes
from bricola.server.kinds.objects.comparing import beside
from bricola.server.kinds.objects.emptiness import empty
from bricola.server.kinds.objects.facts import empty_fields
from bricola.server.kinds.objects.records import keys

OBJECTS = KindServer(OBJECT, (routes.router, discovery_routes.router, context_feed.router), facts=empty_fields, keys=keys, beside=beside,
                     why_empty=empty)
