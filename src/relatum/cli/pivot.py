"""``relatum pivot``."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

import click

from relatum.cli.commands import PATH, model_file, opening_command, request_options
from relatum.cli.output import console, paged, refuse_over, say, tell

if TYPE_CHECKING:
    from relatum.present.grid import Grid


@opening_command
@model_file
@request_options
@click.option(
    "--totals/--no-totals", default=None, help="Show subtotals and totals (default: in text, but not in json and csv)."
)
@click.option("--empty/--no-empty", default=None, help="Also show members without values.")
@click.option("--values-on", type=click.Choice(["rows", "columns"]), help="Where to put the labels of several values.")
@click.option(
    "--chart",
    metavar="KIND",
    help="The kind of picture: bars, stacked, shares, lines, areas, points, heat, panels, ranked, steps, table.",
)
@click.option("--labels", metavar="TEMPLATE", help="The label of each mark: '{revenue} · {share}', or none.")
@click.option("--colour", metavar="VALUE", help="Colour the marks by another value.")
@click.option("--target", metavar="VALUE", help="Draw a value as a mark on each bar.")
@click.option(
    "--prepare", multiple=True, metavar="COLUMNS", help="For a page: also prepare the grid of each member of these."
)
@click.option("--rows-behind", is_flag=True, help="For a workbook: add the rows, with sums as formulas over them.")
@click.option("--open", "opened", multiple=True, metavar="MEMBER", help="Open a closed member.")
@click.option(
    "--depth", metavar="N", type=click.IntRange(min=1), help="The number of row fields to open; the rest are closed."
)
@click.option(
    "--style",
    multiple=True,
    metavar="RULE",
    help="How cells look, written as in the model file: 'value = \"revenue\", bar = true'.",
)
@click.option("--theme", metavar="FILE", type=PATH, help="Take fonts and colours from this file.")
@click.option("--turn", is_flag=True, help="Swap rows and columns.")
@click.option("--keep-as", default="", metavar="NAME", help="Save the request as a pivot in the model.")
@click.option("--format", default="text", type=click.Choice(["text", "json", "csv"]), help="The output format.")
@click.option(
    "--layout",
    default="columns",
    type=click.Choice(["columns", "nested"]),
    help="Give each row field its own column, or nest them in one.",
)
@click.option(
    "--out",
    "-o",
    metavar="FILE",
    type=PATH,
    help="Write the whole grid to a file: csv json parquet arrow txt md html xlsx png svg pdf.",
)
@click.option(
    "--limit",
    default=200,
    metavar="N",
    type=click.IntRange(min=1),
    help="The number of rows to show; the rest are counted.",
)
@click.option(
    "--notes",
    default="worst",
    type=click.Choice(["worst", "all"]),
    help="Show all notes below the grid, or only the most important.",
)
def pivot(
    file: Path,
    name: str,
    rows: tuple[str, ...],
    columns: tuple[str, ...],
    values: tuple[str, ...],
    where: str | None,
    keep: tuple[str, ...],
    totals: bool | None,
    empty: bool | None,
    values_on: str | None,
    chart: str | None,
    labels: str | None,
    colour: str | None,
    target: str | None,
    prepare: tuple[str, ...],
    rows_behind: bool,
    opened: tuple[str, ...],
    depth: int | None,
    style: tuple[str, ...],
    theme: Path | None,
    turn: bool,
    keep_as: str,
    format: str,
    layout: Literal["columns", "nested"],
    out: Path | None,
    limit: int,
    notes: str,
) -> None:
    """Run a pivot: values by the members of columns.

    Example: relatum pivot hollowmere/nursery.toml --rows "category.category by revenue desc" --columns calendar.year
    --values "revenue, rate: margin / net_revenue" --where "customer.region = 'North'"
    """
    import relatum
    from relatum.present.extent import Extent
    from relatum.present.grid import NOTELESS, TIDY
    from relatum.present.text import print_grid

    text = format == "text" if out is None else out.suffix.lower() not in TIDY
    with_totals = text if totals is None else totals
    model = relatum.open(file)
    if out is not None:
        refuse_over(out, file, model.declaration)
    if theme is not None:
        model.dress(theme)
    grid = model.pivot(
        rows or None,
        columns or None,
        values or None,
        where,
        keep=keep or None,
        saved=name,
        totals=totals if totals is not None or text else False,
        show_empty=empty,
        values_on=values_on,
        style=[_rule(each) for each in style] or None,
    )
    grid = _turned(grid, opened, depth, turn)
    if out is not None:
        stated = {"labels": labels, "colour": colour, "target": target}
        said = {name: text for name, text in stated.items() if text is not None}
        remarks = grid.save(out, totals=with_totals, rows_behind=rows_behind, chart=chart, prepare=prepare, **said)
        tell(f"wrote {out}" + (f": {remarks}" if remarks else ""))
    elif format == "text":
        most = None if notes == "all" else 3
        extent = Extent(limit, most, "--notes all shows them", layout=layout)
        paged(console(), lambda shown: print_grid(grid.result, shown, extent))
    else:
        say(grid.to_json(totals=with_totals) + "\n" if format == "json" else grid.to_csv(totals=with_totals))
    # A table in a file of values, or in CSV, has no place for notes; the other forms hold them.
    silent = format == "csv" if out is None else out.suffix.lower() in NOTELESS
    for note in grid.notes if silent else ():
        tell(f"note: {note.text}")
    if keep_as:
        model.keep_pivot(keep_as, grid, replace=keep_as == name)
        model.save(file)
        tell(f"wrote {file}: pivot {keep_as}")


def _rule(text: str) -> dict[str, Any]:
    """A style rule from the words in which the model file says it."""
    import tomllib

    from relatum.errors import RequestError

    try:
        rule = tomllib.loads(f"rule = {{ {text} }}")["rule"]
    except tomllib.TOMLDecodeError:
        raise RequestError(
            f"Invalid style {text!r}.",
            fix='Write it as in the model file: \'when = "… < 0", mark = "▼"\'.',
        ) from None
    return dict(rule)


def _turned(grid: Grid, opened: tuple[str, ...], depth: int | None, turn: bool) -> Grid:
    """The grid with members opened, closed beyond a depth, and turned, in this order."""
    from relatum.present.sheet import member_called

    if depth is not None:
        grid = grid.close(depth=depth)
    for text in opened:
        grid = grid.open(member_called(grid.result, text))
    return grid.turn() if turn else grid
