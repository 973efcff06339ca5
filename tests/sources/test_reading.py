"""What a source's texts and numbers are read as: markers for null, moments and zones, numbers too wide, odd files."""

from __future__ import annotations

import gzip
import io
import re
import zipfile
from datetime import UTC, date, datetime, timedelta
from decimal import Decimal
from pathlib import Path
from typing import Any
from unittest import mock
from zoneinfo import ZoneInfo

import hypothesis.strategies as st
import numpy as np
import pandas as pd
import polars as pl
import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from hypothesis import given, settings

import relatum
from relatum.data import sorting
from relatum.data.arrow import python_values
from relatum.data.date_patterns import date_pattern, moments_of
from relatum.data.moments import wall_clock
from relatum.sources import delimited


def read(tmp_path: Path, text: str | bytes, name: str = "t.csv", zone: str = "UTC", **settings: Any) -> relatum.Model:
    path = tmp_path / name
    path.write_bytes(text.encode() if isinstance(text, str) else text)
    model = relatum.Model(timezone=zone)
    model.add_table("t", path, **settings)
    return model


def column(model: relatum.Model, name: str = "a") -> tuple[str, list[Any]]:
    """A column's type and values, row by row."""
    data = model.session.data["t"]
    return str(data.types[name]), python_values(data.column(name))


D, T, U = date(2024, 5, 17), datetime(2024, 5, 17, 9, 30), datetime(2024, 5, 17, 0, 0)
#: The values of a column of a CSV file, settings of the table, and the values read.
TEXTS: list[tuple[str, dict[str, Any], str, list[Any]]] = [
    ("1 NA 3", {}, "text", ["1", "NA", "3"]), ("1 NA 3", {"null": "NA"}, "integer", [1, None, 3]),
    ("1 - . \\N 4", {"null": ["-", ".", "\\N"]}, "integer", [1, None, None, None, 4]),
    ("1.5 N/A", {"columns": {"a": {"null": ["N/A"]}}}, "float", [1.5, None]),
    ("NA EL NA", {"columns": {"b": {"null": "NA"}}}, "text", ["NA", "EL", "NA"]),
    ("2024-05-17 NULL", {"null": ["NULL"], "columns": {"a": {"type": "date"}}}, "date", [D, None]),
    ("2024-05-17T09:30:00", {}, "timestamp", [T]), ("2024-05-17_09:30", {}, "timestamp", [T]),
    ("2024-05-17T00:00:00 2024-05-18T00:00:00", {}, "date", [D, date(2024, 5, 18)]),
    ("2024-05-17T00:00:00 2024-05-17", {}, "date", [D, D]), ("2024-05-17T00:00:00Z", {}, "timestamp", [U]),
    ("2024-05-17T09:30:00Z", {}, "timestamp", [T]), ("2024-05-17T11:30:00+02:00", {}, "timestamp", [T]),
    ("2024-05-17T11:30+02 2024-05-17_05:00_-0430", {}, "timestamp", [T, T]),
    ("2024-05-17T09:30:00.25", {}, "timestamp", [T.replace(microsecond=250_000)]),
    ("1500-05-17T09:30:00.25", {}, "timestamp", [datetime(1500, 5, 17, 9, 30, 0, 250_000)]),
    ("2024-05-17T09:30:00.000000001 2024-05-17T09:30:00.000000002", {}, "timestamp(9)",
     ["2024-05-17 09:30:00.000000001", "2024-05-17 09:30:00.000000002"]),
    ("2024-05-17T09:30:00Z 2024-05-17T09:30:00", {}, "text", ["2024-05-17T09:30:00Z", "2024-05-17T09:30:00"]),
    ("9223372036854775808 9223372036854775809", {}, "text", ["9223372036854775808", "9223372036854775809"]),
    ("9007199254740993 1.5", {}, "float", [9007199254740992.0, 1.5]), ("1e300 2", {}, "float", [1e300, 2.0]),
    ("0x10 7", {}, "text", ["0x10", "7"]), ("007 8", {}, "text", ["007", "8"]), ("0 10", {}, "integer", [0, 10]),
    ("0000-01-01 2024-05-17", {}, "text", ["0000-01-01", "2024-05-17"]),
    ("0000-01-01 2024-05-17", {"null": "0000-01-01"}, "date", [None, D]),
    ("10:30 11:45", {}, "text", ["10:30:00", "11:45:00"]), ("inf 1.5", {}, "float", [None, 1.5]),
    ("17.5.2024", {"columns": {"a": {"type": "date", "pattern": "d.M.yyyy"}}}, "date", [D]),
    ("20240517 20240518", {"columns": {"a": {"type": "date", "pattern": "yyyyMMdd"}}}, "date", [D, date(2024, 5, 18)]),
    ("17_May_2024 1_Sep._2023", {"columns": {"a": {"type": "date", "pattern": "d MMM yyyy"}}}, "date", [D, date(2023, 9, 1)]),
    ("2024-05-17_9:30_AM", {"columns": {"a": {"type": "timestamp", "pattern": "yyyy-MM-dd h:mm a"}}}, "timestamp", [T]),
    ("2024-138", {"columns": {"a": {"type": "date", "pattern": "yyyy-DDD"}}}, "date", [D]),
]  # fmt: skip


@pytest.mark.parametrize(("values", "settings", "type_", "wanted"), TEXTS, ids=[case[0] for case in TEXTS])
def test_texts(tmp_path: Path, values: str, settings: dict[str, Any], type_: str, wanted: list[Any]) -> None:
    rows = [each.replace("_", " ") for each in values.split()]
    model = read(tmp_path, "a,b\n" + "".join(f"{row},1\n" for row in rows), **settings)
    assert column(model) == (type_, wanted)


JSON = [
    ('{"a": "2024-05-17T11:30:00+02:00"}', "timestamp", [datetime(2024, 5, 17, 11, 30)]),
    ('{"a": "2024-05-17"}', "date", [D]),
    ('{"a": "NA"}\n{"a": "x"}', "text", [None, "x"]),
    ('{"a": 9223372036854775808}\n{"a": 9223372036854775809}', "text", ["9223372036854775808", "9223372036854775809"]),
    ('{"a": "2024-05-17T09:30:00.000000001"}', "timestamp(9)", ["2024-05-17 09:30:00.000000001"]),
]


@pytest.mark.parametrize(("text", "type_", "wanted"), JSON, ids=[case[0] for case in JSON])
def test_json_texts(tmp_path: Path, text: str, type_: str, wanted: list[Any]) -> None:
    model = read(tmp_path, text, "t.jsonl", "Europe/Paris", null="NA")
    assert column(model) == (type_, wanted)


SUMMER = 1_715_983_200  # 17 May 2024, 22:00 UTC: the next day in Paris
FRAMES: list[tuple[Any, str, list[Any]]] = [
    (pa.array([SUMMER], pa.timestamp("s", "UTC")), "timestamp", [datetime(2024, 5, 18)]),
    (pa.array([SUMMER], pa.timestamp("s", "America/Lima")), "timestamp", [datetime(2024, 5, 18)]),
    (pa.array([SUMMER], pa.timestamp("s")), "timestamp", [datetime(2024, 5, 17, 22)]),
    (pa.array([SUMMER * 10**9 + 1, SUMMER * 10**9 + 2], pa.timestamp("ns")), "timestamp(9)",
     ["2024-05-17 22:00:00.000000001", "2024-05-17 22:00:00.000000002"]),
    (pa.array([SUMMER * 10**9], pa.timestamp("ns")), "timestamp", [datetime(2024, 5, 17, 22)]),
    (pa.array([90, None], pa.duration("s")), "integer", [90, None]),
    (pa.array([1500], pa.duration("ms")), "decimal(3)", [Decimal("1.500")]),
    (pa.array([3_600_000_000], pa.time64("us")), "text", ["01:00:00.000000"]),
    (pa.array([2**64 - 1, 1], pa.uint64()), "text", ["18446744073709551615", "1"]),
    (pa.array([2**63 - 1], pa.uint64()), "integer", [2**63 - 1]), (pa.array([0], pa.date64()), "date", [date(1970, 1, 1)]),
]  # fmt: skip


@pytest.mark.parametrize("kind", ["frame", "parquet", "arrow"])
@pytest.mark.parametrize(("array", "type_", "wanted"), FRAMES, ids=[str(case[0].type) + case[1] for case in FRAMES])
def test_typed_sources(tmp_path: Path, kind: str, array: Any, type_: str, wanted: list[Any]) -> None:
    table, source = pa.table({"a": array}), tmp_path / f"t.{kind}"
    if kind == "parquet":
        pq.write_table(table, source)
    elif kind == "arrow":
        with pa.ipc.new_file(str(source), table.schema) as writer:
            writer.write_table(table)
    model = relatum.Model(timezone="Europe/Paris")
    model.add_table("t", table if kind == "frame" else source)
    assert column(model) == (type_, wanted)


def test_frames_of_other_libraries() -> None:
    days = pd.to_datetime(["2024-05-17", "2024-05-18"])
    for frame, wanted in [
        (pd.DataFrame({"a": days}), ("date", [D, date(2024, 5, 18)])),
        (pd.DataFrame({"a": days.tz_localize("UTC")}), ("timestamp", [datetime(2024, 5, 17, 2), datetime(2024, 5, 18, 2)])),
        (pd.DataFrame({"a": days + pd.Timedelta("90min")}), ("timestamp", [datetime(2024, 5, 17, 1, 30), datetime(2024, 5, 18, 1, 30)])),
        (pl.DataFrame({"a": [datetime(2024, 5, 17)]}), ("timestamp", [datetime(2024, 5, 17)])),
    ]:  # fmt: skip
        model = relatum.Model(timezone="Europe/Paris")
        model.add_table("t", frame)
        assert column(model) == wanted


def test_a_zoned_column_and_its_date_agree(tmp_path: Path) -> None:
    array = pa.array([SUMMER * 10**6], pa.timestamp("us", "UTC"))
    pq.write_table(pa.table({"a": array, "b": array, "c": pa.array(["2024-05-17T22:00:00Z"])}), tmp_path / "t.parquet")
    model = relatum.Model(timezone="Europe/Paris")
    model.add_table("t", tmp_path / "t.parquet", columns={"b": {"type": "date"}, "c": {"type": "date"}})
    grid = model.pivot(values=["max(date(t.a))", "max(t.b)", "max(t.c)", "max(hour(t.a))"])
    assert list(grid.to_arrow(True).to_pylist()[0].values()) == [date(2024, 5, 18)] * 3 + [0]


@given(st.lists(st.datetimes(datetime(1930, 1, 1), datetime(2080, 1, 1)), min_size=1, max_size=30),
       st.sampled_from(["Europe/London", "America/New_York", "Australia/Lord_Howe", "Asia/Kathmandu", "UTC"]))  # fmt: skip
def test_the_wall_clock_is_that_of_the_standard_library(moments: list[datetime], zone: str) -> None:
    seconds = np.array([(each - datetime(1970, 1, 1)) // timedelta(seconds=1) for each in moments])
    wanted = [
        each.replace(tzinfo=UTC, microsecond=0).astimezone(ZoneInfo(zone)).replace(tzinfo=None) for each in moments
    ]
    got = [datetime(1970, 1, 1) + timedelta(seconds=int(each)) for each in wall_clock(seconds, 1, zone)]
    assert got == wanted


PATTERNS = [
    "yyyy-MM-dd",
    "d/M/yyyy",
    "yyyyMMdd",
    "dd. MMMM yyyy",
    "MMM d, yyyy",
    "yyyy-DDD",
    "EEEE, d MMMM yyyy",
    "dd.MM.yy",
]


@given(st.dates(date(1970, 1, 1), date(2068, 12, 31)), st.sampled_from(PATTERNS), st.sampled_from(["en", "de", "fr"]))
def test_what_a_pattern_writes_it_reads(day: date, pattern: str, locale: str) -> None:
    from babel.dates import format_date  # noqa: PLC0415

    found = moments_of(pa.array([format_date(day, pattern, locale), "no date"]), date_pattern(pattern, locale))
    assert found.read.tolist() == [True, False]
    assert int(found.days[0]) == (day - date(1970, 1, 1)).days


@pytest.mark.parametrize(("pattern", "said"), [
    ("dd/QQ/yyyy", "Q (quarter) is not supported"), ("w/Y", "w (week of the year)"), ("yyyy MM dd zzzz", "name of a zone"),
    ("dd nn yyyy", "n is not a letter of a date pattern"), ("MM/yyyy", "needs year, month and day"), ("dd'", "quote is not closed"),
    ("yyyy-MM-dd yyyy", "the year appears twice"),
])  # fmt: skip
def test_patterns_that_are_refused_by_name(tmp_path: Path, pattern: str, said: str) -> None:
    with pytest.raises(relatum.ModelError) as caught:
        read(tmp_path, "a\n1\n", columns={"a": {"type": "date", "pattern": pattern}})
    assert said in str(caught.value)


FAR = [
    (pa.array([10**14], pa.timestamp("s")), "years 1 to 9999"),
    (pa.array([-719_163], pa.date32()), "years 1 to 9999"),
    (pa.array([2_932_897], pa.date32()), "10000-01-01"),
]


@pytest.mark.parametrize(("array", "said"), FAR)
def test_dates_that_there_are_not(array: Any, said: str) -> None:
    model = relatum.Model()
    model.add_table("t", pa.table({"a": array}))
    with pytest.raises(relatum.SourceError, match=said):
        model.evaluate("max(t.a)")


@pytest.mark.parametrize("many", [1, sorting._MANY])
@settings(max_examples=40, deadline=None)
@given(st.lists(st.none() | st.text(max_size=2), max_size=60), st.integers(1, 4), st.booleans())
def test_texts_come_in_the_order_of_their_code_points_however_many_they_are(
    many: int, texts: list[str | None], cores: int, chunked: bool
) -> None:
    rows = pa.chunked_array([texts[:7], texts[7:]], pa.string()) if chunked else pa.array(texts, pa.string())
    model = relatum.Model()
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(sorting, "_MANY", many)
        patch.setattr(sorting, "cores", lambda: cores)
        model.add_table("t", pa.table({"a": rows}))
        grid = model.pivot("t.a", values={"n": "count(t)"}, totals=False).to_arrow().to_pylist()
    known = sorted({text for text in texts if text is not None})
    wanted = [*known, *([None] if None in texts else [])]
    assert [(row["t.a"], row["n"]) for row in grid] == [(text, texts.count(text)) for text in wanted]


@pytest.mark.parametrize(("different", "whole"), [(1999, True), (50, False)])
def test_texts_are_numbered_without_looking_each_up_where_they_hardly_repeat(
    different: int, whole: bool, monkeypatch: pytest.MonkeyPatch
) -> None:
    asked: list[Any] = []
    own = sorting._ranked
    monkeypatch.setattr(sorting, "_ranked", lambda texts: asked.append(texts) or own(texts))
    monkeypatch.setattr(sorting, "_MANY", 1000)
    monkeypatch.setattr(sorting, "cores", lambda: 3)
    texts = [None, *(f"{at % different}" for at in range(2000))]
    model = relatum.Model()
    model.add_table("t", pa.table({"a": texts}))
    grid = model.pivot("t.a", values={"n": "count(t)"}, totals=False).to_arrow().to_pylist()
    wanted = [*sorted({text for text in texts if text is not None}), None]
    assert [(row["t.a"], row["n"]) for row in grid] == [(text, texts.count(text)) for text in wanted]
    assert (len(asked[0]) == len(texts)) is whole


def test_old_moments_of_96_bits(tmp_path: Path) -> None:
    for values, wanted in [
        ([datetime(1500, 1, 1, 12)], ("timestamp", [datetime(1500, 1, 1, 12)])),
        ([datetime(2024, 1, 1, 12)], ("timestamp", [datetime(2024, 1, 1, 12)])),
    ]:
        table = pa.table({"a": pa.array(values, pa.timestamp("us"))})
        pq.write_table(table, tmp_path / "t.parquet", use_deprecated_int96_timestamps=True)
        model = relatum.Model()
        model.add_table("t", tmp_path / "t.parquet")
        assert column(model) == wanted


def test_nanoseconds_are_told_apart_and_joined_exactly() -> None:
    start = 1_700_000_000 * 10**9
    four = pa.array([start, start + 1, start + 999, start + 1000], pa.timestamp("ns"))
    model = relatum.Model()
    model.add_table("t", pa.table({"a": four, "n": [1, 2, 4, 8]}))
    model.add_table(
        "u", pa.table({"a": pa.array([start // 1000, start // 1000 + 1], pa.timestamp("us")), "x": ["p", "q"]}), key="a"
    )
    model.relate("t.a -> u.a")
    assert model.evaluate("count(distinct t.a)") == 4
    grid = model.pivot(["u.x"], values=["n: sum(t.n)"], totals=False)
    assert [row["n"] for row in grid.to_arrow().to_pylist()] == [1, 8, 6], "two instants find nothing"
    assert model.evaluate("count(t)", where="t.a > timestamp '2023-11-14 22:13:20.000000998'") == 2
    assert (
        model.evaluate(
            "count(t)", where="t.a in (timestamp '2023-11-14 22:13:20', timestamp '2023-11-14 22:13:20.000000001')"
        )
        == 2
    )


def zipped(**members: str) -> bytes:
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w") as archive:
        for name, text in members.items():
            archive.writestr(name.replace("_", "."), text)
    return buffer.getvalue()


SHOP = "a,b\n1,x\n2,y\n"
ODD: list[tuple[str, str | bytes, dict[str, Any]]] = [
    ("t.csv.gz", gzip.compress(SHOP.encode()), {}), ("t.zip", zipped(lines_csv=SHOP), {}),
    ("t.csv.zip", zipped(lines_csv=SHOP), {}), ("t.csv", b"\xef\xbb\xbf" + SHOP.encode(), {}),
    ("t.csv", "a,b,\n1,x,\n2,y,\n", {}), ("t.csv", "a,b\n1,x,\n2,y,\n", {}), ("t.csv", "a;b;\r\n1;x;\r\n2;y;\r\n", {}),
    ("t.csv", SHOP + "2 rows\n", {"footer": 1}), ("t.csv", SHOP + "Total,3\n\nend of report\n", {"footer": 2}),
    ("t.jsonl.gz", gzip.compress(b'{"a": 1, "b": "x"}\n{"a": 2, "b": "y"}\n'), {}),
    ("t.csv.gz", gzip.compress((SHOP + "#\n").encode()), {"footer": 1}),
]  # fmt: skip


@pytest.mark.parametrize(("name", "content", "settings"), ODD, ids=range(len(ODD)))
def test_odd_files(tmp_path: Path, name: str, content: str | bytes, settings: dict[str, Any]) -> None:
    model = read(tmp_path, content, name, **settings)
    assert model.session.data["t"].types.keys() == {"a", "b"}
    assert (column(model), column(model, "b")) == (("integer", [1, 2]), ("text", ["x", "y"]))


REFUSED: list[tuple[str, str | bytes, str]] = [
    ("t.zip", zipped(a_csv=SHOP, b_csv=SHOP), "holds 2 files"), ("t.zip", b"PK no", "cannot be unpacked"),
    ("t.csv.gz", b"no", "cannot be unpacked"), ("t.csv", SHOP + "Total\n", "footer = 1"),
    ("t.csv", "a,a\n1,2\n", 'headings = "numbered"'), ("t.csv", ",b\n1,2\n", 'headings = "numbered" for the table: column_1'), ("t.zip", zipped(a_pdf="x"), "not read"), ("t.zip", zipped(a_txt="x"), "not a table"),
]  # fmt: skip


@pytest.mark.parametrize(("name", "content", "said"), REFUSED, ids=[each[2] for each in REFUSED])
def test_odd_files_that_are_refused(tmp_path: Path, name: str, content: str | bytes, said: str) -> None:
    with pytest.raises(relatum.SourceError) as caught:
        read(tmp_path, content, name)
    assert said in str(caught.value)


HEADINGS = [
    ("a,a,b,a\n1,2,3,4\n", {"a": 1, "a_2": 2, "b": 3, "a_3": 4}),
    (",a,,\n1,2,3,4\n", {"column_1": 1, "a": 2, "column_3": 3, "column_4": 4}),
    (" ,column_1,\n1,2,\n", {"column_1": 1, "column_1_2": 2}),
]


@pytest.mark.parametrize(("content", "worth"), HEADINGS, ids=[each[0].partition("\n")[0] for each in HEADINGS])
def test_equal_and_missing_headings_are_numbered(tmp_path: Path, content: str, worth: dict[str, int]) -> None:
    model = read(tmp_path, content, headings="numbered")
    assert {name: model.evaluate(f"max(t.{name})") for name in model.session.data["t"].types} == worth


def test_a_file_whose_first_heading_is_missing_is_drafted(tmp_path: Path) -> None:
    (tmp_path / "trees.csv").write_text(
        ',"species","height"\n' + "".join(f'"{n}","{"ab"[n % 2]}",{n}\n' for n in range(1, 9))
    )
    draft = relatum.draft(tmp_path / "trees.csv")
    draft.save(tmp_path / "m.toml")
    assert relatum.open(tmp_path / "m.toml").evaluate("sum(trees.height)[where trees.column_1 > 6]") == 15


def test_two_columns_from_one_heading(tmp_path: Path) -> None:
    columns = {
        "day": {"heading": "when", "type": "date"},
        "moment": {"heading": "when"},
        "word": {"heading": "when", "type": "text"},
    }
    model = read(tmp_path, "when,n\n2024-05-17T22:30:00Z,1\n", zone="Europe/Paris", columns=columns)
    assert list(model.session.data["t"].types) == ["day", "n", "moment", "word"]
    assert column(model, "day") == ("date", [date(2024, 5, 18)])
    assert column(model, "moment") == ("timestamp", [datetime(2024, 5, 18, 0, 30)])
    assert column(model, "word") == ("text", ["2024-05-17T22:30:00Z"])
    model.rename("t.moment", "instant")
    assert column(model, "instant") == ("timestamp", [datetime(2024, 5, 18, 0, 30)])
    model.save(tmp_path / "m.toml")
    assert column(relatum.open(tmp_path / "m.toml"), "instant") == column(model, "instant")


def test_what_is_not_read_is_said_with_the_way_out(tmp_path: Path) -> None:
    table = pa.table({"a": [1], "l": [[1]], "s": [{"x": 1}], "d": pa.array([1], pa.duration("s")), "b": [b"x"]})
    model = relatum.Model()
    model.add_table("t", table)
    said = str(model.check())
    for each in (
        "another table",
        "each field as a separate column",
        "d: durations, read as numbers of seconds",
        "b is left out",
    ):
        assert each in said


def test_a_zone_that_there_is_not(tmp_path: Path) -> None:
    for zone in ("Europe/Nowhere", "", "../etc", "Europe"):
        with pytest.raises(relatum.ModelError, match="Unknown time zone"):
            relatum.Model(timezone=zone)


GROWN = [
    ("t.csv", "a\n1\n", "2.5\n", "a: integer -> float", True), ("t.csv", "a\n1\n", "x\n", "a: integer -> text", False),
    ("t.csv", "a\n2024-05-17\n", "2024-05-17T10:00:00\n", "a: date -> timestamp", False), ("t.csv", "a\n1\n", "007\n", "a: integer -> text", False),
    ("t.jsonl", '{"a": 1}\n', '{"a": true}\n', "one type per column", False),
    ("t.jsonl", '{"a": true}\n', '{"a": "x"}\n', "one type per column", False),
    ("t.csv", "a\ntrue\n", "maybe\n", "a: boolean -> text", False), ("t.csv", "a\n1.5\n", "2\n", "", True),
]  # fmt: skip


@pytest.mark.parametrize(("name", "before", "more", "said", "fine"), GROWN)
def test_a_file_that_grew_with_values_of_another_type(
    tmp_path: Path, name: str, before: str, more: str, said: str, fine: bool
) -> None:
    model = read(tmp_path, before, name)
    former = column(model)
    with (tmp_path / name).open("a") as file:
        file.write(more)
    found = model.refresh()
    assert found.ok == fine
    assert said in str(found)
    if not fine:
        assert column(model) == former, "the previous state is kept"


@pytest.mark.parametrize("type_", [pa.string(), pa.large_string(), pa.string_view()], ids=str)
def test_texts_of_parquet_are_the_same_however_they_are_stored(type_: pa.DataType, tmp_path: Path) -> None:
    few = [("ash", "elm", None)[at % 3] for at in range(3000)]
    many = [None if at % 7 == 0 else f"the remark number {at} of many that are all different" for at in range(3000)]
    pq.write_table(pa.table({"few": pa.array(few, type_), "many": pa.array(many, type_)}), tmp_path / "t.parquet")
    model = relatum.Model()
    model.add_table("t", tmp_path / "t.parquet")
    for name, texts in (("few", few), ("many", many)):
        column = model.session.store.column("t", name)
        assert python_values(column) == texts
        assert column.dictionary.to_pylist() == sorted({text for text in texts if text})


#: Where a field begins with a zero and another digit, or an x; the program looks without a pattern, for speed.
BEGINS_WITH_ZERO = re.compile(rb'(?:^|[,;\t|"\n\r])[+-]?0[0-9xX]')


#: Bytes and pieces of which such fields are made, and what is nearly one.
PIECES = [*(bytes([each]) for each in b',;\t|"\n\r+-01x9XaZ.\x80'), b",-01", b"\n+0x", b'"0', b"|09", b"-0", b"a0x"]


@settings(max_examples=400)
@given(st.lists(st.sampled_from(PIECES), max_size=9).map(b"".join), st.integers(2, 5))
def test_numbers_that_may_name_something_are_seen_wherever_they_are(content: bytes, stretch: int) -> None:
    with mock.patch.object(delimited, "_STRETCH", stretch):
        assert delimited._may_name(content) is (BEGINS_WITH_ZERO.search(content) is not None)
