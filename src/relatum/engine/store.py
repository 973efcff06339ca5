"""The tables of a model as an engine has them, and what has been found out about them once."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Hashable, Iterable, Mapping
from copy import copy
from threading import Lock
from typing import Any, Protocol, Self, TypeVar

import numpy as np
from msgspec import Struct, field

from relatum.data.columns import Array, Column, Members, members_of
from relatum.data.groups import distinct
from relatum.data.joins import JoinIndex
from relatum.data.table import TableData
from relatum.language.expression import MemberOrder
from relatum.model.names import ColumnKey
from relatum.model.routes import Hop, Place, Route, joined_by
from relatum.plan.nodes import Derivation
from relatum.plan.reads import reads_of

T = TypeVar("T")


class Sized(Protocol):
    """What says how many bytes it takes."""

    @property
    def nbytes(self) -> int:
        """How many bytes it takes."""
        ...


S = TypeVar("S", bound=Sized)
#: Computes a derived column from a store, of any kind, that has all that it reads.
WorkOut = Callable[[Any, Derivation], Column]
#: The most bytes that recent intermediate results may take: masks, and columns with their virtual row.
_LATELY_BYTES = 256 << 20
#: What an entry takes beside what it holds: its key and stamps.
_ENTRY_BYTES = 2_000


class Attribute(Struct, frozen=True, eq=False):
    """For each member of a column the code of another one's; ``unique`` where all rows of a member have the same."""

    codes: Array
    unique: bool


class JoinKeeper(Protocol):
    """Keeps join indexes by the columns that they were made of."""

    def join(self, key: str, rows: int, make: Callable[[], JoinIndex]) -> JoinIndex:
        """One made before from the same columns, or made now and kept."""
        ...


class Tables(Struct, frozen=True, eq=False):
    """The data of a model's tables; that of a role is the data of the table it is a role of.

    ``rows_of`` names for each table the one that holds its rows, ``date_columns`` the column of each calendar's dates,
    ``keys`` what each table states as its key.
    """

    data: Mapping[str, TableData]
    rows_of: Mapping[str, str]
    date_columns: Mapping[str, str]
    keys: Mapping[str, tuple[str, ...]] = field(default_factory=dict)


class Work:
    """What was computed once, each with the *stamps* of what it was made of.

    A stamp stands for content: the data of a table, or a derived column as it is resolved. What a former store computed
    is taken over where it has the same stamps, and nothing else is.
    """

    def __init__(self, former: Store | None) -> None:
        self.former = former
        self.entries: dict[Hashable, tuple[tuple[object, ...], object]] = {}
        self._lately: dict[Hashable, int] = {}
        self._lately_bytes = 0
        self._lock = Lock()

    def keep(self, key: Hashable, stamps: tuple[object, ...], make: Callable[[], T]) -> T:
        """What was made before of the same things, or is made now."""
        found = self.entries.get(key)
        if found is None:
            found = self._former_entry(key, stamps) or (stamps, make())
            self.entries[key] = found
        value: T = found[1]  # type: ignore[assignment]
        return value

    def keep_lately(self, key: Hashable, stamps: tuple[object, ...], make: Callable[[], S]) -> S:
        """As :meth:`keep`, for what each question makes more of: what was not asked for longest is let go of."""
        value = self.keep(key, stamps, make)
        with self._lock:
            size = value.nbytes + _ENTRY_BYTES
            self._lately_bytes += size - self._lately.pop(key, 0)
            self._lately[key] = size
            while len(self._lately) > 1 and self._lately_bytes > _LATELY_BYTES:
                oldest = next(iter(self._lately))
                self._lately_bytes -= self._lately.pop(oldest)
                self.entries.pop(oldest, None)
        return value

    def _former_entry(self, key: Hashable, stamps: tuple[object, ...]) -> tuple[tuple[object, ...], object] | None:
        entry = None if self.former is None else self.former.work.entries.get(key)
        same = entry is not None and len(entry[0]) == len(stamps)
        if entry is None or not same or any(one is not other for one, other in zip(entry[0], stamps, strict=True)):
            return None
        return entry

    def known(self, key: Hashable) -> object | None:
        """What was made, if it was."""
        found = self.entries.get(key)
        return None if found is None else found[1]

    def settle(self, stamps: Iterable[object]) -> None:
        """Take over everything the former store computed that is still valid, and release that store."""
        if self.former is not None:
            current = {id(each) for each in stamps}
            for key, entry in list(self.former.work.entries.items()):
                if all(id(stamp) in current for stamp in entry[0]):
                    self.entries.setdefault(key, entry)
            with self.former.work._lock:  # it is still asked, which lets go of some
                lately = dict(self.former.work._lately)
            kept = {key: size for key, size in lately.items() if key in self.entries}
            self._lately = {**kept, **self._lately}
            self._lately_bytes = sum(self._lately.values())
            self.former = None


class RequestWork(Work):
    """What one request computes: it keeps results about its own columns; the model keeps the rest."""

    def __init__(self, shared: Work) -> None:
        super().__init__(None)
        self.shared = shared
        self.own: set[int] = set()

    def keep(self, key: Hashable, stamps: tuple[object, ...], make: Callable[[], T]) -> T:
        """What was made before of the same things, or is made now."""
        if any(id(stamp) in self.own for stamp in stamps):
            return super().keep(key, stamps, make)
        return self.shared.keep(key, stamps, make)

    def keep_lately(self, key: Hashable, stamps: tuple[object, ...], make: Callable[[], S]) -> S:
        """As :meth:`keep`, for what each question makes more of."""
        if any(id(stamp) in self.own for stamp in stamps):
            return super().keep(key, stamps, make)
        return self.shared.keep_lately(key, stamps, make)

    def known(self, key: Hashable) -> object | None:
        """What was made, if it was."""
        found = super().known(key)
        return self.shared.known(key) if found is None else found  # a column without rows is false, and there


class Store(ABC):
    """Tables and derived columns, and everything found out about them once; wherever the rows are.

    Parameters
    ----------
    tables : Tables
        The data.
    work_out : callable
        Computes a derived column from a store that has all that it reads.
    joins : JoinKeeper, optional
        Keeps join indexes from one run to the next.
    former : Store, optional
        One whose work may be taken over.
    """

    def __init__(
        self,
        tables: Tables,
        work_out: WorkOut,
        joins: JoinKeeper | None = None,
        former: Store | None = None,
    ) -> None:
        self.tables = tables
        self.joins = joins
        self.work = Work(former)
        self.derivations: Mapping[ColumnKey, Derivation] = {}
        self._work_out = work_out
        self._stamps: Mapping[ColumnKey, object] = {}

    def with_tables(self, tables: Tables) -> Self:
        """A store over more tables; results are shared."""
        other = copy(self)
        other.tables = tables
        return other

    def with_derivation(self, derivation: Derivation) -> Self:
        """A store with one more derived column, after all that it reads; results are shared."""
        key = (derivation.table, derivation.column)
        other = copy(self)
        other.derivations = {**self.derivations, key: derivation}
        other._stamps = {**self._stamps, key: self._stamp_of(derivation)}
        if isinstance(self.work, RequestWork):
            self.work.own.add(id(other._stamps[key]))
        return other

    def for_request(self) -> Self:
        """A store for derived columns that one request alone has; what does not need them is shared."""
        other = copy(self)
        other.work = RequestWork(self.work)
        return other

    def settled(self) -> Self:
        """This store, once it is whole."""
        self.work.settle([*self.tables.data.values(), *self._stamps.values()])
        return self

    def _stamp_of(self, derivation: Derivation) -> object:
        """The stamp of a derived column: the former one's if it is the same formula over the same data."""
        key = (derivation.table, derivation.column)
        former = self.work.former
        if former is None or former.derivations.get(key) != derivation:
            return object()
        reads = reads_of(derivation)
        same = all(former.has(*each) and former.stamp(*each) is self.stamp(*each) for each in reads.columns) and all(
            former.tables.data.get(name) is self.tables.data[name] for name in reads.tables
        )
        return former._stamps[key] if same else object()

    def has(self, table: str, name: str) -> bool:
        """Whether there is such a column."""
        return table in self.tables.data and (
            name in self.tables.data[table].types or (self.tables.rows_of[table], name) in self.derivations
        )

    def stamp(self, table: str, name: str) -> object:
        """The stamp of a column's content: the same object as long as the content is the same."""
        data = self.tables.data[table]
        return data if name in data.types else self._stamps[self.tables.rows_of[table], name]

    def _hop_stamps(self, hop: Hop) -> tuple[object, ...]:
        stamps = [self.tables.data[place.table] for place in (hop.source, hop.target)]
        return (*stamps, *(self.stamp(*each) for each in joined_by((hop,))))

    def route_stamps(self, route: Route) -> tuple[object, ...]:
        """The stamp of everything that a route joins by."""
        return tuple(stamp for hop in route for stamp in self._hop_stamps(hop))

    def _level_stamps(self, place: Place) -> tuple[object, ...]:
        return tuple(self.stamp(place.table, name) for name in place.level)

    @classmethod
    def beside(cls, other: Store) -> Self:
        """A store over the same tables as another one; what either works out, both have."""
        made = cls(other.tables, other._work_out, other.joins)
        made.work, made.derivations, made._stamps = other.work, other.derivations, other._stamps
        return made

    def rows_of(self, table: str) -> str:
        """The table whose rows a table has."""
        return self.tables.rows_of.get(table, table)

    # -- what is asked of it ------------------------------------------------------------------------------------------

    def date_column(self, table: str) -> str:
        """The column that holds a calendar's dates."""
        return self.tables.date_columns[table]

    def order(self, table: str, name: str, order: MemberOrder) -> Array:
        """The place of each member of a column, in its own order if it has one; null and no match last."""
        owner = self.tables.rows_of[table]
        stamps = (self.stamp(owner, name), *([self.stamp(owner, order.by)] if order.by else []))
        return self.work.keep(("order", owner, name, order), stamps, lambda: self._order(owner, name, order))

    def is_period(self, table: str, name: str) -> bool:
        """Whether a calendar's column follows from the month, or cuts the dates into unbroken runs."""
        owner = self.tables.rows_of[table]

        def make() -> bool:
            days = self.column(owner, self.date_column(owner)).values.astype(np.int64)
            order = np.argsort(days)
            codes = members_of(self.column(owner, name)).codes[order].astype(np.int64)
            months = days[order].astype("datetime64[D]").astype("datetime64[M]").astype(np.int64)
            breaks = codes[1:] != codes[:-1]
            follows = not bool(np.any(breaks & (months[1:] == months[:-1])))
            return follows or int(breaks.sum()) + 1 == len(distinct(codes))

        stamps = (self.stamp(owner, self.date_column(owner)), self.stamp(owner, name))
        return self.work.keep(("period", owner, name), stamps, make)

    @abstractmethod
    def rows(self, place: Place) -> int:
        """How many rows a table or level has."""

    @abstractmethod
    def column(self, table: str, name: str) -> Column:
        """A column of a table, derived ones included."""

    @abstractmethod
    def members(self, table: str, name: str) -> Members:
        """The members of a column."""

    @abstractmethod
    def _order(self, owner: str, name: str, order: MemberOrder) -> Array:
        """The place of each member of a column."""

    @abstractmethod
    def attribute(self, table: str, name: str, route: Route, other: str, other_name: str) -> Attribute:
        """For each member of a column the member of another one that its first row has or looks up."""

    @abstractmethod
    def unique(self, table: str, name: str) -> bool:
        """Whether a column has another value on each row, and null on none."""

    @abstractmethod
    def determines(self, place: Place, name: str) -> bool:
        """Whether every row of a level's member has the same value in another column of the table."""

    @abstractmethod
    def index(self, hop: Hop) -> JoinIndex:
        """What rows find along one hop: at least how many find nothing."""

    @abstractmethod
    def verify(self, hop: Hop) -> None:
        """Check a relationship on the data: that its ends can match, and that its one side is unique.

        Raises
        ------
        DataError
            They cannot, or it is not.
        """

    @abstractmethod
    def latest(self, calendar: str, route: Route) -> int | None:
        """The last date, in days since 1970, that any row at the start of a route to a calendar finds."""

    @abstractmethod
    def last_day(self, table: str, name: str) -> int | None:
        """The last day, counted from 1970, of a column of dates or timestamps; None where it has no value."""
