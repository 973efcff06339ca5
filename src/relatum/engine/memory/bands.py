"""Numbers in bands and dates in periods, and the edges that bands are ordered by."""

from __future__ import annotations

import itertools
import math
import sys
from collections.abc import Callable
from decimal import Decimal
from typing import Any

import numpy as np

from relatum.data import vectors as v
from relatum.data.buffers import texts_array
from relatum.data.columns import Array, Column, text_column
from relatum.data.types import DATE, TEXT, Kind, Type
from relatum.engine.memory.rounding import bounded
from relatum.errors import ValueOverflowError


def band_by(arguments: list[Column], type_: Type) -> Column:
    """The band of one width that holds each number: its lower edge in it, its upper one not."""
    column, width = arguments
    step, scale = int(width.values), width.type.scale
    if column.type.kind is Kind.FLOAT:
        numbers = _float_bands(v.floats(column), step, scale, column.nulls)
    else:
        own = column.type.scale
        # Both in steps of the finer of the two; Python's whole numbers where 64 bits might not hold them.
        finer, width_in_steps = 10 ** max(scale - own, 0), step * 10 ** max(own - scale, 0)
        wide = max(abs(column.lower) * finer, abs(column.upper) * finer, width_in_steps) >= 1 << 62
        values = column.values.astype(object if wide else np.int64) * finer
        numbers = values // width_in_steps
    distinct, codes = np.unique(np.asarray(numbers).reshape(-1), return_inverse=True)
    texts = [_between(int(each) * step, (int(each) + 1) * step, scale) for each in distinct.tolist()]
    return _texts(column, codes, texts)


def _float_bands(values: Array, step: int, scale: int, nulls: v.Nulls) -> Array:
    """The number of each float's band; a float counts as its shortest decimal.

    An edge is the shortest decimal of the float nearest to it, so that comparing floats compares these decimals.
    """
    unit = 10.0**scale
    with np.errstate(over="ignore", invalid="ignore"):
        guess = np.floor(values * unit / step)
    known = True if nulls is None else ~nulls
    # Beyond this a float and its edges are no longer exact.
    if np.any(np.abs(guess * step) >= v.FLOAT_EXACT, where=known):
        raise ValueOverflowError(
            "A float has too many digits for these band edges.", fix="Use wider bands, or cast it first."
        )
    numbers = np.where(known, guess, 0.0).astype(np.int64)
    numbers = numbers - (values < numbers * step / unit)
    return np.asarray(numbers + (values >= (numbers + 1) * step / unit))


def band_at(arguments: list[Column], type_: Type) -> Column:
    """The band between edges that holds each number."""
    column, *constants = arguments
    edges = [Decimal(int(each.values)).scaleb(-each.type.scale) for each in constants]
    if column.type.kind is Kind.FLOAT:
        limits: Array = np.array([float(edge) for edge in edges])
        values = v.floats(column)
    else:
        unit = 10**column.type.scale
        # A number is at or above an edge exactly if it is at or above the next number with its own digits.
        limits = np.array([min(max(math.ceil(edge * unit), v.LOWEST), v.HIGHEST) for edge in edges], np.int64)
        values = column.values.astype(np.int64)
    places = np.searchsorted(limits, np.asarray(values).reshape(-1), side="right")
    shown = [_plain(edge) for edge in edges]
    texts = [f"below {shown[0]}", *(f"{one} to {other}" for one, other in itertools.pairwise(shown))]
    return _texts(column, places, [*texts, f"from {shown[-1]}"])


def _texts(column: Column, codes: Array, texts: list[str]) -> Column:
    """Texts by code, in the shape of a column and null where it is."""
    shape = column.values.shape
    nulls = None if column.nulls is None else np.broadcast_to(column.nulls, shape)
    found = text_column(TEXT, codes.reshape(-1), texts_array(texts), None if nulls is None else nulls.reshape(-1))
    own = None if found.nulls is None else found.nulls.reshape(shape)
    return Column(TEXT, found.values.reshape(shape), own, found.dictionary, found.lower, found.upper)


def _between(lower: int, upper: int, scale: int) -> str:
    return f"{_plain(Decimal(lower).scaleb(-scale))} to {_plain(Decimal(upper).scaleb(-scale))}"


def _plain(number: Decimal) -> str:
    """A number without an exponent and without zeros at its end."""
    text = f"{number:f}"
    return text.rstrip("0").rstrip(".") if "." in text else text


def edge_number(text: str) -> float:
    """The lower edge of a band as a number; of the lowest one, which has none, the least number of all."""
    word = text.split(" ", 1)
    if word[0] == "below":
        return -sys.float_info.max
    return float(word[1] if word[0] == "from" else word[0])


def band_edge(arguments: list[Column], type_: Type) -> Column:
    """The lower edge of each band."""
    (column,) = arguments
    edges = np.array([edge_number(text) for text in column.dictionary.to_pylist()] or [0.0])
    return v.finite(edges[column.values], column.nulls)


def period_text(write: Callable[[Any], str], unit: str) -> Callable[[list[Column], Type], Column]:
    """A kernel that writes the months of dates, or the quarters, as text."""
    size = {"month": 1, "quarter": 3}[unit]

    def kernel(arguments: list[Column], type_: Type) -> Column:
        (column,) = arguments
        months = np.asarray(v.days_of(column), dtype="datetime64[D]").astype("datetime64[M]").astype(np.int64)
        distinct, codes = np.unique(np.asarray(months // size).reshape(-1), return_inverse=True)
        return _texts(column, codes, [write(each) for each in distinct.tolist()])

    return kernel


def month_text(number: int) -> str:
    """A month, counted from that of January 1970, as text."""
    return f"{1970 + number // 12:04}-{number % 12 + 1:02}"


def quarter_text(number: int) -> str:
    """A quarter, counted from the first of 1970, as text."""
    return f"{1970 + number // 4:04}-Q{number % 4 + 1}"


def period_week(arguments: list[Column], type_: Type) -> Column:
    """The Monday on or before each date."""
    (column,) = arguments
    days = np.asarray(v.days_of(column)).astype(np.int64)
    monday = np.asarray(days - (days + 3) % 7)  # 1 January 1970, day 0, was a Thursday
    return bounded(DATE, monday, column.nulls)
