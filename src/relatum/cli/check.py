"""``relatum check``."""

from __future__ import annotations

from pathlib import Path

import click

from relatum.cli.commands import Format, format_option, model_file, opening_command
from relatum.cli.output import CLEAN, PROBLEMS, console, print_json


@opening_command
@model_file
@click.option(
    "--value",
    default="",
    metavar="MEASURE",
    help="The measure that shows what rows are worth (default: the first one in a currency).",
)
@format_option
def check(file: Path, value: str, format: Format) -> None:
    """Check a model, its data and its control totals.

    Problems come first: wrong control totals, duplicate keys, rows without a match and what they hold, members with
    several spellings. Remarks follow. Each finding says how it affects numbers and how to fix it.
    Exit code: 0 no problems, 1 problems, 2 the model cannot be read.

    Example: relatum check hollowmere/nursery.toml
    """
    import relatum

    report = relatum.open(file).check(value)
    if format == "json":
        print_json(report)
    else:
        from relatum.present.printed import print_blocks

        print_blocks(report.blocks(), console())
    raise click.exceptions.Exit(CLEAN if report.ok else PROBLEMS)
