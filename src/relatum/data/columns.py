"""A column of values, and its distinct members."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa
from msgspec import Struct
from numpy.typing import NDArray

from relatum.data import compute as pc
from relatum.data.buffers import array_values, in_one_piece, positions_array
from relatum.data.sorting import hardly_repeat, sorted_texts
from relatum.data.types import TEXT, Kind, Type

Array = NDArray[Any]
_INTEGERS = (np.int8, np.int16, np.int32, np.int64)
_UNSIGNED = (np.uint8, np.uint16, np.uint32)
#: Whole numbers whose range is at most this many times their count are grouped by a table rather than by sorting.
_TABLE_FACTOR = 4
#: So many rows are worked at once: what is noted of them stays in a near cache.
_STRETCH = 1 << 16


class Column(Struct, frozen=True, eq=False):
    """Values of one type, stored as narrow as their bounds allow.

    ``values`` holds whole numbers (a decimal times ten to its scale, days or microseconds since 1970), floats,
    booleans, or for text the positions in ``dictionary``, whose texts are distinct and sorted by code point.
    ``nulls`` is True where there is no value; the number that is there is within the bounds and means nothing.
    """

    type: Type
    values: Array
    nulls: NDArray[np.bool_] | None = None
    dictionary: Any = None
    lower: int = 0
    upper: int = 0

    def __len__(self) -> int:
        return len(self.values)

    @property
    def null_count(self) -> int:
        """How many rows have no value."""
        return 0 if self.nulls is None else int(self.nulls.sum())

    @property
    def nbytes(self) -> int:
        """Bytes held in memory."""
        size = self.values.nbytes + (0 if self.nulls is None else self.nulls.nbytes)
        return int(size + (0 if self.dictionary is None else self.dictionary.nbytes))

    def take(self, rows: Array | slice) -> Column:
        """The column at these row numbers, or of a stretch of rows."""
        return Column(
            self.type,
            self.values[rows],
            None if self.nulls is None else self.nulls[rows],
            self.dictionary,
            self.lower,
            self.upper,
        )


class Members(Struct, frozen=True, eq=False):
    """A column encoded as members.

    ``codes`` gives each row its member's position in ``values``, which are distinct, sorted and without null.
    The code ``null`` stands for null and ``no_match``, the last, for rows whose lookup found nothing.
    """

    codes: Array
    values: Column

    @property
    def null(self) -> int:
        """The code of null."""
        return len(self.values)

    @property
    def no_match(self) -> int:
        """The code of rows whose lookup found nothing."""
        return len(self.values) + 1

    @property
    def size(self) -> int:
        """How many codes there are."""
        return len(self.values) + 2


def narrow_integers(values: Array, lower: int, upper: int) -> Array:
    """Whole numbers in the narrowest signed type that holds the bounds.

    Parameters
    ----------
    values : numpy.ndarray of int, any shape
        Whole numbers, none below ``lower`` or above ``upper``.
    lower, upper : int
        The bounds, within 64 bits.

    Returns
    -------
    numpy.ndarray of int
        The same numbers; the same array where it is narrow enough.
    """
    for kind in _INTEGERS:
        info = np.iinfo(kind)
        if info.min <= lower and upper <= info.max:
            return values.astype(kind, copy=False)
    raise AssertionError("bounds beyond 64 bits")


def narrow_codes(codes: Array, size: int) -> Array:
    """Codes in the narrowest unsigned type.

    Parameters
    ----------
    codes : numpy.ndarray of int, any shape
        Codes from 0 on.
    size : int
        All of them are below this.
    """
    return codes.astype(kind_of_codes(size), copy=False)


def kind_of_codes(size: int) -> np.dtype[Any]:
    """The narrowest unsigned type that codes below a size fit in."""
    return np.dtype(next((kind for kind in _UNSIGNED if size <= np.iinfo(kind).max + 1), np.int64))


def exact_column(type_: Type, values: Array, nulls: NDArray[np.bool_] | None = None) -> Column:
    """A column of whole numbers inside (integer, decimal, date, timestamp), narrowed to its bounds.

    Parameters
    ----------
    type_ : Type
        What the numbers stand for.
    values : numpy.ndarray of int, one dimension
        Integers; decimals times ten to their scale; days since 1970; timestamps in fractions of a second since 1970.
    nulls : numpy.ndarray of bool, optional
        True where there is no value; as long as ``values``. The values there do not matter.
    """
    if nulls is not None and not nulls.any():
        nulls = None
    known = values if nulls is None else values[~nulls]
    lower, upper = (int(known.min()), int(known.max())) if len(known) else (0, 0)
    if nulls is not None:
        values = np.where(nulls, lower, values)
    return Column(type_, narrow_integers(values, lower, upper), nulls, None, lower, upper)


def float_column(type_: Type, values: Array, nulls: NDArray[np.bool_] | None = None) -> Column:
    """A column of floats; not-a-number and infinities count as null, since they are not values.

    Parameters
    ----------
    type_ : Type
        Float.
    values : numpy.ndarray of float64, one dimension
        The values.
    nulls : numpy.ndarray of bool, optional
        True where there is no value; as long as ``values``.
    """
    finite = np.isfinite(values)
    if not finite.all():
        nulls = ~finite if nulls is None else nulls | ~finite
    if nulls is not None:
        values = np.where(nulls, 0.0, values) if nulls.any() else values
        nulls = nulls if nulls.any() else None
    return Column(type_, values.astype(np.float64, copy=False), nulls)


def boolean_column(type_: Type, values: Array, nulls: NDArray[np.bool_] | None = None) -> Column:
    """A column of booleans."""
    if nulls is not None:
        values = values & ~nulls
        nulls = nulls if nulls.any() else None
    return Column(type_, values.astype(np.bool_, copy=False), nulls, None, 0, 1)


def text_column(type_: Type, codes: Array, texts: Any, nulls: NDArray[np.bool_] | None = None) -> Column:
    """A column of text.

    Parameters
    ----------
    type_ : Type
        Text.
    codes : numpy.ndarray of int, one dimension
        For each row a position in ``texts``.
    texts : pyarrow.Array of string
        The texts; they may repeat, be in any order or be unused.
    nulls : numpy.ndarray of bool, optional
        True where there is no value; as long as ``codes``.
    """
    if nulls is not None:
        nulls = nulls if nulls.any() else None
    texts = pc.cast(texts, pa.large_string())
    used = np.zeros(len(texts), dtype=np.bool_)
    used[codes if nulls is None else codes[~nulls]] = True
    kept = np.flatnonzero(used)
    known, positions = sorted_texts(pc.take(texts, positions_array(kept)))
    lookup = np.zeros(len(used), dtype=np.int64)
    lookup[kept] = positions
    codes = lookup[codes] if len(texts) else np.zeros(len(codes), dtype=np.int64)
    return _sorted_column(type_, codes, known, nulls)


def column_of_texts(texts: Any) -> Column:
    """A column of the texts of an array.

    Parameters
    ----------
    texts : pyarrow.Array or pyarrow.ChunkedArray of string
        A text or null for each row.
    """
    texts = pc.cast(texts, pa.large_string())
    nulls = array_values(pc.is_null(in_one_piece(texts))) if texts.null_count else None
    known, codes = sorted_texts(texts)
    return _sorted_column(TEXT, codes, known, nulls)


def unsorted_column(texts: Any) -> Column | None:
    """A column of texts in the order in which they come; None unless they are many and hardly repeat.

    Its dictionary is in no order, and may hold a text twice. It is for functions that look at each text by itself.

    Parameters
    ----------
    texts : pyarrow.Array of large_string
        A text or null for each row.
    """
    if not hardly_repeat(texts):
        return None
    nulls = array_values(pc.is_null(texts)) if texts.null_count else None
    known = texts.fill_null("") if texts.null_count else texts
    return Column(TEXT, narrow_codes(np.arange(len(texts)), len(texts)), nulls, known, 0, len(texts) - 1)


def _sorted_column(type_: Type, codes: Array, known: Any, nulls: NDArray[np.bool_] | None) -> Column:
    if nulls is not None:
        codes[nulls] = 0
    size = len(known)
    return Column(type_, narrow_codes(codes, max(size, 1)), nulls, known, 0, max(size - 1, 0))


def _by_table(column: Column) -> tuple[Array, Array]:
    """The distinct values of a column of not too wide a range, and which one each row has; null has any."""
    stretches = [slice(start, start + _STRETCH) for start in range(0, len(column), _STRETCH)]
    present = np.zeros(column.upper - column.lower + 1, dtype=np.bool_)
    for each in stretches:
        offsets = column.values[each].astype(np.int64) - column.lower
        present[offsets if column.nulls is None else offsets[~column.nulls[each]]] = True
    distinct = np.flatnonzero(present) + column.lower
    numbers = narrow_codes(np.maximum(np.cumsum(present) - 1, 0), len(distinct) + 2)
    codes = np.empty(len(column), numbers.dtype)
    for each in stretches:
        codes[each] = numbers[column.values[each].astype(np.int64) - column.lower]
    return distinct, codes


def members_of(column: Column) -> Members:
    """The sorted distinct members of a column, and which one each row has.

    Parameters
    ----------
    column : Column
        Values of any type. Texts sort by code point.

    Returns
    -------
    Members
        Codes in the narrowest unsigned type, one a row; null comes after all members, no match last.
    """
    known = column.values if column.nulls is None else column.values[~column.nulls]
    kind = column.type.kind
    if kind is Kind.TEXT:
        # A column's dictionary holds just the texts in use, sorted: the positions are the codes already.
        distinct, codes = np.arange(len(column.dictionary)), column.values.astype(np.int64)
    elif kind is Kind.BOOLEAN or (column.type.exact and column.upper - column.lower <= _TABLE_FACTOR * len(known)):
        distinct, codes = _by_table(column)
    else:
        # Sorted once: that is sooner done than looking each value up among the distinct ones.
        distinct, codes = np.unique(known, return_inverse=True)
        if column.nulls is not None:
            places = codes
            codes = np.zeros(len(column), np.int64)
            codes[~column.nulls] = places
    if column.nulls is not None:
        codes = np.where(column.nulls, len(distinct), codes)
    values = Column(
        column.type,
        distinct.astype(column.values.dtype, copy=False),
        None,
        column.dictionary,
        column.lower,
        column.upper,
    )
    return Members(narrow_codes(codes, len(distinct) + 2), values)
