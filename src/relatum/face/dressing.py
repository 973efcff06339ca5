"""Edits of how things look: themes, the looks of columns, reports."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import msgspec
from msgspec import structs

from relatum.errors import ModelError
from relatum.face.changing import Stateful, in_turn
from relatum.model.declaration import ColumnSettings, frozen
from relatum.model.file import read_theme, theme_of
from relatum.model.looks import Report, check_colour, check_report
from relatum.model.names import split_name
from relatum.pivot.request import style_rules
from relatum.present.patterns import check_column_pattern
from relatum.runtime.limits import read_limits


@in_turn
def dress(model: Stateful, theme: str | os.PathLike[str] | Mapping[str, Any]) -> None:
    """Give the model a theme: fonts, sizes and colours for everything drawn from it.

    Parameters
    ----------
    theme : path or mapping
        A TOML file with the keys of ``[theme]`` at its top, or the keys themselves.

    Raises
    ------
    ModelError
        The file cannot be read, or a theme cannot have one of its keys or values.

    Examples
    --------
    >>> import relatum
    >>> model = relatum.Model("stall")
    >>> model.dress({"font": "serif", "light": {"accent": "#7a1f5c"}, "widths": {"revenue": 14}})
    """
    if isinstance(theme, Mapping):
        declaration = structs.replace(model.declaration, theme=theme_of(dict(theme)), theme_source="")
    else:
        declaration = structs.replace(model.declaration, theme=read_theme(Path(theme)), theme_source="")
    model._state.change(declaration)


@in_turn
def limit(model: Stateful, /, **limits: int | str) -> None:
    """State limits of the model, as ``[limits]`` in its file does; the rest stay as they are.

    Parameters
    ----------
    **limits : int or str
        ``rows``, ``columns``, ``members``, ``dates``, ``cells``, ``sent``, ``file``, ``model``, ``time``, ``memory``: a
        whole number, or a text with a unit (``"8 GB"``, ``"10 min"``).

    Raises
    ------
    ModelError
        Unknown limit, or an invalid one.

    Examples
    --------
    >>> import relatum
    >>> model = relatum.Model("stall")
    >>> model.limit(cells=5_000_000, memory="8 GB")
    """
    read_limits(limits)
    model._state.change(structs.replace(model.declaration, limits=frozen({**model.declaration.limits, **limits})))


@in_turn
def look(
    model: Stateful,
    column: str,
    *,
    label: str | None = None,
    format: str | None = None,
    colours: Mapping[str, str] | None = None,
    style: Sequence[Mapping[str, Any]] | None = None,
) -> None:
    """Set how a column's members look wherever they are drawn; properties not given stay unchanged.

    Parameters
    ----------
    column : str
        ``table.column``.
    label : str, optional
        What heads it.
    format : str, optional
        How its members are written: a number pattern, or for dates and a calendar's periods a date pattern.
    colours : mapping of str to str, optional
        A colour for each of some members, as they are written.
    style : list of mappings, optional
        Rules for its members: ``{"members": ["Ferns"], "weight": "bold"}``, ``{"when": "revenue < 0", "mark":
        "▼"}``, where the condition is evaluated at the member.

    Raises
    ------
    ModelError, RequestError
        There is no such column; a colour, format or rule is invalid.

    Examples
    --------
    >>> import pyarrow as pa, relatum
    >>> model = relatum.Model("stall")
    >>> model.add_table("sales", pa.table({"product": ["fig", "ivy"], "quantity": [2, 4]}))
    >>> model.look("sales.product", label="Plant", colours={"fig": "#5b2a86"})
    """
    parts = split_name(column)
    if len(parts) != 2:
        raise ModelError(f"{column} is not a column.", fix="Write table.column.")
    table = model.declaration.table(model.declaration.rows_of(parts[0]))
    for colour in (colours or {}).values():
        check_colour(colour, "colours")
    if format:
        check_column_pattern(format, table.name, parts[1])
    said: dict[str, Any] = {
        "label": label,
        "format": format,
        "colours": None if colours is None else frozen(colours),
        "style": None if style is None else style_rules(style),
    }
    given = {name: value for name, value in said.items() if value is not None}
    settings = structs.replace(table.columns.get(parts[1], ColumnSettings()), **given)
    changed = structs.replace(table, columns=frozen({**table.columns, parts[1]: settings}))
    model._state.change(model.declaration.with_table(changed, replacing=True))


@in_turn
def add_report(
    model: Stateful, name: str, parts: Sequence[Mapping[str, Any]], *, title: str = "", about: str = ""
) -> None:
    """Add a report, or put another in its place: texts, key figures, saved pivots as charts and tables.

    Parameters
    ----------
    name : str
        Its name.
    parts : list of mappings
        In order, each with the keys of ``[[report.NAME.part]]``: ``text``, or ``figures`` with ``against``, or
        ``pivot`` with ``chart`` and ``table``; ``heading`` and ``where`` with any of them.
    title, about : str, optional
        What is above it.

    Raises
    ------
    ModelError
        A part has nothing or two things, or shows a pivot that does not exist.

    Examples
    --------
    >>> import relatum
    >>> model = relatum.Model("stall")
    >>> model.add_report("week", [{"heading": "This week", "text": "A **good** one."}])
    """
    try:
        report = msgspec.convert({"part": list(parts), "title": title, "about": about}, Report)
    except msgspec.ValidationError as error:
        raise ModelError(f"Invalid report: {str(error).replace('`', '')}.") from None
    check_report(report)
    model._state.change(model.declaration.with_report(name, report))
