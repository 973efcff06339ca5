"""Sheets and named tables of a workbook (Office Open XML)."""

from __future__ import annotations

import os
import re
import warnings
import zipfile
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from contextlib import closing
from datetime import date, datetime, time, timedelta
from pathlib import Path
from typing import Any

import pyarrow as pa
from msgspec import Struct

from relatum.data.arrow import arrow_type
from relatum.data.table import TableData
from relatum.data.types import Type
from relatum.errors import MissingSourceError, SourceError
from relatum.runtime.limits import refuse_above, refuse_memory
from relatum.sources.arrow import distinct_names, table_data
from relatum.sources.stated import Stated
from relatum.sources.together import read_once
from relatum.wording import counted, first_line, listed, suggestion

#: How many rows at the top of a sheet are looked at for its heading.
_SEARCHED = 30
_WIDE = "whole numbers of more than 64 bits: read as text, because a float cannot hold them exactly"
#: Larger whole numbers do not fit a float.
_LARGEST = 10**300
#: How many times the size of its parts, unpacked, a workbook takes in memory.
_SPREAD = 8
#: The most blank columns between others that are laid out and counted.
_GAP = 64
#: A cell with a formula and no value, and where the cells of a workbook are.
_UNWORKED = re.compile(
    rb"(?:</(?:\w+:)?f>|<(?:\w+:)?f[^<>]*/>)\s*"
    rb"(?:<(?:\w+:)?v\s*/>|<(?:\w+:)?v></(?:\w+:)?v>)?\s*</(?:\w+:)?c>"
)
_SHEET = re.compile(r"xl/worksheets/[^/]*\.xml\Z", re.IGNORECASE)
#: A character that XML has no place for, as workbooks write it.
_CODED = re.compile(r"_x([0-9A-Fa-f]{4})_")
_PADDED = re.compile(r"00+\Z")
_Row = Sequence[Any]


class Part(Struct, frozen=True):
    """A table of a workbook: its heading and rows, and what around it was left out."""

    names: tuple[str, ...]
    rows: tuple[_Row, ...]
    remarks: tuple[str, ...]


def workbook_parts(path: Path) -> dict[str, Part]:
    """Every named table of a workbook, and every sheet without one, that holds rows below a heading.

    Raises
    ------
    SourceError
        The file is not a workbook.
    """
    return read_once(path, _read_parts)


def _read_parts(path: Path) -> dict[str, Part]:
    book, unworked = _opened(path)
    with closing(book):
        return {name: part for name, part in _parts(book, unworked) if part.rows}


def read_workbook(path: Path, part: str, stated: Stated) -> TableData:
    """A sheet or named table of a workbook; its only one where ``part`` is empty.

    Raises
    ------
    SourceError
        The file is not a workbook, or has no such part; a heading is there twice.
    """
    parts = workbook_parts(path)
    if not parts:
        raise SourceError("The workbook has no table: no heading row with rows below it.", path=path)
    if not part and len(parts) != 1:
        raise SourceError(
            f"The workbook has {counted(len(parts), 'table')}, and the model does not say which one to use.",
            path=path,
            fix=f'Set part = "{next(iter(parts), "Sheet1")}". {suggestion(part, parts, noun="part")}',
        )
    chosen = part or next(iter(parts))
    if chosen not in parts:
        raise MissingSourceError(
            f"There is no sheet or named table {chosen} with rows.",
            path=path,
            fix=suggestion(chosen, parts, noun="part"),
        )
    found = parts[chosen]
    names = distinct_names(found.names, stated.numbered, f" in {chosen}", path)
    arrays, remarks = {}, list(found.remarks)
    for at, name in enumerate(names):
        markers = stated.markers(name)
        values = [None if isinstance(row[at], str) and row[at] in markers else row[at] for row in found.rows]
        arrays[name], remark = _array(values, stated.types.get(name))
        remarks += [f"{name}: {remark}"] if remark else []
    table = pa.table(arrays)
    data = table_data(table.schema, stated, f"{path} ({chosen})", table.num_rows, table.column)
    return TableData(data.types, data.rows, data.column, data.left_out, data.orders, [*data.remarks, *remarks])


def _opened(path: Path) -> tuple[Any, dict[str, list[str]]]:
    """A workbook's values, and by sheet the cells with formulas that no program has computed."""
    try:
        with zipfile.ZipFile(path) as archive:
            size = sum(each.file_size for each in archive.infolist())
            refuse_above("file", size, f"{path} has {counted(size, 'byte')} unpacked")
            refuse_memory(size * _SPREAD, f"{path}, unpacked,")
            waiting = any(_UNWORKED.search(archive.read(name)) for name in archive.namelist() if _SHEET.match(name))
        book = _loaded(path, data_only=True)
        return book, _unworked(book, _loaded(path, data_only=False)) if waiting else {}
    except SourceError:
        raise
    except Exception as error:  # a reader of a format as wide as this one fails in ways that no list holds
        said = f"{type(error).__name__}: {first_line(error)}".replace(os.fspath(path), path.name)[:200]
        raise SourceError(
            f"This is not a workbook, or it is damaged: {said}", path=path, fix="Save it as .xlsx again."
        ) from None


def _loaded(path: Path, *, data_only: bool) -> Any:
    import openpyxl  # noqa: PLC0415 - heavy, and needed by workbooks alone

    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # of parts of a workbook that hold no values
        with path.open("rb") as file:
            return openpyxl.load_workbook(file, data_only=data_only)


def _unworked(book: Any, written: Any) -> dict[str, list[str]]:
    found: dict[str, list[str]] = {}
    for sheet in written.worksheets:
        values = _cells(book[sheet.title])
        waiting = [cell for at, cell in _cells(sheet).items() if cell.data_type == "f" and _empty(values.get(at))]
        if waiting:
            found[sheet.title] = [cell.coordinate for cell in waiting]
    return found


def _empty(cell: Any) -> bool:
    return cell is None or cell.value is None


def _cells(sheet: Any) -> dict[tuple[int, int], Any]:
    # The cells that are there: a walk over the rectangle that they span has no end where one is far away.
    return dict(sheet._cells)


def _parts(book: Any, unworked: dict[str, list[str]]) -> Iterator[tuple[str, Part]]:
    for sheet in book.worksheets:
        waiting = unworked.get(sheet.title, [])
        remarks = (
            [f"{counted(len(waiting), 'formula')} never calculated and read as null, from {waiting[0]} on: "
             "open and save the workbook in a program that calculates them"] if waiting else []
        )  # fmt: skip
        rows: dict[int, dict[int, Any]] = {}
        for (row, column), cell in sorted(_cells(sheet).items()):
            value = _value(cell)
            if value is not None:
                rows.setdefault(row, {})[column] = value
        for table in sheet.tables.values():
            yield table.displayName, _named(table, rows, remarks)
        if not sheet.tables:
            yield sheet.title, _found(_laid_out(rows), remarks)


def _named(table: Any, rows: Mapping[int, Mapping[int, Any]], remarks: list[str]) -> Part:
    """A named table: the rows of its range that hold something."""
    from openpyxl.utils import range_boundaries  # noqa: PLC0415 - it is loaded already

    left, top, right, bottom = range_boundaries(table.ref)
    refuse_above("columns", right - left + 1, f"The table {table.displayName} has {right - left + 1:,} columns")
    below = table.totalsRowCount or 0
    remark = [f"{counted(below, 'total row')} below the table left out"] if below else []
    columns = range(left, right + 1)
    heading = tuple(_text(rows.get(top, {}).get(column)) for column in columns)
    body = [[row.get(column) for column in columns] for at, row in rows.items() if top < at <= bottom - below]
    return Part(heading, _filled(body), (*remark, *remarks))


def _laid_out(rows: Mapping[int, Mapping[int, Any]]) -> list[list[Any]]:
    """The rows of a sheet as lists of one width, a single blank row for each gap between them."""
    used = sorted({column for row in rows.values() for column in row})
    wide = not used or used[-1] <= 4 * len(used) + _GAP
    columns = range(1, used[-1] + 1) if used and wide else used
    found: list[list[Any]] = []
    former = 0
    for at, row in rows.items():
        if at > former + 1:
            found.append([None] * len(columns))
        found.append([row.get(column) for column in columns])
        former = at
    return found


def _value(cell: Any) -> Any:
    if isinstance(cell.value, int) and _PADDED.match(cell.number_format or ""):
        # Shown with zeros in front, it is a code: 0042.
        return f"{cell.value:0{len(cell.number_format)}d}"
    if isinstance(cell.value, str) and "_x" in cell.value:
        cell.value = _CODED.sub(lambda found: chr(int(found[1], 16)), cell.value)  # ECMA-376, 22.9.2.19
    # An error in a formula, such as #N/A, is not a value.
    return None if cell.data_type == "e" or (isinstance(cell.value, str) and not cell.value.strip()) else cell.value


def _filled(rows: Sequence[_Row]) -> tuple[_Row, ...]:
    return tuple(row for row in rows if any(value is not None for value in row))


def _found(rows: list[list[Any]], noted: list[str]) -> Part:
    """The table on a sheet: titles above its heading, blank columns and anything below it are left out."""
    widths = [sum(value is not None for value in row) for row in rows]
    usual = max(widths[: 4 * _SEARCHED], default=0)
    # The heading is the first row that is about as full as the rows below, and all text.
    top = next(
        (
            at
            for at, row in enumerate(rows[:_SEARCHED])
            if widths[at] >= max(1, 0.7 * usual) and all(value is None or isinstance(value, str) for value in row)
        ),
        None,
    )
    if top is None:
        return Part((), (), ())
    remarks = list(noted)
    above = [next(value for value in row if value is not None) for row in _filled(rows[:top])]
    if above:
        remarks.append(f"{counted(len(above), 'row')} above the heading left out: {listed(list(map(str, above)), 3)}")
    bottom = next((at for at in range(top + 1, len(rows)) if not widths[at]), len(rows))
    after = _filled(rows[bottom:])
    if after:
        first = next(value for value in after[0] if value is not None)
        remarks.append(f"{counted(len(after), 'row')} below a blank row left out, from {first!s} on")
    body = rows[top + 1 : bottom]
    kept = [at for at, value in enumerate(rows[top]) if value is not None]
    loose = [at for at, value in enumerate(rows[top]) if value is None and any(row[at] is not None for row in body)]
    blank = sum(value is None for value in rows[top][: max(kept) + 1]) - sum(at < max(kept) for at in loose)
    if blank:
        remarks.append(f"{counted(blank, 'blank column')} left out")
    if loose:
        remarks.append(f"{counted(len(loose), 'column')} without a heading left out")
    body = [[row[at] for at in kept] for row in body]
    if len(body) > 1 and _is_total(body):
        remarks.append(f"the last row left out: its numbers are the totals of the rows above ({body[-1]})")
        body = body[:-1]
    names = tuple(_text(rows[top][at]) for at in kept)
    return Part(names, tuple(body), tuple(remarks))


def _is_total(body: list[list[Any]]) -> bool:
    """Whether the last row adds up the rows above it, in every column in which it has a number."""
    sums = 0
    for at, value in enumerate(body[-1]):
        if isinstance(value, int | float) and not isinstance(value, bool):
            above = [row[at] for row in body[:-1] if isinstance(row[at], int | float)]
            if len(above) < 2 or abs(sum(above) - value) > 1e-6 * max(1.0, abs(value)):
                return False
            sums += 1
    return sums > 0


def _text(value: Any) -> str:
    return " ".join(str(value).split()) if value is not None else ""


def _array(values: list[Any], wanted: Type | None) -> tuple[Any, str]:
    """A column's values in the one type they have, and what became of those that have another."""
    kinds = Counter(type(value) for value in values if value is not None)
    dates = {datetime, date}
    if not kinds:
        return pa.array(values, pa.string()), "no value in any row"
    if set(kinds) <= {bool}:
        return pa.array(values, pa.bool_()), ""
    if set(kinds) <= {int} or (set(kinds) <= {int, float} and all(v is None or v == v // 1 for v in values)):
        whole = [None if v is None else int(v) for v in values]
        if all(v is None or abs(v) < 1 << 63 for v in whole):
            return pa.array(whole, pa.int64()), ""
        if set(kinds) <= {int}:
            return pa.array([None if v is None else str(v) for v in whole], pa.string()), _WIDE
    if set(kinds) <= {int, float}:
        if any(v is not None and abs(v) >= _LARGEST for v in values):
            return pa.array([None if v is None else _written(v) for v in values], pa.string()), _WIDE
        return pa.array([None if v is None else float(v) for v in values], pa.float64()), ""
    if set(kinds) <= dates:
        moments = [v if v is None or isinstance(v, datetime) else datetime.combine(v, time()) for v in values]
        if all(v is None or v.time() == time() for v in moments):
            return pa.array([None if v is None else v.date() for v in moments], pa.date32()), ""
        return pa.array(moments, pa.timestamp("us")), ""
    if set(kinds) <= {timedelta}:
        return pa.array(values, pa.duration("us")), ""
    if set(kinds) <= {time}:
        return pa.array(values, pa.time64("us")), ""
    texts = pa.array([None if v is None else _written(v) for v in values], pa.string())
    if set(kinds) <= {str} or (wanted is not None and arrow_type(wanted) == pa.string()):
        return texts, ""
    others = sum(count for kind, count in kinds.items() if kind is not str)
    return texts, f"{counted(others, 'value')} of {sum(kinds.values())} not text; all are read as text"


def _written(value: Any) -> str:
    if isinstance(value, datetime) and value.time() == time():
        return value.date().isoformat()
    return str(int(value)) if isinstance(value, float) and value.is_integer() else str(value)
