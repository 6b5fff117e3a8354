"""Another reader of a contract: libxml2's validator of the schemas in it, which knows nothing of how our codecs read them."""

import io
from collections.abc import Iterable
from functools import lru_cache
from itertools import islice
from typing import Any

from lxml import etree

from bricola.core.contracts.names import ENVELOPE11, ENVELOPE12, WSDL
from bricola.core.testing.replies import Judge

_XS = "http://www.w3.org/2001/XMLSchema"
_MOST = 5


class _Parts(etree.Resolver):
    """Gives the schemas of a contract by the addresses that we give them."""

    def __init__(self, parts: dict[str, bytes]) -> None:
        self._parts = parts

    def resolve(self, system_url: str, public_id: str, context: Any) -> Any:  # type: ignore[override]
        found = self._parts.get(system_url)
        return self.resolve_empty(context) if found is None else self.resolve_string(found, context)  # type: ignore[attr-defined, call-arg]


@lru_cache(64)
def schema_judge(contract: str) -> Judge | None:
    """A judge of what stands in bodies, made of the schemas inside a WSDL of ours; None where it has none. Raises lxml's
    XMLSchemaParseError for schemas that libxml2 does not take."""
    root = etree.fromstring(contract.encode())
    parts, lines = {}, []
    for number, schema in enumerate(root.iterfind(f"{{{WSDL}}}types/{{{_XS}}}schema")):
        for one in schema.iterfind(f"{{{_XS}}}import"):
            one.attrib.pop("schemaLocation", "")
        parts[f"part:{number}"] = etree.tostring(schema)
        lines.append(f'<xs:import namespace="{schema.get("targetNamespace", "")}" schemaLocation="part:{number}"/>')
    if not parts:
        return None
    parser = etree.XMLParser(resolve_entities=False, no_network=True)
    parser.resolvers.add(_Parts(parts))
    whole = f'<xs:schema xmlns:xs="{_XS}">{"".join(lines)}</xs:schema>'
    validator = etree.XMLSchema(etree.parse(io.BytesIO(whole.encode()), parser))

    def judge(payload: etree._Element) -> list[str]:
        return [words for one in _promised(payload) for words in against(one)]

    def against(node: etree._Element) -> list[str]:
        if validator.validate(node):
            return []
        log: Iterable[Any] = validator.error_log  # type: ignore[assignment]  # lxml's types do not say that it can be gone through
        return [str(one.message) for one in islice(log, _MOST)]

    return judge


def _promised(payload: etree._Element) -> list[etree._Element]:
    """What a contract says of a body: its element; of a fault, what stands in its detail."""
    name = etree.QName(payload)
    if name.localname != "Fault" or name.namespace not in (ENVELOPE11, ENVELOPE12):
        return [payload]
    return [inner for node in payload if etree.QName(node).localname.lower() == "detail" for inner in node]
