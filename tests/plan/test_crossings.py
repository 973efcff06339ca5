"""Where two parts of the language meet: on every engine that runs here, computed by hand."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import date, datetime, timedelta
from decimal import Decimal
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest

import relatum
from postgres import Server
from relatum.model.declaration import EngineChoice
from stall import run
from test_shown import rows

ENGINES = ["memory", "duckdb", "postgresql"]


@pytest.fixture(params=ENGINES)
def engine(request: pytest.FixtureRequest) -> Iterator[Any]:
    name: Any = request.param
    if name == "postgresql":
        server: Server = request.getfixturevalue("server")
        name = EngineChoice("postgresql", server.address)
    yield name


def made(engine: Any, *links: str, **tables: tuple[dict[str, list[Any]], str]) -> relatum.Model:
    """A model of small tables, each with its key or none."""
    model = relatum.Model("crossings", engine=engine)
    for name, (columns, key) in tables.items():
        model.add_table(name, pa.table(columns), key=key or ())
    for link in links:
        model.relate(link)
    return model


@pytest.mark.parametrize("unit", [None, "s", "us", "ns"])
def test_the_data_ends_on_the_last_day_of_a_column_of_timestamps_too(engine: Any, unit: str | None) -> None:
    days = [date(2011, 10, 1) + timedelta(days=number) for number in range(97)]
    moments = [datetime(day.year, day.month, day.day, 13, 5) for day in days]
    sold = pa.array(days) if unit is None else pa.array(moments, pa.timestamp(unit))
    with made(engine, sales=({"sold": sold, "units": [1] * 92 + [10] * 5}, "")) as model:
        model.add_calendar("calendar", date(2011, 1, 1), date(2012, 12, 31), fiscal_year_starts=4, through="sales.sold")
        model.relate("sales.sold -> calendar.date")
        model.measure("units", "sum(sales.units)")
        values = ["units", "units[fiscal_year to date]", "units[trailing 3 months]", "units[back 1 month]"]
        found = model.pivot("calendar.year", values={f"v{at}": each for at, each in enumerate(values)}, totals=False)
        assert found.to_arrow().to_pylist()[-1] == {"calendar.year": 2012, "v0": 50, "v1": 142, "v2": 137, "v3": 5}
        assert "The data ends on 2012-01-05" in " ".join(note.text for note in found.notes)
        with pytest.raises(relatum.ModelError, match=r"cannot end with sales\.units: it contains integer, not dates"):
            model.add_calendar("other", date(2011, 1, 1), date(2012, 12, 31), through="sales.units")


PINNED = [
    ("quantity[pin last calendar.month, ignoring calendar]", 15), ("quantity[pin last calendar.month, ignoring sales]", 15),
    ("quantity[pin last calendar.month, ignoring calendar.month]", 15), ("quantity[pin first product.price, ignoring product]", 15),
    ("quantity[pin first product.price, ignoring product.kind]", 5), ("quantity[ignoring calendar, pin first calendar.month]", 2),
    ("quantity[pin first calendar.month, ignoring product]", 2), ("quantity[pin first calendar.month, only calendar]", 2),
]  # fmt: skip


@pytest.mark.parametrize(("formula", "expected"), PINNED)
def test_ignoring_drops_the_pins_written_before_it(shared_stall: relatum.Model, formula: str, expected: int) -> None:
    assert shared_stall.evaluate(formula) == expected


def shop(engine: Any) -> relatum.Model:
    """Five sales: one has no region, one a region that is not there; d is never sold, S has no sales."""
    sale = {
        "item": ["a", "a", "b", "b", "c"],
        "reg": ["n", "n", None, "zz", "n"],
        "units": [1, 2, 3, 4, 5],
        "day": [1, 2, 3, 3, 4],
    }
    model = made(
        engine, "sale.item -> item.item", "sale.reg -> reg.reg", "sale.day -> period.day",
        sale=(sale, ""), item=({"item": ["a", "b", "c", "d"]}, "item"), reg=({"reg": ["n", "s"], "name": ["N", "S"]}, "reg"),
        period=({"day": [1, 2, 3, 4], "half": [1, 1, 2, 2], "pair": ["1a", "1b", "2a", "2a"]}, "day"),
    )  # fmt: skip
    model.measure("units", "sum(sale.units)")
    return model


NOT_THERE = [
    # Every sale finds its day, and no half is null: neither is shown, though customers without sales are counted there.
    ({"rows": "period.half", "values": "n: count(item)[keep item where units is null]"}, [(1, 3), (2, 2), ("total", 1)]),
    ({"rows": "period.half", "values": "n: sum(case when count(sale) is null then 1 else 0 end over item)"}, [(1, 3), (2, 2), ("total", 1)]),
    # Of one chain only the pairs that a row has.
    ({"rows": "period.half, period.pair", "values": "n: count(item)[keep item where units is null]"},
     [(1, "1a", 3), (1, "1b", 3), (1, "total", 3), (2, "2a", 2), (2, "total", 2), ("total", "total", 1)]),
    # A ranking alone shows what it ranks, no match of another lookup among it.
    ({"rows": "item.item", "columns": "reg.name", "values": "r: rank(units among item.item)"},
     [("a", "N", 2), ("a", "total", 3), ("b", "(no match)", 1), ("b", "total", 1), ("c", "N", 1), ("c", "total", 2),
      ("total", "N", None), ("total", "(no match)", None), ("total", "total", None)]),
    ({"rows": "item.item", "values": "r: running(units among item.item by item.item)", "totals": False}, [("a", 3), ("b", 10), ("c", 15)]),
    ({"rows": "item.item", "values": "r: running(units among item.item by item.item)", "totals": False, "show_empty": True},
     [("a", 3), ("b", 10), ("c", 15), ("d", 15)]),
    ({"rows": "reg.name", "values": "s: sole(sale.units)", "totals": False, "where": "sale.units = 3"}, [("N", None), ("S", None), ("(no match)", 3)]),
]  # fmt: skip


@pytest.mark.parametrize(("asked", "expected"), NOT_THERE)
def test_no_member_is_shown_that_no_row_has_and_none_hidden_that_has_a_value(
    engine: Any, asked: dict[str, Any], expected: list[tuple[Any, ...]]
) -> None:
    with shop(engine) as model:
        assert sorted(map(str, rows(model, **asked))) == sorted(map(str, expected))


TOPS = [
    ("t.p top 3", "8 members of t.p tie for third place: 10 are shown instead of 3."),
    ("t.p top 2", ""),
    ("t.p top 2 by (v, count(t) desc)", ""),
    ("t.g, t.p top 2 with others", "3 members of t.p tie for first place: 3 are shown instead of 2."),
    ("t.g, t.p top 1", "Because of ties"),
    ("t.g, t.p top 3 with others", "11 members of t.p"),
]


@pytest.mark.parametrize(("field", "said"), TOPS)
def test_ties_are_told_and_hidden_members_counted_once(engine: Any, field: str, said: str) -> None:
    columns = {
        "g": ["x"] * 12 + ["y"] * 4,
        "p": list("abcdefghijklmnab"),
        "v": [9, 8] + [5] * 8 + [1, 1] + [4, 4, 4, 1],
    }
    with made(engine, t=(columns, "")) as model:
        model.measure("v", "sum(t.v)")
        notes = " ".join(note.text for note in model.pivot(field, values="v").notes)
    if field == "t.g, t.p top 1":
        assert "tie for first place: 3 are shown instead of 1" in notes
    elif field == "t.g, t.p top 3 with others":
        # Under x all but a, b and the tied ones are hidden, under y b alone: k, l and b.
        assert "3 members of t.p other than the 3 largest are counted in others." in notes
    else:
        assert said in notes and ("tie" in notes) == bool(said)


def test_months_of_which_the_calendar_has_a_part_are_told_where_they_are_compared(engine: Any) -> None:
    days = [date(2024, 10, 1) + timedelta(days=number) for number in range(89)]
    tables = {
        "calendar": ({"date": days, "month": [f"{day:%Y-%m}" for day in days]}, "date"),
        "s": ({"day": days, "v": [1] * 89}, ""),
    }
    with made(engine, **tables) as model:
        model.relate("s.day -> calendar.date")
        model.measure("v", "sum(s.v)")
        model.add_calendar("other", days[0], days[-1])
        model.relate("s.day -> other.date", standby=True)
        asked = {"rows": "other.month", "values": "v[back 1 month on other, via s.day]"}
        told = "has 28 days of 2024-12 and 30 days of 2024-11"
        assert any(told in note.text for note in model.pivot(**asked).notes)
        assert not any(told in note.text for note in model.pivot(**asked, where="other.month < '2024-12'").notes)


WIDE = [
    ("sum(s.d * 3)", Decimal("599999999999999.9994")), ("max(s.d + 99999999999999)", Decimal("199999999999998.9999")),
    ("avg(s.f)", 1.25e308), ("max(-s.d)", Decimal("-99999999999999.9999")), ("sum(s.d * s.d)", relatum.ValueOverflowError),
]  # fmt: skip


@pytest.mark.parametrize("engine", ["memory", "duckdb"])
@pytest.mark.parametrize(("formula", "expected"), WIDE)
def test_numbers_overflow_no_earlier_than_64_bits_do(engine: str, formula: str, expected: Any) -> None:
    columns = {"d": pa.array([Decimal("99999999999999.9999")] * 2, pa.decimal128(18, 4)), "f": [1e308, 1.5e308]}
    with made(engine, s=(columns, "")) as model:
        if isinstance(expected, type):
            with pytest.raises(expected):
                model.evaluate(formula)
        else:
            assert model.evaluate(formula) == expected
            assert model.explain(formula).value == expected


EMPTY = ["str", "_repr_html_", "to_pandas", "to_markdown", "to_csv", "to_json", "to_html"]


@pytest.mark.parametrize("rows_", [None, "kind.family no total"])
@pytest.mark.parametrize("how", EMPTY)
def test_a_grid_without_lines_is_told_in_every_form(shared_stall: relatum.Model, rows_: str | None, how: str) -> None:
    grid = shared_stall.pivot(rows_, "kind.kind no total", "quantity", where="kind.kind = 'x'")
    shown = str(grid) if how == "str" else getattr(grid, how)()
    if how == "to_pandas":
        assert shown.empty
    elif rows_ is None and how in ("str", "_repr_html_", "to_markdown"):
        assert "Nothing to show: no member has a value." in shown
    else:
        assert "x" in shown or how == "to_csv"


def test_rows_behind_leave_a_value_as_it_is_that_a_filter_cannot_reach(hollowmere: Path, tmp_path: Path) -> None:
    asked = ["pivot", hollowmere, "--rows", "category.department", "--where", "customer.region = 'North'"]
    out = tmp_path / "behind.xlsx"
    done = run(*asked, "--values", "revenue, target", "--rows-behind", "--out", out)
    assert done.exit_code == 0 and out.exists(), done.stderr
    refused = run(*asked, "--values", "target", "--rows-behind", "--out", tmp_path / "none.xlsx")
    assert refused.exit_code == 2 and "No value in this grid is a sum or count of rows." in refused.stderr


def test_between_is_one_condition(shared_stall: relatum.Model) -> None:
    told = str(shared_stall.explain("quantity", where="sales.quantity between 2 and 4 and sales.paid"))
    assert told.count("sales.quantity between 2 and 4  request") == 1


CONTROLS = [
    ("quantity", "2328.60", 0, "Give a number, without quotes"), ("quantity", "abc", 0, "the measure is a number"),
    ("quantity", True, 0, "the measure is a number"), ("quantity", float("nan"), 0, "a number"), ("quantity", None, 0, "a number"),
    ("quantity", 15, float("inf"), "The tolerance"), ("quantity", 15, -1, "0 or more"), ("name", 3, 0, "the measure is a text"),
    ("day", datetime(2024, 1, 1, 3), 0, "a date"), ("name", "z", 0, ""), ("day", date(2024, 12, 31), 0, ""), ("quantity", 15.0, 0.5, ""),
]  # fmt: skip


@pytest.mark.parametrize(("measure", "equals", "tolerance", "reason"), CONTROLS)
def test_a_control_holds_what_its_measure_can_be(
    stall: relatum.Model, measure: str, equals: Any, tolerance: float, reason: str
) -> None:
    stall.measure("name", "max(sales.note)")
    stall.measure("day", "max(sales.sold_on)")
    if reason:
        with pytest.raises(relatum.ModelError, match=reason):
            stall.control(measure, equals, tolerance=tolerance)
        assert not stall.declaration.controls
    else:
        stall.control(measure, equals, tolerance=tolerance)
        assert not [each for each in stall.check().findings if "control" in each.subject]


def test_a_value_comes_with_its_notes_where_they_are_asked_for(shared_stall: relatum.Model) -> None:
    value, notes = shared_stall.evaluate("goal", "customer.region = 'North'", notes=True)
    assert value is None and "no relationship leads from target to customer" in notes[0].text
    assert shared_stall.evaluate("quantity", notes=True) == (15, ())
