"""A grid as a Markdown table."""

from __future__ import annotations

import re

from relatum.pivot.result import Result
from relatum.present.sheet import EMPTY, Cell, Label, headed, sheet_of

#: Signs that Markdown, or HTML in it, would take for its own.
_SIGNS = re.compile(r"([\\`*_{}\[\]<>|#~&])")


def grid_markdown(result: Result) -> str:
    """A grid as shown: the filters in force, a table, the notes."""
    sheet = sheet_of(result)
    values = ", ".join(map(headed, result.values, sheet.writers))
    filters = [plain(text) for text in result.request.filters] or ["no filters"]
    heads = [plain(heading) for heading in sheet.headings]
    heads += [plain(" / ".join(label.text for label in line.labels if label.text)) for line in sheet.columns]
    lines = [f"**{plain(result.model)}** {plain(values)}", "", *filters, ""]
    if heads:
        lines.append(_row(heads))
        lines.append(_row([":--"] * len(sheet.headings) + ["--:"] * len(sheet.columns)))
    else:
        lines.append(EMPTY)
    for line, cells in zip(sheet.rows if heads else (), sheet.cells if heads else (), strict=True):
        texts = [*map(_head, line.labels), *map(_value, cells)]
        lines.append(_row([f"**{text}**" if line.total and text else text for text in texts]))
    legend = [f"{each.look.mark or each.look.letter} {plain(each.text)}".strip() for each in sheet.legend]
    remarks = legend + [f"note: {plain(note.text)}" for note in result.notes]
    return "\n".join([*lines, *(["", *(f"- {text}" for text in remarks)] if remarks else [])]) + "\n"


def plain(text: str) -> str:
    """A text in which no sign means anything to Markdown; a line break is a blank."""
    return _SIGNS.sub(r"\\\1", " ".join(text.split()))


def _row(cells: list[str]) -> str:
    return f"| {' | '.join(cells)} |"


def _head(label: Label) -> str:
    if label.again:
        return ""
    return plain(label.look.marked(label.text, letters=True))


def _value(cell: Cell) -> str:
    return plain(cell.look.marked(cell.text, letters=True))
