"""What every connection to an engine has in common."""

from __future__ import annotations

import re
import threading
import time
from abc import ABC, abstractmethod
from collections.abc import Callable, Hashable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from msgspec import Struct

from relatum.errors import RelatumError, SourceError, ValueOverflowError
from relatum.runtime.limits import in_force, refuse_above, refuse_memory
from relatum.sources.database.base import gathered, refusal
from relatum.sources.database.drivers import driver
from relatum.sources.database.query import one_select

#: The column that numbers the rows of a sent table, for engines that do not number rows.
ROW = "relatum_row"


#: Gives something to read from as an expression of sqlglot, under an alias.
Source = Callable[[str], Any]


class Relation(Struct, frozen=True, eq=False):
    """Something that an engine reads: a table, a query or files there, or a table sent to it.

    Parameters
    ----------
    shown : str
        What it is called in messages.
    schema : pyarrow.Schema
        Its columns.
    source : callable
        Gives it as an expression of sqlglot to read from, under an alias.
    row : callable, optional
        Gives an expression that tells its rows apart and puts them in order, under an alias; None where the engine has
        none.
    row_is_text : bool
        Whether that expression is a text, not a whole number.
    converted : frozenset of str
        Columns that the engine is to convert, for they have another type there than the schema says.
    remarks : tuple of str
        What a person should know of it.
    """

    shown: str
    schema: Any
    source: Source
    row: Callable[[str], Any] | None = None
    row_is_text: bool = False
    converted: frozenset[str] = frozenset()
    remarks: tuple[str, ...] = ()


#: The state of an engine of which nothing is to be taken for known.
_FORGOTTEN = object()


class Connection(ABC):
    """An open connection to an engine.

    ``kind`` is what the model calls the engine, ``dialect`` what sqlglot calls its SQL, ``shown`` its address as
    messages may show it.
    """

    kind: str
    dialect: str

    def __init__(self, shown: str) -> None:
        self.shown = shown
        self._sqlglot = driver("sqlglot", self.kind)
        self._exp = self._sqlglot.exp
        #: How many questions it was asked, how many rows came back, and how long that took.
        self.questions = 0
        self.rows = 0
        self.seconds = 0.0
        self._sent = 0
        self._counts: dict[int, tuple[Relation, int]] = {}
        #: Questions of several threads take turns: a connection answers one at a time.
        self.turn = threading.RLock()
        self._asked_by: int | None = None
        self.closed = False
        self._seen: Hashable = None
        #: The limits that the model states.
        self.bounds: Mapping[str, int] = {}

    @property
    def opened(self) -> int:
        """How often it has been opened: tables sent before the last opening are gone."""
        return 1

    @abstractmethod
    def answered(self, statement: str) -> Any:
        """The answer to a SELECT as an Arrow table.

        Raises
        ------
        SourceError
            The engine refuses it, or cannot be reached.
        ValueOverflowError
            A value does not fit in 64 bits.
        LimitError
            It takes too long.
        """

    @abstractmethod
    def table(self, part: str) -> Relation:
        """A table or view of the engine.

        Raises
        ------
        SourceError
            There is none, or it may not be read.
        """

    @abstractmethod
    def query(self, text: str, shown: str) -> Relation:
        """A query of the engine: one SELECT."""

    @abstractmethod
    def take(self, name: str, rows: Any) -> Relation:
        """Send rows, an Arrow table, to be a temporary relation of the engine."""

    @abstractmethod
    def close(self) -> None:
        """Release it; sent tables are dropped."""

    def files(self, paths: Sequence[Path], shown: str) -> Relation:
        """Parquet files that the engine reads by itself.

        Raises
        ------
        SourceError
            It does not read files.
        """
        raise SourceError(f"{self.kind} cannot read files.", path=shown)

    def reads_files(self) -> bool:
        """Whether the engine reads Parquet files by itself."""
        return False

    def ask(self, statement: str, kept: Sequence[tuple[str, str]] = ()) -> Any:
        """The answer to a SELECT as an Arrow table, counted.

        ``kept`` are SELECTs that are worked out before, once, each with the name under which those after it and the
        statement read it; nothing of them is left.
        """
        self.questions += 1
        start = time.perf_counter()
        try:
            with self.turn, in_force(self.bounds):
                table = self.answered_after(kept, statement) if kept else self.answered(statement)
        finally:
            self.seconds += time.perf_counter() - start
        self.rows += table.num_rows
        return table

    def answered_after(self, kept: Sequence[tuple[str, str]], statement: str) -> Any:
        """The answer to a SELECT that reads others, which are computed once before. Raises as ``answered`` does."""
        raise AssertionError(
            f"a query says to {self.kind} itself what is worked out once: {[name for name, _ in kept]}"
        )

    @property
    def asked(self) -> bool:
        """Whether a request of this thread is being answered: all its queries see one state, where states exist."""
        return self._asked_by == threading.get_ident()

    @contextmanager
    def request(self) -> Iterator[None]:
        """Answer a request inside the block, for one thread at a time.

        Raises
        ------
        SourceError
            The connection is closed.
        """
        if self.closed:
            raise SourceError("The model is closed.", path=self.shown, fix="Open it again.")
        with self.turn:
            self._asked_by = threading.get_ident()
            try:
                yield
            finally:
                self._asked_by = None

    def state(self) -> Hashable:
        """What distinguishes one state of its tables from another, as far as known; None if nothing does."""
        return None

    def has_changed(self) -> bool:
        """Whether its tables may be others than when this was last asked, or forgotten; then all is found out again."""
        state = self.state()
        changed, self._seen = state != self._seen, state
        if changed:
            self.renew()
        return changed

    def forget(self) -> None:
        """Take the tables for others the next time."""
        self._seen = _FORGOTTEN

    def renew(self) -> None:
        """Have what it keeps of tables itself found out again."""
        self._counts.clear()

    def count(self, relation: Relation) -> int:
        """How many rows a relation has; asked once."""
        if id(relation) not in self._counts:
            exp = self._exp
            select = exp.Select(expressions=[exp.Count(this=exp.Star())])
            select.set("from_", exp.From(this=relation.source("t")))
            table = self.ask(select.sql(dialect=self.dialect))
            self._counts[id(relation)] = relation, int(table.column(0)[0].as_py())
        return self._counts[id(relation)][1]

    # -- what the SQL of every engine shares ---------------------------------------------------------------------------

    def _named(self, *names: str) -> Source:
        """A table by its name, after those of what it is in."""
        return self._under_alias(self._table(*names))

    def _table(self, *names: str) -> Any:
        words = [self._exp.Identifier(this=name, quoted=True) for name in names]
        db, catalog = (words[-at] if len(words) >= at else None for at in (2, 3))
        return self._exp.Table(this=words[-1], db=db, catalog=catalog)

    def _selected(self, text: str, shown: str) -> Source:
        """A query as something to read from.

        Raises
        ------
        SourceError
            It is not one SELECT.
        """
        return self._under_alias(self._exp.Subquery(this=one_select(text, self.dialect, shown)))

    def _under_alias(self, source: Any) -> Source:
        def made(alias: str) -> Any:
            found = source.copy()
            found.set("alias", self._exp.TableAlias(this=self._exp.Identifier(this=alias, quoted=True)))
            return found

        return made

    def _column(self, alias: str, name: str) -> Any:
        """A column that an engine or we ourselves have named: one word."""
        table = self._exp.Identifier(this=alias, quoted=True)
        return self._exp.Column(this=self._exp.Identifier(this=name, quoted=False), table=table)

    def _no_rows_of(self, source: Source) -> str:
        """The SELECT of something's columns, without rows."""
        select = self._exp.Select(expressions=[self._exp.Star()])
        select.set("from_", self._exp.From(this=source("t")))
        select.set("limit", self._exp.Limit(expression=self._exp.Literal.number(0)))
        text: str = select.sql(dialect=self.dialect)
        return text

    def _gathered(self, schema: Any, batches: Iterable[Any]) -> Any:
        """The batches of an answer as one table, refused as soon as they are too many."""
        return gathered(schema, batches, self.shown)

    def _failure(self, error: Exception, too_large: Sequence[str], said: str = "") -> RelatumError:
        """What an engine's refusal is: a value too large, by the words that it says so in, or what it ``said``."""
        if any(word in str(error) for word in too_large):
            return ValueOverflowError.of_result()
        return refusal(Exception(said) if said else error, self.shown)

    def send(self, name: str, rows: Any) -> Relation:
        """Send a small relation.

        Raises
        ------
        LimitError
            It has too many rows to be sent.
        """
        refuse_above(
            "sent",
            rows.num_rows,
            f"{name} is not on the engine, and {rows.num_rows:,} rows would have to be sent there",
            "Put the table on the engine, or raise the limit.",
        )
        refuse_memory(rows.nbytes, name)
        self._sent += 1
        word = re.sub("[^a-z0-9]+", "_", name.lower()).strip("_")[:30]
        return self.take(f"sent_{self._sent}_{word}", rows)
