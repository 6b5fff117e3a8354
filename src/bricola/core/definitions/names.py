"""Names in the spellings that columns, addresses and contracts want."""

import re


def _parts(name: str) -> list[str]:
    return re.findall(r"[A-Z]+(?![a-z])|[A-Z]?[a-z]+|\d+", name)


def snake_case(name: str) -> str:
    return "_".join(word.lower() for word in _parts(name))


def kebab_case(name: str) -> str:
    return "-".join(word.lower() for word in _parts(name))


def camel_case(name: str) -> str:
    first, *rest = _parts(name) or [""]
    return first.lower() + "".join(word.capitalize() for word in rest)


def pascal_case(name: str) -> str:
    return "".join(word[0].upper() + word[1:] for word in _parts(name))
