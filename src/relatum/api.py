"""The live face of a model: build it, open it, edit it, ask it."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from dataclasses import replace
from datetime import date
from pathlib import Path
from typing import Any

from relatum.errors import ModelError, RelatumError
from relatum.insight.check import Report, check_session
from relatum.insight.understood import Reading, read_formula
from relatum.model.declaration import (
    ColumnSettings,
    Control,
    Declaration,
    Derived,
    Measure,
    Table,
    frozen,
    refuse_choice,
)
from relatum.model.file import calendar_range, check_role, read_model, relationship
from relatum.model.lines import key_lines, line_of
from relatum.model.save import write_model
from relatum.pivot.answer import answer
from relatum.pivot.question import Names, Values, ask
from relatum.present.grid import Grid
from relatum.present.numbers import check_locale, check_pattern
from relatum.session.derived import with_derived_tables
from relatum.session.load import Whereabouts, load_tables, source_path
from relatum.session.session import Session


class Model:
    """Tables, relationships, derived columns and measures, with their data.

    Every edit is checked at once against the model and the data. A refused edit raises an error and leaves the model
    as it was.

    Parameters
    ----------
    name : str
        What the model is called in results.
    locale : str
        Language and country for numbers, as ``en_GB``.
    currency : str
        The currency code that a ``¤`` in a number format stands for, as ``EUR``.

    Examples
    --------
    >>> import pyarrow as pa, relatum
    >>> model = relatum.Model("stall")
    >>> model.add_table("sales", pa.table({"product": ["fig", "fig", "ivy"], "quantity": [2, 3, 4]}))
    >>> model.add_table("product", pa.table({"product": ["fig", "ivy"], "price": [5, 7]}), key="product")
    >>> model.relate("sales.product -> product.product")
    >>> model.measure("revenue", "sum(sales.quantity * product.price)")
    >>> model.evaluate("revenue")
    53
    """

    def __init__(self, name: str = "model", *, locale: str = "en", currency: str = "EUR") -> None:
        check_locale(locale)
        self._whereabouts = Whereabouts(allow_outside=True)
        self._session = Session(Declaration(name=name, locale=locale, currency=currency), {})

    @classmethod
    def _of(cls, session: Session, whereabouts: Whereabouts) -> Model:
        model = cls.__new__(cls)
        model._session, model._whereabouts = session, whereabouts
        return model

    @property
    def declaration(self) -> Declaration:
        """Everything that is stated about the model, as immutable records."""
        return self._session.declaration

    @property
    def session(self) -> Session:
        """The declaration with its data: for tools that look inside."""
        return self._session

    def __repr__(self) -> str:
        declaration = self.declaration
        return (
            f"<Model {declaration.name}: tables {', '.join(declaration.tables) or 'none'}; "
            f"measures {', '.join(declaration.measures) or 'none'}>"
        )

    # -- building -----------------------------------------------------------------------------------------------------

    def add_table(
        self,
        name: str,
        source: object,
        *,
        key: str | Sequence[str] = (),
        columns: Mapping[str, Mapping[str, str]] | None = None,
        about: str = "",
        calendar: bool = False,
    ) -> None:
        """Add a table.

        Parameters
        ----------
        name : str
            What formulas call it.
        source : path or frame
            A CSV, Parquet or Arrow IPC file, or any object with ``__arrow_c_stream__`` (pandas, Polars, DuckDB,
            Arrow).
        key : str or list of str, optional
            The columns that make a row unique.
        columns : mapping of str to mapping, optional
            Settings of columns: ``type`` (``integer``, ``decimal(2)``, ``float``, ``text``, ``boolean``, ``date``,
            ``timestamp``), ``label``, ``order_by`` (the column that its members are sorted by), ``about``.
        about : str, optional
            What a row is.
        calendar : bool
            The table is a calendar: its key is a date, and formulas can move along it.

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
        )
        frames = dict(self._whereabouts.frames)
        if not is_path:
            frames[name] = source
        self._change(self.declaration.with_table(table), replace(self._whereabouts, frames=frames))

    def add_calendar(
        self,
        name: str,
        first: date,
        last: date,
        *,
        fiscal_year_starts: int = 1,
        week_starts: str = "monday",
        through: str | date = "",
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

        Raises
        ------
        ModelError
            The name is taken, or a setting is out of range.
        """
        span = calendar_range(first, last, fiscal_year_starts, week_starts, through)
        self._change(self.declaration.with_table(Table(name, calendar=span, key=("date",))))

    def add_role(self, name: str, role_of: str) -> None:
        """Add the rows of a table under another name, with relationships of its own.

        Raises
        ------
        ModelError
            The name is taken, or ``role_of`` is not a table.
        """
        table = Table(name, role_of=role_of)
        check_role(self.declaration, table)
        self._change(self.declaration.with_table(table))

    def add_derived_table(
        self, name: str, per: str | Sequence[str], columns: Mapping[str, str], *, about: str = ""
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

        Raises
        ------
        ModelError, FormulaError
            The name is taken, a column is not there, or a formula cannot be understood.
        """
        grain = (per,) if isinstance(per, str) else tuple(per)
        if not grain or not columns:
            raise ModelError(f"The derived table {name} has no {'formulas' if grain else 'grain'}.")
        table = Table(name, per=grain, about=about, formulas=frozen(columns))
        self._change(self.declaration.with_table(table))

    def relate(
        self, link: str, *, direction: str = "", match: str = "equal", level: bool = False, standby: bool = False
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

        Raises
        ------
        ModelError
            A name is not there, or the relationship opens a second route between two tables.
        DataError
            The one side is not unique, or the two ends can never match.
        """
        related = relationship(link, direction, match, level, standby)
        self._change(self.declaration.with_relationship(related))

    def derive(self, table: str, name: str, formula: str, *, about: str = "") -> None:
        """Add a column worked out for each row of a table, from its own columns and those it looks up.

        Raises
        ------
        ModelError, FormulaError
            The name is taken, or the formula cannot be understood.
        """
        self._change(self.declaration.with_derived(table, Derived(name, formula, about)))

    def measure(self, name: str, formula: str, *, format: str = "", about: str = "", unrelated: str = "blank") -> None:
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

        Raises
        ------
        ModelError, FormulaError
            The name is taken, the format is none, or the formula cannot be understood.
        """
        refuse_choice(unrelated, ("blank", "repeat"), "unrelated")
        if format:
            check_pattern(format, name)
        self._change(self.declaration.with_measure(Measure(name, formula, format, about, unrelated)))

    def control(
        self, measure: str, equals: object, *, at: Mapping[str, object] | None = None, tolerance: float = 0
    ) -> None:
        """Add a control total: the value that a measure must have where columns have the values ``at``.

        Raises
        ------
        ModelError
            The measure is not there.
        """
        self._change(self.declaration.with_control(Control(measure, frozen(at or {}), equals, tolerance)))

    def _change(self, declaration: Declaration, whereabouts: Whereabouts | None = None) -> None:
        whereabouts = whereabouts or self._whereabouts
        loaded = load_tables(declaration, whereabouts, self._session.data)
        data = with_derived_tables(declaration, loaded, self._session)
        session = self._session.changed(declaration, data)
        session.verify(declaration.relationships[len(self.declaration.relationships) :])
        self._session, self._whereabouts = session, whereabouts

    # -- asking -------------------------------------------------------------------------------------------------------

    def pivot(
        self,
        rows: Names = (),
        columns: Names = (),
        values: Values = (),
        where: str | None = None,
        *,
        totals: bool = True,
        show_empty: bool = False,
        cell_limit: int = 1_000_000,
    ) -> Grid:
        """Ask for values by the members of columns.

        Parameters
        ----------
        rows, columns : str or list of str
            The fields of each axis: ``table.column``, several separated by commas or in a list.
        values : str, list of str, or mapping
            Measures or formulas; ``label: formula`` gives one a label, as a mapping of labels to formulas does.
        where : str, optional
            A condition on columns.
        totals : bool
            Work out subtotals and grand totals too, each as the formula in the coarser cell.
        show_empty : bool
            Show members without rows too.
        cell_limit : int
            Refuse grids with more combinations than this.

        Returns
        -------
        Grid
            The values, the filters in force, and notes.

        Raises
        ------
        QuestionError, FormulaError
            Something named is not there, or the grid has too many cells.
        DataError
            A relationship that is needed contradicts the data.
        ValueOverflowError
            A value does not fit 64 bits.
        """
        question = ask(rows, columns, values, where, totals, show_empty, cell_limit)
        return Grid(answer(self._session, question))

    def evaluate(self, formula: str, where: str | None = None) -> Any:
        """The one value of a formula: int, Decimal, float, str, bool, date, datetime, or None where it has none.

        Raises
        ------
        FormulaError, DataError, ValueOverflowError
            As :meth:`pivot`.
        """
        return answer(self._session, ask(values={" ".join(formula.split()): formula}, where=where)).scalar()

    def formula(self, text: str) -> Reading:
        """How a formula is understood: its type, and for each aggregate its rows, lookups and filters.

        Raises
        ------
        FormulaError
            It cannot be understood.
        """
        return read_formula(self._session, text)

    def check(self) -> Report:
        """Audit the model, its data and its controls."""
        return check_session(self._session)

    # -- files --------------------------------------------------------------------------------------------------------

    def save(self, path: str | os.PathLike[str], *, allow_outside: bool = False) -> None:
        """Write the model as a TOML file; where there is one already, its comments and order are kept.

        Parameters
        ----------
        path : path
            The file. It is replaced in one step, or left as it was.
        allow_outside : bool
            Write sources that lie outside the file's folder too.

        Raises
        ------
        ModelError
            A table came as a frame, which no file can name, or its source lies outside the file's folder.
        """
        target = Path(path)
        if not target.parent.is_dir():
            raise ModelError(f"There is no folder {target.parent}.", path=target)
        sources = {}
        for name, table in self.declaration.tables.items():
            if table.frame:
                raise ModelError(
                    f"The table {name} came as a frame, which a file cannot name.",
                    fix="Write the frame to a Parquet file and add the table from there.",
                )
            if table.source:
                sources[name] = _relative(source_path(table, self._whereabouts), target, name, allow_outside)
        write_model(self.declaration, target, sources)


def open_model(path: str | os.PathLike[str], *, allow_outside: bool = False) -> Model:
    """Open a model file and read what its tables need.

    Parameters
    ----------
    path : path
        A TOML file.
    allow_outside : bool
        Allow sources outside the file's folder.

    Raises
    ------
    ModelError, FormulaError
        The file cannot be understood; the error has the line.
    SourceError
        A table's data cannot be read.
    """
    file = Path(path)
    declaration = read_model(file)
    whereabouts = Whereabouts(file.resolve().parent, {}, allow_outside)
    try:
        check_locale(declaration.locale)
        for measure in declaration.measures.values():
            if measure.format:
                check_pattern(measure.format, measure.name)
        data = with_derived_tables(declaration, load_tables(declaration, whereabouts))
        return Model._of(Session(declaration, data), whereabouts)
    except RelatumError as error:
        error.locate(file, line_of(key_lines(file.read_text(encoding="utf-8")), error.place))
        raise


def _settings(table: str, column: str, given: Mapping[str, str]) -> ColumnSettings:
    allowed = ColumnSettings.__slots__
    for key in given:
        if key not in allowed:
            raise ModelError(
                f"The settings of {table}.{column} have an unknown key {key}.", fix=f"Known: {', '.join(allowed)}."
            )
    return ColumnSettings(**given)


def _relative(source: Path, target: Path, table: str, allow_outside: bool) -> str:
    folder = target.resolve().parent
    if source.resolve().is_relative_to(folder):
        return source.resolve().relative_to(folder).as_posix()
    if allow_outside:
        return Path(os.path.relpath(source.resolve(), folder)).as_posix()
    raise ModelError(
        f"The source {source} of table {table} lies outside the folder of {target}.",
        fix="Save the model beside its data, or pass allow_outside=True.",
    )
