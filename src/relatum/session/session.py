"""A session: a declaration and its data, checked against each other and ready for requests."""

from __future__ import annotations

import math
from collections.abc import Callable, Hashable, Iterable, Mapping
from copy import copy
from datetime import date, datetime
from decimal import Decimal
from functools import lru_cache
from typing import TypeVar

from relatum.data.table import TableData
from relatum.data.types import DATE, FLOAT, TEXT, Kind
from relatum.engine.memory.store import JoinKeeper
from relatum.errors import DataError, FormulaError, ModelError
from relatum.language.expression import Expression
from relatum.model.declaration import Control, Declaration, Relationship, Table
from relatum.model.names import cannot_be_used, column_name, quoted, split_name
from relatum.model.routes import hops_of
from relatum.plan.compile import Wanted, compile_plan
from relatum.plan.engine import Engine
from relatum.plan.nodes import Plan
from relatum.plan.notes import Note
from relatum.session.facts import AuditFacts
from relatum.session.residence import residence_of
from relatum.session.resolution import Resolution, RowField, resolve, with_fields
from relatum.sources.engines.base import Connection
from relatum.sources.texts import converts
from relatum.wording import listed, suggestion

#: More texts than this among numbers are no markers of null.
_FEW_MARKERS = 3
#: Of so many requests what they mean and their columns by formula are kept: turning a grid works nothing out anew.
_REMEMBERED = 8
#: So many plans are kept: a request that is asked again is not planned again.
_PLANS = 64

_Asked = TypeVar("_Asked", bound=Hashable)
_Made = TypeVar("_Made")


class Session:
    """Checks a declaration against its data, and answers from it.

    Parameters
    ----------
    declaration : Declaration
        The model.
    sources : mapping of str to TableData
        The data of every table that has a source; derived tables and roles follow from these.
    former : Session, optional
        A session whose work may be taken over.
    joins : JoinKeeper, optional
        Keeps join indexes from one run to the next; that of ``former`` unless given.
    place : Connection, optional
        The engine that holds the data; that of ``former`` unless given.

    Raises
    ------
    ModelError
        A column that is named is not there; two names collide; two routes lead between two tables; derived columns or
        tables need each other in a circle.
    FormulaError
        A derived column, derived table or measure cannot be understood.
    """

    def __init__(
        self,
        declaration: Declaration,
        sources: Mapping[str, TableData],
        *,
        former: Session | None = None,
        joins: JoinKeeper | None = None,
        place: Connection | None = None,
    ) -> None:
        self.declaration = declaration
        self.sources = {name: sources[name] for name in declaration.tables if name in sources}
        self.joins: JoinKeeper | None = joins or (former.joins if former is not None else None)
        self.place: Connection | None = place or (former.place if former is not None else None)
        for table in declaration.tables.values():
            self._check_columns(table)
        for number, relationship in enumerate(declaration.relationships):
            self._check_relationship(relationship, number)
        known: Resolution | None = None if former is None else former.resolution
        self._take(resolve(declaration, self.sources, known, self.joins, residence_of(self.place)))
        self._check_settings()
        for name in declaration.measures:
            try:
                self.formulas.measure(name)
            except FormulaError as error:
                error.place = ("measure", _owner_name(error, name), "formula")
                error.fix = "\n".join(filter(None, [error.fix, self._typeless(), self._marked(error)]))
                raise
        for number, control in enumerate(declaration.controls):
            self._check_control(control, number)

    def changed(self, declaration: Declaration, sources: Mapping[str, TableData]) -> Session:
        """The session of a changed declaration; raises as the constructor does, and leaves this one as it is."""
        return Session(declaration, sources, former=self)

    def with_fields(self, fields: tuple[RowField, ...]) -> Session:
        """This session with columns by formula that one request alone has; the last few such are remembered."""
        if not fields:
            return self
        return self._extended(fields)

    def _extend(self, fields: tuple[RowField, ...]) -> Session:
        other = copy(self)
        other._take(with_fields(self.resolution, fields))
        return other

    def _take(self, resolution: Resolution) -> None:
        self.resolution = resolution
        self.data = resolution.data
        self.store = resolution.store
        self.catalog = resolution.catalog
        self.formulas = resolution.formulas
        self.engine: Engine = resolution.residence.engine(resolution.store)
        self.facts: AuditFacts = resolution.residence.facts(resolution.store)
        self._extended = lru_cache(maxsize=_REMEMBERED)(self._extend)
        self._planned = lru_cache(maxsize=_PLANS)(self._plan)
        self._made = lru_cache(maxsize=_REMEMBERED)(lambda make, asked: make(self, asked))

    def remembered(self, make: Callable[[Session, _Asked], _Made], asked: _Asked) -> _Made:
        """What a function makes of something asked of this session, and of nothing else; the last ones are kept."""
        made: _Made = self._made(make, asked)
        return made

    def plan(self, wanted: Wanted) -> tuple[Plan, list[Note]]:
        """The plan that answers what is wanted, with what is to be noted; the last ones are remembered."""
        plan, notes = self._planned(wanted)
        return plan, list(notes)

    def _plan(self, wanted: Wanted) -> tuple[Plan, tuple[Note, ...]]:
        plan, notes = compile_plan(self.catalog, wanted, self.resolution.derivations)
        return plan, tuple(notes)

    def _marked(self, error: FormulaError) -> str:
        """What a column holds that is text for a few values among numbers, where that is what an error is about."""
        parts = split_name(error.text[error.span.start : error.span.stop])
        if len(parts) != 2 or parts[0] not in self.declaration.tables or parts[1] not in self.catalog.columns(parts[0]):
            return ""
        if self.catalog.columns(parts[0])[parts[1]] != TEXT:
            return ""
        texts = self.store.members(*parts).values.dictionary.to_pylist()
        wrong = [text for text in texts if not converts(text, FLOAT)]
        if not 0 < len(wrong) <= _FEW_MARKERS or len(wrong) == len(texts):
            return ""
        shown = ", ".join(f'"{text}"' for text in wrong)
        return f"{column_name(*parts)} holds {shown} among numbers: null = [{shown}] on it marks it as null."

    def _typeless(self) -> str:
        """Tables whose columns are text just because there are no rows that say otherwise."""
        empty = [
            quoted(name) for name, data in self.sources.items() if not data.rows and set(data.types.values()) == {TEXT}
        ]
        return f"{listed(empty)} has no rows, so its columns are read as text; set their types." if empty else ""

    def derived_formula(self, table: str, column: str) -> Expression:
        """A derived column's formula, resolved."""
        return self.resolution.expressions[self.declaration.rows_of(table), column]

    # -- checks -------------------------------------------------------------------------------------------------------

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

    def _need(self, table: str, column: str, place: tuple[str | int, ...], what: str) -> None:
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
            self._need(table.name, column, (*place, "key"), f"The key of {quoted(table.name)}")
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
            self._need(*parts, (*place, "calendar"), "The end of the data")

    def _check_relationship(self, relationship: Relationship, number: int) -> None:
        for end in (relationship.many, relationship.one):
            for column in end.columns:
                self._need(end.table, column, ("relationship", number, "link"), f"The link {relationship}")

    def _check_control(self, control: Control, number: int) -> None:
        """Raise a ModelError for a control whose value no value of its measure could be."""
        type_ = self.formulas.measure(control.measure).type
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
            type_ = self.catalog.columns(table)[column]
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

    def _check_through_type(self, table: Table) -> None:
        through = table.calendar.through if table.calendar is not None else ""
        if isinstance(through, str) and through:
            owner, column = split_name(through)
            type_ = self.catalog.columns(owner)[column]
            if type_.kind not in (Kind.DATE, Kind.TIMESTAMP):
                raise ModelError(
                    f"The data of the calendar {quoted(table.name)} cannot end with {through}: it contains {type_}, "
                    "not dates.",
                    fix="Set through to a date, or to a date or timestamp column.",
                    place=("table", table.name, "calendar"),
                )

    def _check_settings(self) -> None:
        for name, table in self.declaration.tables.items():
            self._check_through_type(table)
            for column, settings in table.columns.items():
                place = ("table", name, "column", column)
                self._need(name, column, place, f"The settings of {column_name(name, column)}")
                if settings.order_by:
                    self._need(
                        name, settings.order_by, (*place, "order_by"), f"The order of {column_name(name, column)}"
                    )

        for name, hierarchy in self.declaration.hierarchies.items():
            for level in hierarchy.levels:
                parts = split_name(level)
                self._need(parts[0], parts[1], ("hierarchy", name, "levels"), f"The hierarchy {quoted(name)}")

    def changed_relationships(self, former: Session) -> list[Relationship]:
        """The relationships that are new since a former session, or that join other columns or rows."""
        known = set(former.declaration.relationships)
        return [
            each
            for each in self.declaration.relationships
            if each not in known
            or any(
                not former.store.has(end.table, name)
                or former.store.stamp(end.table, name) is not self.store.stamp(end.table, name)
                for end in (each.many, each.one)
                for name in end.columns
            )
        ]

    def verify(self, relationships: Iterable[Relationship]) -> None:
        """Check relationships on the data.

        Raises
        ------
        DataError
            A one side is not unique, or the two ends can never match.
        """
        for relationship in relationships:
            try:
                for hop in hops_of(relationship):
                    self.store.verify(hop)
            except DataError as error:
                error.place = ("relationship", self.declaration.relationships.index(relationship))
                raise


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
