"""How often a process of the command looks for garbage: seldom while it starts, since what it loads stays."""

from __future__ import annotations

import gc

_USUAL = gc.get_threshold()
_SELDOM = (500_000, 20, 20)


def look_seldom() -> None:
    """Look for garbage seldom from here on: looking through all that a command loads, again and again, finds none."""
    gc.set_threshold(*_SELDOM)


def look_as_usual() -> None:
    """Look for garbage as usual again, past all that is there now: for a process that goes on, or holds others' things.

    Python lets go of what refers to itself in a circle only then: the tables of a grid, the objects of another process.
    Nothing changes where :func:`look_seldom` was not called.
    """
    if gc.get_threshold() == _SELDOM:
        gc.freeze()
        gc.set_threshold(*_USUAL)
