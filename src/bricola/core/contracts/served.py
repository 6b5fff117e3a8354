"""Contracts of others, as this service offers them: their operations as shapes, and their documents with our addresses.

The documents stay as they came, byte for byte, but for two kinds of text: the addresses of the ports that are served here, and the places
of parts, which become addresses that a client can follow.
"""

import codecs
import hashlib
import re
from collections import OrderedDict
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from xml.sax.saxutils import escape, unescape

from bricola.core.contracts.reading.bundle import Bundle, location_of
from bricola.core.contracts.reading.contract import ReadContract, ReadOperation, ReadService
from bricola.core.contracts.reading.parts import joined
from bricola.core.contracts.reading.wsdl import read_contract
from bricola.core.definitions.model import ServiceDefinition
from bricola.core.definitions.outside import ContractDefinition
from bricola.core.problems import Problem, ProblemError, shown
from bricola.core.shapes.model import FaultShape, OperationShape, Record

_MOST_READ = 32
_read: OrderedDict[str, ReadContract] = OrderedDict()  # by what is in it, so a changed contract is another one

# Comments and CDATA are skipped; then the tags that name a place, whatever their prefixes.
_PLACES = re.compile(
    r"<!--.*?-->|<!\[CDATA\[.*?\]\]>|<(?:[\w.-]+:)?(?P<tag>address|import|include|redefine)\b[^<>]*>", re.DOTALL)
_ATTRIBUTE = re.compile(r"""(?P<start>\s(?P<name>location|schemaLocation)\s*=\s*)(?P<quote>["'])(?P<value>.*?)(?P=quote)""", re.DOTALL)
_QUOTES = {'"': "&quot;", "'": "&apos;"}


def read_definition_of(contract: ContractDefinition) -> ReadContract:
    """What a contract offers; read once for the same content."""
    contents = contract.contents
    digest = hashlib.sha256(contract.main.encode())
    for path in sorted(contents):
        digest.update(f"\0{path}\0{contract.places.get(path, '')}\0".encode() + contents[path])
    key = digest.hexdigest()
    found = _read.get(key)
    if found is None:
        placed = {contract.places[path]: content for path, content in contents.items() if path in contract.places}
        first = contract.places.get(contract.main) or location_of(contract.main)
        found = _read[key] = read_contract(first, Bundle(contents, placed))
        while len(_read) > _MOST_READ:
            _read.popitem(last=False)
    return found


@dataclass(frozen=True)
class Offered:
    """One service of somebody's contract, as a service here follows it."""

    contract: ReadContract
    namespace: str
    soap: tuple[str, ...]
    operations: Mapping[str, ReadOperation]
    addresses: frozenset[str]  # of the ports that are served
    main: str = ""
    documents: tuple[str, ...] = field(default=())  # locations, the first one the WSDL itself

    def document(self, number: int, address: str, place: Callable[[int], str] | None = None) -> tuple[bytes, str] | None:
        """A document with our address in it, and its charset; None for a number that there is not. `place` says where the others are;
        at our address when nothing does."""
        if not 0 <= number < len(self.documents):
            return None
        part = next(one for one in self.contract.parts if one.location == self.documents[number])
        numbers = {location: index for index, location in enumerate(self.documents)}
        try:
            text, charset, mark = _decoded(part.content)
        except (LookupError, UnicodeDecodeError):  # an encoding that only the parser knows: its places stay as they are
            return part.content, ""

        def tag(found: re.Match[str]) -> str:
            kind = found["tag"]
            if kind is None:
                return found[0]

            def attribute(one: re.Match[str]) -> str:
                value = unescape(one["value"], {"&quot;": '"', "&apos;": "'"})
                if kind == "address":
                    new = address if value.strip() in self.addresses else None
                else:
                    index = numbers.get(joined(part.location, value))
                    new = None if index is None else place(index) if place is not None else (
                        f"{address}?wsdl" + (f"&document={index}" if index else ""))
                return one[0] if new is None else f"{one['start']}{one['quote']}{escape(new, _QUOTES)}{one['quote']}"

            return _ATTRIBUTE.sub(attribute, found[0])

        return mark + _PLACES.sub(tag, text).encode(charset), charset


def _decoded(content: bytes) -> tuple[str, str, bytes]:
    """The text of a document, its charset, and its byte order mark."""
    for mark, charset in ((codecs.BOM_UTF8, "utf-8"), (codecs.BOM_UTF16_LE, "utf-16-le"), (codecs.BOM_UTF16_BE, "utf-16-be")):
        if content.startswith(mark):
            return content[len(mark):].decode(charset), charset, mark
    declared = re.match(rb"""<\?xml[^>]*?encoding\s*=\s*["']([\w.-]+)["']""", content)
    charset = declared[1].decode() if declared is not None else "utf-8"
    return content.decode(charset), charset, b""


def offered(service: ServiceDefinition, definition: ContractDefinition | None, place: str) -> Offered:
    """What a service that follows a contract offers. Raises ProblemError when the contract does not have it."""
    if definition is None:
        raise ProblemError(Problem("reference.contract", "The service follows a contract that is not defined.", place=f"{place}, contract",
                                   found=shown(service.contract), mend="Take it in: bricola contracts import SOURCE --service NAME"))
    contract = read_definition_of(definition)
    chosen = _chosen(service, contract, place)
    ports = [port for name, port in chosen.ports.items() if port.soap and (not service.ports or name in service.ports)]
    unknown = [name for name in service.ports if name not in chosen.ports or chosen.ports[name].soap is None]
    if unknown or not ports:
        raise ProblemError(Problem("contract.port", "The contract has no such port that speaks SOAP.", place=f"{place}, ports",
                                   found=shown(", ".join(unknown)), expected=", ".join(n for n, p in chosen.ports.items() if p.soap)))
    operations: dict[str, ReadOperation] = {}
    for port in ports:
        operations = {**port.operations, **operations}
    namespace = ports[0].binding[1:].partition("}")[0] if ports[0].binding[:1] == "{" else contract.namespace
    versions = tuple(sorted({str(port.soap) for port in ports}))
    locations = tuple(one.location for one in contract.parts)
    return Offered(contract, namespace, versions, operations, frozenset(port.address for port in ports), definition.main, locations)


def _chosen(service: ServiceDefinition, contract: ReadContract, place: str) -> ReadService:
    usable = {name: one for name, one in contract.services.items() if any(port.soap for port in one.ports.values())}
    if service.contract_service:
        found = usable.get(service.contract_service)
        if found is None:
            raise ProblemError(Problem("contract.service", "The contract has no such service.", place=f"{place}, contract_service",
                                       found=shown(service.contract_service), expected=", ".join(usable)))
        return found
    if len(usable) != 1:
        what = "The contract has several services." if usable else "The contract has no service that speaks SOAP."
        raise ProblemError(Problem("contract.service", what, place=f"{place}, contract", expected=", ".join(usable),
                                   mend="Name one with 'contract_service:'." if usable else ""))
    return next(iter(usable.values()))


def shape_of(operation: ReadOperation, name: str, description: str = "", writes: bool = False) -> OperationShape:
    """An operation of somebody's contract as a shape."""
    output = operation.output
    nothing = Record(f"{name}Response", tag="", id=f"nothing {name}")
    faults = tuple(FaultShape(fault, record, record.description) for fault, record in operation.faults.items())
    return OperationShape(name, operation.input.record, output.record if output is not None else nothing, faults,
                          description or operation.description, writes, output is None, operation.action,
                          operation.input_headers)
