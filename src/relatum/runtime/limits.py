"""How much is read, worked out and waited for at most: each limit has a name, and a way to raise it.

Limits come from three places: what is here, what a model states under ``[limits]``, and what the caller states with
:func:`limited` or the shell with ``--limit-…``. The last of them that states one wins.
"""

from __future__ import annotations

import math
import os
import re
import threading
import time
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from contextvars import ContextVar
from functools import cache
from typing import Literal

from msgspec import Struct

from relatum.errors import LimitError, ModelError, StoppedError
from relatum.wording import counted


class Limit(Struct, frozen=True):
    """A limit: what it bounds, what it is unless somebody states it, and whether it counts things, bytes or seconds.

    ``example`` is what it may be raised to.
    """

    bounds: str
    usual: int
    kind: Literal["count", "size", "time"] = "count"
    example: str = "NUMBER"


#: Every limit by name; ``memory`` is half of the machine's memory.
LIMITS = {
    "rows": Limit("rows of a table", 4_000_000_000),
    "columns": Limit("columns of a table", 20_000),
    "members": Limit("members a formula is evaluated for at once", 100_000_000),
    "dates": Limit("dates in all the sets made by a calendar change", 500_000_000),
    "cells": Limit("cells of a grid", 1_000_000),
    "sent": Limit("rows sent to or fetched from an engine", 5_000_000),
    "file": Limit("for a file, before and after unpacking", 64 << 30, "size", '"100 GB"'),
    "model": Limit("for a model file", 16 << 20, "size", '"32 MB"'),
    "time": Limit("for a request or a database query", 3600, "time", '"2 h"'),
    "memory": Limit("memory", 0, "size", '"16 GB"'),
}
#: The units of each kind, and what one of them is.
_UNITS: dict[str, dict[str, int]] = {
    "count": {},
    "size": {"B": 1, "KB": 1 << 10, "MB": 1 << 20, "GB": 1 << 30, "TB": 1 << 40},
    "time": {"s": 1, "min": 60, "h": 3600},
}
_SIZED = re.compile(r"\s*(\d{1,18}(?:\.\d{1,6})?)\s*([A-Za-z]*)\s*\Z")

_stated: ContextVar[Mapping[str, int]] = ContextVar("stated", default={})  # noqa: B039 - never changed in place
_in_force: ContextVar[Mapping[str, int] | None] = ContextVar("in_force", default=None)
_ends: ContextVar[float | None] = ContextVar("ends", default=None)
_stopped: ContextVar[Callable[[], bool] | None] = ContextVar("stopped", default=None)
#: How often it is looked whether what a database does is still wanted, in seconds.
_LOOK = 0.05
#: How long the memory in use is taken to be what it was: asking the system takes as long as a small question.
_LATELY = 0.02


def read_limits(words: Mapping[str, object]) -> dict[str, int]:
    """Limits as numbers.

    Parameters
    ----------
    words : mapping of str to int or str
        Limits by name: a whole number, or a text with a unit (``"8 GB"``, ``"90 s"``, ``"10 min"``).

    Raises
    ------
    ModelError
        Unknown limit, or an invalid one.

    Examples
    --------
    >>> read_limits({"memory": "8 GB", "cells": 2_000_000})
    {'memory': 8589934592, 'cells': 2000000}
    """
    return {name: _number(name, word) for name, word in words.items()}


def _number(name: str, word: object) -> int:
    if name not in LIMITS:
        raise ModelError(f"Unknown limit {name}.", fix=f"Known: {', '.join(LIMITS)}.", place=(name,))
    units = _UNITS[LIMITS[name].kind]
    factors = {"": 1, **{unit.upper(): factor for unit, factor in units.items()}}
    found = _SIZED.match(word) if isinstance(word, str) else None
    number = 0
    if found is not None and found[2].upper() in factors:
        number = int(float(found[1]) * factors[found[2].upper()])
    elif isinstance(word, int) and not isinstance(word, bool):
        number = word
    if not 0 < number < 1 << 62:
        also = f", or a text with a unit ({', '.join(units)})" if units else ""
        example = LIMITS[name].example if units else "2000000"
        shown = repr(word) if isinstance(word, str | int | float) else f"a {type(word).__name__}"
        raise ModelError(
            f"The limit {name} is {shown}; it must be a whole number above 0{also}.",
            fix=f"Write {name} = {example}.",
            place=(name,),
        )
    return number


@contextmanager
def limited(**limits: int | str) -> Iterator[None]:
    """Use other limits than the model's inside the block.

    Parameters
    ----------
    **limits : int or str
        ``rows``, ``columns``, ``members``, ``dates``, ``cells``, ``sent``, ``file``, ``model``, ``time``, ``memory``: a
        whole number, or a text with a unit (``"8 GB"``, ``"10 min"``).

    Raises
    ------
    ModelError
        Unknown limit, or an invalid one.

    Examples
    --------
    >>> import relatum
    >>> with relatum.limited(cells=5_000_000, memory="8 GB"):
    ...     model = relatum.Model()
    """
    token = _stated.set({**_stated.get(), **read_limits(limits)})
    try:
        yield
    finally:
        _stated.reset(token)


@contextmanager
def in_force(declared: Mapping[str, int]) -> Iterator[None]:
    """Have a model's limits in force inside the block; its time runs from here, unless it runs already."""
    _at_start()
    limits = {**{name: each.usual for name, each in LIMITS.items()}, **declared, **_stated.get()}
    token = _in_force.set(limits)
    ends = _ends.set(_ends.get() or time.monotonic() + limits["time"])
    try:
        yield
    finally:
        _in_force.reset(token)
        _ends.reset(ends)


def limit(name: str) -> int:
    """A limit that is in force."""
    limits = _in_force.get()
    number = limits[name] if limits is not None else _stated.get().get(name, LIMITS[name].usual)
    return number or _half_of_memory()


@cache
def _half_of_memory() -> int:
    """Half of the memory that this process may use."""
    there = _memory()
    for path in ("/sys/fs/cgroup/memory.max", "/sys/fs/cgroup/memory/memory.limit_in_bytes"):
        try:
            with open(path, encoding="ascii") as file:  # noqa: PTH123 - a file of the system's
                there = min(there, int(file.read()))
        except (OSError, ValueError):
            continue
    return int(there // 2)


def refuse_above(name: str, count: int, what: str, fix: str = "") -> None:
    """Raise a LimitError where a count is above a limit.

    Raises
    ------
    LimitError
        It is: ``what`` says so, with the count.
    """
    most = limit(name)
    if count > most:
        raise LimitError(f"{what}; the limit is {_shown(name, most)} ({LIMITS[name].bounds}).", fix=_ways(name, fix))


@contextmanager
def stoppable(stopped: Callable[[], bool]) -> Iterator[None]:
    """Have work inside the block stop at its next step once ``stopped`` says so: a StoppedError is raised there."""
    token = _stopped.set(stopped)
    try:
        yield
    finally:
        _stopped.reset(token)


def refuse_stopped() -> None:
    """Raise a StoppedError where what is being done is not wanted any more."""
    stopped = _stopped.get()
    if stopped is not None and stopped():
        raise StoppedError("This was stopped.")


@contextmanager
def cancelling(cancel: Callable[[], object]) -> Iterator[None]:
    """Call ``cancel``, again and again, once what the block does is not wanted any more: what it waits for ends."""
    stopped = _stopped.get()
    if stopped is None:
        yield
        return
    ended = threading.Event()

    def watch() -> None:
        while not ended.wait(_LOOK):
            if stopped():
                cancel()

    watcher = threading.Thread(target=watch, daemon=True, name="relatum-cancelling")
    watcher.start()
    try:
        yield
    finally:
        ended.set()
        watcher.join()


def refuse_late() -> None:
    """Raise a LimitError where a request has taken longer than it may, a StoppedError where it is not wanted any more.

    Raises
    ------
    LimitError, StoppedError
        The limit is passed, or the work is not wanted any more.
    """
    refuse_stopped()
    ends = _ends.get()
    if ends is not None and time.monotonic() > ends:
        raise too_late("This")


def time_left() -> float:
    """How many more seconds the current request may take."""
    ends = _ends.get()
    return limit("time") if ends is None else max(ends - time.monotonic(), 0.0)


def too_late(what: str) -> LimitError:
    """The error for what takes longer than it may."""
    return LimitError(
        f"{what} takes longer than {_shown('time', limit('time'))}.",
        fix=_ways("time", "Ask for less."),
    )


def refuse_memory(need: int, what: str) -> None:
    """Raise a LimitError if this many more bytes would exceed the memory that may be used."""
    most = limit("memory")
    if need > most // 8 and (used := resident()) + need > most:
        raise LimitError(
            f"{what} takes {_shown('memory', need)} of memory, and {_shown('memory', used)} are in use; "
            f"the limit is {_shown('memory', most)}.",
            fix=_ways("memory", "Ask for less, or filter first."),
        )


def refuse_full() -> None:
    """Raise a LimitError where more memory is in use than may be."""
    most, used = limit("memory"), _resident_lately()
    if used > most:
        raise LimitError(
            f"This takes more memory than allowed: {_shown('memory', used)} in use; "
            f"the limit is {_shown('memory', most)}.",
            fix=_ways("memory", "Ask for less, or filter first."),
        )


def memory_left() -> int:
    """How many more bytes the current request may use."""
    return max(limit("memory") - resident(), 0)


def too_much(what: str, used: int) -> LimitError:
    """The error for what takes more memory than it may."""
    most = limit("memory")
    return LimitError(
        f"{what} takes more memory than allowed: {_shown('memory', max(used, 1))} so far; the limit is "
        f"{_shown('memory', most)}.",
        fix=_ways("memory", "Ask for less, or filter first."),
    )


def resident() -> int:
    """How many bytes of memory this process uses for itself, beside what it used before anything was read."""
    return max(_used() - _at_start(), 0)


def _resident_lately() -> int:
    """The same, or what it was a moment ago."""
    now = time.monotonic()
    if now - _seen[0][0] > _LATELY:
        _seen[0] = now, resident()
    return _seen[0][1]


#: When memory was looked at last, and how much was in use.
_seen = [(-math.inf, 0)]


def _memory() -> int:
    """The memory of the machine. The library for all systems is loaded only where the system does not say it itself."""
    if hasattr(os, "sysconf") and {"SC_PAGE_SIZE", "SC_PHYS_PAGES"} <= os.sysconf_names.keys():
        return os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES")
    import psutil  # noqa: PLC0415 - see above

    return int(psutil.virtual_memory().total)


def _used() -> int:
    """The memory that this process uses and shares with no other: from Linux itself, elsewhere through the library."""
    try:
        with open("/proc/self/statm", "rb") as file:  # noqa: PTH123 - a file of the system's
            _, resident, shared, *_ = map(int, file.read().split())
        return (resident - shared) * os.sysconf("SC_PAGE_SIZE")
    except OSError:
        import psutil  # noqa: PLC0415 - see above

        used = psutil.Process().memory_info()
        return int(used.rss - getattr(used, "shared", 0))


@cache
def _at_start() -> int:
    """The memory in use at the first call: a notebook may already hold much that is not ours."""
    return _used()


def _ways(name: str, fix: str) -> str:
    way = f"{name} = {LIMITS[name].example} under [limits] in the model, or --limit-{name}."
    return f"{fix} Or raise the limit: {way}" if fix else f"Raise it: {way}"


def _shown(name: str, number: int) -> str:
    match LIMITS[name].kind:
        case "count":
            return f"{number:,}"
        case "time":
            return counted(number, "second")
        case "size":
            unit = max((each for each in _UNITS["size"].items() if each[1] <= number), key=lambda each: each[1])
            shown = f"{number / unit[1]:,.1f}".removesuffix(".0")
            return f"{shown} {unit[0]}" if unit[1] > 1 else counted(number, "byte")
