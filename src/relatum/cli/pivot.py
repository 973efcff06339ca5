"""``relatum pivot``."""

from __future__ import annotations

from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, Optional

import typer

from relatum.cli.output import ModelFile, console, paged, refuse_over, say, tell

if TYPE_CHECKING:
    from relatum.present.grid import Grid


class GridFormat(StrEnum):
    """How a grid is written."""

    TEXT = "text"
    JSON = "json"
    CSV = "csv"


class NotesShown(StrEnum):
    """How many notes stand below a grid."""

    WORST = "worst"
    ALL = "all"


class TextLayout(StrEnum):
    """Whether row fields stand in columns of their own, or one below the other."""

    COLUMNS = "columns"
    NESTED = "nested"


class ValuesOn(StrEnum):
    """The axis that the values' labels stand on."""

    ROWS = "rows"
    COLUMNS = "columns"


def pivot(
    file: ModelFile,
    name: Annotated[
        str, typer.Argument(metavar="[NAME]", help="A saved pivot; options replace parts of it.", show_default=False)
    ] = "",
    rows: Annotated[
        Optional[list[str]],  # noqa: UP045 - typer reads this at run time
        typer.Option(
            "--rows",
            metavar="FIELDS",
            help="The row fields: 'category.department by revenue desc, product.plant top 5 with others'.",
            show_default=False,
        ),
    ] = None,
    columns: Annotated[
        Optional[list[str]],  # noqa: UP045
        typer.Option(
            "--columns", metavar="FIELDS", help="The column fields, in the same form as --rows.", show_default=False
        ),
    ] = None,
    values: Annotated[
        Optional[list[str]],  # noqa: UP045
        typer.Option(
            "--values",
            metavar="VALUES",
            help="Measures or formulas, separated by commas or by repeating the option; 'label: formula' names one.",
            show_default=False,
        ),
    ] = None,
    where: Annotated[
        Optional[str],  # noqa: UP045
        typer.Option(metavar="CONDITION", help="Only rows that meet this condition.", show_default=False),
    ] = None,
    keep: Annotated[
        Optional[list[str]],  # noqa: UP045
        typer.Option(
            metavar="KEEP",
            help="Which members to keep: 'customer where revenue > 1000'.",
            show_default=False,
        ),
    ] = None,
    totals: Annotated[
        Optional[bool],  # noqa: UP045
        typer.Option(
            "--totals/--no-totals",
            help="Show subtotals and totals (default: in text, but not in json and csv).",
            show_default=False,
        ),
    ] = None,
    empty: Annotated[
        Optional[bool],  # noqa: UP045
        typer.Option("--empty/--no-empty", help="Also show members without values.", show_default=False),
    ] = None,
    values_on: Annotated[
        Optional[ValuesOn],  # noqa: UP045
        typer.Option("--values-on", help="Where to put the labels of several values.", show_default=False),
    ] = None,
    chart: Annotated[
        Optional[str],  # noqa: UP045
        typer.Option(
            metavar="KIND",
            help="The kind of picture: bars, stacked, shares, lines, areas, points, heat, panels, ranked, steps, "
            "table.",
            show_default=False,
        ),
    ] = None,
    labels: Annotated[
        Optional[str],  # noqa: UP045
        typer.Option(
            metavar="TEMPLATE", help="The label of each mark: '{revenue} · {share}', or none.", show_default=False
        ),
    ] = None,
    colour: Annotated[
        Optional[str],  # noqa: UP045
        typer.Option(metavar="VALUE", help="Colour the marks by another value.", show_default=False),
    ] = None,
    target: Annotated[
        Optional[str],  # noqa: UP045
        typer.Option(metavar="VALUE", help="Draw a value as a mark on each bar.", show_default=False),
    ] = None,
    prepare: Annotated[
        list[str],
        typer.Option("--prepare", metavar="COLUMNS", help="For a page: also prepare the grid of each member of these."),
    ] = [],  # noqa: B006
    rows_behind: Annotated[
        bool, typer.Option("--rows-behind", help="For a workbook: add the rows, with sums as formulas over them.")
    ] = False,
    opened: Annotated[list[str], typer.Option("--open", metavar="MEMBER", help="Open a closed member.")] = [],  # noqa: B006 - typer reads the default and never changes it
    depth: Annotated[
        Optional[int],  # noqa: UP045
        typer.Option(
            metavar="N", min=1, help="The number of row fields to open; the rest are closed.", show_default=False
        ),
    ] = None,
    style: Annotated[
        list[str],
        typer.Option(
            "--style",
            metavar="RULE",
            help="How cells look, written as in the model file: 'value = \"revenue\", bar = true'.",
        ),
    ] = [],  # noqa: B006
    theme: Annotated[
        Optional[Path],  # noqa: UP045
        typer.Option(metavar="FILE", help="Take fonts and colours from this file.", show_default=False),
    ] = None,
    turn: Annotated[bool, typer.Option("--turn", help="Swap rows and columns.")] = False,
    keep_as: Annotated[
        str, typer.Option("--keep-as", metavar="NAME", help="Save the request as a pivot in the model.")
    ] = "",
    format: Annotated[GridFormat, typer.Option("--format", help="The output format.")] = GridFormat.TEXT,
    layout: Annotated[
        TextLayout, typer.Option("--layout", help="Give each row field its own column, or nest them in one.")
    ] = TextLayout.COLUMNS,
    out: Annotated[
        Optional[Path],  # noqa: UP045
        typer.Option(
            "--out",
            "-o",
            metavar="FILE",
            help="Write the whole grid to a file: csv json parquet arrow txt md html xlsx png svg pdf.",
            show_default=False,
        ),
    ] = None,
    limit: Annotated[
        int, typer.Option(metavar="N", min=1, help="The number of rows to show; the rest are counted.")
    ] = 200,
    notes: Annotated[
        NotesShown, typer.Option("--notes", help="Show all notes below the grid, or only the most important.")
    ] = NotesShown.WORST,
) -> None:
    """Ask a model: values by the members of columns.

    Example: relatum pivot hollowmere/nursery.toml --rows "category.category by revenue desc" --columns calendar.year
    --values "revenue, rate: margin / net_revenue" --where "customer.region = 'North'"
    """
    import relatum
    from relatum.present.grid import NOTELESS, PICTURES, TIDY
    from relatum.present.text import Extent, print_grid

    text = format is GridFormat.TEXT if out is None else out.suffix.lower() not in TIDY
    with_totals = text if totals is None else totals
    model = relatum.open(file)
    if out is not None:
        refuse_over(out, file, model.declaration)
    if theme is not None:
        model.dress(theme)
    grid = model.pivot(
        rows,
        columns,
        values,
        where,
        keep=keep,
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
        told = grid.save(out, totals=with_totals, rows_behind=rows_behind, chart=chart, prepare=prepare, **said)
        tell(f"wrote {out}" + (f": {told}" if told else ""))
    elif format is GridFormat.TEXT:
        most = None if notes is NotesShown.ALL else 3
        extent = Extent(limit, most, "--notes all shows them", layout=layout.value)
        paged(console(), lambda shown: print_grid(grid.result, shown, extent))
    else:
        say(grid.to_json(totals=with_totals) + "\n" if format is GridFormat.JSON else grid.to_csv(totals=with_totals))
    # A table in a file of values, or in CSV, has no place for notes; the other forms hold them.
    silent = format is GridFormat.CSV if out is None else out.suffix.lower() in (*NOTELESS, *PICTURES)
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


def _turned(grid: Grid, opened: list[str], depth: int | None, turn: bool) -> Grid:
    """The grid with members opened, closed beyond a depth, and turned, in this order."""
    from relatum.present.sheet import member_called

    if depth is not None:
        grid = grid.close(depth=depth)
    for text in opened:
        grid = grid.open(member_called(grid.result, text))
    return grid.turn() if turn else grid
