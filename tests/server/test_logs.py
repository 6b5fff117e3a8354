"""What the service writes down: one form for all lines, with the moment and the number of the call."""

import json
import logging
from collections.abc import Iterator
from pathlib import Path

import pytest
import structlog

from bricola.core.problems import ProblemError
from bricola.server.logs import LogFormat, LogLevel, set_up_logs
from tests.serving import serving


@pytest.fixture
def restored() -> Iterator[None]:
    root = logging.getLogger()
    handlers, level, before = list(root.handlers), root.level, structlog.get_config()
    yield
    root.handlers, root.level = handlers, level
    structlog.configure(**before)


@pytest.mark.usefixtures("restored")
def test_lines_are_json_with_moment_level_part_and_call(capsys: pytest.CaptureFixture[str]) -> None:
    set_up_logs(LogLevel.INFO, LogFormat.JSON)
    structlog.stdlib.get_logger("bricola.pools").info("breaker opens", pool="river in live", endpoint="north")
    structlog.stdlib.get_logger("bricola.calls").debug("not wanted")
    try:
        raise ValueError("inside")
    except ValueError:
        structlog.stdlib.get_logger("bricola.calls").exception("a call failed inside", call="19c-00001")
    logging.getLogger("a.library").warning("said with %s", "arguments")
    lines = [json.loads(line) for line in capsys.readouterr().err.splitlines()]
    assert [(one["event"], one["level"], one["logger"], one["call"]) for one in lines] == [
        ("breaker opens", "info", "bricola.pools", ""), ("a call failed inside", "error", "bricola.calls", "19c-00001"),
        ("said with arguments", "warning", "a.library", "")]
    assert all(one["timestamp"].endswith("Z") for one in lines)
    assert "ValueError: inside" in lines[1]["exception"]


@pytest.mark.usefixtures("restored")
def test_lines_for_people(capsys: pytest.CaptureFixture[str]) -> None:
    set_up_logs(LogLevel.WARNING, LogFormat.CONSOLE)
    structlog.stdlib.get_logger("bricola.pools").warning("session is lost", pool="river in live")
    structlog.stdlib.get_logger("bricola.pools").info("not wanted")
    line = capsys.readouterr().err
    kept = "sluice-4711"
    try:
        raise ValueError("inside")
    except ValueError:
        structlog.stdlib.get_logger("bricola.calls").exception("a call failed inside")
    told = capsys.readouterr().err
    assert "ValueError: inside" in told
    assert kept not in told  # what variables hold may be anything, secrets too
    assert "session is lost" in line
    assert "pool='river in live'" in line
    assert "not wanted" not in line


@pytest.mark.usefixtures("restored")
def test_the_service_tells_of_its_start_sign_ins_and_end(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    set_up_logs(LogLevel.INFO, LogFormat.JSON)
    with serving(tmp_path) as served, served.client() as client:
        with pytest.raises(ProblemError):
            client.sign_in("imke", "not the password")
        metrics = served.http().get("/metrics")
    events = [json.loads(line)["event"] for line in capsys.readouterr().err.splitlines()]
    assert [one for one in events if one in ("service is up", "signed in", "sign-in is refused", "service is stopped")] == [
        "service is up", "signed in", "sign-in is refused", "service is stopped"]
    assert metrics.headers["content-type"] == "text/plain; version=0.0.4; charset=utf-8"
    assert "# TYPE bricola_call_seconds histogram" in metrics.text
