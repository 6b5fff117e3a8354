"""Queries in a running service."""

from bricola.core.kinds.queries.kind import QUERY
from bricola.server.kinds.kind import KindServer
from bricola.server.kinds.queries.emptiness import empty

QUERIES = KindServer(QUERY, why_empty=empty, nothing_beside=("The rows of a query are worked out; no one row stands behind them.",
                                            "Call the operation that lists the details behind them."))
