"""``relatum sql``."""

from __future__ import annotations

from pathlib import Path

import click

from relatum.cli.commands import Format, format_option, model_file, opening_command, request_options
from relatum.cli.output import print_json, say
from relatum.wording import visible_lines


@opening_command
@model_file
@request_options
@click.option("--totals/--no-totals", default=True, help="Include subtotals and totals.")
@format_option
def sql(
    file: Path,
    name: str,
    rows: tuple[str, ...],
    columns: tuple[str, ...],
    values: tuple[str, ...],
    where: str | None,
    keep: tuple[str, ...],
    totals: bool,
    format: Format,
) -> None:
    """Print the SQL that an engine would run.

    Example: relatum sql hollowmere/nursery.toml --rows category.category --values revenue --engine duckdb
    """
    import relatum

    model = relatum.open(file)
    text = model.sql(rows or None, columns or None, values or None, where, keep=keep or None, saved=name, totals=totals)
    if format == "json":
        print_json({"model": model.declaration.name, "engine": model.declaration.engine.kind, "sql": text})
    else:
        say(visible_lines(text) + "\n")
