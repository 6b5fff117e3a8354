"""What two elements say, held beside each other."""

from decimal import Decimal, InvalidOperation

from lxml import etree

XSI = "{http://www.w3.org/2001/XMLSchema-instance}"


def payload(envelope: etree._Element) -> etree._Element:
    body = next(one for one in envelope if etree.QName(one).localname == "Body")
    return body[0]


def differences(one: etree._Element, other: etree._Element, at: str = "") -> list[str]:
    """Where two elements differ in what they say; prefixes, order of attributes and ways of writing a number are nothing."""
    at = f"{at}/{etree.QName(one).localname}"
    if one.tag != other.tag:
        return [f"{at}: {one.tag} and {other.tag}"]
    found = []
    # what a peer has and the message has not is the default that the contract gives an attribute
    names = {name for name in one.attrib if not name.startswith(XSI)}
    found += [f"{at}@{name}" for name in names if not same(one.get(name), other.get(name))]
    inner = [[two for two in node if isinstance(two.tag, str)] for node in (one, other)]
    if len(inner[0]) != len(inner[1]):
        return [*found, f"{at}: {len(inner[0])} and {len(inner[1])} elements"]
    if not inner[0] and not same(one.text, other.text):
        found.append(f"{at}: {one.text!r} and {other.text!r}")
    return [*found, *(line for pair in zip(*inner, strict=True) for line in differences(*pair, at))]


def same(one: str | None, other: str | None) -> bool:
    if (one or "").strip() == (other or "").strip():
        return True
    try:
        return float(Decimal(one or "")) == float(Decimal(other or ""))  # one of the stacks holds decimals in a double
    except InvalidOperation:
        return False
