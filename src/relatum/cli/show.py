"""``relatum show``."""

from __future__ import annotations

from pathlib import Path

import click

from relatum.cli.commands import Format, format_option, model_file, opening_command
from relatum.cli.output import console, print_json


@opening_command
@model_file
@click.argument("name", default="", metavar="[NAME]", help="A table, table.column, measure, hierarchy or saved pivot.")
@format_option
def show(file: Path, name: str, format: Format) -> None:
    """List tables with their sizes, relationships and measures.

    Example: relatum show hollowmere/nursery.toml product
    """
    import relatum
    from relatum.audit.overview import overview

    found = overview(relatum.open(file).session, name)
    if format == "json":
        print_json(found)
    else:
        from relatum.audit.listing import overview_blocks
        from relatum.present.printed import print_blocks

        print_blocks(overview_blocks(found, bool(name)), console())
