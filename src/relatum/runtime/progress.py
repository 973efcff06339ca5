"""Progress of long work, reported to a listener; nothing is drawn here."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from typing import TypeVar

T = TypeVar("T")
#: Called with what is going on, how much of it is done, and how much there is (0 for unknown).
Listener = Callable[[str, int, int], None]
_listener: ContextVar[Listener | None] = ContextVar("listener", default=None)


@contextmanager
def listening(listener: Listener) -> Iterator[None]:
    """Call ``listener(what, done, total)`` during long work inside the block.

    Examples
    --------
    >>> import relatum
    >>> with relatum.listening(lambda what, done, total: None):
    ...     model = relatum.Model()
    """
    token = _listener.set(listener)
    try:
        yield
    finally:
        _listener.reset(token)


def unheard(work: Callable[..., T], *given: object) -> T:
    """What a function gives, its steps reported to nobody: for work beside what is reported."""
    token = _listener.set(None)
    try:
        return work(*given)
    finally:
        _listener.reset(token)


_scans: ContextVar[dict[str, None] | None] = ContextVar("scans", default=None)


@contextmanager
def noting_scans() -> Iterator[dict[str, None]]:
    """Note how tables are scanned inside the block: a sentence for each way, in order, each once."""
    noted: dict[str, None] = {}
    token = _scans.set(noted)
    try:
        yield noted
    finally:
        _scans.reset(token)


def report_scan(table: str, rows: int, reason: str) -> None:
    """Report that a table was scanned: by compiled loops or, for a reason, with NumPy."""
    noted = _scans.get()
    if noted is not None:
        noted[f"{table}: {rows:,} rows {f'with NumPy ({reason})' if reason else 'by compiled loops'}"] = None


def report_step(what: str, done: int = 0, total: int = 0) -> None:
    """Report what is going on."""
    listener = _listener.get()
    if listener is not None:
        listener(what, done, total)


def reported(items: Collection[T], what: Callable[[T], str]) -> Iterator[T]:
    """The items one by one, each reported before it is handed out."""
    for number, item in enumerate(items):
        report_step(what(item), number, len(items))
        yield item
