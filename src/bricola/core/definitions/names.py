"""Names in the spellings that columns, addresses and contracts want."""

import re


def _words(name: str) -> list[str]:
    return re.findall(r"[A-Z]+(?![a-z])|[A-Z]?[a-z]+|\d+", name)


def snake_case(name: str) -> str:
    return "_".join(word.lower() for word in _words(name))


def kebab_case(name: str) -> str:
    return "-".join(word.lower() for word in _words(name))


def pascal_case(name: str) -> str:
    return "".join(word[0].upper() + word[1:] for word in _words(name))
