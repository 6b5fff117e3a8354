"""Encoders: from values to the text of a message, as Python source generated when a service is deployed.

Strategy: one function per record, straight-line, that fetches each value, checks its class and facets, and
ends in a single f-string of all pieces. No tree is built. Names and tags enter the source as constants;
values never do. A value that breaks the contract raises: an answer is as promised or it is a fault.
"""

from collections.abc import Callable, Mapping
from decimal import Decimal
from functools import lru_cache
from types import CodeType
from typing import Any

from bricola.core.problems import Kind, Problem, ProblemError, shown
from bricola.core.shapes.model import Element, Record
from bricola.core.shapes.simple import SimpleType

Encoder = Callable[[Mapping[str, Any]], str]

# How a checked value is written inside an f-string, by its Python class.
_PLAIN = {"int": "{one}", "date": "{one.isoformat()}"}


def escape(text: str) -> str:
    """Text as element content (XML 1.0, section 2.4). Raises ValueError for characters that XML cannot hold."""
    if "&" in text:
        text = text.replace("&", "&amp;")
    if "<" in text:
        text = text.replace("<", "&lt;")
    if ">" in text:
        text = text.replace(">", "&gt;")
    if not text.isprintable():
        for character in text:
            code = ord(character)
            if (code < 32 and character not in "\t\n\r") or 0xD800 <= code <= 0xDFFF or code in (0xFFFE, 0xFFFF):
                raise ValueError(f"U+{code:04X}")
        text = text.replace("\r", "&#13;")
    return text


def _is_safe(text: str) -> bool:
    return escape(text) == text


def compile_encoder(record: Record, namespace: str) -> Encoder:
    """A function from the values of a wrapper record to its element's text, in the default namespace."""
    return _Generator(namespace).compile(record)


@lru_cache(2048)
def _code(source: str) -> CodeType:
    """Operations with answers of one structure have one source: what differs are their constants."""
    return compile(source, "<encoder>", "exec")


class _Generator:
    def __init__(self, namespace: str) -> None:
        self.namespace = namespace
        self.constants: dict[str, Any] = {"escape": escape, "miss": _miss, "bad": _bad, "listed": _listed}
        self.source: list[str] = []
        self.made: dict[str, str] = {}

    def compile(self, record: Record) -> Encoder:
        inner = self.function(record, record.name)
        head = f'<{record.name} xmlns="{escape(self.namespace).replace(chr(34), "&quot;")}">'
        self.constants |= {"head": head, "tail": f"</{record.name}>"}
        self.source.append(f"def encode(v): return head + {inner}(v) + tail")
        exec(_code("\n".join(self.source)), self.constants)  # the source is made here, from names that the definitions' models have checked
        encoder: Encoder = self.constants["encode"]
        return encoder

    def constant(self, value: object) -> str:
        name = f"c{len(self.constants)}"
        self.constants[name] = value
        return name

    def function(self, record: Record, path: str) -> str:
        if record.name in self.made:
            return self.made[record.name]
        name = self.made[record.name] = f"record{len(self.made)}"
        lines = [f"def {name}(v):", " get = v.get"]
        pieces = []
        for index, element in enumerate(record.elements):
            lines += self.element(element, f"x{index}", f"{path}/{element.name}")
            pieces.append(f"{{x{index}}}")
        lines.append(f" return f'{''.join(pieces)}'")
        self.source += lines
        return name

    def element(self, element: Element, var: str, path: str) -> list[str]:
        at = self.constant((element, path))
        if isinstance(element.type, Record):
            inner = self.function(element.type, path)
            text = [f"'<{element.name}>' + {inner}(one) + '</{element.name}>'"]
            prepare: list[str] = []
        else:
            prepare, text = self.simple(element.type, at)
            text = [f"f'<{element.name}>{text[0]}</{element.name}>'"]
        lines = [f" {var} = get({element.name!r})"]
        if element.is_list:
            lines += [f" {var} = listed({at}, {var})", " parts = []", f" for one in {var}:"]
            lines += [f"  {line}" for line in prepare] + [f"  parts.append({text[0]})", f" {var} = ''.join(parts)"]
            return lines
        lines.append(f" if {var} is None: {var} = " + ("''" if element.least == 0 else f"miss({at})"))
        lines += [" else:", f"  one = {var}"] + [f"  {line}" for line in prepare] + [f"  {var} = {text[0]}"]
        return lines

    def simple(self, kind: SimpleType, at: str) -> tuple[list[str], list[str]]:
        """Lines that check `one`, and how it stands inside an f-string."""
        python = kind.primitive.python
        lines = [f"if one.__class__ is not {self.constant(python)}: bad({at}, one, 'value.type')"]
        if not kind.is_plain or kind.primitive.lowest is not None:
            check = self.constant(kind.check)
            lines += [f"broken = {check}(one)", f"if broken: bad({at}, one, broken)"]
        if python is str and kind.codes and all(_is_safe(code) for code in kind.codes):
            return lines, ["{one}"]
        if python is Decimal:  # half the cost of the format "f", which only very large and very small ones need
            return [*lines, "one_text = str(one)", "if 'E' in one_text: one_text = format(one, 'f')"], ["{one_text}"]
        if python is str:
            lines += [
                "if not one.isalnum():", " try: one = escape(one)",
                f" except ValueError: bad({at}, one, 'value.character')",
            ]
            return lines, ["{one}"]
        plain = _PLAIN.get(python.__name__)
        if plain is not None:
            return lines, [plain]
        return lines, [f"{{{self.constant(kind.primitive.write)}(one)}}"]


def _broken_answer(place: str, message: str, expected: str, found: str) -> ProblemError:
    return ProblemError(Problem(
        "answer.invalid", message, Kind.BACKEND, place=place, expected=expected, found=found,
        mend="Correct the data in the backend, or the type of the field.",
    ))


def _miss(at: tuple[Element, str]) -> str:
    element, path = at
    raise _broken_answer(path, f"The backend gave no value for {element.name}, which the contract promises.",
                         "a value", "nothing")


def _bad(at: tuple[Element, str], value: object, code: str) -> None:
    element, path = at
    rule = element.type.rule if isinstance(element.type, SimpleType) else ""
    if code == "value.character":
        rule = "characters that XML can hold"
    raise _broken_answer(path, f"The backend gave a value for {element.name} that the contract does not allow.",
                         rule, shown(value))


def _listed(at: tuple[Element, str], value: Any) -> Any:
    element, path = at
    items = () if value is None else value
    if len(items) < element.least or (element.most is not None and len(items) > element.most):
        raise _broken_answer(path, f"The backend gave the wrong number of {element.name}.", element.occurrence,
                             str(len(items)))
    return items
