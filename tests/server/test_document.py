"""The OpenAPI document of the management API: valid, true to the routes, and the one that the console's types were made from."""

import json
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest
from openapi_spec_validator import validate
from pydantic import TypeAdapter

from bricola.api.base import ProblemDocument
from tests.serving import serving

ROOT = Path(__file__).resolve().parent.parent.parent
COPY = ROOT / "console" / "src" / "api" / "openapi.json"


@pytest.fixture(scope="module")
def document() -> dict[str, Any]:
    made = subprocess.run([sys.executable, "-m", "bricola.server.api.document"], capture_output=True, text=True, check=True, cwd=ROOT)
    return dict(json.loads(made.stdout))


def test_it_is_valid_and_the_copy_of_the_console_is_the_same(document: dict[str, Any]) -> None:
    validate(document)
    assert json.loads(COPY.read_text()) == document, "run: make api"


def test_every_answer_and_every_failure_has_a_schema(document: dict[str, Any]) -> None:
    for path, methods in document["paths"].items():
        for method, operation in methods.items():
            where = f"{method} {path}"
            good = [one for status, one in operation["responses"].items() if status.startswith("2")]
            assert len(good) == 1, where
            contents = good[0].get("content", {})
            if contents and not path.endswith(("/contract", "/contract.zip", "/backup")):
                schema = contents["application/json"]["schema"]
                assert schema.get("$ref") or schema.get("items", {}).get("$ref"), where
            problems = {status: one for status, one in operation["responses"].items() if not status.startswith("2")}
            assert {"400", "500"} <= set(problems), where
            assert all(list(one["content"]) == ["application/problem+json"] for one in problems.values()), where
            assert operation["security"] or path.endswith(("/state", "/setup", "/session")), where
    assert "terminals" in document["info"]["description"]


def test_failures_are_what_the_document_says(tmp_path: Path, document: dict[str, Any]) -> None:
    check = TypeAdapter(ProblemDocument).validate_python
    with serving(tmp_path) as served, served.client() as client, served.http("/api/v1") as http:
        live = http.get(f"{served.url}/api/openapi.json")
        assert live.headers["content-encoding"] == "gzip"
        assert live.json() == document
        token = client._http.headers["authorization"]
        cases = [
            ("get", "/services", "/overview", None, None), ("get", "/users", "/users", "Bearer wrong", None),
            ("get", "/services/{service}", "/services/Nothing", token, None), ("post", "/users", "/users", token, {"name": "teo"}),
            ("post", "/definitions", "/definitions", token, {"files": {"a.yaml": "object: a"}}),
            ("post", "/users", "/users", token, {"name": "imke", "password": "a long password", "role": "viewer"}),
            ("post", "/session", "/session", None, {"name": "imke", "password": "wrong"}),
            ("get", "/calls/{call}", "/calls/none", token, None),
        ]
        for method, route, path, authorization, body in cases:
            headers = {"Authorization": authorization} if authorization else {}
            answer = http.request(method, path, headers=headers, json=body)
            assert answer.status_code >= 400, path
            assert answer.headers["content-type"] == "application/problem+json"
            check(answer.json())
            if f"/api/v1{route}" in document["paths"]:
                assert str(answer.status_code) in document["paths"][f"/api/v1{route}"][method]["responses"], (path, answer.status_code)
