"""The tables of what is agreed with a host: complete, and without loops."""

from itertools import product

import pytest
from hypothesis import given
from hypothesis import strategies as st

from bricola.core.problems import ProblemError
from bricola.core.terminals.codes3270 import Function, Word
from bricola.core.terminals.options import MOVES, Options
from bricola.core.terminals.telnet import DO, DONT, IAC, SB, SE, TN3270E, WILL, WONT, Option, TelnetReader
from bricola.core.terminals.terminal import TerminalSettings
from bricola.core.terminals.tn3270 import Tn3270
from bricola.core.terminals.tn3270e import Negotiation, Phase

_CODES = (0x00, 0x18, 0x19, 0x28, 0x63)
_ACCEPTED = frozenset((0x00, 0x18))
_ANSWERS = {DO: (WILL, WONT), DONT: (WONT,), WILL: (DO, DONT), WONT: (DONT,)}


def test_every_verb_has_its_line_in_every_state() -> None:
    for verb, on, accepted in product((DO, DONT, WILL, WONT), (False, True), (False, True)):
        if on and not accepted:
            assert (verb, on, accepted) not in MOVES, "what is not accepted never comes on"
            continue
        move = MOVES[verb, on, accepted]
        assert move.answer in (None, *_ANSWERS[verb])
        assert move.on == (accepted and verb in (DO, WILL))
        assert (move.answer is None) == (on == move.on and not (verb in (DO, WILL) and not accepted))


@given(st.lists(st.tuples(st.sampled_from((DO, DONT, WILL, WONT)), st.sampled_from(_CODES)), max_size=60))
def test_two_parties_that_follow_the_table_come_to_rest(said: list[tuple[int, int]]) -> None:
    ours, theirs = Options(_ACCEPTED, _ACCEPTED), Options(_ACCEPTED, _ACCEPTED)
    for verb, code in said:
        turn, wire = 0, ours.receive(Option(verb, code))
        while wire:
            turn += 1
            assert turn < 8, "they answer each other for ever"
            [event] = TelnetReader().feed(wire)
            assert isinstance(event, Option)
            wire = (theirs if turn % 2 else ours).receive(event)
    assert ours.mine | ours.theirs <= _ACCEPTED


def _words(*words: int, more: bytes = b"") -> bytes:
    return bytes((IAC, SB, TN3270E, *words)) + more + bytes((IAC, SE))


def test_the_device_comes_first_and_the_functions_after_it() -> None:
    talk = Negotiation("IBM-3278-2-E", "LOCK9")
    assert talk.receive(bytes((Word.FUNCTIONS, Word.IS))) == b"", "no word of this phase"
    asked = talk.receive(bytes((Word.SEND, Word.DEVICE_TYPE)))
    assert asked == _words(Word.DEVICE_TYPE, Word.REQUEST, more=b"IBM-3278-2-E\x01LOCK9")
    assert not talk.has_device
    answer = talk.receive(bytes((Word.DEVICE_TYPE, Word.IS)) + b"IBM-3278-2-E\x01LOCK9B")
    assert answer == _words(Word.FUNCTIONS, Word.REQUEST, Function.BIND_IMAGE, Function.RESPONSES, Function.SYSREQ)
    assert (talk.device, talk.has_device, talk.phase) == ("LOCK9B", True, Phase.FUNCTIONS_ASKED)


def test_a_counter_offer_is_cut_to_what_we_know_until_both_say_the_same() -> None:
    talk = Negotiation("IBM-3278-2-E", "")
    talk.receive(bytes((Word.SEND, Word.DEVICE_TYPE)))
    talk.receive(bytes((Word.DEVICE_TYPE, Word.IS)) + b"IBM-3278-2-E\x01L1")
    more = talk.receive(bytes((Word.FUNCTIONS, Word.REQUEST, Function.RESPONSES, Function.SCS_CTL_CODES)))
    assert (more, talk.phase) == (_words(Word.FUNCTIONS, Word.REQUEST, Function.RESPONSES), Phase.FUNCTIONS_ASKED)
    same = talk.receive(bytes((Word.FUNCTIONS, Word.REQUEST, Function.RESPONSES)))
    assert (same, talk.phase) == (_words(Word.FUNCTIONS, Word.IS, Function.RESPONSES), Phase.AGREED)
    assert talk.receive(bytes((Word.FUNCTIONS, Word.IS, Function.RESPONSES))) == b""
    assert talk.functions == {Function.RESPONSES}


@pytest.mark.parametrize(("code", "words"), [(b"\x05\x03", "inv-name"), (b"\x05\x00", "conn-partner"), (b"\x05\x01", "no further session")])
def test_a_name_that_is_refused_ends_the_talk_with_the_hosts_reason(code: bytes, words: str) -> None:
    talk = Negotiation("IBM-3278-2-E", "LOCK9")
    talk.receive(bytes((Word.SEND, Word.DEVICE_TYPE)))
    with pytest.raises(ProblemError, match=words) as caught:
        talk.receive(bytes((Word.DEVICE_TYPE, Word.REJECT)) + code)
    assert (caught.value.problem.code == "backend.no-room") == (code[1:] == b"\x01")  # in use is a limit, and no failure


@pytest.mark.parametrize("code", [b"\x05\x04", b"\x05\x63", b"", b"\x05\x07"])
def test_a_type_that_is_rejected_is_followed_by_others_and_by_plain_tn3270(code: bytes) -> None:
    reject = bytes((Word.DEVICE_TYPE, Word.REJECT)) + code
    talk = Negotiation("IBM-3278-4-E", "")
    asked = [talk.receive(bytes((Word.SEND, Word.DEVICE_TYPE)))] + [talk.receive(reject) for _ in range(4)]
    assert [one[5:-2].decode() for one in asked[:4]] == ["IBM-3278-4-E", "IBM-3278-4", "IBM-3278-2-E", "IBM-3278-2"]
    assert (asked[4], talk.given_up) == (b"", True)
    terminal = Tn3270(TerminalSettings(model=4))
    terminal.receive(bytes((IAC, DO, TN3270E)))
    terminal.receive(_words(Word.SEND, Word.DEVICE_TYPE))
    assert [terminal.receive(_words(*reject)) for _ in range(4)][-1] == bytes((IAC, WONT, TN3270E))
    assert terminal.receive(bytes((IAC, DO, TN3270E))) == bytes((IAC, WONT, TN3270E)), "not twice"
    assert terminal.receive(bytes((IAC, DO, 0x18))) == bytes((IAC, WILL, 0x18)), "it goes on as any terminal"
    named = Negotiation("IBM-3278-2-E", "LOCK9")  # in plain TN3270 it would be another LU than the one that was wanted
    named.receive(bytes((Word.SEND, Word.DEVICE_TYPE)))
    named.receive(reject)
    with pytest.raises(ProblemError, match="refuses the device"):
        named.receive(reject)
