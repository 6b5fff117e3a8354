"""The command `bricola`."""

import sys

import typer

from bricola import __version__
from bricola.cli import audit, backends, calling, credentials, definitions, deployments, discovery, people, screens, services, serving
from bricola.cli.output import err, print_problems
from bricola.core.problems import ProblemError

app = typer.Typer(
    help="Publish business objects as SOAP operations.",
    no_args_is_help=True, pretty_exceptions_enable=False, context_settings={"help_option_names": ["-h", "--help"]},
)


def _version(asked: bool) -> None:
    if asked:
        typer.echo(f"bricola {__version__}")
        raise typer.Exit


@app.callback()
def main(version: bool = typer.Option(False, "--version", callback=_version, is_eager=True, help="Print the version.")) -> None:
    """Publish business objects as SOAP operations: define, release, deploy, call."""


for module in (serving, people, definitions, deployments, services, backends, discovery, screens, credentials, calling, audit):
    module.register(app)


def run() -> None:
    """Run a command; what goes wrong is told on standard error, with exit status 1."""
    try:
        app()
    except ProblemError as error:
        print_problems(error.problems)
        sys.exit(1)
    except BrokenPipeError:
        sys.stderr.close()
        sys.exit(1)
    except KeyboardInterrupt:
        err.print("Stopped.")
        sys.exit(130)
