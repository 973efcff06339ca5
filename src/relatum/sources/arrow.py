"""Arrow tables, and whatever hands out an Arrow C stream: pandas, Polars, DuckDB and others."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any, TypeVar

import pyarrow as pa
from msgspec import Struct

from relatum.data import compute as pc
from relatum.data.arrow import (
    column_from_arrow,
    is_simple,
    is_text,
    needs_a_look,
    not_read,
    plain_type,
    plainly_stored,
    sized,
    type_of,
    with_nulls,
)
from relatum.data.buffers import in_one_piece
from relatum.data.columns import Column, unsorted_column
from relatum.data.stacking import appended
from relatum.data.table import TableData
from relatum.data.types import TEXT, Type
from relatum.errors import HeadingError, LimitError, SourceError
from relatum.model.names import quoted
from relatum.runtime.limits import refuse_above, refuse_stopped
from relatum.runtime.threads import shared_map
from relatum.sources.stated import Stated
from relatum.sources.texts import midnights
from relatum.wording import counted, first_line, suggestion

T = TypeVar("T")


def read_frame(frame: object, stated: Stated, name: str) -> TableData:
    """The rows and columns of any object with ``__arrow_c_stream__``.

    Parameters
    ----------
    frame : object
        A frame of pandas, Polars, DuckDB, Arrow or another library.
    stated : Stated
        How its columns are read where the model says so.
    name : str
        The table's name, for messages.

    Raises
    ------
    SourceError
        The object is not such a frame, or two of its columns have one name.
    """
    if not hasattr(type(frame), "__arrow_c_stream__"):
        raise SourceError(
            f"A {type(frame).__name__} cannot be the table {name}.",
            fix="Pass a path, or a frame with the Arrow C stream interface (pandas, Polars, DuckDB, Arrow).",
        )
    try:
        table = pa.RecordBatchReader.from_stream(frame).read_all()
    except Exception as error:  # it is not ours: it may raise anything
        raise SourceError(f"The frame for the table {name} cannot be read: {first_line(error)}") from None
    if isinstance(frame, pa.RecordBatchReader) and not table.num_rows:
        raise SourceError(
            f"The reader for the table {name} returned no rows: it is empty, or has been read already.",
            fix="Pass the table itself, or a new reader.",
        )
    # pandas adds its row labels as a column of this name; it is not one of the frame's own.
    kept = [column for column in table.column_names if not column.startswith("__index_level_")]
    table = table.select(kept) if len(kept) < table.num_columns else table
    if b"pandas" in (table.schema.metadata or {}):
        # pandas has no dates: it writes one as the midnight that begins it.
        table = _with_dates(table, stated)
    return table_data(table.schema, stated, f"table {name}", table.num_rows, table.column)


def _with_dates(table: Any, stated: Stated) -> Any:
    for at, field in enumerate(table.schema):
        if pa.types.is_timestamp(field.type) and field.name not in stated.types and midnights(table.column(at)):
            table = table.set_column(at, field.name, table.column(at).cast(pa.date32()))
    return table


class Pieces(Struct, frozen=True, eq=False):
    """An Arrow array in pieces, which all cores read and go on with: what a piece took is free again for the next.

    ``read`` gives one of the ``count`` pieces, and raises a SourceError whose sentence goes on after a column's name.
    """

    type: Any
    count: int
    read: Callable[[int], Any]

    def each(self, make: Callable[[Any], T]) -> list[T]:
        """What is made of each piece, in order."""
        return shared_map(lambda at: make(self.read(at)), range(self.count), refuse_stopped)

    def whole(self) -> Any:
        """The array as a chunked one."""
        return pa.chunked_array(self.each(lambda piece: piece))


def table_data(schema: Any, stated: Stated, source: str, rows: int, read: Callable[[str], Any]) -> TableData:
    """A table's data from an Arrow schema and a function that hands out the Arrow array of a column, or its pieces.

    A column whose Arrow type alone does not say which type holds all of it is looked at at once.
    """
    refuse_above("columns", len(schema.names), f"{source} has {counted(len(schema.names), 'column')}")
    refuse_above("rows", rows, f"{source} has {counted(rows, 'row')}")
    names = with_numbers(schema.names) if stated.numbered else list(schema.names)
    twice = [name for name, count in Counter(names).items() if count > 1]
    if twice:
        raise SourceError(
            f"The column {twice[0]} appears more than once.", path=source, fix="Give each a different name."
        )
    types = stated.types
    for name in types:
        if name not in names:
            raise SourceError(
                f"The model sets a type for the column {name}, which does not exist.",
                path=source,
                fix=suggestion(name, names, noun="column"),
            )
    headings = dict(zip(names, schema.names, strict=True))
    known: dict[str, Type] = {}
    left_out: dict[str, str] = {}
    remarks: list[str] = []
    for name, field in zip(names, schema, strict=True):
        found = type_of(field.type)
        if found is None:
            left_out[name] = not_read(field.type)
            continue
        if needs_a_look(plain_type(field.type)) and name not in types:
            with _of_column(name, source):
                found = sized(plainly_stored(_whole(read(field.name)))) or found
        known[name] = types.get(name, found)
        remark = _remark(plain_type(field.type), known[name])
        remarks += [f"{name}: {remark}"] if remark else []

    waiting: dict[str, Any] = {}

    def array_of(name: str) -> Any:
        markers, found = stated.markers(name), read(headings[name])
        if isinstance(found, Pieces) and not markers and is_simple(found.type) and type_of(found.type) == known[name]:
            return found
        array = plainly_stored(_whole(found))
        return with_nulls(array, markers) if markers else array

    def fetch(name: str) -> Column:
        with _of_column(name, source):
            array = waiting.pop(name, None)
            array = array_of(name) if array is None else array
            if isinstance(array, Pieces):
                pieces = array.each(lambda piece: column_from_arrow(piece, known[name], stated.zone))
                return appended(pieces, known[name])
            return column_from_arrow(array, known[name], stated.zone)

    def texts(name: str) -> Column | None:
        with _of_column(name, source):
            array = array_of(name)
            if pa.types.is_dictionary(array.type) and mostly_different(array):
                array = pc.cast(array, pa.large_string())
            if not is_text(array.type):
                waiting[name] = array
                return None
            waiting[name] = in_one_piece(pc.cast(array, pa.large_string()))
            return unsorted_column(waiting[name])

    return TableData(known, rows, fetch, left_out, None, remarks, texts)


def mostly_different(array: Any) -> bool:
    """Whether the dictionaries of an array, or of its pieces, hold more than half as many texts as there are rows."""
    chunks = array.chunks if isinstance(array, pa.ChunkedArray) else [array]
    return 2 * sum(len(chunk.dictionary) for chunk in chunks) > len(array)


def _whole(found: Any) -> Any:
    return found.whole() if isinstance(found, Pieces) else found


@contextmanager
def _of_column(name: str, source: str) -> Iterator[None]:
    """Say of which column, and where, an error is whose sentence goes on after a column's name."""
    try:
        yield
    except LimitError:
        raise
    except SourceError as error:
        raise SourceError(f"Column {quoted(name)} {error.reason}", path=source, fix=error.fix) from None


def _remark(arrow: Any, type_: Type) -> str:
    """What a person should know of how a column is read."""
    if pa.types.is_duration(arrow):
        return "durations, read as numbers of seconds"
    if pa.types.is_time(arrow):
        return "times of day, read as text"
    if pa.types.is_uint64(arrow) and type_ == TEXT:
        return "whole numbers of more than 64 bits: read as text, because a float cannot hold them exactly"
    return ""


def with_column(table: Any, name: str, array: Any) -> Any:
    """An Arrow table with other values in a column."""
    return table.set_column(table.column_names.index(name), name, array)


def distinct_names(names: Sequence[str], numbered: bool, where: str, path: Path, line: int | None = None) -> list[str]:
    """The headings of a file that a person wrote, equal ones numbered if that is wanted; else a HeadingError."""
    twice = next((name for name, count in Counter(names).items() if count > 1), "")
    if twice and not numbered:
        raise HeadingError(
            f"The heading {twice} appears more than once{where or _positions(names, twice)}.",
            path=path,
            line=line,
            fix=f'Give every column a different name, or set headings = "numbered" for the table: {twice}, {twice}_2.',
        )
    return with_numbers(names)


def _positions(names: Sequence[str], twice: str) -> str:
    return f": columns {' and '.join(str(at) for at, name in enumerate(names, 1) if name == twice)}"


def with_numbers(names: Iterable[str]) -> list[str]:
    """Names of which those that are there already get a number: price, price_2."""
    taken: dict[str, None] = {}
    for name in names:
        number, own = 1, name
        while own in taken:
            number += 1
            own = f"{name}_{number}"
        taken[own] = None
    return list(taken)
