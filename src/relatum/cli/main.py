"""The ``relatum`` command."""

from __future__ import annotations

import sys
from typing import Any

import click

from relatum import __version__
from relatum.cli.check import check
from relatum.cli.demo import demo
from relatum.cli.diagram import diagram
from relatum.cli.diff import diff
from relatum.cli.draft import draft
from relatum.cli.edit import edit
from relatum.cli.explain import explain
from relatum.cli.export import export
from relatum.cli.impact import impact
from relatum.cli.interrupts import watch_interrupts
from relatum.cli.members import members
from relatum.cli.output import CLEAN, UNREADABLE, errors_as_sentences, interrupts_understood
from relatum.cli.pivot import pivot
from relatum.cli.refresh import refresh
from relatum.cli.report import report
from relatum.cli.show import show
from relatum.cli.sql import sql
from relatum.cli.streams import prepare_streams
from relatum.cli.view import view


class _App(click.Group):
    """The command; it understands an interrupt from when it begins to read its arguments."""

    def make_context(self, *given: Any, **named: Any) -> click.Context:
        """The context of a run, once the arguments are read."""
        with interrupts_understood():
            return super().make_context(*given, **named)

    def invoke(self, ctx: click.Context) -> Any:
        """Carry out the command that is named."""
        with interrupts_understood():
            return super().invoke(ctx)


@click.group(
    cls=_App,
    context_settings={"help_option_names": ["-h", "--help"]},
    epilog="Start with: relatum demo",
    no_args_is_help=True,
)
@click.version_option(__version__, message="relatum %(version)s", help="Show the version and exit.")
def app() -> None:
    """Model business data as related tables, write measures once, and ask them any way round."""


for each in (
    demo,
    draft,
    check,
    show,
    diagram,
    view,
    pivot,
    report,
    members,
    explain,
    sql,
    impact,
    edit,
    diff,
    refresh,
    export,
):
    app.add_command(each)


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
        # The reader of the help has gone: rich exits with 1.
        code = CLEAN if isinstance(left.__context__, BrokenPipeError) else left.code
    except click.exceptions.Exit as left:
        code = left.exit_code
    try:
        # Buffered output is written here: an error at interpreter exit could not be reported.
        with errors_as_sentences():
            sys.stdout.flush()
    except click.exceptions.Exit as left:
        code = left.exit_code or code
    return code if isinstance(code, int) else CLEAN if code is None else UNREADABLE
