"""Grids in a terminal: as many columns side by side as fit, the rest below."""

from __future__ import annotations

import shutil
from collections.abc import Sequence
from itertools import groupby

from msgspec import Struct
from msgspec.structs import replace
from rich.cells import cell_len, set_cell_size
from rich.console import Console
from rich.table import Table
from rich.text import Text

from relatum.pivot.result import Result
from relatum.present.extent import SCREEN, Extent
from relatum.present.looks import PLAIN_LOOK, SHADE_LETTERS, LegendEntry, Look
from relatum.present.numbers import Writer
from relatum.present.paint import Mode
from relatum.present.printed import printed
from relatum.present.sheet import EMPTY, NOTHING, Cell, Kind, Label, Line, headed, nested, sheet_of, writers_of
from relatum.wording import counted, visible

_SHOWN_COLUMNS = 60
#: The most characters of a member's name or a value's heading; names get fewer where space is short.
_WIDEST, _NARROWEST, _HEADING = 32, 7, 16
_GAP = 2


class _Column(Struct):
    heading: list[str]
    cells: list[Text]
    total: bool
    member: int = 0
    least: int = 0

    @property
    def width(self) -> int:
        return max([self.least, *(cell_len(line) for line in [*self.heading, *(cell.plain for cell in self.cells)])])

    def named_within(self, width: int) -> _Column:
        """The column with its names and heading shortened to a number of characters."""
        cells = [Text(shortened(cell.plain, width), style=cell.style) for cell in self.cells]
        return replace(self, heading=[shortened(line, width) for line in self.heading], cells=cells)

    @property
    def widest_cell(self) -> int:
        return max((cell.cell_len for cell in self.cells), default=0)

    def headed_within(self, width: int) -> _Column:
        """The column with its heading shortened to a number of characters, or to the width of its values."""
        widest = max(width, self.widest_cell)
        return replace(self, heading=[shortened(line, widest) for line in self.heading])


def shortened(name: str, width: int) -> str:
    """A name shortened to a width by cutting its middle: its ends distinguish it from others."""
    if cell_len(name) <= width:
        return name
    tail = (width - 1) // 3
    return f"{set_cell_size(name, width - 1 - tail).rstrip()}…{set_cell_size(name[::-1], tail).rstrip()[::-1]}"


def print_grid(result: Result, console: Console, extent: Extent = SCREEN) -> None:
    """Print a grid: the filters in force, the values, the notes, the worst of them first."""
    console.print(_caption(result, writers_of(result)))
    marks = _Marks(console.color_system is not None, console.color_system in ("256", "truecolor"), "light")
    labels, values, totals, left_out, legend = _columns(result, extent, marks)
    if not extent.whole:
        labels, values = _fitting(labels, values, console.width)
    # A value is never cut: where there is no room for it, the line is longer than the terminal is wide.
    widest = max((column.width for column in values), default=0)
    console.width = max(console.width, sum(label.width + _GAP for label in labels) + widest)
    for block in _blocks(labels, values, console.width):
        console.print(_table(labels, block, totals) if labels or block else Text(EMPTY, style="dim"))
    if left_out:
        console.print(Text(left_out, style="dim"))
    for entry in legend:
        console.print(_legend_line(entry, marks))
    notes = result.notes[: extent.notes]
    for note in notes:
        console.print(Text(f"note: {note.text}", style="yellow"))
    if len(notes) < len(result.notes):
        rest = counted(len(result.notes) - len(notes), "more note")
        console.print(Text(f"{rest}: {extent.more}", style="yellow"))


def _fitting(labels: list[_Column], values: list[_Column], room: int) -> tuple[list[_Column], list[_Column]]:
    """Labels and values for a width: all names are shortened equally until every value fits.

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
    return printed(lambda console: print_grid(result, console, extent), columns)


def _caption(result: Result, writers: Sequence[Writer]) -> Text:
    values = visible(", ".join(map(headed, result.values, writers)))
    caption = Text.assemble((visible(result.model), "bold"), (f"  {values}", ""))
    filters = result.request.filters
    caption.append("\n" + ("\n".join(map(visible, filters)) or "no filters"), style="cyan" if filters else "dim")
    return caption


def _columns(
    result: Result, extent: Extent, marks: _Marks
) -> tuple[list[_Column], list[_Column], list[bool], str, tuple[LegendEntry, ...]]:
    """Columns of row heads and values, which rows are totals, what is left out, and the legend."""
    widths = result.theme.widths
    sheet = sheet_of(result, extent.rows, None if extent.whole else _SHOWN_COLUMNS)
    cells: list[tuple[Cell, ...]]
    if extent.layout == "nested" and sheet.headings:
        axes = result.axes[: result.row_count]
        lines = nested(sheet, [axis.attribute is not None for axis in axes])
        texts = [
            marks.head(Label(line.text, line.kind, look=line.look), "  " * line.depth + line.text) for line in lines
        ]
        heading = visible(" / ".join(axis.label for axis in axes if axis.attribute is None))
        labels = [_Column([heading], texts, False)]
        blank = (NOTHING,) * len(sheet.columns)
        cells = [blank if line.cells is None else line.cells for line in lines]
        totals = [line.total for line in lines]
    else:
        names = [*(axis.name for axis in result.axes[: result.row_count]), ""]
        labels = [
            _Column(
                [visible(heading)],
                [marks.own_head(line.labels[at]) for line in sheet.rows],
                False,
                least=widths.get(names[at], 0),
            )
            for at, heading in enumerate(sheet.headings)
        ]
        cells, totals = list(sheet.cells), [line.total for line in sheet.rows]
    values = []
    for at, top in enumerate(sheet.columns):
        # With values on rows and no columns there is nothing to say above the values.
        heading_lines = [visible(label.text) for label in top.labels]
        heading_lines = heading_lines if any(heading_lines) else [""]
        drawn = marks.values([row[at] for row in cells])
        number = next((row[at].number for row in cells if row[at].there), 0)
        least = widths.get(result.values[number].label, 0)
        values.append(_Column(heading_lines, drawn, top.total, top.member, least))
    hidden = []
    if sheet.hidden_rows:
        hidden.append(f"{sheet.hidden_rows:,} of {sheet.hidden_rows + _members(sheet.rows):,} rows")
    if sheet.hidden_columns:
        hidden.append(f"{sheet.hidden_columns:,} of {sheet.hidden_columns + _members(sheet.columns):,} columns")
    return labels, values, totals, f"{' and '.join(hidden)} not shown" if hidden else "", sheet.legend


def _members(lines: Sequence[Line]) -> int:
    return len({line.member for line in lines})


#: How the heads of lines look in a terminal that has colours; without, their words say the same.
_STYLES: dict[Kind, str] = {
    "member": "",
    "null": "dim italic",
    "no match": "dim italic",
    "others": "italic",
    "total": "",
    "below": "",
    "value": "",
}


#: The colours of terminals that stand for the words of a theme.
_WORDS = {"good": "green", "bad": "red", "notable": "yellow", "faint": "dim"}
#: The width of a bar in characters; its end is drawn in eighths of one.
_BAR, _EIGHTHS = 8, " ▏▎▍▌▋▊▉█"


class _Marks(Struct, frozen=True):
    """Draws looks in a terminal: in colours where it has them, else by marks and letters.

    ``shaded`` says that it has enough of them to fill cells; one with sixteen would show all shades as the same colour.
    """

    coloured: bool
    shaded: bool
    mode: Mode

    def own_head(self, label: Label) -> Text:
        """A head, written where the line before has another."""
        return self.head(label, "" if label.again else label.text)

    def head(self, label: Label, text: str) -> Text:
        return self._drawn(text, label.look, _STYLES[label.kind]) if text else Text("")

    def values(self, cells: Sequence[Cell]) -> list[Text]:
        """The cells of a column; bars are before the numbers, one below the other."""
        drawn = [
            self._drawn(visible(cell.text), cell.look, "dim" if cell.null else "red" if cell.negative else "")
            for cell in cells
        ]
        if all(cell.look.bar is None for cell in cells):
            return drawn
        widest = max(each.cell_len for each in drawn)
        return [
            Text.assemble(
                (_bar_text(*cell.look.bar), cell.look.bar_paint.of(self.mode) if cell.look.bar_paint else ""),
                " " * (1 + widest - each.cell_len),
                each,
            )
            if cell.look.bar is not None
            else each
            for cell, each in zip(cells, drawn, strict=True)
        ]

    def _drawn(self, text: str, look: Look, usual: str) -> Text:
        text = visible(text)
        if look == PLAIN_LOOK:
            return Text(text, style=usual)
        look = look if self.shaded else replace(look, fill=None)
        filled = look.fill is not None
        seen = self.shaded or (self.coloured and look.colour is not None)
        mark = visible(look.mark) or ("" if seen else look.letter)
        style = [usual] if look.colour is None and not filled else []
        # What a terminal's ground is, nobody knows: its own red reads on it.
        colour = (
            look.text_colour(self.mode)
            if look.fill is not None
            else _WORDS.get(look.word) or look.text_colour(self.mode)
        )
        style += [colour] if colour else []
        style += [f"on {look.fill.of(self.mode)}"] if look.fill is not None else []
        style += ["bold"] if look.bold else ["not bold"] if look.bold is False else []
        return Text(f"{mark} {text}" if mark else text, style=" ".join(filter(None, style)))


def _bar_text(start: float, stop: float) -> str:
    """A bar as characters: to an eighth of one at its right end, to a whole one at its left."""
    first, eighths = int(start * _BAR), round(stop * _BAR * 8)
    whole, part = divmod(eighths, 8)
    text = " " * first + "█" * max(whole - first, 0) + (_EIGHTHS[part] if part else "")
    return text.ljust(_BAR)[:_BAR]


def _legend_line(entry: LegendEntry, marks: _Marks) -> Text:
    """A line of the legend."""
    if not entry.shades:
        shown = marks.shaded or (marks.coloured and entry.look.colour is not None)
        mark = entry.look.mark or ("■" if shown else entry.look.letter)
        sample = marks.head(Label(mark, "member", look=replace(entry.look, mark="", letter="")), mark)
        return Text.assemble("  ", sample, f"  {visible(entry.text)}")
    blocks = [Text("  ", style=f"on {each.of(marks.mode)}") for each in entry.shades] if marks.shaded else []
    letters = "" if blocks else f", {SHADE_LETTERS[0]} to {SHADE_LETTERS[-1]}"
    return Text.assemble("  ", *blocks, "  " if blocks else "", visible(replace(entry, text=entry.text + letters).line))


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


def _table(labels: list[_Column], values: list[_Column], totals: list[bool]) -> Table:
    table = Table(box=None, show_edge=False, pad_edge=False, padding=(0, _GAP, 0, 0), header_style="bold")
    height = max(len(column.heading) for column in [*labels, *values])
    for label in labels:
        heading = "\n" * (height - 1) + label.heading[0]
        table.add_column(Text(heading), no_wrap=True, overflow="ellipsis", min_width=label.least or None)
    for column, heading in zip(values, _headings(values, height), strict=True):
        style = "bold" if column.total else None
        table.add_column(Text(heading), justify="right", no_wrap=True, style=style, min_width=column.least or None)
    for row in range(len(values[0].cells) if values else 0):
        cells = [column.cells[row] for column in [*labels, *values]]
        table.add_row(*cells, style="bold" if totals[row] else None)
    return table
