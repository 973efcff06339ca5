"""Grids in a notebook: plain HTML, no script."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import groupby

from msgspec.structs import replace

from relatum import markup
from relatum.markup import Text, either
from relatum.pivot.result import Result
from relatum.present.looks import PLAIN_LOOK, LegendEntry, Look
from relatum.present.sheet import EMPTY, Cell, Label, Sheet, headed, sheet_of

_MOST_ROWS, _MOST_COLUMNS = 60, 20


def grid_html(result: Result) -> str:
    """A grid: the filters in force, the values, the notes."""
    sheet = sheet_of(result, _MOST_ROWS, _MOST_COLUMNS)
    filters = result.request.filters or ["no filters"]
    hidden = []
    if sheet.hidden_rows:
        hidden.append(f"{sheet.hidden_rows:,} more rows")
    if sheet.hidden_columns:
        hidden.append(f"{sheet.hidden_columns:,} more columns")
    rows = [
        [*(_head(label) for label in line.labels), *(_value(cell, line.total) for cell in cells)]
        for line, cells in zip(sheet.rows, sheet.cells, strict=True)
    ]
    empty = markup.line(EMPTY, tone="faint")
    return markup.html(
        [
            markup.line(", ".join(map(headed, result.values, sheet.writers)), bold=True),
            *(markup.line(text, tone="faint") for text in filters),
            markup.Table(_heads(sheet), rows) if sheet.headings or sheet.columns else empty,
            *([markup.line(f"{' and '.join(hidden)} not shown", tone="faint")] if hidden else []),
            *legend_lines(sheet.legend),
            *(markup.line(f"note: {note.text}", tone="faint") for note in result.notes),
        ]
    )


def _heads(sheet: Sheet) -> list[list[Text]]:
    """The lines of column heads; one that goes on over several columns is written once."""
    depth = sheet.depth
    lines = []
    for level in range(depth):
        own = [Text(name) if level == depth - 1 else Text("") for name in sheet.headings]
        # Members of one name under different parents are two.
        labels = [tuple(label.text for label in line.labels[: level + 1]) for line in sheet.columns]
        for path, same in groupby(labels):
            count = len(list(same))
            text = path[level] if level < len(path) else ""
            if level == depth - 1:
                own += [Text(text, number=True)] * count
            else:
                own.append(Text(text, number=count == 1, span=count))
        lines.append(own)
    return lines


def _head(label: Label) -> Text:
    tone: markup.Tone = "faint" if label.kind in ("null", "no match", "others") else ""
    text = "" if label.again else label.look.marked(label.text)
    return Text(text, bold=label.kind == "total", tone=tone, css=css_of(label.look) if text else "")


def _value(cell: Cell, total: bool) -> Text:
    css = css_of(cell.look)
    tone: markup.Tone = "faint" if cell.null and not css else ""
    return Text(cell.look.marked(cell.text), number=True, bold=total, tone=tone, css=css)


def css_of(look: Look) -> str:
    """A look as declarations of a style sheet; colours follow the mode of whatever page it is in."""
    if look == PLAIN_LOOK:
        return ""
    found = ""
    if look.text_colour("light"):
        found += either("color", look.text_colour("light"), look.text_colour("dark"))
    if look.fill is not None:
        found += either("background-color", look.fill.light, look.fill.dark)
    if look.bold is not None:
        found += f"font-weight:{700 if look.bold else 400};"
    if look.bar is not None and look.bar_paint is not None:
        start, stop = (f"{100 * end:.1f}%" for end in look.bar)
        colour = look.bar_paint.light
        stops = f"transparent {start},{colour}66 {start},{colour}66 {stop},transparent {stop}"
        found += f"background-image:linear-gradient(90deg,{stops});"
    return found


def legend_lines(legend: Sequence[LegendEntry]) -> list[markup.Line]:
    """What looks mean, a line each."""
    lines = []
    for entry in legend:
        samples = [Look(fill=each) for each in entry.shades] or [replace(entry.look, mark="")]
        marks = [markup.sample(entry.look.mark or "\u2003", css_of(each)) for each in samples]
        lines.append(markup.line(*marks, entry.line, tone="faint"))
    return lines
