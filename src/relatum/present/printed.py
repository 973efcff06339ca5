"""What is printed to a console, as a text."""

from __future__ import annotations

import io
from collections.abc import Callable

from rich.console import Console


def printed(prints: Callable[[Console], None], width: int) -> str:
    """What a function prints, as plain lines without blanks at their ends."""
    buffer = io.StringIO()
    # In a notebook rich would show what is printed there, and leave the buffer empty.
    prints(Console(file=buffer, width=width, color_system=None, highlight=False, markup=False, force_jupyter=False))
    return "\n".join(line.rstrip() for line in buffer.getvalue().splitlines())
