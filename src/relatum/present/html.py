"""Grids and members in a notebook: plain HTML, no script."""

from __future__ import annotations

from itertools import groupby

from relatum import markup
from relatum.markup import Text
from relatum.pivot.result import Result
from relatum.present.members import MemberList
from relatum.present.sheet import Cell, Label, Sheet, sheet_of

_MOST_ROWS, _MOST_COLUMNS = 60, 20


def grid_html(result: Result) -> str:
    """A grid: the filters in force, the values, the notes."""
    sheet = sheet_of(result, _MOST_ROWS, _MOST_COLUMNS)
    filters = [("where", result.where), ("keep", result.request.keep)]
    told = [f"{word} {text}" for word, text in filters if text] or ["no filters"]
    hidden = []
    if sheet.hidden_rows:
        hidden.append(f"{sheet.hidden_rows:,} more rows")
    if sheet.hidden_columns:
        hidden.append(f"{sheet.hidden_columns:,} more columns")
    rows = [
        [*(_head(label) for label in line.labels), *(_value(cell, line.total) for cell in cells)]
        for line, cells in zip(sheet.rows, sheet.cells, strict=True)
    ]
    return markup.block(
        markup.line(", ".join(value.label for value in result.values), bold=True),
        *(markup.line(text, faint=True) for text in told),
        markup.table(_heads(sheet), rows),
        *([markup.line(f"{' and '.join(hidden)} not shown", faint=True)] if hidden else []),
        *(markup.line(f"note: {note.text}", faint=True) for note in result.notes),
    )


def _heads(sheet: Sheet) -> list[list[Text]]:
    """The lines of column heads; one that goes on over several columns is written once."""
    depth = max((len(line.labels) for line in sheet.columns), default=1) or 1
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
    faint = label.kind in ("null", "no match", "others")
    return Text("" if label.again else label.text, bold=label.kind == "total", faint=faint)


def _value(cell: Cell, total: bool) -> Text:
    return Text(cell.text, number=True, bold=total, faint=cell.null)


def members_html(members: MemberList) -> str:
    """The members of a column with their counts."""
    headings, lines = members.lines(_MOST_ROWS)
    found = members.found
    rows = [
        [Text(texts[0], faint=not there), *(Text(text, number=True, faint=not there) for text in texts[1:])]
        for texts, there in lines
    ]
    return markup.block(
        markup.line(f"members of {found.axis.name}", bold=True),
        markup.line(f"where {found.where}" if found.where else "no filters", faint=True),
        markup.table([[headings[0], *(Text(each, number=True) for each in headings[1:])]], rows),
        markup.line(members.summary(len(lines)), faint=True),
    )
