"""Words to entries: level, name and clauses of each, by a table of clauses.

The strategy: an entry runs to its period. Its first word is a level number, the next a name or FILLER unless it begins a clause; every
further word is looked up in `CLAUSES`, whose reader takes what belongs to it and says what else it expected. Nothing is laid out here.
"""

from collections.abc import Sequence

from bricola.core.cobol.clauses import CLAUSES, SAME, Entry, Reader, no_clause
from bricola.core.cobol.pictures import picture_of
from bricola.core.cobol.source import Dialect, Spot, Word, wrong

_USUAL = Dialect()


def entries_of(words: Sequence[Word], dialect: Dialect = _USUAL) -> list[Entry]:
    """All entries of a copybook. Raises ProblemError at the first that is wrong."""
    found: list[Entry] = []
    begun = 0
    for index, word in enumerate(words):
        if word.kind == "period":
            if index > begun:
                found.append(_entry(words[begun:index], dialect))
            begun = index + 1
    if begun < len(words):
        last = words[-1]
        found_entry = _entry(words[begun:], dialect)  # what is wrong in it comes first
        raise wrong(last.spot, f"The entry of {found_entry.name or 'FILLER'} has no end.", expected="a period after it", found=last.text)
    if not found:
        raise wrong(
            Spot("", 1, 1),
            "There is no data description entry in this copybook.",
            expected="a level number, such as 01",
            code="copybook.empty",
        )
    return found


def _entry(words: Sequence[Word], dialect: Dialect) -> Entry:
    reader = Reader(words)
    first = reader.run()
    if not first.text.isdecimal() or not (1 <= int(first.text) <= 49 or int(first.text) in (66, 77, 78, 88)):
        raise wrong(
            first.spot,
            "A data description entry begins with a level number.",
            expected="01 to 49, 66, 77 or 88",
            found=first.text,
            code="copybook.level",
        )
    level = int(first.text)
    if level == 78:
        raise wrong(first.spot, "Constants of level 78 are not read.", expected="01 to 49, 66, 77 or 88", found="78", code="copybook.level")
    name = ""
    if reader.peek() == "FILLER":
        reader.at += 1
    elif reader.more() and reader.words[reader.at].kind == "word" and reader.peek() not in CLAUSES:
        name = reader.name(f"Level {first.text}")
    entry = Entry(level, name, first.spot)
    while reader.more():
        spot = reader.here()
        clause = reader.peek()
        read = CLAUSES.get(clause)
        if read is None:
            raise no_clause(reader, entry, clause)
        reader.at += 1
        key = SAME.get(clause, clause)
        if key in entry.spots and key not in ("IS", "USAGE"):
            raise wrong(
                spot,
                f"{clause} stands twice in the entry of {name or 'FILLER'}.",
                expected="a period before the next entry",
                found=clause,
                code="copybook.clause",
            )
        entry.spots.setdefault(key, spot)
        if key == "PICTURE":
            entry.picture_spot = spot
            reader.skip("IS")
            if not reader.more() or reader.words[reader.at].kind == "literal":
                raise reader.expected("PICTURE", "a character-string, such as 9(5)V99")
            text = reader.run()
            entry.picture = picture_of(text.text, text.spot, dialect)
        else:
            read(reader, entry, clause)
    return entry
