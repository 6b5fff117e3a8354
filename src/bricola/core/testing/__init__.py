"""Tests of services: what cases send, what must come back, and how many of them are run. Nothing here knows how a request travels: whoever
runs a suite brings a door (see `running`)."""
