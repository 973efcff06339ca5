"""Engine and oracle agree on random stars, formulas and grids, with the engine's limits as they are and tiny."""

from __future__ import annotations

import random
from collections import Counter
from collections.abc import Callable

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from agreement import MOST_REFUSED, Refused, disagreement, shrunk
from relatum.data import groups, joins, keys
from relatum.engine.memory import distinct, hidden, keeps, ranks, scan, store, zones
from stars import random_case, travelling_up

SLOW = [HealthCheck.too_slow, HealthCheck.function_scoped_fixture]
SEEDS = st.integers(0, 2**60)


def agree(examples: int, plain: Callable[[int], bool], up: bool = False, most: float = MOST_REFUSED + 0.1) -> None:
    """Compare random cases; a disagreement is shown as the smallest model that still has it. Refused ones are few."""
    seen, refused = Counter[str](), 0

    @settings(max_examples=examples, deadline=None, suppress_health_check=SLOW)
    @given(SEEDS)
    def compare(seed: int) -> None:
        nonlocal refused
        case = random_case(random.Random(seed), plain(seed))
        if up:
            case = travelling_up(case, random.Random(seed))
        seen["cases"] += 1
        try:
            found = disagreement(case)
        except Refused:
            refused += 1
            return
        assert found is None, f"{found}\n{shrunk(case)}"

    compare()
    assert refused <= most * seen["cases"], f"{refused} of {seen['cases']} were refused"


def test_engine_agrees_on_plain_formulas() -> None:
    agree(30, lambda _: True)


def test_engine_agrees_on_the_whole_language() -> None:
    agree(40, lambda _: False)


def test_engine_agrees_when_filters_travel_up_several_relationships() -> None:
    # Several such relationships often open a second route, which is refused.
    agree(30, lambda seed: seed % 3 == 0, up=True, most=0.5)


@pytest.fixture
def tiny_limits(monkeypatch: pytest.MonkeyPatch) -> None:
    """Limits so small that a dozen rows take the ways that millions do."""
    monkeypatch.setattr(scan, "CHUNK_ROWS", 3)
    monkeypatch.setattr(zones, "ZONE_ROWS", 2)
    monkeypatch.setattr(scan, "_GROUPED_ROWS", 5)
    monkeypatch.setattr(groups, "DENSE_GROUPS", 8)
    monkeypatch.setattr(groups, "SPARSE", 1)
    monkeypatch.setattr(joins, "TABLE_SLOTS", 0)
    monkeypatch.setattr(keys, "TABLE_SLOTS", 0)
    monkeypatch.setattr(distinct, "_MARKS", 0)
    monkeypatch.setattr(distinct, "_ONE_IN", 4)
    monkeypatch.setattr(distinct, "_WIDE", 4)
    monkeypatch.setattr(keeps, "MANY_ROWS", 0)
    monkeypatch.setattr(hidden, "_SLOTS", 0)
    monkeypatch.setattr(ranks, "_FEW", 0)
    monkeypatch.setattr(store, "CACHE_BYTES", 40)


def test_engine_agrees_when_rows_come_in_chunks(tiny_limits: None) -> None:
    agree(40, lambda seed: seed % 2 == 0)
