"""How fast suites run: reads of one case beside the same calls by a client on its own, generated tests, and a gate with many cases.

Everything runs against a demo of its own that this program starts; each comparison is in the same run, in alternating rounds.
"""

import argparse
import json
import statistics
import subprocess
import sys
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import httpx

from bricola.client import Client

COMMAND = Path(sys.executable).with_name("bricola")
ENVELOPE = ('<Envelope xmlns="http://schemas.xmlsoap.org/soap/envelope/"><Body><GetVessel xmlns="urn:larkmere:vessel-registry">'
            "<registration>LK-{:04}</registration></GetVessel></Body></Envelope>")


def suite(name: str, count: int) -> str:
    """As many reads, each with three expectations."""
    cases = "".join(f"  c{number}:\n    operation: GetVessel\n    values: {{registration: LK-{number:04}}}\n    expects:\n      values:\n"
                    f"        vessel.registration: LK-{number:04}\n        vessel.lengthM: {{between: [1, 200]}}\n"
                    "        vessel.changeToken: {present: true}\n" for number in range(1, count + 1))
    return f"test-suite: {name}\nservice: VesselRegistry\ncaller: harbour-desk\ncases:\n{cases}"


def run(client: Client, **asked: object) -> dict[str, object]:
    """One run until its end."""
    number = client.begin_tests("rehearsal", **asked)["number"]  # type: ignore[arg-type]
    while (found := client.test_run(number, 10**9))["state"] == "running":
        time.sleep(0.02)
    return dict(found)


def by_hand(url: str, token: str, count: int, at_once: int) -> float:
    """The same calls by a client that looks at nothing but the status; the seconds that it took."""
    headers = {"Content-Type": "text/xml", "Authorization": f"Bearer {token}"}
    with httpx.Client(headers=headers) as http, ThreadPoolExecutor(at_once) as threads:
        started = time.perf_counter()
        for reply in threads.map(lambda number: http.post(url, content=ENVELOPE.format(number)), range(1, count + 1)):
            assert reply.status_code == 200
        return time.perf_counter() - started


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--cases", type=int, default=500)
    parser.add_argument("--rounds", type=int, default=5)
    given = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        ready = Path(folder) / "ready.json"
        demo = subprocess.Popen([COMMAND, "demo", "--port", "0", "--data", f"{folder}/data", "--ready-file", ready],
                                env={"HOME": folder, "PATH": "/usr/bin:/bin"}, stdout=subprocess.DEVNULL)
        try:
            while not ready.exists():
                time.sleep(0.1)
            measure(json.loads(ready.read_text()), given.cases, given.rounds)
        finally:
            demo.terminate()
            demo.wait(20)


def measure(facts: dict[str, object], count: int, rounds: int) -> None:
    users, callers = facts["users"], facts["callers"]
    assert isinstance(users, list)
    assert isinstance(callers, list)
    token = next(one["token"] for one in callers if one["name"] == "harbour-desk")
    with Client(str(facts["url"])) as client:
        client.sign_in(users[0]["name"], users[0]["password"])
        client.apply({"suites/reads.yaml": suite("reads", count)})
        soap = f"{facts['url']}/soap/rehearsal/VesselRegistry"
        ours, theirs = [], []
        for _ in range(rounds):
            found = run(client, suites=["reads"])
            assert found["failed"] == 0
            ours.append(float(str(found["ended_at"])) - float(str(found["begun_at"])))
            theirs.append(by_hand(soap, token, count, 8))
        ratios = [one / other for one, other in zip(ours, theirs, strict=True)]
        mine, others = (f"{count / statistics.median(one) * 60:,.0f}" for one in (ours, theirs))
        print(f"{count} reads as cases: {mine} cases a minute (median of {rounds}); the same calls by a client: {others}; "
              f"ratio of time {min(ratios):.2f} / {statistics.median(ratios):.2f} / {max(ratios):.2f}")
        for service in ("VesselRegistry", "TonnageReport", "PassageBooking", "LockLedger", "GaugeReadings"):
            found = run(client, services=[service], generated=True)
            assert found["failed"] == 0
            took = float(str(found["ended_at"])) - float(str(found["begun_at"]))
            operations = len(client.operations(service, "rehearsal"))
            print(f"generated tests of {service}: {found['passed']} in {took:.2f} s, {took / operations:.2f} s an operation")
        client.apply({"suites/reads.yaml": suite("reads", 100), "suites/vessel-registry.yaml":
                      "test-suite: vessel-registry\nservice: VesselRegistry\n"})
        client.release("VesselRegistry", "with 100 cases")
        started = time.perf_counter()
        client.deploy("VesselRegistry", "live")
        first = time.perf_counter() - started
        started = time.perf_counter()
        client.deploy("VesselRegistry", "live")
        print(f"deployment through a gate of 100 cases: {first:.2f} s; again, by its young run: {time.perf_counter() - started:.2f} s")


if __name__ == "__main__":
    main()
