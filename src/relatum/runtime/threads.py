"""The threads in which files and columns are read and rows are gone through: as many as there are cores."""

from __future__ import annotations

import os
import threading
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from functools import cache
from typing import TypeVar

_Item = TypeVar("_Item")
_Made = TypeVar("_Made")
#: How often a thread that waits for others looks whether to go on, in seconds.
_LOOK = 0.02


@cache
def cores() -> int:
    """How many things can be done at once."""
    return os.cpu_count() or 1


@cache
def pool() -> ThreadPoolExecutor:
    """The threads, which are kept."""
    return ThreadPoolExecutor(max_workers=cores(), thread_name_prefix="relatum")


def shared_out(
    work: Callable[[Iterator[_Item]], _Made], items: Sequence[_Item], look: Callable[[], object]
) -> list[_Made]:
    """Have all cores work on items, each taking the next one; this thread works as well, and need not be woken.

    Parameters
    ----------
    work : callable
        What a thread makes of the items that it takes.
    items : sequence
        The items.
    look : callable
        Called by this thread after each of its items, and while it waits; what it raises ends the work of all.

    Returns
    -------
    list
        What each thread that took part has made.
    """
    rest, ends_early = iter(items), threading.Event()

    def taken(after: Callable[[], object]) -> Iterator[_Item]:
        for item in rest:
            if ends_early.is_set():
                break
            yield item
            after()

    others = [pool().submit(work, taken(lambda: None)) for _ in range(min(cores(), len(items)) - 1)]
    try:
        first = work(taken(look))
        others = [each for each in others if not each.cancel()]  # that have not begun: nothing is left for them
        for each in others:
            while not each.done():
                with suppress(TimeoutError):
                    each.exception(_LOOK)
                look()
    finally:
        ends_early.set()
    return [first, *(each.result() for each in others)]


def shared_each(action: Callable[[_Item], object], items: Sequence[_Item], look: Callable[[], object]) -> None:
    """Carry an action out for each of some items, on all cores; as :func:`shared_out` does."""

    def work(rest: Iterator[_Item]) -> None:
        for item in rest:
            action(item)

    shared_out(work, items, look)


def shared_map(make: Callable[[_Item], _Made], items: Sequence[_Item], look: Callable[[], object]) -> list[_Made]:
    """What is made of each of some items, in their order, on all cores; as :func:`shared_out` does."""
    made: dict[int, _Made] = {}

    def action(at: int) -> None:
        made[at] = make(items[at])

    shared_each(action, range(len(items)), look)
    return [made[at] for at in range(len(items))]


if hasattr(os, "register_at_fork"):
    # A process that was forked has none of its parent's threads: it would wait for them for ever.
    os.register_at_fork(after_in_child=pool.cache_clear)
