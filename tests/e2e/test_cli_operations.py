"""The commands of running it, as processes: what a person reads, what a program gets, and the exit status."""

import json
import subprocess
from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest

from tests.conftest import COMMAND, Demo, copied_demo, stop_demo


@pytest.fixture(scope="module")
def own(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Demo]:
    running = copied_demo(tmp_path_factory, "cli")
    yield running
    stop_demo(running)


def ok(own: Demo, *words: str, stdin: str = "") -> str:
    done = own.run(*words, stdin=stdin)
    assert done.returncode == 0, done.stdout + done.stderr
    return done.stdout


def refused(own: Demo, *words: str, stdin: str = "") -> str:
    done = own.run(*words, stdin=stdin)
    assert done.returncode == 1, done.stdout
    assert "Traceback" not in done.stderr
    return done.stdout + done.stderr


def test_backends_checks_and_pools(own: Demo) -> None:
    assert "live/registry.db" in ok(own, "backends")
    assert "sample read" in ok(own, "check", "live")
    assert [one["passed"] for one in json.loads(ok(own, "check", "live", "registry", "--json"))] == [True]
    assert "There is no backend" in refused(own, "check", "live", "harbour")
    assert "serving" in ok(own, "pools")
    shown = ok(own, "pools", "show", "live", "registry")
    assert "2 to 8 sessions" in shown
    session = json.loads(ok(own, "pools", "show", "live", "registry", "--json"))["sessions"][0]["session"]
    assert "is closed" in ok(own, "pools", "evict", "live", "registry", str(session))
    assert "is stopped" in ok(own, "pools", "stop", "live", "registry")
    assert "status 503" in refused(own, "call", "live", "VesselRegistry", "GetVessel", "registration=LK-0412")
    ok(own, "pools", "start", "live", "registry")
    assert "Brave Teal" in ok(own, "call", "live", "VesselRegistry", "GetVessel", "registration=LK-0412")
    assert "Recycled" in ok(own, "pools", "recycle", "live", "registry")


def test_credentials_come_from_a_pipe_and_never_out(own: Demo) -> None:
    assert "never shown" in ok(own, "credentials", "add", "registry-live", "--user", "bricola", "--expires", "2099-01-01", stdin="weir-88\n")
    assert "needs the name" in refused(own, "credentials", "add", "other", stdin="x\n")
    ok(own, "credentials", "rotate", "registry-live", "--overlap", "2", stdin="weir-99\n")
    listed = ok(own, "credentials") + ok(own, "credentials", "--json")
    assert "bricola" in listed
    assert "weir-" not in listed + ok(own, "audit", "--json", "-n", "500")
    assert "Sealed 10 secrets" in ok(own, "credentials", "renew-key")
    ok(own, "credentials", "remove", "registry-live")


def test_from_a_folder_to_live_and_back(own: Demo, tmp_path: Path) -> None:
    folder = tmp_path / "defs"
    ok(own, "export", str(folder))
    assert "are the same" in ok(own, "diff", str(folder))
    file = folder / "registry" / "VesselRegistry.yaml"
    file.write_text(file.read_text().replace("auditor: [GetVessel", "auditor: [GetVesel, GetVessel"))
    (folder / "environments" / "live.yaml").write_text(
        (folder / "environments" / "live.yaml").read_text().replace("min_size: 2", "min_size: 8"))
    difference = refused(own, "diff", str(folder))
    assert "- " in difference
    assert "+     pool: {min_size: 8, max_size: 8}" in difference
    assert "in effect since" in ok(own, "apply", str(folder), "--yes")
    review = refused(own, "review", "VesselRegistry", "live")
    assert "Take GetVesel out of the role" in review
    assert "2 can be mended by: bricola mend VesselRegistry live" in review
    asked = refused(own, "mend", "VesselRegistry", "live")  # nothing is changed before somebody has said so
    assert "- " in asked
    assert "GetVesel" in refused(own, "review", "VesselRegistry", "live")
    mended = ok(own, "mend", "VesselRegistry", "live", "--yes")
    assert "do them with --settings" in mended  # what an environment says is in effect at once
    assert "min_size" not in own.run("diff", str(folder)).stdout
    assert "min_size: 2" in ok(own, "mend", "VesselRegistry", "live", "--settings", "--yes")
    assert "no findings" not in ok(own, "review", "VesselRegistry", "live")
    ok(own, "export", str(folder))
    file.write_text(file.read_text().replace("The register", "The new register"))
    # Somebody else changes the same definition in another folder; nobody's work is overwritten.
    other = tmp_path / "other"
    ok(own, "export", str(other))
    theirs = other / "registry" / "VesselRegistry.yaml"
    theirs.write_text(theirs.read_text().replace("Strikes a vessel from", "Takes a vessel out of"))
    (other / "registry" / "extra.yaml").write_text("type: Extra\nbase: string\n")
    ok(own, "apply", str(other), "--yes")
    assert "bricola merge" in refused(own, "export", str(folder))
    assert "The new register" in file.read_text()
    told = ok(own, "merge", str(folder))
    assert "changed by both, merged" in told
    assert ("The new register" in file.read_text(), "Takes a vessel out of" in file.read_text(), (folder / "registry" / "extra.yaml").exists()) == (True, True, True)
    (other / "registry" / "extra.yaml").unlink()
    ok(own, "apply", str(other), "--yes", "--remove")
    assert "removed, as in the service" in ok(own, "merge", str(folder))
    ok(own, "apply", str(folder), "--yes")
    assert "edited, not released" in ok(own, "services", "--group", "registry", "-e", "live")
    ok(own, "release", "VesselRegistry", "--notes", "New words")
    assert "released, not live" in ok(own, "services")
    assert "documentation only" in ok(own, "compare", "VesselRegistry", "1", "2")
    gates = ok(own, "gates", "VesselRegistry", "live")
    assert "never live in rehearsal" in gates
    ok(own, "deploy", "VesselRegistry", "rehearsal")
    assert "Promoted" in ok(own, "promote", "VesselRegistry", "live")
    assert "rehearsal, live" in ok(own, "releases", "VesselRegistry")
    assert "release 1" in ok(own, "rollback", "VesselRegistry", "live")
    assert "30 %" in ok(own, "deploy", "VesselRegistry", "live", "--release", "2", "--share", "30")
    assert "release 1 70 % + release 2 30 %" in ok(own, "services")
    ok(own, "rollback", "VesselRegistry", "live")
    assert "ends on 2099-01-31" in ok(own, "retire", "VesselRegistry", "live", "--on", "2099-01-31", "--words", "Gone by then.")
    assert "ends on 2099-01-31" in ok(own, "services")
    assert "stays" in ok(own, "retire", "VesselRegistry", "live", "--keep")
    assert "Say when it ends" in refused(own, "retire", "VesselRegistry", "live")
    assert "harbour-desk" in ok(own, "callers", "of", "VesselRegistry")


def test_people_and_callers(own: Demo) -> None:
    made = json.loads(ok(own, "callers", "add", "quay-kiosk", "--role", "auditor", "--from", "127.0.0.0/8", "--per-minute", "600", "--json"))
    assert made["token"].startswith("brc_")
    assert "from 127.0.0.0/8; 600 a minute" in ok(own, "callers")
    assert "end at" in ok(own, "callers", "rotate", "quay-kiosk", "--overlap", "1")
    assert "quay-kiosk" in ok(own, "roles")
    ok(own, "callers", "remove", "quay-kiosk")
    ok(own, "users", "add", "pim", "--role", "viewer", stdin="towpath-lantern\n")
    ok(own, "users", "change", "pim", "--role", "operator")
    assert "operator" in ok(own, "users")
    assert "token" in ok(own, "users", "sessions", "imke")
    ok(own, "users", "remove", "pim")
    trail = ok(own, "audit", "user pim")
    assert [word in trail for word in ("remove", "change", "add")] == [True] * 3


def test_a_backup_of_the_running_service_starts_elsewhere(own: Demo, tmp_path: Path) -> None:
    file = tmp_path / "b.zip"
    ok(own, "backup", str(file), "--calls")
    data = tmp_path / "again"
    assert "Copy the key file" in ok(own, "restore", str(file), "--data", str(data))
    assert "has a store already" in refused(own, "restore", str(file), "--data", str(data))
    missing = subprocess.run([COMMAND, "serve", "--data", data, "--port", "0"], capture_output=True, text=True, timeout=60)
    assert "there is no such file" in missing.stderr
    assert not (data / "bricola.key").exists()
    (data / "bricola.key").write_text("A" * 43 + "=\n")  # a key, but another one
    wrong = subprocess.run([COMMAND, "serve", "--data", data, "--port", "0"], capture_output=True, text=True, timeout=60)
    assert wrong.returncode == 1
    assert "cannot be opened with this key" in wrong.stderr
    assert "Traceback" not in wrong.stderr
    (data / "bricola.key").write_bytes((own.data / "bricola.key").read_bytes())
    process = subprocess.Popen([COMMAND, "serve", "--data", data, "--port", "0", "--json"], stdout=subprocess.PIPE, text=True)
    try:
        assert process.stdout is not None
        text = ""
        while not text.rstrip().endswith("}"):
            text += process.stdout.readline()
        url = json.loads(text)["url"]
        session = httpx.post(f"{url}/api/v1/session", json={"name": "imke", "password": own.password("imke")})
        assert session.status_code == 201
        # The backend's file was not in the backup: the service says what it misses, and everything else is there.
        states = {(one["environment"], one["service"]): one["state"] for one in httpx.get(f"{url}/readyz").json()["services"]}
        assert states["live", "VesselRegistry"] == "faulting"
    finally:
        process.terminate()
        process.wait(60)
