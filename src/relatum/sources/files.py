"""CSV, JSON lines, Parquet and Arrow IPC files."""

from __future__ import annotations

import csv
import mmap
import re
from collections import Counter
from collections.abc import Collection, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from io import BytesIO
from itertools import islice
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv as pacsv
import pyarrow.ipc as paipc
import pyarrow.json as pajson
import pyarrow.parquet as pq

from relatum.data.arrow import arrow_type, type_of
from relatum.data.table import TableData
from relatum.data.types import INTEGER, TEXT, Type
from relatum.errors import SourceError
from relatum.sources.arrow import table_data
from relatum.wording import suggestion

_BLOCK = 1 << 22
#: So many lines say what the fields of a CSV file are parted by.
_SAMPLED = 200
_DELIMITERS = ",;\t|"
_COMMA_NUMBER = re.compile(r"-?\d+,\d+\Z")
_POINT_NUMBER = re.compile(r"-?\d+\.\d+\Z")
_ZERO_LED = re.compile(rb'(?:^|[,;\t|"\n\r])[+-]?0[0-9]')


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


def missing_file(path: Path) -> SourceError:
    """The error for a file that is not there: with the nearest name in its folder."""
    if not path.parent.is_dir():
        return SourceError("There is no such file.", path=path, fix=f"There is no folder {path.parent} either.")
    near = [other.name for other in path.parent.iterdir()]
    return SourceError("There is no such file.", path=path, fix=suggestion(path.name, near, noun="file"))


def first_line(error: Exception) -> str:
    """What another library says went wrong, cut to one line."""
    return str(error).strip().splitlines()[0][:300] if str(error).strip() else type(error).__name__


def read_csv(path: Path, types: Mapping[str, Type]) -> TableData:
    """A CSV file. A column in which a whole number begins with a zero that counts nothing is text: it names things."""
    names = _heading(path)
    dialect = _dialect(path)
    try:
        table = _csv_table(path, dialect, {name: arrow_type(type_) for name, type_ in types.items() if name in names})
        whole = [field.name for field in table.schema if pa.types.is_integer(field.type) and field.name not in types]
        for name, texts in _zero_led(path, dialect, whole).items():
            table = table.set_column(table.column_names.index(name), name, texts)
    except pa.ArrowInvalid as error:
        _explain_csv(path, names, types)
        raise SourceError(f"This is not a CSV file that can be read: {first_line(error)}", path=path) from None
    return table_data(table.schema, types, str(path), table.num_rows, table.column)


def read_tail(path: Path, start: int, types: Mapping[str, Type], declared: Collection[str]) -> TableData | None:
    """The lines of a CSV or JSON lines file from a byte on, as the types that the lines before them have.

    Parameters
    ----------
    path : Path
        The file.
    start : int
        Where the new lines begin.
    types : mapping of str to Type
        The columns' types so far.
    declared : collection of str
        Columns whose types are stated, not found.

    Returns
    -------
    TableData or None
        None where the new lines say that a column has another type: then the whole file must be read again.
    """
    with path.open("rb") as file:
        head = file.readline()
        file.seek(start)
        tail = file.read()
    try:
        if path.suffix.lower() not in (".csv", ".tsv"):
            return read_lines(path, types, BytesIO(tail))
        whole = [name for name, type_ in types.items() if type_ == INTEGER and name not in declared]
        dialect = _dialect(path)
        if whole and _ZERO_LED.search(tail) and _zero_led(BytesIO(head + tail), dialect, whole):
            return None
        table = _csv_table(BytesIO(head + tail), dialect, {name: arrow_type(type_) for name, type_ in types.items()})
    except (pa.ArrowInvalid, SourceError):
        return None
    return table_data(table.schema, types, str(path), table.num_rows, table.column)


@dataclass(frozen=True, slots=True)
class _Dialect:
    """What stands between the fields of a CSV file, and between the whole and the fraction of its numbers."""

    delimiter: str
    decimal: str


def _dialect(path: Path) -> _Dialect:
    """The dialect of a CSV file: commas, unless the heading has none and semicolons, tabs or bars instead."""
    with path.open(encoding="utf-8-sig", errors="replace", newline="") as file:
        lines = list(islice(file, _SAMPLED))
    heading = re.sub(r'"[^"]*"', "", lines[0]) if lines else ""
    delimiter = max(_DELIMITERS, key=heading.count) if "," not in heading else ","
    fields = [field for row in csv.reader(lines[1:], delimiter=delimiter) for field in row]
    # Where commas do not part fields, they may part fractions: in some number, and a point in none.
    commas = delimiter != "," and any(map(_COMMA_NUMBER.match, fields)) and not any(map(_POINT_NUMBER.match, fields))
    return _Dialect(delimiter, "," if commas else ".")


def _csv_table(
    path: Path | BytesIO, dialect: _Dialect, types: Mapping[str, Any], include: list[str] | None = None
) -> Any:
    options = pacsv.ConvertOptions(
        null_values=[""],
        strings_can_be_null=True,
        quoted_strings_can_be_null=True,
        column_types=types,
        include_columns=include or [],
        decimal_point=dialect.decimal,
    )
    parsing = pacsv.ParseOptions(newlines_in_values=True, delimiter=dialect.delimiter)
    return pacsv.read_csv(path, parse_options=parsing, convert_options=options)


def _zero_led(path: Path | BytesIO, dialect: _Dialect, names: list[str]) -> dict[str, Any]:
    """The texts of those columns in which some number begins with a zero, as ``0042`` does."""
    if not names:
        return {}
    if isinstance(path, Path):
        # A look at the bytes is cheap, and in most files finds no such number anywhere.
        with path.open("rb") as file, mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ) as data:
            if _ZERO_LED.search(data) is None:
                return {}
    texts = _csv_table(path, dialect, dict.fromkeys(names, pa.string()), names)
    return {
        name: texts.column(name)
        for name in names
        if pc.any(pc.match_substring_regex(texts.column(name), r"^[+-]?0[0-9]")).as_py()
    }


def read_lines(path: Path, types: Mapping[str, Type], lines: BytesIO | None = None) -> TableData:
    """A file of JSON lines: one object a line, its members the columns. ``lines`` are some of its lines alone."""
    try:
        table = pajson.read_json(lines or path, parse_options=pajson.ParseOptions(newlines_in_values=False))
    except pa.ArrowInvalid as error:
        raise SourceError(
            f"This is not a file of JSON lines that can be read: {first_line(error)}",
            path=path,
            fix='Each line is one object, {"column": value, …}, with values of one type a column.',
        ) from None
    for at, field in enumerate(table.schema):
        if pa.types.is_timestamp(field.type) and field.name not in types and _whole_days(table.column(at)):
            table = table.set_column(at, field.name, table.column(at).cast(pa.date32()))
    return table_data(table.schema, types, str(path), table.num_rows, table.column)


def _whole_days(moments: Any) -> bool:
    # A date alone is read as the midnight that begins it.
    return bool(pc.all(pc.equal(moments, pc.floor_temporal(moments, unit="day"))).as_py())


def _heading(path: Path) -> list[str]:
    try:
        with path.open(encoding="utf-8-sig", newline="") as file:
            names = next(csv.reader(file, delimiter=_dialect(path).delimiter), [])
    except UnicodeDecodeError:
        raise _encoding_error(path) from None
    except csv.Error as error:
        raise SourceError(f"The heading row cannot be read: {error}", path=path, line=1) from None
    if any("\0" in name for name in names):
        raise _no_text(path)
    if not any(name.strip() for name in names):
        raise SourceError("The first row is blank.", path=path, line=1, fix="The first row must name the columns.")
    for position, name in enumerate(names, 1):
        if not name.strip():
            raise SourceError(
                f"Column {position} of {len(names)} has no heading.", path=path, line=1, fix="Give every column a name."
            )
    twice = [name for name, count in Counter(names).items() if count > 1]
    if twice:
        positions = [str(position) for position, name in enumerate(names, 1) if name == twice[0]]
        raise SourceError(
            f"The heading {twice[0]} is there more than once: columns {' and '.join(positions)}.",
            path=path,
            line=1,
            fix="Give every column a name of its own.",
        )
    return names


def _explain_csv(path: Path, names: list[str], types: Mapping[str, Type]) -> None:
    # Arrow has refused the file; a slow walk through its rows finds the line, and says so.
    try:
        with path.open(encoding="utf-8-sig", newline="") as file:
            reader = csv.reader(file, delimiter=_dialect(path).delimiter)
            next(reader)
            start = reader.line_num + 1
            for row in reader:
                if row and len(row) != len(names):
                    raise SourceError(
                        f"This row has {len(row)} fields, and the heading has {len(names)}.",
                        path=path,
                        line=start,
                        fix="What parts the fields needs double quotes around a text that holds it.",
                    )
                for name, value in zip(names, row, strict=False):
                    if name in types and value and not _converts(value, types[name]):
                        raise SourceError(
                            f"{name} is {value!r}, which is not {types[name]}.",
                            path=path,
                            line=start,
                            fix="Correct the value, or the column's type in the model.",
                        )
                start = reader.line_num + 1
    except UnicodeDecodeError:
        raise _encoding_error(path) from None
    except csv.Error as error:
        raise SourceError(f"The rows cannot be told apart: {error}", path=path) from None


def _converts(value: str, type_: Type) -> bool:
    try:
        pa.array([value]).cast(arrow_type(type_))
    except pa.ArrowInvalid:
        return False
    return True


def _no_text(path: Path) -> SourceError:
    return SourceError("This is not a text file.", path=path, fix="A CSV file is text in the encoding UTF-8.")


def _encoding_error(path: Path) -> SourceError:
    data = path.read_bytes()[:_BLOCK]
    try:
        data.decode("utf-8")
        at = len(data)
    except UnicodeDecodeError as error:
        at = error.start
    line = data.count(b"\n", 0, at) + 1
    if b"\0" in data[:1024]:
        return _no_text(path)
    return SourceError(
        f"Byte {at + 1} is not UTF-8 text.", path=path, line=line, fix="Save the file in the encoding UTF-8."
    )


def read_parquet(path: Path, types: Mapping[str, Type]) -> TableData:
    """A Parquet file; a column is read when it is first needed."""
    metadata = pq.read_metadata(path)
    texts = [field.name for field in metadata.schema.to_arrow_schema() if type_of(field.type) == TEXT]
    # Text is kept as a dictionary in the file as in memory: it need not be spelled out in between.
    file = pq.ParquetFile(path, metadata=metadata, read_dictionary=texts)

    def read(name: str) -> Any:
        try:
            return file.read([name]).column(0)
        except (pa.ArrowInvalid, OSError) as error:
            raise SourceError(f"cannot be read, the file is damaged: {first_line(error)}") from None

    return table_data(file.schema_arrow, types, str(path), file.metadata.num_rows, read)


def read_ipc(path: Path, types: Mapping[str, Type]) -> TableData:
    """An Arrow IPC file, or a stream of them, mapped rather than read."""
    with pa.memory_map(str(path)) as mapped:
        head = mapped.read(6)
    source = pa.memory_map(str(path))
    table = (paipc.open_file(source) if head == b"ARROW1" else paipc.open_stream(source)).read_all()
    return table_data(table.schema, types, str(path), table.num_rows, table.column)
