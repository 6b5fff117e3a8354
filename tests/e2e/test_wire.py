"""HTTP as it comes over the wire: encodings, chunks, kept-alive connections, answers that are not ours."""

import base64
import http.client
import http.server
import threading
import zlib
from collections.abc import Iterator
from pathlib import Path
from urllib.parse import urlsplit

import httpx
import pytest

from bricola.cli.calling import parse_values
from bricola.client import Client, ProblemError, ServiceClient
from tests.conftest import COMMAND, Demo
from tests.e2e.test_soap import get, post, wrap


def test_utf16_and_charset_and_comments_are_read(demo: Demo) -> None:
    text = '<?xml version="1.0" encoding="UTF-16"?><!-- by hand -->' + wrap(get("LK-0412"))
    assert b"Brave Teal" in post(demo, text.encode("utf-16")).content
    bare = text.encode("utf-16-le")
    assert b"Brave Teal" in post(demo, bare, **{"Content-Type": "text/xml; charset=UTF-16LE"}).content
    cdata = wrap(get("<![CDATA[LK-0412]]>"))
    assert b"Brave Teal" in post(demo, cdata).content
    entity = wrap(get("&#76;K-0412"))
    assert b"Brave Teal" in post(demo, entity).content


def test_one_connection_carries_many_calls_good_and_bad(demo: Demo) -> None:
    parts = urlsplit(demo.address())
    link = http.client.HTTPConnection(parts.hostname or "", parts.port, timeout=60)
    headers = {"Content-Type": "text/xml", "Authorization": f"Bearer {demo.token('harbour-desk')}"}
    statuses = []
    for body in (wrap(get("LK-0001")), "<", wrap(get("LK-0002")), wrap(get("LK-9999")), wrap(get("LK-0003"))):
        link.request("POST", parts.path, body, headers)
        answer = link.getresponse()
        answer.read()
        statuses.append(answer.status)
    link.close()
    assert statuses == [200, 500, 200, 500, 200]


@pytest.mark.parametrize("coding", ["gzip", "deflate", "raw deflate"])
def test_content_codings_are_read(demo: Demo, coding: str) -> None:
    plain = wrap(get("LK-0412")).encode()
    packer = zlib.compressobj(wbits={"gzip": 31, "deflate": 15, "raw deflate": -15}[coding])
    answer = post(demo, packer.compress(plain) + packer.flush(), **{"Content-Encoding": coding.removeprefix("raw ")})
    assert b"Brave Teal" in answer.content


def test_content_codings_that_are_wrong_unknown_or_bombs_are_refused(demo: Demo) -> None:
    assert post(demo, b"x", **{"Content-Encoding": "br"}).status_code == 415
    assert b"http.coding-broken" in post(demo, wrap(get("LK-0412")), **{"Content-Encoding": "gzip"}).content
    assert post(demo, zlib.compress(b" " * 50_000_000), **{"Content-Encoding": "deflate"}).status_code == 413
    assert b"Brave Teal" in post(demo, wrap(get("LK-0412"))).content


def test_basic_credentials_without_a_name_are_refused(demo: Demo) -> None:
    token = base64.b64encode(f":{demo.token('harbour-desk')}".encode()).decode()
    assert post(demo, wrap(get("LK-0412")), caller=None, Authorization=f"Basic {token}").status_code == 401


def test_a_chunked_request_is_read(demo: Demo) -> None:
    def pieces() -> Iterator[bytes]:
        yield from wrap(get("LK-0412")).encode().partition(b"LK")

    answer = httpx.post(demo.address(), content=pieces(), headers={
        "Content-Type": "text/xml", "Authorization": f"Bearer {demo.token('harbour-desk')}"})
    assert b"Brave Teal" in answer.content


class Stranger(http.server.BaseHTTPRequestHandler):
    """A server that is no Bricola."""

    def do_GET(self) -> None:
        self.send_response(500)
        self.end_headers()
        self.wfile.write(b"<html>oops</html>")

    do_POST = do_GET  # noqa: N815

    def log_message(self, *_: object) -> None:
        pass


def test_an_answer_that_is_no_problem_document_is_told_as_it_is() -> None:
    server = http.server.HTTPServer(("127.0.0.1", 0), Stranger)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    url = f"http://127.0.0.1:{server.server_port}"
    try:
        with Client(url, "x") as client, pytest.raises(ProblemError) as caught:
            client.overview()
        assert (caught.value.problem.code, "oops" in caught.value.problem.found) == ("client.status", True)
        with ServiceClient(url) as service, pytest.raises(ProblemError, match="status 500"):
            service.call("Get")
    finally:
        server.shutdown()
        server.server_close()


def test_management_refuses_what_it_cannot_read_with_problem_documents(demo: Demo) -> None:
    headers = {"Authorization": "Bearer " + Client(demo.url).sign_in("imke", demo.password("imke"))}
    api = f"{demo.url}/api/v1"
    cases = [
        ("POST", "/definitions", {"content": "{"}, 400), ("POST", "/definitions", {"json": {"files": 3}}, 400),
        ("PUT", "/callers/no%20name", {"json": {}}, 400), ("GET", "/calls?limit=0", {}, 400), ("GET", "/services/Nowhere", {}, 404),
        ("GET", "/services/VesselRegistry/contract?release=99", {}, 404), ("GET", "/services/VesselRegistry/sample/Nothing", {}, 404),
        ("GET", "/services/VesselRegistry/operations?environment=moon", {}, 404), ("GET", "/calls/none", {}, 404),
        ("POST", "/services/VesselRegistry/deployments", {"json": {"environment": "moon"}}, 404), ("DELETE", "/overview", {}, 405),
        ("POST", "/users", {"json": {"name": "x", "password": "short", "role": "viewer"}}, 400),
        ("POST", "/users", {"json": {"name": "imke", "password": "long enough it is", "role": "viewer"}}, 409),
    ]
    for method, path, options, status in cases:
        answer = httpx.request(method, api + path, headers=headers, **options)  # type: ignore[arg-type]
        assert (answer.status_code, answer.headers["content-type"]) == (status, "application/problem+json"), path
        assert answer.json()["problems"][0]["message"]
    cookie = httpx.post(f"{api}/session", json={"name": "imke", "password": demo.password("imke")})
    assert "HttpOnly" in cookie.headers["set-cookie"]
    assert "SameSite=strict" in cookie.headers["set-cookie"]
    cross = httpx.post(f"{api}/callers/toll-audit/tokens", cookies=cookie.cookies, headers={"Sec-Fetch-Site": "cross-site"})
    assert cross.status_code == 403


def test_values_of_the_command_line() -> None:
    assert parse_values(["a=1", "b=x=y", "c="]) == {"a": "1", "b": "x=y", "c": ""}
    assert parse_values(["n=1", "n=2", "n=3"]) == {"n": ["1", "2", "3"]}
    assert parse_values(["a.n.2.x=b", "a.n.1.x=a", "a.n.1.y=c"]) == {"a": {"n": [{"x": "a", "y": "c"}, {"x": "b"}]}}
    with pytest.raises(ProblemError, match=r"from 1 on"):
        parse_values(["a.n.1.x=a", "a.n.3.x=b"])
    assert parse_values(["v.name=Teal", "v.kind=tug"]) == {"v": {"name": "Teal", "kind": "tug"}}
    for words in (["a"], ["=1"], ["a=1", "a.b=2"]):
        with pytest.raises(ProblemError):
            parse_values(words)


def test_the_demo_leaves_another_services_folder_alone(demo: Demo, tmp_path: Path) -> None:
    (tmp_path / "bricola.db").write_bytes(b"somebody's")
    done = demo.run("demo", "--data", str(tmp_path), "--port", "0")
    assert done.returncode == 1
    assert "another service" in done.stderr
    assert (tmp_path / "bricola.db").read_bytes() == b"somebody's"
    assert COMMAND.exists()
