"""Values as they are kept of a job: JSON that gives every value back as it was, without a shape at hand.

Text, whole numbers, truth and None are themselves; every other value of `shapes.primitives` is an object with one member whose name
begins with `:`. A record that has such a name itself is written as `{":record": [[name, value], ...]}`.
"""

import base64
import json
from collections.abc import Callable
from datetime import UTC, date, datetime, time
from decimal import Decimal
from typing import Any

_WRITE: dict[type, tuple[str, Callable[[Any], Any]]] = {
    Decimal: (":decimal", lambda one: format(one, "f")),
    float: (":float", repr),
    date: (":date", date.isoformat),
    datetime: (":moment", datetime.isoformat),
    time: (":time", time.isoformat),
    bytes: (":bytes", lambda one: base64.b64encode(one).decode("ascii")),
}
_READ: dict[str, Callable[[Any], Any]] = {
    ":decimal": Decimal, ":float": float, ":date": date.fromisoformat, ":moment": datetime.fromisoformat, ":time": time.fromisoformat,
    ":bytes": base64.b64decode, ":record": lambda pairs: {name: _back(value) for name, value in pairs},
}


def moment(seconds: float) -> datetime:
    """A moment in UTC, to the second."""
    return datetime.fromtimestamp(int(seconds), UTC)


def written(values: Any) -> str:
    """Raises TypeError for what is no value."""
    return json.dumps(_plain(values), ensure_ascii=False, separators=(",", ":"))


def read(text: str) -> Any:
    return _back(json.loads(text))


def _plain(value: Any) -> Any:
    if value is None or value.__class__ in (str, int, bool):
        return value
    if isinstance(value, dict):
        if any(name.startswith(":") for name in value):
            return {":record": [[name, _plain(one)] for name, one in value.items()]}
        return {name: _plain(one) for name, one in value.items()}
    if isinstance(value, list | tuple):
        return [_plain(one) for one in value]
    known = _WRITE.get(value.__class__)
    if known is None:
        raise TypeError(f"{value.__class__.__name__} is no value that can be kept")
    return {known[0]: known[1](value)}


def _back(plain: Any) -> Any:
    if isinstance(plain, list):
        return [_back(one) for one in plain]
    if not isinstance(plain, dict):
        return plain
    if len(plain) == 1:
        name, inside = next(iter(plain.items()))
        if name in _READ:
            return _READ[name](inside)
    return {name: _back(one) for name, one in plain.items()}
