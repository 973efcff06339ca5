"""``relatum pivot``."""

from __future__ import annotations

from enum import StrEnum
from pathlib import Path
from typing import Annotated, Optional

import typer

from relatum.cli.output import ModelFile, console, errors_as_sentences, say, tell


class GridFormat(StrEnum):
    """How a grid is written."""

    TEXT = "text"
    JSON = "json"
    CSV = "csv"


def pivot(
    file: ModelFile,
    values: Annotated[
        list[str],
        typer.Option(
            "--values",
            metavar="VALUES",
            help="Measures or formulas; several with commas, or the option again. 'label: formula' names one.",
            show_default=False,
        ),
    ],
    rows: Annotated[
        list[str], typer.Option("--rows", metavar="COLUMNS", help="Columns whose members are the rows: table.column.")
    ] = [],  # noqa: B006 - typer reads the default and never changes it
    columns: Annotated[
        list[str], typer.Option("--columns", metavar="COLUMNS", help="Columns whose members are the columns.")
    ] = [],  # noqa: B006
    where: Annotated[str, typer.Option(metavar="CONDITION", help="Which rows count.")] = "",
    totals: Annotated[
        Optional[bool],  # noqa: UP045 - typer reads this at run time
        typer.Option(
            "--totals/--no-totals",
            help="Subtotals and totals: shown in text, left out of json and csv, unless said otherwise.",
            show_default=False,
        ),
    ] = None,
    empty: Annotated[bool, typer.Option("--empty", help="Show members without values too.")] = False,
    format: Annotated[GridFormat, typer.Option("--format", help="For people, or for programs.")] = GridFormat.TEXT,
    out: Annotated[Optional[Path], typer.Option(metavar="FILE", help="Write to a file.", show_default=False)] = None,  # noqa: UP045
) -> None:
    """Ask a model: values by the members of columns.

    Example: relatum pivot hollowmere/nursery.toml --rows category.category --columns calendar.year
    --values "revenue, rate: margin / net_revenue" --where "customer.region = 'North'"
    """
    with errors_as_sentences():
        import relatum
        from relatum.model.atomic import write_atomically
        from relatum.present.text import grid_text, print_grid

        with_totals = format is GridFormat.TEXT if totals is None else totals
        grid = relatum.open(file).pivot(
            rows, columns, ", ".join(values), where or None, totals=with_totals, show_empty=empty
        )
        if format is GridFormat.TEXT and out is None:
            print_grid(grid.result, console())
            return
        if format is GridFormat.TEXT:
            text = grid_text(grid.result, 200) + "\n"
        else:
            text = grid.to_json(with_totals) + "\n" if format is GridFormat.JSON else grid.to_csv(with_totals)
        if out is None:
            say(text)
        else:
            write_atomically(out, text)
            tell(f"wrote {out}")
        # A table in CSV has no place for notes; the other formats hold them.
        for note in grid.notes if format is GridFormat.CSV else ():
            tell(f"note: {note.text}")
