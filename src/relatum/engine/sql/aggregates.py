"""Aggregates as SQL: the form of each record of the register, with the parts that merge."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Literal

from msgspec import Struct
from sqlglot import exp

from relatum.data.types import FLOAT, INTEGER, Kind, Type
from relatum.engine.sql.dialects import Dialect
from relatum.engine.sql.scalars import converted
from relatum.engine.sql.terms import (
    Sql,
    Value,
    all_of,
    call,
    case,
    divided,
    double,
    equal,
    float_number,
    is_there,
    null,
    number,
    times,
)

Merge = Literal["sum", "min", "max"]


class Given(Struct, frozen=True, eq=False):
    """What an aggregate is of: its arguments, its type, its fraction, and what puts rows in order."""

    dialect: Dialect
    values: Sequence[Value]
    type: Type
    fraction: float
    order: Callable[[], Sql]

    @property
    def first(self) -> Value:
        """The first argument; where it is the constant null, a null of the aggregate's type."""
        value = self.values[0]
        return Value(null(self.type), self.type) if value.type.kind is Kind.NULL else value


class Merging(Struct, frozen=True, eq=False):
    """An aggregate of parts that merge: each with how, and its value made of the merged ones."""

    parts: Callable[[Given], list[tuple[Sql, Merge]]]
    finish: Callable[[Given, list[Sql]], Sql]


class Whole(Struct, frozen=True, eq=False):
    """An aggregate that needs all rows of a group at once."""

    form: Callable[[Given], Sql]


AggregateForm = Merging | Whole


def _sum_parts(given: Given) -> list[tuple[Sql, Merge]]:
    value = given.first
    return [(given.dialect.summed(value.sql, value.type == INTEGER), "sum")]


def _sum(given: Given, parts: list[Sql]) -> Sql:
    if given.type == FLOAT:
        return given.dialect.finite(parts[0])
    return given.dialect.total(parts[0], given.type)


def _average_parts(given: Given) -> list[tuple[Sql, Merge]]:
    parts: list[tuple[Sql, Merge]] = [*_sum_parts(given), (exp.Count(this=given.first.sql.copy()), "sum")]
    if given.first.type == FLOAT and given.dialect.sums_small:
        small = times(given.first.sql.copy(), float_number(2.0**-64))
        parts.append((exp.Sum(this=small), "sum"))
    return parts


def _average(given: Given, parts: list[Sql]) -> Sql:
    total, count, *small = parts
    known = exp.Nullif(this=double(count), expression=number(0))
    if given.first.type == FLOAT:
        return given.dialect.finite(given.dialect.average(total, small[0] if small else null(FLOAT), known))
    return divided(double(total), known)


def _weighted_parts(given: Given) -> list[tuple[Sql, Merge]]:
    value, weight = (converted(each, FLOAT) for each in given.values)
    counted = case([(is_there(value.copy()), weight)])
    return [(exp.Sum(this=times(value, weight.copy())), "sum"), (exp.Sum(this=counted), "sum")]


def _weighted(given: Given, parts: list[Sql]) -> Sql:
    total, weights = parts
    return given.dialect.finite(divided(total, exp.Nullif(this=weights, expression=number(0))))


def _count_parts(given: Given) -> list[tuple[Sql, Merge]]:
    return [(exp.Count(this=given.values[0].sql), "sum")]


def _row_parts(given: Given) -> list[tuple[Sql, Merge]]:
    return [(exp.Count(this=exp.Star()), "sum")]


def _count(given: Given, parts: list[Sql]) -> Sql:
    return given.dialect.total(parts[0], INTEGER)


def _extreme(largest: bool) -> Merging:
    merge: Merge = "max" if largest else "min"

    def parts(given: Given) -> list[tuple[Sql, Merge]]:
        value = given.first
        ordered = given.dialect.by_code_point(value.sql) if value.type.kind is Kind.TEXT else value.sql
        return [(given.dialect.smallest(ordered, value.type, largest), merge)]

    return Merging(parts, lambda given, parts: parts[0])


def _sole_parts(given: Given) -> list[tuple[Sql, Merge]]:
    value = given.first
    both: list[tuple[Sql, Merge]] = [
        (given.dialect.smallest(value.sql.copy(), value.type, False), "min"),
        (given.dialect.smallest(value.sql.copy(), value.type, True), "max"),
    ]
    return [*both, (exp.Count(this=value.sql.copy()), "sum"), (exp.Count(this=exp.Star()), "sum")]


def _sole(given: Given, parts: list[Sql]) -> Sql:
    low, high, known, rows = parts
    return case([(all_of([equal(low, high), equal(known, rows)]), low.copy())])


def _few_parts(given: Given) -> list[tuple[Sql, Merge]]:
    low, high, known, _ = _sole_parts(given)
    return [low, high, known]


def _few(given: Given, parts: list[Sql]) -> Sql:
    low, high, known = parts
    return case([(equal(known, number(0)), number(0)), (equal(low, high), number(1))], number(2))


def _row_edges(given: Given) -> list[tuple[Sql, Merge]]:
    row = given.order()
    return [(exp.Min(this=row), "min"), (exp.Max(this=row.copy()), "max")]


def _sole_row(given: Given, parts: list[Sql]) -> Sql:
    low, high = parts
    return case([(equal(low, high), low.copy())])


def _spread(name: str) -> Whole:
    return Whole(lambda given: given.dialect.finite(call(name, converted(given.first, FLOAT))))


def _edge(last: bool) -> Whole:
    def form(given: Given) -> Sql:
        value, by = given.first, given.values[1]
        ordered = given.dialect.by_code_point(by.sql) if by.type.kind is Kind.TEXT else by.sql
        known = all_of([is_there(value.sql.copy()), is_there(by.sql.copy())])
        return given.dialect.edge(value.sql, [ordered, given.order()], last, known)

    return Whole(form)


def _median(given: Given) -> Sql:
    return given.dialect.median(0.5, converted(given.first, FLOAT))


def _percentile(given: Given) -> Sql:
    return given.dialect.median(given.fraction, converted(given.first, FLOAT))


AGGREGATE_FORMS: Mapping[str, AggregateForm] = {
    "sum": Merging(_sum_parts, _sum),
    "avg": Merging(_average_parts, _average),
    "weighted_avg": Merging(_weighted_parts, _weighted),
    "min": _extreme(False),
    "max": _extreme(True),
    "count": Merging(_count_parts, _count),
    "count_rows": Merging(_row_parts, _count),
    "count_distinct": Whole(lambda given: given.dialect.distinct_count(given.values[0].sql)),
    "few_distinct": Merging(_few_parts, _few),
    "median": Whole(_median),
    "percentile": Whole(_percentile),
    "stddev": _spread("STDDEV_SAMP"),
    "variance": _spread("VAR_SAMP"),
    "stddev_pop": _spread("STDDEV_POP"),
    "variance_pop": _spread("VAR_POP"),
    "first": _edge(False),
    "last": _edge(True),
    "sole": Merging(_sole_parts, _sole),
    "sole_row": Merging(_row_edges, _sole_row),
}


def aggregate(function: str, given: Given) -> Sql:
    """An aggregate over the rows of a group."""
    form = AGGREGATE_FORMS[function]
    match form:
        case Merging(parts, finish):
            return finish(given, [part for part, _ in parts(given)])
        case Whole(make):
            return make(given)
