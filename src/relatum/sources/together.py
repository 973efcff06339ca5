"""Several tables read together: a file that holds more than one of them is read once."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from pathlib import Path
from typing import Any, TypeVar

Found = TypeVar("Found")
#: What the file that was read last holds, by what tells it from others and from what it was before.
_lately: ContextVar[dict[tuple[int, ...], Any] | None] = ContextVar("lately", default=None)


@contextmanager
def together() -> Iterator[None]:
    """Within this, the file that :func:`read_once` read last is not read again."""
    if _lately.get() is not None:
        yield
        return
    token = _lately.set({})
    try:
        yield
    finally:
        _lately.reset(token)


def read_once(path: Path, read: Callable[[Path], Found]) -> Found:
    """What a file holds."""
    kept = _lately.get()
    if kept is None:
        return read(path)
    there = path.stat()
    key = (there.st_dev, there.st_ino, there.st_size, there.st_mtime_ns)
    if key not in kept:
        kept.clear()  # the rows of one file at a time
        kept[key] = read(path)
    found: Found = kept[key]
    return found
