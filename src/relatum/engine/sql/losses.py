"""What aggregates leave out of a table's rows, counted by separate queries."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from typing import assert_never

from sqlglot import exp

from relatum.data.types import BOOLEAN, FLOAT, INTEGER
from relatum.engine.sql.parts import Parts
from relatum.engine.sql.seen import Seen, Seer, SetRelation
from relatum.engine.sql.terms import Sql, aliased, all_of, case, is_null, is_there, negated, null, number, united
from relatum.immutable import Immutable
from relatum.language.expression import Apply, ColumnValue, Constant, Expression, applications, columns_in
from relatum.language.register import AGGREGATES, CAST
from relatum.model.names import column_name
from relatum.model.routes import Place, Route, reach_of
from relatum.plan.engine import Loss, LostCast, LostCondition, LostLookup
from relatum.plan.nodes import Aggregation, Bounds, Restriction


class Counted(Immutable, frozen=True):
    """A count of rows that something leaves out: of which table, under which conditions, and why.

    ``value`` is what has no value because a lookup along ``route`` found nothing, or a cast; ``judged`` is the
    condition that leaves them out. ``before`` are lookups that would have been noted first.
    """

    source: str
    restrictions: tuple[Restriction, ...]
    value: Expression | None = None
    route: Route = ()
    before: tuple[Route, ...] = ()
    judged: Restriction | None = None

    def losses(self, rows: int) -> Iterator[Loss]:
        """What is to be reported, and about how many rows."""
        if not rows:
            return
        if self.judged is not None:
            yield LostCondition(self.source, self.judged.part.table, self.judged.part.text, rows)
        elif self.route:
            assert self.value is not None, "a lookup is of a value"
            name = self.route[-1].target.table
            for each in columns_in(self.value):
                if isinstance(each, ColumnValue) and each.table == name:
                    yield LostLookup(self.source, name, column_name(name, each.column), rows)
        else:
            assert isinstance(self.value, Apply), "what does not fit is a cast"
            columns = [column_name(each.table, each.column) for each in columns_in(self.value)
                       if isinstance(each, ColumnValue)]  # fmt: skip
            yield LostCast(self.source, " and ".join(dict.fromkeys(columns)), str(self.value.type), rows)


def counted_losses(parts: Parts, nodes: Iterable[Aggregation]) -> list[Counted]:
    """What is to be counted for aggregates, as far as the data has any of it."""
    found: dict[Counted, None] = {}
    for node in nodes:
        bounds = node.bounds
        for value in _values(node):
            found.update(dict.fromkeys(_lookups(parts, bounds, value)))
            for cast in applications(CAST, value):
                if columns_in(cast):
                    found[Counted(bounds.source, bounds.restrictions, cast)] = None
        parts.look_at(bounds.source, bounds.restrictions)
    for source, restrictions in parts.looked_at:
        for each in restrictions:
            others = tuple(one for one in restrictions if one is not each)
            if each.route and reach_of(each.route) < 0 and _misses(parts, each.route):
                found[Counted(source, others, None, each.route, (), each)] = None
            for cast in applications(CAST, each.part.expression):
                if columns_in(cast):
                    found[Counted(each.part.table, others if each.part.table == source else (), cast)] = None
    return list(found)


def _values(node: Aggregation) -> tuple[Expression, ...]:
    """What an aggregate takes of each row; a weighted average takes a product, and weights where there is a value."""
    form = AGGREGATES[node.function].form
    match form:
        case "column" | "internal":
            return ()
        case "weighted":
            value, weight = node.arguments
            weighed = Apply("case", (Apply("is_null", (value,), BOOLEAN), Constant(None, FLOAT), weight), FLOAT)
            return Apply("*", (value, weight), FLOAT), weighed
        case "plain" | "table" | "distinct" | "by" | "fraction":
            return node.arguments
        case _:
            assert_never(form)


def _lookups(parts: Parts, bounds: Bounds, value: Expression) -> Iterator[Counted]:
    routes = {each.route for each in columns_in(value) if isinstance(each, ColumnValue) and each.route}
    missing = sorted((route for route in routes if _misses(parts, route)), key=lambda route: (len(route), str(route)))
    for at, route in enumerate(missing):
        yield Counted(bounds.source, bounds.restrictions, value, route, tuple(missing[:at]))


def _misses(parts: Parts, route: Route) -> bool:
    return any(parts.may_miss(hop) for hop in route)


def counting(parts: Parts, counted: Sequence[Counted]) -> tuple[exp.Select | exp.Union, list[list[Counted]]]:
    """The query of counts: those of the same rows are in one row of it, as ``n0``, ``n1`` and so on."""
    groups: dict[tuple[str, tuple[Restriction, ...]], list[Counted]] = {}
    for each in counted:
        groups.setdefault((each.source, each.restrictions), []).append(each)
    most = max(map(len, groups.values()))
    selects = []
    for at, ((source, restrictions), own) in enumerate(groups.items()):
        seen = Seer(parts, _no_set).see(Bounds(source, restrictions=restrictions))
        # Where rows are counted by a condition is not said with WHERE: an optimizer may take that for a join.
        counts: list[Sql] = [exp.Count(this=case([(all_of(_conditions(seen, each)), number(1))])) for each in own]
        counts += [null(INTEGER)] * (most - len(own))
        columns = [aliased(count, f"n{place}") for place, count in enumerate(counts)]
        selects.append(seen.rows.select(aliased(number(at), "g"), *columns))
    return united(selects, distinct=False), list(groups.values())


def _conditions(seen: Seen, counted: Counted) -> list[Sql]:
    """When a row is one of those counted."""
    rows = seen.rows
    leaf = rows.reader(seen.start)
    if counted.judged is not None:
        judged = rows.at(seen.start, counted.judged.route)
        own = rows.value(counted.judged.part.expression, rows.reader(judged)).sql
        # Where nothing was found the condition is not true: it leaves the row out.
        left_out = negated(exp.Coalesce(this=own, expressions=[exp.false()]))
        return [rows.missing(judged) or exp.false(), left_out]
    assert counted.value is not None, "a value is missing, or does not fit"
    missing = is_null(rows.value(counted.value, leaf).sql)
    if counted.route:
        lost = rows.missing(rows.at(seen.start, counted.route)) or exp.false()
        before = [rows.missing(rows.at(seen.start, route)) for route in counted.before]
        return [missing, lost, *(negated(exp.Paren(this=each)) for each in before if each is not None)]
    assert isinstance(counted.value, Apply), "what does not fit is a cast"
    return [missing, is_there(rows.value(counted.value.arguments[0], leaf).sql)]


def _no_set(what: object, place: Place) -> SetRelation:
    raise AssertionError("rows are counted whatever cells see")
