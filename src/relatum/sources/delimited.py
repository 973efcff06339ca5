"""CSV files: their separator, their columns, and what is wrong with them on which line."""

from __future__ import annotations

import csv
import functools
import io
import re
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from itertools import islice
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.csv as pacsv
from msgspec import Struct

from relatum.data import compute as pc
from relatum.data.arrow import arrow_type
from relatum.data.table import TableData
from relatum.data.types import BOOLEAN, INTEGER, TEXT, Kind, Type, an
from relatum.errors import HeadingError, SourceError
from relatum.runtime.limits import refuse_above, refuse_stopped
from relatum.sources import texts
from relatum.sources.arrow import distinct_names, table_data
from relatum.sources.content import content_of, ending, without_footer
from relatum.sources.stated import Stated
from relatum.wording import counted, first_line

#: How many lines are looked at to find the delimiter of a CSV file.
_SAMPLED = 200
_HEAD = 1 << 20
_DELIMITERS = ",;\t|"
_COMMA_NUMBER = re.compile(r"-?\d+,\d+\Z")
_POINT_NUMBER = re.compile(r"-?\d+\.\d+\Z")
#: A whole number that names something: with a zero in front, or in the digits of programs.
_NAMING_TEXT = r"^[+-]?0[0-9xX]"
_NAMING_WHOLE = r"^[+-]?0[0-9]+$"
#: What is before a field: what parts fields and lines, or a quote.
_PARTING = b',;\t|"\n\r'
#: So many bytes are looked at in one go: they fit a near cache.
_STRETCH = 1 << 18
#: What a blank last heading is called inside: it is not a column.
_BLANK = "\0blank"


class _Layout(Struct, frozen=True):
    """How a CSV file is laid out: its columns, the lines of its heading, and its separator."""

    names: tuple[str, ...]
    heading_lines: int
    delimiter: str
    decimal: str

    @property
    def columns(self) -> list[str]:
        """The columns that have a name."""
        return [name for name in self.names if name != _BLANK]


def read_csv(path: Path, stated: Stated) -> TableData:
    """A CSV file. A column in which a whole number begins with a zero that counts nothing is text: it names things."""
    content = content_of(path, stated.member)
    if stated.footer:
        content = without_footer(content, stated.footer)
    return _read(path, content, stated)


def read_csv_tail(path: Path, start: int, stated: Stated, former: Mapping[str, Type]) -> TableData | None:
    """The lines of a CSV file from a byte on; None where they say that a column has another type than it had."""
    content = content_of(path)
    heading = memoryview(content[:_HEAD]).tobytes().index(b"\n") + 1
    tail = pa.py_buffer(content.slice(0, heading).to_pybytes() + content.slice(start).to_pybytes())
    # If the new rows have a zone and the former ones do not, or the other way round, it is not a column of moments.
    known = memoryview(content[: min(start, _HEAD)]).tobytes()
    first = pa.py_buffer(known[: known.rindex(b"\n") + 1])
    times = [name for name, type_ in former.items() if type_.kind in (Kind.DATE, Kind.TIMESTAMP)]
    if times and _zoned(path, first, stated, times) != _zoned(path, tail, stated, times):
        return None
    return grown(lambda types: _read(path, tail, stated.typed(types)), stated.types, former)


def _zoned(path: Path, content: Any, stated: Stated, names: Sequence[str]) -> set[str]:
    """Those of some columns of moments in which one says its zone."""
    try:
        layout = _layout(path, content, stated.numbered)
        written = _Sheet(path, content, layout, stated).texts([name for name in names if name in layout.names])
    except (SourceError, pa.ArrowInvalid):
        return {""}  # neither the one nor the other
    return {name for name, array in written.items() if texts.says_zone(array)}


def grown(
    read: Callable[[Mapping[str, Type]], TableData],
    stated: Mapping[str, Type],
    former: Mapping[str, Type],
    *,
    quoted: bool = False,
) -> TableData | None:
    """New rows as the types of those before them; None where they are of other types.

    Parameters
    ----------
    read : callable
        Reads the new rows with the types given, and finds out the rest.
    stated : mapping of str to Type
        The types that the model states.
    former : mapping of str to Type
        The types of the rows before.
    quoted : bool
        Whether texts are in quotes, so that what is not in quotes is not a text.
    """
    try:
        found = read(stated)
        if list(found.types) != list(former) or found.remarks:
            return None  # what is to be said of the rows may be another thing of all of them
        for name, type_ in found.types.items():
            unquoted = quoted and former[name] == TEXT and (type_.numeric or type_ == BOOLEAN) and name not in stated
            if (unquoted or not _fits(type_, former[name])) and found.column(name).null_count < found.rows:
                return None
        return read(former)
    except SourceError:
        return None


def _fits(found: Type, former: Type) -> bool:
    """Whether values of a type can be below those of another without making the column something else."""
    if found == former or former == TEXT:
        return True
    if former.kind is Kind.TIMESTAMP:
        return found.kind is Kind.DATE or (found.kind is Kind.TIMESTAMP and found.scale <= former.scale)
    return former.kind is Kind.FLOAT and found == INTEGER


def _read(path: Path, content: Any, stated: Stated) -> TableData:
    layout = _layout(path, content, stated.numbered, prose=ending(path, stated.member) == ".txt")
    try:
        found, remarks = _Sheet(path, content, layout, stated).read()
    except pa.ArrowInvalid as error:
        _explain(path, content, layout, stated)
        raise SourceError(f"This is not a CSV file that can be read: {first_line(error)}", path=path) from None
    types = stated.types
    schema = pa.schema([(name, array.type) for name, array in found.items()])
    rows = len(next(iter(found.values()), ()))
    data = table_data(schema, Stated(types, zone=stated.zone), str(path), rows, found.__getitem__)
    return TableData(data.types, data.rows, data.column, data.left_out, data.orders, [*data.remarks, *remarks])


class _Sheet:
    """The rows of a CSV file."""

    def __init__(self, path: Path, content: Any, layout: _Layout, stated: Stated) -> None:
        self.path, self.content, self.layout, self.stated = path, content, layout, stated

    def read(self) -> tuple[dict[str, Any], list[str]]:
        """The columns as Arrow arrays, and what a person should know of how they were read."""
        stated, names = self.stated, self.layout.columns
        moments = {name for name, type_ in stated.types.items() if type_.kind in (Kind.DATE, Kind.TIMESTAMP)}
        types = {name: arrow_type(type_) for name, type_ in stated.types.items() if name in self.layout.names}
        found = self.columns(self.layout.names, types | dict.fromkeys(moments, pa.string()))
        if _BLANK in found:
            self._refuse_unnamed(found.pop(_BLANK))
        for name in moments & found.keys():
            found[name] = self._stated_moments(name, found[name])
        remarks: list[str] = []
        free = {name for name in names if name not in stated.types}
        found |= self._naming(found, free)
        for name in names:
            if name in free:
                found[name], remark = self._looked_at(name, found[name])
                remarks += [f"{name}: {remark}"] if remark else []
        return found, remarks

    def columns(self, names: Collection[str], types: Mapping[str, Any]) -> dict[str, Any]:
        """Some of the columns, each with the texts that mean null in it."""
        groups: dict[tuple[str, ...], list[str]] = {}
        for name in names:
            groups.setdefault(self.stated.markers(name), []).append(name)
        parts: dict[str, Any] = {}
        for markers, group in groups.items():
            table = self._parsed(group, markers, types)
            parts |= zip(group, table.columns, strict=True)
        return {name: parts[name] for name in names}

    def _parsed(self, names: Collection[str], markers: Iterable[str], types: Mapping[str, Any]) -> Any:
        options = pacsv.ConvertOptions(
            null_values=["", *markers],
            strings_can_be_null=True,
            quoted_strings_can_be_null=True,
            column_types={name: type_ for name, type_ in types.items() if name in names},
            include_columns=list(names),
            decimal_point=self.layout.decimal,
        )
        parsing = pacsv.ParseOptions(newlines_in_values=True, delimiter=self.layout.delimiter)
        reading = pacsv.ReadOptions(column_names=list(self.layout.names), skip_rows=self.layout.heading_lines)
        reader = pa.BufferReader(self.content)
        if not self._has_rows():
            return pa.table({name: pa.array([], types.get(name, pa.string())) for name in names})
        return pacsv.read_csv(reader, read_options=reading, parse_options=parsing, convert_options=options)

    def _has_rows(self) -> bool:
        head = memoryview(self.content)[:_HEAD].tobytes()
        rest = re.split(rb"\r\n|\n|\r", head, maxsplit=self.layout.heading_lines)
        # A heading longer than the part read says nothing about what comes after it.
        return len(self.content) > _HEAD or (len(rest) > self.layout.heading_lines and bool(rest[-1].strip()))

    def texts(self, names: Collection[str]) -> dict[str, Any]:
        """Some of the columns as they are written."""
        return self.columns(names, dict.fromkeys(names, pa.string()))

    def _naming(self, arrays: Mapping[str, Any], free: set[str]) -> dict[str, Any]:
        """The texts of those columns of numbers in which some number names things, as ``0042`` and ``0x1F`` do."""
        whole = [name for name, array in arrays.items()
                 if pa.types.is_integer(array.type) or (pa.types.is_floating(array.type) and name in free)]  # fmt: skip
        if not whole or not _may_name(self.content):
            return {}
        written = self.texts(whole)
        found = {}
        for name in whole:
            fraction = pa.types.is_floating(arrays[name].type)
            naming = pc.match_substring_regex(written[name], _NAMING_WHOLE if fraction else _NAMING_TEXT)
            if name in free and pc.any(naming).as_py():
                found[name] = written[name]
            elif name not in free and pc.any(pc.match_substring_regex(written[name], r"^[+-]?0[xX]")).as_py():
                raise pa.ArrowInvalid("a number in non-ASCII digits")
        return found

    def _looked_at(self, name: str, array: Any) -> tuple[Any, str]:
        """A column as its values show it to be, and the findings about it."""
        type_ = array.type
        if pa.types.is_string(type_):
            return texts.moments(array, self.stated.zone)
        if pa.types.is_floating(type_) and texts.too_wide(array):
            written = self.texts([name])[name]
            if texts.all_whole(written):
                return (
                    written,
                    "whole numbers of more than 64 bits: read as text, because a float cannot hold them exactly",
                )
        if pa.types.is_date(type_) or pa.types.is_timestamp(type_):
            if texts.outside_years(array):
                written = self.texts([name])[name]
                return (
                    written,
                    "dates outside the years 1 to 9999: read as text; list the ones that mean no date in null = […]",
                )
            if pa.types.is_timestamp(type_) and texts.midnights(array):
                return array.cast(pa.date32()), ""
        return array, ""

    def _stated_moments(self, name: str, array: Any) -> Any:
        type_ = self.stated.types[name]
        if texts.unread(array, type_) is not None:
            raise pa.ArrowInvalid(f"{name} holds what is no {type_}")
        return texts.stated_moments(array, type_, self.stated.zone)

    def _refuse_unnamed(self, array: Any) -> None:
        if array.null_count < len(array):
            raise _without_heading(self.path, len(self.layout.names), len(self.layout.names), self.stated.numbered)


def _without_heading(path: Path, position: int, count: int, numbered: bool) -> HeadingError:
    # A last column that is blank in all of the first rows has no number either.
    numbers = "" if numbered else f', or set headings = "numbered" for the table: column_{position}'
    reason = f"Column {position} of {count} has no heading."
    return HeadingError(reason, path=path, line=1, fix=f"Give every column a name{numbers}.")


def _may_name(content: Any) -> bool:
    """Whether a zero and another digit, or an x, begin some field: a look at the bytes, which mostly finds none."""
    data = np.frombuffer(content, np.uint8)
    for start in range(0, len(data), _STRETCH):
        refuse_stopped()
        # With what is before a signed number, and what comes after the zero.
        part = data[max(start - 2, 0) : start + _STRETCH + 1]
        part = part if start else np.concatenate([np.frombuffer(b"\n", np.uint8), part])
        zeros, signs = part == ord("0"), (part == ord("+")) | (part == ord("-"))
        begins = zeros[:-1] & ((part[1:] - ord("0") < 10) | (part[1:] | 0x20 == ord("x")))
        parting = functools.reduce(np.logical_or, (part == mark for mark in _PARTING))
        if np.any(parting[:-2] & begins[1:]) or np.any(parting[:-3] & signs[1:-2] & begins[2:]):
            return True
    return False


def _lines(content: Any) -> io.TextIOWrapper:
    return io.TextIOWrapper(io.BytesIO(memoryview(content)), encoding="utf-8-sig", newline="")


def _layout(path: Path, content: Any, numbered: bool, *, prose: bool = False) -> _Layout:
    """How a file is laid out: commas part its fields, unless the heading has none and semicolons, tabs or bars."""
    head = io.TextIOWrapper(io.BytesIO(memoryview(content)[:_HEAD]), encoding="utf-8-sig", errors="replace", newline="")
    lines = list(islice(head, _SAMPLED))
    heading = re.sub(r'"[^"]*"', "", lines[0]) if lines else ""
    delimiter = max(_DELIMITERS, key=heading.count) if "," not in heading else ","
    if prose and delimiter not in heading:
        raise SourceError(
            "The first line has no separator, so this is text, not a table.",
            path=path,
            line=1,
            fix="Separate fields with a comma, semicolon, tab or bar. A table with one column must end in .csv.",
        )
    try:
        reader = csv.reader(_lines(content), delimiter=delimiter)
        names = next(reader, [])
    except UnicodeDecodeError:
        raise _encoding_error(path, content) from None
    except csv.Error as error:
        raise SourceError(f"The heading row cannot be read: {error}", path=path, line=1) from None
    try:
        rows = list(csv.reader(lines[reader.line_num :], delimiter=delimiter))
    except csv.Error:
        rows = []  # some field is too long to say anything of how fields are parted
    fields = [field for row in rows for field in row]
    # Where commas do not part fields, they may part fractions: in some number, and a point in none.
    commas = delimiter != "," and any(map(_COMMA_NUMBER.match, fields)) and not any(map(_POINT_NUMBER.match, fields))
    full = [row for row in rows if row]
    held = numbered and any(len(row) == len(names) and row[-1].strip() for row in full)
    if len(names) > 1 and not names[-1].strip() and not held:
        names = [*names[:-1], _BLANK]
    elif full and all(len(row) == len(names) + 1 and not row[-1] for row in full):
        names = [*names, _BLANK]  # each row ends with what parts fields, and the heading does not
    named = _checked(path, names, numbered)
    return _Layout(tuple(named), reader.line_num, delimiter, "," if commas else ".")


def _checked(path: Path, names: list[str], numbered: bool) -> list[str]:
    refuse_above("columns", len(names), f"{path} has {counted(len(names), 'column')}")
    if any("\0" in name and name != _BLANK for name in names):
        raise _no_text(path)
    if not any(name.strip() for name in names if name != _BLANK):
        raise SourceError(
            "The first row is blank.", path=path, line=1, fix="The first row must contain the column names."
        )
    unnamed = next((position for position, name in enumerate(names, 1) if not name.strip()), 0)
    if unnamed and not numbered:
        raise _without_heading(path, unnamed, len(names), numbered)
    names = [name if name.strip() else f"column_{position}" for position, name in enumerate(names, 1)]
    return distinct_names(names, numbered, "", path, 1)


def _explain(path: Path, content: Any, layout: _Layout, stated: Stated) -> None:
    # Arrow has refused the file; a slow walk through its rows finds the line, and says so.
    names = layout.names
    try:
        reader = csv.reader(_lines(content), delimiter=layout.delimiter)
        next(reader)
        start = reader.line_num + 1
        for row in reader:
            if row and len(row) != len(names):
                raise SourceError(
                    f"This row has {counted(len(row), 'field')}, and the heading has {len(names)}.",
                    path=path,
                    line=start,
                    fix="Put double quotes around a text that contains the separator. "
                    "To leave out lines below the rows, set footer = 1 for the table.",
                )
            for name, value in zip(names, row, strict=False):
                if not value or name not in stated.types or value in stated.markers(name):
                    continue
                if not texts.converts(value, stated.types[name]):
                    raise SourceError(
                        f"{name} is {value!r}, which is not {an(stated.types[name])}.",
                        path=path,
                        line=start,
                        fix="Correct the value, or the column's type in the model; "
                        f"if it means no value, set null = [{value!r}].",
                    )
            start = reader.line_num + 1
    except UnicodeDecodeError:
        raise _encoding_error(path, content) from None
    except csv.Error as error:
        raise SourceError(f"The rows cannot be separated: {error}", path=path) from None


def _no_text(path: Path) -> SourceError:
    return SourceError("This is not a text file.", path=path, fix="A CSV file must be UTF-8 text.")


def _encoding_error(path: Path, content: Any) -> SourceError:
    data = memoryview(content)[: 1 << 22].tobytes()
    try:
        data.decode("utf-8")
        at = len(data)
    except UnicodeDecodeError as error:
        at = error.start
    line = data.count(b"\n", 0, at) + 1
    if b"\0" in data[:1024]:
        return _no_text(path)
    return SourceError(f"Byte {at + 1} is not UTF-8 text.", path=path, line=line, fix="Save the file as UTF-8.")
