"""What generated encoders call: escaping, and the refusal of values that the contract does not allow."""

from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from lxml import etree

from bricola.core.characters import outside_xml
from bricola.core.problems import Kind, Problem, ProblemError, shown
from bricola.core.shapes.model import Element, Record, Wildcard
from bricola.core.shapes.simple import SimpleType

At = tuple[Element, str]  # an element and its path
_PARSER = etree.XMLParser(resolve_entities=False, no_network=True, load_dtd=False, huge_tree=False)


def escape(text: str) -> str:
    """Text as element content (XML 1.0, section 2.4). Raises ValueError for characters that XML cannot hold."""
    if "&" in text:
        text = text.replace("&", "&amp;")
    if "<" in text:
        text = text.replace("<", "&lt;")
    if ">" in text:
        text = text.replace(">", "&gt;")
    if not text.isprintable():
        if outside := outside_xml(text):
            raise ValueError(outside)
        text = text.replace("\r", "&#13;")
    return text


def quoted(text: str) -> str:
    """Text as the value of an attribute between double quotes; its line ends and tabs survive normalisation (XML 1.0, section 3.3.3)."""
    return escape(text).replace('"', "&quot;").replace("\n", "&#10;").replace("\t", "&#9;")


def _broken(place: str, message: str, expected: str, found: str) -> ProblemError:
    return ProblemError(Problem(
        "answer.invalid", message, Kind.BACKEND, place=place, expected=expected, found=found,
        mend="Correct the data in the backend, or the type of the field.",
    ))


def miss(at: At) -> str:
    element, path = at
    raise _broken(path, f"The backend gave no value for {element.name}, which the contract promises.", "a value", "nothing")


def bad(at: At, value: object, code: str) -> None:
    element, path = at
    rule = element.type.rule if isinstance(element.type, SimpleType) else ""
    if code == "value.character":
        rule = "characters that XML can hold"
    elif code == "value.fixed" and isinstance(element.type, SimpleType):
        rule = element.type.write(element.fixed)
    found = "a value that is not shown" if element.sensitive else shown(value)
    raise _broken(path, f"The backend gave a value for {element.name} that the contract does not allow.", rule, found)


def listed(at: At, value: Any) -> Any:
    element, path = at
    items = () if value is None else value
    if len(items) < element.least or (element.most is not None and len(items) > element.most):
        raise _broken(path, f"The backend gave the wrong number of {element.name}.", element.occurrence, str(len(items)))
    return items


def pick(at: tuple[Sequence[frozenset[str]], bool, str], values: Mapping[str, Any]) -> int:
    """Which branch of a choice the values fill; -1 for none where the choice may be empty."""
    branches, may_be_empty, path = at
    present = [name for branch in branches for name in branch if values.get(name) not in (None, [])]
    for index, names in enumerate(branches):
        if present and all(one in names for one in present):
            return index
    if not present and may_be_empty:
        return -1
    words = " or ".join(dict.fromkeys(name for branch in branches for name in sorted(branch)))
    raise _broken(path, "The answer must have one of several alternatives.", f"one of {words}",
                  ", ".join(dict.fromkeys(present)) or "none")


def other_type(at: tuple[str, tuple[str, ...]], kind: object) -> None:
    path, known = at
    raise _broken(path, "The answer does not say which type stands here.", f"one of {', '.join(known)} as @type", shown(kind))


def parsed(text: object, path: str) -> etree._Element:
    if not isinstance(text, str):
        raise _broken(path, "This must be an element as XML text.", "XML", shown(text))
    try:
        root = etree.fromstring(text.encode(), _PARSER)
    except (etree.XMLSyntaxError, ValueError):
        raise _broken(path, "This is not one well-formed element.", "XML", shown(text)) from None
    if root.getroottree().docinfo.internalDTD is not None:
        raise _broken(path, "The element has a document type declaration.", "an element alone", shown(text))
    return root


def raw(at: At, value: object, tag: str, written: str) -> str:
    """An element with anything inside: as XML that is given whole, or as text that becomes its content."""
    _, path = at
    if isinstance(value, str) and not value.lstrip().startswith("<"):
        try:
            return f"<{written}>{escape(value)}</{written}>"
        except ValueError:
            bad(at, value, "value.character")
    root = parsed(value, path)
    if root.tag != tag:
        raise _broken(path, "This is another element than the contract promises.", tag, shown(root.tag))
    return etree.tostring(root, encoding="unicode")


def named(value: str) -> str:
    """The rest of an element whose value is a name, or several: declarations, and what they mean."""
    declared, text = _prefixed(value)
    return f"{declared}>{text}"


def named_attribute(name: str, value: str) -> str:
    declared, text = _prefixed(value)
    return f'{declared} {name}="{text}"'


def _prefixed(value: str | Iterable[str]) -> tuple[str, str]:
    words = [value] if isinstance(value, str) else list(value)
    declared, texts = "", []
    for index, word in enumerate(words):
        namespace, _, local = word[1:].partition("}") if word[:1] == "{" else ("", "", word)
        if namespace:
            declared += f' xmlns:v{index}="{quoted(namespace)}"'
        texts.append(f"v{index}:{escape(local)}" if namespace else escape(local))
    return declared, " ".join(texts)


def free_attributes(at: tuple[Wildcard, str], value: Mapping[str, object] | None) -> str:
    wildcard, path = at
    text = ""
    for index, (tag, one) in enumerate((value or {}).items()):
        if not wildcard.takes(tag) or not isinstance(one, str):
            raise _broken(path, "The attribute may not stand here.", wildcard.words.replace("element", "attribute"), shown(tag))
        namespace, _, local = tag[1:].partition("}") if tag[:1] == "{" else ("", "", tag)
        text += f' xmlns:a{index}="{quoted(namespace)}" a{index}:{local}="{quoted(one)}"' if namespace else f' {local}="{quoted(one)}"'
    return text


class Markup:
    """Writes mixed content that is given as XML text, when it is as the contract says."""

    def __init__(self, record: Record, namespace: str, path: str, prefixes: dict[str, str]) -> None:
        self._record = record
        self._namespace = namespace
        self._path = path
        self._declared = "".join(f' xmlns:{prefix}="{quoted(one)}"' for one, prefix in prefixes.items())
        self._decode: Any = None

    def __call__(self, value: object) -> str:
        from bricola.core.messages.decoder import compile_decoder  # reading is the judge of what is written as markup

        text = "" if value is None else value
        root = parsed(f"<content{self._declared}>{text}</content>", self._path)
        if self._decode is None:
            bare = Record(self._record.name, self._record.elements, content=self._record.content, mixed=self._record.mixed)
            self._decode = compile_decoder(bare, self._namespace)
        problems: list[Problem] = []
        self._decode(root, self._path, problems)
        if problems:
            raise _broken(problems[0].place, f"The answer is not as the contract promises. {problems[0].message}", problems[0].expected,
                          problems[0].found)
        return str(text)


class OpenPart:
    """Writes the elements of an open part, given as XML text: of a namespace that may stand there, and known where the contract says so
    (Part 1, section 3.10.1)."""

    def __init__(self, wildcard: Wildcard, path: str) -> None:
        self._wildcard = wildcard
        self._path = path
        self._decoders: dict[str, Any] = {}

    def __call__(self, value: Any) -> str:
        wildcard, path = self._wildcard, self._path
        items: Sequence[object] = () if value is None else (value,) if isinstance(value, str) else value
        if len(items) < wildcard.least or (wildcard.most is not None and len(items) > wildcard.most):
            raise _broken(path, "The backend gave the wrong number of elements.", wildcard.words, str(len(items)))
        parts = []
        for one in items:
            root = parsed(one, path)
            if not wildcard.takes(root.tag):
                raise _broken(path, "The element may not stand here.", wildcard.words, shown(root.tag))
            self._judge(root)
            parts.append(etree.tostring(root, encoding="unicode"))
        return "".join(parts)

    def _judge(self, root: etree._Element) -> None:
        from bricola.core.messages.decoder import compile_decoder  # reading is the judge of what is written as markup

        find = self._wildcard.find
        if self._wildcard.checked == "skip" or find is None:
            return
        if root.tag not in self._decoders:
            record = find(root.tag)
            self._decoders[root.tag] = compile_decoder(record, "") if record is not None else None
        decode = self._decoders[root.tag]
        if decode is None:
            if self._wildcard.checked == "strict":
                raise _broken(self._path, "The element is none that the contract knows.", self._wildcard.words, shown(root.tag))
            return
        problems: list[Problem] = []
        decode(root, self._path, problems)
        if problems:
            raise _broken(problems[0].place, f"The answer is not as the contract promises. {problems[0].message}", problems[0].expected,
                          problems[0].found)
