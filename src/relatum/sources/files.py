"""Parquet and Arrow IPC files, and what every file has in common."""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from functools import partial
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.ipc as paipc

from relatum.data.buffers import in_one_piece
from relatum.data.table import TableData
from relatum.errors import MissingSourceError, SourceError
from relatum.runtime.atomic import note_source
from relatum.runtime.limits import refuse_memory
from relatum.runtime.paths import kind_of
from relatum.sources.arrow import Pieces, mostly_different, table_data
from relatum.sources.stated import Stated
from relatum.wording import first_line, listed, suggestion

#: What Parquet files are called.
PARQUET = (".parquet", ".parq", ".pq")


@contextmanager
def sentences(path: Path) -> Iterator[None]:
    """Turn errors while a file is read into a SourceError that says what is wrong with the file."""
    try:
        yield
    except PermissionError:
        raise SourceError("No permission to read this file.", path=path, fix="Check its permissions.") from None
    except _DAMAGE as error:
        raise SourceError(
            f"This is not a file of the expected kind, or it is damaged: {_damage(error)}",
            path=path,
            fix=f"The ending says {path.suffix}; check how it was written.",
        ) from None


#: What readers raise for a file with wrong bytes: an absurd size in it can look like a lack of memory.
_DAMAGE = (pa.ArrowException, OSError, UnicodeDecodeError, OverflowError)


def _damage(error: Exception) -> str:
    said = first_line(error)
    return said if len(said) <= 200 else said[:199] + "…"


def plain_file(path: Path) -> Path:
    """A path, once it is sure that a plain file is there: a pipe would be waited for.

    Raises
    ------
    MissingSourceError
        There is no such file.
    SourceError
        It is something else, or a path that cannot be followed.
    """
    kind = kind_of(path)
    if not kind:
        raise missing_file(path)
    if kind != "file":
        raise SourceError(f"This is a {kind}, not a file.", path=path, fix="Give a file.")
    note_source(path)
    return path


def read_bytes(path: Path) -> Any:
    """A file's content as a buffer in memory: a mapped one would end the process if the file were cut short."""
    refuse_memory(path.stat().st_size, str(path))
    with pa.OSFile(os.fspath(path)) as file:
        return file.read_buffer()


def missing_file(path: Path) -> MissingSourceError:
    """The error for a file that is not there: with the nearest name in its folder."""
    if not path.parent.is_dir():
        return MissingSourceError(
            "There is no such file.", path=path, fix=f"The folder {path.parent} does not exist either."
        )
    near = [other.name for other in path.parent.iterdir()]
    return MissingSourceError("There is no such file.", path=path, fix=suggestion(path.name, near, noun="file"))


#: Fewer groups of rows are read as a whole.
_GROUPS = 4
#: The ways in which Arrow holds texts as they are.
_TEXTS = (pa.types.is_string, pa.types.is_large_string, pa.types.is_string_view)


def read_parquet(path: Path, stated: Stated) -> TableData:
    """A Parquet file; a column is read when it is first needed."""
    import pyarrow.parquet as pq  # noqa: PLC0415 - slow to load, and not every model has such a file

    metadata = _footer(path)
    schema = metadata.schema.to_arrow_schema()
    texts = [field.name for field in schema if any(is_text(field.type) for is_text in _TEXTS)]

    def opened(texts: Sequence[str], **said: Any) -> Any:
        # Opened for each column: one reader is not made to be used by several threads.
        return pq.ParquetFile(path, metadata=metadata, read_dictionary=texts, **said)

    old = [
        column.name for column in map(metadata.schema.column, range(len(metadata.schema)))
        if column.physical_type == "INT96" and column.max_definition_level < 2
    ]  # fmt: skip

    def piece(name: str, spelled: Sequence[str], at: int) -> Any:
        with damaged_column():
            found = checked(opened(spelled).read_row_group(at, columns=[name]).column(0))
            if len(found) != metadata.row_group(at).num_rows:
                raise pa.ArrowInvalid(f"{len(found)} values for {metadata.row_group(at).num_rows} rows")
            return in_one_piece(found)

    def read(name: str) -> Any:
        with damaged_column():
            refuse_memory(_size(metadata), f"{path}, column {name}")
            # Text is kept as a dictionary in the file as in memory: it need not be spelled out in between.
            spelled = [] if name not in texts or _mostly_different(opened([name]), name) else [name]
            if name not in old and metadata.num_row_groups >= _GROUPS:
                return Pieces(restored.field(name).type, metadata.num_row_groups, partial(piece, name, spelled))
            array = opened(spelled).read([name]).column(0)
            if len(array) != metadata.num_rows:
                raise pa.ArrowInvalid(f"{len(array)} values for {metadata.num_rows} rows")
            if name not in old:
                return checked(array)
            # The moments of older programs wrap round as nanoseconds before 1678 and after 2261.
            return _int96(array, opened([], coerce_int96_timestamp_unit="us").read([name]).column(0))

    restored = opened(texts).schema_arrow
    return table_data(restored, stated, str(path), metadata.num_rows, read)


def _mostly_different(file: Any, name: str) -> bool:
    """Whether most texts of a column are different, by its first group of several: comments, say.

    A dictionary of them is larger than they are, and putting those of all groups together takes longer.
    """
    if file.num_row_groups < _GROUPS:
        return False
    return mostly_different(file.read_row_group(0, columns=[name]).column(0))


def _footer(path: Path) -> Any:
    """What a Parquet file says at its end, once its counts of rows go together."""
    import pyarrow.parquet as pq  # noqa: PLC0415 - as above

    metadata = pq.read_metadata(path)
    rows = sum(metadata.row_group(group).num_rows for group in range(metadata.num_row_groups))
    if rows != metadata.num_rows:
        raise pa.ArrowInvalid(f"its footer says {metadata.num_rows:,} rows, but its row groups have {rows:,}")
    return metadata


def parquet_columns(paths: Sequence[Path]) -> list[str]:
    """The columns of Parquet files that make one table.

    Raises
    ------
    SourceError
        One is damaged, or does not have the columns of the first.
    """
    found: list[str] = []
    for path in paths:
        with sentences(path):
            names = list(_footer(path).schema.to_arrow_schema().names)
        found = found or names
        refuse_unlike(str(paths[0]), found, str(path), names)
    return found


def refuse_unlike(first: str, expected: Iterable[str], path: str, names: Iterable[str]) -> None:
    """Raise a SourceError for a part of a table that does not have the columns of the first."""
    missing = [name for name in expected if name not in set(names)]
    extra = [name for name in names if name not in set(expected)]
    if missing or extra:
        said = [f"lacks {listed(missing)}"] * bool(missing) + [f"also has {listed(extra)}"] * bool(extra)
        raise SourceError(
            f"This file does not have the columns of {first}: it {' and '.join(said)}.",
            path=path,
            fix="The files of a folder form one table: give them the same columns, or name them one by one.",
        )


def _size(metadata: Any) -> int:
    """How many bytes a column of a Parquet file takes unpacked, as columns go.

    The file's metadata of a single column is not read: where that is damaged, the library ends the process.
    """
    every = sum(metadata.row_group(group).total_byte_size for group in range(metadata.num_row_groups))
    return int(every // max(metadata.num_columns, 1))


@contextmanager
def damaged_column() -> Iterator[None]:
    """Turn what goes wrong while a column is read into a SourceError whose sentence goes on after its name."""
    try:
        yield
    except _DAMAGE as error:
        raise SourceError(f"cannot be read, the file is damaged: {_damage(error)}") from None


def checked(array: Any) -> Any:
    """An array whose offsets, codes and texts were looked at: wild ones would end the process later."""
    array.validate(full=True)
    return array


def _int96(fine: Any, coarse: Any) -> Any:
    """Moments of 96 bits: in nanoseconds where each fits, else in microseconds."""
    return fine if fine.cast(pa.timestamp("us"), safe=False).equals(coarse) else coarse


def _row_count(file: Any) -> int:
    """How many rows an Arrow file has. Arrow 26 counts them from the file's end; before that, the batches are read."""
    if hasattr(file, "count_rows"):
        return int(file.count_rows())
    return sum(file.get_batch(at).num_rows for at in range(file.num_record_batches))


def read_ipc(path: Path, stated: Stated) -> TableData:
    """An Arrow IPC file, a column of which is read when it is first needed, or a stream of them, read at once."""
    with path.open("rb") as file:
        head = file.read(6)
    if head != b"ARROW1":
        table = paipc.open_stream(read_bytes(path)).read_all()
        table.validate(full=True)
        return table_data(table.schema, stated, str(path), table.num_rows, table.column)
    with pa.OSFile(os.fspath(path)) as source:
        file = paipc.open_file(source)
        schema, rows = file.schema, _row_count(file)

    def read(name: str) -> Any:
        options = paipc.IpcReadOptions(included_fields=[schema.names.index(name)])
        with damaged_column(), pa.OSFile(os.fspath(path)) as source:
            array = checked(paipc.open_file(source, options=options).read_all().column(0))
            if len(array) != rows:
                raise pa.ArrowInvalid(f"{len(array)} values for {rows} rows")
            return array

    return table_data(schema, stated, str(path), rows, read)
