"""Building and changing a model: every edit is checked at once, and a refused one leaves the model as it was."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from datetime import date
from typing import Any, Literal

import msgspec

from relatum.errors import ModelError
from relatum.face.changing import Stateful, in_turn
from relatum.model.declaration import (
    ColumnSettings,
    Control,
    Derived,
    Hierarchy,
    Measure,
    Table,
    frozen,
    refuse_choice,
)
from relatum.model.file import calendar_range, check_role, relationship, texts_in
from relatum.model.looks import StyleRule, format_of_words, said_of
from relatum.model.names import column_name, quoted
from relatum.pivot.request import style_rules
from relatum.present.patterns import check_column_pattern, check_pattern

# -- building -----------------------------------------------------------------------------------------------------


@in_turn
def add_table(
    model: Stateful,
    name: str,
    source: object = None,
    *,
    key: str | Sequence[str] = (),
    columns: Mapping[str, Mapping[str, str | Sequence[str]]] | Mapping[str, str] | None = None,
    about: str = "",
    per: str | Sequence[str] = (),
    calendar: bool = False,
    part: str = "",
    query: str = "",
    null: str | Sequence[str] = (),
    footer: int = 0,
    headings: Literal["", "numbered"] = "",
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
        ``timestamp``), ``label``, ``order_by`` (the column that its members are sorted by), ``about``, ``heading``
        (its name in the source), ``pattern`` (the format of its dates), ``null`` (the texts that mean null),
        ``format`` (how its members are formatted), ``hidden`` (leave it out of lists; formulas can still use it).
        Of a derived table: formulas by name.
    about : str, optional
        What one row is.
    per : str or list of str, optional
        The grain of a derived table: one row per member of these columns, which keep their names. It has no source.
    calendar : bool
        The table is a calendar: its key is a date, and formulas can move along it.
    part : str, optional
        The sheet or named table of a workbook, or the table of a database.
    query : str, optional
        A query to read from the database instead.
    null : str or list of str, optional
        The texts that mean null, such as ``NA`` and ``-``.
    footer : int
        The number of lines at the end of a text file that are not rows.
    headings : str
        ``numbered``: repeated headings get a number, ``price`` and ``price_2``, and so do missing ones,
            ``column_1``; otherwise they are an error.
    replace : bool
        Replace the table of this name; its derived columns stay.

    Raises
    ------
    SourceError
        The data cannot be read.
    ModelError
        The name is taken, or a named column does not exist.

    Examples
    --------
    >>> import pyarrow as pa, relatum
    >>> model = relatum.Model("stall")
    >>> model.add_table("product", pa.table({"product": ["fig"], "price": [5]}), key="product")
    >>> model.evaluate("max(product.price)")
    5
    >>> model.add_table("dear", per="product.product", columns={"most": "max(product.price)"})
    >>> model.evaluate("sum(dear.most)")
    5
    """
    if per:
        given = {"source": source is not None, "key": key, "calendar": calendar, "part": part, "query": query}
        given |= {"null": null, "footer": footer, "headings": headings}
        besides = next((word for word, said in given.items() if said), "")
        if besides:
            fix = "It takes per, columns and about."
            raise ModelError(f"The derived table {name} also has {besides}.", fix=fix)
        _derive_table(model, name, per, columns or {}, about, replace)
        return
    settings = {column: _settings(name, column, own) for column, own in (columns or {}).items()}
    is_path = isinstance(source, str | os.PathLike)
    table = Table(
        name,
        source=os.fspath(source) if isinstance(source, str | os.PathLike) else "",
        frame=not is_path,
        key=texts_in(key),
        about=about,
        columns=frozen(settings),
        dated=calendar,
        part=part,
        query=query,
        null=texts_in(null),
        footer=footer,
        headings=headings,
    )
    former = model.declaration.tables.get(name)
    if former is not None:
        table = msgspec.structs.replace(table, derived=former.derived)
    where = model._state.where()
    frames = {**where.frames, **({} if is_path else {name: source})}
    model._state.put_table(table, replace, msgspec.structs.replace(where, frames=frames))


@in_turn
def add_calendar(
    model: Stateful,
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
        Where the data ends, for calendar changes: a date column, such as ``sales.sold_on``, or a date (default: the
        last date of the fact table).
    replace : bool
        Replace the table of this name.

    Raises
    ------
    ModelError
        The name is taken, or a setting is out of range.

    Examples
    --------
    >>> import relatum
    >>> from datetime import date
    >>> model = relatum.Model("stall")
    >>> model.add_calendar("calendar", date(2024, 1, 1), date(2024, 12, 31), fiscal_year_starts=4)
    >>> model.evaluate("count(distinct calendar.fiscal_year)")
    2
    """
    span = calendar_range(first, last, fiscal_year_starts, week_starts, through)
    former = model.declaration.tables.get(name)
    if former is not None and former.calendar is not None:
        table = msgspec.structs.replace(former, calendar=span)  # what is stated of its columns stays
    else:
        table = Table(name, calendar=span, key=("date",))
    model._state.put_table(table, replace)


@in_turn
def add_role(
    model: Stateful,
    name: str,
    role_of: str,
    *,
    label: str = "",
    labels: Mapping[str, str] | None = None,
    replace: bool = False,
) -> None:
    """Add a role: the rows of a table under another name, with its own relationships.

    Parameters
    ----------
    name : str
        What formulas call it.
    role_of : str
        The table whose rows it uses.
    label : str, optional
        The prefix of its columns' headings in a grid (default: its name).
    labels : mapping of str to str, optional
        Other headings for some of its columns.
    replace : bool
        Replace the table of this name.

    Raises
    ------
    ModelError
        The name is taken, or ``role_of`` is not a table.
    """
    columns = {column: ColumnSettings(label=text) for column, text in (labels or {}).items()}
    table = Table(name, role_of=role_of, label=label, columns=frozen(columns))
    check_role(model.declaration, table)
    model._state.put_table(table, replace)


@in_turn
def add_derived_table(
    model: Stateful,
    name: str,
    per: str | Sequence[str],
    columns: Mapping[str, str],
    *,
    about: str = "",
    replace: bool = False,
) -> None:
    """Add a table computed from the model, as ``add_table(name, per=…, columns=…)`` does.

    Parameters
    ----------
    name : str
        What formulas call it.
    per : str or list of str
        The grain's columns, such as ``category.category``; they keep their column names.
    columns : mapping of str to str
        Formulas by name. Rows in which every one is null are left out.
    about : str, optional
        What one row is.
    replace : bool
        Replace the table of this name.

    Raises
    ------
    ModelError, FormulaError
        The name is taken, a column does not exist, or a formula cannot be understood.

    Examples
    --------
    >>> import pyarrow as pa, relatum
    >>> model = relatum.Model("stall")
    >>> model.add_table("sales", pa.table({"product": ["fig", "fig", "ivy"], "quantity": [2, 3, 4]}))
    >>> model.add_derived_table("best", "sales.product", {"most": "max(sales.quantity)"})
    >>> model.evaluate("sum(best.most)")
    7
    """
    _derive_table(model, name, per, columns, about, replace)


def _derive_table(
    model: Stateful, name: str, per: str | Sequence[str], columns: Mapping[str, Any], about: str, replace: bool
) -> None:
    grain = texts_in(per)
    if not grain or not columns:
        raise ModelError(f"The derived table {name} has no {'formulas' if grain else 'grain'}.")
    wrong = next((column for column, formula in columns.items() if not isinstance(formula, str)), None)
    if wrong is not None:
        raise ModelError(f"{wrong} of the derived table {name} is not a formula.", fix='Write {"most": "max(…)"}.')
    model._state.put_table(Table(name, per=grain, about=about, formulas=frozen(columns)), replace)


@in_turn
def relate(
    model: Stateful,
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
        ``down`` (default): filters travel from the one side to the many side. ``both``: back as well.
        ``off``: the relationship is used only for lookups. Many to many: ``left``, ``right`` or
        ``both``, where filters travel to.
    match : str
        ``equal``, or ``as_of``: the last column matches the latest value that is not after it.
    level : bool
        The one side's columns are a level of that table, not its key, such as the months of a calendar.
    standby : bool
        The relationship is used only where a formula says ``via``.
    replace : bool
        Replace the relationship between the same columns.

    Raises
    ------
    ModelError
        A name does not exist, or the relationship opens a second route between two tables.
    DataError
        The one side is not unique, or the two ends can never match.

    Examples
    --------
    >>> import pyarrow as pa, relatum
    >>> model = relatum.Model("stall")
    >>> model.add_table("sales", pa.table({"product": ["fig", "fig", "ivy"], "quantity": [2, 3, 4]}))
    >>> model.add_table("product", pa.table({"product": ["fig", "ivy"], "price": [5, 7]}), key="product")
    >>> model.relate("sales.product -> product.product")
    >>> model.evaluate("sum(sales.quantity * product.price)")
    53
    """
    related = relationship(link, direction, match, level, standby)
    declaration = model.declaration.with_relationship(related, replacing=replace)
    model._state.change(declaration, replaced=str(related) if replace else "")


@in_turn
def derive(
    model: Stateful,
    table: str,
    name: str,
    formula: str,
    *,
    about: str = "",
    label: str = "",
    format: str = "",
    order_by: str = "",
    replace: bool = False,
) -> None:
    """Add a column computed for each row of a table from its own columns and those it looks up.

    Parameters
    ----------
    table : str
        The table.
    name : str
        What formulas call the column.
    formula : str
        Its value on each row; the table's own columns need no table's name.
    about : str, optional
        What it means.
    label : str, optional
        Its heading in grids (default: its name).
    format : str, optional
        How its members are written: a number or date pattern.
    order_by : str, optional
        The column of the table that its members are sorted by.
    replace : bool
        Take the place of the derived column of this name.

    Raises
    ------
    ModelError, FormulaError
        The name is taken, or the formula cannot be understood.

    Examples
    --------
    >>> import pyarrow as pa, relatum
    >>> model = relatum.Model("stall")
    >>> model.add_table("sales", pa.table({"product": ["fig", "fig", "ivy"], "quantity": [2, 3, 4]}))
    >>> model.derive("sales", "large", "quantity >= 3")
    >>> model.evaluate("count(sales)", where="sales.large")
    2
    """
    if format:
        check_column_pattern(format, table, name)
    said = {"label": label, "format": format, "order_by": order_by}
    declaration = model.declaration.with_derived(table, Derived(name, formula, about), said, replacing=replace)
    model._state.change(declaration, replaced=column_name(table, name) if replace else "")


@in_turn
def measure(
    model: Stateful,
    name: str,
    formula: str,
    *,
    format: str | Mapping[str, Any] = "",
    about: str = "",
    unrelated: str = "blank",
    label: str = "",
    style: Sequence[Mapping[str, Any] | StyleRule] = (),
    replace: bool = False,
) -> None:
    """Add a measure.

    Parameters
    ----------
    name : str
        What formulas call it.
    formula : str
        Aggregates, arithmetic on them, and other measures.
    format : str or mapping, optional
        A number pattern of Unicode CLDR: ``#,##0.00``, ``0.0%``, ``¤#,##0``. Or the words of the model file that
        say how values are written: ``{"format": "#,##0", "scale": "thousands", "blank": "none"}``.
    about : str, optional
        What it means.
    unrelated : str
        What it is by a column that nothing relates it to: ``blank``, or ``repeat`` for the same value throughout.
    label : str, optional
        Its heading in grids (default: its name).
    style : list of mappings, optional
        Rules for how its cells look, as :meth:`pivot` takes them.
    replace : bool
        Take the place of the measure of this name.

    Raises
    ------
    ModelError, FormulaError
        The name is taken, the format is invalid, or the formula cannot be understood.

    Examples
    --------
    >>> import pyarrow as pa, relatum
    >>> model = relatum.Model("stall")
    >>> model.add_table("sales", pa.table({"product": ["fig", "fig", "ivy"], "quantity": [2, 3, 4]}))
    >>> model.measure("quantity", "sum(sales.quantity)", format="#,##0")
    >>> model.evaluate("quantity * 2")
    18
    """
    refuse_choice(unrelated, ("blank", "repeat"), "unrelated")
    written = format_of_words({"format": format} if isinstance(format, str) else dict(format))
    if written.pattern:
        check_pattern(written.pattern, name, bool(written.duration))
    rest = msgspec.structs.replace(written, pattern="")
    measure = Measure(
        name=name,
        formula=formula,
        format=written.pattern,
        about=about,
        unrelated=unrelated,
        label=label,
        writing=rest,
        style=style_rules(style),
    )
    declaration = model.declaration.with_measure(measure, replacing=replace)
    model._state.change(declaration, replaced=quoted(name) if replace else "")


def write_measure(
    model: Stateful, name: str, formula: str, *, format: str | None = None, about: str | None = None
) -> None:
    """Add a measure, or give one that is there another formula; it keeps all else that is not given."""
    former = model.declaration.measures.get(name)
    kept = Measure(name=name, formula=formula) if former is None else former
    measure(
        model,
        name,
        formula,
        format={**said_of(kept.written), **({} if format is None else {"format": format})},
        about=kept.about if about is None else about,
        unrelated=kept.unrelated,
        label=kept.label,
        style=kept.style,
        replace=former is not None,
    )


@in_turn
def hierarchy(model: Stateful, name: str, levels: Sequence[str], *, about: str = "", replace: bool = False) -> None:
    """Add a hierarchy: columns from coarse to fine. On an axis, its name means all of them.

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
        The name is taken, or a level is not a column.
    """
    model._state.change(model.declaration.with_hierarchy(Hierarchy(name, tuple(levels), about), replacing=replace))


@in_turn
def control(
    model: Stateful,
    measure: str,
    equals: Any,
    *,
    at: Mapping[str, Any] | None = None,
    tolerance: float = 0,
    replace: bool = False,
) -> None:
    """Add a control total: the value that a measure must have where columns have the values ``at``.

    With ``replace`` it takes the place of the control of the same measure and context.

    Raises
    ------
    ModelError
        The measure is not there.

    Examples
    --------
    >>> import pyarrow as pa, relatum
    >>> model = relatum.Model("stall")
    >>> model.add_table("sales", pa.table({"product": ["fig", "fig", "ivy"], "quantity": [2, 3, 4]}))
    >>> model.measure("quantity", "sum(sales.quantity)")
    >>> model.control("quantity", 5, at={"sales.product": "fig"})
    >>> model.check().ok
    True
    """
    control = Control(measure, frozen(at or {}), equals, tolerance)
    model._state.change(model.declaration.with_control(control, replacing=replace))


def _settings(table: str, column: str, given: Mapping[str, Any] | str) -> ColumnSettings:
    allowed = ColumnSettings.__struct_fields__
    if isinstance(given, str):
        raise ModelError(
            f"{column} of {table} has a formula, {given!r}.",
            fix="Give per = … for a derived table, or add a derived column with derive.",
        )
    for key in given:
        if key not in allowed:
            raise ModelError(
                f"The settings of {table}.{column} have an unknown key {key}.", fix=f"Known: {', '.join(allowed)}."
            )
    return ColumnSettings(**{**given, "null": texts_in(given.get("null", ()))})
