"""Processes that a test starts: none outlives it, whatever becomes of the test."""

from __future__ import annotations

import subprocess
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import Any


@contextmanager
def started(command: Sequence[str], **options: Any) -> Iterator[subprocess.Popen[Any]]:
    """A running process, killed when the block ends: leaving a block of ``Popen`` itself would wait for it."""
    process = subprocess.Popen(command, **options)
    try:
        yield process
    finally:
        process.kill()
        process.wait(20)
        for stream in (process.stdout, process.stderr):
            if stream is not None:
                stream.close()
