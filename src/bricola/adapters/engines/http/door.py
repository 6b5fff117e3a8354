"""HTTP services of others."""

from bricola.adapters.engines.http.checks import HttpServiceCheck
from bricola.adapters.engines.web.door import web_door
from bricola.adapters.engines.web.sessions import WebServiceKind
from bricola.core.definitions.engines.http import ENGINE

DOOR = web_door(ENGINE, WebServiceKind, HttpServiceCheck)
