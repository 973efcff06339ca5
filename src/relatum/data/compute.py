"""The functions of ``pyarrow.compute``, which is loaded when one is used that is not defined here.

Importing it makes some three hundred functions, which takes longer than reading a small model. The few that reading
needs are called through its compiled half, where they all are: the methods of arrays of the same names load the whole.
"""

from __future__ import annotations

from typing import Any

from pyarrow import _compute as compiled


def cast(values: Any, type_: Any) -> Any:
    """Values converted to an Arrow type; raises what Arrow raises where one does not fit."""
    return compiled.call_function("cast", [values], compiled.CastOptions.safe(type_))


def dictionary_encode(values: Any) -> Any:
    """The distinct values in the order in which they occur, and for each value its position among them."""
    return compiled.call_function("dictionary_encode", [values], compiled.DictionaryEncodeOptions())


def index_in(values: Any, value_set: Any) -> Any:
    """For each value its position in another array, null where it is not there."""
    return compiled.call_function("index_in", [values], compiled.SetLookupOptions(value_set))


def less(values: Any, other: Any) -> Any:
    """Whether each value comes before the other."""
    return compiled.call_function("less", [values, other])


def not_equal(values: Any, others: Any) -> Any:
    """Whether each value differs from the other at its place."""
    return compiled.call_function("not_equal", [values, others])


def is_in(values: Any, value_set: Any) -> Any:
    """Whether each value is one of another array."""
    return compiled.call_function("is_in", [values], compiled.SetLookupOptions(value_set))


def is_null(values: Any) -> Any:
    """Whether each value is missing."""
    return compiled.call_function("is_null", [values], compiled.NullOptions())


def match_like(values: Any, pattern: str) -> Any:
    """Whether each text is like a pattern of SQL."""
    return compiled.call_function("match_like", [values], compiled.MatchSubstringOptions(pattern))


def take(values: Any, positions: Any) -> Any:
    """The values at positions."""
    return compiled.call_function("take", [values, positions], compiled.TakeOptions())


def array_sort_indices(values: Any) -> Any:
    """The positions of the values of an array in ascending order; nulls come last."""
    return compiled.call_function("array_sort_indices", [values], compiled.ArraySortOptions())


def __getattr__(name: str) -> Any:
    import pyarrow.compute as compute  # noqa: PLC0415 - see above

    return getattr(compute, name)
