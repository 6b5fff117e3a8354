"""Entries to records: items in items, where each begins, how long it is and how its bytes are to be read.

The strategy: level numbers nest (`_nested`), clauses are settled from the outside in (USAGE and SIGN go down), names are looked up
(REDEFINES, DEPENDING ON, RENAMES), then one pass lays the items out at their largest. An item behind a table of varying length has that
offset only when the table is full; who reads bytes counts as it goes (`codec`).

Lengths, as compilers of the mainframe make them (-std=ibm): COMP 2, 4 or 8 bytes for up to 4, 9 or 18 digits, 16 above; packed
digits // 2 + 1; a separate sign one byte more. SYNCHRONIZED puts binary numbers on multiples of 2, 4, or 8 (COMP-2), 8-byte ones of 4;
slack within an element of a table is put at its end, so that every element lies like the first.
"""

from collections.abc import Mapping, Sequence

from bricola.core.cobol.clauses import Entry
from bricola.core.cobol.copying import Library, expanded, replaced, replacements_of
from bricola.core.cobol.entries import entries_of
from bricola.core.cobol.items import Condition, Item, Record, Renaming
from bricola.core.cobol.source import Dialect, SourceFormat, Spot, guessed_format, words_of, wrong

_USUAL = Dialect()
UNNAMED = "RECORD"  # what a record is called whose 01 is not in the copybook
MAX_LENGTH = 16_777_215  # bytes of one record
_FIXED_SIZES = {"float": 4, "double": 8, "index": 4, "pointer": 4, "char": 1, "short": 2, "long": 4, "longlong": 8}
_NUMERIC_USAGES = ("binary", "packed", "native", "unsigned-packed")


def records_of(
    copybook: str,
    source_format: SourceFormat | None = None,
    members: Mapping[str, str] | None = None,
    replacing: Mapping[str, str] | None = None,
    name: str = UNNAMED,
    dialect: Dialect = _USUAL,
) -> list[Record]:
    """The records that a copybook lays out, in its order.

    `members` are the copybooks that COPY may name, `replacing` what stands instead of what in the whole text, `name` what a record is
    called whose 01 is not in the copybook. Raises ProblemError with line and column of what is wrong.
    """
    library = Library.of(members or {}, source_format)
    words = replaced(expanded(words_of(copybook, source_format or guessed_format(copybook)), library), replacements_of(replacing or {}))
    return _nested(entries_of(words, dialect), name, dialect)


def record_of(records: Sequence[Record], name: str = "") -> Record:
    """One of them by name; without a name the only one. Raises ProblemError that names those there are."""
    if not name and len(records) == 1:
        return records[0]
    for one in records:
        if name and one.name == name.upper():
            return one
    spot = Spot("", 1, 1)
    if not name:
        raise wrong(
            spot,
            "The copybook has several records, and none was chosen.",
            code="copybook.record",
            choices=tuple(one.name for one in records),
        )
    raise wrong(
        spot,
        f"The copybook has no record {name.upper()}.",
        found=name.upper(),
        code="copybook.record",
        choices=tuple(one.name for one in records),
    )


def _nested(entries: Sequence[Entry], name: str, dialect: Dialect) -> list[Record]:
    """Entries grouped into records, each settled and laid out."""
    groups: list[list[Entry]] = []
    for entry in entries:
        if entry.level in (1, 77):
            groups.append([entry])
        elif (groups and groups[-1][0].level != 77) or (groups and entry.level == 88):
            groups[-1].append(entry)
        elif not groups and entry.level not in (66, 88):
            groups.append([Entry(1, name.upper(), entry.spot), entry])  # a copybook to be copied below an 01
        else:
            raise wrong(
                entry.spot,
                "This entry belongs to nothing.",
                expected="a record (level 01) before it",
                found=f"level {entry.level}",
                code="copybook.level",
            )
    records = []
    for group in groups:
        records.append(_record(group, dialect))
    return records


def _record(entries: Sequence[Entry], dialect: Dialect) -> Record:
    top, *rest = entries
    stack: list[tuple[Item, Entry]] = []
    made: list[tuple[Item, Entry]] = []
    renames: list[Entry] = []
    root: Item | None = None
    for entry in (top, *rest):
        if entry.level == 88:
            if not made or not entry.values:
                raise wrong(entry.spot, "A condition-name (level 88) has a VALUE and an item before it.", code="copybook.condition")
            made[-1][0].conditions.append(Condition(entry.name, tuple(entry.values)))
            continue
        if entry.level == 66:
            if entry.renames is None:
                raise wrong(entry.spot, f"Level 66 ({entry.name}) says what it renames.", expected="RENAMES", code="copybook.clause")
            renames.append(entry)
            continue
        if entry.renames is not None:
            raise wrong(entry.spots["RENAMES"], "Only level 66 renames.", found=f"level {entry.level:02}", code="copybook.clause")
        item = Item(entry.level, entry.name, entry.spot, "group")
        while stack and stack[-1][0].level >= entry.level:
            stack.pop()
        if stack:
            item.parent = stack[-1][0]
            item.parent.children.append(item)
            if stack[-1][1].picture is not None:
                above = stack[-1][1]
                raise wrong(
                    above.picture_spot or above.spot,
                    f"{above.name or 'FILLER'} has a PICTURE and items below it.",
                    expected="a higher level number for what is beside it, or no PICTURE",
                    code="copybook.level",
                    found=f"level {entry.level:02} below level {above.level:02}",
                )
        stack.append((item, entry))
        made.append((item, entry))
        root = root or item
    assert root is not None
    if top.occurs:
        raise wrong(top.spots["OCCURS"], "A record (level 01) is no table.", found="OCCURS", code="copybook.occurs")
    _settle(root, {id(item): entry for item, entry in made}, "", None, False, dialect)
    _name_each(made)
    _lay_out(root, 0)
    if root.length > MAX_LENGTH:
        raise wrong(
            top.spot,
            "The record is longer than anything that is read here.",
            expected=f"at most {MAX_LENGTH} bytes",
            found=str(root.length),
            code="copybook.too-large",
        )
    return Record(root, tuple(_renaming(entry, root) for entry in renames))


def _settle(item: Item, entries: Mapping[int, Entry], usage: str, sign: tuple[bool, bool] | None, sync: bool, dialect: Dialect) -> None:
    """Clauses of groups go to the items in them; an item's own wins."""
    entry = entries[id(item)]
    usage, sign, sync = entry.usage or usage, entry.sign or sign, entry.sync or sync
    item.occurs, item.justified, item.values = entry.occurs, entry.justified, tuple(entry.values)
    if item.children:
        for clause, key in ((entry.justified, "JUST"), (entry.blank_zero, "BLANK")):
            if clause:
                raise wrong(
                    entry.spots[key], f"The group {item.name or 'FILLER'} cannot have this clause.", found=key, code="copybook.clause"
                )
        for child in item.children:
            _settle(child, entries, usage, sign, sync, dialect)
        return
    item.sync = sync
    _elementary(item, entry, usage, sign, dialect)


def _elementary(item: Item, entry: Entry, usage: str, sign: tuple[bool, bool] | None, dialect: Dialect) -> None:
    name = item.name or "FILLER"
    picture = entry.picture
    if usage in _FIXED_SIZES:
        if picture is not None:
            raise wrong(
                entry.picture_spot or item.spot, f"{name} has a USAGE that takes no PICTURE.", found=picture.text, code="copybook.picture"
            )
        item.length = _FIXED_SIZES[usage]
        item.kind = usage if usage in ("float", "double") else "bytes" if usage == "pointer" else "binary"
        if item.kind == "binary":
            item.native, item.index = True, usage == "index"
            item.signed = True if entry.usage_signed is None else entry.usage_signed
            item.digits = item.stored = {1: 3, 2: 5, 4: 10, 8: 20}[item.length]
        return
    if picture is None:
        raise wrong(
            item.spot, f"{name} has no PICTURE, and no items below it.", expected="PIC and a character-string", code="copybook.picture"
        )
    item.picture = picture.text
    item.digits, item.stored, item.scale, item.signed = picture.digits, picture.stored, picture.scale, picture.signed
    category = picture.category
    if usage in _NUMERIC_USAGES and category != "numeric":
        raise wrong(
            entry.picture_spot or item.spot,
            f"The USAGE of {name} needs a PICTURE of a number.",
            expected="9, S, V and P",
            found=picture.text,
            code="copybook.picture",
        )
    if entry.blank_zero and category not in ("numeric", "numeric-edited"):
        raise wrong(entry.spots["BLANK"], f"BLANK WHEN ZERO of {name} needs a number.", found=picture.text, code="copybook.clause")
    if item.justified and category not in ("alphabetic", "alphanumeric", "national", "dbcs"):
        raise wrong(entry.spots["JUST"], f"JUSTIFIED of {name} needs a text.", found=picture.text, code="copybook.clause")
    item.blank_zero = entry.blank_zero
    if category in ("national", "national-edited") or usage == "national":
        if category not in ("national", "national-edited"):
            raise wrong(
                item.spot,
                f"{name}: a number or text of 9, A or X in USAGE NATIONAL is not read here.",
                found=picture.text,
                expected="N",
                code="copybook.usage",
            )
        item.kind, item.length = "national", picture.size * 2
    elif category == "dbcs" or usage == "dbcs":
        item.kind, item.length = "bytes", picture.size * 2
    elif category != "numeric":
        item.kind = {"numeric-edited": "number-edited", "floating": "number-edited", "alphanumeric-edited": "text-edited"}.get(
            category, "text"
        )
        item.length = picture.size
    elif entry.blank_zero:
        item.kind, item.length = "number-edited", picture.size  # a blank is no digit: text, as any edited number
    else:
        _number(item, usage, sign, picture.stored, dialect)


def _number(item: Item, usage: str, sign: tuple[bool, bool] | None, stored: int, dialect: Dialect) -> None:
    if usage in ("binary", "native"):
        item.kind, item.native = "binary", usage == "native"
        least = 1 if item.native and stored <= 2 and dialect.native_bytes == 1 else 2
        item.length = least if stored <= 4 else 4 if stored <= 9 else 8 if stored <= 18 else 16
    elif usage == "packed":
        item.kind, item.length = "packed", stored // 2 + 1
    elif usage == "unsigned-packed":
        item.kind, item.length, item.signed = "unsigned-packed", (stored + 1) // 2, False
    else:
        item.kind, item.length = "zoned", stored
        if item.signed and sign is not None:
            item.leading, item.separate = sign
            item.length += item.separate


def _name_each(made: Sequence[tuple[Item, Entry]]) -> None:
    """What entries name is found: the item that is redefined, the one that counts."""
    before: list[Item] = []
    for item, entry in made:
        if entry.redefines:
            item.redefines = _redefined(item, entry)
        if entry.depending:
            counts = [one for one in before if one.name == entry.depending]
            spot = entry.spots["OCCURS"]
            if not counts:
                raise wrong(
                    spot,
                    f"The table {item.name or 'FILLER'} depends on {entry.depending}, which is not before it in this record.",
                    found=entry.depending,
                    code="copybook.depending",
                    choices=tuple(one.name for one in before if one.kind in ("zoned", "packed", "binary") and one.name)[-20:],
                )
            count = counts[-1]
            if count.kind not in ("zoned", "packed", "unsigned-packed", "binary") or count.scale > 0:
                raise wrong(
                    spot,
                    f"{entry.depending} cannot count occurrences.",
                    expected="a whole number",
                    found=count.picture or "a group",
                    code="copybook.depending",
                )
            item.depending = count
        before.append(item)


def _redefined(item: Item, entry: Entry) -> Item | None:
    spot = entry.spots["REDEFINES"]
    if item.parent is None:
        return None  # an 01 over another 01: a record of its own
    siblings = item.parent.children
    before = siblings[: next(i for i, one in enumerate(siblings) if one is item)]
    for at in range(len(before) - 1, -1, -1):
        target = before[at]
        if target.name != entry.redefines:
            continue
        root = target.redefines or target
        between = [one for one in before[at + 1 :] if one.redefines is not root]
        if between:
            raise wrong(
                spot,
                f"{item.name or 'FILLER'} redefines {target.name}, but {between[0].name or 'FILLER'} stands between them: the "
                "two would overlap.",
                expected=f"to follow {target.name} and its views at once",
                found=entry.redefines,
                code="copybook.redefines",
            )
        if root.depending is not None or item.depending is not None:
            raise wrong(
                spot, "A table of varying length is neither redefined nor redefines.", found=entry.redefines, code="copybook.redefines"
            )
        return root
    near = [one for one in before if one.name]
    raise wrong(
        spot,
        f"{item.name or 'FILLER'} redefines {entry.redefines}, which is not before it on the same level.",
        found=entry.redefines,
        choices=tuple(one.name for one in near[-20:]),
        code="copybook.redefines",
    )


def _boundary(item: Item) -> int:
    """The multiple that a SYNCHRONIZED item starts at."""
    if not item.sync or item.kind not in ("binary", "float", "double", "bytes"):
        return 1
    return {1: 1, 2: 2, 4: 4, 8: 8 if item.kind == "double" else 4}.get(item.length, 4)


def _largest(item: Item) -> int:
    return max([_boundary(item), *(_largest(child) for child in item.children)])


def _lay_out(item: Item, offset: int) -> int:
    """Give an item and all in it their places; the first free byte behind all its occurrences."""
    boundary = 1 if item.children else _boundary(item)
    item.offset = offset = -(-offset // boundary) * boundary
    if item.children:
        furthest = offset
        for child in item.children:
            furthest = max(furthest, _lay_out(child, furthest if child.redefines is None else child.redefines.offset))
        item.length = furthest - offset
        if item.occurs:
            largest = _largest(item)
            item.length = -(-item.length // largest) * largest
        if item.length > MAX_LENGTH:
            return offset + item.length
    return offset + item.total


def _renaming(entry: Entry, root: Item) -> Renaming:
    assert entry.renames is not None
    ends = []
    for name in entry.renames:
        named = [one for one in root.walk() if one.name == name and one is not root]
        if not named:
            raise wrong(
                entry.spots["RENAMES"],
                f"{entry.name} renames {name}, which is not in this record.",
                found=name,
                choices=tuple(one.name for one in root.walk() if one.name and one is not root)[:40],
                code="copybook.renames",
            )
        ends.append(named[0])
    first, last = ends
    end = last.offset + last.total
    if end <= first.offset:
        raise wrong(
            entry.spots["RENAMES"],
            f"{entry.name} would end before it begins.",
            expected=f"{first.name} before {last.name}",
            found=f"{first.name} THRU {last.name}",
            code="copybook.renames",
        )
    return Renaming(entry.name, first.offset, end - first.offset, first if first is last else None)
