"""``relatum impact``."""

from __future__ import annotations

from pathlib import Path

import click

from relatum.cli.commands import Format, format_option, model_file, opening_command
from relatum.cli.output import console, print_json


@opening_command
@model_file
@click.argument(
    "name",
    metavar="NAME",
    help="A table, table.column, measure, hierarchy, relationship ('a.x -> b.x') or 'control 1'.",
)
@format_option
def impact(file: Path, name: str, format: Format) -> None:
    """Show what depends on something.

    Example: relatum impact hollowmere/nursery.toml price.unit_price
    """
    import relatum

    found = relatum.open(file).impact(name)
    if format == "json":
        print_json(found)
    else:
        from relatum.present.printed import print_blocks

        print_blocks(found.blocks(), console())
