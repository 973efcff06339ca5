"""Building and changing a model: every edit is checked at once, and a refused one leaves the model as it was."""

from __future__ import annotations

import dataclasses
import functools
import os
import threading
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from datetime import date
from typing import TYPE_CHECKING, Concatenate, ParamSpec, TypeVar

from relatum.data.table import TableData
from relatum.errors import ModelError, RelatumError
from relatum.model.declaration import (
    ColumnSettings,
    Control,
    Declaration,
    Derived,
    Hierarchy,
    Measure,
    Table,
    frozen,
    refuse_choice,
)
from relatum.model.file import calendar_range, check_role, relationship
from relatum.model.names import column_name, quoted
from relatum.present.numbers import check_pattern
from relatum.session.reading import Whereabouts, load_tables
from relatum.session.session import Session
from relatum.wording import listed

if TYPE_CHECKING:
    from relatum.change.impact import Dependant, Impact


Arguments = ParamSpec("Arguments")
Outcome = TypeVar("Outcome")


def _in_turn(
    edit: Callable[Concatenate[Editable, Arguments], Outcome],
) -> Callable[Concatenate[Editable, Arguments], Outcome]:
    """An edit that waits for those of other threads: it begins with what they left."""

    @functools.wraps(edit)
    def waiting(model: Editable, /, *arguments: Arguments.args, **named: Arguments.kwargs) -> Outcome:
        with model._turn:
            return edit(model, *arguments, **named)

    return waiting


@dataclasses.dataclass
class _Batch:
    """Edits that are carried out together: what they have come to so far, and the thread whose edits they are."""

    thread: int
    declaration: Declaration
    whereabouts: Whereabouts
    sources: Mapping[str, TableData]
    session: Session | None = None


class Editable:
    """What can be added to a model, changed and removed.

    Edits of several threads take turns. Questions go on meanwhile, each over the state it began with.
    """

    def __init__(self, session: Session, whereabouts: Whereabouts) -> None:
        self._session = session
        self._whereabouts = whereabouts
        self._turn = threading.RLock()
        self._batch: _Batch | None = None

    @property
    def declaration(self) -> Declaration:
        """Everything that is stated about the model, as immutable records."""
        batch = self._batch
        if batch is not None and batch.thread == threading.get_ident():
            return batch.declaration
        return self._session.declaration

    @contextmanager
    def edits(self) -> Iterator[None]:
        """Carry out several edits as one: checked once, at the end, and all of them or none.

        What is asked inside is still answered from the state before. Renaming and removing look at what depends on a
        thing, and so check what came before them.

        Raises
        ------
        RelatumError
            The model that the edits come to does not hold together; it stays as it was.

        Examples
        --------
        >>> import pyarrow as pa, relatum
        >>> model = relatum.Model("stall")
        >>> with model.edits():
        ...     model.add_table("sales", pa.table({"quantity": [2, 3]}))
        ...     model.measure("double", "2 * quantity")
        ...     model.measure("quantity", "sum(sales.quantity)")
        >>> model.evaluate("double")
        10
        """
        with self._turn:
            if self._batch is not None:
                raise ModelError("Edits are being carried out together already.", fix="Leave out the inner edits().")
            batch = _Batch(threading.get_ident(), self.declaration, self._whereabouts, self._session.sources)
            self._batch = batch
            try:
                yield
                session = self._checked(batch.declaration, batch.whereabouts, batch.sources)
                self._session, self._whereabouts = session, batch.whereabouts
            finally:
                self._batch = None

    def _known(self) -> Session:
        """The session that says what depends on what: of edits carried out together, as far as they have come."""
        batch = self._batch
        if batch is None:
            return self._session
        if batch.session is None:
            batch.session = self._checked(batch.declaration, batch.whereabouts, batch.sources)
        return batch.session

    @property
    def session(self) -> Session:
        """The declaration with its data: for tools that look inside."""
        return self._session

    # -- building -----------------------------------------------------------------------------------------------------

    @_in_turn
    def add_table(
        self,
        name: str,
        source: object,
        *,
        key: str | Sequence[str] = (),
        columns: Mapping[str, Mapping[str, str]] | None = None,
        about: str = "",
        calendar: bool = False,
        part: str = "",
        query: str = "",
        replace: bool = False,
    ) -> None:
        """Add a table.

        Parameters
        ----------
        name : str
            What formulas call it.
        source : path or frame
            A CSV, JSON lines, Parquet or Arrow IPC file, a workbook, a folder or pattern of files of one shape, a
            database (``postgresql://host/name``, or an SQLite or DuckDB file), or any object with
            ``__arrow_c_stream__`` (pandas, Polars, DuckDB, Arrow).
        key : str or list of str, optional
            The columns that make a row unique.
        columns : mapping of str to mapping, optional
            Settings of columns: ``type`` (``integer``, ``decimal(2)``, ``float``, ``text``, ``boolean``, ``date``,
            ``timestamp``), ``label``, ``order_by`` (the column that its members are sorted by), ``about``.
        about : str, optional
            What a row is.
        calendar : bool
            The table is a calendar: its key is a date, and formulas can move along it.
        part : str, optional
            The sheet or named table of a workbook, or the table of a database.
        query : str, optional
            What to ask the database instead.
        replace : bool
            Take the place of the table of this name, whose derived columns stay.

        Raises
        ------
        SourceError
            The data cannot be read.
        ModelError
            The name is taken, or a column named is not there.
        """
        settings = {column: _settings(name, column, given) for column, given in (columns or {}).items()}
        is_path = isinstance(source, str | os.PathLike)
        table = Table(
            name,
            source=os.fspath(source) if isinstance(source, str | os.PathLike) else "",
            frame=not is_path,
            key=(key,) if isinstance(key, str) else tuple(key),
            about=about,
            columns=frozen(settings),
            dated=calendar,
            part=part,
            query=query,
        )
        former = self.declaration.tables.get(name)
        if former is not None:
            table = dataclasses.replace(table, derived=former.derived)
        where = self._where()
        frames = {**where.frames, **({} if is_path else {name: source})}
        self._put_table(table, replace, dataclasses.replace(where, frames=frames))

    @_in_turn
    def add_calendar(
        self,
        name: str,
        first: date,
        last: date,
        *,
        fiscal_year_starts: int = 1,
        week_starts: str = "monday",
        through: str | date = "",
        replace: bool = False,
    ) -> None:
        """Add a generated calendar: a row for each date, with its year, quarter, month, week and weekday.

        Parameters
        ----------
        name : str
            What formulas call it.
        first, last : date
            The range, both ends included.
        fiscal_year_starts : int
            The month in which the fiscal year starts, 1 to 12.
        week_starts : str
            The day on which weeks start, as ``monday``.
        through : str or date, optional
            Where the data ends, for calendar changes: a date column, as ``sales.sold_on``, or a date. Unless given, the
            last date of the table that is asked.
        replace : bool
            Take the place of the table of this name.

        Raises
        ------
        ModelError
            The name is taken, or a setting is out of range.
        """
        span = calendar_range(first, last, fiscal_year_starts, week_starts, through)
        table = Table(name, calendar=span, key=("date",))
        self._put_table(table, replace)

    @_in_turn
    def add_role(self, name: str, role_of: str, *, replace: bool = False) -> None:
        """Add the rows of a table under another name, with relationships of its own.

        With ``replace`` it takes the place of the table of its name.

        Raises
        ------
        ModelError
            The name is taken, or ``role_of`` is not a table.
        """
        table = Table(name, role_of=role_of)
        check_role(self.declaration, table)
        self._put_table(table, replace)

    @_in_turn
    def add_derived_table(
        self,
        name: str,
        per: str | Sequence[str],
        columns: Mapping[str, str],
        *,
        about: str = "",
        replace: bool = False,
    ) -> None:
        """Add a table worked out from the model: one row per member of a grain, with formulas.

        Parameters
        ----------
        name : str
            What formulas call it.
        per : str or list of str
            The grain's columns, as ``category.category``; they keep their column names.
        columns : mapping of str to str
            Formulas by name. Rows in which every one is null are left out.
        about : str, optional
            What a row is.
        replace : bool
            Take the place of the table of this name.

        Raises
        ------
        ModelError, FormulaError
            The name is taken, a column is not there, or a formula cannot be understood.
        """
        grain = (per,) if isinstance(per, str) else tuple(per)
        if not grain or not columns:
            raise ModelError(f"The derived table {name} has no {'formulas' if grain else 'grain'}.")
        table = Table(name, per=grain, about=about, formulas=frozen(columns))
        self._put_table(table, replace)

    @_in_turn
    def relate(
        self,
        link: str,
        *,
        direction: str = "",
        match: str = "equal",
        level: bool = False,
        standby: bool = False,
        replace: bool = False,
    ) -> None:
        """Relate the rows of two tables.

        Parameters
        ----------
        link : str
            The many side, ``->``, the one side: ``sales.product_id -> product.product_id``; several columns as
            ``budget.(region, month) -> region_month.(region, month)``. One to one is ``<->``, many to many ``>-<``.
        direction : str
            ``down`` (unless given): filters travel from the one side to the many side. ``both``: back as well.
            ``off``: the relationship only answers lookups. Many to many: ``left``, ``right`` or ``both``, where filters
            travel to.
        match : str
            ``equal``, or ``as_of``: the last column finds the latest value that is not after it.
        level : bool
            The one side's columns are a level of that table, not its key: months of a calendar, say.
        standby : bool
            The relationship is used only where a formula says ``via``.
        replace : bool
            Take the place of the relationship between the same columns.

        Raises
        ------
        ModelError
            A name is not there, or the relationship opens a second route between two tables.
        DataError
            The one side is not unique, or the two ends can never match.
        """
        related = relationship(link, direction, match, level, standby)
        declaration = self.declaration.with_relationship(related, replacing=replace)
        self._change(declaration, replaced=str(related) if replace else "")

    @_in_turn
    def derive(self, table: str, name: str, formula: str, *, about: str = "", replace: bool = False) -> None:
        """Add a column worked out for each row of a table, from its own columns and those it looks up.

        With ``replace`` it takes the place of the derived column of its name.

        Raises
        ------
        ModelError, FormulaError
            The name is taken, or the formula cannot be understood.
        """
        declaration = self.declaration.with_derived(table, Derived(name, formula, about), replacing=replace)
        self._change(declaration, replaced=column_name(table, name) if replace else "")

    @_in_turn
    def measure(
        self,
        name: str,
        formula: str,
        *,
        format: str = "",
        about: str = "",
        unrelated: str = "blank",
        replace: bool = False,
    ) -> None:
        """Add a measure.

        Parameters
        ----------
        name : str
            What formulas call it.
        formula : str
            Aggregates, arithmetic on them, and other measures.
        format : str, optional
            A number pattern of Unicode CLDR: ``#,##0.00``, ``0.0%``, ``¤#,##0``.
        about : str, optional
            What it means.
        unrelated : str
            What it is by a column that nothing relates it to: ``blank``, or ``repeat`` for the same value throughout.
        replace : bool
            Take the place of the measure of this name.

        Raises
        ------
        ModelError, FormulaError
            The name is taken, the format is none, or the formula cannot be understood.
        """
        refuse_choice(unrelated, ("blank", "repeat"), "unrelated")
        if format:
            check_pattern(format, name)
        measure = Measure(name, formula, format, about, unrelated)
        declaration = self.declaration.with_measure(measure, replacing=replace)
        self._change(declaration, replaced=quoted(name) if replace else "")

    @_in_turn
    def hierarchy(self, name: str, levels: Sequence[str], *, about: str = "", replace: bool = False) -> None:
        """Add a hierarchy: columns from coarse to fine. On an axis, its name stands for all of them.

        Parameters
        ----------
        name : str
            What requests call it.
        levels : list of str
            Two columns or more, ``table.column`` each.
        about : str, optional
            What it is for.
        replace : bool
            Take the place of the hierarchy of this name.

        Raises
        ------
        ModelError
            The name is taken, or a level is no column.
        """
        self._change(self.declaration.with_hierarchy(Hierarchy(name, tuple(levels), about), replacing=replace))

    @_in_turn
    def control(
        self,
        measure: str,
        equals: object,
        *,
        at: Mapping[str, object] | None = None,
        tolerance: float = 0,
        replace: bool = False,
    ) -> None:
        """Add a control total: the value that a measure must have where columns have the values ``at``.

        With ``replace`` it takes the place of the control of the same measure and context.

        Raises
        ------
        ModelError
            The measure is not there.
        """
        control = Control(measure, frozen(at or {}), equals, tolerance)
        self._change(self.declaration.with_control(control, replacing=replace))

    # -- changing -----------------------------------------------------------------------------------------------------

    @_in_turn
    def rename(self, name: str, new: str) -> None:
        """Give a table, column, measure or hierarchy another name; everything that names it follows.

        Parameters
        ----------
        name : str
            ``sales``, ``sales.quantity``, ``revenue``. A column of a source keeps its heading there.
        new : str
            The new name, without the table's.

        Raises
        ------
        ModelError
            There is nothing of that name, the new one is taken, or a formula would come to mean something else.
        """
        from relatum.change.edits import renamed
        from relatum.change.impact import Dependencies

        declaration = renamed(Dependencies(self._known()), name, new)
        known, whereabouts = self._known(), self._where()
        order = dict(zip(self.declaration.tables, declaration.tables, strict=True))
        frames = {order[table]: frame for table, frame in whereabouts.frames.items()}
        data = {order[table]: data for table, data in known.sources.items()}
        followed = _followed(known, declaration, data)
        self._change(declaration, dataclasses.replace(whereabouts, frames=frames), followed)

    @_in_turn
    def remove(self, name: str, *, force: bool = False) -> tuple[Dependant, ...]:
        """Remove a table, derived column, relationship, measure, hierarchy or control.

        Parameters
        ----------
        name : str
            ``sales``, ``product.pot_class``, ``sales.product_id -> product.product_id``, ``revenue``, ``control 1``.
        force : bool
            Remove everything that needs it too.

        Returns
        -------
        tuple of Dependant
            What was removed with it.

        Raises
        ------
        ModelError
            There is nothing of that name, or others need it and ``force`` is not said: they are named.
        """
        from relatum.change.edits import removed
        from relatum.change.impact import Dependencies

        declaration, gone = removed(Dependencies(self._known()), name, force)
        self._change(declaration)
        return gone

    def impact(self, name: str) -> Impact:
        """What breaks without a table, column, relationship or measure, and what would be filtered no longer.

        Raises
        ------
        ModelError
            There is nothing of that name.
        """
        from relatum.change.impact import Dependencies

        return Dependencies(self._known()).impact(name)

    def _where(self) -> Whereabouts:
        return self._whereabouts if self._batch is None else self._batch.whereabouts

    def _sources_now(self) -> Mapping[str, TableData]:
        return self._session.sources if self._batch is None else self._batch.sources

    def _change(
        self,
        declaration: Declaration,
        whereabouts: Whereabouts | None = None,
        known: Mapping[str, TableData] | None = None,
        replaced: str = "",
    ) -> None:
        """Put another declaration in force, or into the edits that are carried out together."""
        whereabouts = whereabouts or self._where()
        sources = self._sources_now() if known is None else known
        if self._batch is not None:
            batch = self._batch
            batch.declaration, batch.whereabouts, batch.sources, batch.session = declaration, whereabouts, sources, None
            return
        try:
            session = self._checked(declaration, whereabouts, sources)
        except RelatumError as error:
            raise (self._refused(replaced, error) if replaced else error) from None
        self._session, self._whereabouts = session, whereabouts

    def _checked(self, declaration: Declaration, whereabouts: Whereabouts, sources: Mapping[str, TableData]) -> Session:
        """The session of a changed model, its relationships held against the data where either has changed."""
        session = self._session.changed(declaration, load_tables(declaration, whereabouts, sources))
        session.verify(session.changed_relationships(self._session))
        return session

    def _put_table(self, table: Table, replacing: bool, whereabouts: Whereabouts | None = None) -> None:
        """Add a table, or put it in the place of the one of its name: its rows are read anew."""
        known = {each: data for each, data in self._sources_now().items() if each != table.name}
        declaration = self.declaration.with_table(table, replacing=replacing)
        self._change(declaration, whereabouts, known, replaced=table.name if replacing else "")

    def _refused(self, name: str, error: RelatumError) -> RelatumError:
        """The error of a replacement, with what would break; the error itself where nothing depended on it."""
        from relatum.change.impact import Dependencies

        try:
            needing = Dependencies(self._known()).impact(name).breaks
        except RelatumError:
            return error
        if not needing:
            return error
        shown = listed([f"{each.kind} {each.name}" for each in needing], 8)
        return ModelError(f"{name} cannot be replaced so: {error.reason}", fix=f"It is needed by {shown}.")


def _followed(session: Session, after: Declaration, data: Mapping[str, TableData]) -> dict[str, TableData]:
    """The data at hand under the names that columns have after a renaming; what is worked out is left to be so."""
    followed = {}
    for (_, before), (name, table) in zip(session.declaration.tables.items(), after.tables.items(), strict=True):
        if table.role_of or table.per:
            continue
        old = {each.heading or column: column for column, each in before.columns.items()}
        new = {each.heading or column: column for column, each in table.columns.items()}
        moved = {
            new[heading]: old.get(heading, heading) for heading in new if new[heading] != old.get(heading, heading)
        }
        followed[name] = data[name].renamed(moved) if moved else data[name]
    return followed


def _settings(table: str, column: str, given: Mapping[str, str]) -> ColumnSettings:
    allowed = ColumnSettings.__slots__
    for key in given:
        if key not in allowed:
            raise ModelError(
                f"The settings of {table}.{column} have an unknown key {key}.", fix=f"Known: {', '.join(allowed)}."
            )
    return ColumnSettings(**given)
