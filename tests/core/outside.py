"""Contracts of others for tests: small ones made here, and an independent judge of messages."""

import tempfile
from pathlib import Path

from lxml import etree

from bricola.core.contracts.reading.bundle import Bundle, location_of
from bricola.core.contracts.reading.contract import ReadContract
from bricola.core.contracts.reading.wsdl import read_contract, schemas_of

CONTRACTS = Path(__file__).parent / "contracts"
_X = "{http://www.w3.org/2001/XMLSchema}"


def read(files: dict[str, str | bytes], main: str = "main.wsdl") -> ReadContract:
    """Read a contract that is a set of files."""
    return read_contract(location_of(main), Bundle({name: one.encode() if isinstance(one, str) else one for name, one in files.items()}))


def folder(name: str) -> dict[str, str | bytes]:
    root = CONTRACTS / name
    return {path.relative_to(root).as_posix(): path.read_bytes() for path in root.rglob("*") if path.is_file() and path.suffix != ".json"}


def wsdl(schema: str, request: str = "Ask", answer: str = "AskResponse", *, head: str = "", style: str = "document", extra: str = "") -> str:
    """A contract with one operation around a schema's content, in the namespace urn:t."""
    parts = [f'<message name="{name}"><part name="body" element="t:{element}"/></message>' for name, element in
             (("In", request), ("Out", answer))]
    return f"""<definitions targetNamespace="urn:t" xmlns="http://schemas.xmlsoap.org/wsdl/" xmlns:soap="http://schemas.xmlsoap.org/wsdl/soap/"
 xmlns:xs="http://www.w3.org/2001/XMLSchema" xmlns:t="urn:t" {head}>
<types><xs:schema targetNamespace="urn:t" elementFormDefault="qualified">{schema}</xs:schema></types>
{''.join(parts)}
<portType name="P"><operation name="Ask"><input message="t:In"/><output message="t:Out"/></operation></portType>
<binding name="B" type="t:P"><soap:binding style="{style}" transport="http://schemas.xmlsoap.org/soap/http"/>
<operation name="Ask"><soap:operation soapAction="ask"/><input><soap:body use="literal"/></input><output><soap:body use="literal"/></output></operation>
</binding>{extra}
<service name="S"><port name="Port" binding="t:B"><soap:address location="http://127.0.0.1:9/"/></port></service>
</definitions>"""


def validator(contract: ReadContract) -> etree.XMLSchema:
    """libxml2's validator over all schemas of a contract whose parts are inline, or of one folder."""
    place = Path(tempfile.mkdtemp())
    roots = [etree.fromstring(etree.tostring(node)) for node in schemas_of(contract.parts)]
    names = {root.get("targetNamespace", ""): f"{index}.xsd" for index, root in enumerate(roots)}
    for root in roots:
        for node in root.iterfind(f"{_X}import"):
            if node.get("namespace") in names:
                node.set("schemaLocation", names[node.get("namespace", "")])
        (place / names[root.get("targetNamespace", "")]).write_bytes(etree.tostring(root))
    imports = "".join(f'<xs:import namespace="{name}" schemaLocation="{file}"/>' if name else f'<xs:import schemaLocation="{file}"/>'
                      for name, file in names.items())
    (place / "all.xsd").write_text(f'<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema">{imports}</xs:schema>')
    return etree.XMLSchema(etree.parse(str(place / "all.xsd")))
