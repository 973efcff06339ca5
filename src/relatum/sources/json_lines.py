"""JSON lines: one object a line, its members the columns."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.json as pajson
from numpy.typing import NDArray

from relatum.data.arrow import with_nulls
from relatum.data.table import TableData
from relatum.data.types import Kind, Type
from relatum.errors import SourceError
from relatum.sources import texts
from relatum.sources.arrow import table_data, with_column
from relatum.sources.content import content_of, without_footer
from relatum.sources.delimited import grown
from relatum.sources.stated import Stated
from relatum.wording import first_line

#: Brackets within brackets that are read.
_DEEPEST = 64
_BLOCK = 1 << 24
#: What matters in a line: brackets, and texts, in which they do not count.
_MARKS = re.compile(rb'"(?:[^"\\]|\\.)*"|[\[\]{}]')


def read_lines(path: Path, stated: Stated) -> TableData:
    """A file of JSON lines."""
    content = content_of(path, stated.member)
    _refuse_deep(path, content)
    return _read(path, without_footer(content, stated.footer) if stated.footer else content, stated)


def read_lines_tail(path: Path, start: int, stated: Stated, former: Mapping[str, Type]) -> TableData | None:
    """The lines of a file from a byte on; None where they say that a column has another type than it had."""
    content = content_of(path)
    tail = content.slice(start)
    _refuse_deep(path, tail)
    times = [name for name, type_ in former.items() if type_.kind in (Kind.DATE, Kind.TIMESTAMP)]
    if times:
        known = memoryview(content[: min(start, _BLOCK)]).tobytes()
        first = pa.py_buffer(known[: known.rindex(b"\n") + 1])
        # If the new rows have a zone and the former ones do not, or the other way round, it is not a column of moments.
        if _zoned(path, first, times) != _zoned(path, tail, times):
            return None
    return grown(lambda types: _read(path, tail, stated.typed(types)), stated.types, former, quoted=True)


def _zoned(path: Path, content: Any, names: Sequence[str]) -> set[str]:
    """Those of some columns of moments in which one says its zone."""
    try:
        table = _parsed(path, content, dict.fromkeys(names, pa.string()))
    except SourceError:
        return {""}  # neither the one nor the other
    return {name for name in names if texts.says_zone(table.column(name))}


def _refuse_deep(path: Path, content: Any) -> None:
    """Raise a SourceError for lines nested deeper than the parser can follow: it would end the process."""
    data = memoryview(content)
    ends = np.append(_places(data, b"\n"), len(data))
    opened = _places(data, b"[{")
    counts = np.bincount(np.searchsorted(ends, opened), minlength=len(ends))
    for line in np.flatnonzero(counts > _DEEPEST):
        depth = deepest = 0
        for mark in _MARKS.findall(data[ends[line - 1] + 1 if line else 0 : ends[line]]):
            depth += 1 if mark in b"[{" else -1 if mark in b"]}" else 0  # a text counts for nothing
            deepest = max(deepest, depth)
        if deepest > _DEEPEST:
            raise SourceError(
                f"The line nests {deepest} brackets; at most {_DEEPEST} are read.",
                path=path,
                line=int(line) + 1,
                fix="Use one value per column.",
            )


def _places(data: memoryview, marks: bytes) -> NDArray[np.int64]:
    """Where any of some bytes are."""
    found = []
    for start in range(0, len(data), _BLOCK):
        block = np.frombuffer(data[start : start + _BLOCK], np.uint8)
        hits = block == marks[0]
        for mark in marks[1:]:
            hits |= block == mark
        found.append(np.flatnonzero(hits) + start)
    return np.concatenate(found) if found else np.zeros(0, np.int64)


def _read(path: Path, content: Any, stated: Stated) -> TableData:
    table = _parsed(path, content)
    # The parser takes moments for those of UTC, whatever zone they say: they are read as they are written.
    moments = [field.name for field in table.schema if pa.types.is_timestamp(field.type)]
    if moments:
        written = _parsed(path, content, dict.fromkeys(moments, pa.string()))
        for name in moments:
            table = with_column(table, name, written.column(name))
    wide = [
        field.name for at, field in enumerate(table.schema)
        if pa.types.is_floating(field.type) and field.name not in stated.types and texts.too_wide(table.column(at))
    ]  # fmt: skip
    remarks = []
    for name in wide:
        try:
            whole = _parsed(path, content, {name: pa.decimal128(38, 0)}).column(name)
        except SourceError:
            continue  # some number of the column is a float: all of them are
        table = with_column(table, name, whole.cast(pa.string()))
        remarks.append(
            f"{name}: whole numbers of more than 64 bits: read as text, because a float cannot hold them exactly"
        )
    for field in list(table.schema):
        array = table.column(field.name)
        markers = stated.markers(field.name)
        array = with_nulls(array, markers) if markers else array
        if pa.types.is_string(field.type) and field.name not in stated.types:
            array, remark = texts.moments(array, stated.zone)
            remarks += [f"{field.name}: {remark}"] if remark else []
        table = with_column(table, field.name, array)
    plain = Stated(stated.types, zone=stated.zone)
    data = table_data(table.schema, plain, str(path), table.num_rows, table.column)
    for name in stated.types:
        data.column(name)  # a value that does not fit is an error now, not when somebody asks
    return TableData(data.types, data.rows, data.column, data.left_out, data.orders, [*data.remarks, *remarks])


def _parsed(path: Path, content: Any, types: Mapping[str, Any] | None = None) -> Any:
    """All columns as the parser takes them; or those named in ``types`` alone, in these types."""
    options = pajson.ParseOptions(
        newlines_in_values=False,
        explicit_schema=pa.schema(list(types.items())) if types else None,
        unexpected_field_behavior="ignore",
    )
    try:
        table = pajson.read_json(pa.BufferReader(content), parse_options=options)
        table.validate(full=True)  # its texts may be in another encoding
    except pa.ArrowInvalid as error:
        raise SourceError(
            f"This is not a file of JSON lines that can be read: {first_line(error)}",
            path=path,
            fix='Each line must be one object, {"column": value, …}, with one type per column.',
        ) from None
    return table
