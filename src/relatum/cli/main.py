"""The ``relatum`` command."""

from __future__ import annotations

import sys
from typing import Annotated

import typer

from relatum import __version__
from relatum.cli.check import check
from relatum.cli.demo import demo
from relatum.cli.diagram import diagram
from relatum.cli.diff import diff
from relatum.cli.draft import draft
from relatum.cli.edit import edit
from relatum.cli.engines import with_engine
from relatum.cli.explain import explain
from relatum.cli.export import export
from relatum.cli.impact import impact
from relatum.cli.interrupts import watch_interrupts
from relatum.cli.limits import with_limits
from relatum.cli.members import members
from relatum.cli.output import CLEAN, UNREADABLE, errors_as_sentences
from relatum.cli.pivot import pivot
from relatum.cli.refresh import refresh
from relatum.cli.report import report
from relatum.cli.show import show
from relatum.cli.sql import sql
from relatum.cli.streams import prepare_streams

app = typer.Typer(
    name="relatum",
    help="Model business data as related tables, write measures once, and ask them any way round.",
    epilog="Start with: relatum demo",
    no_args_is_help=True,
    add_completion=False,
    pretty_exceptions_enable=False,
    context_settings={"help_option_names": ["-h", "--help"]},
)
for command in (demo, draft):
    app.command()(with_limits(command))
for opening in (check, show, diagram, pivot, report, members, explain, sql, impact, diff, refresh, export):
    app.command()(with_limits(with_engine(opening)))
app.add_typer(edit, name="edit")


def _version(wanted: bool) -> None:
    if wanted:
        typer.echo(f"relatum {__version__}")
        raise typer.Exit


@app.callback()
def _options(
    version: Annotated[
        bool, typer.Option("--version", help="Print the version and exit.", callback=_version, is_eager=True)
    ] = False,
) -> None:
    pass


def run() -> int:
    """Run the command line.

    Returns
    -------
    int
        The exit code: 0 nothing wrong, 1 problems found, 2 cannot be read or answered, 130 interrupted.
    """
    prepare_streams()
    watch_interrupts()
    code: int | str | None = CLEAN
    try:
        with errors_as_sentences():
            app()
    except SystemExit as left:
        # Whoever read the help has gone: rich leaves with 1.
        code = CLEAN if isinstance(left.__context__, BrokenPipeError) else left.code
    except typer.Exit as left:
        code = left.exit_code
    try:
        # What is still to be written is written here: at the very end an error could not be told.
        with errors_as_sentences():
            sys.stdout.flush()
    except typer.Exit as left:
        code = left.exit_code or code
    return code if isinstance(code, int) else CLEAN if code is None else UNREADABLE
