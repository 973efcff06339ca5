"""``relatum members``."""

from __future__ import annotations

from pathlib import Path

import click

from relatum.cli.commands import Format, format_option, model_file, opening_command
from relatum.cli.output import console, paged, print_json


@opening_command
@model_file
@click.argument("column", metavar="COLUMN", help="table.column, or a formula as on an axis.")
@click.option("--where", default="", metavar="CONDITION", help="Only rows that meet this condition.")
@click.option("--value", default="", metavar="VALUE", help="A measure or formula to show instead of row counts.")
@click.option(
    "--like", default="", metavar="TEXT", help="Only members that contain this, or that match a pattern with % and _."
)
@click.option("--limit", default=200, metavar="N", type=click.IntRange(min=1), help="The number of members to show.")
@format_option
def members(file: Path, column: str, where: str, value: str, like: str, limit: int, format: Format) -> None:
    """List a column's members with their row counts.

    Example: relatum members hollowmere/nursery.toml customer.town --where "calendar.year = 2024" --like bridge
    """
    import relatum
    from relatum.present.printed import print_blocks

    found = relatum.open(file).members(column, where or None, value=value, like=like)
    if format == "json":
        print_json({"model": found.found.model, "where": where, "members": found.to_arrow().to_pylist()})
    else:
        paged(console(), lambda shown: print_blocks(found.blocks(limit), shown))
