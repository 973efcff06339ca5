"""Dates that a source writes as text in its own way, read by a pattern of Unicode CLDR."""

from __future__ import annotations

import re
from datetime import datetime

import numpy as np

from relatum.data.columns import Column, exact_column
from relatum.data.days import EPOCH_MOMENT
from relatum.data.types import Kind, Type
from relatum.errors import ModelError, SourceError

_FIELDS = {"yyyy": "%Y", "yy": "%y", "MM": "%m", "M": "%m", "dd": "%d", "d": "%d", "HH": "%H", "mm": "%M", "ss": "%S"}
_PATTERN = re.compile(r"yyyy|yy|MM|M|dd|d|HH|mm|ss|[^A-Za-z%]+")


def date_format(pattern: str) -> str:
    """The pattern as the standard library's parser takes it.

    Raises
    ------
    ModelError
        It holds a letter that is no field of a date.

    Examples
    --------
    >>> date_format("dd/MM/yyyy")
    '%d/%m/%Y'
    """
    parts = _PATTERN.findall(pattern)
    if "".join(parts) != pattern or not any(part in ("yyyy", "yy") for part in parts):
        raise ModelError(
            f"{pattern!r} is no pattern of a date.", fix="Write it of yyyy, MM, dd, HH, mm, ss: dd/MM/yyyy."
        )
    return "".join(_FIELDS.get(part, part) for part in parts)


def dates_of(column: Column, type_: Type, pattern: str) -> Column:
    """A text column read as dates or timestamps.

    Raises
    ------
    SourceError
        A text is not written by the pattern.
    """
    form = date_format(pattern)
    moments = np.zeros(max(len(column.dictionary), 1), np.int64)
    for at, text in enumerate(column.dictionary.to_pylist()):
        try:
            moment = datetime.strptime(text, form) - EPOCH_MOMENT
        except ValueError:
            raise SourceError(
                f"holds {text!r}, which is no date written as {pattern}",
                fix="Correct the value, or the column's pattern in the model.",
            ) from None
        moments[at] = moment.days if type_.kind is Kind.DATE else round(moment.total_seconds() * 1_000_000)
    if column.null_count == len(column):
        return exact_column(type_, np.zeros(len(column), np.int64), column.nulls)
    return exact_column(type_, moments[column.values], column.nulls)
