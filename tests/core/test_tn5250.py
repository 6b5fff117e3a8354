"""5250 sessions: against the bytes of a capture between two independent programs, and terminal and host in memory."""

from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from bricola.core.problems import ProblemError
from bricola.core.terminals import telnet
from bricola.core.terminals.host import Part, Pressed
from bricola.core.terminals.host5250 import Tn5250Host, read_variables
from bricola.core.terminals.telnet import TelnetReader, TelnetRecord
from bricola.core.terminals.terminal import TerminalSettings
from bricola.core.terminals.tn5250 import Tn5250, record

TRACE = Path(__file__).parent / "vectors" / "tn5250" / "session.trace"
# The usual record of the reference: Clear Unit, WTD with SOH, text, two inputs of which the second is hidden, IC, Read MDT Fields.
SIGN_ON = ("0440" "04110008" "01070000001b000000" "110a0a" "e4a28599" "110a21" "1d4020240004" "110c21" "1d4020270004" "130a22" "04520000")


def joined(settings: TerminalSettings = TerminalSettings(), device: str = "DSP0001") -> tuple[Tn5250, Tn5250Host]:
    terminal, host = Tn5250(settings), Tn5250Host(device)
    sent = host.start()
    while sent:
        sent, keys = host.receive(terminal.receive(sent))
        assert not keys
    assert host.ready
    assert terminal.connected
    return terminal, host


def test_the_captured_negotiation_is_answered_in_kind() -> None:
    terminal = Tn5250(TerminalSettings(wide=True, colour=False))
    answered = b""
    for line in TRACE.read_text().splitlines():
        if not line.startswith("#"):
            _, side, digits = line.split()
            if side == "<":
                answered += terminal.receive(bytes.fromhex(digits))
    said = TelnetReader().feed(answered)
    theirs = [
        event for line in TRACE.read_text().splitlines() if " > " in line for event in TelnetReader().feed(bytes.fromhex(line.split()[2]))
    ]
    kind = next(one for one in theirs if getattr(one, "data", b"").startswith(b"\x00IBM-3477"))
    assert kind in said  # the same terminal type in the same bytes
    # The peer offered option 28 unasked; everything else that it agreed to, ours does too.
    assert {one for one in theirs if type(one) is telnet.Option and one.option != telnet.TN3270E} <= set(said)
    assert terminal.connected


def test_the_usual_record_is_answered_as_in_the_capture() -> None:
    terminal, _ = joined()
    assert terminal.receive(record(3, bytes.fromhex(SIGN_ON))) == b""
    screen = terminal.screen
    assert screen.lines[9][9:13] == "User"
    first, second = screen.inputs
    assert (first.start, first.length, first.highlight, first.monocase) == (9 * 80 + 33, 4, "underscore", True)
    assert second.hidden
    assert screen.cursor == first.start
    terminal.type_into(first.start, "demo")
    terminal.type_into(second.start, "DEMO")
    assert terminal.screen.text_of(second) == "    "  # hidden
    sent = TelnetReader().feed(terminal.press("Enter"))[0]
    assert isinstance(sent, TelnetRecord)
    assert sent.data[10:] == bytes.fromhex("0c26f1" "110a22" "c4c5d4d6" "110c22" "c4c5d4d6")
    with pytest.raises(ProblemError) as caught:
        terminal.press("Enter")
    assert caught.value.problem.code == "terminal.locked"


def test_terminal_and_host_of_27_rows() -> None:
    terminal, host = joined(TerminalSettings(wide=True, lu="BERTH07"))
    assert (host.device, host.terminal, host.variables["CODEPAGE"]) == ("BERTH07", "IBM-3477-FC", "37")
    parts = [Part(1, 60, "Berths", colour="white"), Part(27, 100, "", protected=False, length=10, cursor=True, monocase=True)]
    terminal.receive(host.screen(parts, alternate=True))
    assert (terminal.screen.rows, terminal.screen.columns) == (27, 132)
    start = terminal.screen.inputs[0].start
    assert start == 26 * 132 + 99
    terminal.type_into(start, "b-014")
    _, keys = host.receive(terminal.press("PageDown"))
    assert keys == [Pressed("PageDown", start + 5, {start: "B-014"})]
    terminal.receive(host.screen([Part(1, 2, "small again")]))
    assert (terminal.screen.rows, terminal.screen.columns) == (24, 80)


def test_an_input_error_stands_until_reset() -> None:
    terminal, host = joined()
    terminal.receive(host.screen([Part(24, 2, "F3=Exit"), Part(5, 20, "", protected=False, length=3, numeric=True, cursor=True)]))
    field = terminal.screen.inputs[0]
    with pytest.raises(ProblemError) as caught:
        terminal.type_into(field.start, "A")
    assert caught.value.problem.code == "terminal.not-numeric"
    terminal.type_into(field.start, "9")
    host.receive(terminal.press("Enter"))
    terminal.receive(host.error("Berth not found"))
    screen = terminal.screen
    assert screen.locked
    assert screen.settled
    assert "Berth not found" in screen.lines[23]
    terminal.reset()
    assert "F3=Exit" in terminal.screen.lines[23]
    assert terminal.screen.text_of(field).strip() == "9"
    _, keys = host.receive(terminal.press("F3"))
    assert keys == [Pressed("F3", 4 * 80 + 20, {field.start: "9"})]


def test_command_keys_with_their_switch_on_send_no_fields() -> None:
    terminal, host = joined()
    terminal.receive(record(3, bytes.fromhex("0440" "04110008" "01070000001b000004" "110a21" "1d4000240004" "04520000")))  # F3's bit
    field = terminal.screen.inputs[0]
    terminal.type_into(field.start, "X")
    _, keys = host.receive(terminal.press("F3"))
    assert keys[0].fields == {}


def test_saved_screens_come_back_with_fields_and_cursor() -> None:
    terminal, host = joined()
    terminal.receive(host.screen([Part(3, 5, "below"), Part(5, 20, "AB", protected=False, length=3, cursor=True)]))
    before = terminal.screen
    saved = TelnetReader().feed(terminal.receive(record(4, b"\x04\x02")))[0]
    assert isinstance(saved, TelnetRecord)
    assert saved.data[9] == 4
    terminal.receive(host.screen([Part(10, 30, "All desks close at six")]))
    assert not terminal.screen.inputs
    assert saved.data[10:12] == b"\x04\x12"
    assert int.from_bytes(saved.data[12:14], "big") == len(saved.data) - 12
    for sent in (saved.data[10:], b"\x04\x12" + saved.data[10:]):  # both forms that hosts use, and again
        terminal.receive(record(5, sent) + record(3, b"\x04\x52\x00\x08"))
        after = terminal.screen
        assert (after.characters, after.fields, after.cursor) == (before.characters, before.fields, before.cursor)
    assert terminal.receive(record(5, saved.data[10:-1]))[7:] != b"", "cut off: a negative response"
    assert terminal.screen.characters == before.characters


def test_a_field_over_text_keeps_it() -> None:
    terminal, host = joined()
    text = "0440" "04110008" "110229" "c1c2c3" "110228" "1d4000240005" "04520000"  # ABC, and then a field that begins there
    terminal.receive(record(3, bytes.fromhex(text)))
    [field] = terminal.screen.inputs
    assert terminal.screen.text_of(field).rstrip("\x00 ") == "ABC"
    terminal.receive(record(3, bytes.fromhex("04110008" "110228" "1d4800240005" "04520000")))  # the same field once more, modified now
    _, keys = host.receive(terminal.press("Enter"))
    assert keys[0].fields == {field.start: "ABC"}


def test_fields_on_row_and_column_17_come_whole() -> None:
    terminal, host = joined()
    terminal.receive(host.screen([Part(17, 17, "", protected=False, length=4, cursor=True), Part(18, 17, "", protected=False, length=4)]))
    for field, text in zip(terminal.screen.inputs, ("one", "two"), strict=True):
        terminal.type_into(field.start, text)
    _, keys = host.receive(terminal.press("Enter"))
    assert list(keys[0].fields.values()) == ["one", "two"]


def test_fields_adjust_and_signs_are_sent_as_zones() -> None:
    terminal, host = joined()
    body = "0440" "04110008" "110221" "1d4006240005" "110321" "1d4700240005" "110421" "1d4005240004" "04520000"
    terminal.receive(record(3, bytes.fromhex(body)))
    right, signed, zeros = terminal.screen.inputs
    for field, text in ((right, "AB"), (signed, "12-"), (zeros, "7")):
        terminal.type_into(field.start, text)
    _, keys = host.receive(terminal.press("Enter"))
    assert keys[0].fields == {right.start: "   AB", signed.start: "  1K", zeros.start: "0007"}
    with pytest.raises(ProblemError):
        terminal.type_into(signed.start, "12345")


def test_the_query_is_answered_with_61_bytes() -> None:
    terminal, host = joined(TerminalSettings(wide=True))
    reply = TelnetReader().feed(terminal.receive(host.query()))[0]
    assert isinstance(reply, TelnetRecord)
    data = reply.data[10:]
    assert (len(data), data[:3], data[3:5]) == (61, b"\x00\x00\x88", b"\x00\x3a")
    assert data[3 + 27:3 + 34].decode("cp037") == "3477FC "
    assert data[3 + 46] & 0x08  # Read MDT Fields Alternate


def test_reads_rolls_and_erasing() -> None:
    terminal, host = joined()
    terminal.receive(host.screen([Part(2, 2, "first"), Part(3, 2, "second"), Part(9, 9, "", protected=False, length=4, cursor=True)]))
    whole = TelnetReader().feed(terminal.receive(record(8, b"\x04\x62")))[0]
    assert isinstance(whole, TelnetRecord)
    assert len(whole.data) == 10 + 3 + 24 * 80
    terminal.receive(record(2, bytes.fromhex("0423010203" "04110000" "11030202050205ff00")))
    assert terminal.screen.lines[1].strip() == "second"
    terminal.receive(record(2, bytes.fromhex("04110000" "110101" "0202505c")))  # repeat an asterisk to the end of the second line
    assert terminal.screen.lines[1] == "*" * 80
    assert terminal.receive(record(0x0A)) == record(0x0A)
    assert terminal.screen.locked


def test_a_refused_device_is_told() -> None:
    terminal, host = Tn5250(TerminalSettings(lu="BERTH01")), Tn5250Host(taken=("BERTH01",))
    sent = host.start()
    for _ in range(2):
        sent, _ = host.receive(terminal.receive(sent))
    with pytest.raises(ProblemError) as caught:
        terminal.receive(sent)
    assert caught.value.problem.code == "backend.no-room"  # in use is a limit, and no failure
    start_up = bytes.fromhex("004912a09000056006" "0020c0003d0000") + "8902".encode("cp037") + bytes(40)
    with pytest.raises(ProblemError) as caught:
        Tn5250(TerminalSettings(lu="BERTH01")).receive(telnet.record(start_up))
    assert (caught.value.problem.code, "8902" in caught.value.problem.inner) == ("backend.no-room", True)
    with pytest.raises(ProblemError, match="not authorised"):
        Tn5250(TerminalSettings(lu="BERTH01")).receive(telnet.record(start_up.replace("8902".encode("cp037"), "8917".encode("cp037"))))


def test_signing_on_by_itself_sends_the_variables() -> None:
    terminal = Tn5250(TerminalSettings(user="LKDESK", password="x\x01y"))
    terminal.receive(telnet.option(telnet.DO, telnet.NEW_ENVIRON))
    said = TelnetReader().feed(terminal.receive(telnet.subnegotiation(telnet.NEW_ENVIRON, b"\x01\x00\x03")))[0]
    assert isinstance(said, telnet.Subnegotiation)
    assert read_variables(said.data[1:]) == {"USER": "LKDESK", "CODEPAGE": "37", "IBMRSEED": "", "IBMSUBSPW": "x\x01y"}


@given(st.lists(st.binary(max_size=60), max_size=6))
def test_no_record_of_a_host_breaks_the_terminal(pieces: list[bytes]) -> None:
    terminal = Tn5250(TerminalSettings(wide=True))
    for piece in pieces:
        terminal.receive(record(3, b"\x04\x11\x00\x08" + piece))
        terminal.receive(record(3, b"\x04" + piece))
        screen = terminal.screen
        assert len(screen.characters) == screen.rows * screen.columns
        assert all(one.start + one.length <= len(screen.characters) for one in screen.inputs)
