"""A live terminal in a terminal window: the host's screen with its true fields, and the keyboard.

Strategy: typing stays here until a key is pressed that the host shall know of; then all typed fields go out with it. One loop draws,
reads the keyboard with a short wait, and hears what the service tells.
"""

import contextlib
import curses
from dataclasses import dataclass, field
from typing import Any

from bricola.client.screens import TerminalLine

_COLOURS = {"blue": curses.COLOR_BLUE, "red": curses.COLOR_RED, "pink": curses.COLOR_MAGENTA, "green": curses.COLOR_GREEN,
            "turquoise": curses.COLOR_CYAN, "yellow": curses.COLOR_YELLOW, "white": curses.COLOR_WHITE}
_CLEAR_COLOURS = {"blue": 75, "red": 203, "pink": 213, "green": 77, "turquoise": 80, "yellow": 221, "white": 255}  # of 256, read on black
_CTRL = {"L": 12, "R": 18, "T": 20, "X": 24}
_WAIT_MS = 40


@dataclass
class Typewriter:
    """A screen with what was typed on it and where the cursor is. Pure: keys in, state out."""

    screen: dict[str, Any]
    cursor: int = 0
    typed: dict[int, str] = field(default_factory=dict)  # start of a field -> its whole content

    def show(self, screen: dict[str, Any]) -> None:
        self.screen, self.cursor, self.typed = screen, screen["cursor"], {}

    @property
    def size(self) -> int:
        return int(self.screen["rows"] * self.screen["columns"])

    def inputs(self) -> list[dict[str, Any]]:
        return [one for one in self.screen["fields"] if not one.get("protected")]

    def field_at(self, position: int) -> dict[str, Any] | None:
        return next((one for one in self.inputs() if one["start"] <= position < one["start"] + one["length"]), None)

    def content(self, one: dict[str, Any]) -> str:
        """What a field holds now, of its full length."""
        start, length = one["start"], one["length"]
        if start in self.typed:
            return self.typed[start].ljust(length)[:length]
        columns = self.screen["columns"]
        text = "".join(line.ljust(columns) for line in self.screen["lines"])
        return text[start:start + length]

    def type(self, letter: str) -> bool:
        """Put a letter at the cursor; whether it could be."""
        one = self.field_at(self.cursor)
        if one is None:
            return False
        if one.get("numeric") and letter not in "0123456789.,-+ ":
            return False
        at = self.cursor - one["start"]
        text = self.content(one)
        self.typed[one["start"]] = text[:at] + (letter.upper() if one.get("monocase") else letter) + text[at + 1:]
        self.cursor += 1
        if self.cursor >= one["start"] + one["length"]:
            self.tab()
        return True

    def erase(self, back: bool) -> None:
        if back:
            if self.field_at(self.cursor - 1) is None:
                return
            self.cursor -= 1
        one = self.field_at(self.cursor)
        if one is not None:
            at, text = self.cursor - one["start"], self.content(one)
            self.typed[one["start"]] = text[:at] + text[at + 1:] + " "

    def erase_to_end(self) -> None:
        one = self.field_at(self.cursor)
        if one is not None:
            self.typed[one["start"]] = self.content(one)[:self.cursor - one["start"]]

    def move(self, by: int) -> None:
        self.cursor = (self.cursor + by) % self.size

    def tab(self, back: bool = False) -> None:
        """To the next input, or the one before."""
        starts = sorted(one["start"] for one in self.inputs())
        if not starts:
            return
        if back:
            self.cursor = next((one for one in reversed(starts) if one < self.cursor), starts[-1])
        else:
            self.cursor = next((one for one in starts if one > self.cursor), starts[0])

    def fields(self) -> dict[int, str]:
        """What goes out with a key: typed fields without blanks at their ends."""
        return {start: text.rstrip() for start, text in self.typed.items()}


@dataclass
class Walked:
    """What a person did at a terminal: how it began, and the moves as the service told them."""

    opened: dict[str, Any]
    moves: list[dict[str, Any]]


def run_terminal(line: TerminalLine, title: str) -> Walked:
    """Until the person leaves; the line stays open. Raises ProblemError when the terminal ended."""
    opened = line.hear(30)
    assert opened is not None  # the service tells it first, or ends
    walked = Walked(opened, [])
    curses.wrapper(lambda window: _Window(window, line, title, walked).run())
    return walked


class _Window:
    def __init__(self, window: "curses.window", line: TerminalLine, title: str, walked: Walked) -> None:
        opened = walked.opened
        self._walked = walked
        self._window, self._line, self._title = window, line, title
        self._is_5250 = "PF1" not in opened["keys"]  # the two families of terminals call their function keys differently
        self._opened = opened
        self._writer = Typewriter(opened["screen"])
        self._writer.show(opened["screen"])
        self._known, self._words = opened["known"], ""
        self._pairs: dict[str, int] = {}
        if curses.has_colors():
            curses.use_default_colors()
            for number, (name, colour) in enumerate((_CLEAR_COLOURS if curses.COLORS >= 256 else _COLOURS).items(), 1):
                curses.init_pair(number, colour, -1)
                # Of eight colours, blue is too dark on black but where bold makes it bright.
                self._pairs[name] = curses.color_pair(number) | (curses.A_BOLD if name == "blue" and curses.COLORS < 256 else 0)

    def run(self) -> None:
        self._window.timeout(_WAIT_MS)
        self._draw()
        while True:
            told = self._line.hear(0.001)
            if told is not None:
                self._told(told)
                self._draw()
            try:
                key = self._window.get_wch()
            except curses.error:
                continue
            if key == chr(_CTRL["X"]):
                return
            self._key(key)
            self._draw()

    def _told(self, told: dict[str, Any]) -> None:
        if told["type"] == "refused":
            problem = told["problems"][0]
            self._words = f"{problem['message']} {problem.get('expected', '')}".strip()
            return
        self._words = f"{told['ms']:g} ms" if told["type"] == "moved" else ""
        self._known = told["known"]
        if told["type"] == "moved":
            self._walked.moves.append(told)
        self._writer.show(told["screen"])

    def _key(self, key: int | str) -> None:
        writer = self._writer
        columns = writer.screen["columns"]
        moves = {curses.KEY_LEFT: -1, curses.KEY_RIGHT: 1, curses.KEY_UP: -columns, curses.KEY_DOWN: columns}
        pressed = self._host_key(key)
        if pressed:
            self._words = "waiting"
            self._line.press(pressed, writer.fields(), writer.cursor)
        elif isinstance(key, int) and key in moves:
            writer.move(moves[key])
        elif key in (curses.KEY_BTAB,):
            writer.tab(back=True)
        elif key == "\t":
            writer.tab()
        elif key in (curses.KEY_BACKSPACE, "\x7f", "\b"):
            writer.erase(back=True)
        elif key == curses.KEY_DC:
            writer.erase(back=False)
        elif key == curses.KEY_END:
            writer.erase_to_end()
        elif key == curses.KEY_HOME:
            writer.cursor = 0
            writer.tab()
        elif key == chr(_CTRL["R"]):
            self._line.reset()
        elif isinstance(key, str) and key.isprintable() and not writer.type(key):
            self._words = "no input here, or not this letter"

    def _host_key(self, key: int | str) -> str:
        prefix = "F" if self._is_5250 else "PF"
        if key in ("\n", "\r", curses.KEY_ENTER):
            return "Enter"
        if isinstance(key, int) and curses.KEY_F1 <= key <= curses.KEY_F1 + 23:
            return f"{prefix}{key - curses.KEY_F1 + 1}"
        if key in (curses.KEY_NPAGE, curses.KEY_PPAGE):
            down = key == curses.KEY_NPAGE
            return ("PageDown" if down else "PageUp") if self._is_5250 else ("PF8" if down else "PF7")
        if key == chr(_CTRL["L"]):
            return "Clear"
        if key == chr(_CTRL["T"]):
            return "Attention" if self._is_5250 else "PA1"
        return ""

    def _draw(self) -> None:
        window, writer = self._window, self._writer
        window.erase()
        height, width = window.getmaxyx()
        screen = writer.screen
        rows, columns = screen["rows"], screen["columns"]
        for number, row in enumerate(screen["lines"][:height - 2]):
            self._put(number, 0, row[:width - 1], curses.A_NORMAL)
        for one in screen["fields"]:
            self._draw_field(one, columns, height, width)
        state = self._words or ("locked" if screen["locked"] else "ready")
        row, column = divmod(writer.cursor, columns)
        left = f" {self._title}  {self._known or 'a screen without a name'}  {self._opened['device']}"
        right = f"{state}  {row + 1:02},{column + 1:02} "
        bar = min(rows, height - 2)
        self._put(
            bar, 0, (left[: max(0, width - 1 - len(right))].ljust(max(0, width - 1 - len(right))) + right)[: width - 1], curses.A_REVERSE
        )
        helps = "F1-F12, Enter, PgUp, PgDn to the host   Ctrl-L Clear   Ctrl-R Reset   Ctrl-T " + ("Attn" if self._is_5250 else "PA1")
        self._put(min(bar + 1, height - 1), 0, f" {helps}   Ctrl-X leaves"[:width - 1], curses.A_DIM)
        if row < height - 2 and column < width:
            window.move(row, column)
        window.refresh()

    def _draw_field(self, one: dict[str, Any], columns: int, height: int, width: int) -> None:
        style = self._pairs.get(one.get("colour", ""), 0)
        if one.get("intensified"):
            style |= curses.A_BOLD
        if one.get("highlight") == "reverse":
            style |= curses.A_REVERSE
        is_input = not one.get("protected")
        if is_input or one.get("highlight") == "underscore":
            style |= curses.A_UNDERLINE
        text = self._writer.content(one)
        if one.get("hidden"):
            text = "*" * len(text.rstrip()) if is_input else " " * len(text)
            text = text.ljust(one["length"])
        at = one["start"]
        while text:  # a field may go on over the ends of rows
            row, column = divmod(at, columns)
            piece, text = text[:columns - column], text[columns - column:]
            if row < height - 2:
                self._put(row, column, piece[:max(0, width - 1 - column)], style)
            at += len(piece)

    def _put(self, row: int, column: int, text: str, style: int) -> None:
        if text and row < self._window.getmaxyx()[0]:
            with contextlib.suppress(curses.error):  # the last cell of a window cannot be written without scrolling it
                self._window.addstr(row, column, text, style)
