"""The source of the function that writes a record (see `codec`)."""

from collections.abc import Callable, Mapping, Sequence
from typing import Any

from bricola.core.cobol.fields import number_of
from bricola.core.cobol.floats import NotHeldError
from bricola.core.cobol.items import Item
from bricola.core.cobol.making import At, Maker, place_of, refused
from bricola.core.cobol.reading import end_of
from bricola.core.problems import Problem, ProblemError, shown


class _Writing:
    """The walk that writes source: every item puts its bytes into `out`, which has the length of the full record."""

    def __init__(self, maker: Maker) -> None:
        self.maker = maker
        self.lines: list[str] = []
        self.depth = 1
        self.indexes: list[str] = []
        self.variables = 0

    def put(self, line: str) -> None:
        self.lines.append("    " * self.depth + line)

    def fresh(self, prefix: str) -> str:
        self.variables += 1
        return f"{prefix}{self.variables}"

    def known(self, item: Item) -> str:
        return f"{self.maker.constant('I', item)}, ({', '.join(self.indexes)}{',' if self.indexes else ''})"

    def group(self, item: Item, at: At, values: str) -> At:
        """One occurrence of a group, out of the dict `values`. Names that it does not have are refused."""
        keys = self.maker.constant("K", frozenset(self._keys(item)))
        self.put(f"if not {values}.keys() <= {keys}: unknown({values}, {keys}, {self.known(item)})")
        return self._children(item, at, values)

    def _keys(self, item: Item) -> list[str]:
        found: list[str] = []
        for child in item.children:
            if child.name:
                found.append(self.maker.keys[id(child)])
            elif child.children:
                found += self._keys(child)
        return found

    def _children(self, item: Item, at: At, values: str) -> At:
        here, last = at, item.offset
        for child in item.children:
            if child.redefines is not None:
                continue
            here = here.plus(child.offset - last)
            if child.views():
                here = self._alternatives(child, here, values)
                last = max(one.offset + one.total for one in (child, *child.views()))
            else:
                here = self._one(child, here, values)
                last = child.offset + child.total
        return here.plus(item.offset + item.length - last)

    def _one(self, item: Item, at: At, values: str) -> At:
        if not item.name and not item.children:  # nothing is given for it
            filled = self.maker.initially(item) * (item.occurs[1] if item.occurs else 1)
            if filled.strip(b"\x00"):
                self.put(f"out[{at}:{at.plus(item.total)}] = {filled!r}")
            return at.plus(item.total)
        if item.occurs:
            return self._table(item, at, values)
        if not item.children:
            self._value(item, at, values)
            return at.plus(item.length)
        if not item.name:
            return self._children(item, at, values)
        inner = self.fresh("g")
        self.put(f"{inner} = {values}.get({self.maker.keys[id(item)]!r})")
        self.put(f"if type({inner}) is not dict: {inner} = group_given({inner}, {self.known(item)}, {self.maker.initial})")
        return self.group(item, at, inner)

    def _value(self, item: Item, at: At, values: str) -> None:
        key, writer = self.maker.keys[id(item)], self.maker.writer(item)
        target = f"out[{at}:{at.plus(item.length)}]"
        variable = f"c{self.maker.number(item)}" if id(item) in self.maker.counts else self.fresh("x")
        self.put(f"{variable} = {values}.get({key!r})")
        self.put(f"if {variable} is not None:")
        self.put(f"    try: {target} = {writer}({variable})")
        self.put(f"    except NotHeld as reason: no_fit(reason, {variable}, {self.known(item)})")
        if id(item) in self.maker.counts:  # the table says how many there are
            self.put(f"a{self.maker.number(item)} = {at}")
        elif self.maker.initial:
            self.put(f"else: {target} = {self.maker.initially(item)!r}")
        else:
            self.put(f"else: missing({self.known(item)})")

    def _table(self, item: Item, at: At, values: str) -> At:
        assert item.occurs is not None
        slides = self.maker.slides
        rows, count = self.fresh("l"), self.fresh("n")
        if item.name:
            self.put(f"{rows} = {values}.get({self.maker.keys[id(item)]!r})")
        else:
            keys = [self.maker.keys[id(one)] for one in item.children if one.name]
            self.put(f"{rows} = rows_of({values}, {keys!r})")
        given = "None" if item.depending is None else f"c{self.maker.number(item.depending)}"
        self.put(f"{rows} = table_given({rows}, {given}, {self.known(item)}, {self.maker.initial})")
        self.put(f"{count} = len({rows})")
        if item.depending is not None:
            number = self.maker.number(item.depending)
            self.put(f"if c{number} is None:")
            self.put(f"    out[a{number}:a{number} + {item.depending.length}] = {self.maker.writer(item.depending)}({count})")
            self.put(f"c{number} = {count}")
        position, index, row = self.fresh("p"), self.fresh("i"), self.fresh("r")
        running = slides and any(child.varying for child in item.children)
        self.put(f"{position} = {at}")
        self.put(f"for {index}, {row} in enumerate({rows}, 1):")
        self.depth += 1
        self.indexes.append(index)
        if item.children:
            self.put(f"if type({row}) is not dict: {row} = group_given({row}, {self.known(item)}, {self.maker.initial})")
            end = self.group(item, At(position, 0), row)
            self.put(f"{position} = {end if running else f'{position} + {item.length}'}")
        else:
            writer = self.maker.writer(item)
            self.put(
                f"if {row} is None: out[{position}:{position} + {item.length}] = {self.maker.initially(item)!r}"
                if self.maker.initial
                else f"if {row} is None: missing({self.known(item)})"
            )
            self.put("else:")
            self.put(f"    try: out[{position}:{position} + {item.length}] = {writer}({row})")
            self.put(f"    except NotHeld as reason: no_fit(reason, {row}, {self.known(item)})")
            self.put(f"{position} += {item.length}")
        self.indexes.pop()
        self.depth -= 1
        if slides and item.varying:
            after = self.fresh("q")
            self.put(f"{after} = {position}")
            return At(after, 0)
        return at.plus(item.total)

    def _alternatives(self, item: Item, at: At, values: str) -> At:
        """What is given of a redefined item and its views; two that say different things of the same bytes are refused."""
        everyone = [item, *item.views()]
        reach = max(one.offset + one.total for one in everyone) - item.offset
        initial = self.maker.initially(item) * (item.occurs[1] if item.occurs else 1)
        self.put(f"out[{at}:{at.plus(len(initial))}] = {initial!r}")
        done = self.fresh("v")
        self.put(f"{done} = []")
        for one in everyone:
            keys = [self.maker.keys[id(one)]] if one.name else self._keys(one)
            if not keys:
                continue
            test = " or ".join(f"{values}.get({key!r}) is not None" for key in keys)
            self.put(f"if {test}:")
            self.depth += 1
            self._one(one, at, values)
            mask = self.maker.constant("M", _mask(one))
            self.put(f"agree({done}, out[{at}:{at.plus(one.total)}], {mask}, {self.known(one)})")
            self.depth -= 1
        if not self.maker.initial:
            self.put(f"if not {done}: missing({self.known(item)})")
        return at.plus(reach)


def _mask(item: Item) -> bytes:
    """Which bytes of an item hold a value: 1, and 0 for those of nobody."""
    if not item.children:
        one = (b"\x01" if item.name else b"\x00") * item.length
        return one * (item.occurs[1] if item.occurs else 1)
    made = bytearray(item.length)
    for child in item.children:
        at = child.offset - item.offset
        inner = _mask(child)
        made[at : at + len(inner)] = bytes(map(max, made[at : at + len(inner)], inner))
    return bytes(made) * (item.occurs[1] if item.occurs else 1)


def group_given(value: Any, item: Item, indexes: Sequence[int], initial: bool) -> Mapping[str, Any]:
    if isinstance(value, Mapping):
        return value
    if value is None and initial:
        return {}
    if value is None:
        missing(item, indexes)
    raise refused("record.group", "A group is given by its items.", place_of(item, indexes), expected="an object", found=shown(value))


def table_given(rows: Any, count: Any, item: Item, indexes: Sequence[int], initial: bool) -> Sequence[Any]:
    """The occurrences that are written, as many as the table and the item that counts them say."""
    assert item.occurs is not None
    least, most = item.occurs
    place = place_of(item, indexes)
    said: int | None = None
    if count is not None:
        said = int(number_of(count))  # it was written already, and so is a number
    if rows is None:
        if said == 0 and least == 0:
            return []
        if not initial:
            missing(item, indexes)
        rows = [None] * (least if said is None else said)
    if not isinstance(rows, Sequence) or isinstance(rows, str | bytes):
        raise refused("record.table", "A table is given by its occurrences.", place, expected="a list", found=shown(rows))
    if item.depending is None and initial and len(rows) < most:
        rows = [*rows, *[None] * (most - len(rows))]
    if not least <= len(rows) <= most:
        raise refused(
            "record.occurs",
            "The table does not hold this many occurrences.",
            place,
            expected=str(most) if least == most else f"{least} to {most}",
            found=str(len(rows)),
        )
    if said is not None and said != len(rows):
        assert item.depending is not None
        raise refused(
            "record.occurs",
            f"{item.depending.name} does not count the occurrences that are given.",
            place,
            expected=str(len(rows)),
            found=str(said),
            mend=f"Leave {item.depending.name} out: it is filled in.",
        )
    return list(rows)


def rows_of(values: Mapping[str, Any], keys: Sequence[str]) -> Any:
    """The occurrences of a table without a name, whose items are lists one level up."""
    lists = {key: values[key] for key in keys if values.get(key) is not None}
    if not lists:
        return None
    if any(not isinstance(one, Sequence) or isinstance(one, str) for one in lists.values()):
        return next(iter(lists.values()))
    longest = max(len(one) for one in lists.values())
    return [{key: one[i] for key, one in lists.items() if i < len(one) and one[i] is not None} for i in range(longest)]


def unknown(values: Mapping[str, Any], keys: frozenset[str], item: Item, indexes: Sequence[int]) -> None:
    name = next(one for one in values if one not in keys)
    raise ProblemError(
        Problem(
            "record.name",
            "There is no such item here.",
            place=f"{place_of(item, indexes)}.{name}",
            found=shown(name),
            choices=tuple(sorted(keys)),
        )
    )


def missing(item: Item, indexes: Sequence[int]) -> None:
    raise refused("record.missing", "No value is given for this item.", place_of(item, indexes), expected=item.picture or "its items")


def no_fit(reason: NotHeldError, value: Any, item: Item, indexes: Sequence[int]) -> None:
    raise refused(
        "record.value",
        f"The value does not fit its picture: {reason}.",
        place_of(item, indexes),
        expected=item.picture or item.kind,
        found=shown(value),
    ) from None


def agree(done: list[tuple[Item, bytes, bytes]], made: bytearray, mask: bytes, item: Item, indexes: Sequence[int]) -> None:
    """Hold a view against those that were written before it."""
    for other, bytes_, others in done:
        for index, (mine, one, theirs, two) in enumerate(zip(mask, made, others, bytes_, strict=False)):
            if mine and theirs and one != two:
                raise refused(
                    "record.views",
                    f"{item.name or 'FILLER'} and {other.name or 'FILLER'} are views of the same bytes and do not agree.",
                    place_of(item, indexes),
                    expected=f"{two:02X} at byte {index}, as in {other.name or 'FILLER'}",
                    found=f"{one:02X}",
                    mend="Give only the view that holds.",
                )
    done.append((item, bytes(made), mask))


def source_of(maker: Maker) -> str:
    """A function `encode(values)` that gives the bytes of the record."""
    root = maker.record.item
    writing = _Writing(maker)
    helpers: list[Callable[..., Any]] = [unknown, group_given, table_given, rows_of, missing, no_fit, agree]
    maker.names |= {one.__name__: one for one in helpers}
    put = writing.put
    put(f"out = bytearray({root.length})")
    if not root.children:
        put(f"try: out[:] = {maker.writer(root)}(g)")
        put(f"except NotHeld as reason: no_fit(reason, g, {writing.known(root)})")
        put("return bytes(out)")
    else:
        put(f"if type(g) is not dict: g = group_given(g, {writing.known(root)}, {maker.initial})")
        end = writing.group(root, At("", 0), "g")
        if root.varying and maker.slides:
            put(f"del out[{end}:]")
        elif root.varying:
            put(f"del out[{end_of(maker, root, end)}:]")
        put("return bytes(out)")
    return "def encode(g):\n" + "\n".join(writing.lines) + "\n"
