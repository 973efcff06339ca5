"""The axes of a request resolved: fields with their options, those that others determine, and the request's values."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

from msgspec import Struct
from msgspec.structs import replace

from relatum.data.types import Kind, Type, an
from relatum.errors import FormulaError, RequestError
from relatum.language.advice import LABELS, example_grain, telling_columns
from relatum.language.expression import ColumnValue, Constant, Expression, FilterPart, KeepBest, KeepWhere
from relatum.language.numbers import number_of
from relatum.language.parse import parse_axis
from relatum.language.resolve_request import RequestReader, request_keeps
from relatum.language.tree import NO_MATCH, AxisItem, Literal, Name, Ordering, TotalPlace
from relatum.model.names import column_name, quoted, split_name
from relatum.model.routes import Place
from relatum.pivot.made_of import FormulaPart, formula_parts
from relatum.pivot.request import AxisWord, Request
from relatum.plan.bounds import field_of
from relatum.plan.nodes import Field
from relatum.session.resolution import RowField
from relatum.session.session import Session
from relatum.wording import listed, suggestion


class Ordered(Struct, frozen=True):
    """What members are ordered by, and whether the largest comes first."""

    expression: Expression
    descending: bool


class BestOf(Struct, frozen=True):
    """That only the best members are shown, with what they are ranked by."""

    number: int
    by: tuple[Ordered, ...]


class Opened(Struct, frozen=True):
    """The members that ``open (…)`` names: each as written and as its column holds it (None is null); and no match."""

    named: tuple[tuple[str, int | float | str | bool | None], ...]
    no_match: bool

    @property
    def members(self) -> tuple[int | float | str | bool, ...]:
        """The members other than null and no match."""
        return tuple(held for _, held in self.named if held is not None)

    @property
    def null(self) -> bool:
        """Whether null is among them."""
        return any(held is None for _, held in self.named)


class AxisField(Struct, frozen=True):
    """A field of an axis.

    ``label`` heads it; ``name`` is what tables of values call it. ``attribute_of`` is the field that determines it (its
    position among all fields), so that the two are one in effect. ``opened`` are the members that ``open (…)`` names.
    """

    field: Field
    label: str
    name: str
    formula: str
    axis: AxisWord
    attribute_of: int | None = None
    by: tuple[Ordered, ...] = ()
    best: BestOf | None = None
    others: bool = False
    total: TotalPlace = "after"
    closed: bool = False
    opened: Opened | None = None
    source: int = 0

    @property
    def stops(self) -> bool:
        """Whether deeper fields are not worked out under all of its members."""
        return self.closed or self.opened is not None


class Resolved(Struct, frozen=True):
    """A request whose names are all known.

    ``session`` has the columns that the request makes for itself. ``fields`` are rows first; of these, ``heads`` are
    the positions of those that no other determines, and ``row_count`` of them are rows. ``made_of`` are the parts of
    each value's formula.
    """

    session: Session
    fields: tuple[AxisField, ...]
    heads: tuple[int, ...]
    row_count: int
    formulas: tuple[Expression, ...]
    filters: tuple[FilterPart, ...]
    keeps: tuple[KeepWhere | KeepBest, ...]
    made_of: tuple[tuple[FormulaPart, ...], ...] = ()

    def head(self, position: int) -> AxisField:
        """A field that no other determines, by its position among these."""
        return self.fields[self.heads[position]]


class _Found(Struct, frozen=True):
    """A field as an axis names it: a column, or a formula on the rows of a table."""

    item: AxisItem
    text: str
    axis: AxisWord
    table: str
    column: str
    expression: Expression | None = None
    source: int = 0


def resolve_request(session: Session, request: Request) -> Resolved:
    """Find every name of a request.

    Parameters
    ----------
    session : Session
        The model with its data.
    request : Request
        What is asked, as texts.

    Returns
    -------
    Resolved
        The session with the request's own columns, and every axis, value and condition resolved in it.

    Raises
    ------
    RequestError
        No values are asked, an axis names a column twice, or two values have one label.
    FormulaError
        An axis, a value or a condition cannot be understood.
    """
    return session.remembered(_resolve, request)


def _resolve(session: Session, request: Request) -> Resolved:
    _check_values(session, request)
    found = [each for at, text in enumerate(request.rows) for each in _find(session, text, "rows", at)]
    rows = len(found)
    found += [each for at, text in enumerate(request.columns) for each in _find(session, text, "columns", at)]
    made = tuple(dict.fromkeys(RowField(each.table, each.column, each.expression) for each in found if each.expression))
    session = session.with_fields(made)
    values = tuple(_value(session, value.label, value.formula) for value in request.values)
    labels = {value.label: value.formula for value in request.values}
    maker = _Fields(session, found, rows, values, labels)
    fields = maker.fields()
    heads = tuple(at for at, field in enumerate(fields) if field.attribute_of is None)
    filters = session.formulas.condition(request.where) if request.where else ()
    labelled = {
        each.item.label or each.column: (each.table, each.column)
        for each in found
        if each.item.label or each.expression
    }
    keeps = request_keeps(session.formulas, request.keep, labelled, labels) if request.keep else ()
    if not request.totals:
        fields = tuple(replace(field, total="none") for field in fields)
    count = sum(fields[at].axis == "rows" for at in heads)
    made_of = tuple(tuple(formula_parts(session, value.formula)) for value in request.values)
    return Resolved(
        session=session,
        fields=fields,
        heads=heads,
        row_count=count,
        formulas=values,
        filters=filters,
        keeps=keeps,
        made_of=made_of,
    )


def _check_values(session: Session, request: Request) -> None:
    if not request.values:
        raise RequestError(
            "No values requested.",
            fix=f"Name a measure or write a formula. {suggestion('', session.declaration.measures, noun='measure')}",
        )
    labels = [value.label for value in request.values]
    for label in labels:
        if labels.count(label) > 1:
            raise RequestError(
                f"Two values have the same name, {label}.", fix="Label one of them, for example net: {label}."
            )


def _value(session: Session, label: str, text: str) -> Expression:
    try:
        return session.formulas.formula(text, "" if label == " ".join(text.split()) else f"value {quoted(label)}")
    except FormulaError as error:
        # An equation of a name that the model has not is meant to give that name.
        if error.span.start == 0 and re.match(r"\w+ *=", text) and not text[: error.span.stop].count("."):
            error.fix = f"{LABELS} {error.fix}"
        raise


# -- what an axis names -----------------------------------------------------------------------------------------------


def _find(session: Session, text: str, axis: AxisWord, source: int) -> list[_Found]:
    (item,) = parse_axis(text, axis)
    reader = RequestReader(session.formulas, text, axis)
    node = item.formula
    if isinstance(node, Name) and item.over is None:
        if len(node.parts) == 2:
            _refuse_upto(reader, item)
            return [_Found(item, text, axis, *reader.column(node), source=source)]
        return _levels(session, reader, item, text, axis, source)
    _refuse_upto(reader, item)
    table, expression = reader.row_expression(node, item.over)
    name = " ".join(text[node.span.start : node.span.stop].split())
    while name in session.catalog.columns(table):
        name = f"={name}"  # no column's: what it holds is another thing
    return [_Found(item=item, text=text, axis=axis, table=table, column=name, expression=expression, source=source)]


def _refuse_upto(reader: RequestReader, item: AxisItem) -> None:
    if item.upto is not None:
        raise reader.error("Only a hierarchy can stop at a level.", item.upto.span, "Name the fields instead.")


def _levels(
    session: Session, reader: RequestReader, item: AxisItem, text: str, axis: AxisWord, source: int
) -> list[_Found]:
    """The levels of a hierarchy, each with the options that hold there."""
    assert isinstance(item.formula, Name), "a hierarchy is named"
    (name,) = item.formula.parts
    hierarchies = session.declaration.hierarchies
    if name not in hierarchies:
        raise _no_field(session, reader, item.formula)
    if item.label:
        raise reader.error(
            "A hierarchy is several fields, so one label cannot apply to it.",
            item.span,
            "Label its columns in the model: label = …",
        )
    levels = [split_name(level) for level in hierarchies[name].levels]
    if item.upto is not None:
        wanted = reader.column(item.upto)
        if wanted not in levels:
            raise reader.error(
                f"{quoted(name)} has no level {column_name(*wanted)}.",
                item.upto.span,
                f"Its levels: {', '.join(hierarchies[name].levels)}.",
            )
        levels = levels[: levels.index(wanted) + 1]
    inner = replace(item, closed=False, opened=None, closing=None)
    return [
        _Found(
            item=inner if at else item, text=text, axis=axis, table=table, column=column, expression=None, source=source
        )
        for at, (table, column) in enumerate(levels)
    ]


def _no_field(session: Session, reader: RequestReader, node: Name) -> FormulaError:
    (name,) = node.parts
    declaration = session.declaration
    owners = session.catalog.tables_with(name)
    if name in declaration.tables:
        of_it = [column_name(name, each) for each in telling_columns(session.catalog, name)]
        columns = [*(column_name(owner, name) for owner in owners), *of_it]
        fix = f"Write {columns[0]}." if len(columns) == 1 else f"Write {listed(columns[:-1], 4)} or {columns[-1]}."
        return reader.error(f"{quoted(name)} is a table, but an axis takes columns.", node.span, fix)
    if owners:
        shown = " or ".join(column_name(owner, name) for owner in owners)
        return reader.error(f"{name} is not a column.", node.span, f"Did you mean {shown}?")
    if name in declaration.measures:
        return reader.error(
            f"{quoted(name)} is a measure, and a measure can be a field only over some rows.",
            node.span,
            f"Use bands over a table's rows: band({quoted(name)} by 1000) over {example_grain(session.catalog)}.",
        )
    known = [*declaration.hierarchies, *declaration.tables]
    fix = suggestion(name, known, noun="hierarchy or table") if known else ""
    return reader.error(f"{name} is not a column.", node.span, f"Write table.column. {fix}".strip())


# -- fields -----------------------------------------------------------------------------------------------------------


class _Fields:
    """Makes fields of what the axes name, once the session has every column."""

    def __init__(
        self,
        session: Session,
        found: Sequence[_Found],
        rows: int,
        values: Sequence[Expression],
        labels: Mapping[str, str],
    ) -> None:
        self.session = session
        self.found = found
        self.rows = rows
        self.values = values
        self.labels = labels

    def fields(self) -> tuple[AxisField, ...]:
        """All fields, rows first."""
        named = [(each.table, each.column) for each in self.found]
        for each in self.found:
            if named.count((each.table, each.column)) > 1:
                raise RequestError(f"{self._name(each)} is on the axes twice.")
        rows = self._axis(self.found[: self.rows], 0)
        return tuple(rows + self._axis(self.found[self.rows :], len(rows)))

    def _axis(self, found: Sequence[_Found], offset: int) -> list[AxisField]:
        heads: dict[int, _Found] = {}
        fields: list[AxisField] = []
        for each in found:
            head = next((position for position, own in heads.items() if self._determines(own, each)), None)
            if head is None:
                heads[offset + len(fields)] = each
                fields.append(self._field(each))
            else:
                self._refuse_options(each, heads[head])
                fields.append(replace(self._plain(each), attribute_of=head))
        return fields

    def _determines(self, head: _Found, other: _Found) -> bool:
        """Whether by declaration a field's member has just one of another's: by its table's key, or by a level."""
        catalog, declaration = self.session.catalog, self.session.declaration
        if declaration.tables[declaration.rows_of(head.table)].key == (head.column,):
            return catalog.finds(head.table, other.table, [other.column])
        levels = [each.one for each in declaration.relationships if each.level]
        if not any((end.table, end.columns) == (head.table, (head.column,)) for end in levels):
            return False
        return other.table == head.table and catalog.determines(Place(head.table, (head.column,)), other.column)

    def _refuse_options(self, found: _Found, head: _Found) -> None:
        item = found.item
        if item.by or item.best is not None or item.total is not None or item.closing is not None:
            raise RequestReader(self.session.formulas, found.text, found.axis).error(
                f"{self._name(head)} determines {self._name(found)}, so the two form one field.",
                item.span,
                "Put the options on the first of them.",
            )

    def _name(self, found: _Found) -> str:
        if found.expression is None:
            return column_name(found.table, found.column)
        return found.item.label or self._formula(found)

    def _formula(self, found: _Found) -> str:
        span = found.item.formula.span
        return "" if found.expression is None else " ".join(found.text[span.start : span.stop].split())

    def _plain(self, found: _Found) -> AxisField:
        item, session = found.item, self.session
        name = self._name(found)
        label = session.declaration.label(found.table, found.column) if found.expression is None else name
        field = field_of(session.catalog, found.table, found.column)
        return AxisField(field, item.label or label, name, self._formula(found), found.axis, source=found.source)

    def _field(self, found: _Found) -> AxisField:
        item = found.item
        reader = RequestReader(self.session.formulas, found.text, found.axis, values=self.labels)
        plain = self._plain(found)
        best = None
        if item.best is not None:
            largest = item.best.edge == "top"
            if item.best.by:
                ranked = [self._ordered(reader, found, each) for each in item.best.by]
                by = (Ordered(ranked[0].expression, largest), *ranked[1:])
            else:
                by = (Ordered(self.values[0], largest),)
            best = BestOf(item.best.number, by)
        return replace(
            plain,
            by=tuple(self._ordered(reader, found, each) for each in item.by),
            best=best,
            others=item.others,
            total=item.total or "after",
            closed=item.closed,
            opened=None if item.opened is None else self._opened(reader, plain, item.opened),
        )

    def _ordered(self, reader: RequestReader, found: _Found, ordering: Ordering) -> Ordered:
        expression = reader.ordered_by(ordering)
        if isinstance(expression, ColumnValue):
            catalog = self.session.catalog
            route = catalog.lookup(found.table, expression.table, expression.column)
            unique = (
                route is not None
                and self.session.store.attribute(
                    found.table, found.column, route, expression.table, expression.column
                ).unique
            )
            if not unique:
                name, column = self._name(found), column_name(expression.table, expression.column)
                raise reader.error(
                    f"A member of {name} can have several values of {column}.",
                    ordering.formula.span,
                    f"Combine them: min({column}), or order by a measure.",
                )
        return Ordered(expression, ordering.descending)

    def _opened(self, reader: RequestReader, field: AxisField, members: Sequence[Literal | str]) -> Opened:
        assert field.field.type is not None, "the fields of axes are columns"
        named: list[tuple[str, int | float | str | bool | None]] = []
        for each in members:
            if isinstance(each, str):
                continue  # no match
            held = None if each.value is None else _held(each, field.field.type)
            if held is None and each.value is not None:
                raise reader.error(f"{field.name} is {an(field.field.type)}, but this is {an(each.type)}.", each.span)
            named.append((reader.written(each.span), held))
        return Opened(tuple(named), NO_MATCH in members)


def _held(literal: Literal, type_: Type) -> int | float | str | bool | None:
    """A constant as a column of a type holds it; None where it is of another type."""
    if not (literal.type.numeric and type_.numeric):
        if literal.type == type_:
            return literal.value
        moments = literal.type.kind is type_.kind is Kind.TIMESTAMP
        scale = type_.scale - literal.type.scale
        return int(literal.value or 0) * 10**scale if moments and scale >= 0 else None
    number = number_of(Constant(literal.value, literal.type))
    assert number is not None, "a numeric constant is a number"
    if type_.kind is Kind.FLOAT:
        return float(number)
    scaled = number * 10**type_.scale
    # A number with more digits than the column holds is not a member of it: as a float it equals none.
    return int(scaled) if scaled.denominator == 1 else float(scaled)
