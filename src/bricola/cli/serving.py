"""`serve` and `demo`: running the service."""

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from bricola.adapters.call_backs import read_addresses
from bricola.adapters.folders import read_folders
from bricola.adapters.networks import read_networks
from bricola.cli.connection import Json
from bricola.cli.output import out, print_json
from bricola.core.problems import Problem, ProblemError
from bricola.server.logs import LogFormat, LogLevel, set_up_logs

if TYPE_CHECKING:
    from bricola.server.bricola import Bricola

Port = Annotated[int, typer.Option(help="Port to listen on; 0 takes a free one.")]


def register(app: typer.Typer) -> None:
    panel = "Run"

    @app.command("serve", rich_help_panel=panel)
    def serve_command(
        data: Annotated[Path, typer.Option(help="Folder of the stores; made when missing.")] = Path("bricola-data"),
        host: Annotated[str, typer.Option(help="Address to listen on.")] = "127.0.0.1",
        port: Port = 8480,
        public: Annotated[str, typer.Option(metavar="URL", help="Public base address that callers reach.")] = "",
        organisation: Annotated[str, typer.Option(help="Name shown in the console.")] = "",
        key_file: Annotated[Path | None, typer.Option(help="Key of the credentials; in the data folder when left out, unless "
                                                      "the environment variable BRICOLA_KEY holds it.")] = None,
        allow_network: Annotated[list[str] | None, typer.Option(
            metavar="NETWORK", help="Besides public ones, a network that contracts may be fetched from, like 10.2.0.0/16; again for more.")
        ] = None,
        backend_network: Annotated[list[str] | None, typer.Option(
            metavar="NETWORK", help="A network that backends may be in, like 10.2.0.0/16; again for more; anywhere when left out.")
        ] = None,
        call_back: Annotated[list[str] | None, typer.Option(
            metavar="ADDRESS", help="An address that callers may have told of the end of a job, with all below it, like "
                                    "https://desk.example/answers/; again for more; none when left out.")
        ] = None,
        backend_folder: Annotated[list[Path] | None, typer.Option(
            help="A folder that database files may lie in; again for more; the data folder when left out.")] = None,
        log_level: Annotated[LogLevel, typer.Option(help="How much is written down, on standard error.")] = LogLevel.INFO,
        log_format: Annotated[LogFormat, typer.Option(help="For people, as JSON, or by where it goes.")] = LogFormat.AUTO,
        as_json: Json = False,
    ) -> None:
        """Run the service until it is stopped."""
        # The server's libraries take a second to load, which the other commands need not pay.
        from bricola.server.main import serve
        from bricola.server.settings import Settings

        read_networks([*(allow_network or ()), *(backend_network or ())])  # a mistake is told now
        folders = read_folders(backend_folder or ())
        if data.exists() and not data.is_dir():
            raise ProblemError(Problem("serve.data", "The data folder is a file.", place=str(data),
                                       mend="Name a folder with --data."))

        def ready(bricola: "Bricola", address: str) -> None:
            base = public or address
            setup = f"{base}/setup?code={bricola.people.setup_code}" if bricola.people.setup_code is not None else None
            if as_json:
                print_json({"url": base, "setup": setup})
                return
            out.print(f"Bricola answers at [bold]{base}/[/]")
            if setup is not None:
                out.print(f"No user yet. Set up in the browser, once:\n  {setup}\nor in a terminal:\n  bricola start '{setup}'",
                          soft_wrap=True)

        set_up_logs(log_level, log_format)
        serve(Settings(data, host, port, public, organisation, key_file, tuple(allow_network or ()),
                       tuple(backend_network or ()), read_addresses(call_back or ()), folders), ready)

    @app.command("demo", rich_help_panel=panel)
    def demo_command(
        port: Port = 8480,
        data: Annotated[Path, typer.Option(help="Folder of the demo's stores; made when missing.")] = Path(".demo"),
        ready_file: Annotated[Path | None, typer.Option(help="Write addresses and sign-ins there, as JSON, when ready.")] = None,
        remember: Annotated[bool, typer.Option(help="Keep the demo's sign-in for the other commands.")] = True,
        as_json: Json = False,
    ) -> None:
        """Run the service with the demo world, Larkmere Waterways."""
        from bricola.demo.start import run_demo

        run_demo(port, data, ready_file, remember, as_json)
