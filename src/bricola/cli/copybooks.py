"""`copybooks`: what a copybook lays out, and records to values and back, where no service is asked; and copybooks that a service keeps."""

import json
import re
import sys
from decimal import Decimal
from pathlib import Path
from typing import Annotated, Any

import typer
from rich.markup import escape

from bricola.cli.connection import At, Json, connect
from bricola.cli.output import out, print_affected, print_json, table, text
from bricola.core.cobol.describing import ItemRow, Layout, described
from bricola.core.cobol.record import Options, all_records, chosen_record, decode, encode, options_of
from bricola.core.problems import Problem, ProblemError, shown

Copybook = Annotated[Path, typer.Argument(help="The copybook.", dir_okay=False, exists=True)]
RecordName = Annotated[str, typer.Option("--record", help="The level 01 that is meant, where there are several.", show_default=False)]
Form = Annotated[
    str, typer.Option("--format", metavar="FIXED|FREE", help="The reference format; found out where it is not said.", show_default=False)
]
Members = Annotated[
    Path | None,
    typer.Option(
        "--members",
        metavar="FOLDER",
        file_okay=False,
        exists=True,
        show_default=False,
        help="Where the copybooks lie that it copies; beside it where it is not said.",
    ),
]
Replacing = Annotated[
    list[str] | None, typer.Option("--replacing", metavar="OLD=NEW", help="What stands instead of what, as in COPY REPLACING.")
]
Stays = Annotated[bool, typer.Option("--stays", help="What follows a table of varying length stays where it is when the table is short.")]
WholeRange = Annotated[bool, typer.Option("--whole-range", help="COMP holds all that its bytes can, whatever its picture says.")]
View = Annotated[list[str] | None, typer.Option("--view", metavar="ITEM=VIEW", help="Which view holds of an item that is redefined.")]
CodePage = Annotated[str, typer.Option("--code-page", help="The code page of the record, such as ascii, cp037 or cp273.")]


def register(app: typer.Typer) -> None:
    panel = "Backends"
    copybooks = typer.Typer(help="Copybooks: what they lay out, and records to values and back.", no_args_is_help=True)
    app.add_typer(copybooks, name="copybooks", rich_help_panel=panel)

    @copybooks.command("layout")
    def layout(
        file: Copybook,
        record: RecordName = "",
        source_format: Form = "",
        members: Members = None,
        replacing: Replacing = None,
        whole_range: WholeRange = False,
        as_json: Json = False,
    ) -> None:
        """Show where each item of a copybook lies, how long it is and how its bytes are read."""
        options = _options(file, record, source_format, members, replacing, False, whole_range, None)
        chosen = [chosen_record(copybook_text(file), options)] if record else all_records(copybook_text(file), options)
        layouts = [described(one, options.binary_truncate) for one in chosen]
        if as_json:
            print_json(layouts[0] if record or len(layouts) == 1 else layouts)
            return
        for number, one in enumerate(layouts):
            if number:
                out.print()
            _print_layout(one)

    @copybooks.command("decode")
    def decode_record(
        file: Copybook,
        data: Annotated[str, typer.Argument(help="A file with the bytes of one record, '-' for standard input, or the bytes as hex:C1C2…")],
        code_page: CodePage = "ascii",
        record: RecordName = "",
        source_format: Form = "",
        members: Members = None,
        replacing: Replacing = None,
        stays: Stays = False,
        whole_range: WholeRange = False,
        view: View = None,
        absent: Annotated[
            bool, typer.Option("--absent", help="Leave numbers out whose bytes are none, instead of refusing the record.")
        ] = False,
    ) -> None:
        """Print the values of a record as JSON: numbers as decimal text, tables as lists."""
        options = _options(file, record, source_format, members, replacing, stays, whole_range, view)
        given = options.model_dump() | {"bad_numbers": "absent" if absent else "refuse"}
        print_json(_plain(decode(copybook_text(file), _bytes(data), code_page, given)))

    @copybooks.command("encode")
    def encode_record(
        file: Copybook,
        values: Annotated[str, typer.Argument(help="A JSON file with the values as `decode` prints them, or '-' for standard input.")],
        code_page: CodePage = "ascii",
        record: RecordName = "",
        source_format: Form = "",
        members: Members = None,
        replacing: Replacing = None,
        stays: Stays = False,
        whole_range: WholeRange = False,
        initial: Annotated[bool, typer.Option("--initial", help="Write VALUE, zero or blanks for what is not given.")] = False,
        to: Annotated[
            Path | None,
            typer.Option(
                "--to",
                metavar="FILE",
                dir_okay=False,
                show_default=False,
                help="Write the bytes to a file; printed in hexadecimal where it is not said.",
            ),
        ] = None,
    ) -> None:
        """Write the bytes of a record from its values."""
        options = _options(file, record, source_format, members, replacing, stays, whole_range, None)
        try:
            given = json.loads(sys.stdin.read() if values == "-" else copybook_text(Path(values)), parse_float=Decimal)
        except ValueError as error:
            raise ProblemError(Problem("json.syntax", f"The values are not JSON: {error}.", place=values)) from None
        if not isinstance(given, dict):
            raise ProblemError(Problem("json.type", "The values are not those of a record.", place=values, expected="an object"))
        made = encode(copybook_text(file), given, code_page, options.model_dump() | {"missing": "initial" if initial else "refuse"})
        if to is None:
            out.print(made.hex())
        else:
            to.write_bytes(made)
            out.print(f"[green]●[/] {len(made)} bytes in {text(to)}")

    @copybooks.command("take")
    def take(
        file: Copybook,
        called: Annotated[
            str, typer.Option("--as", metavar="NAME", help="The copybook that it is, new or instead of the one that is kept.")
        ],
        source_format: Form = "",
        members: Members = None,
        replacing: Replacing = None,
        show: Annotated[bool, typer.Option("--show", help="Only say what differs and who is affected, save nothing.")] = False,
        yes: Annotated[bool, typer.Option("--yes", "-y", help="Save it without asking, whoever is affected.")] = False,
        at: At = "",
        as_json: Json = False,
    ) -> None:
        """Bring a copybook in, new or changed: says what differs, what would not fit and who is affected, and saves it as a draft."""
        said = {
            "source_format": source_format.lower(),
            "members": members_of(file, members),
            "replacing": pairs_of(replacing, "--replacing"),
        }
        with connect(at) as client:
            found = client.take_copybook(called, copybook_text(file), False, **said)
            if as_json and (show or not yes):
                print_json(found)
                return
            if not as_json:
                print_taken(called, found)
            if show:
                return
            if not found["new"] and not found["differences"] and not found["problems"] and not as_json:
                out.print("It lays out what the one that is kept does.")
            if (found["affected"] or found["problems"]) and not yes and not typer.confirm("Save it as a draft?", default=False):
                raise typer.Exit(1)
            saved = client.take_copybook(called, copybook_text(file), True, **said)
        if as_json:
            print_json(saved)
            return
        for one in saved["changes"]:
            out.print(f"[green]●[/] saved {text(one['name'])} as a draft")


def _options(
    file: Path,
    record: str,
    source_format: str,
    members: Path | None,
    replacing: list[str] | None,
    stays: bool,
    whole_range: bool,
    view: list[str] | None,
) -> Options:
    given: dict[str, Any] = {
        "record": record,
        "replacing": pairs_of(replacing, "--replacing"),
        "binary_truncate": not whole_range,
        "members": members_of(file, members),
        "table_follows": "stays" if stays else "slides",
        "views": pairs_of(view, "--view"),
    }
    if source_format:
        given["source_format"] = source_format.lower()
    return options_of(given)


def members_of(file: Path, members: Path | None) -> dict[str, str]:
    """The copybooks that it may copy, by name: those that its text names, of a folder."""
    wanted = {one.upper() for one in re.findall(r"(?i)\b(?:COPY|INCLUDE)\s+['\"]?([\w-]+)", copybook_text(file))}
    found: dict[str, str] = {}
    while wanted - found.keys():
        more: set[str] = set()
        for one in sorted((members or file.parent).iterdir()):
            name = one.stem.upper()
            if name in wanted - found.keys() and one.is_file() and one != file:
                found[name] = copybook_text(one)
                more |= {name.upper() for name in re.findall(r"(?i)\b(?:COPY|INCLUDE)\s+['\"]?([\w-]+)", found[name])}
        if not more - wanted:
            break
        wanted |= more
    return found


def pairs_of(texts: list[str] | None, option: str, form: str = "OLD=NEW") -> dict[str, str]:
    pairs = [one.partition("=") if not one.startswith("==") else _pseudo(one) for one in texts or []]
    for name, equals, _ in pairs:
        if not name or not equals:
            raise ProblemError(Problem("option.form", f"{option} takes two texts.", place=option, expected=form))
    return {name: value for name, _, value in pairs}


def _pseudo(one: str) -> tuple[str, str, str]:
    """==old===new or ==old=====new==, as pseudo-text is written."""
    end = one.find("==", 2)
    return (one[: end + 2], one[end + 2 : end + 3], one[end + 3 :]) if end > 0 else (one, "", "")


def copybook_text(file: Path) -> str:
    """A copybook as text; what is no UTF-8 is of a code page with one byte a character, and comments may hold any."""
    try:
        data = file.read_bytes()
    except OSError as error:
        raise ProblemError(Problem("file.read", f"The file cannot be read: {error.strerror}.", place=str(file))) from None
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError:
        return data.decode("latin-1")


def _bytes(data: str) -> bytes:
    if data.startswith("hex:"):
        try:
            return bytes.fromhex(data[4:])
        except ValueError:
            raise ProblemError(
                Problem(
                    "record.hex",
                    "These are no bytes in hexadecimal.",
                    place="hex:",
                    found=shown(data[4:]),
                    expected="two digits 0-9 A-F for each byte",
                )
            ) from None
    if data == "-":
        return sys.stdin.buffer.read()
    try:
        return Path(data).read_bytes()
    except OSError as error:
        raise ProblemError(Problem("file.read", f"The file cannot be read: {error.strerror}.", place=data)) from None


def _plain(values: Any) -> Any:
    if isinstance(values, dict):
        return {name: _plain(one) for name, one in values.items()}
    if isinstance(values, list):
        return [_plain(one) for one in values]
    return format(values, "f") if isinstance(values, Decimal) else values


def _print_layout(layout: Layout) -> None:
    length = str(layout["length"]) if layout["length"] == layout["shortest"] else f"{layout['shortest']} to {layout['length']}"
    out.print(f"[bold]{escape(layout['record'])}[/], {length} bytes")
    indents = _indents(layout["items"])
    rows = []
    for one, indent in zip(layout["items"], indents, strict=True):
        name = f"{'  ' * indent}{one['level']:02} {one['name']}"
        rows.append(
            (str(one["offset"]), str(one["length"]), escape(name), escape(one.get("picture", "")), one["kind"], escape(_words(one)))
        )
    rows += [(str(one["offset"]), str(one["length"]), f"66 {one['name']}", "", one["kind"], "") for one in layout["renames"]]
    out.print(table(("Offset", "Length", "Item", "Picture", "Kind", ""), rows, right=("Offset", "Length")))
    for one in layout["items"]:
        for condition in one.get("conditions", []):
            out.print(f"[dim]88 {escape(condition['name'])} of {escape(one['name'])}: {escape(', '.join(condition['values']))}[/]")


def _indents(items: list[ItemRow]) -> list[int]:
    stack: list[int] = []
    found = []
    for one in items:
        while stack and stack[-1] >= one["level"]:
            stack.pop()
        found.append(len(stack))
        stack.append(one["level"])
    return found


def _words(one: ItemRow) -> str:
    words = list(one["flags"])
    if "occurs" in one:
        occurs = one["occurs"]
        words.append(
            f"{occurs['most']} times"
            if occurs["least"] == occurs["most"]
            else f"{occurs['least']} to {occurs['most']} times, as {occurs.get('depending_on', '').split('.')[-1]} says"
        )
    if "redefines" in one:
        words.append(f"view of {one['redefines']}")
    if one.get("scale"):
        words.append(f"scale {one['scale']}")
    return ", ".join(words)


def print_taken(called: str, found: Any) -> None:
    """What a copybook that is brought in changes, and who is affected."""
    if found["differences"]:
        signs = {"added": "[green]+[/]", "removed": "[red]-[/]"}
        out.print(
            table(
                ("", "Item", "What", "Was", "Is"),
                [
                    (
                        signs.get(one["what"], "[yellow]~[/]"),
                        text(one["path"]),
                        one["what"],
                        text(one.get("was", "")),
                        text(one.get("now", "")),
                    )
                    for one in found["differences"]
                ],
            )
        )
    for one in found["problems"]:
        out.print(f"[red]✕[/] {text(one['message'])}  [dim]{text(one.get('place', ''))}[/]")
        if one.get("mend"):
            out.print(f"    mend      {text(one['mend'])}")
    print_affected(found["affected"])
