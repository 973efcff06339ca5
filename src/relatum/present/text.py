"""Grids in a terminal: as many columns side by side as fit, the others below."""

from __future__ import annotations

import io
import shutil
from dataclasses import dataclass, replace
from itertools import groupby
from typing import Any

import numpy as np
from rich.cells import cell_len, set_cell_size
from rich.console import Console
from rich.table import Table
from rich.text import Text

from relatum.data.arrow import python_values
from relatum.data.columns import Array
from relatum.pivot.result import TOTAL, Axis, Layout, Result
from relatum.present.numbers import BLANK, formatter, member_text
from relatum.wording import counted

_SHOWN_COLUMNS = 60
#: Names of members and headings of values are shortened to so many characters; where room is short, names to fewer.
_WIDEST, _NARROWEST, _HEADING = 32, 7, 16
_GAP = 2


@dataclass(frozen=True, slots=True)
class Extent:
    """How much of a grid is shown: rows, and notes; None for all. The rest is counted, and ``more`` says how to see it.

    A ``whole`` grid is not cut anywhere, however wide it is.
    """

    rows: int | None = 200
    notes: int | None = 3
    more: str = "grid.notes"
    whole: bool = False


SCREEN = Extent()
WHOLE = Extent(None, None, whole=True)


@dataclass(slots=True)
class _Column:
    heading: list[str]
    cells: list[Text]
    total: bool
    member: int = 0

    @property
    def width(self) -> int:
        return max(cell_len(line) for line in [*self.heading, *(cell.plain for cell in self.cells)])

    def named_within(self, width: int) -> _Column:
        """The column with names and heading of at most so many characters."""
        cells = [Text(shortened(cell.plain, width), style=cell.style) for cell in self.cells]
        return replace(self, heading=[shortened(line, width) for line in self.heading], cells=cells)

    @property
    def widest_cell(self) -> int:
        return max((cell.cell_len for cell in self.cells), default=0)

    def headed_within(self, width: int) -> _Column:
        """The column with a heading of at most so many characters, or as wide as its values are."""
        widest = max(width, self.widest_cell)
        return replace(self, heading=[shortened(line, widest) for line in self.heading])


def shortened(name: str, width: int) -> str:
    """A name of at most so many columns, less its middle where it has more: both its ends tell it from others."""
    if cell_len(name) <= width:
        return name
    tail = (width - 1) // 3
    return f"{set_cell_size(name, width - 1 - tail).rstrip()}…{set_cell_size(name[::-1], tail).rstrip()[::-1]}"


def print_grid(result: Result, console: Console, extent: Extent = SCREEN) -> None:
    """Print a grid: the filters in force, the values, the notes, the worst of them first."""
    console.print(_caption(result))
    labels, values, left_out = _columns(result, extent)
    if not extent.whole:
        labels, values = _fitting(labels, values, console.width)
    # A value is never cut: where there is no room for it, the line is longer than the terminal is wide.
    widest = max((column.width for column in values), default=0)
    console.width = max(console.width, sum(label.width + _GAP for label in labels) + widest)
    for block in _blocks(labels, values, console.width):
        console.print(_table(result, labels, block))
    if left_out:
        console.print(Text(left_out, style="dim"))
    notes = result.notes[: extent.notes]
    for note in notes:
        console.print(Text(f"note: {note.text}", style="yellow"))
    if len(notes) < len(result.notes):
        rest = counted(len(result.notes) - len(notes), "more note")
        console.print(Text(f"{rest}: {extent.more}", style="yellow"))


def _fitting(labels: list[_Column], values: list[_Column], room: int) -> tuple[list[_Column], list[_Column]]:
    """Labels and values for a width: names are shortened, all alike, until they leave room for every value.

    Headings of values share what is left, and get no less than a few words.
    """
    least = max(
        [min(_HEADING, column.width) for column in values] + [column.widest_cell for column in values], default=0
    )
    width = next(
        (
            each
            for each in range(_WIDEST, _NARROWEST, -1)
            if sum(min(label.width, each) + _GAP for label in labels) + least <= room
        ),
        _NARROWEST,
    )
    labels = [label.named_within(width) for label in labels]
    left = room - sum(label.width + _GAP for label in labels)
    return labels, [column.headed_within(min(_WIDEST, max(left, _HEADING))) for column in values]


def grid_text(result: Result, width: int | None = None, extent: Extent = SCREEN) -> str:
    """A grid as plain text of a width; unless given, that of the terminal."""
    columns = width or shutil.get_terminal_size((100, 40)).columns
    buffer = io.StringIO()
    print_grid(result, Console(file=buffer, width=columns, color_system=None, highlight=False), extent)
    return "\n".join(line.rstrip() for line in buffer.getvalue().splitlines())


def _caption(result: Result) -> Text:
    values = ", ".join(value.label for value in result.values)
    caption = Text.assemble((result.model, "bold"), (f"  {values}", ""))
    caption.append(
        f"\nwhere {result.where}" if result.where else "\nno filters", style="cyan" if result.where else "dim"
    )
    return caption


def _columns(result: Result, extent: Extent) -> tuple[list[_Column], list[_Column], str]:
    layout = result.layout()
    rows = _head_and_totals(len(layout.rows), extent.rows)
    shown = _head_and_totals(len(layout.columns), None if extent.whole else _SHOWN_COLUMNS)
    labels = [_label_column(result.axes[number], layout, number, rows) for number in range(result.row_count)]
    values = _value_columns(result, layout, rows, shown)
    hidden = []
    if len(rows) < len(layout.rows):
        hidden.append(f"{len(layout.rows) - len(rows):,} of {len(layout.rows):,} rows")
    if len(shown) < len(layout.columns):
        hidden.append(f"{len(layout.columns) - len(shown):,} of {len(layout.columns):,} columns")
    return labels, values, f"{' and '.join(hidden)} not shown" if hidden else ""


def _head_and_totals(count: int, most: int | None) -> list[int]:
    # The last row is the grand total: it stays when rows are left out.
    return list(range(count)) if most is None or count <= most else [*range(most - 1), count - 1]


def _names(axis: Axis, codes: Array) -> dict[int, str]:
    """What the members, null, no match and totals among some codes are called."""
    names = {code: member_text(value) for code, value in axis.member_values(codes).items()}
    return {**names, axis.members.null: "(null)", axis.members.no_match: "(no match)", TOTAL: "total"}


def _label_column(axis: Axis, layout: Layout, number: int, rows: list[int]) -> _Column:
    names = _names(axis, layout.rows[rows, number])
    cells, before = [], None
    for row in rows:
        codes = tuple(layout.rows[row, : number + 1].tolist())
        code = codes[-1]
        if codes == before or (number and code == TOTAL and codes[-2] == TOTAL):
            cells.append(Text(""))
        else:
            cells.append(Text(names[code], style="dim italic" if code >= axis.members.null else ""))
        before = codes
    return _Column([axis.label], cells, False)


def _value_columns(result: Result, layout: Layout, rows: list[int], shown: list[int]) -> list[_Column]:
    column_axes = result.axes[result.row_count :]
    names = [_names(axis, layout.columns[shown, depth]) for depth, axis in enumerate(column_axes)]
    texts = []
    for number, value in enumerate(result.values):
        column = result.column_of(number)
        wanted = np.unique(layout.cells[np.ix_(rows, shown)])
        wanted = wanted[wanted >= 0]
        known = dict(zip(wanted.tolist(), python_values(column.take(wanted)), strict=True))
        write = formatter(value.type, value.format, list(known.values()), result.locale, result.currency)
        texts.append({cell: _styled(each, write(each)) for cell, each in known.items()})
    columns = []
    for position in shown:
        codes = layout.columns[position].tolist()
        heading = [
            "" if depth and code == TOTAL and codes[depth - 1] == TOTAL else names[depth][code]
            for depth, code in enumerate(codes)
        ]
        total = TOTAL in codes
        for number, value in enumerate(result.values):
            cells = [texts[number].get(int(layout.cells[row, position]), Text("")) for row in rows]
            lines = [*heading, value.label] if len(result.values) > 1 or not heading else heading
            columns.append(_Column(lines, cells, total, position))
    return columns


def _styled(value: Any, text: str) -> Text:
    if value is None:
        return Text(BLANK, style="dim")
    negative = isinstance(value, int | float) and value < 0 if not hasattr(value, "is_signed") else value < 0
    return Text(text, style="red" if negative else "")


def _blocks(labels: list[_Column], values: list[_Column], width: int) -> list[list[_Column]]:
    room = width + _GAP - sum(label.width + _GAP for label in labels)
    blocks: list[list[_Column]] = [[]]
    left = room
    for _, group in groupby(values, key=lambda column: column.member):
        together = list(group)
        # The values of one member stand side by side where they fit.
        if blocks[-1] and left < sum(column.width + _GAP for column in together) <= room:
            blocks.append([])
            left = room
        for column in together:
            if blocks[-1] and left < column.width + _GAP:
                blocks.append([])
                left = room
            blocks[-1].append(column)
            left -= column.width + _GAP
    return blocks


def _headings(values: list[_Column], height: int) -> list[str]:
    """Each column's heading lines; a member that goes on over several columns is named once."""
    headings, before = [], [""]
    for column in values:
        own = column.heading
        same = next((at for at, (mine, other) in enumerate(zip(own, before, strict=False)) if mine != other), len(own))
        same = min(same, len(own) - 1)
        shown = [""] * same + own[same:]
        headings.append("\n" * (height - len(shown)) + "\n".join(shown))
        before = own
    return headings


def _table(result: Result, labels: list[_Column], values: list[_Column]) -> Table:
    table = Table(box=None, show_edge=False, pad_edge=False, padding=(0, _GAP, 0, 0), header_style="bold")
    height = max(len(column.heading) for column in [*labels, *values])
    for label in labels:
        heading = "\n" * (height - 1) + label.heading[0]
        table.add_column(Text(heading), no_wrap=True, overflow="ellipsis")
    for column, heading in zip(values, _headings(values, height), strict=True):
        table.add_column(Text(heading), justify="right", no_wrap=True, style="bold" if column.total else None)
    layout_totals = _total_rows(result, labels, values)
    for row in range(len(values[0].cells) if values else 0):
        cells = [column.cells[row] for column in [*labels, *values]]
        table.add_row(*cells, style="bold" if layout_totals[row] else None)
    return table


def _total_rows(result: Result, labels: list[_Column], values: list[_Column]) -> list[bool]:
    count = len(values[0].cells) if values else 0
    return [any(label.cells[row].plain == "total" for label in labels) for row in range(count)]
