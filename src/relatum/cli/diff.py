"""``relatum diff``."""

from __future__ import annotations

from pathlib import Path

import click

from relatum.cli.commands import PATH, Format, format_option, model_file, opening_command
from relatum.cli.output import CLEAN, PROBLEMS, console, print_json


@opening_command
@model_file
@click.argument("other", metavar="OTHER", type=PATH, help="The later model.")
@click.option(
    "--values",
    multiple=True,
    metavar="VALUES",
    help="Measures or formulas to compare (default: every measure both models have).",
)
@format_option
def diff(file: Path, other: Path, values: tuple[str, ...], format: Format) -> None:
    """Compare two models, in meaning and in numbers.

    Exit code: 0 no difference, 1 differences, 2 a model cannot be read.

    Example: relatum diff hollowmere/nursery.toml hollowmere/nursery.toml --values revenue
    """
    import relatum

    found = relatum.open(file).compare(relatum.open(other), ", ".join(values))
    if format == "json":
        print_json({"changes": found.changes, "moved": found.moved, "compared": found.compared})
    else:
        from relatum.present.printed import print_blocks

        print_blocks(found.blocks(), console())
    raise click.exceptions.Exit(CLEAN if found.same else PROBLEMS)
