"""How values are written: patterns, units, digits, durations, dates, and values that are not numbers."""

from __future__ import annotations

import math
from datetime import date, datetime
from decimal import Decimal
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as some

import relatum
from relatum.data.types import BOOLEAN, DATE, FLOAT, INTEGER, TEXT, Type, decimal
from relatum.model.looks import Format, format_of_words
from relatum.present.numbers import Writer, formatter, member_writer
from stall import make_stall, run

D = Decimal
#: Type, words of the format, locale, currency, value, text. The largest value is the one written.
WRITTEN: list[tuple[Type, dict[str, Any], str, str, Any, str]] = [
    (INTEGER, {}, "en", "EUR", 1234567, "1,234,567"),
    (INTEGER, {}, "de", "EUR", -1234567, "−1.234.567"),
    (INTEGER, {}, "fr", "EUR", 1234567, "1 234 567"),
    (INTEGER, {}, "en_IN", "INR", 1234567, "12,34,567"),
    (INTEGER, {"format": "#,##0"}, "hi", "INR", 123456789, "12,34,56,789"),
    (INTEGER, {"format": "#,###,##0"}, "hi", "INR", 123456789, "123,456,789"),
    (INTEGER, {"format": "0000"}, "en", "EUR", 7, "0007"),
    (decimal(2), {"format": "¤#,##0.00"}, "en_GB", "GBP", D("1234.5"), "£1,234.50"),
    (decimal(2), {"format": "#,##0.00 ¤"}, "de", "EUR", D("-1234.565"), "−1.234,57 €"),
    (decimal(2), {"format": "¤#,##0;(¤#,##0)"}, "en_US", "USD", D("-1234"), "($1,234)"),
    (FLOAT, {"format": "0.0%"}, "en", "EUR", 0.12345, "12.3%"),
    (FLOAT, {"format": "0.0 %"}, "de", "EUR", 0.12345, "12,3 %"),
    (FLOAT, {"format": "0.00E0"}, "en", "EUR", 12345.0, "1.23E4"),
    (FLOAT, {"format": "@@@"}, "en", "EUR", 12345.0, "12300"),
    (FLOAT, {"format": "0.0#"}, "en", "EUR", 1.5, "1.5"),
    (FLOAT, {}, "en", "EUR", 1234.5, "1,235"),
    (FLOAT, {}, "en", "EUR", -0.0, "0"),
    (INTEGER, {"scale": "thousands"}, "en", "EUR", 1234567, "1,235"),
    (INTEGER, {"scale": "thousands", "format": "#,##0.0"}, "en", "EUR", 1234567, "1,234.6"),
    (INTEGER, {"scale": "ten thousands"}, "en", "EUR", 1234567, "123.5"),
    (INTEGER, {"scale": "lakh", "format": "#,##0.00"}, "en_IN", "INR", 1234567, "12.35"),
    (INTEGER, {"scale": "crore", "format": "#,##0.0"}, "en_IN", "INR", 123456789, "12.3"),
    (INTEGER, {"scale": "millions", "format": "0.0"}, "en", "EUR", 1250000, "1.3"),
    (INTEGER, {"scale": "billions", "format": "0.0"}, "en", "EUR", -1250000000, "−1.3"),
    (INTEGER, {"scale": "automatic"}, "en", "EUR", 99999, "99,999"),
    (INTEGER, {"scale": "automatic"}, "en", "EUR", 1234567, "1,235"),
    (INTEGER, {"scale": "automatic"}, "en", "EUR", 123456789012, "123.5"),
    (FLOAT, {"digits": 3}, "en", "EUR", 1234.0, "1,230"),
    (FLOAT, {"digits": 3}, "en", "EUR", 9.995, "10.0"),
    (FLOAT, {"digits": 3}, "en", "EUR", 0.0012345, "0.00123"),
    (FLOAT, {"digits": 2, "format": "0%"}, "en", "EUR", 0.12345, "12%"),
    (FLOAT, {"digits": 3}, "en", "EUR", 0.0, "0"),
    (FLOAT, {"digits": 3}, "en", "EUR", -0.0, "0"),
    (INTEGER, {"duration": "seconds"}, "en", "EUR", 3725, "1:02:05"),
    (INTEGER, {"duration": "minutes"}, "en", "EUR", 125, "2:05"),
    (FLOAT, {"duration": "hours"}, "en", "EUR", 1.5, "1:30"),
    (FLOAT, {"duration": "hours"}, "en", "EUR", -0.25, "−0:15"),
    (FLOAT, {"duration": "days"}, "en", "EUR", 2.5, "2d 12h"),
    (FLOAT, {"duration": "days", "format": "h:mm"}, "en", "EUR", 1.25, "30:00"),
    (INTEGER, {"duration": "seconds", "format": "mm:ss"}, "en", "EUR", 3599, "59:59"),
    (FLOAT, {"duration": "minutes"}, "en", "EUR", 59.6, "1:00"),
    (INTEGER, {"zero": "nil"}, "en", "EUR", 0, "nil"),
    (INTEGER, {"zero": "nil"}, "en", "EUR", 1, "1"),
    (INTEGER, {}, "en", "EUR", None, "–"),
    (INTEGER, {"blank": "none"}, "en", "EUR", None, "none"),
    (FLOAT, {}, "en", "EUR", math.inf, "∞"),
    (FLOAT, {"infinity": "endless"}, "en", "EUR", -math.inf, "−endless"),
    (FLOAT, {}, "en", "EUR", math.nan, "not a number"),
    (DATE, {}, "en", "EUR", date(2024, 5, 7), "2024-05-07"),
    (DATE, {"format": "d MMM y"}, "en_GB", "EUR", date(2024, 5, 7), "7 May 2024"),
    (DATE, {"format": "d. MMMM y"}, "de", "EUR", date(2024, 5, 7), "7. Mai 2024"),
    (TEXT, {"blank": "?"}, "en", "EUR", "fig", "fig"),
    (BOOLEAN, {}, "en", "EUR", True, "true"),
]


@pytest.mark.parametrize(("type_", "words", "locale", "currency", "value", "text"), WRITTEN)
def test_a_value_is_written(
    type_: Type, words: dict[str, Any], locale: str, currency: str, value: Any, text: str
) -> None:
    write = formatter(type_, format_of_words(words), [value], locale, currency)
    assert write(value).replace("\xa0", " ").replace("\u202f", " ") == text


def test_a_currency_sign_may_stand_to_the_right_and_run_from_right_to_left() -> None:
    write = formatter(INTEGER, Format(pattern="#,##0 ¤"), [5], "ar", "SAR")
    assert write(1234) == "1,234 ر.س.\u200f"


UNITS = [
    ("thousands", "en", "thousands"), ("thousands", "de", "Tausend"), ("millions", "fr", "millions"), ("lakh", "hi", "लाख"),
    ("lakh", "en_IN", "lakh"), ("ten thousands", "ja", "万"), ("ten thousands", "de", "× 10.000"), ("hundred thousands", "en", "hundred thousands"),
    ("automatic", "en", "thousands"), ("automatic", "hi", "हज़ार"),
]  # fmt: skip


@pytest.mark.parametrize(("scale", "locale", "unit"), UNITS)
def test_the_unit_stands_in_the_heading(scale: str, locale: str, unit: str) -> None:
    sales = pa.table({"product": ["fig", "ivy"], "worth": [12_345_678, 234]})
    model = relatum.Model("stall", locale=locale)
    model.add_table("sales", sales)
    model.measure("worth", "sum(sales.worth)", format={"scale": scale}, label="Worth")
    grid = model.pivot("sales.product", values="worth")
    heading = grid.to_text(100).splitlines()[2].split(maxsplit=1)[1]
    assert heading == f"Worth ({unit})"
    assert grid.to_arrow().column_names == ["sales.product", "worth"], "programs read it by its name, and in full"
    assert grid.to_arrow()["worth"].to_pylist() == [12_345_678, 234]


def test_a_total_and_its_members_use_one_unit() -> None:
    model = relatum.Model("stall")
    model.add_table("sales", pa.table({"product": ["fig", "ivy", "yew"], "worth": [60_000, 70_000, 90]}))
    text = model.pivot("sales.product", values="worth: sum(sales.worth) scale automatic").to_text(100)
    assert "worth (thousands)" in text
    assert [line.split()[-1] for line in text.splitlines()[3:]] == ["60.0", "70.0", "0.1", "130.1"]


MEMBERS = [
    ("MMM y", "month", "2024-05", "May 2024"), ("QQQ y", "quarter", "2024-Q2", "Q2 2024"), ("yy", "year", 2024, "24"),
    ("EEE", "weekday", "Friday", "Fri"), ("MMMM", "month_of_year", 5, "May"), ("QQQQ", "quarter_of_year", 2, "2nd quarter"),
    ("d/M", "date", date(2024, 5, 17), "17/5"), ("#,##0", "", 1234, "1,234"), ("0.0", "", D("2.25"), "2.3"),
    ("MMM y", "", "plain text", "plain text"), ("", "year", 2024, "2024"), ("d MMM HH:mm", "", datetime(2024, 5, 17, 9, 30), "17 May 09:30"),
]  # fmt: skip


@pytest.mark.parametrize(("pattern", "period", "value", "text"), MEMBERS)
def test_members_are_written(pattern: str, period: str, value: Any, text: str) -> None:
    assert member_writer(pattern, period, "en_GB")(value) == text


REFUSED = [
    ("sum(sales.quantity) scale thousand", "scale is 'thousand'; it can be thousands, ten thousands"),
    ("sum(sales.quantity) digits 20", "digits is 20; it can be 1 to 15"),
    ("sum(sales.quantity) digits 'x'", "digits is 'x'"),
    ("sum(sales.quantity) duration weeks", "duration is 'weeks'"),
    ("sum(sales.quantity) duration hours scale thousands", "A duration has no setting scale"),
    ("sum(sales.quantity) colour red", "colour"),
    ("sum(sales.quantity) format '0' format '0.0'", "format appears here twice"),
    ("sum(sales.quantity) format 'qty'", "it has no digits"),
    ("sum(sales.quantity) duration hours format 'x'", "a duration uses d, h, mm and ss"),
]


@pytest.mark.parametrize(("text", "reason"), REFUSED)
def test_what_is_no_format_is_refused(text: str, reason: str) -> None:
    with pytest.raises(relatum.RelatumError) as error:
        make_stall().pivot(values=text)
    assert reason in str(error.value)


FILES = [
    ('scale = "thousend"', "scale is 'thousend'"), ("digits = 99", "digits is 99"), ('duration = "weeks"', "duration"),
    ('format = "nothing"', "it has no digits"), ('label = 3', "label is 3"),
]  # fmt: skip


@pytest.mark.parametrize(("line", "reason"), FILES)
def test_the_file_says_where(tmp_path: Path, line: str, reason: str) -> None:
    (tmp_path / "sales.csv").write_text("a,b\n1,2\n")
    file = tmp_path / "m.toml"
    file.write_text(
        f'relatum = 1\n[table.sales]\nsource = "sales.csv"\n[measure.a]\nformula = "sum(sales.a)"\n{line}\n'
    )
    result = run("pivot", file, "--values", "a")
    assert result.exit_code == 2
    assert reason in result.stderr and "m.toml:6" in result.stderr


def test_a_column_says_how_its_members_are_written(tmp_path: Path) -> None:
    model = make_stall()
    model.look("calendar.month", label="Month", format="MMM yy")
    text = model.pivot("calendar.month", values="count(sales)").to_text(80)
    assert text.splitlines()[2].startswith("Month") and "Mar 24" in text
    grid = model.pivot("calendar.month closed, sales.product", values="n: count(sales)")
    assert "▾ Mar 24" in grid.open("2024-03").to_text(80), "members are named as they are, not as they are written"
    with pytest.raises(relatum.ModelError, match="not a pattern"):
        model.look("calendar.month", format="nothing")
    with pytest.raises(relatum.ModelError, match=r"Write table\.column"):
        model.look("month", format="MMM")


def test_a_saved_pivot_keeps_formats() -> None:
    model = make_stall()
    grid = model.pivot(values="n: count(sales) format '0.0' scale thousands blank 'it''s' digits 2")
    model.keep_pivot("kept", grid)
    assert model.declaration.pivots["kept"].values == (
        "n: count(sales) format '0.0' scale 'thousands' digits 2 blank 'it''s'",
    )
    assert model.pivot(saved="kept").to_text(60) == grid.to_text(60)


NUMBERS = some.one_of(
    some.integers(-(10**14), 10**14), some.floats(-1e12, 1e12), some.decimals(-(10**9), 10**9, places=3)
)


@given(NUMBERS, some.sampled_from(["#,##0", "0.00", "¤#,##0.0", "0.0%", "#,##0;(#,##0)"]), some.integers(0, 6))
def test_digits_read_back_are_the_rounded_number(value: Any, pattern: str, digits: int) -> None:
    write = Writer(FLOAT, Format(pattern=pattern, digits=digits), D(1), "en", "EUR")
    text = write(float(value))
    shown = D("".join(sign for sign in text if sign.isdigit() or sign == "."))
    exact = abs(D(repr(float(value)))) * (100 if "%" in pattern else 1)
    places = max(0, -int(shown.as_tuple().exponent))
    unit = D(1).scaleb(-places)
    if digits and exact:
        unit = max(unit, D(1).scaleb(exact.adjusted() - digits + 1), D(1).scaleb(shown.adjusted() - digits + 1))
    assert abs(shown - exact) <= unit / 2
    assert ("−" in text or "(" in text) == (value < 0 and shown != 0)


NEAR = [
    (INTEGER, {}, 2.5, "2"),
    (INTEGER, {}, 1234.6, "1,235"),
    (INTEGER, {"scale": "thousands", "format": "0.0"}, 1250.0, "1.3"),
    (INTEGER, {"duration": "minutes"}, 90.0, "1:30"),
    (FLOAT, {"format": "0.00"}, 2.345, "2.35"),
    (decimal(2), {"format": "¤0.0"}, 2.25, "€2.3"),
]


@pytest.mark.parametrize(("type_", "words", "number", "text"), NEAR)
def test_a_number_between_values_is_written_as_they_are(
    type_: Type, words: dict[str, Any], number: float, text: str
) -> None:
    """The ends of a legend and the ticks of an axis are not values themselves."""
    assert formatter(type_, format_of_words(words), [int(number)], "en", "EUR").near(number) == text


TOLD = [
    ({}, []),
    ({"where": " sales.quantity > 1 "}, ["where sales.quantity > 1"]),
    ({"keep": ["top 1 sales.product by count(sales)"]}, ["keep top 1 sales.product by count(sales)"]),
    (
        {"where": "sales.quantity > 1", "keep": "sales.product where count(sales) > 0"},
        ["where sales.quantity > 1", "keep sales.product where count(sales) > 0"],
    ),
]


@pytest.mark.parametrize(("parts", "told"), TOLD)
def test_filters_are_told_alike_in_every_medium(parts: dict[str, Any], told: list[str]) -> None:
    grid = make_stall().pivot("sales.product", values="n: count(sales)", **parts)
    assert grid.request.filters == told
    shown = told or ["no filters"]
    assert grid.to_text(90).splitlines()[1 : 1 + len(shown)] == shown
    for text in shown:
        assert text.replace(">", "&gt;") in grid._repr_html_()
        assert text.replace(">", "\\>") in grid.to_markdown()
    said = [text for text in grid.chart("bars").texts if text.get_text().startswith(("where", "keep"))]
    assert [text.get_text() for text in said] == told
