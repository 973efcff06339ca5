"""Engine and oracle agree on random stars, formulas and grids, with the engine's limits as they are and tiny."""

from __future__ import annotations

import random

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from agreement import disagreement, shrunk
from relatum.data import groups, joins
from relatum.engine.memory import scan, store
from stars import random_case

SLOW = [HealthCheck.too_slow, HealthCheck.function_scoped_fixture]
SEEDS = st.integers(0, 2**60)


def agree(seed: int, plain: bool) -> None:
    """Compare one random case; a disagreement is shown as the smallest model that still has it."""
    case = random_case(random.Random(seed), plain)
    found = disagreement(case)
    assert found is None, f"{found}\n{shrunk(case)}"


@settings(max_examples=150, deadline=None, suppress_health_check=SLOW)
@given(SEEDS)
def test_engine_agrees_on_plain_formulas(seed: int) -> None:
    agree(seed, plain=True)


@settings(max_examples=300, deadline=None, suppress_health_check=SLOW)
@given(SEEDS)
def test_engine_agrees_on_the_whole_language(seed: int) -> None:
    agree(seed, plain=False)


@pytest.fixture
def tiny_limits(monkeypatch: pytest.MonkeyPatch) -> None:
    """Limits so small that a dozen rows take the ways that millions do."""
    monkeypatch.setattr(scan, "CHUNK_ROWS", 3)
    monkeypatch.setattr(groups, "DENSE_GROUPS", 8)
    monkeypatch.setattr(groups, "SPARSE", 1)
    monkeypatch.setattr(joins, "_TABLE_SLOTS", 0)
    monkeypatch.setattr(store, "CACHE_BYTES", 40)


@settings(max_examples=200, deadline=None, suppress_health_check=SLOW)
@given(SEEDS)
def test_engine_agrees_when_rows_come_in_chunks(tiny_limits: None, seed: int) -> None:
    agree(seed, plain=seed % 2 == 0)
