"""A service of somebody else that answers what it should not, or not: each is told as what it is, and the next call is answered."""

import socket
import threading
import time
from collections.abc import Iterator

import httpx
import pytest

from tests.core.outside import wsdl
from tests.serving import Served, serving

SCHEMA = ('<xs:element name="Ask"><xs:complexType><xs:sequence><xs:element name="name" type="xs:string"/></xs:sequence></xs:complexType></xs:element>'
          '<xs:element name="AskResponse"><xs:complexType><xs:sequence><xs:element name="words" type="xs:string"/>'
          '<xs:element name="more" type="xs:int" minOccurs="0"/></xs:sequence></xs:complexType></xs:element>')
S11, S12 = "http://schemas.xmlsoap.org/soap/envelope/", "http://www.w3.org/2003/05/soap-envelope"
ENVELOPE = '<e:Envelope xmlns:e="{}"><e:Body>{}</e:Body></e:Envelope>'
INNER = '<t:AskResponse xmlns:t="urn:t"><t:words>Hello</t:words></t:AskResponse>'
SOUND = ENVELOPE.format(S11, INNER)
SECONDS = 1.5  # that the environment gives an answer
MOST = 20_000  # bytes


def http(body: str, status: str = "200 OK", media: str = "text/xml", length: int | None = None, more: str = "") -> bytes:
    content = body.encode()
    size = len(content) if length is None else length
    return f"HTTP/1.1 {status}\r\nContent-Type: {media}\r\nContent-Length: {size}\r\n{more}\r\n".encode() + content


def chunked(*chunks: bytes) -> bytes:
    return b"HTTP/1.1 200 OK\r\nContent-Type: text/xml\r\nTransfer-Encoding: chunked\r\n\r\n" + b"".join(
        b"%x\r\n%s\r\n" % (len(one), one) for one in chunks)


def body(inner: str) -> str:
    return ENVELOPE.format(S11, inner)


# class -> case -> what comes (bytes, seconds to wait before the next bytes), and the code that is told.
BAD: dict[str, dict[str, tuple[list[bytes | float], str]]] = {
    "HTML": {
        "a page": ([http("<html><body>Sign in, keeper</body></html>", media="text/html")], "outside.html"),
        "a page with a type": ([http("<!DOCTYPE html><html/>", media="text/html; charset=utf-8")], "outside.html"),
        "a page that says it is XML": ([http("<!doctype html><html/>")], "outside.html"),
        "a page of a gateway": ([http("<html>502</html>", "502 Bad Gateway", "text/html")], "outside.html"),
        "XHTML": ([http('<html xmlns="http://www.w3.org/1999/xhtml"/>', media="application/xhtml+xml")], "outside.html"),
    },
    "another envelope": {
        "of SOAP 1.2": ([http(ENVELOPE.format(S12, INNER), media="application/soap+xml")], "outside.envelope"),
        "of SOAP 1.2 that says it is 1.1": ([http(ENVELOPE.format(S12, INNER))], "outside.envelope"),
        "of no version": ([http(ENVELOPE.format("urn:none", INNER))], "outside.envelope"),
        "none": ([http(INNER)], "outside.envelope"),
        "two bodies": ([http(SOUND.replace("</e:Envelope>", "<e:Body/></e:Envelope>"))], "outside.body"),
        "no body": ([http(f'<e:Envelope xmlns:e="{S11}"/>')], "outside.body"),
    },
    "a wrong element": {
        "of another name": ([http(SOUND.replace("AskResponse", "TellResponse"))], "outside.element"),
        "of another namespace": ([http(SOUND.replace("urn:t", "urn:u"))], "outside.element"),
        "none at all": ([http(body(""))], "outside.element"),
        "two": ([http(body(INNER * 2))], "outside.body"),
        "with a part of another name": ([http(SOUND.replace("t:words", "t:wordz"))], "outside.contract"),
        "with a value of another type": ([http(body(INNER.replace("</t:words>", "</t:words><t:more>many</t:more>")))], "outside.contract"),
        "with an attribute": ([http(SOUND.replace('"urn:t">', '"urn:t" a="1">'))], "outside.contract"),
    },
    "nothing": {
        "with success": ([http("")], "outside.empty"), "with 202": ([http("", "202 Accepted")], "outside.empty"),
        "with 204": ([b"HTTP/1.1 204 No Content\r\n\r\n"], "outside.empty"), "with a failure": ([http("", "500 Oh")], "outside.empty"),
        "but white space": ([http(" \n \n ")], "outside.empty"), "and the connection ends": ([b""], "backend.unreachable"),
    },
    "half": {
        "of the XML": ([http(SOUND[:60])], "outside.xml"), "of the length": ([http(SOUND[:60], length=500)], "backend.unreachable"),
        "of the head": ([b"HTTP/1.1 200 OK\r\nContent-Ty"], "backend.unreachable"), "of the first line": ([b"HTT"], "backend.unreachable"),
        "of a chunk": ([chunked(SOUND[:50].encode())], "backend.unreachable"), "no HTTP": ([b"220 mail.example ready\r\n"], "backend.unreachable"),
        "a document type": ([http("<!DOCTYPE x [<!ENTITY a 'b'>]>" + SOUND)], "outside.xml"),
    },
    "too much": {
        "by its length": ([http(SOUND + " " * MOST)], "outside.large"), "in chunks": ([chunked(*[b" " * 4096] * 6)], "outside.large"),
        "without a length": ([b"HTTP/1.1 200 OK\r\nContent-Type: text/xml\r\nConnection: close\r\n\r\n" + b" " * (MOST + 10)], "outside.large"),
        "a tag without end": ([http(f'<e:Envelope xmlns:e="{S11}" a="{"x" * 17_000}"/>')], "outside.xml"),
        "levels": ([http("<a>" * 2000 + "</a>" * 2000)], "outside.xml"), "a head without end": ([b"HTTP/1.1 200 OK\r\n" + b"a: b\r\n" * 30_000],
                                                                                               "backend.unreachable"),
    },
    "too late": {
        "nothing at all": ([6.0], "outside.slow"), "the head alone": ([http("", length=100), 6.0], "outside.slow"),
        "half and no more": ([http(SOUND[:50], length=len(SOUND)), 6.0], "outside.slow"),
        "a chunk and no more": ([chunked(SOUND[:50].encode()), 6.0], "outside.slow"),
        "drop by drop": ([http(SOUND[:10], length=len(SOUND)), *[part for one in SOUND[10:40] for part in (0.2, one.encode())]], "outside.slow"),
    },
    "a bad status": {
        "with an answer": ([http(SOUND, "503 Busy")], "outside.status"), "a refused sign-in": ([http("", "401 No")], "outside.sign-in"),
        "a forbidden one": ([http(SOUND, "403 No")], "outside.sign-in"),
        "elsewhere": ([http("", "302 Found", more="Location: http://127.0.0.1:9/\r\n")], "outside."), "not there": ([http(SOUND, "404 No")], "outside.status"),
    },
}
CASES = [(kind, name) for kind, cases in BAD.items() for name in cases]


class Other:
    """Somebody's server, byte for byte. To OPTIONS, which asks for a sign of life, it always answers."""

    def __init__(self) -> None:
        self.says: list[bytes | float] = []
        self._socket = socket.create_server(("127.0.0.1", 0))
        self.port = self._socket.getsockname()[1]
        threading.Thread(target=self._accept, daemon=True).start()

    def _accept(self) -> None:
        while True:
            connection, _ = self._socket.accept()
            threading.Thread(target=self._talk, args=(connection,), daemon=True).start()

    def _talk(self, connection: socket.socket) -> None:
        with connection:
            try:
                while self._one(connection):
                    pass
            except OSError:
                return  # the other side gave up, as it may

    def _one(self, connection: socket.socket) -> bool:
        request = b""
        while b"\r\n\r\n" not in request:
            more = connection.recv(65536)
            if not more:
                return False
            request += more
        head, _, rest = request.partition(b"\r\n\r\n")
        length = next((int(one.split(b":")[1]) for one in head.split(b"\r\n") if one.lower().startswith(b"content-length")), 0)
        while len(rest) < length:
            rest += connection.recv(65536)
        if head.startswith(b"OPTIONS"):
            connection.sendall(b"HTTP/1.1 204 No Content\r\n\r\n")
            return True
        says = list(self.says)
        for part in says:
            if isinstance(part, float):
                time.sleep(part)
            else:
                connection.sendall(part)
        return says == SOUNDLY


SOUNDLY: list[bytes | float] = [http(SOUND)]


@pytest.fixture(scope="module")
def relay(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[Served, str, Other]]:
    other = Other()
    other.says = SOUNDLY
    with serving(tmp_path_factory.mktemp("outside")) as served, served.client() as client:
        client.apply({"o.yaml": "backend: other\nengine: soap\n", "e.yaml": "environment: live\nbackends:\n  other:\n"
                      f"    address: http://127.0.0.1:{other.port}/x\n    answer_seconds: {SECONDS}\n    answer_bytes: {MOST}\n"
                      "    pool: {min_size: 0, breaker: {failures: 100}}\n"})
        client.save_caller("desk", ["clerk"], "")
        client.import_contract("Greetings", files={"main.wsdl": wsdl(SCHEMA).encode()}, role="clerk")
        client.apply({"relay.yaml": "relay: hello\ncontract: greetings\nbackend: other\n",
                      "services/Greetings.yaml": "service: Greetings\ncontract: greetings\naccess:\n  clerk: all\noperations:\n"
                                                 "  Ask: {runs: relay hello.Ask}\n"})
        client.release("Greetings")
        client.deploy("Greetings", "live")
        yield served, client.new_token("desk"), other


def ask(relay: tuple[Served, str, Other]) -> httpx.Response:
    served, token, _ = relay
    with served.http() as client:
        return client.post("/soap/live/Greetings", content=ENVELOPE.format(S11, '<Ask xmlns="urn:t"><name>Imke</name></Ask>').encode(),
                           headers={"Authorization": f"Bearer {token}", "Content-Type": "text/xml"})


@pytest.mark.parametrize(("kind", "name"), CASES, ids=[f"{kind}: {name}" for kind, name in CASES])
def test_what_comes_is_told_as_what_it_is_and_the_next_call_is_answered(relay: tuple[Served, str, Other], kind: str, name: str) -> None:
    relay[2].says, code = BAD[kind][name]
    began = time.monotonic()
    answer = ask(relay)
    assert time.monotonic() - began < 10 * SECONDS
    relay[2].says = SOUNDLY
    assert answer.status_code == 500
    assert f"<code>{code}" in answer.text, answer.text
    assert not any(words in answer.text for words in ("keeper", "mail.example", "Traceback"))
    sound = ask(relay)
    assert (sound.status_code, "Hello" in sound.text) == (200, True), sound.text


APPLIED = ('<AskResponse xmlns="urn:t" xmlns:app="urn:app" app:row="7"><words app:lang="en">Hello Imke</words>'
           "<app:trace>3 ms</app:trace><!-- made by an application --><?app page?></AskResponse>")


def test_what_an_application_put_beside_the_contract_is_taken_out(relay: tuple[Served, str, Other]) -> None:
    """By default in both directions; the trace says what, and `clean: none` leaves it to the judgement of the contract."""
    served, token, other = relay
    other.says = [http(ENVELOPE.format(S11, APPLIED))]
    with served.client() as client:
        client.apply({"e.yaml": client.export()["e.yaml"].replace("environment: live\n", "environment: live\ntraces: {of: all}\n")})
        answer = ask(relay)
        assert answer.status_code == 200, answer.text
        assert "Hello" in answer.text
        assert not any(word in answer.text for word in ("app:", "trace>", "made by"))
        with served.http() as http_client:
            asked = http_client.post("/soap/live/Greetings", headers={"Authorization": f"Bearer {token}", "Content-Type": "text/xml"}, content=ENVELOPE.format(
                S11, '<Ask xmlns="urn:t" xmlns:b="urn:b" b:id="1"><name>Imke</name><b:more/></Ask>').encode())
        assert asked.status_code == 200, asked.text
        told = str(client.one_call(client.calls(service="Greetings")[0]["id"]))
        assert "taken out of the request, since the contract does not have it: 1 attribute of urn:b, 1 element of urn:b" in told
        assert "taken out of the answer, since the contract does not have it: 2 attributes of urn:app, 1 element of urn:app" in told
        client.apply({"relay.yaml": "relay: hello\ncontract: greetings\nbackend: other\nclean: none\n"})
        made = client.release("Greetings")
        client.deploy("Greetings", "live", made["release"])
        refused = ask(relay)
        assert "<code>outside.contract" in refused.text
        client.deploy("Greetings", "live", 1)
    other.says = SOUNDLY
