"""What is behind an aggregate: its rows with all that they look up, or its members, and what these come to."""

from __future__ import annotations

import math
from collections.abc import Sequence
from decimal import Decimal
from fractions import Fraction
from typing import Any, Literal, assert_never

import numpy as np
import pyarrow as pa
from msgspec import Struct
from msgspec.structs import replace

from relatum.audit.cell.filters import filters_in_force
from relatum.audit.cell.records import Evidence
from relatum.audit.cell.steps import Step
from relatum.data import vectors as v
from relatum.data.arrow import column_to_arrow, python_values
from relatum.data.columns import Array, Column
from relatum.data.days import day_of
from relatum.data.types import FLOAT, INTEGER, Kind, Type
from relatum.language.expression import Aggregate, Apply, ColumnValue, Constant, Expression, Slot, columns_in
from relatum.language.register import AGGREGATES
from relatum.language.rules import float_of
from relatum.model.names import column_name, quoted
from relatum.model.routes import Route
from relatum.plan import engine
from relatum.plan.nodes import Aggregation, Field, KeyColumn, Named, Naming, Nested, RankedAmong
from relatum.plan.slots import formula_of
from relatum.session.session import Session
from relatum.wording import agreeing, counted

#: How many columns are listed for a count of rows, which names no column.
_SHOWN_COLUMNS = 6


class Behind(Struct, frozen=True):
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
            case KeyColumn() | Named() | Naming() | None:
                return None
            case _:
                assert_never(step.node)

    # -- rows ---------------------------------------------------------------------------------------------------------

    def _rows(self, step: Step, node: Aggregation, value: Any, most: int | None) -> Evidence:
        table = node.bounds.source
        parts = self._parts(node)
        kind: Literal["rows", "values"] = "rows"
        found = self.seen.rows(node, most)
        losses = [
            f"{missing:,} of {counted(found.count, 'row')} {agreeing(missing, 'has', 'have')} no matching "
            f"{quoted(name)}"
            for name, missing in self.seen.lost(node)
        ]
        if node.function == "count_distinct":
            values, counts, count = self.seen.distinct(node, most)
            listed = pa.table([column_to_arrow(values), pa.array(counts)], names=["value", "rows"])
            kind, shown = "values", count
        else:
            listed = self._listed(table, node, found.rows)
            arguments = self.seen.columns(table, node.arguments, found.rows)
            shown, count = self._shown(node, arguments, len(found.rows)), found.count
        filters = () if step.counted is None else filters_in_force(self.seen, step.counted, step.filters)
        assert isinstance(step.expression, Aggregate), "rows are behind an aggregate"
        return Evidence(
            text=step.expression.text,
            source=table,
            function=node.function,
            kind=kind,
            filters=filters,
            count=count,
            value=value,
            parts=parts,
            losses=tuple(losses),
            table=listed,
            shown=shown,
        )

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
        for name in [] if columns else self.session.catalog.shown(table)[:_SHOWN_COLUMNS]:
            columns[column_name(table, name)] = ColumnValue(table, name, types[name], route=())
        arrays = [column_to_arrow(each) for each in self.seen.columns(table, list(columns.values()), rows)]
        names = list(columns)
        for at, argument in enumerate(node.arguments):
            if not isinstance(argument, ColumnValue):
                arrays.append(column_to_arrow(self.seen.columns(table, [argument], rows)[0]))
                names.append("value" if at == 0 else f"value {at + 1}")
        numbers = rows if rows.dtype == object else rows + 1
        return pa.table([pa.array(numbers), *arrays], names=["row", *names])

    def _shown(self, node: Aggregation, arguments: list[Column], count: int) -> Any:
        """What the listed rows come to, folded here and not by the engine: exactly where numbers are exact."""
        if node.function == "count_rows":
            return count or None
        return folded(node.function, arguments[0]) if arguments and count else None

    def _parts(self, node: Aggregation) -> tuple[tuple[str, Any], ...]:
        """Of an average both parts; of a median and the like how many values there are, and their sum."""
        record = AGGREGATES[node.function]
        match record.form:
            case "plain" | "fraction":
                if record.infer is not float_of:
                    return ()
                return ("sum", self._folded(node, "sum")), ("count", self._folded(node, "count"))
            case "weighted":
                value, weight = node.arguments
                # The weights of rows where both have a value: that of null is null.
                weights = Apply("+", (weight, Apply("*", (value, Constant(0, INTEGER)), FLOAT)), FLOAT)
                product = Apply("*", (value, weight), FLOAT)
                sums = [self._folded(replace(node, arguments=(each,)), "sum") for each in (product, weights)]
                return ("sum of value times weight", sums[0]), ("sum of weights", sums[1])
            case "table" | "distinct" | "by" | "column" | "internal":
                return ()
            case _:
                assert_never(record.form)

    def _folded(self, node: Aggregation, function: str) -> Any:
        type_ = INTEGER if function == "count" else node.arguments[0].type
        other = replace(node, function=function, type=type_)
        return python_values(self.seen.value(formula_of(Slot(other, type_))))[0]

    # -- members ------------------------------------------------------------------------------------------------------

    def _members(self, step: Step, node: Nested | RankedAmong, value: Any, most: int | None) -> Evidence:
        formulas = node.arguments if isinstance(node, Nested) else (node.formula, *([node.by] if node.by else []))
        found = self.seen.members(node.visible, formulas, most, isinstance(node, Nested) and node.drops)
        names = [name for name, _ in found.names] + ["value" if at == 0 else "order" for at in range(len(formulas))]
        arrays = [column_to_arrow(each) for each in (*(column for _, column in found.names), *found.values)]
        text = step.text if not isinstance(step.expression, Aggregate) else step.expression.text
        filters = () if step.counted is None else filters_in_force(self.seen, step.counted, step.filters)
        # Where a count has no value (nothing relates what it counts), the list comes to no value either, not to 0.
        counted = isinstance(node, Nested) and value is not None
        shown = folded(node.function, found.values[0]) if counted else None
        return Evidence(
            text=text,
            source=step.source,
            function=node.function,
            kind="members",
            filters=filters,
            count=found.count,
            value=value,
            parts=(),
            losses=(),
            table=pa.table(arrays, names=names),
            shown=shown,
        )


def _joined_by(route: Route) -> tuple[str, ...]:
    """The columns of a row's own table by which it looks something up."""
    if not route or route[0].relationship is None:
        return ()
    related = route[0].relationship
    end = related.one if route[0].turned else related.many
    return end.columns


def folded(function: str, column: Column) -> Any:
    """Values folded again: whole numbers and decimals exactly; None for a function that needs more than the values."""
    known = column.values[v.there(column)]
    if function == "count":
        return len(known)
    if function not in ("sum", "avg", "min", "max") or not len(known) or column.type.kind in (Kind.TEXT, Kind.BOOLEAN):
        return None
    if function in ("min", "max"):
        best = (np.min if function == "min" else np.max)(known)
        return _python(int(best) if column.type.exact else float(best), column.type)
    if not column.type.exact:
        total = v.float_sum(known.tolist())
        if math.isfinite(total):
            return total / len(known) if function == "avg" else total
        # Too large for a float, as in the engine; the average of a sum that is too large may still fit.
        return float(sum(map(Fraction, known.tolist())) / len(known)) if function == "avg" else None
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
