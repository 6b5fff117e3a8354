"""Operations of VesselRegistry through the real service, side by side with the floor server, as ratios at 1, 16 and 64
connections.

The floor is a separate kit; its folder is given by --floor or the environment variable BRICOLA_FLOOR. It starts its own
server, alternates the two sides in one run, and prints req/s and CPU per request of both.
"""

import argparse
import base64
import json
import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

BODIES = {
    "get": "<v:GetVessel><v:registration>LK-0412</v:registration></v:GetVessel>",
    "find20": "<v:FindVessels><v:status>active</v:status><v:limit>20</v:limit></v:FindVessels>",
    "find200": "<v:FindVessels><v:status>active</v:status><v:limit>200</v:limit></v:FindVessels>",
}
ENVELOPE = """<?xml version="1.0" encoding="UTF-8"?>
<soapenv:Envelope xmlns:soapenv="http://schemas.xmlsoap.org/soap/envelope/" xmlns:v="urn:larkmere:vessel-registry">
  <soapenv:Header/>
  <soapenv:Body>
    {}
  </soapenv:Body>
</soapenv:Envelope>
"""


def main() -> None:
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("--floor", type=Path, default=os.environ.get("BRICOLA_FLOOR", "../shared/bench"))
    options.add_argument("--operation", choices=BODIES, default="get")
    options.add_argument("--connections", default="1,16,64")
    options.add_argument("--seconds", default="1")
    options.add_argument("--rounds", default="9")
    options.add_argument("--level", default="lookup")
    options.add_argument("--json", default="")
    args = options.parse_args()
    if not (args.floor / "compare.py").is_file():
        options.error(f"no compare.py in {args.floor}: name the floor's folder with --floor")
    with tempfile.TemporaryDirectory() as folder:
        ready = Path(folder, "ready.json")
        demo = subprocess.Popen([Path(sys.executable).with_name("bricola"), "demo", "--port", "0", "--data", f"{folder}/data",
                                 "--ready-file", ready, "--no-remember"], stdout=subprocess.DEVNULL)
        try:
            while not ready.exists():
                if demo.poll() is not None:
                    raise SystemExit("the demo ended before it was ready")
                time.sleep(0.1)
            facts = json.loads(ready.read_text())
            caller = next(one for one in facts["callers"] if one["name"] == "harbour-desk")
            token = base64.b64encode(f"{caller['name']}:{caller['token']}".encode()).decode()
            address = next(one["soap"] for one in facts["services"] if one["environment"] == "live" and one["service"] == "VesselRegistry")
            request = Path(folder, "request.xml")
            request.write_text(ENVELOPE.format(BODIES[args.operation]))
            command = [sys.executable, args.floor / "compare.py", "--url", address, "--request", request, "--level", args.level,
                       "--header", f"Authorization: Basic {token}", "--pid", str(facts["pid"]), "--seconds", args.seconds,
                       "--connections", args.connections, "--rounds", args.rounds]
            subprocess.run(command + (["--json", args.json] if args.json else []), check=True)
        finally:
            demo.terminate()
            demo.wait(15)


if __name__ == "__main__":
    main()
