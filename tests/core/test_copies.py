"""A folder as a copy of the drafts: nobody's work is overwritten, and what two have changed comes together."""

from hypothesis import given
from hypothesis import strategies as st

from bricola.core.definitions.copies import CopyNote, Outcome, is_edited, merged, note_of, read_note, renewal
from bricola.core.definitions.threeway import merge_lines

BASE = "object: a\nbackend: b\nfields:\n  one: {type: int}\n  two: {type: int}\n  three: {type: int}\n"
MINE = BASE.replace("one: {type: int}", "one: {type: long}")
THEIRS = BASE.replace("three: {type: int}", "three: {type: string}")
Texts = st.dictionaries(st.sampled_from(["a.yaml", "b.yaml", "c.yaml"]), st.sampled_from([BASE, MINE, THEIRS]))


def test_each_change_is_kept_taken_merged_or_told() -> None:
    def outcome(*texts: str | None) -> str:
        found = merged("a.yaml", *texts)
        return found.outcome if found is not None else ""

    assert outcome(BASE, BASE, BASE) == ""
    assert outcome(BASE, MINE, BASE) == Outcome.KEPT
    assert outcome(BASE, BASE, THEIRS) == Outcome.TAKEN
    assert outcome(BASE, BASE, None) == Outcome.REMOVED
    assert outcome(BASE, MINE, None) == Outcome.GONE
    assert outcome(None, MINE, None) == ""  # a new file of the folder
    assert outcome(BASE, None, BASE) == ""  # taken away here
    both = merged("a.yaml", BASE, MINE, THEIRS)
    assert both is not None
    assert (both.outcome, "one: {type: long}" in both.text, "three: {type: string}" in both.text) == (Outcome.MERGED, True, True)
    clash = merged("a.yaml", BASE, MINE, BASE.replace("one: {type: int}", "one: {type: short}"))
    assert clash is not None
    assert clash.outcome == Outcome.CONFLICT
    assert "<<<<<<< this folder\n  one: {type: long}\n=======\n  one: {type: short}\n>>>>>>> the service\n" in clash.text


@given(Texts, Texts, Texts)
def test_an_export_never_touches_what_was_changed(mine: dict[str, str], theirs: dict[str, str], before: dict[str, str]) -> None:
    note = read_note(note_of("http://x", {"object a": 1}, before).text(), "note")
    plan = renewal(mine, theirs, note)
    for path, text in mine.items():
        if is_edited(path, text, note) and theirs.get(path) != text:
            assert path in plan.edited or (path not in plan.write and path not in plan.remove)
    if not plan.edited:  # then it is done: what is the service's is as it is there
        after = {path: text for path, text in (mine | dict(plan.write)).items() if path not in plan.remove}
        assert {path: text for path, text in after.items() if path in theirs} == theirs
        assert all(path not in note.files for path in after if path not in theirs)


def test_notes_of_older_programs_are_read() -> None:
    assert read_note('{"object a": 3}', "note") == CopyNote("", {"object a": 3})


Lines = st.lists(st.sampled_from(["a", "b", "c", "d"]), max_size=8).map(lambda lines: "".join(f"{one}\n" for one in lines))


@given(Lines, Lines, Lines)
def test_a_merge_takes_each_side_where_only_it_changed(base: str, mine: str, theirs: str) -> None:
    assert merge_lines(base, mine, base) == (mine, False)
    assert merge_lines(base, base, theirs) == (theirs, False)
    assert merge_lines(base, mine, mine) == (mine, False)
    text, conflict = merge_lines(base, mine, theirs)
    other, also = merge_lines(base, theirs, mine)
    assert conflict == also
    if not conflict:
        assert text == other  # whoever merges, the outcome is the same
    else:  # and nobody's lines are lost
        for lines in (mine, theirs):
            assert all(text.count(f"{one}\n") >= 1 for one in lines.split())
