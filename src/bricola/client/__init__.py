"""The Python client library: the management API, and the operations of deployed services.

    from bricola.client import Client, ServiceClient

    with Client("http://127.0.0.1:8480", token=…) as client:
        client.deploy("VesselRegistry", "rehearsal")

    with ServiceClient("http://127.0.0.1:8480/rest/live/VesselRegistry", caller_token=…) as registry:
        vessel = registry.call("GetVessel", registration="LK-0412")["vessel"]
"""

from bricola.client.management import Client
from bricola.client.services import FaultError, ServiceClient
from bricola.core.problems import Problem, ProblemError

__all__ = ["Client", "FaultError", "Problem", "ProblemError", "ServiceClient"]
