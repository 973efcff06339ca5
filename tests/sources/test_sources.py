"""Files and frames: what is read, as which type, and what is refused with which message."""

from __future__ import annotations

import zipfile
from datetime import date, datetime
from decimal import Decimal
from pathlib import Path
from typing import Any

import duckdb
import numpy as np
import pandas as pd
import polars as pl
import pyarrow as pa
import pyarrow.feather as feather
import pyarrow.parquet as pq
import pytest

import relatum
from relatum.data.arrow import python_values

BAD_CSV = [
    (b"", None, "empty"),
    (b"\n1,2\n", 1, "first row is blank"),
    (b"a,\n1,2\n", 1, "Column 2 of 2 has no heading"),
    (b"a,b,a\n1,2,3\n", 1, "heading a appears more than once: columns 1 and 3"),
    (b"a,b\n1,2\n3,4,5\n", 3, "has 3 fields, and the heading has 2"),
    (b'a,b\n"x\ny",2\n3\n', 4, "has 1 field"),
    (b"a,b\n1,2\n1,\xff\n", 3, "not UTF-8"),
    (b"\xffa,b\n1,2\n", 1, "not UTF-8"),
    (b"\x7fELF\0\0\0\0\n", None, "not a text file"),
]


@pytest.mark.parametrize(("content", "line", "message"), BAD_CSV)
def test_bad_csv(tmp_path: Path, content: bytes, line: int | None, message: str) -> None:
    path = tmp_path / "bad.csv"
    path.write_bytes(content)
    model = relatum.Model()
    with pytest.raises(relatum.SourceError) as caught:
        model.add_table("bad", path)
    assert message in str(caught.value)
    assert str(caught.value).startswith(f"{path}:{line}: " if line else f"{path}: ")
    assert not model.declaration.tables


@pytest.mark.parametrize("name", ["bad.parquet", "bad.arrow", "bad.feather"])
@pytest.mark.parametrize("content", [b"PAR1 not really", b"ARROW1\0\0 cut off", b"a,b\n1,2\n"])
def test_a_damaged_file_is_an_error_with_its_path(tmp_path: Path, name: str, content: bytes) -> None:
    (tmp_path / name).write_bytes(content)
    with pytest.raises(relatum.SourceError, match=f"{name}: This is not a file of the expected kind"):
        relatum.Model().add_table("bad", tmp_path / name)


def test_a_damaged_column_is_an_error_when_it_is_first_read(tmp_path: Path) -> None:
    path = tmp_path / "cut.parquet"
    pq.write_table(pa.table({"a": np.arange(10_000), "b": np.random.default_rng(1).random(10_000)}), path)
    content = bytearray(path.read_bytes())
    content[200:60_000] = bytes(len(content[200:60_000]))
    path.write_bytes(content)
    model = relatum.Model()
    model.add_table("cut", path)
    with pytest.raises(relatum.SourceError, match=r"cut\.parquet: Column"):
        model.evaluate("sum(cut.a) + sum(cut.b)")


@pytest.mark.parametrize("name", ["nothing.csv", "folder.csv", "data.xyz"])
def test_what_is_no_file_to_read(tmp_path: Path, name: str) -> None:
    (tmp_path / "folder.csv").mkdir()
    (tmp_path / "data.xyz").write_text("x")
    with pytest.raises(
        relatum.SourceError, match=r"no such file|No data files found here|ending in \.xyz are not read"
    ):
        relatum.Model().add_table("t", tmp_path / name)


def columns_of(model: relatum.Model, table: str) -> dict[str, str]:
    """The types in which a table's columns were read."""
    return {name: str(type_) for name, type_ in model.session.catalog.columns(table).items()}


def test_types_of_csv_columns_are_inferred_and_overridden(tmp_path: Path) -> None:
    path = tmp_path / "t.csv"
    path.write_text("code,n,x,d,b,t\n007,1,1.5,2024-02-29,true,a\n008,,,,,\n")
    model = relatum.Model()
    model.add_table("plain", path)
    model.add_table("typed", path, columns={"code": {"type": "integer"}, "x": {"type": "decimal(2)"}})
    assert columns_of(model, "plain") == {
        "code": "text",
        "n": "integer",
        "x": "float",
        "d": "date",
        "b": "boolean",
        "t": "text",
    }
    assert columns_of(model, "typed")["code"] == "integer"
    assert model.evaluate("min(typed.code)") == 7
    assert model.evaluate("min(plain.code)") == "007", "a zero that counts nothing names something"
    assert model.evaluate("sum(typed.x)") == Decimal("1.50")
    assert model.evaluate("count(plain.t)") == 1, "empty text is null"


DIALECTS = [
    ("a;b\n1;x,y\n", {"a": "integer", "b": "text"}, [1, "x,y"]), ("a\tb\n1.5\tx\n", {"a": "float", "b": "text"}, [1.5, "x"]),
    ("a;b\n1,5;2\n", {"a": "float", "b": "integer"}, [1.5, 2]), ("a;b\n1,5;2.5\n", {"a": "text", "b": "float"}, ["1,5", 2.5]),
    ("a|b\n007|2\n", {"a": "text", "b": "integer"}, ["007", 2]), ('"a;c",b\n1,2\n', {"a;c": "integer", "b": "integer"}, [1, 2]),
    ("a;b\n0042;1\n0043;2\n", {"a": "text", "b": "integer"}, ["0042", 1]), ("a\n1;2\n", {"a": "text"}, ["1;2"]),
]  # fmt: skip


@pytest.mark.parametrize(("text", "types", "first"), DIALECTS)
def test_what_parts_the_fields_is_found(tmp_path: Path, text: str, types: dict[str, str], first: list[Any]) -> None:
    path = tmp_path / "t.csv"
    path.write_text(text)
    model = relatum.Model()
    model.add_table("t", path)
    assert columns_of(model, "t") == types
    assert [python_values(model.session.data["t"].column(name))[0] for name in types] == first
    before = model.session.data["t"].rows
    path.write_text(text + text.partition("\n")[2])
    model.refresh()
    assert model.session.data["t"].rows == 2 * before
    assert columns_of(model, "t") == types


def test_headings_may_have_spaces_capitals_and_a_byte_order_mark(tmp_path: Path) -> None:
    path = tmp_path / "t.csv"
    path.write_text("﻿Unit Price,each\n2,a\n3,b\n", encoding="utf-8")
    model = relatum.Model()
    model.add_table("t", path)
    assert model.evaluate('sum(t."Unit Price")') == 5
    assert model.pivot(rows="t.each", values='p: sum(t."Unit Price")').to_arrow().column_names == ["t.each", "p"]


def frames() -> list[Any]:
    """The same rows in every kind of frame that is at hand."""
    data = {
        "k": ["a", "b", None],
        "n": [1, 2, 3],
        "x": [0.5, None, 2.0],
        "d": [date(1960, 1, 1), date(2150, 1, 1), None],
    }
    arrow = pa.table(data)
    connection = duckdb.connect()
    connection.register("arrow", arrow)
    return [arrow, pl.DataFrame(data), arrow.to_pandas(types_mapper=pd.ArrowDtype), connection.sql("select * from arrow"),
            pa.RecordBatchReader.from_batches(arrow.schema, arrow.to_batches())]  # fmt: skip


@pytest.mark.parametrize("number", range(5))
def test_every_kind_of_frame_is_read(number: int) -> None:
    model = relatum.Model()
    model.add_table("t", frames()[number])
    got = model.pivot(rows="t.k", values={"n": "sum(t.n)", "x": "sum(t.x)", "d": "max(t.d)"}).to_arrow().to_pylist()
    assert [tuple(record.values()) for record in got] == [
        ("a", 1, 0.5, date(1960, 1, 1)), ("b", 2, None, date(2150, 1, 1)), (None, 3, 2.0, None)
    ]  # fmt: skip


def test_a_pandas_index_is_no_column() -> None:
    model = relatum.Model()
    model.add_table("t", pd.DataFrame({"a": [1, 2, 3]})[lambda frame: frame.a > 1])
    assert columns_of(model, "t") == {"a": "integer"}


@pytest.mark.parametrize("frame", [7, [1, 2], {"a": [1]}])
def test_what_is_no_frame(frame: object) -> None:
    with pytest.raises(relatum.SourceError, match="cannot be the table t"):
        relatum.Model().add_table("t", frame)


def test_parquet_and_ipc_read_alike(tmp_path: Path) -> None:
    table = pa.table(
        {
            "i": pa.array([1, None, -(2**63)], pa.int64()),
            "u": pa.array([0, 255, None], pa.uint8()),
            "m": pa.array([Decimal("1.10"), None, Decimal("-99999999.99")], pa.decimal128(20, 2)),
            "f": pa.array([0.1, float("nan"), None], pa.float32()),
            "s": pa.array(["é", "", None]).dictionary_encode(),
            "b": pa.array([True, False, None]),
            "d": pa.array([date(1, 1, 1), date(9999, 12, 31), None]),
            "ts": pa.array([datetime(1969, 12, 31, 23, 59, 59), None, datetime(2200, 1, 1)], pa.timestamp("ns")),
            "l": pa.array([[1], [2], None]),
        }
    )
    pq.write_table(table, tmp_path / "t.parquet", row_group_size=2)
    feather.write_feather(table, tmp_path / "t.arrow", compression="uncompressed")
    model = relatum.Model()
    for name in ("parquet", "arrow"):
        model.add_table(name, tmp_path / f"t.{name}")
        types = columns_of(model, name)
        assert types == {"i": "integer", "u": "integer", "m": "decimal(2)", "f": "float", "s": "text", "b": "boolean",
                         "d": "date", "ts": "timestamp"}  # fmt: skip
        assert model.evaluate(f"min({name}.i)") == -(2**63)
        assert model.evaluate(f"min({name}.m)") == Decimal("-99999999.99")
        assert model.evaluate(f"count({name}.f)") == 1, "not-a-number is no value"
        assert model.evaluate(f"max({name}.s)") == "é"
        assert model.evaluate(f"min({name}.d)") == date(1, 1, 1)
        assert model.evaluate(f"min({name}.ts)") == datetime(1969, 12, 31, 23, 59, 59)
    with pytest.raises(relatum.FormulaError, match="cannot be used, since values of type list"):
        model.evaluate("count(parquet.l)")


@pytest.mark.parametrize(
    ("values", "type_", "message"),
    [
        (pa.array(["1", "x"]), "integer", "cannot be read as integer"),
        (pa.array([2**64 - 1], pa.uint64()), "integer", "does not fit in 64 bits"),
        (pa.array([Decimal(10**30)], pa.decimal128(38, 2)), "", "does not fit in 64 bits"),
        (pa.array(["2024-02-30"]), "date", "'2024-02-30', which is not a date"),
    ],
)
def test_values_that_do_not_fit(values: Any, type_: str, message: str) -> None:
    model = relatum.Model()
    model.add_table("t", pa.table({"a": values}), columns={"a": {"type": type_}} if type_ else None)
    with pytest.raises(relatum.SourceError, match=message):
        model.evaluate("max(t.a)")


def test_two_columns_of_one_name_are_refused() -> None:
    with pytest.raises(relatum.SourceError, match="a appears more than once"):
        relatum.Model().add_table("t", pa.table([[1], [2]], names=["a", "a"]))


def test_columns_are_stored_narrow() -> None:
    model = relatum.Model()
    model.add_table(
        "t", pa.table({"small": [1, 100], "middle": [1, 30_000], "text": ["a", "b"], "flag": [True, False]})
    )
    store = model.session.store
    assert [store.column("t", name).values.itemsize for name in ("small", "middle", "text", "flag")] == [1, 2, 1, 1]


def test_json_lines(tmp_path: Path) -> None:
    path = tmp_path / "t.jsonl"
    path.write_text(
        '{"code": "007", "n": 1, "x": 1.5, "d": "2024-02-29", "t": "2024-02-29 08:00:00"}\n{"code": null, "n": 2, "l": [1]}\n'
    )
    model = relatum.Model()
    model.add_table("t", path, columns={"x": {"type": "decimal(2)"}})
    assert columns_of(model, "t") == {"code": "text", "n": "integer", "x": "decimal(2)", "d": "date", "t": "timestamp"}
    assert model.evaluate("sum(t.x)") == Decimal("1.50")
    assert model.evaluate("max(t.d)") == date(2024, 2, 29)
    assert "l is left out" in str(model.check()), "a list is no value"


PARTS: list[tuple[list[str], str, Any]] = [
    (["a\n1\n2\n", "a\n3\n"], "integer", [1, 2, 3]), (["a\n1\n", "a\n1.5\n"], "float", [1.0, 1.5]),
    (["a\nx\n", "a\ny\n", "a\nx\n"], "text", ["x", "y", "x"]), (["a,b\n,1\n", "a,b\n7,2\n"], "integer", [None, 7]),
    (["a\n7\n", "a,,\n"], "no heading", None), (["a\n1\n", "a\nx\n"], "a is text here and integer in", None),
    (["a\n1\n", "b\n1\n"], "lacks a and also has b", None), (["a\ntrue\n", "a\nfalse\n"], "boolean", [True, False]),
    (["a\n2024-01-01\n", "a\n2023-01-01\n"], "date", [date(2024, 1, 1), date(2023, 1, 1)]), (["b,a\n1,x\n", "a,b\ny,2\n"], "text", ["x", "y"]),
]  # fmt: skip


@pytest.mark.parametrize(("files", "type_", "values"), PARTS)
def test_a_folder_of_files(tmp_path: Path, files: list[str], type_: str, values: Any) -> None:
    for number, text in enumerate(files):
        (tmp_path / f"part-{number}.csv").write_text(text)
    model = relatum.Model()
    if values is None:
        with pytest.raises(relatum.SourceError, match=type_):
            model.add_table("t", tmp_path)
        return
    for name, source in (("whole", tmp_path), ("pattern", tmp_path / "part-*.csv")):
        model.add_table(name, source)
        assert columns_of(model, name)["a"] == type_
        assert python_values(model.session.data[name].column("a")) == values


@pytest.mark.parametrize(
    ("values", "pattern", "type_", "got"),
    [
        (["31/12/2023", None], "dd/MM/yyyy", "date", date(2023, 12, 31)),
        (["5.1.24"], "d.M.yy", "date", date(2024, 1, 5)),
        (["2023-12-31 08:05"], "yyyy-MM-dd HH:mm", "timestamp", datetime(2023, 12, 31, 8, 5)),
        (
            ["31/12/2023", "12/31/2023"],
            "dd/MM/yyyy",
            "date",
            "holds '12/31/2023', which is not a date of the form dd/MM/yyyy",
        ),
        (["x"], "dd/MM/yyyy", "text", "has a date pattern but not a date type"),
        (["x"], "day", "date", "not a date pattern"),
    ],
)
def test_dates_by_pattern(values: list[Any], pattern: str, type_: str, got: Any) -> None:
    model = relatum.Model()
    settings = {"c": {"type": type_, "pattern": pattern, "heading": "When"}}
    if isinstance(got, str):
        with pytest.raises(relatum.RelatumError, match=got):
            model.add_table("t", pa.table({"When": values}), columns=settings)
            model.evaluate("max(t.c)")
    else:
        model.add_table("t", pa.table({"When": values}), columns=settings)
        assert model.evaluate("max(t.c)") == got
        assert columns_of(model, "t") == {"c": type_}


@pytest.mark.parametrize("engine", ["memory", "duckdb"])
@pytest.mark.parametrize("ending", ["parquet", "parq", "PQ"])
def test_parquet_by_each_of_its_endings(tmp_path: Path, ending: str, engine: str) -> None:
    pq.write_table(pa.table({"n": [1, 2]}), tmp_path / f"t.{ending}")
    (tmp_path / "m.toml").write_text(f'relatum = 1\n[table.t]\nsource = "t.{ending}"\n')
    assert relatum.open(tmp_path / "m.toml", engine=engine).evaluate("sum(t.n)") == 3
    assert list(relatum.draft(tmp_path / f"t.{ending}").declaration.tables) == ["t"]


STOPS, VISITS, PROSE = "stop_id,stop\n1,Mill\n2,Quay\n", "stop_id;n\n1;4\n2;5\n2;6\n", "All about the data.\nRead it.\n"


def test_an_archive_of_tables_is_read_by_its_members(tmp_path: Path) -> None:
    with zipfile.ZipFile(tmp_path / "feed.zip", "w") as archive:
        for name, text in {
            "a/stops.txt": STOPS,
            "a/visits.csv": VISITS,
            "a/readme.txt": PROSE,
            "logo.png": "x",
        }.items():
            archive.writestr(name, text)
    draft = relatum.draft(tmp_path / "feed.zip")
    tables = draft.declaration.tables
    assert {name: each.part for name, each in tables.items()} == {"stops": "a/stops.txt", "visits": "a/visits.csv"}
    assert {each.what.partition(": ")[2] for each in draft.left_out} == {"a/readme.txt", "logo.png"}
    draft.save(tmp_path / "m.toml")
    model = relatum.open(tmp_path / "m.toml")
    assert model.evaluate("sum(visits.n)[where stops.stop = 'Quay']") == 11
    for part, said in (
        ("", 'part = "a/stops.txt"'),
        ("a/stop.txt", "Did you mean a/stops.txt"),
        ("logo.png", "ending in .png"),
    ):
        with pytest.raises(relatum.SourceError, match=said):
            relatum.Model().add_table("t", tmp_path / "feed.zip", **({"part": part} if part else {}))


def test_a_text_is_a_table_where_something_parts_its_fields(tmp_path: Path) -> None:
    for name, text in {"stops.txt": STOPS, "visits.txt": VISITS, "readme.txt": PROSE}.items():
        (tmp_path / name).write_text(text)
    draft = relatum.draft(tmp_path)
    assert set(draft.declaration.tables) == {"stops", "visits"}
    assert "not a table" in next(each.why for each in draft.left_out if "readme" in each.what)
    (tmp_path / "t").mkdir()
    for name, text in {"1.csv": STOPS, "2.csv": STOPS, "readme.txt": PROSE}.items():
        (tmp_path / "t" / name).write_text(text)
    model = relatum.Model()
    model.add_table("stops", tmp_path / "t")
    model.add_table("visits", tmp_path / "visits.t*")
    assert model.evaluate("count(stops)") == 4 and model.evaluate("sum(visits.n)") == 15
