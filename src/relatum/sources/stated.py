"""What a model states about how a source is read."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct, field
from msgspec.structs import replace

from relatum.data.types import Type


class Stated(Struct, frozen=True):
    """How a source is read where a model says so.

    Parameters
    ----------
    types : mapping of str to Type
        Columns, by their headings, to be read as another type than the one found.
    null : tuple of str
        The texts that mean null in every column.
    nulls : mapping of str to tuple of str
        Those that mean null in one column besides.
    zone : str
        The time zone on whose clocks moments that know their zone are read.
    footer : int
        The number of lines at the end of a text file that are not rows.
    numbered : bool
        Equal headings get a number.
    member : str
        The file in an archive of several that is read.
    """

    types: Mapping[str, Type] = field(default_factory=dict)
    null: tuple[str, ...] = ()
    nulls: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    zone: str = "UTC"
    footer: int = 0
    numbered: bool = False
    member: str = ""

    def markers(self, column: str) -> tuple[str, ...]:
        """The texts that mean null in a column."""
        return (*self.null, *self.nulls.get(column, ()))

    def typed(self, types: Mapping[str, Type]) -> Stated:
        """The same with other types."""
        return replace(self, types=types)


PLAIN = Stated()
