"""Folds: running results by group that take in rows a chunk at a time, and merge.

Whole-number sums are exact. A chunk's partial sums are held below 2**53 (so that floats count them exactly) or are
added as integers; the running sum carries into a second limb before 64 bits could overflow.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any, Literal, assert_never

import numpy as np

from relatum.data.columns import Array, Column
from relatum.data.types import Kind, Type
from relatum.data.vectors import FLOAT_EXACT, HIGHEST, LOWEST
from relatum.engine.memory.distinct import DistinctFold, GroupOfRow, Which, with_values
from relatum.errors import ValueOverflowError

_LIMB = 31
_MASK = (1 << _LIMB) - 1
_SAFE = 1 << 62

#: Sums beyond the largest float are kept as so small a part of themselves.
_SMALL = 2.0**-128


def _group_sums(groups: GroupOfRow, values: Array, size: int, reach: int) -> Array:
    """Exact integer sums by group; the caller knows that ``reach``, the sum of all magnitudes, is below 2**62."""
    if groups is None:
        return np.asarray([values.sum(dtype=np.int64)])
    if reach < FLOAT_EXACT:
        return np.bincount(groups, values, size).astype(np.int64)
    result = np.zeros(size, np.int64)
    np.add.at(result, groups, values.astype(np.int64, copy=False))
    return result


def _group_counts(groups: GroupOfRow, rows: int, size: int) -> Array:
    return np.asarray([rows]) if groups is None else np.bincount(groups, minlength=size)


class CountFold:
    """How many rows each group has."""

    def __init__(self, size: int) -> None:
        self.counts = np.zeros(size, np.int64)

    def add(self, groups: GroupOfRow, column: Column | None, rows: int) -> None:
        """Take in rows; those without a value in ``column`` do not count."""
        if column is not None and column.nulls is not None:
            groups, values = with_values(groups, column, rows)
            rows = len(values)
        self.counts += _group_counts(groups, rows, len(self.counts))

    def at(self, present: Which) -> CountFold:
        """The fold of just these groups."""
        result = CountFold(0)
        result.counts = self.counts[present]
        return result

    def merge(self, other: CountFold) -> None:
        """Take in another fold's groups."""
        self.counts += other.counts

    @classmethod
    def beside(cls, folds: Sequence[CountFold]) -> CountFold:
        """The groups of several folds, one fold's after another's."""
        result = cls(0)
        result.counts = np.concatenate([fold.counts for fold in folds])
        return result

    def regrouped(self, groups: Array, size: int) -> CountFold:
        """The fold of coarser groups: ``groups`` says which one each of this fold's belongs to."""
        result = CountFold(size)
        np.add.at(result.counts, groups, self.counts)
        return result


class ExactSum:
    """Sums of whole numbers."""

    def __init__(self, size: int) -> None:
        self.low = np.zeros(size, np.int64)
        self.high: Array | None = None
        self.reach = 0

    def add(self, groups: GroupOfRow, column: Column | None, rows: int) -> None:
        """Take in rows; those without a value add nothing."""
        assert column is not None
        groups, values = with_values(groups, column, rows)
        size, magnitude = len(self.low), max(abs(column.lower), abs(column.upper))
        reach = magnitude * max(len(values), 1)
        if reach < _SAFE:
            self._take(_group_sums(groups, values, size, reach), reach)
            return
        wide = values.astype(np.int64)
        self._take(_group_sums(groups, wide & _MASK, size, len(wide) << _LIMB), len(wide) << _LIMB)
        self._carry()
        assert self.high is not None
        self.high += _group_sums(groups, wide >> _LIMB, size, len(wide) << (63 - _LIMB))

    def _take(self, sums: Array, reach: int) -> None:
        if self.reach + reach >= _SAFE:
            self._carry()
        self.low += sums
        self.reach += reach

    def _carry(self) -> None:
        carried = self.low >> _LIMB
        self.high = carried if self.high is None else self.high + carried
        self.low = self.low & _MASK
        self.reach = 1 << _LIMB

    def at(self, present: Which) -> ExactSum:
        """The fold of just these groups."""
        result = ExactSum(0)
        result.low, result.reach = self.low[present], self.reach
        result.high = None if self.high is None else self.high[present]
        return result

    def merge(self, other: ExactSum) -> None:
        """Take in another fold's groups."""
        if other.high is not None:
            self._carry()
            assert self.high is not None
            self.high += other.high
        self._take(other.low, other.reach)

    @classmethod
    def beside(cls, folds: Sequence[ExactSum]) -> ExactSum:
        """The groups of several folds, one fold's after another's."""
        result = cls(0)
        result.reach = sum(fold.reach for fold in folds)
        if result.reach >= _SAFE or any(fold.high is not None for fold in folds):
            for fold in folds:
                fold._carry()
            result.reach = len(folds) << _LIMB
            result.high = np.concatenate([fold.high for fold in folds if fold.high is not None])
        result.low = np.concatenate([fold.low for fold in folds])
        return result

    def regrouped(self, groups: Array, size: int) -> ExactSum:
        """The fold of coarser groups."""
        result = ExactSum(size)
        np.add.at(result.low, groups, self.low)
        result.reach = self.reach
        if self.high is not None:
            result.high = np.zeros(size, np.int64)
            np.add.at(result.high, groups, self.high)
        return result

    def floats(self) -> Array:
        """The sums as floats, which never overflow."""
        low = self.low.astype(np.float64)
        return low if self.high is None else self.high.astype(np.float64) * (1 << _LIMB) + low

    def totals(self) -> Array:
        """The sums, or an overflow error."""
        if self.high is None:
            return self.low
        self._carry()
        if self.high.size and (self.high.max() > HIGHEST >> _LIMB or self.high.min() < LOWEST >> _LIMB):
            raise ValueOverflowError(
                "A sum does not fit in 64 bits.", fix="Sum it in a larger unit: sum(x / 1000), which is a float."
            )
        return (self.high << _LIMB) + self.low


class FloatSum:
    """Sums of floats, added in the order in which rows come.

    Where a sum is too large for a float, an average may still be one: from there on the sums are kept scaled down too.
    """

    def __init__(self, size: int) -> None:
        self.sums = np.zeros(size)
        self._small: Array | None = None

    def add(self, groups: GroupOfRow, column: Column | None, rows: int) -> None:
        """Take in rows; those without a value add nothing."""
        assert column is not None
        values = np.broadcast_to(column.values, rows)
        if column.nulls is not None:
            values = np.where(column.nulls, 0.0, values)
        part = FloatSum(0)
        part.sums = self._added(groups, values)
        if not np.isfinite(part.sums).all():
            part._small = self._added(groups, values * _SMALL)
        self.merge(part)

    def _added(self, groups: GroupOfRow, values: Array) -> Array:
        with np.errstate(over="ignore", invalid="ignore"):
            return (
                np.asarray([values.sum()])
                if groups is None
                else np.asarray(np.bincount(groups, values, len(self.sums)), np.float64)
            )

    def at(self, present: Which) -> FloatSum:
        """The fold of just these groups."""
        result = FloatSum(0)
        result.sums = self.sums[present]
        result._small = None if self._small is None else self._small[present]
        return result

    def merge(self, other: FloatSum) -> None:
        """Take in another fold's groups."""
        with np.errstate(over="ignore", invalid="ignore"):
            merged = self.sums + other.sums
        if self._small is not None or other._small is not None or not np.isfinite(merged).all():
            self._small = self._scaled() + other._scaled()
        self.sums = merged

    def _scaled(self) -> Array:
        return self.sums * _SMALL if self._small is None else self._small

    def means(self, counts: Array) -> Array:
        """The sums divided by counts, also where the sum itself is too large."""
        with np.errstate(over="ignore", invalid="ignore"):
            return self.sums / counts if self._small is None else self._small / counts / _SMALL

    @classmethod
    def beside(cls, folds: Sequence[FloatSum]) -> FloatSum:
        """The groups of several folds, one fold's after another's."""
        result = cls(0)
        result.sums = np.concatenate([fold.sums for fold in folds])
        if any(fold._small is not None for fold in folds):
            result._small = np.concatenate([fold._scaled() for fold in folds])
        return result

    def regrouped(self, groups: Array, size: int) -> FloatSum:
        """The fold of coarser groups."""
        result = FloatSum(size)
        result.sums = result._added(groups, self.sums)
        if self._small is not None or not np.isfinite(result.sums).all():
            result._small = result._added(groups, self._scaled())
        return result


class Extreme:
    """The smallest or greatest value of each group."""

    def __init__(self, size: int, operation: Any, filler: float | int, kind: Any) -> None:
        self.operation, self.filler = operation, filler
        self.best = np.full(size, filler, kind)
        self.column: Column | None = None

    def add(self, groups: GroupOfRow, column: Column | None, rows: int) -> None:
        """Take in rows; those without a value do not compete."""
        assert column is not None
        self.column = column
        groups, values = with_values(groups, column, rows)
        values = values.astype(self.best.dtype, copy=False)
        if groups is None:
            self.best[0] = self.operation.reduce(values, initial=self.best[0])
        else:
            self.operation.at(self.best, groups, values)

    def at(self, present: Which) -> Extreme:
        """The fold of just these groups."""
        result = Extreme(0, self.operation, self.filler, self.best.dtype)
        result.best, result.column = self.best[present], self.column
        return result

    def merge(self, other: Extreme) -> None:
        """Take in another fold's groups."""
        self.best = self.operation(self.best, other.best)
        self.column = other.column if self.column is None else self.column

    @classmethod
    def beside(cls, folds: Sequence[Extreme]) -> Extreme:
        """The groups of several folds, one fold's after another's."""
        first = folds[0]
        result = cls(0, first.operation, first.filler, first.best.dtype)
        result.best = np.concatenate([fold.best for fold in folds])
        result.column = next((fold.column for fold in folds if fold.column is not None), None)
        return result

    def regrouped(self, groups: Array, size: int) -> Extreme:
        """The fold of coarser groups."""
        result = Extreme(size, self.operation, self.filler, self.best.dtype)
        self.operation.at(result.best, groups, self.best)
        result.column = self.column
        return result


def beside(folds: Sequence[Fold]) -> Fold:
    """The groups of several folds of one kind, one fold's after another's."""
    return type(folds[0]).beside(folds)  # type: ignore[arg-type]


FoldKind = Literal["count", "sum", "min", "max", "distinct"]
Fold = CountFold | ExactSum | FloatSum | Extreme | DistinctFold


def same_counts(fold: Fold) -> CountFold:
    """A copy of a count, for values that every row has."""
    assert isinstance(fold, CountFold)
    result = CountFold(0)
    result.counts = fold.counts.copy()
    return result


def fold_maker(kind: FoldKind, type_: Type | None) -> Callable[[int], Fold]:
    """How to begin a fold of values of a type; a count may be of rows, which have none."""
    match kind:
        case "count":
            return CountFold
        case "sum":
            assert type_ is not None
            return FloatSum if type_.kind is Kind.FLOAT else ExactSum
        case "min":
            return _extreme(np.minimum, np.inf, HIGHEST, type_)
        case "max":
            return _extreme(np.maximum, -np.inf, LOWEST, type_)
        case "distinct":
            return DistinctFold
        case _:
            assert_never(kind)


def _extreme(operation: Any, float_filler: float, whole_filler: int, type_: Type | None) -> Callable[[int], Fold]:
    if type_ is not None and type_.kind is Kind.FLOAT:
        return lambda size: Extreme(size, operation, float_filler, np.float64)
    return lambda size: Extreme(size, operation, whole_filler, np.int64)
