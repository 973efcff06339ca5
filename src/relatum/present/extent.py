"""How much of a grid a text shows."""

from __future__ import annotations

from typing import Literal

from msgspec import Struct

TextLayout = Literal["columns", "nested"]


class Extent(Struct, frozen=True):
    """How much of a grid is shown: rows, and notes; None for all. The rest is counted, and ``more`` says how to see it.

    A ``whole`` grid is not cut anywhere, however wide it is. ``layout`` puts row fields in columns of their own, or
    ``nested`` into one, deeper members further in.
    """

    rows: int | None = 200
    notes: int | None = 3
    more: str = "grid.notes"
    whole: bool = False
    layout: TextLayout = "columns"


SCREEN = Extent()
WHOLE = Extent(None, None, whole=True)
