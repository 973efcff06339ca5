"""Arrow tables as files: CSV, JSON, Parquet, Arrow."""

from __future__ import annotations

import csv
import functools
import io
from collections.abc import Callable
from datetime import date, datetime
from pathlib import Path
from typing import Any

import msgspec
import pyarrow.ipc as paipc

from relatum.errors import RequestError
from relatum.runtime.atomic import write_atomically, write_bytes_atomically
from relatum.wording import listed

#: Floats are whole numbers exactly up to here.
_EXACT = 2.0**53


#: What a program that opens a CSV file takes for a formula, to be worked out there.
_FORMULA = ("=", "+", "-", "@", "\t", "\r")


def csv_text(table: Any, guarded: bool = True) -> str:
    """A table as CSV, numbers in full and without grouping.

    With ``guarded``, an apostrophe is before a text that begins as a formula does: a program that works formulas
    out takes it for the text that it is.
    """
    buffer = io.StringIO()
    writer = csv.writer(buffer, lineterminator="\n")
    write = _guarded if guarded else _csv_value
    writer.writerow([_guarded(name) if guarded else name for name in table.column_names])
    columns = [[write(value) for value in column.to_pylist()] for column in table.columns]
    writer.writerows(zip(*columns, strict=True))
    return buffer.getvalue()


def json_text(document: Any) -> str:
    """A document as JSON; decimals are numbers, written in full."""
    encoded = msgspec.json.Encoder(decimal_format="number").encode(document)
    return msgspec.json.format(encoded, indent=2).decode()


def parquet_bytes(table: Any) -> bytes:
    """A table as Parquet."""
    import pyarrow.parquet as pq  # noqa: PLC0415 - heavy, and needed where a table is written so

    buffer = io.BytesIO()
    pq.write_table(table, buffer)
    return buffer.getvalue()


def arrow_bytes(table: Any) -> bytes:
    """A table as an Arrow file."""
    buffer = io.BytesIO()
    with paipc.new_file(buffer, table.schema) as writer:
        writer.write_table(table)
    return buffer.getvalue()


#: How a table is written to a file of values, by its ending.
TABLE_FILES: dict[str, Callable[[Any], str | bytes]] = {
    ".csv": csv_text,
    ".json": lambda table: json_text(table.to_pylist()) + "\n",
    ".parquet": parquet_bytes,
    ".arrow": arrow_bytes,
}


def write_table(table: Any, path: Path) -> None:
    """Write a table to a file, in the way that its ending names; it is replaced in one step.

    Raises
    ------
    RequestError
        Another file ending.
    """
    write_as(path, "Rows are", {ending: functools.partial(write, table) for ending, write in TABLE_FILES.items()})


def write_as(path: Path, what: str, writers: dict[str, Callable[[], str | bytes]]) -> None:
    """Write a file with the writer for its ending; ``what`` begins the message if there is none."""
    write = writers.get(path.suffix.lower())
    if write is None:
        raise RequestError(
            f"{what} not written to files ending in {path.suffix or 'nothing'}.",
            path=path,
            fix=f"Known endings: {listed(list(writers))}.",
        )
    content = write()
    if isinstance(content, bytes):
        write_bytes_atomically(path, content)
    else:
        write_atomically(path, content)


def _guarded(value: Any) -> Any:
    return f"'{value}" if isinstance(value, str) and value.startswith(_FORMULA) else _csv_value(value)


def _csv_value(value: Any) -> Any:
    if value is None:
        return ""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, float) and value.is_integer() and abs(value) < _EXACT:
        return int(value)
    return value.isoformat() if isinstance(value, date | datetime) else value
