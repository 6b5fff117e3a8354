"""A host learned from a person's way through it: sign-on, news, refusals, a password that has expired; and what a recorder sets by hand.

What is learned is held against the screens by the recogniser that calls use."""

from dataclasses import replace

import pytest

from bricola.core.definitions.engines.terminals import TerminalHost
from bricola.core.kinds.screens.definition import ScreenFlowDefinition
from bricola.core.kinds.screens.film import Shot
from bricola.core.kinds.screens.guessing import guess_marks
from bricola.core.kinds.screens.learning import Learned, learn
from bricola.core.kinds.screens.recognise import compile_recogniser, recognise
from bricola.core.kinds.screens.recording import MarkedColumn, MarkedList, MarkedPlace, Recording, check, draft
from bricola.core.problems import ProblemError
from bricola.core.terminals.screen import Field, Screen

KEYS = ("Clear", "Enter", "PF12", "PF3")


def screen(*rows: str, inputs: tuple[tuple[int, int, int, bool], ...] = ()) -> Screen:
    """Rows of text from the first; inputs as row, column, length, hidden."""
    text = "".join(row.ljust(80) for row in rows).ljust(24 * 80)
    fields = tuple(Field((row - 1) * 80 + column - 1, length, False, False, hidden, False, False) for row, column, length, hidden in inputs)
    return Screen(24, 80, text, fields, fields[0].start if fields else 0, False)


def at(row: int, column: int) -> int:
    return (row - 1) * 80 + column - 1


LOGO = screen("", "", "   THE NETWORK OF THE WATERWAYS", "", "   Application:", inputs=((5, 18, 8, False),))
SIGN_ON = screen("   LOCK KEEPERS", "", "   User ID . . :", "   Password  . :", inputs=((3, 18, 8, False), (4, 18, 8, True)))
WRONG = screen("   LOCK KEEPERS", "", "   User ID . . :", "   Password  . :", "", "   PASSWORD IS NOT RIGHT",
               inputs=((3, 18, 8, False), (4, 18, 8, True)))
PASSWORD = screen("   LOCK KEEPERS", "", "   Password  . :", inputs=((3, 18, 8, True),))
NEW_WORD = screen("   NEW PASSWORD", "", "   New . . . . :", "   Again . . . :", inputs=((3, 18, 8, True), (4, 18, 8, True)))
NEWS = screen("   NEWS OF THE DAY", "", "   The upper lock is closed.", "", "   Press Enter")
MENU = screen("   MAIN MENU                         29/11/26 10:15", "", "   1 Vessels", "   Option . . . :", inputs=((4, 18, 1, False),))
LATER = screen("   MAIN MENU                         29/11/26 10:16", "", "   1 Vessels", "   Option . . . :", inputs=((4, 18, 1, False),))
LIST = screen("   VESSELS", "", "   LK-1  Grey", "         Wagtail", "   LK-2  Brave", "         Teal")


def shot(before: Screen, key: str, typed: dict[int, str | None] | None = None) -> Shot:
    return Shot("", before, "", typed or {}, key, before, "")


SIGNED = {at(3, 18): "KEEPER", at(4, 18): None}


def _learn(*shots: Shot, now: Screen = MENU) -> Learned:
    return learn(shots, now, {"code_page": "cp037"}, KEYS)


def _known(host: TerminalHost, one: Screen) -> str:
    found = recognise(tuple(map(compile_recogniser, host.screens)), one)
    return found.name if found is not None else ""


def test_a_sign_on_behind_a_network_screen_with_a_refusal_and_news() -> None:
    learned = _learn(shot(LOGO, "Enter", {at(5, 18): "LOCKS"}), shot(SIGN_ON, "Enter", SIGNED), shot(WRONG, "Enter", SIGNED),
                     shot(NEWS, "Enter"), shot(MENU, "Enter", {at(4, 18): "1"}), shot(LIST, "PF12"))
    host = learned.host
    assert host.start == "main-menu"
    before, sign_on = host.sign_on
    assert (before.fill[0].value, before.press, before.expect[0].screen) == ("LOCKS", "Enter", sign_on.on)
    assert [(one.name, one.credential) for one in sign_on.fill] == [("userId", "user"), ("password", "password")]
    assert [(one.screen, one.refused) for one in sign_on.expect] == [
        ("main-menu", ""), (sign_on.on, "PASSWORD IS NOT RIGHT")]
    news = next(one for one in host.screens if one.dismiss)
    assert news.dismiss == "Enter"
    assert (learned.user, learned.password) == ((2, at(3, 18)), (2, at(4, 18)))  # those of the try that led on
    assert (host.leave.press, learned.notes) == (("PF12",), ())
    for one in (LOGO, SIGN_ON, NEWS, MENU):
        assert _known(host, one)
    assert {_known(host, one) for one in (MENU, LATER)} == {"main-menu"}, "a clock is no mark"
    assert _known(host, WRONG) == _known(host, SIGN_ON)
    assert host.screen("main-menu") is not None
    assert [one.name for one in host.screen("main-menu").places] == ["option"]  # type: ignore[union-attr]


def test_a_password_that_has_expired_is_a_refusal() -> None:
    learned = _learn(shot(SIGN_ON, "Enter", SIGNED), shot(NEW_WORD, "Enter", {at(3, 18): None, at(4, 18): None}), shot(NEWS, "Enter"))
    turns = {one.refused for one in learned.host.sign_on[0].expect}
    assert "the password has expired" in turns
    assert any("leads back" in one for one in learned.notes)  # no way out was seen, and that is told


@pytest.mark.parametrize(("shots", "now", "code"), [
    ((shot(SIGN_ON, "Enter", SIGNED),), WRONG, "learning.start"),
    ((shot(SIGN_ON, "Enter", {at(4, 18): None}),), MENU, "learning.user"),
])
def test_what_says_too_little_is_refused(shots: tuple[Shot, ...], now: Screen, code: str) -> None:
    with pytest.raises(ProblemError) as caught:
        _learn(*shots, now=now)
    assert caught.value.problem.code == code
    assert caught.value.problem.mend


def test_a_user_may_be_asked_for_on_a_screen_of_its_own_and_a_notice_that_was_passed_by_a_key_is_none_of_a_refusal() -> None:
    learned = _learn(shot(LOGO, "Enter", {at(5, 18): "KEEPER"}), shot(PASSWORD, "Enter", {at(3, 18): None}), shot(NEW_WORD, "PF12"))
    user, password = learned.host.sign_on
    assert [(one.name, one.credential) for one in (*user.fill, *password.fill)] == [("application", "user"), ("password", "password")]
    assert (learned.user, learned.password) == ((0, at(5, 18)), (1, at(3, 18)))
    assert next(one for one in learned.host.screens if one.dismiss).dismiss == "PF12"
    assert not any(one.refused == "the password has expired" for one in password.expect)


def test_a_host_where_nobody_signs_on_has_no_sign_on() -> None:
    learned = _learn(shot(NEWS, "Enter"))
    assert learned.host.sign_on == ()
    assert learned.password is None
    assert "Nobody signed on; the definition has no sign-on." in learned.notes


def test_marks_prefer_titles_and_what_stood_still() -> None:
    page = screen("   10:15            LIST OF LOCKS", "   Shift of AB KEEPER")
    again = screen("   10:16            LIST OF LOCKS", "   Shift of CD KEEPER")
    (mark,) = guess_marks(page, [MENU], [page, again])
    assert mark.text == "LIST OF LOCKS"
    low = screen("", "", "", "", "   Draught allowed")
    with pytest.raises(ProblemError):
        guess_marks(low, [MENU])  # seen once: it may be data
    assert guess_marks(low, [MENU], [low, replace(low, cursor=5)])[0].text == "Draught allowed"


def test_rows_of_two_lines_and_a_hidden_input_are_recorded() -> None:
    host = TerminalHost.model_validate({
        "start": "menu", "leave": {"press": ["PF12"]},
        "screens": [{"name": "menu", "marks": [{"row": 1, "column": 4, "text": "MAIN MENU"}],
                     "places": [{"name": "option", "row": 4, "column": 18, "length": 1}]}]})
    pin = screen("   PIN PLEASE", "", "   PIN . . . . :", inputs=((3, 18, 4, True),))
    shots = (Shot("", MENU, "menu", {at(4, 18): "1"}, "Enter", pin, "pin"),
             Shot("", pin, "pin", {at(3, 18): None}, "Enter", LIST, "vessels"),
             Shot("", LIST, "vessels", {}, "PF12", MENU, "menu"))
    rows = MarkedList("vessels", "row", 3, 6, (MarkedColumn("registration", 4, 4), MarkedColumn("name", 10, 8),
                                               MarkedColumn("surname", 10, 8, line=2)), lines=2)
    recording = Recording("vessels", "old", shots, lists=(rows,))
    assert [one.code for one in check(recording, host)] == ["recording.secret"]
    recording = replace(recording, places=(MarkedPlace("pin", "pin", "input", 3, 18, 4),))
    flow = next(one for one in draft(recording, host) if isinstance(one, ScreenFlowDefinition))
    assert [(one.name, one.sensitive, one.sample) for one in flow.input] == [("pin", True, None)]
    assert any(fill.input == "pin" for move in flow.moves for fill in move.fill)
    region = next(one for each in flow.screens for one in each.lists)
    assert (region.lines, [(one.name, one.line) for one in region.columns]) == (2, [("registration", 1), ("name", 1), ("surname", 2)])
