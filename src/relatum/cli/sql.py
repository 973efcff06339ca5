"""``relatum sql``."""

from __future__ import annotations

from typing import Annotated, Optional

import typer

from relatum.cli.output import Format, FormatOption, ModelFile, print_json, say
from relatum.wording import visible_lines

Names = Optional[list[str]]  # noqa: UP045 - typer reads this at run time
Text = Optional[str]  # noqa: UP045


def sql(
    file: ModelFile,
    name: Annotated[
        str, typer.Argument(metavar="[NAME]", help="A saved pivot; options replace parts of it.", show_default=False)
    ] = "",
    rows: Annotated[Names, typer.Option(metavar="FIELDS", help="As for pivot.", show_default=False)] = None,
    columns: Annotated[Names, typer.Option(metavar="FIELDS", help="As for pivot.", show_default=False)] = None,
    values: Annotated[Names, typer.Option(metavar="VALUES", help="As for pivot.", show_default=False)] = None,
    where: Annotated[Text, typer.Option(metavar="CONDITION", help="As for pivot.", show_default=False)] = None,
    keep: Annotated[Names, typer.Option(metavar="KEEP", help="As for pivot.", show_default=False)] = None,
    totals: Annotated[bool, typer.Option("--totals/--no-totals", help="Include subtotals and totals.")] = True,
    format: FormatOption = Format.TEXT,
) -> None:
    """Print the query that an engine would be asked, instead of asking it.

    Example: relatum sql hollowmere/nursery.toml --rows category.category --values revenue --engine duckdb
    """
    import relatum

    model = relatum.open(file)
    text = model.sql(rows, columns, values, where, keep=keep, saved=name, totals=totals)
    if format is Format.JSON:
        print_json({"model": model.declaration.name, "engine": model.declaration.engine.kind, "sql": text})
    else:
        say(visible_lines(text) + "\n")
