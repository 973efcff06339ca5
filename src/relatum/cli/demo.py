"""``relatum demo``."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from relatum.cli.output import Format, FormatOption, console, say, tell


def demo(
    folder: Annotated[Path, typer.Argument(metavar="DIR", help="Where to write it.")] = Path("hollowmere"),
    lines: Annotated[int, typer.Option(help="Number of order lines; 6000000 works too.", min=1)] = 60_000,
    force: Annotated[
        bool, typer.Option("--force", help="Overwrite changed files, and write beside other files.")
    ] = False,
    format: FormatOption = Format.TEXT,
) -> None:
    """Write the demo model and its data, and ask it a first request.

    The nursery Hollowmere sells plants wholesale: order lines, products, categories, prices by date, customers,
    a calendar, sales targets and stock counts, with the blemishes of real data.

    Example: relatum demo hollowmere
    """
    import relatum
    from relatum.demo.write import write_demo
    from relatum.present.text import print_grid

    file = write_demo(folder, lines, force=force)
    tell(f"wrote {file} and its data: {lines:,} order lines")
    grid = relatum.open(file).pivot(rows="category.department", columns="calendar.year", values=["revenue", "margin"])
    if format is Format.JSON:
        say(grid.to_json())
        return
    print_grid(grid.result, console())
    tell(f"next: relatum show {file}, relatum check {file}, relatum pivot --help")
