"""From folds and kept rows to the value of an aggregate for each group."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from relatum.data import vectors as v
from relatum.data.columns import Array, Column
from relatum.data.types import FLOAT, INTEGER, Kind, Type
from relatum.engine.memory.collect import collected
from relatum.engine.memory.folds import CountFold, ExactSum, Extreme, FloatSum, Fold, fold_maker


def finished(function: str, type_: Type, scale: int, folds: Sequence[Fold]) -> Column:
    """The value of each group from its folds.

    Parameters
    ----------
    function : str
        The aggregate.
    type_ : Type
        The type of its value.
    scale : int
        How many digits after the point its argument has.
    folds : sequence of Fold
        In the order in which the function names them.
    """
    match function, list(folds):
        case "rows" | "count", [CountFold() as count]:
            return Column(INTEGER, count.counts, None)
        case "sum", [ExactSum() as total, CountFold() as count]:
            return Column(type_, total.totals(), _none(count))
        case "sum", [FloatSum() as total, CountFold() as count]:
            return v.finite(total.sums, _none(count))
        case "avg", [ExactSum() | FloatSum() as total, CountFold() as count]:
            sums = total.sums if isinstance(total, FloatSum) else total.floats() / float(10**scale)
            return v.finite(sums / count.counts.clip(min=1), _none(count))
        case "weighted", [FloatSum() as total, CountFold() as count, FloatSum() as weights, _]:
            with np.errstate(all="ignore"):
                return v.finite(total.sums / weights.sums, _none(count))
        case "min" | "max", [Extreme() as extreme, CountFold() as count]:
            return _as_values(extreme, type_, _none(count))
        case "sole row", [Extreme() as low, Extreme() as high]:
            return Column(INTEGER, low.best, low.best != high.best)
    raise AssertionError(f"no way to finish {function}")


def aggregated(
    function: str, type_: Type, fraction: float, arguments: list[Column], groups: Array, size: int
) -> Column:
    """The value of an aggregate for each of ``size`` groups, all of which have a row; rows are given in full."""
    from_rows = [v.spread(argument, len(groups)) for argument in arguments]
    if function not in ("rows", "count", "sum", "avg", "weighted", "min", "max"):
        return collected(function, groups, from_rows, size, fraction, type_)
    if function == "rows":
        return Column(INTEGER, np.bincount(groups, minlength=size), None)
    if function == "weighted":
        value, weight = from_rows
        nulls = v.either_null(value, weight)
        from_rows = [v.finite(v.floats(value) * v.floats(weight), nulls), v.finite(v.floats(weight), nulls)]
    folds: list[Fold] = []
    kinds = {"count": ("count",), "min": ("min", "count"), "max": ("max", "count")}.get(function, ("sum", "count"))
    for argument in from_rows:
        for kind in kinds:
            fold = fold_maker(kind, argument.type)(size)
            if len(groups):
                fold.add(groups, argument, len(groups))
            folds.append(fold)
    return finished(function, type_, arguments[0].type.scale, folds)


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


def sole_value(low: Array, high: Array, type_: Type, members: Column) -> Column:
    """The member where the lowest and highest code are the same real member, else null."""
    known = (low == high) & (low < len(members))
    if not len(members):
        return v.spread(v.all_null(type_), len(low))
    column = members.take(np.where(known, low, 0))
    return Column(column.type, column.values, ~known, column.dictionary, column.lower, column.upper)


def null_column(type_: Type, size: int) -> Column:
    """A column without a value anywhere."""
    column = v.spread(v.all_null(type_ if type_.kind is not Kind.NULL else FLOAT), size)
    return Column(type_, column.values, column.nulls, column.dictionary, column.lower, column.upper)
