"""A console that prints texts from data safely, and the printed output as text."""

from __future__ import annotations

import io
from collections.abc import Callable, Iterable
from typing import Any

from rich.console import Console
from rich.segment import Segment
from rich.text import Text

from relatum.wording import one_line, visible_lines


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
