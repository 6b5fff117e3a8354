"""The source of the functions that read a record, fast and careful (see `codec`)."""

import struct
from dataclasses import dataclass, field

from bricola.core.cobol.items import Item
from bricola.core.cobol.making import At, Maker
from bricola.core.problems import ProblemError

_TEXTS = ("text", "text-edited", "number-edited")
_FORMS = {1: "b", 2: "h", 4: "i", 8: "q"}


@dataclass(slots=True)
class _Stretch:
    """What is checked together: slices that must be digits, letters, leading zeros; binary numbers that come from one call."""

    digits: list[str] = field(default_factory=list)
    texts: list[str] = field(default_factory=list)
    zeros: list[str] = field(default_factory=list)
    binaries: list[tuple[At, Item, str]] = field(default_factory=list)


class _Reading:
    def __init__(self, maker: Maker, careful: bool) -> None:
        self.maker, self.careful = maker, careful
        self.lines: list[str] = []
        self.depth = 1
        self.indexes: list[str] = []  # variables of the occurrences that the walk is in
        self.strict = False  # in alternatives of which none was chosen: what cannot be read does not hold
        self.variables = 0

    def put(self, line: str) -> None:
        self.lines.append("    " * self.depth + line)

    def fresh(self, prefix: str) -> str:
        self.variables += 1
        return f"{prefix}{self.variables}"

    def group(self, item: Item, at: At, into: str) -> At:
        """Write what reads the items of one occurrence of a group into the dict `into`; where it ends."""
        stretch = _Stretch()
        rows: list[tuple[str, str]] = []
        end = self._children(item, at, into, stretch, rows)
        self._flush(stretch, rows, into)
        return end

    def _children(self, item: Item, at: At, into: str, stretch: _Stretch, rows: list[tuple[str, str]]) -> At:
        """The items of a group; those of groups without a name go into the same dict."""
        here, last = at, item.offset
        for child in item.children:
            if child.redefines is not None:
                continue
            here = here.plus(child.offset - last)
            if child.views():
                here = self._alternatives(child, here, into, stretch, rows)
                last = max(one.offset + one.total for one in (child, *child.views()))
            else:
                here = self._one(child, here, into, stretch, rows)
                last = child.offset + child.total
        return here.plus(item.offset + item.length - last)

    def _one(self, item: Item, at: At, into: str, stretch: _Stretch, rows: list[tuple[str, str]]) -> At:
        varying = item.varying and self.maker.slides
        if not self.maker.needed(item) and not varying:
            return at.plus(item.total)
        if item.occurs:
            self._flush(stretch, rows, into)
            return self._table(item, at, into)
        if item.children:
            if not item.name:
                return self._children(item, at, into, stretch, rows)
            self._flush(stretch, rows, into)
            inner = self.fresh("g")
            self.put(f"{inner} = {{}}")
            end = self.group(item, at, inner)
            if self._told(item):
                self.put(f"if {inner}: {into}[{self.maker.keys[id(item)]!r}] = {inner}")
            return end
        counts = id(item) in self.maker.counts
        if item.name or counts:
            value = self._value(item, at, stretch)
            if counts:
                variable = f"c{self.maker.number(item)}"
                self._flush(stretch, rows, into)
                self.put(f"{variable} = {value}")
                value = variable
            if item.name and self.maker.wanted(item):
                rows.append((self.maker.keys[id(item)], value))
        return at.plus(item.length)

    def _value(self, item: Item, at: At, stretch: _Stretch) -> str:
        """The expression of a value. The fast way takes slices, which the end of the stretch checks."""
        if self.careful or item.kind not in (*_TEXTS, "zoned", "packed", "binary") or item.length == 16:
            reader = self.maker.reader(item)
            known = self.maker.constant("I", item)
            indexes = f"({', '.join(self.indexes)}{',' if self.indexes else ''})"
            return f"careful_read({reader}, {known}, data, {at}, {indexes}, {self.maker.absent and not self.strict})"
        if item.kind == "binary":
            return self._binary(item, at, stretch)
        slice_ = f"t[{at}:{at.plus(item.length)}]"
        if item.kind in _TEXTS:
            variable = self.fresh("v")
            self.put(f"{variable} = {slice_}")
            stretch.texts.append(variable)
            return variable
        variable = self.fresh("d")
        if item.kind == "packed":
            begin, end = f"2 * ({at})" if at.base else str(2 * at.shift), at.plus(item.length)
            edge = f"2 * ({end}) - 1" if end.base else str(2 * end.shift - 1)
            self.put(f"{variable} = h[{begin}:{edge}]")
            if item.length * 2 - 1 > item.stored:
                stretch.zeros.append(f"{variable}[0]")
            sign = f"{'PS' if item.signed else 'PU'}[h[{edge}]]"
            width = item.length * 2 - 1
        else:
            first, last = str(at), str(at.plus(item.length - 1))
            sign, width = "", item.stored
            if not item.signed:
                self.put(f"{variable} = {slice_}")
            elif item.separate:
                inner = f"t[{at.plus(1)}:{at.plus(item.length)}]" if item.leading else f"t[{at}:{last}]"
                self.put(f"{variable} = {inner}")
                sign = f"SS[data[{first if item.leading else last}]]"
            elif item.leading:
                self.put(f"{variable} = LD[data[{first}]] + t[{at.plus(1)}:{at.plus(item.length)}]")
                sign = f"SN[data[{first}]]"
            else:
                self.put(f"{variable} = t[{at}:{last}] + LD[data[{last}]]")
                sign = f"SN[data[{last}]]"
        stretch.digits.append(variable)
        return self._decimal(item, variable, sign, width)

    def _decimal(self, item: Item, variable: str, sign: str, width: int) -> str:
        head = f"{sign} + " if sign and item.signed else ""
        if item.scale > 0:
            whole = width - item.scale
            text = f"{variable}[:{whole}] + '.' + {variable}[{whole}:]" if whole > 0 else f"{'.' + '0' * -whole!r} + {variable}"
            if whole <= 0:
                text = f"{'0.' + '0' * -whole!r} + {variable}"
        else:
            text = f"{variable} + {'0' * -item.scale!r}" if item.scale else variable
        if sign and not item.signed:
            text = f"{sign} + {text}"  # raises for a sign that no unsigned number has
        if not item.signed:
            return f"D({text})"
        zero = self.maker.constant("Z", self.maker.names["D"]("0." + "0" * item.scale if item.scale > 0 else 0))
        return f"(D({head}{text}) or {zero})"

    def _binary(self, item: Item, at: At, stretch: _Stretch) -> str:
        variable = self.fresh("b")
        stretch.binaries.append((at, item, variable))
        if item.scale > 0:
            return f"SC(D({variable}), {-item.scale})"
        return f"D({variable} * {10**-item.scale})" if item.scale else f"D({variable})"

    def _flush(self, stretch: _Stretch, rows: list[tuple[str, str]], into: str) -> None:
        """End a stretch: what was collected is checked, and what was read goes into the dict."""
        runs: list[list[tuple[At, Item, str]]] = []
        for at, item, variable in stretch.binaries:
            little = item.native and self.maker.ways.order == "little"
            last = runs[-1][-1] if runs else None
            same = (
                last is not None
                and last[0].base == at.base
                and at.shift >= last[0].shift + last[1].length
                and little == (last[1].native and self.maker.ways.order == "little")
            )
            if same:
                runs[-1].append((at, item, variable))
            else:
                runs.append([(at, item, variable)])
        for run in runs:
            begin, form = run[0][0], "<" if run[0][1].native and self.maker.ways.order == "little" else ">"
            last_end = begin.shift
            for at, item, _ in run:
                form += f"{at.shift - last_end}x" if at.shift > last_end else ""
                form += _FORMS[item.length] if item.signed else _FORMS[item.length].upper()
                last_end = at.shift + item.length
            self.put(f"{', '.join(one[2] for one in run)}, = {self.maker.constant('S', struct.Struct(form).unpack_from)}(data, {begin})")
        if stretch.digits:
            self.put(f'if not f"{"".join("{" + one + "}" for one in stretch.digits)}".isdecimal(): raise Unusual')
        if stretch.zeros:
            self.put(f"if f\"{''.join('{' + one + '}' for one in stretch.zeros)}\".strip('0'): raise Unusual")
        if stretch.texts:
            joined = 'f"' + "".join("{" + one + "}" for one in stretch.texts) + '"'
            if self.maker.ways.alphabet.name == "ascii":
                self.put(f"if not {joined}.isascii(): raise Unusual")
            elif not self.maker.ways.alphabet.whole:
                self.put(f"if '\\uffff' in {joined}: raise Unusual")
        if self.careful:
            for key, value in rows:
                variable = self.fresh("x")
                self.put(f"{variable} = {value}")
                self.put(f"if {variable} is not None: {into}[{key!r}] = {variable}")
        elif rows:
            self.put(f"{into} |= {{{', '.join(f'{key!r}: {value}' for key, value in rows)}}}")
        stretch.digits, stretch.texts, stretch.zeros, stretch.binaries = [], [], [], []
        rows.clear()

    def _table(self, item: Item, at: At, into: str) -> At:
        assert item.occurs is not None
        slides, name = self.maker.slides, self.maker.keys.get(id(item), "")
        count = str(item.occurs[1])
        if item.depending is not None:
            known = self.maker.constant("I", item)
            indexes = f"({', '.join(self.indexes)}{',' if self.indexes else ''})"
            count = self.fresh("n")
            self.put(f"{count} = count_read(c{self.maker.number(item.depending)}, {known}, {indexes})")
        rows, position, index = self.fresh("l"), self.fresh("p"), self.fresh("i")
        running = slides and any(child.varying for child in item.children)  # elements of different lengths
        self.put(f"{rows} = []")
        self.put(f"{position} = {at}")
        self.put(f"for {index} in range(1, {count} + 1):")
        self.depth += 1
        self.indexes.append(index)
        if item.children:
            inner = self.fresh("g")
            self.put(f"{inner} = {{}}")
            end = self.group(item, At(position, 0), inner)
            self.put(f"{rows}.append({inner})")
            self.put(f"{position} = {end if running else f'{position} + {item.length}'}")
        else:
            stretch = _Stretch()
            value = self._value(item, At(position, 0), stretch)
            self._flush(stretch, [], rows)
            self.put(f"{rows}.append({value})")
            self.put(f"{position} += {item.length}")
        self.indexes.pop()
        self.depth -= 1
        if self._told(item):
            test = f"any({rows})" if item.children else f"any(one is not None for one in {rows})" if self.careful else rows
            self.put(f"if {test}:")
            if item.name:
                self.put(f"    {into}[{name!r}] = {rows}")
            else:  # a table without a name: each of its items is a list, one level up
                for child in _named_in(item):
                    key = self.maker.keys[id(child)]
                    self.put(f"    {into}[{key!r}] = [one.get({key!r}) for one in {rows}]")
        if slides and item.varying:
            after = self.fresh("q")
            self.put(f"{after} = {position}")
            return At(after, 0)
        return at.plus(item.total)

    def _told(self, item: Item) -> bool:
        """Whether values of an item are asked for. Groups and tables that hold none are left out."""
        return any(not one.children and one.name and self.maker.wanted(one) for one in item.walk())

    def _alternatives(self, item: Item, at: At, into: str, stretch: _Stretch, rows: list[tuple[str, str]]) -> At:
        """A redefined item and its views: those that hold, or else each that can be read."""
        everyone = [item, *item.views()]
        reach = max(one.offset + one.total for one in everyone) - item.offset
        chosen = self.maker.views_of(item)
        told = [one for one in (everyone if chosen is None else chosen) if self.maker.needed(one)]
        if chosen is not None:
            for one in told:
                self._one(one, at, into, stretch, rows)
            return at.plus(reach)
        self._flush(stretch, rows, into)
        outer = self.careful, self.strict
        self.careful = self.strict = True  # in both ways: that bytes cannot be read means only that this view does not hold
        found = self.fresh("o")
        wrong = self.fresh("w")
        self.put(f"{found}, {wrong} = 0, None")
        for one in told:
            inner = self.fresh("g")
            self.put("try:")
            self.depth += 1
            self.put(f"{inner} = {{}}")
            fresh, collected = _Stretch(), list[tuple[str, str]]()
            self._one(one, at, inner, fresh, collected)
            self._flush(fresh, collected, inner)
            self.put(f"{into} |= {inner}")
            self.put(f"{found} += 1")
            self.depth -= 1
            self.put("except ProblemError as error:")
            self.put(f"    {wrong} = {wrong} or error")
        self.put(f"if not {found} and {wrong} is not None: raise {wrong}")
        self.careful, self.strict = outer
        return at.plus(reach)


def _named_in(item: Item) -> list[Item]:
    found: list[Item] = []
    for child in item.children:
        if child.name:
            found.append(child)
        elif child.children:
            found += _named_in(child)
    return found


def source_of(maker: Maker, careful: bool) -> str:
    """A function `fast(data)` or `careful(data)` that gives the values of the record as a dict, or a single value where it has no items."""
    maker.names["ProblemError"] = ProblemError
    root = maker.record.item
    reading = _Reading(maker, careful)
    known = maker.constant("I", root)
    put = reading.put
    if not root.children:
        stretch = _Stretch()
        if not careful:
            put(f"t, h = {_text(maker)}, data.hex()")
            put(f"if len(data) != {root.length}: raise Unusual")
        else:
            put(f"ended({known}, {root.length}, {root.length}, len(data))")
        value = reading._value(root, At("", 0), stretch)
        reading._flush(stretch, [], "r")
        put(f"return {value}")
    else:
        varying = root.varying
        if not careful:
            put(f"t, h = {_text(maker)}, data.hex()")
            if not varying:
                put(f"if len(data) != {root.length}: raise Unusual")
        elif not varying:
            put(f"ended({known}, {root.length}, {root.length}, len(data))")
        put("r = {}")
        end = reading.group(root, At("", 0), "r")
        if varying:
            put(f"ended({known}, {end_of(maker, root, end)}, {root.length}, len(data))")
        put("return r")
    return f"def {'careful' if careful else 'fast'}(data):\n" + "\n".join(reading.lines) + "\n"


def _text(maker: Maker) -> str:
    return "data.decode('latin-1')" if maker.ways.alphabet.name == "ascii" else "page(data)"


def end_of(maker: Maker, root: Item, end: At) -> str:
    """Where a record of varying length ends: where tables stay, behind the last table if nothing follows it."""
    if maker.slides:
        return str(end)
    last = root
    while last.children and not last.occurs:
        last = max(last.children, key=lambda one: one.offset + one.total)
    if last.depending is None or last.offset + last.total < root.length:
        return str(root.length)
    return f"{last.offset} + c{maker.number(last.depending)} * {last.length}"
