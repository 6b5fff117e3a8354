"""Two layouts of one record: which items came, went, moved, and hold something else now."""

from typing import NotRequired

from pydantic import ConfigDict, with_config
from typing_extensions import TypedDict

from bricola.core.cobol.describing import ItemRow, Layout


@with_config(ConfigDict(extra="forbid"))
class Moved(TypedDict):
    """One difference: `added`, `removed`, `moved`, `longer`, `shorter`, `changed` (its kind, digits or flags), `repeats` (how often it is
    there), and what it was and is in words."""

    path: str
    what: str
    was: NotRequired[str]
    now: NotRequired[str]


def compared(old: Layout, new: Layout) -> list[Moved]:
    """All differences, in the order of the new record; what went comes last. An item is known by its path."""
    before = {one["path"]: one for one in old["items"] if one["name"] != "FILLER"}
    found: list[Moved] = []
    for one in new["items"]:
        if one["name"] == "FILLER":
            continue
        known = before.pop(one["path"], None)
        if known is None:
            found.append(Moved(path=one["path"], what="added", now=_words(one)))
        else:
            found += _one(known, one)
    return [*found, *(Moved(path=path, what="removed", was=_words(one)) for path, one in before.items())]


def _one(old: ItemRow, new: ItemRow) -> list[Moved]:
    found: list[Moved] = []
    path = new["path"]
    if _occurs(old) != _occurs(new):
        found.append(Moved(path=path, what="repeats", was=_occurs(old), now=_occurs(new)))
    if _held(old) != _held(new):
        longer = old["kind"] == new["kind"] and old["length"] != new["length"]
        what = "changed" if not longer else "longer" if new["length"] > old["length"] else "shorter"
        found.append(Moved(path=path, what=what, was=_words(old), now=_words(new)))
    if old["offset"] != new["offset"]:
        found.append(Moved(path=path, what="moved", was=f"offset {old['offset']}", now=f"offset {new['offset']}"))
    return found


def _held(row: ItemRow) -> tuple[object, ...]:
    """What says how its bytes are read; of a group nothing, since its items say it."""
    if row["kind"] == "group":
        return ("group",)
    return (row["kind"], row["length"], row.get("digits"), row.get("scale"), tuple(row["flags"]))


def _words(row: ItemRow) -> str:
    told = row.get("picture") or row["kind"]
    return f"{told}, {row['length']} bytes at {row['offset']}"


def _occurs(row: ItemRow) -> str:
    occurs = row.get("occurs")
    if occurs is None:
        return "once"
    return f"{occurs['most']} times" if occurs["least"] == occurs["most"] else f"{occurs['least']} to {occurs['most']} times"
