"""What is behind an aggregate: its rows with all that they look up, or its members, and what these come to."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from decimal import Decimal
from fractions import Fraction
from typing import Any, Literal

import numpy as np
import pyarrow as pa

from relatum.audit.cell.filters import told_filters
from relatum.audit.cell.records import Evidence
from relatum.audit.cell.steps import Step
from relatum.data import vectors as v
from relatum.data.arrow import column_to_arrow, python_values
from relatum.data.columns import Array, Column
from relatum.data.days import day_of
from relatum.data.types import FLOAT, INTEGER, Kind, Type
from relatum.language.expression import Aggregate, Apply, ColumnValue, Constant, Expression, Slot, columns_in
from relatum.model.names import column_name, quoted
from relatum.model.routes import Route
from relatum.plan import engine
from relatum.plan.nodes import Aggregation, Field, Nested, RankedAmong
from relatum.plan.slots import formula_of
from relatum.session.session import Session

#: Of a count of rows, which names no column, so many columns are listed.
_SHOWN_COLUMNS = 6


@dataclass(frozen=True, slots=True)
class Behind:
    """Looks behind the aggregates of a formula in one cell."""

    session: Session
    seen: engine.Evidence
    fields: Sequence[Field]

    def of(self, step: Step, value: Any, most: int | None) -> Evidence | None:
        """What is behind a step; the first ``most`` of its rows or members are listed, all unless given."""
        match step.node:
            case Aggregation() as node:
                return self._rows(step, node, value, most)
            case Nested() | RankedAmong() as node:
                return self._members(step, node, value, most)
            case _:
                return None

    # -- rows ---------------------------------------------------------------------------------------------------------

    def _rows(self, step: Step, node: Aggregation, value: Any, most: int | None) -> Evidence:
        rows = self.seen.rows(node)
        table = node.bounds.source
        arguments = self.seen.columns(table, node.arguments, rows)
        losses = list(self._losses(table, node.arguments, rows))
        parts = self._parts(node)
        kind: Literal["rows", "values"] = "rows"
        if node.function == "count_distinct":
            kind, listed, shown = "values", *self._distinct(arguments[0], most)
            count = shown
        else:
            order = self._order(node, arguments, len(rows))
            chosen = order if most is None else order[:most]
            listed = self._listed(table, node, rows[chosen])
            shown = self._shown(node, [each.take(chosen) for each in arguments], len(chosen))
            count = len(rows)
        filters = () if step.counted is None else told_filters(self.seen, step.counted, step.filters)
        assert isinstance(step.expression, Aggregate), "rows are behind an aggregate"
        return Evidence(
            step.expression.text, table, node.function, kind, filters, count, value, parts, tuple(losses), listed, shown
        )

    def _order(self, node: Aggregation, arguments: list[Column], count: int) -> Array:
        """Rows as they stand; of a median or percentile by value, those in the middle first."""
        if node.function not in ("median", "percentile") or not arguments:
            return np.arange(count)
        known = v.there(arguments[0])
        order = np.lexsort((arguments[0].values, ~known))
        part = 0.5 if node.function == "median" else node.fraction
        middle = part * (int(known.sum()) - 1)
        return order[np.argsort(np.abs(np.arange(count) - middle), kind="stable")]

    def _listed(self, table: str, node: Aggregation, rows: Array) -> Any:
        """Rows with the parts of the row expression, the keys by which they look these up, and its value."""
        columns: dict[str, Expression] = {}
        types = self.session.catalog.columns(table)
        key = self.session.declaration.tables[self.session.declaration.rows_of(table)].key
        for name in key:
            columns[column_name(table, name)] = ColumnValue(table, name, types[name], route=())
        for value in (part for argument in node.arguments for part in columns_in(argument)):
            if isinstance(value, ColumnValue):
                for name in _joined_by(value.route or ()):
                    columns.setdefault(column_name(table, name), ColumnValue(table, name, types[name], route=()))
                columns.setdefault(column_name(value.table, value.column), value)
        for name in [] if columns else list(types)[:_SHOWN_COLUMNS]:
            columns[column_name(table, name)] = ColumnValue(table, name, types[name], route=())
        arrays = [column_to_arrow(each) for each in self.seen.columns(table, list(columns.values()), rows)]
        names = list(columns)
        for at, argument in enumerate(node.arguments):
            if not isinstance(argument, ColumnValue):
                arrays.append(column_to_arrow(self.seen.columns(table, [argument], rows)[0]))
                names.append("value" if at == 0 else f"value {at + 1}")
        return pa.table([pa.array(np.asarray(rows) + 1), *arrays], names=["row", *names])

    def _shown(self, node: Aggregation, arguments: list[Column], count: int) -> Any:
        """What the listed rows come to, folded here and not by the engine: exactly where numbers are exact."""
        if node.function == "count_rows":
            return count or None
        return folded(node.function, arguments[0]) if arguments and count else None

    def _distinct(self, column: Column, most: int | None) -> tuple[Any, int]:
        """The distinct values of a column with how many rows have each."""
        known = v.there(column)
        _, first, counts = np.unique(column.values[known], return_index=True, return_counts=True)
        chosen = np.arange(len(first)) if most is None else np.arange(len(first))[:most]
        values = column.take(np.flatnonzero(known)[first[chosen]])
        return pa.table([column_to_arrow(values), pa.array(counts[chosen])], names=["value", "rows"]), len(first)

    def _parts(self, node: Aggregation) -> tuple[tuple[str, Any], ...]:
        """Of an average both parts; of a median and the like how many values there are, and their sum."""
        match node.function:
            case "avg" | "median" | "percentile" | "stddev" | "variance" | "stddev_pop" | "variance_pop":
                return ("sum", self._folded(node, "sum")), ("count", self._folded(node, "count"))
            case "weighted_avg":
                value, weight = node.arguments
                # The weights of rows where both have a value: that of null is null.
                weights = Apply("+", (weight, Apply("*", (value, Constant(0, INTEGER)), FLOAT)), FLOAT)
                product = Apply("*", (value, weight), FLOAT)
                sums = [self._folded(replace(node, arguments=(each,)), "sum") for each in (product, weights)]
                return ("sum of value times weight", sums[0]), ("sum of weights", sums[1])
            case _:
                return ()

    def _folded(self, node: Aggregation, function: str) -> Any:
        type_ = INTEGER if function == "count" else node.arguments[0].type
        other = replace(node, function=function, type=type_)
        return python_values(self.seen.value(formula_of(Slot(other, type_))))[0]

    def _losses(self, table: str, arguments: Sequence[Expression], rows: Array) -> Iterator[str]:
        """The lookups that found nothing on some of the rows."""
        routes = {value.route for argument in arguments for value in columns_in(argument) if value.route}
        for route in sorted(routes, key=str):
            place = route[-1].target
            missing = int((self.session.store.positions(route, rows) == self.session.store.rows(place)).sum())
            if missing:
                yield f"{missing:,} of {len(rows):,} rows found no {quoted(place.table)}"

    # -- members ------------------------------------------------------------------------------------------------------

    def _members(self, step: Step, node: Nested | RankedAmong, value: Any, most: int | None) -> Evidence:
        formulas = node.arguments if isinstance(node, Nested) else (node.formula, *([node.by] if node.by else []))
        codes, values = self.seen.members(node.visible, formulas)
        count = len(next(iter(codes.values())))
        if isinstance(node, Nested) and node.drops:
            known = np.flatnonzero(v.there(values[0]))
            codes, values = {key: each[known] for key, each in codes.items()}, [each.take(known) for each in values]
            count = len(known)
        chosen = np.arange(count) if most is None else np.arange(count)[:most]
        names, arrays = [], []
        for key, each in codes.items():
            for name, array in self._named(key, each[chosen]):
                names.append(name)
                arrays.append(array)
        for at, column in enumerate(values):
            names.append("value" if at == 0 else "order")
            arrays.append(column_to_arrow(column.take(chosen)))
        text = step.text if not isinstance(step.expression, Aggregate) else step.expression.text
        filters = () if step.counted is None else told_filters(self.seen, step.counted, step.filters)
        # Where a count has no value (nothing relates what it counts), what is listed comes to none either, not to 0.
        counted = isinstance(node, Nested) and value is not None
        shown = folded(node.function, values[0].take(chosen)) if counted else None
        return Evidence(
            text,
            step.source,
            node.function,
            "members",
            filters,
            count,
            value,
            (),
            (),
            pa.table(arrays, names=names),
            shown,
        )

    def _named(self, key: int, codes: Array) -> Iterator[tuple[str, Any]]:
        field, store = self.fields[key], self.session.store
        if field.column:
            members = store.members(field.table, field.column)
            known = codes < members.null
            column = members.values.take(np.where(known, codes, 0)) if len(members.values) else members.values
            nulls = ~known if column.nulls is None else column.nulls | ~known
            made = Column(column.type, column.values, nulls, column.dictionary, column.lower, column.upper)
            yield column_name(field.table, field.column), column_to_arrow(made)
            return
        names = [name for name, _ in field.key] or list(self.session.catalog.columns(field.table))[:1]
        for name in names:
            yield column_name(field.table, name), column_to_arrow(store.column(field.table, name).take(codes))


def _joined_by(route: Route) -> tuple[str, ...]:
    """The columns of a row's own table by which it looks something up."""
    if not route or route[0].relationship is None:
        return ()
    related = route[0].relationship
    end = related.one if route[0].turned else related.many
    return end.columns


def folded(function: str, column: Column) -> Any:
    """Values folded anew: whole numbers and decimals exactly; None for a function that needs more than the values."""
    known = column.values[v.there(column)]
    if function == "count":
        return len(known)
    if function not in ("sum", "avg", "min", "max") or not len(known) or column.type.kind in (Kind.TEXT, Kind.BOOLEAN):
        return None
    if function in ("min", "max"):
        best = (np.min if function == "min" else np.max)(known)
        return _python(int(best) if column.type.exact else float(best), column.type)
    if not column.type.exact:
        total = math.fsum(known.tolist())
        return total / len(known) if function == "avg" else total
    far = max(abs(int(known.min())), abs(int(known.max()))) * len(known) >= 1 << 62
    whole = sum(known.tolist()) if far else int(known.sum(dtype=np.int64))
    if function == "avg":
        return float(Fraction(whole, len(known) * 10**column.type.scale))
    return _python(whole, column.type)


def _python(value: int | float, type_: Type) -> Any:
    if type_.kind is Kind.DECIMAL:
        return Decimal(int(value)).scaleb(-type_.scale)
    if type_.kind is Kind.DATE:
        return day_of(int(value))
    return value
