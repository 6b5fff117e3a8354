"""SOAP services of others."""

from bricola.adapters.engines.soap.checks import SoapServiceCheck
from bricola.adapters.engines.soap.sessions import SoapServiceKind
from bricola.adapters.engines.web.door import web_door
from bricola.core.definitions.engines.soap import ENGINE

DOOR = web_door(ENGINE, SoapServiceKind, SoapServiceCheck)
