"""Parquet and Arrow IPC files, and what every file has in common."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.ipc as paipc
import pyarrow.parquet as pq

from relatum.data.arrow import type_of
from relatum.data.table import TableData
from relatum.data.types import TEXT
from relatum.errors import MissingSourceError, SourceError
from relatum.sources.arrow import table_data
from relatum.sources.stated import Stated
from relatum.wording import first_line, suggestion


@contextmanager
def sentences(path: Path) -> Iterator[None]:
    """Turn what goes wrong while a file is read into a SourceError that says what is wrong with the file."""
    try:
        yield
    except PermissionError:
        raise SourceError("The file may not be read.", path=path, fix="Check its permissions.") from None
    except (pa.ArrowInvalid, pa.ArrowNotImplementedError, OSError) as error:
        raise SourceError(
            f"This is not a file of its kind, or it is damaged: {first_line(error)}",
            path=path,
            fix=f"The ending says {path.suffix}; check how it was written.",
        ) from None


def missing_file(path: Path) -> MissingSourceError:
    """The error for a file that is not there: with the nearest name in its folder."""
    if not path.parent.is_dir():
        return MissingSourceError("There is no such file.", path=path, fix=f"There is no folder {path.parent} either.")
    near = [other.name for other in path.parent.iterdir()]
    return MissingSourceError("There is no such file.", path=path, fix=suggestion(path.name, near, noun="file"))


def read_parquet(path: Path, stated: Stated) -> TableData:
    """A Parquet file; a column is read when it is first needed."""
    metadata = pq.read_metadata(path)
    schema = metadata.schema.to_arrow_schema()
    texts = [field.name for field in schema if type_of(field.type) == TEXT and pa.types.is_string(field.type)]
    # Text is kept as a dictionary in the file as in memory: it need not be spelled out in between.
    file = pq.ParquetFile(path, metadata=metadata, read_dictionary=texts)
    old = [
        column.name for column in map(metadata.schema.column, range(len(metadata.schema)))
        if column.physical_type == "INT96" and column.max_definition_level < 2
    ]  # fmt: skip
    # The moments of older programs wrap round as nanoseconds before 1678 and after 2261.
    coarse = pq.ParquetFile(path, metadata=metadata, coerce_int96_timestamp_unit="us") if old else file

    def read(name: str) -> Any:
        try:
            if name in old:
                return _int96(file.read([name]).column(0), coarse.read([name]).column(0))
            return file.read([name]).column(0)
        except (pa.ArrowInvalid, OSError) as error:
            raise SourceError(f"cannot be read, the file is damaged: {first_line(error)}") from None

    return table_data(file.schema_arrow, stated, str(path), file.metadata.num_rows, read)


def _int96(fine: Any, coarse: Any) -> Any:
    """Moments of 96 bits: in nanoseconds where each fits, else in microseconds."""
    return fine if fine.cast(pa.timestamp("us"), safe=False).equals(coarse) else coarse


def read_ipc(path: Path, stated: Stated) -> TableData:
    """An Arrow IPC file, or a stream of them, mapped rather than read."""
    with pa.memory_map(str(path)) as mapped:
        head = mapped.read(6)
    source = pa.memory_map(str(path))
    table = (paipc.open_file(source) if head == b"ARROW1" else paipc.open_stream(source)).read_all()
    return table_data(table.schema, stated, str(path), table.num_rows, table.column)
