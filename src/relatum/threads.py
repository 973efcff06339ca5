"""The threads in which files and columns are read and rows are gone through: as many as there are cores."""

from __future__ import annotations

import os
from concurrent.futures import ThreadPoolExecutor
from functools import cache


def cores() -> int:
    """How many things can be done at once."""
    return os.cpu_count() or 1


@cache
def pool() -> ThreadPoolExecutor:
    """The threads, which are kept."""
    return ThreadPoolExecutor(max_workers=cores(), thread_name_prefix="relatum")


if hasattr(os, "register_at_fork"):
    # A process that was forked has none of its parent's threads: it would wait for them for ever.
    os.register_at_fork(after_in_child=pool.cache_clear)
