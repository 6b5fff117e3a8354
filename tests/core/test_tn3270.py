"""3270 sessions against captures of real ones: what a terminal answered to the same bytes of the host."""

from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from bricola.core.problems import ProblemError
from bricola.core.terminals import telnet
from bricola.core.terminals.addresses import read_address, write_address
from bricola.core.terminals.codepages import CODE_PAGES, displayed, encode
from bricola.core.terminals.codes3270 import AIDS
from bricola.core.terminals.telnet import Option, Subnegotiation, TelnetReader, TelnetRecord
from bricola.core.terminals.terminal import TerminalSettings
from bricola.core.terminals.tn3270 import Tn3270

VECTORS = Path(__file__).parent / "vectors" / "tn3270"
KEYS = {code: key for key, code in AIDS.items()}


def steps(name: str) -> Iterator[tuple[str, bytes]]:
    """What the host sent ('<') and what the terminal sent ('>'), each run of one side as one piece."""
    side, piece = "", b""
    for line in (VECTORS / f"{name}.trace").read_text().splitlines():
        if line.startswith("#") or not line or line.endswith("EOF"):
            continue
        _, direction, digits = line.split(" ", 2)
        if direction != side and piece:
            yield side, piece
            piece = b""
        side, piece = direction, piece + bytes.fromhex(digits)
    yield side, piece


def type_and_press(terminal: Tn3270, sent: bytes) -> bytes:
    """Do what the person at the terminal did, as its record tells: fill the fields, put the cursor, press the key."""
    events = TelnetReader().feed(sent)
    assert len(events) == 1
    assert isinstance(events[0], TelnetRecord)
    data, buffer = events[0].data, terminal.buffer
    if len(data) > 3:
        for piece in data[3:].split(b"\x11")[1:]:
            start = read_address(piece[0], piece[1])
            assert start is not None
            span = next(one for one in buffer.spans() if one[0] == start)
            if not span[2].bits & 0x20:
                buffer.type_into(start, piece[2:])
    if len(data) >= 3:
        cursor = read_address(data[1], data[2])
        assert cursor is not None
        buffer.cursor = cursor
    return terminal.press(KEYS[data[0]])


@pytest.mark.parametrize(
    ("name", "settings", "done"),
    [
        ("orders", TerminalSettings(), 21),
        ("hercules-plain", TerminalSettings(), 20),
        ("hercules-model5", TerminalSettings(model=5, colour=False), 20),
        ("tn3270-fallback", TerminalSettings(extended=False), 4),
    ],
)
def test_a_real_session_is_answered_byte_by_byte(name: str, settings: TerminalSettings, done: int) -> None:
    terminal = Tn3270(settings)
    answered, compared = b"", 0
    for side, piece in steps(name):
        if side == "<":
            answered = terminal.receive(piece)
            continue
        if piece[:1] == b"\x88":
            continue  # a Query Reply tells what a terminal can do, and ours is another one
        if not answered:
            if piece[0] not in KEYS:
                break  # what no record of keys is: the walk ends here
            terminal.reset()  # the person did, where the host had not opened the keyboard
            answered = type_and_press(terminal, piece)
        assert answered == piece, (name, compared)
        answered, compared = b"", compared + 1
    assert compared >= done


def test_structured_fields_set_modes_and_read() -> None:
    terminal = Tn3270(TerminalSettings())
    compared = 0
    answered = b""
    for side, piece in steps("structured-fields"):
        if side == "<":
            answered = terminal.receive(piece)
        elif piece[:1] != b"\x88":
            assert answered == piece
            compared += 1
    assert compared >= 5


def test_the_extended_protocol_is_agreed_and_responses_are_given() -> None:
    terminal = Tn3270(TerminalSettings())
    for side, piece in list(steps("tn3270e-session"))[:6]:
        if side == "<":
            answered = terminal.receive(piece)
        else:
            assert answered == piece
    assert terminal.device == "DEMO0002"


def test_a_device_that_the_host_refuses_is_told_with_its_reason() -> None:
    refused = Tn3270(TerminalSettings(lu="NONE"))
    refused.receive(telnet.option(telnet.DO, telnet.TN3270E))
    assert refused.receive(telnet.subnegotiation(telnet.TN3270E, b"\x08\x02")).endswith(b"IBM-3278-2-E\x01NONE\xff\xf0")
    with pytest.raises(ProblemError, match="inv-name"):
        refused.receive(telnet.subnegotiation(telnet.TN3270E, b"\x02\x06\x05\x03"))


def test_bind_system_request_and_the_texts_of_the_network_go_as_with_an_independent_terminal() -> None:
    """Byte by byte: BIND, responses, Attention, System Request there and back, text of the network and what is typed at it, UNBIND."""
    terminal = Tn3270(TerminalSettings())
    answered, compared = b"", 0
    for line in (VECTORS / "tn3270e-functions.trace").read_text().splitlines():
        _, side, piece = line.split(" ", 2) if line[:1].isdigit() else ("", "", "")
        wire = bytes.fromhex(piece) if side else b""
        if side == "<":
            answered += terminal.receive(wire)
        elif side == ">":
            if not answered:
                answered = person(terminal, wire)
            assert answered == wire, compared
            answered, compared = b"", compared + 1
    assert compared >= 11
    assert terminal.screen.locked, "after UNBIND"
    assert not terminal.bound


def person(terminal: Tn3270, sent: bytes) -> bytes:
    """Do what the person did, as the bytes tell."""
    for key, code in (("Attention", b"\xff\xf4"), ("SystemRequest", b"\xff\xf5")):
        if sent == code:
            return terminal.press(key)
    [event] = TelnetReader().feed(sent)
    assert isinstance(event, TelnetRecord)
    if event.data[0] == 7:
        assert terminal.screen.lines[0].rstrip() == "SSCP TEXT"
        terminal.type_into(terminal.screen.cursor, event.data[5:].decode("cp037"))
        return terminal.press("Enter")
    return type_and_press(terminal, telnet.record(event.data[5:]))


def extended() -> Tn3270:
    """A terminal that has agreed on everything with a host."""
    terminal = Tn3270(TerminalSettings())
    terminal.receive(bytes.fromhex("fffd28fffa280802fff0fffa2802044942") + b"M-3278-2-E\x01LK1\xff\xf0" + bytes.fromhex("fffa280304000204fff0"))
    return terminal


def test_a_logon_screen_of_the_network_is_read_and_answered() -> None:
    terminal = extended()
    text = "LARKMERE NETWORK\x85TYPE THE NAME OF AN APPLICATION\x85===> ".encode("cp037")
    terminal.receive(telnet.record(b"\x07\x00\x00\x00\x01" + text))
    screen = terminal.screen
    assert [line.rstrip() for line in screen.lines[:3]] == ["LARKMERE NETWORK", "TYPE THE NAME OF AN APPLICATION", "===>"]
    assert (screen.locked, screen.formatted, screen.cursor) == (False, False, 165)
    terminal.type_into(screen.cursor, "LEDGER A")
    with pytest.raises(ProblemError, match="knows no such key"):
        terminal.press("PF3")
    assert terminal.press("Enter") == telnet.record(b"\x07\x00\x00\x00\x00" + "LEDGER A".encode("cp037"))
    assert terminal.screen.locked
    image = bytes.fromhex("31010303b1905080008787f88700020000000018501b847f0000")
    terminal.receive(telnet.record(b"\x03\x00\x00\x00\x02" + image) + telnet.record(b"\x00\x00\x00\x00\x03" + bytes.fromhex("f5c31d40c1")))
    assert terminal.bound
    assert terminal.screen.lines[0].strip() == "A"


def test_text_of_the_server_is_shown() -> None:
    terminal = extended()
    terminal.receive(telnet.record(b"\x05\x00\x00\x00\x00Closed until six.\r\nCall the control room."))
    assert [line.rstrip() for line in terminal.screen.lines[:2]] == ["Closed until six.", "Call the control room."]


def test_the_first_screen_of_an_independent_host_is_read() -> None:
    terminal = Tn3270(TerminalSettings())
    screens = []
    for side, piece in steps("hercules-plain"):
        if side == "<":
            terminal.receive(piece)
            if terminal.records and terminal.screen not in screens:
                screens.append(terminal.screen)
        if len(screens) == 2:
            break
    logo, form = screens
    assert logo.lines[0].rstrip().startswith(" HERCULES TN3270 CONSOLE")
    assert not logo.inputs
    assert form.inputs
    assert form.lines[0].strip()


def host(data: str) -> Tn3270:
    """A terminal that is past the negotiation and got this record."""
    terminal = Tn3270(TerminalSettings())
    terminal.receive(bytes.fromhex("fffd18fffd19fffb19fffd00fffb00") + telnet.record(bytes.fromhex(data)))
    return terminal


FORM = "f5c3" "114040" "1d60" "d5c1d4c5" "1d40" "0000000000" "1d60" "1d50" "000000" "1d60" "1d4c" "d7c9d5" "1d60"


def test_typing_is_refused_before_anything_is_typed() -> None:
    terminal = host(FORM)
    name, number, hidden = terminal.screen.inputs
    terminal.type_into(name.start, "Heron")
    before = terminal.screen
    for start, text, code in ((name.start, "Herons", "terminal.too-long"), (name.start, "Łódź", "codepage.character"),
                              (number.start, "12a", "terminal.not-numeric"), (1, "x", "terminal.protected")):
        with pytest.raises(ProblemError) as caught:
            terminal.type_into(start, text, "registration")
        assert caught.value.problem.code == code
    assert terminal.screen == before
    assert hidden.hidden
    assert "PIN" not in before.characters
    assert terminal.press("Enter") == bytes.fromhex("7d") + write_address(terminal.buffer.cursor, 1920) + b"\x11" + write_address(6, 1920) \
        + "Heron".encode("cp037") + b"\xff\xef"
    with pytest.raises(ProblemError, match="locked"):
        terminal.press("Enter")
    with pytest.raises(ProblemError, match="locked"):
        terminal.type_into(name.start, "x")


@given(st.integers(0, 8200), st.booleans())
def test_addresses_come_back(address: int, large: bool) -> None:
    size = 1 << 14 if large else 4096
    if address < size:
        assert read_address(*write_address(address, size)) == address


@given(
    st.lists(
        st.one_of(st.binary(max_size=40).map(lambda data: ("record", data)), st.sampled_from([("do", b"\x18"), ("sub", b"\x18\x01\xff")])),
        max_size=6,
    ),
    st.lists(st.integers(1, 7), min_size=1, max_size=30),
)
def test_however_bytes_are_cut_the_events_are_the_same(items: list[tuple[str, bytes]], cuts: list[int]) -> None:
    stream = b"".join(telnet.record(data) if kind == "record" else telnet.option(telnet.DO, 0x18) if kind == "do"
                      else telnet.subnegotiation(data[0], data[1:]) for kind, data in items)
    expected = [TelnetRecord(data) if kind == "record" else Option(telnet.DO, 0x18) if kind == "do" else Subnegotiation(data[0], data[1:])
                for kind, data in items]
    reader, events, at, index = TelnetReader(), [], 0, 0
    while at < len(stream):
        step = cuts[index % len(cuts)]
        events += reader.feed(stream[at:at + step])
        at, index = at + step, index + 1
    assert events == expected


@given(st.binary(max_size=300))
def test_any_bytes_of_a_host_are_survived(data: bytes) -> None:
    terminal = host(FORM)
    try:
        terminal.receive(data)
        terminal.receive(telnet.record(b"\xf5" + data))
    except ProblemError:
        return
    assert len(terminal.screen.characters) == terminal.buffer.size


def test_a_host_that_never_ends_is_left() -> None:
    with pytest.raises(ProblemError, match="without end"):
        Tn3270(TerminalSettings()).receive(telnet.option(telnet.DO, 0x20) * 300)
    with pytest.raises(ProblemError, match="does not end"):
        TelnetReader().feed(b"x" * (telnet.MOST_RECORD + 1))


@pytest.mark.parametrize("page", CODE_PAGES)
def test_what_can_be_typed_shows_as_it_was_typed(page: str) -> None:
    letters = sorted({one for one in displayed(page) if one not in " *;"})
    shown = displayed(page)
    assert [shown[code] for code in encode("".join(letters), page)] == letters
    with pytest.raises(ProblemError, match="has no"):
        encode("Ω", page, "name")


@pytest.mark.parametrize(("size", "address"), [((62, 160), b"\x26\xb6"), ((130, 160), b"\x51\x36")])
def test_a_dynamic_terminal_has_the_size_that_it_says(size: tuple[int, int], address: bytes) -> None:
    """14-bit addresses up to 16,384 positions, 16-bit ones above."""
    terminal = Tn3270(TerminalSettings(size=size, extended=False))
    asked = terminal.receive(telnet.option(telnet.DO, telnet.TERMINAL_TYPE) + telnet.subnegotiation(telnet.TERMINAL_TYPE, b"\x01"))
    assert b"IBM-DYNAMIC" in asked
    reply = terminal.receive(telnet.record(bytes.fromhex("f3000501ff02")))
    usable = reply[reply.index(b"\x81\x81") + 4:]
    assert (int.from_bytes(usable[:2], "big"), int.from_bytes(usable[2:4], "big")) == (size[1], size[0])
    position = size[0] * size[1] - 10
    terminal.receive(telnet.record(b"\x7e\xc3\x11" + write_address(position, size[0] * size[1]) + "LAST".encode("cp037")))
    assert write_address(position, size[0] * size[1]) == address
    assert (terminal.screen.rows, terminal.screen.columns) == size
    assert terminal.screen.characters[position:position + 4] == "LAST"
