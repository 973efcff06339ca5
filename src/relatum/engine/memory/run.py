"""Running a plan: aggregations that share rows and filters share one scan, then grains are joined and worked out."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from relatum.data.columns import Array, Column, Members
from relatum.data.types import BOOLEAN, FLOAT, INTEGER, Kind, Type
from relatum.engine.memory import vectors as v
from relatum.engine.memory.collect import collected
from relatum.engine.memory.filters import PartTest, part_test
from relatum.engine.memory.folds import CountFold, ExactSum, Extreme, FloatSum, Fold
from relatum.engine.memory.rows import Chunk, RowReader, evaluate_tree
from relatum.engine.memory.scan import Argument, ScanResult, ScanTask, number_groups, run_scan
from relatum.engine.memory.store import RowCodes, Store
from relatum.errors import QuestionError
from relatum.language.catalog import Catalog
from relatum.language.expression import Apply, ColumnValue, Constant, Expression, FilterPart, Slot, columns_in
from relatum.model.routes import Place
from relatum.plan.nodes import Aggregation, Answer, Cells, Combine, Field, Loss, Plan

_COLLECTED = frozenset(
    {"distinct", "median", "percentile", "stddev", "variance", "stddev_pop", "variance_pop", "first", "last"}
)
#: Stands for the code of a column's member, in which null counts as a value.
_MEMBER_CODE = "member code"
_FOLDS = {
    "rows": (),
    "count": ("count",),
    "sum": ("sum", "count"),
    "avg": ("sum", "count"),
    "weighted": ("sum", "count"),
    "min": ("min", "count"),
    "max": ("max", "count"),
    "sole": ("min", "max"),
}


@dataclass(frozen=True, slots=True, eq=False)
class Grouped:
    """An aggregation's values: one for each combination of key codes that has visible rows."""

    codes: Array
    values: Column


class MemoryEngine:
    """Answers plans from arrays in memory.

    Parameters
    ----------
    store : Store
        The loaded tables.
    catalog : Catalog
        Their columns and routes.
    """

    def __init__(self, store: Store, catalog: Catalog) -> None:
        self.store = store
        self.catalog = catalog

    def run(self, plan: Plan) -> Answer:
        """The values of every grain of a plan."""
        members = tuple(self.store.members(field.table, field.column) for field in plan.fields)
        wanted = [aggregation for combine in plan.combines for aggregation in combine.inputs]
        scans = _Scans(self, plan.fields, members, [*wanted, *plan.visible])
        shown = self._shown(plan, members, scans)
        cells = tuple(self._combined(combine, shown, members, scans) for combine in plan.combines)
        return Answer(cells, members, tuple(scans.losses()))

    # -- which cells ------------------------------------------------------------------------------------------------

    def _shown(self, plan: Plan, members: Sequence[Members], scans: _Scans) -> Array:
        full = tuple(range(len(plan.fields)))
        parts = []
        for aggregation in plan.combines[0].inputs:
            # `sole` reads a column rather than aggregates: it shows no combination by itself.
            if aggregation.keys == full and aggregation.function != "sole":
                grouped = scans.grouped(aggregation)
                parts.append(grouped.codes if grouped.values.nulls is None else grouped.codes[~grouped.values.nulls])
        if plan.visible:
            parts.append(self._visible(plan, scans))
        sizes = [member.size for member in members]
        codes = np.concatenate(parts) if parts else np.zeros((0, len(full)), np.int64)
        if not full:
            return np.zeros((1, 0), np.int64)
        shown, _ = number_groups(list(codes.T), sizes, len(codes))
        _refuse_many(len(shown), plan.cell_limit)
        return shown

    def _visible(self, plan: Plan, scans: _Scans) -> Array:
        grids = [(aggregation.keys, scans.grouped(aggregation).codes) for aggregation in plan.visible]
        count = 1
        for _, codes in grids:
            count *= len(codes)
        _refuse_many(count, plan.cell_limit)
        result = np.zeros((count, len(plan.fields)), np.int64)
        repeat = count
        for keys, codes in grids:
            repeat //= max(len(codes), 1)
            rows = np.arange(count) // max(repeat, 1) % max(len(codes), 1)
            result[:, keys] = codes[rows]
        return result

    # -- one grain --------------------------------------------------------------------------------------------------

    def _combined(self, combine: Combine, shown: Array, members: Sequence[Members], scans: _Scans) -> Cells:
        sizes = [members[key].size for key in combine.keys]
        codes, _ = number_groups(list(shown[:, combine.keys].T), sizes, len(shown))
        if not combine.keys:
            codes = np.zeros((1, 0), np.int64)
        inputs = []
        for aggregation in combine.inputs:
            columns = [combine.keys.index(key) for key in aggregation.keys]
            grouped = scans.grouped(aggregation)
            inputs.append(_aligned(grouped, codes[:, columns], [sizes[column] for column in columns]))

        def leaf(expression: Expression) -> Column:
            assert isinstance(expression, Slot)
            return inputs[expression.number]

        values = tuple(v.spread(evaluate_tree(formula, leaf), len(codes)) for formula in combine.formulas)
        return Cells(combine.keys, codes, values)


def _refuse_many(count: int, limit: int) -> None:
    if count > limit:
        raise QuestionError(
            f"The grid would have {count:,} combinations; the limit is {limit:,}.",
            fix="Take a coarser column, add a filter, or raise cell_limit.",
        )


def _aligned(grouped: Grouped, codes: Array, sizes: list[int]) -> Column:
    """A value for each cell, null where the aggregation has no such group."""
    values = _bounded(grouped.values)
    every = np.concatenate([grouped.codes, codes])
    numbers = number_groups(list(every.T), sizes, len(every))[1] if sizes else np.zeros(len(every), np.int64)
    own, wanted = numbers[: len(grouped.codes)], numbers[len(grouped.codes) :]
    place = np.full(int(numbers.max(initial=0)) + 1, -1, np.int64)
    place[own] = np.arange(len(own))
    positions = place[wanted]
    missing = positions < 0
    if not len(values):
        return v.spread(v.all_null(values.type), len(codes))
    taken = values.take(positions)
    nulls = missing if taken.nulls is None else taken.nulls | missing
    return Column(taken.type, taken.values, nulls if nulls.any() else None, taken.dictionary, taken.lower, taken.upper)


def _bounded(column: Column) -> Column:
    """A short vector with the bounds of its values, so that arithmetic on it knows whether 64 bits suffice."""
    if not column.type.exact or not len(column):
        return column
    known = column.values if column.nulls is None else column.values[~column.nulls]
    lower, upper = (int(known.min()), int(known.max())) if len(known) else (0, 0)
    values = column.values if column.nulls is None else np.where(column.nulls, lower, column.values)
    return Column(column.type, values, column.nulls, None, lower, upper)


@dataclass(slots=True, eq=False)
class _Scan:
    """One pass over a table that serves several aggregations."""

    source: str
    filters: tuple[FilterPart, ...]
    aggregations: list[Aggregation]
    keys: tuple[int, ...]
    reader: RowReader
    tests: list[PartTest]
    numbers: dict[Expression, int]
    folds: dict[tuple[str, int | None], int]
    result: ScanResult


class _Scans:
    """All scans of a plan, and the values of its aggregations taken from them."""

    def __init__(
        self, engine: MemoryEngine, fields: Sequence[Field], members: Sequence[Members], wanted: list[Aggregation]
    ) -> None:
        self.engine = engine
        self.fields = fields
        self.members = members
        self._grouped: dict[Aggregation, Grouped] = {}
        self._regrouped: dict[tuple[int, tuple[int, ...]], tuple[Array, Array]] = {}
        shared: dict[tuple[str, tuple[FilterPart, ...]], list[Aggregation]] = {}
        for aggregation in dict.fromkeys(wanted):
            shared.setdefault((aggregation.source, aggregation.filters), []).append(aggregation)
        self._scans = {key: self._scan(*key, aggregations) for key, aggregations in shared.items()}

    def _scan(self, source: str, filters: tuple[FilterPart, ...], aggregations: list[Aggregation]) -> _Scan:
        store, catalog = self.engine.store, self.engine.catalog
        reader = RowReader(store, catalog, source)
        keys = tuple(sorted({key for aggregation in aggregations for key in aggregation.keys}))
        arguments: list[Argument] = []
        numbers: dict[Expression, int] = {}
        folds: dict[tuple[str, int | None], int] = {("count", None): 0}
        for aggregation in aggregations:
            for expression in _arguments(aggregation):
                if expression not in numbers:
                    numbers[expression] = len(arguments)
                    arguments.append(_argument(reader, expression))
            for kind, expression in _folds(aggregation):
                folds.setdefault((kind, numbers[expression]), len(folds))
        tests = [part_test(reader, part) for part in filters]
        task = ScanTask(
            store.rows(Place(source)),
            tests,
            [self._key_codes(source, key) for key in keys],
            arguments,
            list(folds),
            any(aggregation.function in _COLLECTED for aggregation in aggregations),
        )
        return _Scan(source, filters, aggregations, keys, reader, tests, numbers, folds, run_scan(task))

    def _key_codes(self, source: str, key: int) -> tuple[RowCodes, int]:
        field, catalog = self.fields[key], self.engine.catalog
        route = catalog.filter(field.table, frozenset([field.column]), source)
        assert route is not None, "a plan's keys reach its source"
        return self.engine.store.row_codes(route, field.table, field.column), self.members[key].size

    def grouped(self, aggregation: Aggregation) -> Grouped:
        """The values of an aggregation by its own keys."""
        if aggregation not in self._grouped:
            scan = self._scans[aggregation.source, aggregation.filters]
            codes, groups = self._groups(scan, aggregation.keys)
            self._grouped[aggregation] = Grouped(codes, self._values(scan, aggregation, groups, len(codes)))
        return self._grouped[aggregation]

    def _groups(self, scan: _Scan, keys: tuple[int, ...]) -> tuple[Array, Array]:
        # Coarser grains are rolled up from the finest: its groups are few beside the rows.
        known = (id(scan), keys)
        if known not in self._regrouped:
            codes = scan.result.codes
            columns = [codes[:, scan.keys.index(key)] for key in keys]
            sizes = [self.members[key].size for key in keys]
            self._regrouped[known] = number_groups(columns, sizes, len(codes))
        return self._regrouped[known]

    def _values(self, scan: _Scan, aggregation: Aggregation, groups: Array, size: int) -> Column:
        function = aggregation.function
        numbers = [scan.numbers[expression] for expression in _arguments(aggregation)]
        if function in _COLLECTED:
            assert scan.result.groups is not None
            columns = [scan.result.columns[number] for number in numbers] if scan.result.columns else []
            if not columns:
                return v.spread(v.all_null(aggregation.type), size)
            return collected(
                function, groups[scan.result.groups], columns, size, aggregation.fraction, aggregation.type
            )
        wanted: list[tuple[str, int | None]] = [("count", None)]
        if _folds(aggregation):
            wanted = [(kind, scan.numbers[expression]) for kind, expression in _folds(aggregation)]
        finest = scan.keys == aggregation.keys
        folds = [scan.result.folds[scan.folds[key]] for key in wanted]
        if not finest:
            folds = [fold.regrouped(groups, size) for fold in folds]
        return self._finished(aggregation, folds)

    def _finished(self, aggregation: Aggregation, folds: list[Fold]) -> Column:
        match aggregation.function, folds:
            case "rows" | "count", [CountFold() as count]:
                return Column(INTEGER, count.counts, None)
            case "sum", [ExactSum() as total, CountFold() as count]:
                return Column(aggregation.type, total.totals(), _none(count))
            case "sum", [FloatSum() as total, CountFold() as count]:
                return v.finite(total.sums, _none(count))
            case "avg", [ExactSum() | FloatSum() as total, CountFold() as count]:
                scale = aggregation.arguments[0].type.scale
                sums = total.sums if isinstance(total, FloatSum) else total.floats() / float(10**scale)
                return v.finite(sums / count.counts.clip(min=1), _none(count))
            case "weighted", [FloatSum() as total, CountFold() as count, FloatSum() as weights, _]:
                with np.errstate(all="ignore"):
                    return v.finite(total.sums / weights.sums, _none(count))
            case "min" | "max", [Extreme() as extreme, CountFold() as count]:
                return _as_values(extreme, aggregation.type, _none(count))
            case "sole", [Extreme() as low, Extreme() as high]:
                return self._sole(aggregation, low.best, high.best)
        raise AssertionError(f"no way to finish {aggregation.function}")

    def _sole(self, aggregation: Aggregation, low: Array, high: Array) -> Column:
        (value,) = aggregation.arguments
        assert isinstance(value, ColumnValue)
        members = self.engine.store.members(value.table, value.column)
        known = (low == high) & (low < members.null)
        if not len(members.values):
            return v.spread(v.all_null(aggregation.type), len(low))
        column = members.values.take(np.where(known, low, 0))
        return Column(column.type, column.values, ~known, column.dictionary, column.lower, column.upper)

    # -- rows left out ----------------------------------------------------------------------------------------------

    def losses(self) -> list[Loss]:
        """Rows that a lookup in an argument, or a condition on a lookup, left out."""
        found: dict[Loss, None] = {}
        for scan in self._scans.values():
            texts = {number: expression for expression, number in scan.numbers.items()}
            for (number, route), rows in scan.result.lost.items():
                if rows:
                    name = route[-1].target.table
                    about = ", ".join(
                        sorted(f"{c.table}.{c.column}" for c in columns_in(texts[number]) if c.table == name)
                    )
                    found[Loss("lookup", scan.source, name, rows, about)] = None
            for position, test in enumerate(scan.tests):
                if test.no_match is not None:
                    rows = self._left_out(scan, position)
                    if rows:
                        loss = Loss("condition", scan.source, test.part.table, rows, test.part.text)
                        found[loss] = None
        return list(found)

    def _left_out(self, scan: _Scan, position: int) -> int:
        test = scan.tests[position]
        assert test.no_match is not None
        others = [other for number, other in enumerate(scan.tests) if number != position]
        tests = [PartTest(test.part, test.no_match, None), *others]
        task = ScanTask(self.engine.store.rows(Place(scan.source)), tests, [], [], [("count", None)], False)
        (fold,) = run_scan(task).folds
        assert isinstance(fold, CountFold)
        return int(fold.counts.sum())


def _arguments(aggregation: Aggregation) -> tuple[Expression, ...]:
    """The row expressions that an aggregation's kernel takes."""
    if aggregation.function == "sole":
        return (Apply(_MEMBER_CODE, aggregation.arguments, INTEGER),)
    if aggregation.function != "weighted":
        return aggregation.arguments
    value, weight = aggregation.arguments
    missing = Apply("is_null", (value,), BOOLEAN)
    nothing = Constant(None, FLOAT)
    # As floats from the start: a product of two decimals may have more digits than fit.
    product = Apply("*", (value, weight), FLOAT)
    return product, Apply("case", (missing, nothing, weight), FLOAT)


def _folds(aggregation: Aggregation) -> list[tuple[str, Expression]]:
    kinds = _FOLDS.get(aggregation.function, ())
    return [(kind, argument) for argument in _arguments(aggregation) for kind in kinds]


def _argument(reader: RowReader, expression: Expression) -> Argument:
    if isinstance(expression, Apply) and expression.function == _MEMBER_CODE:
        (value,) = expression.arguments
        assert isinstance(value, ColumnValue)
        members = reader.store.members(value.table, value.column)

        def codes(chunk: Chunk) -> Column:
            return Column(INTEGER, chunk.of(members.codes), None, None, 0, members.size)

        return Argument(INTEGER, codes, ())
    return Argument(expression.type, reader.compile(expression), tuple(reader.matches(expression)))


def _none(count: CountFold) -> NDArray[np.bool_] | None:
    empty = count.counts == 0
    return empty if empty.any() else None


def _as_values(extreme: Extreme, type_: Type, nulls: NDArray[np.bool_] | None) -> Column:
    best = extreme.best if nulls is None else np.where(nulls, 0, extreme.best)
    if type_.kind is Kind.BOOLEAN:
        best = best.astype(np.bool_)
    column = extreme.column
    dictionary = column.dictionary if column is not None else v.all_null(type_).dictionary
    return Column(type_, best, nulls, dictionary, 0, len(dictionary) - 1 if dictionary is not None else 0)
