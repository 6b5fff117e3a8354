"""Relays in a running service: what the other side itself answers, for people who test."""

from bricola.core.kinds.relays.kind import RELAY
from bricola.server.kinds.kind import KindServer
from bricola.server.kinds.relays.outside import ask

RELAYS = KindServer(RELAY, outside=ask, nothing_beside=("What the other side keeps is not for Bricola to read.",
                                                        "Lay its own answer beside ours: bricola call … --outside"))
