"""Rows and what they look up: the FROM of a SELECT, grown as columns are asked for."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from types import MappingProxyType
from typing import assert_never

from msgspec import Struct
from sqlglot import exp

from relatum.data.types import BOOLEAN, DATE, FLOAT, Kind, Type
from relatum.engine.sql.parts import Parts
from relatum.engine.sql.scalars import applied
from relatum.engine.sql.sheet import Frame, KeyColumn
from relatum.engine.sql.terms import (
    Sql,
    Value,
    aliased,
    all_of,
    at_most,
    blank,
    call,
    case,
    cast,
    coalesce,
    column,
    constant,
    double,
    equal,
    is_null,
    is_there,
    less,
    number,
    quoted,
    sql_type,
)
from relatum.language.expression import (
    Aggregate,
    Apply,
    Choices,
    ColumnValue,
    Constant,
    Expression,
    InContext,
    LetIn,
    LetValue,
    Narrowed,
    NoMatch,
    Ranked,
    Slot,
    is_plain,
)
from relatum.model.routes import Hop, Place, Route
from relatum.plan.nodes import Match, Restriction

#: Derived columns with more parts than this are computed once, not written out wherever they are read.
_LONG = 60


class At(Struct, frozen=True, eq=False):
    """Where a row is in a SELECT: something joined under an alias.

    ``probe`` is a column that has a value on each of its rows, so that none means no match; None where a row is sure.
    ``copied`` says that the relation is one of ours, in which a column tells the rows apart.
    """

    alias: str
    place: Place
    probe: Callable[[], Sql] | None = None
    copied: bool = False


class Key(Struct, frozen=True, eq=False):
    """A key's value and state as SQL; no state where all are members."""

    value: Sql
    state: Sql | None
    type: Type


Leaf = Callable[[Expression], Value]


class Rows:
    """A FROM with its joins and conditions.

    Parameters
    ----------
    parts : Parts
        What the joins are made of.
    alias : str
        The name of what is read from first.
    source : expression
        That itself.
    """

    def __init__(self, parts: Parts, alias: str, source: Sql) -> None:
        self.parts = parts
        self.alias = alias
        self.source = source
        self.joins: list[exp.Join] = []
        self.where: list[Sql] = []
        self._found: dict[tuple[str, Route], At] = {}
        self._derived: dict[tuple[str, str, str], Value] = {}
        self._frame_rows: dict[tuple[int, str], At] = {}
        #: Rows reached through columns of the source, by name.
        self.anchors: dict[str, At] = {}

    @classmethod
    def of(cls, parts: Parts, table: str) -> tuple[Rows, At]:
        """The rows of a table, and where they are."""
        owner = parts.tables.rows_of(table)
        alias = parts.alias(owner)
        return cls(parts, alias, parts.stored(table).relation(alias)), At(alias, Place(table))

    def select(self, *columns: Sql, distinct: bool = False, grouped: int = 0) -> exp.Select:
        """The SELECT of some columns, grouped by the first ones."""
        query = exp.Select(expressions=list(columns) or [aliased(number(1), "one")])
        query.set("from_", exp.From(this=self.source))
        if self.joins:
            query.set("joins", self.joins)
        if self.where:
            query.set("where", exp.Where(this=all_of(self.where)))
        if distinct:
            query.set("distinct", exp.Distinct())
        if grouped:
            query.set("group", exp.Group(expressions=[number(at + 1) for at in range(grouped)]))
        return query

    # -- joins --------------------------------------------------------------------------------------------------------

    def join(self, source: Sql, on: list[Sql], *, left: bool) -> None:
        """Join one more relation."""
        if not on:
            self.joins.append(exp.Join(this=source, kind="CROSS"))
        elif left:
            self.joins.append(exp.Join(this=source, on=all_of(on), side="LEFT"))
        else:
            self.joins.append(exp.Join(this=source, on=all_of(on)))

    def at(self, start: At, route: Route) -> At:
        """The row that a row finds along a route."""
        key = (start.alias, route)
        if not route:
            return start
        if key not in self._found:
            *before, hop = route
            self._found[key] = self._hop(*self._before(start, tuple(before), hop))
        return self._found[key]

    def _before(self, start: At, before: Route, hop: Hop) -> tuple[At, Hop, Mapping[str, str]]:
        """Where a hop sets out from, and what the columns that it reads are called there."""
        names = {} if (start.alias, before) in self._found else self._passed_over(start, before, hop)
        return self.at(start, before[:-1] if names else before), hop, names

    def _passed_over(self, start: At, before: Route, hop: Hop) -> Mapping[str, str]:
        """The columns before a hop's last place that equal those by which the hop goes on; empty where not all do.

        An order line that has its offer's part and supplier finds the part without the offer, if it finds its offer.
        """
        last = before[-1] if before else None
        if last is None or not _plain(last) or not _plain(hop) or last.target.level or self.parts.may_miss(last):
            return {}
        assert last.relationship is not None and hop.relationship is not None
        ends = zip(last.relationship.one.columns, last.relationship.many.columns, strict=True)
        names = {one: many for one, many in ends if one in hop.relationship.many.columns}
        if len(names) < len(hop.relationship.many.columns):
            return {}
        here = self.at(start, before[:-1])
        target = last.target.table
        alike = all(self.column(here, many).type == self.parts.column_type(target, one) for one, many in names.items())
        return names if alike and here.probe is None else {}

    def _hop(self, here: At, hop: Hop, names: Mapping[str, str]) -> At:
        alias = self.parts.alias(hop.target.table)
        sure = here.probe is None and not self.parts.may_miss(hop)
        place, relationship = hop.target, hop.relationship
        relation = self.parts.level(place, lambda columns: self._level(place, columns)) if place.level else ""
        there = At(alias, place)
        if relationship is None:
            on = [equal(self.column(here, name).sql, self.column(there, name).sql) for name in place.level]
        elif relationship.match == "as_of":
            ends = relationship.one.columns
            relation = self.parts.intervals(place.table, ends, lambda: self._intervals(place.table, ends))
            there = At(alias, place, copied=True)
            on = self._as_of(here, hop, there)
        else:
            on = self.ends(here, hop, there, names)
        source = self.parts.sheet.table(relation, alias) if relation else self.parts.stored(place.table).relation(alias)
        # Where every row is known to find one, so does this: an inner join is the same, and quicker to plan.
        self.join(source, on, left=not sure)
        return At(alias, place, None if sure else self._probe(hop, there), there.copied)

    def _level(self, place: Place, columns: Mapping[str, str]) -> Sql:
        rows, start = Rows.of(self.parts, place.table)
        made = []
        for name, own in columns.items():
            value = rows.column(start, name)
            one = value.sql if name in place.level else self.parts.dialect.any_value(value.sql, value.type)
            made.append(aliased(one, own))
        rows.where += [is_there(rows.column(start, name).sql) for name in place.level]
        return rows.select(*made, grouped=len(place.level))

    def _intervals(self, table: str, ends: tuple[str, ...]) -> Sql:
        rows, start = Rows.of(self.parts, table)
        known = [rows.column(start, name).sql for name in ends]
        window = exp.Window(
            this=call("LEAD", known[-1]),
            partition_by=[each.copy() for each in known[:-1]],
            order=exp.Order(expressions=[exp.Ordered(this=known[-1].copy())]),
        )
        rows.where.append(all_of(is_there(each.copy()) for each in known))
        every = exp.Column(this=exp.Star(), table=quoted(start.alias))
        row = aliased(rows.row(start), self.parts.row_column)
        return rows.select(every, row, aliased(window, self.parts.until))

    def _probe(self, hop: Hop, there: At) -> Callable[[], Sql]:
        if hop.relationship is None:
            name = hop.target.level[0]
        else:
            name = (hop.relationship.many if hop.turned else hop.relationship.one).columns[0]
        return lambda: self.column(there, name).sql

    def ends(self, here: At, hop: Hop, there: At, names: Mapping[str, str] = MappingProxyType({})) -> list[Sql]:
        """That the ends of a relationship agree, in whichever direction a hop goes along it.

        ``names`` are what columns of where it comes from are called here, where that place was passed over.
        """
        relationship = hop.relationship
        assert relationship is not None, "a relationship has ends"
        many, one = (there, here) if hop.turned else (here, there)
        pairs = zip(relationship.many.columns, relationship.one.columns, strict=True)
        return [self._agree(self.column(many, names.get(left, left)), self.column(one, right)) for left, right in pairs]

    def _as_of(self, here: At, hop: Hop, there: At) -> list[Sql]:
        relationship = hop.relationship
        assert relationship is not None, "a relationship is matched as of"
        *pairs, last = zip(relationship.many.columns, relationship.one.columns, strict=True)
        on = [self._agree(self.column(here, left), self.column(there, right)) for left, right in pairs]
        moment, start = self.column(here, last[0]), self.column(there, last[1])
        until = column(there.alias, self.parts.until)
        value = self._day(moment, start)
        on.append(at_most(start.sql, value))
        on.append(exp.Or(this=less(value.copy(), until), expression=is_null(until.copy())))
        on[-1] = exp.Paren(this=on[-1])
        return on

    def _day(self, left: Value, right: Value) -> Sql:
        # A moment finds the row of its day.
        dated = left.type.kind is Kind.TIMESTAMP and right.type == DATE
        return cast(left.sql, sql_type(DATE)) if dated else left.sql

    def agreeing(self, many: Value, one: Value) -> tuple[Sql, Sql]:
        """The ends of a relationship as they are compared."""
        left, right = self._day(many, one), one.sql
        if FLOAT in (many.type, one.type) and many.type != one.type:
            left, right = double(left), double(right)
        return left, right

    def _agree(self, many: Value, one: Value) -> Sql:
        return equal(*self.agreeing(many, one))

    # -- values -------------------------------------------------------------------------------------------------------

    def column(self, at: At, name: str) -> Value:
        """A column of where a row is."""
        if at.place.level:
            known = self.parts.level_column(at.place, name)
            return Value(column(at.alias, known), self.parts.column_type(at.place.table, name))
        stored = self.parts.stored(at.place.table).columns.get(name)
        if stored is not None:
            return Value(stored.read(column(at.alias, stored.name)), stored.type, stored.wide)
        key = (at.alias, self.parts.tables.rows_of(at.place.table), name)
        if key not in self._derived:
            self._derived[key] = self._derived_column(at, name)
        found = self._derived[key]
        return Value(found.sql.copy(), found.type, found.wide)

    def _derived_column(self, at: At, name: str) -> Value:
        derivation = self.parts.derivation(at.place.table, name)
        expression = derivation.formula.expression
        if is_plain(expression) and _size(expression) <= _LONG:
            value = self.value(expression, self.reader(At(at.alias, Place(derivation.table), at.probe, at.copied)))
            if at.probe is not None:
                # A constant part has a value even without a row, where the column has none.
                value = Value(case([(is_there(at.probe()), value.sql)]), value.type, value.wide)
            return value
        relation = self.parts.derived(derivation)
        alias = self.parts.alias(name)
        self.join(self.parts.sheet.table(relation, alias), [equal(column(alias, "k0"), self.row(at))], left=True)
        return Value(column(alias, "v"), derivation.type)

    def row(self, at: At) -> Sql:
        """What tells the row apart from others of its table."""
        assert not at.place.level, "rows of levels are distinguished by their columns"
        return column(at.alias, self.parts.row_column) if at.copied else self.parts.stored(at.place.table).row(at.alias)

    def missing(self, at: At) -> Sql | None:
        """Whether nothing was found; None where something is sure to be."""
        return None if at.probe is None else is_null(at.probe())

    def reader(self, start: At) -> Leaf:
        """Reads the columns that a row has and looks up."""

        def leaf(expression: Expression) -> Value:
            match expression:
                case ColumnValue(column=name, route=route):
                    return self.column(self.at(start, route or ()), name)
                case NoMatch(route=route):
                    missing = self.missing(self.at(start, route or ()))
                    return Value(exp.false() if missing is None else missing, BOOLEAN)
                case (
                    Constant()
                    | Choices()
                    | Apply()
                    | Aggregate()
                    | Ranked()
                    | Narrowed()
                    | InContext()
                    | LetIn()
                    | LetValue()
                    | Slot()
                ):
                    raise AssertionError(f"{expression} is not a column")
                case _:
                    assert_never(expression)

        return leaf

    def value(self, expression: Expression, leaf: Leaf) -> Value:
        """An expression as SQL."""
        match expression:
            case Constant(value, type_):
                return Value(constant(value, type_), type_, False, value)
            case Choices(values, type_):
                return Value(exp.Tuple(expressions=[constant(each, type_) for each in values]), type_)
            case Apply(function, arguments, type_):
                known = [self.value(each, leaf) for each in arguments]
                return applied(self.parts.dialect, function, known, type_)
            case _:
                return leaf(expression)

    def fulfils(self, start: At, restriction: Restriction) -> Sql:
        """That a row fulfils a condition, which may judge what it looks up."""
        return self.value(restriction.part.expression, self.reader(self.at(start, restriction.route))).sql

    # -- keys ---------------------------------------------------------------------------------------------------------

    def key_along(self, start: At, match: Match) -> Key:
        """What a match compares, on rows that find it along its route.

        Where that is the column by which every row finds its lookup, the row's own end of the relationship is the same,
        and nothing is joined.
        """
        *before, hop = match.route or (None,)
        related = None if hop is None else hop.relationship
        if hop is None or related is None or hop.turned or hop.reach or related.match != "equal" or hop.target.level:
            return self.key(self.at(start, match.route), match)
        key = self.parts.stored(hop.target.table).key
        wanted = match.column or key
        if related.one.columns != (wanted,) or self.parts.may_miss(hop):
            return self.key(self.at(start, match.route), match)
        here, _, names = self._before(start, tuple(each for each in before if each is not None), hop)
        end = related.many.columns[0]
        mine = self.column(here, names.get(end, end))
        if here.probe is not None or mine.type != self.parts.column_type(hop.target.table, wanted):
            return self.key(self.at(start, match.route), match)
        return Key(mine.sql, None, mine.type)

    def key(self, at: At, match: Match) -> Key:
        """What a match compares, on the rows at hand."""
        missing = self.missing(at)
        if not match.column:
            row = self.row(at)
            type_ = self.parts.stored(match.table).row_type
            if missing is None:
                return Key(row, None, type_)
            return Key(coalesce(row, blank(type_)), case([(missing, number(2))], number(0)), type_)
        value = self.column(at, match.column)
        nullable = self.parts.nullable(at.place, match.column)
        return self.key_of(value, missing, nullable)

    def key_of(self, value: Value, missing: Sql | None, nullable: bool) -> Key:
        """A key of a value, null where it is null, no match where the row is missing."""
        if missing is None and not nullable:
            return Key(value.sql, None, value.type)
        branches = [] if missing is None else [(missing, number(2))]
        if nullable:
            branches.append((is_null(value.sql.copy()), number(1)))
        return Key(coalesce(value.sql, blank(value.type)), case(branches, number(0)), value.type)

    def frame_row(self, frame: Frame, key: int, table: str) -> At:
        """The row that a key of cells holds."""
        if (key, table) not in self._frame_rows:
            alias = self.parts.alias(table)
            stored = self.parts.stored(table)
            own = frame.keys[key]
            on = [equal(stored.row(alias), column(self.alias, own.value))]
            if own.state is not None:
                on.append(equal(column(self.alias, own.state), number(0)))
            self.join(stored.relation(alias), on, left=True)
            probe = None
            if own.state is not None:
                probe = lambda: stored.row(alias)  # noqa: E731
            self._frame_rows[key, table] = At(alias, Place(table), probe)
        return self._frame_rows[key, table]


def frame_key(frame: Frame, alias: str, key: int, type_: Type) -> Key:
    """A key of cells, read from their relation."""
    own = frame.keys[key]
    return Key(column(alias, own.value), None if own.state is None else column(alias, own.state), type_)


def same_key(one: Key, other: Key) -> list[Sql]:
    """That two keys hold the same member."""
    conditions = [equal(one.value.copy(), other.value.copy())]
    if one.state is None and other.state is None:
        return conditions
    states = [number(0) if each.state is None else each.state.copy() for each in (one, other)]
    return [*conditions, equal(*states)]


def key_columns(key: Key, name: str) -> tuple[list[Sql], KeyColumn]:
    """A key as columns of a SELECT."""
    columns = [aliased(key.value, name)]
    if key.state is None:
        return columns, KeyColumn(name, None)
    return [*columns, aliased(key.state, f"{name}s")], KeyColumn(name, f"{name}s")


def _size(expression: Expression) -> int:
    count, pending = 0, [expression]
    while pending and count <= _LONG:
        part = pending.pop()
        count += 1
        if isinstance(part, Apply):
            pending += part.arguments
    return count


def _plain(hop: Hop) -> bool:
    """Whether a hop goes from the many side to the one row that has equal columns."""
    related = hop.relationship
    return related is not None and related.match == "equal" and related.kind == "many_to_one" and not (
        hop.turned or hop.reach or related.level
    )  # fmt: skip
