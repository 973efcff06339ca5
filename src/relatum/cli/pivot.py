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


class NotesShown(StrEnum):
    """How many notes stand below a grid."""

    WORST = "worst"
    ALL = "all"


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
    out: Annotated[
        Optional[Path],  # noqa: UP045
        typer.Option(
            metavar="FILE",
            help="Write the whole grid to a file; its ending says how: csv, json, parquet, arrow, txt.",
            show_default=False,
        ),
    ] = None,
    limit: Annotated[
        int, typer.Option(metavar="N", min=1, help="How many rows the terminal shows; the others are counted.")
    ] = 200,
    notes: Annotated[
        NotesShown, typer.Option("--notes", help="All notes below the grid, or the worst few.")
    ] = NotesShown.WORST,
) -> None:
    """Ask a model: values by the members of columns.

    Example: relatum pivot hollowmere/nursery.toml --rows category.category --columns calendar.year
    --values "revenue, rate: margin / net_revenue" --where "customer.region = 'North'"
    """
    with errors_as_sentences():
        import relatum
        from relatum.present.text import Extent, print_grid

        text = format is GridFormat.TEXT and (out is None or out.suffix.lower() == ".txt")
        with_totals = text if totals is None else totals
        grid = relatum.open(file).pivot(
            rows, columns, ", ".join(values), where or None, totals=with_totals, show_empty=empty
        )
        if out is not None:
            grid.save(out, totals=with_totals)
            tell(f"wrote {out}")
        elif format is GridFormat.TEXT:
            most = None if notes is NotesShown.ALL else 3
            print_grid(grid.result, console(), Extent(limit, most, "--notes all shows them"))
        else:
            say(
                grid.to_json(totals=with_totals) + "\n"
                if format is GridFormat.JSON
                else grid.to_csv(totals=with_totals)
            )
        # A table in a file of values, or in CSV, has no place for notes; the other forms hold them.
        silent = format is GridFormat.CSV if out is None else out.suffix.lower() in (".csv", ".parquet", ".arrow")
        for note in grid.notes if silent else ():
            tell(f"note: {note.text}")
