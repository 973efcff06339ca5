"""Rows that bounds leave out pass no test, and a span that is free of tests passes them all."""

from __future__ import annotations

from datetime import date, timedelta
from typing import Any

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import relatum
from relatum.data.columns import Column
from relatum.data.types import INTEGER
from relatum.engine.memory import scan, zones
from relatum.engine.memory.filters import CodeTest, Marks, RangeTest, RowFilter
from relatum.engine.memory.rows import Chunk
from relatum.engine.memory.store import RowCodes

CODES = 8
SORTED = st.lists(st.integers(0, CODES - 1), min_size=1, max_size=40).map(sorted)
#: Rows that come in order, or nearly.
IN_ORDER = st.tuples(SORTED, st.lists(st.tuples(st.integers(0, 39), st.integers(0, CODES - 1)), max_size=2))


def numbers(drawn: tuple[list[int], list[tuple[int, int]]], rows: int) -> np.ndarray[Any, Any]:
    ordered, exceptions = drawn
    found = np.array((ordered * rows)[:rows] if len(ordered) < rows else ordered[:rows], np.uint8)
    for at, value in exceptions:
        found[at % rows] = value
    return found


@st.composite
def some_test(draw: st.DrawFn, rows: int) -> RowFilter:
    values = numbers(draw(IN_ORDER), rows)
    kind = draw(st.sampled_from(["range", "codes", "looked up"]))
    if kind == "range":
        low = draw(st.integers(0, CODES))
        nulls = draw(st.none() | st.just(np.arange(rows) % 5 == 3))
        return RangeTest.of(Column(INTEGER, values, nulls, None, 0, CODES - 1), low, low + draw(st.integers(0, CODES)))
    passing = Marks.of(np.array(draw(st.lists(st.booleans(), min_size=CODES, max_size=CODES))))
    if kind == "codes":
        return CodeTest.of(RowCodes(values, None), passing)
    places = np.array(draw(st.permutations(range(CODES))), np.uint8)
    return CodeTest.of(RowCodes(places, values), passing)


@settings(max_examples=300, deadline=None)
@given(st.data(), st.integers(1, 40), st.integers(1, 9), st.integers(1, 17))
def test_spans_hold_every_row_that_passes_and_free_ones_no_other(
    data: st.DataObject, rows: int, zone: int, most: int
) -> None:
    tests = [data.draw(some_test(rows)) for _ in range(data.draw(st.integers(0, 3)))]
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(zones, "ZONE_ROWS", zone)
        spans = zones.spans_of(tests, rows, most)
    passes = np.ones(rows, np.bool_)
    for test in tests:
        passes &= test.mask(Chunk(0, rows))
    looked_at = np.zeros(rows, np.bool_)
    for span in spans:
        assert span.start < span.stop and span.start // most == (span.stop - 1) // most
        assert not looked_at[span.start :].any(), "they come in order, and none twice"
        looked_at[span.start : span.stop] = True
        assert not span.free or passes[span.start : span.stop].all()
    assert not (passes & ~looked_at).any()


ROWS = 2_000_000


@pytest.mark.parametrize(
    ("where", "looked_at", "free"),
    [("day.year = 2021", 2, 0), ("day.year < 2023", 3, 2), ("sale.at between 100 and 200", 1, 0), ("day.year = 1990", 0, 0), ("day.year > 2010", 4, 4),
     ("sale.any = 3", 4, 0), ("day.year = 2021 and sale.any = 3", 2, 0)],
)  # fmt: skip
def test_a_table_in_the_order_of_its_dates_is_read_where_the_dates_are(
    where: str, looked_at: int, free: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    model = relatum.Model()
    days = [date(2020, 1, 1) + timedelta(days=at) for at in range(1461)]
    table = pa.table({"date": np.sort(np.arange(ROWS) % 1461).astype("datetime64[D]") + np.datetime64("2020-01-01", "D").astype(int),
                      "at": np.arange(ROWS), "any": np.arange(ROWS) % 7})  # fmt: skip
    model.add_table("day", pa.table({"date": days, "year": [day.year for day in days]}), key="date")
    model.add_table("sale", table)
    model.relate("sale.date -> day.date")
    spans: list[zones.Span] = []

    def noted(*given: Any) -> list[zones.Span]:
        found = zones.spans_of(*given)
        spans.extend(found)
        return found

    monkeypatch.setattr(scan, "spans_of", noted)
    counted = model.evaluate("count(sale)", where=where)
    at, kind = np.arange(ROWS), np.arange(ROWS) % 7
    year = np.array([day.year for day in days])[np.sort(at % 1461)]
    expected = {
        "day.year = 2021": year == 2021, "day.year < 2023": year < 2023, "sale.at between 100 and 200": (at >= 100) & (at <= 200),
        "day.year = 1990": year == 1990, "day.year > 2010": year > 2010, "sale.any = 3": kind == 3,
        "day.year = 2021 and sale.any = 3": (year == 2021) & (kind == 3),
    }[where].sum()  # fmt: skip
    assert (counted or 0) == expected
    assert (len(spans), sum(span.free for span in spans)) == (looked_at, free)
