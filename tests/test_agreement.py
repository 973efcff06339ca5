"""Engine and oracle agree on random stars, formulas and grids, with the engine's limits as they are and tiny."""

from __future__ import annotations

import random

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from agreement import disagreement
from relatum.engine.memory import frames, joins, scan, store
from stars import random_case

SLOW = [HealthCheck.too_slow, HealthCheck.function_scoped_fixture, HealthCheck.data_too_large]


@settings(max_examples=250, deadline=None, suppress_health_check=SLOW)
@given(st.randoms(use_true_random=False))
def test_engine_agrees_with_the_oracle(rnd: random.Random) -> None:
    case = random_case(rnd)
    assert disagreement(case) is None, case


@pytest.fixture
def tiny_limits(monkeypatch: pytest.MonkeyPatch) -> None:
    """Limits so small that a dozen rows take the ways that millions do."""
    monkeypatch.setattr(scan, "CHUNK_ROWS", 3)
    monkeypatch.setattr(frames, "DENSE_GROUPS", 8)
    monkeypatch.setattr(frames, "SPARSE", 1)
    monkeypatch.setattr(joins, "_TABLE_SLOTS", 0)
    monkeypatch.setattr(store, "CACHE_BYTES", 40)


@settings(max_examples=150, deadline=None, suppress_health_check=SLOW)
@given(st.randoms(use_true_random=False))
def test_engine_agrees_when_rows_come_in_chunks(tiny_limits: None, rnd: random.Random) -> None:
    case = random_case(rnd)
    assert disagreement(case) is None, case
