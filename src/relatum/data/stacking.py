"""Columns put one below the other."""

from __future__ import annotations

import numpy as np
import pyarrow as pa

from relatum.data.columns import Array, Column, exact_column, float_column, narrow_integers, text_column
from relatum.data.days import MICROSECONDS_A_DAY
from relatum.data.types import FLOAT, Kind, Type
from relatum.errors import SourceError


def appended(columns: list[Column], type_: Type) -> Column:
    """Columns one below the other, as one of the type given.

    Parameters
    ----------
    columns : list of Column
        At least one; each of the type, of one that it is widened from, or without any value.
    type_ : Type
        The type of all.

    Returns
    -------
    Column
        As long as all together, as narrow as their bounds allow.

    Raises
    ------
    SourceError
        A value does not fit in 64 bits as this type.
    """
    if len(columns) == 1:
        return columns[0]
    nulls = np.concatenate([np.zeros(len(each), np.bool_) if each.nulls is None else each.nulls for each in columns])
    kept = nulls if nulls.any() else None
    columns = [each if each.type.kind is type_.kind else _converted(each, type_) for each in columns]
    if type_.kind is Kind.TEXT:
        codes, start = [], 0
        for each in columns:
            codes.append(each.values.astype(np.int64) + start)
            start += max(len(each.dictionary), 1)
        texts = [each.dictionary if len(each.dictionary) else pa.array([""], pa.large_string()) for each in columns]
        return text_column(type_, np.concatenate(codes), pa.concat_arrays(texts), kept)
    if type_.kind is Kind.FLOAT:
        return float_column(type_, np.concatenate([each.values for each in columns]), kept)
    values = [_scaled(each, type_) for each in columns]
    used = [each for each in columns if each.null_count < len(each)]
    factors = [10 ** (type_.scale - each.type.scale) for each in used]
    lower = min((each.lower * factor for each, factor in zip(used, factors, strict=True)), default=0)
    upper = max((each.upper * factor for each, factor in zip(used, factors, strict=True)), default=0)
    whole = np.concatenate(values)
    if type_.kind is Kind.BOOLEAN:
        return Column(type_, whole, kept, None, 0, 1)
    whole = whole if kept is None else np.where(nulls, lower, whole)
    return Column(type_, narrow_integers(whole, lower, upper), kept, None, lower, upper)


def _scaled(column: Column, type_: Type) -> Array:
    if type_.kind is Kind.BOOLEAN:
        return np.asarray(column.values)
    factor = 10 ** (type_.scale - column.type.scale)
    if factor == 1:
        return np.asarray(column.values)
    if max(abs(column.lower), abs(column.upper)) * factor >= 1 << 63:
        raise SourceError(f"holds a value that does not fit in 64 bits as {type_}")
    return np.asarray(column.values.astype(np.int64) * factor)


def _converted(column: Column, type_: Type) -> Column:
    if column.null_count == len(column):
        values = np.zeros(len(column), np.float64 if type_ == FLOAT else np.int64)
        dictionary = pa.array([], pa.large_string()) if type_.kind is Kind.TEXT else None
        return Column(
            type_, values.astype(np.bool_) if type_.kind is Kind.BOOLEAN else values, column.nulls, dictionary
        )
    if column.type.kind is Kind.DATE and type_.kind is Kind.TIMESTAMP:
        unit = MICROSECONDS_A_DAY * 10**type_.scale
        return exact_column(type_, column.values.astype(np.int64) * unit, column.nulls)
    if type_ == FLOAT:
        return float_column(FLOAT, column.values.astype(np.float64) / 10**column.type.scale, column.nulls)
    return column
