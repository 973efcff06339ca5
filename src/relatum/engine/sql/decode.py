"""What a query answers, as it is held here: columns, and the codes of members."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa

from relatum.data import compute as pc
from relatum.data.arrow import column_from_arrow
from relatum.data.buffers import array_values, fixed_array, in_one_piece
from relatum.data.columns import Array, Column, Members
from relatum.data.types import FLOAT, Kind, Type
from relatum.errors import ChangedDataError, SourceError, ValueOverflowError


def held(array: Any, type_: Type) -> Column:
    """Values that a query came to, as they are held here.

    Raises
    ------
    ValueOverflowError
        Decimals are wider there than here: what was worked out cannot be held.
    SourceError
        A date is outside the years 1 to 9999.
    """
    if type_.kind is Kind.NULL:
        array = pa.nulls(len(array), pa.float64())
    found = fetched(array, FLOAT if type_.kind is Kind.NULL else type_)
    return Column(type_, found.values, found.nulls, found.dictionary, found.lower, found.upper)


def fetched(array: Any, type_: Type) -> Column:
    """Values of a column or query there, as they are held here. Raises as ``held`` does."""
    try:
        return column_from_arrow(array, type_)
    except SourceError as error:
        if type_.kind in (Kind.DATE, Kind.TIMESTAMP):
            reason = f"The answer of the engine {error.reason}"
            raise SourceError(reason, fix="Leave those dates out, or make them null, in a view or query.") from None
        raise ValueOverflowError.of_result() from None


def codes_of(values: Any, states: Any, members: Members, type_: Type) -> Array:
    """The codes of members, of which a query tells values and states."""
    values, state = in_one_piece(values), array_values(in_one_piece(states).cast(pa.int64()))
    real = state == 0
    if real.all():
        return member_codes(values, members, type_)
    codes = np.where(state == 1, members.null, members.no_match)
    codes[real] = member_codes(values.filter(fixed_array(real, pa.bool_())), members, type_)
    return codes


def member_codes(array: Any, members: Members, type_: Type) -> Array:
    """The codes of values among the members of a column.

    Raises
    ------
    ChangedDataError
        A value is not one of them: the data has changed since they were asked.
    """
    if not len(array):
        return np.zeros(0, np.int64)
    known = members.values
    if known.type.kind in (Kind.TEXT, Kind.NULL):
        found = pc.index_in(array.cast(known.dictionary.type), value_set=known.dictionary)
        if found.null_count:
            raise _changed()
        return array_values(found).astype(np.int64)
    values = fetched(array, type_).values.astype(known.values.dtype)
    codes = np.searchsorted(known.values, values)
    there = known.values[np.minimum(codes, len(known.values) - 1)] if len(known.values) else np.zeros(0)
    if len(there) != len(values) or not np.array_equal(there, values, equal_nan=known.type.kind is Kind.FLOAT):
        raise _changed()
    return codes


def _changed() -> ChangedDataError:
    return ChangedDataError(
        "The engine's data changed during the question, or since this grid was made.",
        fix="Ask the model again.",
    )
