"""Aggregates: for each record of the register, the folds or rows that it needs, and its value for each group."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from relatum.data import vectors as v
from relatum.data.columns import Array, Column, members_of
from relatum.data.types import BOOLEAN, FLOAT, INTEGER, Kind, Type
from relatum.engine.memory.collect import count_distinct, edge_by, percentile, spread_of
from relatum.engine.memory.distinct import DistinctFold
from relatum.engine.memory.folds import CountFold, ExactSum, Extreme, FloatSum, Fold, FoldKind, fold_maker
from relatum.immutable import Immutable
from relatum.language.expression import Apply, ColumnValue, Constant, Expression
from relatum.plan.nodes import Aggregation


class MemberCode(Immutable, frozen=True):
    """The code of a column's member, in which null counts as a value."""

    value: ColumnValue


class DistinctCode(Immutable, frozen=True):
    """The code of a column's member, own or looked up; null is null."""

    value: ColumnValue


class RowNumber(Immutable, frozen=True):
    """The number of a row."""


#: What a scan computes for each row: a row expression, or a code for a member.
RowValue = Expression | MemberCode | DistinctCode | RowNumber


class Folds(Struct, frozen=True, eq=False):
    """What a folded aggregate is finished from: its type, its first argument's scale, its folds, and members."""

    type: Type
    scale: int
    folds: Sequence[Fold]
    members: Column | None


def _same_expressions(aggregation: Aggregation) -> tuple[RowValue, ...]:
    return aggregation.arguments


def _same_columns(columns: list[Column], rows: int) -> tuple[list[Column], Column | None]:
    return columns, None


class Folded(Struct, frozen=True, eq=False):
    """An aggregate of running results that merge.

    ``folds`` are pairs of a fold's kind and which argument it takes, None for the rows themselves. ``arguments`` makes
    what a scan works out of what the plan says, ``columns`` does the same for arguments given as vectors.
    """

    folds: tuple[tuple[FoldKind, int | None], ...]
    finish: Callable[[Folds], Column]
    arguments: Callable[[Aggregation], tuple[RowValue, ...]] = _same_expressions
    columns: Callable[[list[Column], int], tuple[list[Column], Column | None]] = _same_columns


class Collected(Struct, frozen=True, eq=False):
    """An aggregate that needs all rows of a group at once: from groups, arguments, how many groups, fraction, type."""

    collect: Callable[[Array, list[Column], int, float, Type], Column]


AggregateKernel = Folded | Collected


def kernel_of(aggregation: Aggregation) -> AggregateKernel:
    """How an aggregation is worked out on rows: of a plain column, distinct values are codes that can be folded."""
    if aggregation.function == "count_distinct" and isinstance(aggregation.arguments[0], ColumnValue):
        return _DISTINCT_CODES
    return AGGREGATE_KERNELS[aggregation.function]


def over_rows(function: str, type_: Type, fraction: float, arguments: list[Column], groups: Array, size: int) -> Column:
    """The value of an aggregate for each group, from its arguments on each row.

    Parameters
    ----------
    function : str
        The aggregate's kernel.
    arguments : list of Column
        As long as ``groups``, or constants.
    groups : array of int
        The group of each row.
    size : int
        How many groups there are; each has a row.
    """
    kernel = AGGREGATE_KERNELS[function]
    columns = [v.spread(argument, len(groups)) for argument in arguments]
    scale = columns[0].type.scale if columns else 0
    match kernel:
        case Collected(collect):
            return collect(groups, columns, size, fraction, type_)
        case Folded(folds, finish, columns=prepare):
            prepared, members = prepare(columns, len(groups))
            done = []
            for kind, number in folds:
                column = None if number is None else prepared[number]
                fold = fold_maker(kind, None if column is None else column.type)(size)
                if len(groups):
                    fold.add(groups, column, len(groups))
                done.append(fold)
            return finish(Folds(type_, scale, done, members))


# -- folded -----------------------------------------------------------------------------------------------------------


def _counted(given: Folds) -> Column:
    (count,) = given.folds
    assert isinstance(count, CountFold)
    return Column(INTEGER, count.counts, None, None, 0, int(count.counts.max(initial=0)))


def _summed(given: Folds) -> Column:
    total, count = given.folds
    assert isinstance(count, CountFold)
    match total:
        case ExactSum():
            return Column(given.type, total.totals(), _none(count))
        case FloatSum():
            return v.finite(total.sums, _none(count))
        case CountFold() | Extreme() | DistinctFold():
            raise AssertionError("a sum is neither a count nor an extreme")


def _averaged(given: Folds) -> Column:
    total, count = given.folds
    assert isinstance(count, CountFold)
    divisor = count.counts.clip(min=1)
    match total:
        case ExactSum():
            return v.finite(total.floats() / float(10**given.scale) / divisor, _none(count))
        case FloatSum():
            return v.finite(total.means(divisor), _none(count))
        case CountFold() | Extreme() | DistinctFold():
            raise AssertionError("a sum is neither a count nor an extreme")


def _weighted(given: Folds) -> Column:
    total, count, weights = given.folds
    assert isinstance(total, FloatSum) and isinstance(count, CountFold) and isinstance(weights, FloatSum)
    with np.errstate(all="ignore"):
        return v.finite(total.sums / weights.sums, _none(count))


def _weighted_arguments(aggregation: Aggregation) -> tuple[RowValue, ...]:
    value, weight = aggregation.arguments
    missing = Apply("is_null", (value,), BOOLEAN)
    # As floats from the start: a product of two decimals may have more digits than fit.
    return Apply("*", (value, weight), FLOAT), Apply("case", (missing, Constant(None, FLOAT), weight), FLOAT)


def _weighted_columns(columns: list[Column], rows: int) -> tuple[list[Column], Column | None]:
    value, weight = columns
    nulls = v.either_null(value, weight)
    return [v.finite(v.floats(value) * v.floats(weight), nulls), v.finite(v.floats(weight), nulls)], None


def _extreme(given: Folds) -> Column:
    extreme, count = given.folds
    assert isinstance(extreme, Extreme) and isinstance(count, CountFold)
    nulls = _none(count)
    best = extreme.best if nulls is None else np.where(nulls, 0, extreme.best)
    if given.type.kind is Kind.BOOLEAN:
        best = best.astype(np.bool_)
    column = extreme.column
    dictionary = column.dictionary if column is not None else v.all_null(given.type).dictionary
    return Column(given.type, best, nulls, dictionary, 0, len(dictionary) - 1 if dictionary is not None else 0)


def _sole(given: Folds) -> Column:
    """The member where the lowest and highest code are the same real member, else null."""
    low, high = given.folds
    assert isinstance(low, Extreme) and isinstance(high, Extreme) and given.members is not None
    members = given.members
    if not len(members):
        return v.spread(v.all_null(given.type), len(low.best))
    known = (low.best == high.best) & (low.best < len(members))
    column = members.take(np.where(known, low.best, 0))
    return Column(column.type, column.values, ~known, column.dictionary, column.lower, column.upper)


def _sole_arguments(aggregation: Aggregation) -> tuple[RowValue, ...]:
    (value,) = aggregation.arguments
    assert isinstance(value, ColumnValue), "sole takes a column"
    return (MemberCode(value),)


def _sole_columns(columns: list[Column], rows: int) -> tuple[list[Column], Column | None]:
    members = members_of(columns[0])
    codes = Column(INTEGER, members.codes.astype(np.int64), None, None, 0, members.size)
    return [codes], members.values


def _sole_row(given: Folds) -> Column:
    low, high = given.folds
    assert isinstance(low, Extreme) and isinstance(high, Extreme)
    return Column(INTEGER, low.best, low.best != high.best)


def _row_number(aggregation: Aggregation) -> tuple[RowValue, ...]:
    return (RowNumber(),)


def _none(count: CountFold) -> NDArray[np.bool_] | None:
    empty = count.counts == 0
    return empty if empty.any() else None


# -- collected --------------------------------------------------------------------------------------------------------


def _percentile_of(fraction: float | None) -> Collected:
    def collect(groups: Array, columns: list[Column], size: int, given: float, type_: Type) -> Column:
        return percentile(groups, columns[0], size, given if fraction is None else fraction)

    return Collected(collect)


def _spread(root: bool, population: bool) -> Collected:
    def collect(groups: Array, columns: list[Column], size: int, fraction: float, type_: Type) -> Column:
        return spread_of(groups, columns[0], size, root=root, population=population)

    return Collected(collect)


def _edge(last: bool) -> Collected:
    def collect(groups: Array, columns: list[Column], size: int, fraction: float, type_: Type) -> Column:
        return edge_by(groups, columns[0], columns[1], size, type_, last=last)

    return Collected(collect)


def _distinct(groups: Array, columns: list[Column], size: int, fraction: float, type_: Type) -> Column:
    return count_distinct(groups, columns[0], size)


def _distinct_counted(given: Folds) -> Column:
    (found,) = given.folds
    assert isinstance(found, DistinctFold)
    counts = found.counts
    return Column(INTEGER, counts, None, None, 0, int(counts.max(initial=0)))


def _distinct_code(aggregation: Aggregation) -> tuple[RowValue, ...]:
    (value,) = aggregation.arguments
    assert isinstance(value, ColumnValue)
    return (DistinctCode(value),)


def _few_counted(given: Folds) -> Column:
    """0, 1, or 2 for two and more: the lowest and the highest code are the same, or they are not."""
    low, high, count = given.folds
    assert isinstance(low, Extreme) and isinstance(high, Extreme) and isinstance(count, CountFold)
    known = count.counts > 0
    several = known & (low.best != high.best)
    return Column(INTEGER, known.astype(np.uint8) + several, None, None, 0, 2)


_DISTINCT_CODES = Folded((("distinct", 0),), _distinct_counted, _distinct_code)

_SUM: tuple[tuple[FoldKind, int | None], ...] = (("sum", 0), ("count", 0))

AGGREGATE_KERNELS: Mapping[str, AggregateKernel] = {
    "sum": Folded(_SUM, _summed),
    "avg": Folded(_SUM, _averaged),
    "weighted_avg": Folded((*_SUM, ("sum", 1)), _weighted, _weighted_arguments, _weighted_columns),
    "min": Folded((("min", 0), ("count", 0)), _extreme),
    "max": Folded((("max", 0), ("count", 0)), _extreme),
    "count": Folded((("count", 0),), _counted),
    "count_rows": Folded((("count", None),), _counted),
    "count_distinct": Collected(_distinct),
    "few_distinct": Folded((("min", 0), ("max", 0), ("count", 0)), _few_counted, _distinct_code),
    "median": _percentile_of(0.5),
    "percentile": _percentile_of(None),
    "stddev": _spread(root=True, population=False),
    "variance": _spread(root=False, population=False),
    "stddev_pop": _spread(root=True, population=True),
    "variance_pop": _spread(root=False, population=True),
    "first": _edge(last=False),
    "last": _edge(last=True),
    "sole": Folded((("min", 0), ("max", 0)), _sole, _sole_arguments, _sole_columns),
    "sole_row": Folded((("min", 0), ("max", 0)), _sole_row, _row_number),
}


def null_column(type_: Type, size: int) -> Column:
    """A column without a value anywhere."""
    column = v.spread(v.all_null(type_ if type_.kind is not Kind.NULL else FLOAT), size)
    return Column(type_, column.values, column.nulls, column.dictionary, column.lower, column.upper)
