"""A table's data: its columns, fetched when they are first asked for."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

from relatum.data.columns import Column
from relatum.data.types import TEXT, Type
from relatum.runtime.limits import refuse_full
from relatum.runtime.progress import report_step


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
    remarks : sequence of str, optional
        What the reader of the source decided that a person should know: rows or columns left out.
    texts : callable, optional
        Reads the texts of a column as :meth:`texts` hands them out.
    """

    def __init__(
        self,
        types: Mapping[str, Type],
        rows: int | Callable[[], int],
        fetch: Callable[[str], Column],
        left_out: Mapping[str, str] | None = None,
        orders: Mapping[str, Sequence[str]] | None = None,
        remarks: Sequence[str] = (),
        texts: Callable[[str], Column | None] | None = None,
    ) -> None:
        self.types = dict(types)
        self._rows = rows
        self.left_out = dict(left_out or {})
        self.orders = dict(orders or {})
        self.remarks = tuple(remarks)
        #: A name for the content, the same for the same rows; empty where nothing tells it.
        self.identity = ""
        #: The files that the rows were read from, as they were.
        self.files: tuple[Any, ...] = ()
        #: Whether each column is read by itself, so that several can be read side by side.
        self.by_column = False
        #: The plan that works the rows out, where one does.
        self.made_by: object = None
        self._fetch = fetch
        self._fetch_texts = texts
        self._columns: dict[str, Column] = {}
        self._texts: dict[str, Column | None] = {}

    @property
    def rows(self) -> int:
        """How many rows there are."""
        return self._rows if isinstance(self._rows, int) else self._rows()

    def column(self, name: str) -> Column:
        """The values of a column; read at the first call, kept for the next."""
        if name not in self._columns:
            report_step(f"reading {name}")
            self._columns[name] = self._fetch(name)
            self._texts.pop(name, None)
            refuse_full()
        return self._columns[name]

    def texts(self, name: str) -> Column | None:
        """The texts of a column as its source has them, for functions that look at each by itself.

        They are in no order, and may repeat. Sorting is the longest part of reading a column of comments.

        Returns
        -------
        Column or None
            As long as the table; None where :meth:`column` is at hand, or is found as soon.
        """
        if self._fetch_texts is None or name in self._columns or self.types[name] != TEXT:
            return None
        if name not in self._texts:
            report_step(f"reading {name}")
            self._texts[name] = self._fetch_texts(name)
            refuse_full()
        return self._texts[name]

    def renamed(self, headings: Mapping[str, str]) -> TableData:
        """The same rows with other column names; ``headings`` gives the name here of each new name."""
        names = {old: new for new, old in headings.items()}
        renamed = {names.get(old, old): old for old in self.types}
        return TableData(
            {new: self.types[old] for new, old in renamed.items()},
            self._rows,
            lambda name: self.column(renamed[name]),
            {names.get(old, old): reason for old, reason in self.left_out.items()},
            {names.get(old, old): order for old, order in self.orders.items()},
            self.remarks,
            lambda name: self.texts(renamed[name]),
        )

    def with_types(self, types: Mapping[str, Type], convert: Callable[[str, Column], Column]) -> TableData:
        """The same rows with some columns converted to the types given, when they are first asked for."""
        return self.fetched_by(
            lambda name: convert(name, self.column(name)) if name in types else self.column(name),
            {**self.types, **types},
            lambda name: None if name in types else self.texts(name),
        )

    def fetched_by(
        self,
        fetch: Callable[[str], Column],
        types: Mapping[str, Type] | None = None,
        texts: Callable[[str], Column | None] | None = None,
    ) -> TableData:
        """The same rows, their columns and texts read by other functions; with its ``types`` where they change them."""
        return TableData(types or self.types, self._rows, fetch, self.left_out, self.orders, self.remarks, texts)

    def identified(self, identity: str, files: tuple[Any, ...]) -> TableData:
        """This table, with a name for its content and the files that it was read from."""
        self.identity, self.files = identity, files
        return self

    def loaded(self) -> Mapping[str, Column]:
        """The columns in memory now."""
        return self._columns
