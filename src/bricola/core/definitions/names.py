"""Names in the spellings that columns, addresses and contracts want."""

import re
import unicodedata
from collections.abc import Collection, Iterable


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


def readable(column: str) -> str:
    """A column's name as an element's: `Operator_No.` becomes operatorNo, `GRÖSSE (m)` groesseM."""
    text = column.replace("ß", "ss")
    for letter, plain in (("ä", "ae"), ("ö", "oe"), ("ü", "ue"), ("Ä", "AE"), ("Ö", "OE"), ("Ü", "UE")):
        text = text.replace(letter, plain if not plain.isupper() or column.upper() == column else plain.capitalize())
    text = unicodedata.normalize("NFKD", text).encode("ascii", "ignore").decode()
    words = [part for piece in re.split(r"[^A-Za-z0-9]+", text) if piece
             for part in (re.findall(r"[A-Z]+(?![a-z])|[A-Z]?[a-z]+|\d+", piece) if not piece.isupper() else [piece])]
    name = "".join(one.lower() if index == 0 else one[0].upper() + one[1:].lower() for index, one in enumerate(words))
    if not name:
        return "column"
    return name if name[0].isalpha() else f"n{name}"


def words_of(name: str) -> str:
    """A field's name as words: operatorNumber is operator number."""
    return " ".join(one.lower() for one in _parts(name))


def label_of(name: str) -> str:
    """A field's name as people read it: Operator number."""
    words = words_of(name)
    return words[0].upper() + words[1:] if words else name


def readable_names(columns: Iterable[str], taken: Collection[str] = ()) -> dict[str, str]:
    """A readable name for each column, no two alike, and none of those that are taken."""
    names: dict[str, str] = {}
    for column in columns:
        base = name = readable(column)
        count = 2
        while name in names.values() or name in taken:
            name, count = f"{base}{count}", count + 1
        names[column] = name
    return names
