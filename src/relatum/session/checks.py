"""What a declaration says, held against the data: columns, keys, relationships, settings, measures, controls."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from datetime import date, datetime
from decimal import Decimal

from relatum.data.table import TableData
from relatum.data.types import DATE, FLOAT, TEXT, Kind
from relatum.errors import FormulaError, ModelError
from relatum.model.declaration import Control, Declaration, Relationship, Table
from relatum.model.names import cannot_be_used, column_name, quoted, split_name
from relatum.session.resolution import Resolution
from relatum.sources.texts import converts
from relatum.wording import listed, suggestion

#: More different texts than this among numbers are not markers of null.
_FEW_MARKERS = 3


class Columns:
    """The columns that a declaration names, held against those that the sources have.

    Parameters
    ----------
    declaration : Declaration
        The model.
    sources : mapping of str to TableData
        The data of every table that has a source.
    """

    def __init__(self, declaration: Declaration, sources: Mapping[str, TableData]) -> None:
        self.declaration = declaration
        self.sources = sources

    def check(self) -> None:
        """Check what needs no formula: derived names, keys, calendars, grains, links.

        Raises
        ------
        ModelError
            A column is missing, is there twice, or does not suit its use.
        """
        for table in self.declaration.tables.values():
            self._check_columns(table)
        for number, relationship in enumerate(self.declaration.relationships):
            self._check_relationship(relationship, number)

    def _stored(self, table: str) -> Mapping[str, object]:
        """The columns of a table before anything is derived; of a derived table, those it will have."""
        described = self.declaration.tables[self.declaration.rows_of(table)]
        if described.per:
            grain = [parts[-1] for parts in map(split_name, described.per) if parts]
            return dict.fromkeys([*grain, *described.formulas])
        return self.sources[described.name].types

    def _known(self, table: str) -> dict[str, None]:
        owner = self.declaration.rows_of(table)
        return dict.fromkeys([*self._stored(owner), *self.declaration.tables[owner].derived])

    def need(self, table: str, column: str, place: tuple[str | int, ...], what: str) -> None:
        """Raise a ModelError for a column that is not there."""
        known = self._known(table)
        if column in known:
            return
        owner = self.declaration.rows_of(table)
        reason = self.sources[owner].left_out.get(column) if owner in self.sources else None
        if reason is not None:
            raise ModelError(
                f"{what}: {cannot_be_used(table, column, reason)}",
                place=place,
                fix="Convert the column at the source.",
            )
        raise ModelError(
            f"{what}: the table {quoted(table)} has no column {column}.",
            place=place,
            fix=suggestion(column, known, noun="column"),
        )

    def _check_columns(self, table: Table) -> None:
        place = ("table", table.name)
        for column in table.derived:
            if column in self._stored(table.name):
                raise ModelError(
                    f"{column_name(table.name, column)} is already a column of the source.",
                    fix="Give the derived column another name.",
                    place=(*place, "derived", column),
                )
        for column in table.key:
            self.need(table.name, column, (*place, "key"), f"The key of {quoted(table.name)}")
        if table.dated and (len(table.key) != 1 or self.sources[table.name].types.get(table.key[0]) != DATE):
            raise ModelError(
                f"{quoted(table.name)} is marked as a calendar, but its key is not a date.",
                fix="Make the date column its key.",
                place=(*place, "calendar"),
            )
        self._check_through(table, place)
        for text in table.per:
            parts = split_name(text)
            if len(parts) != 2 or parts[0] not in self.declaration.tables or parts[1] not in self._known(parts[0]):
                tables = [name for name in self.declaration.tables if name != table.name]
                known = [column_name(name, column) for name in tables for column in self._known(name)]
                raise ModelError(
                    f"The grain of {quoted(table.name)} names {text}, which is not a column.",
                    fix=suggestion(text, known, noun="column"),
                    place=(*place, "per"),
                )

    def _example_day(self) -> str:
        """A column of days that the data has, as the model file would name it."""
        days = (
            column_name(name, column)
            for name, table in self.declaration.tables.items()
            if table.calendar is None and name in self.sources
            for column, type_ in self.sources[name].types.items()
            if type_.kind in (Kind.DATE, Kind.TIMESTAMP)
        )
        return f'"{next(days, "table.column")}"'

    def _check_through(self, table: Table, place: tuple[str | int, ...]) -> None:
        through = table.calendar.through if table.calendar is not None else ""
        if isinstance(through, str) and through:
            parts = split_name(through)
            if len(parts) != 2 or parts[0] not in self.declaration.tables:
                raise ModelError(
                    f"{through} is not a column that can end the data.",
                    fix=f"Write through = {self._example_day()}, or a date.",
                    place=(*place, "calendar"),
                )
            self.need(*parts, (*place, "calendar"), "The end of the data")

    def _check_relationship(self, relationship: Relationship, number: int) -> None:
        for end in (relationship.many, relationship.one):
            for column in end.columns:
                self.need(end.table, column, ("relationship", number, "link"), f"The link {relationship}")


class Meanings:
    """What formulas come to, held against what the declaration says of them.

    Parameters
    ----------
    columns : Columns
        The columns, checked.
    resolution : Resolution
        Every formula with its type.
    """

    def __init__(self, columns: Columns, resolution: Resolution) -> None:
        self.columns = columns
        self.declaration = columns.declaration
        self.resolution = resolution

    def check(self) -> None:
        """Check settings, hierarchies, measures and controls.

        Raises
        ------
        ModelError
            A named column is missing, or a control cannot have its value.
        FormulaError
            A measure cannot be understood.
        """
        self._check_settings()
        for name in self.declaration.measures:
            try:
                self.resolution.formulas.measure(name)
            except FormulaError as error:
                error.place = ("measure", _owner_name(error, name), "formula")
                error.fix = "\n".join(filter(None, [error.fix, self._typeless(), self._marked(error)]))
                raise
        for number, control in enumerate(self.declaration.controls):
            self._check_control(control, number)

    def _check_settings(self) -> None:
        for name, table in self.declaration.tables.items():
            self._check_through_type(table)
            for column, settings in table.columns.items():
                place = ("table", name, "column", column)
                self.columns.need(name, column, place, f"The settings of {column_name(name, column)}")
                if settings.order_by:
                    self.columns.need(
                        name, settings.order_by, (*place, "order_by"), f"The order of {column_name(name, column)}"
                    )

        for name, hierarchy in self.declaration.hierarchies.items():
            for level in hierarchy.levels:
                parts = split_name(level)
                self.columns.need(parts[0], parts[1], ("hierarchy", name, "levels"), f"The hierarchy {quoted(name)}")

    def _check_through_type(self, table: Table) -> None:
        through = table.calendar.through if table.calendar is not None else ""
        if isinstance(through, str) and through:
            owner, column = split_name(through)
            type_ = self.resolution.catalog.columns(owner)[column]
            if type_.kind not in (Kind.DATE, Kind.TIMESTAMP):
                raise ModelError(
                    f"The data of the calendar {quoted(table.name)} cannot end with {through}: it contains {type_}, "
                    "not dates.",
                    fix="Set through to a date, or to a date or timestamp column.",
                    place=("table", table.name, "calendar"),
                )

    def _check_control(self, control: Control, number: int) -> None:
        """Raise a ModelError for a control whose value no value of its measure could be."""
        type_ = self.resolution.formulas.measure(control.measure).type
        if type_.kind is Kind.NULL:
            return
        what, agrees = _WANTED[type_.kind]
        if not agrees(control.equals):
            raise ModelError(
                f"The control of {quoted(control.measure)} expects {control.equals!r}, but the measure is {what}.",
                fix=f"Give {what}, without quotes."
                if type_.numeric and isinstance(control.equals, str)
                else f"Give {what}.",
                place=("control", number, "equals"),
            )
        for name, value in control.at.items():
            table, column = split_name(name)
            type_ = self.resolution.catalog.columns(table)[column]
            what, agrees = _WANTED[type_.kind] if type_.kind is not Kind.NULL else ("", lambda _: True)
            if not agrees(value):
                raise ModelError(
                    f"The control of {quoted(control.measure)} is for {name} = {value!r}, but {name} is {what}.",
                    fix=f"Give {what}.",
                    place=("control", number, "at"),
                )
        if not _is_finite(control.tolerance) or control.tolerance < 0:
            raise ModelError(
                f"The tolerance of the control of {quoted(control.measure)} is {control.tolerance!r}.",
                fix="Give a number that is 0 or more.",
                place=("control", number, "tolerance"),
            )

    def _marked(self, error: FormulaError) -> str:
        """What a column holds that is text for a few values among numbers, where that is what an error is about."""
        parts = split_name(error.text[error.span.start : error.span.stop])
        if (
            len(parts) != 2
            or parts[0] not in self.declaration.tables
            or parts[1] not in self.resolution.catalog.columns(parts[0])
        ):
            return ""
        if self.resolution.catalog.columns(parts[0])[parts[1]] != TEXT:
            return ""
        texts = self.resolution.store.members(*parts).values.dictionary.to_pylist()
        wrong = [text for text in texts if not converts(text, FLOAT)]
        if not 0 < len(wrong) <= _FEW_MARKERS or len(wrong) == len(texts):
            return ""
        shown = ", ".join(f'"{text}"' for text in wrong)
        return f"{column_name(*parts)} holds {shown} among numbers: null = [{shown}] on it marks it as null."

    def _typeless(self) -> str:
        """Tables whose columns are text just because there are no rows that say otherwise."""
        empty = [
            quoted(name)
            for name, data in self.columns.sources.items()
            if not data.rows and set(data.types.values()) == {TEXT}
        ]
        return f"{listed(empty)} has no rows, so its columns are read as text; set their types." if empty else ""


def _is_finite(value: object) -> bool:
    if isinstance(value, int):
        return not isinstance(value, bool)
    return isinstance(value, float | Decimal) and math.isfinite(value)


#: What a control must hold for a measure of each kind, in words and as a test.
_WANTED: dict[Kind, tuple[str, Callable[[object], bool]]] = {
    Kind.INTEGER: ("a number", _is_finite),
    Kind.DECIMAL: ("a number", _is_finite),
    Kind.FLOAT: ("a number", _is_finite),
    Kind.TEXT: ("a text", lambda value: isinstance(value, str)),
    Kind.BOOLEAN: ("true or false", lambda value: isinstance(value, bool)),
    Kind.DATE: ("a date", lambda value: isinstance(value, date) and not isinstance(value, datetime)),
    Kind.TIMESTAMP: ("a timestamp", lambda value: isinstance(value, datetime)),
}


def _owner_name(error: FormulaError, name: str) -> str:
    # A measure that fails inside another is the one whose formula is shown.
    return error.owner.removeprefix("measure ").strip('"') if error.owner.startswith("measure ") else name
