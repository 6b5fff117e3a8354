"""What strangers and people send to the management API: bounded, read after the sign-in, and never the end of the process."""

import json
import socket
from collections.abc import Iterator
from urllib.parse import urlsplit

import pytest
from fastapi.routing import APIRoute

from bricola.server.api.bodies import Guarded
from bricola.server.app import api_routers
from bricola.server.kinds.registry import SERVERS
from tests.serving import Served, serving

BASE = "/api/v1"


@pytest.fixture(scope="module")
def served(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Served]:
    with serving(tmp_path_factory.mktemp("bodies")) as one:
        yield one


def _token(served: Served) -> dict[str, str]:
    with served.http(BASE) as http:
        signed_in = http.post("/session", json={"name": "imke", "password": served.password, "token": True}).json()
    return {"Authorization": f"Bearer {signed_in['token']}", "Content-Type": "application/json"}


def test_every_route_reads_its_body_after_the_sign_in() -> None:
    routes = [one for router in api_routers(SERVERS) for one in router.routes if isinstance(one, APIRoute)]
    assert routes
    assert [one.path for one in routes if one.body_field is not None and not isinstance(one, Guarded)] == []


@pytest.mark.parametrize(("path", "status"), [("/definitions", 401), ("/session", 413), ("/bench", 401), ("/packages", 401)])
def test_a_stranger_is_refused_before_the_body_has_come(served: Served, path: str, status: int) -> None:
    address = urlsplit(served.url)
    with socket.create_connection((address.hostname or "", address.port or 0), timeout=20) as line:
        line.sendall(f"POST {BASE}{path} HTTP/1.1\r\nHost: localhost\r\nContent-Type: application/json\r\n"
                     f"Content-Length: 50000000\r\n\r\n".encode())
        assert line.recv(100).startswith(f"HTTP/1.1 {status}".encode())


def test_a_body_without_a_length_is_cut_off_at_the_bound(served: Served) -> None:
    with served.http(BASE) as http:
        answer = http.post("/session", content=(b" " * 1000 for _ in range(20)), headers={"Content-Type": "application/json"})
    assert answer.status_code == 413
    assert answer.json()["problems"][0]["expected"] == "at most 16384 bytes"


@pytest.mark.parametrize(("body", "code"), [
    (b'{"files": ' + b"[" * 100_000, "json.depth"),
    (b'{"files": ' + b'{"a":' * 70 + b"1" + b"}" * 71, "json.depth"),
    (b'{"files": {"a.yaml": "backend: \\ud800"}}', "value.character"),
    (b'{"files": {"a.yaml": "backend: b\\u0001"}}', "value.character"),
    (b'{"files": {"a.yaml": "backend: \xff"}}', "json.syntax"),
    (b'{"files": NaN}', "json.number"),
    (b'{"plan_only": ' + b"9" * 5000 + b"}", "json.number"),
    (b'{"files": {,}}', "json.syntax"),
    (json.dumps({"files": {"a.yaml": "backend: b\nx: " + "[" * 60_000}}).encode(), "yaml.depth"),
    (json.dumps({"files": {"a.yaml": "contract: b\nx: " + "[" * 60_000}}).encode(), "yaml.depth"),
])
def test_a_spoiled_body_has_one_answer_and_the_service_goes_on(served: Served, body: bytes, code: str) -> None:
    with served.http(BASE) as http:
        answer = http.post("/definitions", content=body, headers=_token(served))
        assert answer.status_code == 400, answer.text
        assert answer.json()["problems"][0]["code"] == code
        assert http.get("/state").status_code == 200


def test_nested_data_is_refused_wherever_it_becomes_a_definition(served: Served) -> None:
    headers = _token(served)
    deep: object = 1
    for _ in range(60):
        deep = [deep]
    with served.http(BASE) as http:
        for body in ({"data": {"steps": deep}}, {"data": {"steps": [{"set": {"x": deep}}]}}, {"text": "workflow: w\nsteps: " + "[" * 9000}):
            answer = http.post("/workflows/w/look", json=body, headers=headers)
            assert answer.status_code < 500, answer.text


