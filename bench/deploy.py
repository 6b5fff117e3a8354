"""Deploying a service of 200 operations while calls run, and starting with 50 deployed services.

The demo runs as a process of its own. Eight callers call GetVessel all the time, each on a connection of its own. Reported:
the time of release and deployment, the slowest call before and during them, failed calls; then the time from the start of
the process to its ready file with 50 services deployed.
"""

import argparse
import json
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path
from typing import Any

import httpx

from bricola.client import Client

OPERATIONS = 200
SERVICES = 50


def start(folder: Path) -> tuple[subprocess.Popen[bytes], dict[str, Any], float]:
    ready = folder / "ready.json"
    ready.unlink(missing_ok=True)
    began = time.perf_counter()
    process = subprocess.Popen([Path(sys.executable).with_name("bricola"), "demo", "--port", "0", "--data", folder / "data",
                                "--ready-file", ready, "--no-remember"], stdout=subprocess.DEVNULL)
    while not ready.exists():
        if process.poll() is not None:
            raise SystemExit("the demo ended before it was ready")
        time.sleep(0.01)
    return process, json.loads(ready.read_text()), time.perf_counter() - began


def wide(name: str, operations: int) -> str:
    kinds = ("narrowboat", "barge", "tug", "tanker", "passenger")
    lines = [f"service: {name}\ndescription: Many operations\nnamespace: urn:larkmere:{name.lower()}",
             "access: {registry-clerk: all}\noperations:"]
    lines += [f"  Find{index:03}:\n    runs: vessel.search\n    input:\n      kind: {{given: fixed, value: {kinds[index % 5]}}}\n"
              f"      limit: {{given: default, value: {1 + index % 190}}}" for index in range(operations)]
    return "\n".join(lines) + "\n"


class Load:
    """Callers in threads, each with its latencies."""

    def __init__(self, address: str, token: str, callers: int) -> None:
        self.latencies: list[float] = []
        self.failed = 0
        self._stop = threading.Event()
        self._threads = [threading.Thread(target=self._call, args=(address, token)) for _ in range(callers)]
        for one in self._threads:
            one.start()

    def _call(self, address: str, token: str) -> None:
        with httpx.Client(headers={"Authorization": f"Bearer {token}"}) as http:
            while not self._stop.is_set():
                began = time.perf_counter()
                answer = http.post(f"{address}/GetVessel", json={"registration": "LK-0412"})
                self.latencies.append(time.perf_counter() - began)
                self.failed += answer.status_code != 200

    def taken(self) -> list[float]:
        found, self.latencies = self.latencies, []
        return found

    def stop(self) -> None:
        self._stop.set()
        for one in self._threads:
            one.join()


def worst(latencies: list[float]) -> str:
    return f"{max(latencies) * 1000:.1f} ms worst, {statistics.median(latencies) * 1000:.1f} ms median, {len(latencies)} calls"


def main() -> None:
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("--callers", type=int, default=8)
    args = options.parse_args()
    with tempfile.TemporaryDirectory() as temporary:
        folder = Path(temporary)
        process, facts, _ = start(folder)
        try:
            with Client(facts["url"]) as client:
                client.sign_in("imke", facts["users"][0]["password"])
                client.apply({"wide.yaml": wide("Wide", OPERATIONS)})
                address = next(one["rest"] for one in facts["services"]
                               if (one["environment"], one["service"]) == ("live", "VesselRegistry"))
                token = next(one["token"] for one in facts["callers"] if one["name"] == "harbour-desk")
                load = Load(address, token, args.callers)
                time.sleep(3)
                before = load.taken()
                began = time.perf_counter()
                client.release("Wide")
                released = time.perf_counter()
                during_release = load.taken()
                client.deploy("Wide", "live")
                deployed = time.perf_counter()
                during = load.taken()
                swaps = []
                for _ in range(5):
                    again = time.perf_counter()
                    client.deploy("Wide", "live")
                    swaps.append(time.perf_counter() - again)
                swapping = load.taken()
                load.stop()
                print(f"calls before             {worst(before)}")
                print(f"release, {OPERATIONS} operations  {released - began:.2f} s; calls meanwhile {worst(during_release)}")
                print(f"deployment               {deployed - released:.2f} s; calls meanwhile {worst(during)}")
                print(f"five more deployments    {statistics.median(swaps):.2f} s each; calls meanwhile {worst(swapping)}")
                print(f"failed calls             {load.failed}")
                client.undeploy("Wide", "live")
                files = {f"s{number}.yaml": wide(f"Service{number}", 8) for number in range(SERVICES - 1)}
                client.apply(files)
                for number in range(SERVICES - 1):
                    client.release(f"Service{number}")
                    client.deploy(f"Service{number}", "live")
        finally:
            process.terminate()
            process.wait(20)
        process, _, took = start(folder)
        process.terminate()
        process.wait(20)
        print(f"start with {SERVICES} services   {took:.2f} s to the ready file (the demo's own sign-in included)")


if __name__ == "__main__":
    main()
