"""Columns and row numbers in the format of Arrow IPC files."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.ipc as paipc

from relatum.data.buffers import array_values, fixed_array
from relatum.data.columns import Array, Column
from relatum.data.types import Kind, parse_type

_ARROW = {
    "bool": pa.bool_(),
    "float64": pa.float64(),
    "int8": pa.int8(),
    "int16": pa.int16(),
    "int32": pa.int32(),
    "int64": pa.int64(),
    "uint8": pa.uint8(),
    "uint16": pa.uint16(),
    "uint32": pa.uint32(),
}


def column_batch(column: Column) -> Any:
    """A column as a record batch: its values in the narrow type they have, text as a dictionary.

    The metadata of the schema holds its type and bounds, so that nothing needs to be looked at again.
    """
    values = fixed_array(column.values, _ARROW[column.values.dtype.name], column.nulls)
    if column.type.kind is Kind.TEXT:
        values = pa.DictionaryArray.from_arrays(values, column.dictionary)
    metadata = {"type": str(column.type), "lower": str(column.lower), "upper": str(column.upper)}
    return pa.record_batch([values], schema=pa.schema([pa.field("values", values.type)], metadata))


def column_of(batch: Any) -> Column:
    """The column that :func:`column_batch` made."""
    metadata = {key.decode(): value.decode() for key, value in batch.schema.metadata.items()}
    array = batch.column(0)
    nulls = array_values(array.is_null()) if array.null_count else None
    dictionary = None
    if pa.types.is_dictionary(array.type):
        array, dictionary = array.indices, array.dictionary
    type_ = parse_type(metadata["type"])
    return Column(type_, array_values(array), nulls, dictionary, int(metadata["lower"]), int(metadata["upper"]))


def numbers_batch(numbers: Array, **facts: int) -> Any:
    """Row numbers as a record batch, with facts about them in the schema's metadata."""
    values = fixed_array(numbers, _ARROW[numbers.dtype.name])
    metadata = {name: str(value) for name, value in facts.items()}
    return pa.record_batch([values], schema=pa.schema([pa.field("values", values.type)], metadata))


def numbers_of(batch: Any) -> tuple[Array, dict[str, int]]:
    """The row numbers and facts that :func:`numbers_batch` took."""
    facts = {key.decode(): int(value) for key, value in batch.schema.metadata.items()}
    return np.asarray(array_values(batch.column(0))), facts


def batch_bytes(batch: Any) -> bytes:
    """One record batch in the format of an Arrow IPC file."""
    sink = pa.BufferOutputStream()
    with paipc.new_file(sink, batch.schema) as writer:
        writer.write_batch(batch)
    return bytes(sink.getvalue().to_pybytes())


def read_batch(content: bytes) -> Any:
    """The one record batch of such a file, its offsets and codes looked at before anything goes by them.

    Raises
    ------
    pyarrow.ArrowException
        It is not such a file, or it is damaged.
    """
    batch = paipc.open_file(pa.BufferReader(content)).get_batch(0)
    batch.validate(full=True)
    return batch
