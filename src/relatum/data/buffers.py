"""Arrow arrays straight from memory.

pyarrow's own constructors for Python and NumPy values import pandas wherever it is installed: half a second in which
nobody asked for pandas.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from relatum.data import compute as pc

Bits = NDArray[np.bool_]


def fixed_array(values: NDArray[Any], type_: Any, nulls: Bits | None = None) -> Any:
    """An Arrow array of a fixed-width type.

    Parameters
    ----------
    values : numpy.ndarray, one dimension
        Values whose memory layout is that of the type already.
    type_ : pyarrow.DataType
        The type.
    nulls : numpy.ndarray of bool, optional
        True where there is no value; as long as ``values``.
    """
    packed = _bits(values) if values.dtype == np.bool_ else pa.py_buffer(np.ascontiguousarray(values))
    return pa.Array.from_buffers(type_, len(values), [None if nulls is None else _bits(~nulls), packed])


def positions_array(positions: NDArray[Any], nulls: Bits | None = None) -> Any:
    """Row numbers or codes as Arrow takes them.

    Parameters
    ----------
    positions : numpy.ndarray of int, one dimension
        The numbers, from 0 on.
    nulls : numpy.ndarray of bool, optional
        True where there is none; as long as ``positions``.

    Returns
    -------
    pyarrow.Array of int64
        As long as ``positions``.
    """
    return fixed_array(positions.astype(np.int64, copy=False), pa.int64(), nulls)


def texts_array(texts: Sequence[str]) -> Any:
    """An Arrow array of texts."""
    encoded = [text.encode() for text in texts]
    offsets = np.zeros(len(encoded) + 1, np.int64)
    np.cumsum([len(each) for each in encoded], out=offsets[1:])
    return pa.Array.from_buffers(
        pa.large_string(), len(encoded), [None, pa.py_buffer(offsets), pa.py_buffer(b"".join(encoded))]
    )


def _bits(values: Bits) -> Any:
    return pa.py_buffer(np.packbits(values, bitorder="little"))


def array_values(array: Any, filler: int | float | bool | None = None) -> NDArray[Any]:
    """The values of a fixed-width Arrow array as NumPy holds them: whole numbers, floats or booleans.

    Parameters
    ----------
    array : pyarrow.Array or pyarrow.ChunkedArray
        Numbers, booleans, dates (days since 1970) or timestamps (in the unit of their type, since 1970).
    filler : int, float or bool, optional
        The value to put where there is a null; anything by default.

    Returns
    -------
    numpy.ndarray, one dimension
        As long as ``array``; the memory is shared where it can be.
    """
    if filler is not None and array.null_count:
        return np.where(array_values(pc.is_null(array)), np.asarray(filler, _dtype(array.type)), array_values(array))
    start, stop = array.offset, array.offset + len(array)
    buffer = array.buffers()[1]
    if not len(array) or buffer is None:
        return np.zeros(len(array), _dtype(array.type))
    if pa.types.is_boolean(array.type):
        bits = np.frombuffer(buffer, np.uint8, (stop + 7) // 8)
        return np.unpackbits(bits, count=stop, bitorder="little")[start:].view(np.bool_)
    return np.frombuffer(buffer, _dtype(array.type), stop)[start:]


def _dtype(type_: Any) -> np.dtype[Any]:
    kinds = pa.types
    if kinds.is_boolean(type_):
        return np.dtype(np.bool_)
    letter = "f" if kinds.is_floating(type_) else "u" if kinds.is_unsigned_integer(type_) else "i"
    return np.dtype(f"{letter}{type_.bit_width // 8}")


def in_one_piece(array: Any) -> Any:
    """An Arrow array, the chunks of a chunked one put together."""
    if not isinstance(array, pa.ChunkedArray):
        return array
    if not array.num_chunks:
        return pa.nulls(0, array.type)  # not every version of Arrow combines no chunks of any type
    if pa.types.is_dictionary(array.type):
        array = array.unify_dictionaries()
    return array.combine_chunks() if array.num_chunks != 1 else array.chunk(0)
