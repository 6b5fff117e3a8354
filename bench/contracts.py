"""What contracts of others cost: reading a large one beside an independent library, messages beside bare lxml, a relay beside a call.

    python bench/contracts.py [--rounds 5]

Prints a table; every figure is the best of the rounds, in CPU time, with its ratio to what stands beside it in the same run.
"""

import argparse
import asyncio
import gc
import statistics
import tempfile
import threading
import time
import tracemalloc
from collections.abc import Callable
from datetime import date
from decimal import Decimal
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import httpx
import zeep
from lxml import etree

from bricola.adapters.engines.soap.sessions import SoapServiceKind
from bricola.adapters.folders import Folders
from bricola.adapters.parts import read_source
from bricola.adapters.surroundings import Surroundings
from bricola.core.calls.call import Call, Came
from bricola.core.contracts.served import shape_of
from bricola.core.definitions.engines.places import Endpoint
from bricola.core.definitions.model import Binding, PoolSettings
from bricola.core.kinds.relays.definition import RelayDefinition
from bricola.core.kinds.relays.handlers import compile_relay
from bricola.core.messages.decoder import compile_decoder
from bricola.core.messages.encoder import compile_encoder
from bricola.core.messages.envelope import Soap
from bricola.core.pool.pool import Pool
from bricola.core.shapes.model import Element, Record
from bricola.core.shapes.simple import SimpleType
from bricola.core.xml import parse_xml

TYPES = 2000
_SOAP = "http://schemas.xmlsoap.org/wsdl/soap/"
DOCUMENTED = ("<xs:annotation><xs:documentation>The field number {0} of the type {1}, with a few words that explain it to the people "
              "who will read this contract</xs:documentation></xs:annotation>")


def large_contract(all_reached: bool = False) -> str:
    """A contract of 3 MB with 2,000 types and 300 operations, whose messages reach 300 of the types, or all."""
    types, messages, port_type, binding = [], [], [], []
    for number in range(TYPES):
        fields = "".join(
            f'<xs:element name="field{index}" type="{"xs:string" if index % 3 else f"t:S{number % 50}"}" minOccurs="0">'
            f"{DOCUMENTED.format(index, number)}</xs:element>" for index in range(6))
        inner = f'<xs:element name="inner" type="t:T{number * 7 % 40}" minOccurs="0"/>' if number >= 40 else ""
        if all_reached and not number:
            fields += "".join(f'<xs:element name="all{one}" type="t:T{one}" minOccurs="0"/>' for one in range(1, TYPES))
        types.append(f'<xs:complexType name="T{number}"><xs:sequence>{fields}{inner}</xs:sequence><xs:attribute name="id" type="xs:int"/>'
                     "</xs:complexType>\n")
    types += [f'<xs:simpleType name="S{number}"><xs:restriction base="xs:string"><xs:maxLength value="{number + 1}"/>'
              '<xs:pattern value="[A-Z]+"/></xs:restriction></xs:simpleType>' for number in range(50)]
    for number in range(300):
        types.append(f'<xs:element name="Op{number}" type="t:T{number}"/><xs:element name="Op{number}Response" type="t:T{number + 1}"/>')
        messages.append(f'<message name="Op{number}"><part name="p" element="t:Op{number}"/></message>'
                        f'<message name="Op{number}R"><part name="p" element="t:Op{number}Response"/></message>')
        port_type.append(f'<operation name="Op{number}"><input message="t:Op{number}"/><output message="t:Op{number}R"/></operation>')
        binding.append(f'<operation name="Op{number}"><soap:operation soapAction="{number}"/><input><soap:body use="literal"/></input>'
                       '<output><soap:body use="literal"/></output></operation>')
    return (f'<definitions targetNamespace="urn:t" xmlns="http://schemas.xmlsoap.org/wsdl/" xmlns:soap="{_SOAP}" xmlns:t="urn:t" '
            'xmlns:xs="http://www.w3.org/2001/XMLSchema"><types><xs:schema targetNamespace="urn:t" elementFormDefault="qualified">'
            f'{"".join(types)}</xs:schema></types>{"".join(messages)}<portType name="P">{"".join(port_type)}</portType>'
            '<binding name="B" type="t:P"><soap:binding transport="http://schemas.xmlsoap.org/soap/http"/>'
            f'{"".join(binding)}</binding><service name="S"><port name="Port" binding="t:B">'
            '<soap:address location="http://127.0.0.1:9/"/></port></service></definitions>')


def best(work: Callable[[], object], rounds: int, times: int = 1) -> float:
    """CPU seconds of one `work`, the best of the rounds."""
    found = []
    for _ in range(rounds):
        started = time.process_time()
        for _ in range(times):
            work()
        found.append((time.process_time() - started) / times)
    return min(found)


def reading(rounds: int) -> None:
    for all_reached, words in ((False, "300 of them in messages"), (True, "all of them in messages")):
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / "large.wsdl"
            file.write_text(large_contract(all_reached))
            gc.collect()
            gc.freeze()  # what was imported is no part of either reading; the service does the same when it has started
            ours = best(lambda file=file: read_source(str(file)), rounds)  # type: ignore[misc]
            theirs = best(lambda file=file: zeep.Client(str(file)), max(1, rounds // 2))  # type: ignore[misc,no-untyped-call]
            size = file.stat().st_size / 1e6
            print(f"reading {size:.1f} MB, {TYPES} types, {words}: {ours:.2f} s; zeep {theirs:.2f} s; {theirs / ours:.1f} times as fast")


TEXT, WHOLE, NUMBER, DAY = (SimpleType(one) for one in ("string", "int", "decimal", "date"))
ROW = Record("Row", (*(Element(f"text{i}", TEXT) for i in range(4)), *(Element(f"number{i}", NUMBER) for i in range(3)),
                     *(Element(f"whole{i}", WHOLE) for i in range(2)), Element("day", DAY)))
VALUES: dict[str, Any] = {**{f"text{i}": "Brave Teal & crew" for i in range(4)}, **{f"number{i}": Decimal("412.50") for i in range(3)},
                          **{f"whole{i}": 412 for i in range(2)}, "day": date(2026, 11, 27)}
RICH = """
<xs:complexType name="Base"><xs:sequence><xs:element name="name" type="xs:string"/></xs:sequence>
<xs:attribute name="number" type="xs:int"/></xs:complexType>
<xs:complexType name="Derived"><xs:complexContent><xs:extension base="t:Base">
<xs:sequence><xs:element name="day" type="xs:date"/></xs:sequence></xs:extension></xs:complexContent></xs:complexType>
<xs:element name="Op0"><xs:complexType><xs:sequence><xs:element name="item" type="t:Base" maxOccurs="unbounded"/>
<xs:choice maxOccurs="unbounded"><xs:element name="left" type="xs:int"/><xs:element name="right" type="xs:decimal"/></xs:choice>
</xs:sequence><xs:attribute name="by" type="xs:string" use="required"/></xs:complexType></xs:element>"""


def rich_record() -> Record:
    contract = large_contract()
    start = contract.index("<xs:complexType")
    end = contract.index('<xs:element name="Op0"')
    small = contract[:start] + RICH + contract[contract.index("/>", end) + 2:]
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "rich.wsdl"
        file.write_text(small)
        return next(iter(read_source(str(file)).services["S"].ports["Port"].operations.values())).input.record


def messages(rounds: int) -> None:
    many = Record("Rows", (Element("row", ROW, 0, None),))
    rich = rich_record()
    richly = {"by": "me", "item": [{"@type": "Derived", "number": 1, "name": "a", "day": date(2026, 11, 27)}] * 10,
              "choice": [{"left": 1}, {"right": Decimal("1.5")}] * 5}
    for words, record, values, times in (("10 fields", ROW, VALUES, 2000), ("200 rows of 10 fields", many, {"row": [VALUES] * 200}, 20),
                                         ("attributes, alternatives, derived types", rich, richly, 1000)):
        namespace = "urn:t"
        encode, decode = compile_encoder(record, namespace), compile_decoder(record, namespace)
        body = encode(values).encode()
        tree = etree.fromstring(body)

        def both(decode: Any = decode, encode: Any = encode, body: bytes = body, values: Any = values) -> None:
            decode(parse_xml(body), "", [])
            encode(values)

        ours = best(both, rounds, times)
        bare = best(lambda body=body, tree=tree: (etree.fromstring(body), etree.tostring(tree)), rounds, times)  # type: ignore[misc]
        print(f"decode and encode, {words}: {ours * 1e6:.0f} µs; lxml parsing and serialising {bare * 1e6:.0f} µs; ratio {ours / bare:.2f}")


ANSWER = (b'<e:Envelope xmlns:e="http://schemas.xmlsoap.org/soap/envelope/"><e:Body><t:Op0Response xmlns:t="urn:t"><t:field1>x</t:field1>'
          b"</t:Op0Response></e:Body></e:Envelope>")


class _Peer(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    wbufsize = 1 << 16  # head and body leave in one packet

    def do_OPTIONS(self) -> None:
        self._send(b"")

    def do_POST(self) -> None:
        self.rfile.read(int(self.headers["Content-Length"]))
        self._send(ANSWER)

    def _send(self, body: bytes) -> None:
        self.send_response(200)
        self.send_header("Content-Type", "text/xml")
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, format: str, *args: object) -> None:  # noqa: A002 — the name is the base class's
        """Nothing is written down."""


class _NoSecrets:
    def secrets(self, credential: str) -> list[Any]:
        return []

    def used(self, credential: str) -> None:
        """Nothing to note."""


async def relaying(rounds: int) -> None:
    server = ThreadingHTTPServer(("127.0.0.1", 0), _Peer)
    server.daemon_threads = True
    threading.Thread(target=server.serve_forever, daemon=True).start()
    address = f"http://127.0.0.1:{server.server_address[1]}/"
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "large.wsdl"
        file.write_text(large_contract())
        operation = read_source(str(file)).services["S"].ports["Port"].operations["Op0"]
    shape = shape_of(operation, "Op0")
    kind = SoapServiceKind("peer", Binding(name="peer", address=address), Surroundings(Folders(Path(".")), _NoSecrets()))
    pool: Pool[Any] = Pool("peer", kind, (Endpoint(name="main", address=address),), PoolSettings(), time.monotonic)
    pool.start()
    handle = compile_relay(shape, "urn:t", Soap.V11, pool, RelayDefinition(name="peer", contract="peer", backend="peer"), 10)
    payload = etree.fromstring('<Op0 xmlns="urn:t"><field1>x</field1></Op0>')
    body = b'<e:Envelope xmlns:e="http://schemas.xmlsoap.org/soap/envelope/"><e:Body>' + etree.tostring(payload) + b"</e:Body></e:Envelope>"
    for name, work in (("direct", None), ("relayed", handle)):
        took = []
        cpu = time.process_time()
        async with httpx.AsyncClient(trust_env=False) as client:
            for _ in range(200 * rounds):
                started = time.perf_counter()
                if work is None:
                    await client.post(address, content=body, headers={"Content-Type": "text/xml"})
                else:
                    await work(Call(came=Came(payload)), {"field1": "x"})
                took.append(time.perf_counter() - started)
        each = (time.process_time() - cpu) / len(took) * 1e6
        print(f"{name} call: {statistics.median(took) * 1e3:.2f} ms in the middle, {each:.0f} µs CPU with the other side in this process")
    await pool.close()
    server.shutdown()


async def clients(rounds: int) -> None:
    """A client for each of eight sessions, as the pool has them, beside one client that eight connections are bound in; 64 callers."""
    server = ThreadingHTTPServer(("127.0.0.1", 0), _Peer)
    server.daemon_threads = True
    threading.Thread(target=server.serve_forever, daemon=True).start()
    address = f"http://127.0.0.1:{server.server_address[1]}/"

    def client(most: int) -> httpx.AsyncClient:
        return httpx.AsyncClient(trust_env=False, verify=False, limits=httpx.Limits(max_connections=most, max_keepalive_connections=most))

    async def measured(ways: list[httpx.AsyncClient], at_once: int) -> tuple[float, float]:
        free: asyncio.Queue[httpx.AsyncClient] = asyncio.Queue()
        for one in ways * at_once:
            free.put_nowait(one)

        async def caller() -> None:
            for _ in range(10 * rounds):
                one = await free.get()
                await one.post(address, content=b"<x/>", headers={"Content-Type": "text/xml"})
                free.put_nowait(one)

        cpu, wall = time.process_time(), time.perf_counter()
        await asyncio.gather(*(caller() for _ in range(64)))
        return (time.process_time() - cpu) / (640 * rounds) * 1e6, (time.perf_counter() - wall) / (640 * rounds) * 1e6

    for name, ways, at_once in (("a client a session", [client(1) for _ in range(8)], 1), ("one client, bound to eight", [client(8)], 64)):
        await measured(ways, at_once)
        cpu, wall = min([await measured(ways, at_once) for _ in range(3)])
        print(f"{name}: {cpu:.0f} µs CPU a call with the other side in this process, {wall:.0f} µs of time")
        for one in ways:
            await one.aclose()
    tracemalloc.start()
    many = [client(1) for _ in range(20)]
    print(f"a further client: {tracemalloc.get_traced_memory()[0] / 20 / 1024:.0f} KiB")
    for one in many:
        await one.aclose()
    server.shutdown()


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rounds", type=int, default=5)
    rounds = parser.parse_args().rounds
    reading(rounds)
    messages(rounds)
    asyncio.run(relaying(rounds))
    asyncio.run(clients(rounds))


if __name__ == "__main__":
    main()
