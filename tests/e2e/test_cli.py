"""The command line as a process."""

import json
import os
import re
import subprocess
import threading
from pathlib import Path

import httpx
import pytest

from bricola.client import Client
from bricola.core.definitions.engines import ENGINES
from tests.conftest import COMMAND, Demo, copied_folder


def test_call_prints_a_table_and_raw_shows_both_envelopes(demo: Demo) -> None:
    done = demo.run("call", "live", "VesselRegistry", "GetVessel", "registration=LK-0412")
    assert done.returncode == 0, done.stderr
    assert re.search(r"registration +LK-0412", done.stdout)
    assert re.search(r"name +Brave Teal", done.stdout)
    assert "as harbour-desk" in done.stdout
    raw = demo.run("call", "live", "VesselRegistry", "GetVessel", "registration=LK-0412", "--raw", "--soap", "1.2").stdout
    assert raw.count("<soap:Envelope") == 2
    assert re.search(r"status 200, \d+ bytes, [\d.]+ ms", raw)
    rows = json.loads(demo.run("call", "live", "VesselRegistry", "FindVessels", "kind=tug", "limit=3", "--json").stdout)
    assert len(rows["answer"]["vessel"]) == 3


def test_faults_exit_with_1_and_say_why(demo: Demo) -> None:
    for words, expected in (
        (("registration=LK-9999",), "declared as"), (("registration=X",), r"text in the form LK-, then 4 digits (LK-\d{4})"),
        (("regis=1",), "element.unknown"), (("registration=LK-0412", "--as", "tideway-portal"), "may not call"),
    ):
        done = demo.run("call", "live", "VesselRegistry", "GetVessel", *words)
        assert done.returncode == 1
        assert expected in done.stderr
    wrong = demo.run("call", "live", "VesselRegistry", "GetVessel", "registration")
    assert "name=value" in wrong.stderr
    unknown = demo.run("call", "live", "VesselRegistri", "GetVessel")
    assert "VesselRegistry" in unknown.stderr


def test_lists_contract_sample_and_json_everywhere(demo: Demo, tmp_path: Path) -> None:
    assert demo.address("live") in demo.run("services").stdout
    assert demo.run("contract", "VesselRegistry", "-e", "live").stdout == httpx.get(demo.address() + "?wsdl").text
    sample = demo.run("sample", "VesselRegistry", "GetVessel", "-e", "live")
    file = tmp_path / "sample.xml"
    file.write_text(sample.stdout)
    assert demo.run("call", "live", "VesselRegistry", "GetVessel", "--envelope", str(file)).returncode == 0
    curl = demo.run("sample", "VesselRegistry", "GetVessel", "-e", "live", "--form", "curl").stdout
    told = subprocess.run(curl, shell=True, capture_output=True, text=True, timeout=120,
                          env={**os.environ, "BRICOLA_TOKEN": demo.token("toll-audit")})
    assert "<name>Brave Teal</name>" in told.stdout
    assert "<vessel>" in demo.run("sample", "VesselRegistry", "GetVessel", "--form", "answer").stdout
    assert "-e ENVIRONMENT" in demo.run("sample", "VesselRegistry", "GetVessel", "--form", "curl").stderr
    assert "GetVessel" in demo.run("calls").stdout
    for words in (("services",), ("calls",), ("callers",), ("review", "VesselRegistry", "live"), ("contract", "VesselRegistry"),
                  ("sample", "VesselRegistry", "FindVessels"), ("export", str(tmp_path / "json"))):
        assert json.loads(demo.run(*words, "--json").stdout) is not None


def test_export_edit_apply_release_deploy_undeploy(demo: Demo, tmp_path: Path) -> None:
    folder = tmp_path / "defs"
    assert demo.run("export", str(folder)).returncode == 0
    service = folder / "registry" / "VesselRegistry.yaml"
    before = service.read_text()
    assert demo.run("apply", str(folder)).stdout.strip().endswith("unchanged.")
    service.write_text(before.replace("owner: Registry office", "owner: Harbour office"))
    unsure = demo.run("apply", str(folder))
    assert unsure.returncode == 1
    assert "--yes" in unsure.stderr
    assert "~ changed" in demo.run("apply", str(folder), "--yes").stdout
    assert "edited, not released" in demo.run("services").stdout
    assert json.loads(demo.run("release", "VesselRegistry", "-n", "Owner", "--json").stdout)["release"] >= 2
    assert "Deployed VesselRegistry" in demo.run("deploy", "VesselRegistry", "rehearsal").stdout
    assert "not live" in demo.run("undeploy", "VesselRegistry", "rehearsal").stdout
    assert demo.run("deploy", "VesselRegistry", "rehearsal", "--release", "1").returncode == 0
    service.write_text("service: VesselRegistry\nonwer: x\n")
    broken = demo.run("apply", str(folder), "--yes")
    assert broken.returncode == 1
    assert "registry/VesselRegistry.yaml:2" in broken.stderr
    assert "Did you mean owner?" in broken.stderr
    service.write_text(before)
    assert demo.run("apply", str(folder), "--yes").returncode == 0


def test_without_a_sign_in_or_a_service_the_mend_is_told(demo: Demo, tmp_path: Path) -> None:
    environ = {**os.environ, "XDG_CONFIG_HOME": str(tmp_path)}
    alone = subprocess.run([COMMAND, "services"], env=environ, capture_output=True, text=True, timeout=120)
    assert alone.returncode == 1
    assert "bricola signin" in alone.stderr
    signed = subprocess.run([COMMAND, "signin", demo.url, "-u", "teo"], env=environ, input=demo.password("teo") + "\n",
                            capture_output=True, text=True, timeout=120)
    assert "as teo (integrator)" in signed.stdout
    assert (tmp_path / "bricola" / "signins.json").stat().st_mode & 0o77 == 0
    assert subprocess.run([COMMAND, "services"], env=environ, capture_output=True, timeout=120).returncode == 0
    dead = subprocess.run([COMMAND, "services", "--at", "http://127.0.0.1:9"], env={**environ, "BRICOLA_TOKEN": "x"},
                          capture_output=True, text=True, timeout=120)
    assert "does not answer" in dead.stderr


def test_a_port_in_use_and_a_folder_of_something_else_are_told(demo: Demo, tmp_path: Path) -> None:
    taken = demo.run("serve", "--data", str(tmp_path / "d"), "--port", demo.url.rpartition(":")[2])
    assert taken.returncode == 1
    assert "The port is in use." in taken.stderr
    (tmp_path / "file").write_text("x")
    assert "data folder is a file" in demo.run("serve", "--data", str(tmp_path / "file")).stderr


def test_a_fresh_service_prints_a_set_up_address_that_works_once(demo: Demo, tmp_path: Path) -> None:
    process = subprocess.Popen([COMMAND, "serve", "--data", tmp_path / "fresh", "--port", "0"], stdout=subprocess.PIPE, text=True,
                               env={**os.environ, "PYTHONUNBUFFERED": "1"})
    assert process.stdout is not None
    timer = threading.Timer(30, process.kill)
    timer.start()
    try:
        address = next(line.strip() for line in process.stdout if "/setup?code=" in line)
        url, _, code = address.partition("/setup?code=")
        with Client(url) as client:
            assert client.state()["setup"]
            client.set_up(code, "first", "a long password")
            client.sign_in("first", "a long password")
            assert client.who()["role"] == "admin"
            again = httpx.post(f"{url}/api/v1/setup", json={"code": code, "name": "second", "password": "a long password"})
            assert again.status_code == 403
            assert not client.state()["setup"]
    finally:
        timer.cancel()
        process.terminate()
        process.wait(60)
        process.stdout.close()


def test_the_call_that_the_demo_prints_works_as_it_stands(tmp_path_factory: pytest.TempPathFactory) -> None:
    """The command for another program, pasted into a shell."""
    data = copied_folder(tmp_path_factory, "printed") / "data"
    process = subprocess.Popen([COMMAND, "demo", "--port", "0", "--data", data, "--no-remember"], stdout=subprocess.PIPE, text=True)
    assert process.stdout is not None
    lines: list[str] = []
    try:
        for line in process.stdout:
            lines.append(line)
            if "Stop with" in line:
                break
        start = next(index for index, line in enumerate(lines) if line.lstrip().startswith("curl "))
        command = "".join(lines[start:start + 3])
        done = subprocess.run(["sh", "-c", command], capture_output=True, text=True, timeout=120, check=True)
        assert "<name>Brave Teal</name>" in done.stdout
    finally:
        process.terminate()
        process.wait(60)
        process.stdout.close()


def test_help_and_completion(demo: Demo) -> None:
    help_text = demo.run("--help").stdout
    for command in ("serve", "demo", "apply", "export", "review", "release", "deploy", "undeploy", "services", "contract", "sample",
                    "call", "calls"):
        assert re.search(rf"\b{command}\b", help_text)
    assert all(re.search(rf"\b{engine}\b", demo.run("connect", "--help").stdout) for engine in ENGINES)
    shown = subprocess.run([COMMAND], env={**demo.environ, "_BRICOLA_COMPLETE": "complete_bash", "COMP_WORDS": "bricola un",
                                           "COMP_CWORD": "1"}, capture_output=True, text=True, timeout=120)
    assert "undeploy" in shown.stdout
