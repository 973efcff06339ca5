"""A table's data: its columns, fetched when they are first asked for."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

from relatum.data.columns import Column
from relatum.data.types import Type


class TableData:
    """Rows and typed columns from wherever they come.

    Parameters
    ----------
    types : mapping of str to Type
        The columns, in order.
    rows : int or callable
        How many rows there are, or a function that finds out.
    fetch : callable
        Reads one column.
    left_out : mapping of str to str, optional
        Columns that are there but cannot be read, with the reason.
    orders : mapping of str to sequence of str, optional
        Text columns whose members have an order of their own, such as weekdays.
    """

    def __init__(
        self,
        types: Mapping[str, Type],
        rows: int | Callable[[], int],
        fetch: Callable[[str], Column],
        left_out: Mapping[str, str] | None = None,
        orders: Mapping[str, Sequence[str]] | None = None,
    ) -> None:
        self.types = dict(types)
        self._rows = rows
        self.left_out = dict(left_out or {})
        self.orders = dict(orders or {})
        self._fetch = fetch
        self._columns: dict[str, Column] = {}

    @property
    def rows(self) -> int:
        """How many rows there are."""
        return self._rows if isinstance(self._rows, int) else self._rows()

    def column(self, name: str) -> Column:
        """The values of a column; read at the first call, kept for the next."""
        if name not in self._columns:
            self._columns[name] = self._fetch(name)
        return self._columns[name]

    def loaded(self) -> Mapping[str, Column]:
        """The columns in memory now."""
        return self._columns
