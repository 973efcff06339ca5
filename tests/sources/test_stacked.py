"""Parts one below the other: the same as the whole, for every type and every way to cut."""

from __future__ import annotations

import random
from datetime import date, datetime
from decimal import Decimal
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest

import relatum
from relatum.data.arrow import column_from_arrow, python_values
from relatum.data.stacking import appended
from relatum.data.stored import batch_bytes, column_batch, column_of, read_batch
from relatum.sources.fingerprint import Digests, digest_of, has_grown

VALUES: dict[Any, list[Any]] = {
    pa.int64(): [0, 1, -1, 127, 128, -(2**31), 2**62, None],
    pa.decimal128(12, 2): [Decimal("0.00"), Decimal("-1.25"), Decimal("99999999.99"), None],
    pa.float64(): [0.0, -0.5, 1e300, None],
    pa.string(): ["", "a", "é", "a a", "B", None],
    pa.bool_(): [True, False, None],
    pa.date32(): [date(1, 1, 1), date(1970, 1, 1), date(9999, 12, 31), None],
    pa.timestamp("us"): [datetime(1969, 12, 31, 23), datetime(2200, 1, 1), None],
}


@pytest.mark.parametrize("kind", list(VALUES), ids=str)
@pytest.mark.parametrize("seed", range(6))
def test_joined_parts_are_the_whole(kind: Any, seed: int) -> None:
    chance = random.Random(seed)
    values = [chance.choice(VALUES[kind]) for _ in range(chance.choice([0, 1, 5, 40]))]
    cuts = sorted(chance.randrange(len(values) + 1) for _ in range(chance.randrange(4)))
    pieces = [values[start:stop] for start, stop in zip([0, *cuts], [*cuts, len(values)], strict=True)]
    whole = column_from_arrow(pa.array(values, kind))
    got = appended([column_from_arrow(pa.array(piece, kind)) for piece in pieces], whole.type)
    assert python_values(got) == python_values(whole)
    assert (got.type, got.null_count) == (whole.type, whole.null_count)
    if whole.type.exact and whole.null_count < len(values):
        assert (got.lower, got.upper, got.values.dtype) == (whole.lower, whole.upper, whole.values.dtype)


@pytest.mark.parametrize("kind", list(VALUES), ids=str)
@pytest.mark.parametrize("seed", range(4))
def test_a_stored_column_comes_back_as_it_was(kind: Any, seed: int) -> None:
    chance = random.Random(seed)
    column = column_from_arrow(
        pa.array([chance.choice(VALUES[kind]) for _ in range(chance.choice([0, 1, 9, 70]))], kind)
    )
    back = column_of(read_batch(batch_bytes(column_batch(column))))
    assert python_values(back) == python_values(column)
    assert (back.type, back.lower, back.upper, back.values.dtype) == (
        column.type,
        column.lower,
        column.upper,
        column.values.dtype,
    )
    content = pa.py_buffer(batch_bytes(column_batch(column)))
    assert pa.ipc.open_file(content).read_all().num_rows == len(column), "any program reads it"


GROWTH = [
    ("a\n1\n", "a\n1\n2\n", True), ("a\n1\n", "a\n1\n", False), ("a\n1\n", "a\n", False), ("a\n1\n", "a\n2\n3\n", False),
    ("a\n1", "a\n12\n", False), ("", "a\n", False), ("a\n1\n", "b\n1\n2\n", False),
]  # fmt: skip


@pytest.mark.parametrize(("before", "after", "grown"), GROWTH)
def test_whether_a_file_has_grown(tmp_path: Path, before: str, after: str, grown: bool) -> None:
    path = tmp_path / "t.csv"
    path.write_text(before)
    state = Digests().state(path)
    path.write_text(after)
    assert has_grown(path, state) is grown
    assert (digest_of(path) == state.digest) is (before == after)


def test_comparing_finds_the_one_thing_that_differs() -> None:
    chance = random.Random(8)
    for _ in range(40):
        one, other = relatum.Model("m"), relatum.Model("m")
        formulas = {f"m{n}": f"{n} + {chance.randrange(9)}" for n in range(6)}
        for model in (one, other):
            for name, formula in formulas.items():
                model.measure(name, formula)
        name = chance.choice(list(formulas))
        new = f"{formulas[name]}  + {chance.choice([0, 3])}"
        other.measure(name, new, replace=True)
        found = one.compare(other)
        assert [(each.kind, each.name, each.after) for each in found.changes] == [
            ("measure", name, " ".join(new.split()))
        ]
        moved = [each.name for each in found.moved]
        assert moved == ([name] if new.endswith("3") else [])
