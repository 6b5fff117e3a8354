"""The command `bricola`."""

import sys

import typer

from bricola import __version__
from bricola.cli.commands import LazyGroup

app = typer.Typer(
    cls=LazyGroup,
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


def run() -> None:
    """Run a command; what goes wrong is told on standard error, with exit status 1."""
    try:
        app()
    except BrokenPipeError:
        sys.stderr.close()
        sys.exit(1)
    except KeyboardInterrupt:
        sys.stderr.write("Stopped.\n")
        sys.exit(130)
    except Exception as error:
        # Loaded now, so that the list of commands needs nothing of it.
        from bricola.cli.output import print_problems
        from bricola.core.problems import ProblemError

        if not isinstance(error, ProblemError):
            raise
        print_problems(error.problems)
        sys.exit(1)
