"""Names that are nearly right: the one that was meant, and the others in words."""

import difflib
from collections.abc import Iterable, Sequence

_NEAR = 0.7  # below, what is proposed is more often wrong than right
_MOST_LISTED = 20
_MOST_COMPARED = 200  # names; messages of strangers come here, and comparing takes some microseconds for each
_LONGEST = 80


def nearest(name: str, known: Iterable[str]) -> str:
    """The known name that is meant; '' where none is near. Case and the marks between words are no difference."""
    names = list(known)
    plain = {_plain(one): one for one in reversed(names)}
    return plain.get(_plain(name)) or next(iter(difflib.get_close_matches(name[:_LONGEST], names[:_MOST_COMPARED], 1, _NEAR)), "")


def did_you_mean(name: str, known: Iterable[str]) -> str:
    """The mend for a name that does not exist; '' where no known one is near."""
    near = nearest(name, known)
    return asking_for(near) if near and near != name else ""


def asking_for(name: str) -> str:
    return f"Did you mean {name}?"


def one_of(known: Sequence[str]) -> str:
    """What may stand there, in words."""
    if len(known) == 1:
        return known[0]
    more = len(known) - _MOST_LISTED
    return f"one of {', '.join(known[:_MOST_LISTED])}" + (f" and {more} more" if more > 0 else "")


def _plain(name: str) -> str:
    return "".join(letter for letter in name.lower() if letter.isalnum())
