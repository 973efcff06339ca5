"""``relatum demo``."""

from __future__ import annotations

from pathlib import Path

import click

from relatum.cli.commands import PATH, Format, command, format_option
from relatum.cli.output import console, say, tell


@command
@click.argument("folder", default=Path("hollowmere"), metavar="DIR", type=PATH, help="Where to write it.")
@click.option("--lines", default=60000, type=click.IntRange(min=1), help="Number of order lines; 6000000 works too.")
@click.option("--force", is_flag=True, help="Overwrite changed files, and write beside other files.")
@format_option
def demo(folder: Path, lines: int, force: bool, format: Format) -> None:
    """Write the demo model and its data, and run a first pivot.

    The demo is Hollowmere, a wholesale plant nursery: order lines, products, categories, prices by date, customers,
    a calendar, sales targets and stock counts, with the flaws of real data.

    Example: relatum demo hollowmere
    """
    import relatum
    from relatum.demo.write import write_demo
    from relatum.present.text import print_grid

    file = write_demo(folder, lines, force=force)
    tell(f"wrote {file} and its data: {lines:,} order lines")
    grid = relatum.open(file).pivot(rows="category.department", columns="calendar.year", values=["revenue", "margin"])
    if format == "json":
        say(grid.to_json())
        return
    print_grid(grid.result, console())
    tell(f"next: relatum show {file}, relatum check {file}, relatum pivot --help\nin the browser: relatum view {file}")
