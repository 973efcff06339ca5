"""Arrow tables, and whatever hands out an Arrow C stream: pandas, Polars, DuckDB and others."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping
from typing import Any

import pyarrow as pa

from relatum.data.arrow import column_from_arrow, type_of
from relatum.data.columns import Column
from relatum.data.table import TableData
from relatum.data.types import Type
from relatum.errors import SourceError
from relatum.model.names import quoted
from relatum.wording import suggestion


def read_frame(frame: object, types: Mapping[str, Type], name: str) -> TableData:
    """The rows and columns of any object with ``__arrow_c_stream__``.

    Parameters
    ----------
    frame : object
        A frame of pandas, Polars, DuckDB, Arrow or another library.
    types : mapping of str to Type
        Columns to be read as another type than the one found.
    name : str
        The table's name, for messages.

    Raises
    ------
    SourceError
        The object is no such frame, or two of its columns have one name.
    """
    if not hasattr(frame, "__arrow_c_stream__"):
        raise SourceError(
            f"A {type(frame).__name__} is no frame for the table {name}.",
            fix="Pass a path, or an object with the Arrow C stream interface (pandas, Polars, DuckDB, Arrow).",
        )
    try:
        table = pa.RecordBatchReader.from_stream(frame).read_all()
    except (pa.ArrowInvalid, pa.ArrowTypeError, pa.ArrowNotImplementedError, ValueError, TypeError) as error:
        raise SourceError(f"The frame for the table {name} cannot be read: {error}") from None
    # pandas hands out its row labels as a column of this name; they are no column of the frame.
    kept = [column for column in table.column_names if not column.startswith("__index_level_")]
    table = table.select(kept) if len(kept) < table.num_columns else table
    return table_data(table.schema, types, f"table {name}", table.num_rows, table.column)


def table_data(schema: Any, types: Mapping[str, Type], source: str, rows: int, read: Callable[[str], Any]) -> TableData:
    """A table's data from an Arrow schema and a function that hands out the Arrow array of a column."""
    twice = [name for name, count in Counter(schema.names).items() if count > 1]
    if twice:
        raise SourceError(f"The column {twice[0]} is there more than once.", path=source)
    for name in types:
        if name not in schema.names:
            raise SourceError(
                f"There is no column {name}, for which the model states a type.",
                path=source,
                fix=suggestion(name, schema.names, noun="column"),
            )
    known: dict[str, Type] = {}
    left_out: dict[str, str] = {}
    for field in schema:
        found = type_of(field.type)
        if found is None:
            left_out[field.name] = f"values of type {field.type} are not read"
        else:
            known[field.name] = types.get(field.name, found)

    def fetch(name: str) -> Column:
        try:
            return column_from_arrow(read(name), types.get(name))
        except SourceError as error:
            raise SourceError(f"Column {quoted(name)} {error.reason}", path=source, fix=error.fix) from None

    return TableData(known, rows, fetch, left_out)
