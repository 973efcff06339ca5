"""Standard output and error as they may be: closed, full, a pipe that nobody reads, a terminal of few characters."""

from __future__ import annotations

import os
import sys
from typing import Any


def prepare_streams() -> None:
    """See to it that there are streams to write to, and that no character keeps a line from being written."""
    for name in ("stdout", "stderr"):
        stream: Any = getattr(sys, name)
        if stream is None:  # closed by whoever started us
            setattr(sys, name, open(os.devnull, "w", encoding="utf-8"))  # noqa: SIM115, PTH123 - open to the end
        elif hasattr(stream, "reconfigure"):
            stream.reconfigure(errors="replace")
    columns = os.environ.get("COLUMNS", "")
    if columns and not (columns.isdigit() and 0 < int(columns[:6]) < 100_000):
        del os.environ["COLUMNS"]  # it says nothing of the terminal


def silence(stream: Any) -> None:
    """Have nothing more written to a stream: it cannot be, and at the end Python would try once more."""
    try:
        nowhere = os.open(os.devnull, os.O_WRONLY)
        os.dup2(nowhere, stream.fileno())
        os.close(nowhere)
    except (OSError, ValueError, AttributeError):
        return  # a stream that is not a file is left as it is


def write_exactly(text: str) -> None:
    """Write a document for programs to standard output: in UTF-8, whatever the terminal speaks."""
    sys.stdout.flush()
    buffer = getattr(sys.stdout, "buffer", None)
    if buffer is None:
        sys.stdout.write(text)
    else:
        buffer.write(text.encode("utf-8", "replace"))
        buffer.flush()
