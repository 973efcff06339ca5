"""A console that prints texts from data safely, blocks as it draws them, and the printed output as text."""

from __future__ import annotations

import io
from collections.abc import Callable, Iterable
from typing import Any, assert_never

from rich.console import Console
from rich.padding import Padding
from rich.segment import Segment
from rich.table import Table
from rich.text import Text

from relatum import markup
from relatum.wording import one_line, visible, visible_lines

#: How each tone looks in a terminal.
_TONES: dict[markup.Tone, str] = {
    "": "",
    "good": "green",
    "bad": "bold red",
    "notable": "yellow",
    "context": "cyan",
    "faint": "dim",
}
_GAP = 2
#: A column is made as wide as its longest word, up to this many characters.
_LONG_WORD = 40


class Terminal(Console):
    """A console that shows as marks what a terminal would obey: escapes and controls, and what turns text around."""

    def render_str(self, text: str, **said: Any) -> Text:
        """A string as a text of one line."""
        return super().render_str(one_line(text), **said)

    def on_broken_pipe(self) -> None:
        """The reader of the output has gone: raised to the command, which knows what to do."""
        raise BrokenPipeError

    def render(self, renderable: Any, options: Any = None) -> Iterable[Segment]:
        """The pieces of the printed output."""
        if isinstance(renderable, Text) and not renderable.plain.isprintable():
            renderable = renderable.copy()
            renderable.plain = visible_lines(renderable.plain)
        return super().render(renderable, options)


def printed(prints: Callable[[Console], None], width: int) -> str:
    """What a function prints, as plain lines without blanks at their ends."""
    buffer = io.StringIO()
    # In a notebook rich would show the output itself, and leave the buffer empty.
    prints(Terminal(file=buffer, width=width, color_system=None, highlight=False, markup=False, force_jupyter=False))
    return "\n".join(line.rstrip() for line in buffer.getvalue().splitlines())


def print_blocks(blocks: Iterable[markup.Block], console: Console) -> None:
    """Draw blocks in a terminal, one below the other."""
    for block in blocks:
        if block.apart:
            console.print()
        match block:
            case markup.Line(pieces, indent):
                console.print(Padding(_text(pieces), (0, 0, 0, indent)) if indent else _text(pieces))
            case markup.Table(heads, rows):
                console.print(_table(heads, rows, console.width))
            case _:
                assert_never(block)


def _text(cell: markup.Cell) -> Text:
    """A cell or line as the terminal's own kind of text; only sentences have several lines."""
    text = Text()
    for each in markup.pieces_of(cell):
        style = " ".join(filter(None, ["bold" if each.bold else "", _TONES[each.tone]]))
        text.append(visible_lines(each.text) if each.prose else visible(each.text), style)
    return text


def _table(heads: Iterable[markup.Row], rows: Iterable[markup.Row], width: int) -> Table:
    """A table; where its headings do not fit beside each other, those of columns are on two lines."""
    lines = [list(map(_text, row)) for row in heads]
    cells = [list(row) for row in rows]
    wide = any(sum(len(each.plain) + _GAP for each in line) > width for line in lines)
    table = Table(box=None, show_header=bool(lines), show_edge=False, pad_edge=False, padding=(0, _GAP, 0, 0),
                  header_style="dim")  # fmt: skip
    columns = zip(*cells, strict=True) if cells else [()] * len(lines[-1] if lines else ())
    for at, column in enumerate(columns):
        numeric = any(piece.number for cell in column for piece in markup.pieces_of(cell))
        heading = Text("\n").join(line[at] for line in lines)
        if wide and "." in heading.plain:
            heading = Text(heading.plain.replace(".", ".\n", 1))
        # No word of a sentence is broken where there is room.
        words = [
            word for cell in column for piece in markup.pieces_of(cell) if piece.prose for word in piece.text.split()
        ]
        table.add_column(
            heading,
            justify="right" if numeric else "left",
            no_wrap=numeric,
            overflow="fold",
            min_width=min(max(map(len, words), default=0), _LONG_WORD) or None,
        )
    for row in cells:
        table.add_row(*map(_text, row))
    return table
