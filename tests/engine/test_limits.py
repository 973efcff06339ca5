"""Limits: how they are set, which of them wins, and what is refused."""

from __future__ import annotations

from pathlib import Path

import pyarrow as pa
import pytest

import relatum
from relatum.runtime.limits import in_force, limit, read_limits, resident
from stall import make_stall, run

SAID = [
    ({"cells": 5}, {"cells": 5}), ({"memory": "8 GB"}, {"memory": 8 << 30}), ({"memory": "1.5MB"}, {"memory": 3 << 19}), ({"file": "100 kb"}, {"file": 100 << 10}), ({"model": "7"}, {"model": 7}),
    ({"time": "90 s"}, {"time": 90}), ({"time": "10 min"}, {"time": 600}), ({"time": "2h"}, {"time": 7200}), ({"rows": "3"}, {"rows": 3}), ({}, {}),
]  # fmt: skip


@pytest.mark.parametrize(("said", "numbers"), SAID)
def test_limits_are_numbers_or_texts_with_a_unit(said: dict[str, object], numbers: dict[str, int]) -> None:
    assert read_limits(said) == numbers


WRONG = [
    {"speed": 3},
    {"cells": 0},
    {"cells": -4},
    {"cells": True},
    {"cells": 2.5},
    {"cells": "2 GB"},
    {"memory": "8 min"},
    {"time": "3 GB"},
    {"memory": "much"},
    {"memory": ""},
    {"rows": 1 << 70},
    {"memory": "9" * 30},
]


@pytest.mark.parametrize("said", WRONG, ids=str)
def test_what_is_no_limit_is_refused(said: dict[str, object]) -> None:
    with pytest.raises(relatum.ModelError, match=r"limit"):
        read_limits(said)
    with pytest.raises(relatum.ModelError), relatum.limited(**said):  # type: ignore[arg-type]
        pass
    with pytest.raises(relatum.ModelError):
        make_stall().limit(**said)  # type: ignore[arg-type]


def test_the_nearest_one_wins_and_only_inside() -> None:
    assert limit("cells") == 1_000_000
    with in_force({"cells": 5}):
        assert limit("cells") == 5
    with relatum.limited(cells="7", rows=9):
        with in_force({"cells": 5, "rows": 6, "members": 4}):
            assert (limit("cells"), limit("rows"), limit("members")) == (7, 9, 4)
        with relatum.limited(cells=8):
            assert (limit("cells"), limit("rows")) == (8, 9)
    assert limit("cells") == 1_000_000 and limit("memory") > 1 << 28


def test_limits_of_a_model_hold_are_saved_and_compared(tmp_path: Path) -> None:
    (tmp_path / "t.csv").write_text("a,b,n\n" + "".join(f"a{at % 5},b{at},{at}\n" for at in range(40)))
    (tmp_path / "m.toml").write_text(
        'relatum = 1\n[table.t]\nsource = "t.csv"\n[measure.v]\nformula = "sum(t.n)"\n\n[limits]\n# few\ncells = 30\ntime = "10 min"\n'
    )
    model = relatum.open(tmp_path / "m.toml")
    assert model.pivot("t.a", values="v").to_arrow().num_rows == 5
    with pytest.raises(relatum.LimitError, match=r"40 combinations; the limit is 30"):
        model.pivot("t.b", values="v")
    assert len(model.members("t.b")) == 40, "a list of members has no cells"
    with relatum.limited(cells=50):
        assert model.pivot("t.b", values="v").to_arrow().num_rows == 40
    assert model.pivot("t.b", values="v", cell_limit=50).to_arrow().num_rows == 40
    model.limit(cells=45, memory="9 GB")
    assert model.pivot("t.b", values="v").to_arrow().num_rows == 40
    other = relatum.open(tmp_path / "m.toml")
    assert {(each.setting, each.before, each.after) for each in other.compare(model).changes} == {
        ("limit cells", "30", "45"),
        ("limit memory", "", "9 GB"),
    }
    model.save(tmp_path / "m.toml")
    text = (tmp_path / "m.toml").read_text()
    assert '# few\ncells = 45\ntime = "10 min"\nmemory = "9 GB"\n' in text
    assert relatum.open(tmp_path / "m.toml").declaration == model.declaration
    assert run("pivot", tmp_path / "m.toml", "--rows", "t.b", "--values", "v", "--limit-cells", "10").exit_code == 2
    refused = run("edit", tmp_path / "m.toml", "measure", "w", "1", "--limit-rows", "3")
    assert refused.exit_code == 2 and "has 40 rows; the limit is 3 (rows of a table)" in refused.stderr
    (tmp_path / "m.toml").write_text(text.replace("cells = 45", "rows = 39"))
    with pytest.raises(
        relatum.LimitError,
        match=r"has 40 rows; the limit is 39 \(rows of a table\)\.\nRaise it: rows = NUMBER under \[limits\] in the model, or --limit-rows",
    ):
        relatum.open(tmp_path / "m.toml")


def test_what_would_not_fit_memory_is_refused_before_it_is_worked_out() -> None:
    model = relatum.Model()
    model.add_table("a", pa.table({"k": range(3000)}), key="k")
    model.add_table("b", pa.table({"k": range(3000)}), key="k")
    room = resident() + (150 << 20)  # other tests have left something in use
    with (
        relatum.limited(memory=room),
        pytest.raises(
            relatum.LimitError, match=r"Work on 9,000,000 members takes 343.3 MB of memory, .* in use; the limit is"
        ),
    ):
        model.evaluate("sum(count(a) + count(b) per (a.k, b.k))")
