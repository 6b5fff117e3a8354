"""From a person's way through a host that nobody has described to its definition: the sign-on, what covers screens, the start.

The person signs on at a raw terminal, passes what comes after (news, a notice), and stops on the screen that work begins from. That walk
says what a definition of the host needs: the screen with a hidden field is the sign-on, and the credential's user and password are what
was typed there; a screen that one key took away, on the way to the start, covers others and is dismissed with that key; the same screen
again with another text is a refusal; a screen that wants two hidden texts wants a new password. What the person typed into hidden fields is
not here.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from bricola.core.definitions.engines.terminals import Fill, KnownScreen, Leave, Mark, Move, Place, Spot, TerminalHost, Turn
from bricola.core.kinds.screens.film import Shot
from bricola.core.kinds.screens.guessing import guess, guess_marks, propose_name
from bricola.core.kinds.screens.recognise import compile_recogniser
from bricola.core.problems import Problem, ProblemError
from bricola.core.terminals.screen import Screen

_WAYS_OUT = {"PF3", "PF12", "F3", "F12"}  # what hosts take for going back, in either family's words


@dataclass(frozen=True)
class Learned:
    """`host` is the definition's part; `user` and `password` are where the credential's parts were typed: the number of the shot, and the
    position of the field. None of them where nobody signed on."""

    host: TerminalHost
    user: tuple[int, int] | None
    password: tuple[int, int] | None
    notes: tuple[str, ...]


def learn(shots: Sequence[Shot], now: Screen, settings: Mapping[str, object], keys: Sequence[str]) -> Learned:
    """What a walk says of a host. `now` is the screen that it ended on; `settings` are those of the terminal (model, code page), `keys`
    those that it has. Raises ProblemError where two screens cannot be told apart."""
    names = _names(shots, now)
    start = names[-1]
    notes: list[str] = []
    sign_on = next((number for number, one in enumerate(shots) if _secrets(one)), None)
    screens: dict[str, Screen] = {}
    for number, shot in enumerate(shots):
        screens.setdefault(names[number], shot.before)
    screens[start] = now
    _refuse_odd(shots, names, sign_on, start)
    covers = _covers(shots, names, sign_on, start)
    wants_new = {names[number] for number, one in enumerate(shots) if _wants_new_password(one.before)} - {start, *covers}
    moves = [] if sign_on is None else _moves(shots, names, sign_on, start, wants_new)
    seen = [name for name in screens if name == start or name in covers or name in wants_new or any(one.on == name for one in moves)]
    known = tuple(_known(name, screens, shots, names, covers, sign_on) for name in seen)
    _refuse_confusion(known, screens)
    if sign_on is None:
        notes.append("Nobody signed on; the definition has no sign-on.")
    out = _way_out(shots, names, start, keys)
    if not any(one.key == out for one in shots):
        notes.append(f"No key was seen that leads back to {start}; {out} is taken. Correct 'leave:' where the host has another.")
    host = TerminalHost.model_validate({**settings, "start": start, "screens": known, "sign_on": tuple(moves),
                                        "leave": Leave(press=(out,))})
    return Learned(host, *_credential_places(shots, sign_on), tuple(notes))


def _names(shots: Sequence[Shot], now: Screen) -> list[str]:
    """A name for the screen before each shot, and for the last one; the same proposal for screens that are not alike gets a number."""
    found: list[str] = []
    kept: dict[str, list[Screen]] = {}
    for screen in (*(one.before for one in shots), now):
        base = propose_name(screen)
        same = kept.setdefault(base, [])
        number = next((at for at, one in enumerate(same) if _alike(one, screen)), None)
        if number is None:
            same.append(screen)
            number = len(same) - 1
        found.append(base if number == 0 else f"{base}-{number + 1}")
    return found


def _alike(one: Screen, other: Screen) -> bool:
    """Whether two screens are the same form: their inputs begin at the same places."""
    return [field.start for field in one.inputs] == [field.start for field in other.inputs]


def _secrets(shot: Shot) -> list[int]:
    """The hidden fields that were typed into: what was typed there is not told, and stands as an empty text or None."""
    return [one.start for one in shot.before.inputs if one.hidden and one.start in shot.typed]


def _wants_new_password(screen: Screen) -> bool:
    return sum(one.hidden for one in screen.inputs) > 1


def _covers(shots: Sequence[Shot], names: Sequence[str], sign_on: int | None, start: str) -> dict[str, str]:
    """Screens after the sign-on that one key took away, with that key."""
    first = 0 if sign_on is None else sign_on + 1
    return {names[number]: shots[number].key for number in range(first, len(shots))
            if names[number] != start and not any(shots[number].typed.values()) and not _secrets(shots[number])
            and start not in names[first:number] and (sign_on is None or names[number] != names[sign_on])}


def _moves(shots: Sequence[Shot], names: Sequence[str], sign_on: int, start: str, wants_new: set[str]) -> list[Move]:
    """The sign-on: what was typed before it, and the move itself with all that came of it."""
    moves: list[Move] = []
    user = _user_place(shots, sign_on)
    for number in range(sign_on):
        shot = shots[number]
        fills = tuple(Fill(name=name, credential="user") if user == (number, at) else Fill(name=name, value=shot.typed[at])
                      for at, name in _fields(shot).items() if shot.typed.get(at))
        if not any(one.on == names[number] for one in moves) and names[number] != names[sign_on]:
            moves.append(Move(on=names[number], fill=fills, press=shot.key, expect=(Turn(screen=names[number + 1]),)))
    page = names[sign_on]
    tries = [number for number, one in enumerate(shots) if names[number] == page and _secrets(one)]
    hidden = set(_secrets(shots[sign_on]))
    fills = tuple(Fill(name=name, credential="password") if at in hidden else Fill(name=name, credential="user")
                  if user == (sign_on, at) else Fill(name=name, value=shots[sign_on].typed[at])
                  for at, name in _fields(shots[sign_on]).items())
    turns = [Turn(screen=start)]
    for number in tries:
        came = names[number + 1]
        if came == page and (words := _changed_words(shots[number].before, shots[number + 1].before)):
            turns.append(Turn(screen=page, message=words, refused=words))
    turns += [Turn(screen=one, refused="the password has expired") for one in sorted(wants_new - {page})]
    if not any(one.screen == page for one in turns):
        turns.append(Turn(screen=page, refused="the host asks again"))
    moves.append(Move(on=page, fill=fills, press=shots[sign_on].key, expect=tuple(turns)))
    return moves


def _user_place(shots: Sequence[Shot], number: int) -> tuple[int, int] | None:
    """Where the user's name was typed that belongs to the password of a shot: before it on that screen, or last of all before that."""
    for at in range(number, -1, -1):
        hidden = _secrets(shots[at])
        visible = [start for start in sorted(shots[at].typed) if start not in hidden]
        if visible:
            return at, visible[0]
    return None


def _fields(shot: Shot) -> dict[int, str]:
    """The fields that were typed into, by position, each with a name from its label that no other has."""
    found: dict[int, str] = {}
    for at in sorted(shot.typed):
        row, column = divmod(at, shot.before.columns)
        name = base = guess(shot.before, row + 1, column + 1, None).name
        count = 2
        while name in found.values():
            name, count = f"{base}{count}", count + 1
        found[at] = name
    return found


def _named_inputs(screen: Screen) -> list[tuple[int, str, int]]:
    """The inputs that anybody sees: their positions, names and lengths."""
    seen = [one for one in screen.inputs if not one.hidden]
    names = _fields(Shot("", screen, "", {one.start: "" for one in seen}, "", screen, ""))
    return [(one.start, names[one.start], one.length) for one in seen]


def _changed_words(before: Screen, after: Screen) -> str:
    """The text of a row that says something else than a moment ago: the host's message."""
    starts = {one.start // before.columns for one in before.inputs}
    for row in range(min(before.rows, after.rows)):
        words = after.lines[row].strip()
        if words and words != before.lines[row].strip() and row not in starts and sum(map(str.isalpha, words)) > 5:
            return words[:80]
    return ""


def _known(name: str, screens: Mapping[str, Screen], shots: Sequence[Shot], names: Sequence[str], covers: Mapping[str, str],
           sign_on: int | None) -> KnownScreen:
    screen = screens[name]
    others = [one for other, one in screens.items() if other != name]
    visits = [one.before for number, one in enumerate(shots) if names[number] == name]
    marks: tuple[Mark, ...] = guess_marks(screen, others, visits)
    places: list[Place] = []
    message = None
    if sign_on is not None and name in (names[number] for number in range(sign_on + 1)):
        number = next(at for at in range(sign_on + 1) if names[at] == name)
        for at, field in _fields(shots[number]).items():
            row, column = divmod(at, screen.columns)
            found = screen.field_at(at)
            places.append(Place(name=field, row=row + 1, column=column + 1, length=found.length if found else None))
        message = _message_spot(shots, names, name)
    if name == names[-1]:  # flows choose there what they want
        places = [Place(name=field, row=at // screen.columns + 1, column=at % screen.columns + 1, length=length)
                  for at, field, length in _named_inputs(screen)]
    return KnownScreen.model_validate({"name": name, "marks": marks, "places": tuple(places), "message": message,
                                       "dismiss": covers.get(name, "")})


def _message_spot(shots: Sequence[Shot], names: Sequence[str], name: str) -> Spot | None:
    for number, shot in enumerate(shots[:-1]):
        after = shots[number + 1].before
        if names[number] == name == names[number + 1] and (words := _changed_words(shot.before, after)):
            row = next(at for at, line in enumerate(after.lines) if words in line)
            return Spot(row=row + 1, column=1, length=after.columns)
    return None


def _way_out(shots: Sequence[Shot], names: Sequence[str], start: str, keys: Sequence[str]) -> str:
    """The key that led back to the start from where work is done; else the one that hosts of this family take."""
    back = [one.key for number, one in enumerate(shots) if names[number] != start and names[number + 1] == start and one.key in _WAYS_OUT]
    return back[-1] if back else "PF3" if "PF3" in keys else "F3"


def _credential_places(shots: Sequence[Shot], sign_on: int | None) -> tuple[tuple[int, int] | None, tuple[int, int] | None]:
    """Where the last sign-on typed its user and its password: the one that led on."""
    if sign_on is None:
        return None, None
    page = [one.start for one in shots[sign_on].before.inputs]
    last = max(number for number, one in enumerate(shots) if _secrets(one) and [two.start for two in one.before.inputs] == page)
    return _user_place(shots, last), (last, _secrets(shots[last])[0])


def _refuse_odd(shots: Sequence[Shot], names: Sequence[str], sign_on: int | None, start: str) -> None:
    if sign_on is not None and start == names[sign_on]:
        raise ProblemError(Problem("learning.start", "The walk ends on the screen where one signs on.", place=start,
                                   mend="Sign on, go on to the screen that work begins from, and stop there."))
    if sign_on is not None and _user_place(shots, sign_on) is None:
        raise ProblemError(Problem("learning.user", "A password was typed, and no user before it.", place=names[sign_on],
                                   mend="Open the terminal again, and type both."))


def _refuse_confusion(known: Sequence[KnownScreen], screens: Mapping[str, Screen]) -> None:
    for one in known:
        recogniser = compile_recogniser(one)
        wrong = next((name for name, screen in screens.items() if name != one.name and recogniser.matches(screen)), None)
        if wrong is not None:
            raise ProblemError(Problem("learning.marks", "Two screens look alike in all that was seen of them.",
                                       place=f"{one.name}, {wrong}",
                                       mend="Go through both once more, so that what stands still on them is seen."))
