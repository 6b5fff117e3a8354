"""Plain patterns in words, since few who send a wrong value read regular expressions.

What is read is a row of literal letters, classes and counts (`LK-\\d{4}`: "LK-, then 4 digits"), or some such rows beside one another
(`A|B`). Whatever else a pattern says (XML Schema Part 2, appendix G) has no words here.
"""

import re

_ATOM = re.compile(r"(?P<class>\\d|\\w|\\s|\[[^\[\]\\]*\])|\\(?P<escaped>[^A-Za-z0-9])|(?P<literal>[^\\\[\](){}|?*+.^$])|(?P<any>\.)")
_COUNT = re.compile(r"\{(\d+)(,(\d*))?\}|[?*+]")
_CLASSES = {
    r"\d": "digit", "[0-9]": "digit", "[A-Z]": "capital letter", "[a-z]": "small letter", "[A-Za-z]": "letter", "[a-zA-Z]": "letter",
    "[A-Z0-9]": "capital letter or digit", "[0-9A-Z]": "capital letter or digit", "[a-z0-9]": "small letter or digit",
    "[A-Za-z0-9]": "letter or digit", "[a-zA-Z0-9]": "letter or digit", "[0-9A-F]": "hexadecimal digit", "[0-9A-Fa-f]": "hexadecimal digit",
    "[0-9a-f]": "hexadecimal digit", "[01]": "0 or 1", r"\s": "blank",
}
_NAMED = {" ": "a blank", ",": "a comma", ".": "a point"}


def in_words(pattern: str) -> str:
    """The form that a pattern asks for, in words; '' for one that has none."""
    parts = pattern.split("|")
    told = [_row(one) for one in parts]
    if not all(told) or any(letter in pattern for letter in "()"):
        return ""
    return " or ".join(told)


def _row(pattern: str) -> str:
    words: list[str] = []
    literal, at = "", 0
    while at < len(pattern):
        found = _ATOM.match(pattern, at)
        if found is None:
            return ""
        at = found.end()
        counted = _COUNT.match(pattern, at)
        if counted is not None:
            at = counted.end()
        letter = found["escaped"] or found["literal"]
        if letter is not None and counted is None:
            literal += letter
            continue
        what = repr(letter) if letter is not None else "letter or mark" if found["any"] else _CLASSES.get(found["class"], "")
        if not what:
            return ""
        if literal:
            words.append(_literal(literal))
            literal = ""
        words.append(_counted(what, counted))
    if literal:
        words.append(_literal(literal))
    return ", then ".join(words)


def _literal(text: str) -> str:
    return _NAMED.get(text, text)


def _counted(what: str, counted: "re.Match[str] | None") -> str:
    sign = counted[0] if counted is not None else ""
    if not sign:
        return f"one {what}"
    if sign == "?":
        return f"perhaps one {what}"
    many = " or ".join(f"{one}s" for one in what.split(" or ")) if "mark" not in what and what != "0 or 1" else f"of {what}"
    if sign == "*":
        return f"any number of {many}"
    if sign == "+":
        return f"one or more {many}"
    assert counted is not None
    least, most = counted[1], counted[3]
    if counted[2] is None:
        return f"one {what}" if least == "1" else f"{least} {many}"
    if not most:
        return f"{least} or more {many}"
    return f"{f'up to {most}' if least == '0' else f'{least} to {most}'} {many}"
