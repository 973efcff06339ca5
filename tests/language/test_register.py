"""One record for a function, one class for a change: additions in one place work, and gaps are found."""

from __future__ import annotations

import re
import shutil
import subprocess
import sys
from decimal import Decimal
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pytest

import relatum
from postgres import Server
from relatum.data import vectors as v
from relatum.engine.memory import aggregates, kernels
from relatum.engine.memory.aggregates import AGGREGATE_KERNELS, Folded, Folds
from relatum.engine.memory.folds import Extreme
from relatum.engine.sql import scalars
from relatum.language import register, rules
from relatum.language.register import AGGREGATES, RANKINGS, SCALARS, AggregateFunction, refuse_missing
from relatum.language.rules import float_of

ROOT = Path(__file__).parents[2]


def add_range(patch: pytest.MonkeyPatch) -> None:
    """The whole of a new aggregate: its record, and its kernel for the memory engine."""

    def finish(given: Folds) -> v.Column:
        low, high, _ = given.folds
        assert isinstance(low, Extreme) and isinstance(high, Extreme)
        return v.finite((high.best - low.best) / 10.0**given.scale, np.asarray(given.folds[2].counts == 0))

    record = AggregateFunction(
        "extent", "extent", "extent(x)", "plain", float_of, "Greatest less smallest value.", merge="extreme"
    )
    patch.setitem(register.AGGREGATES, "extent", record)
    patch.setitem(aggregates.AGGREGATE_KERNELS, "extent", Folded((("min", 0), ("max", 0), ("count", 0)), finish))


def test_an_aggregate_added_in_one_place_works_everywhere(monkeypatch: pytest.MonkeyPatch) -> None:
    add_range(monkeypatch)
    model = relatum.Model()
    model.add_table("t", pa.table({"g": ["x", "x", "y"], "p": [1, 2, 2], "v": [1, 5, 7]}))
    model.measure("wide", "extent(t.v)")
    grid = model.pivot(rows="t.g", values="wide, n: extent(sum(t.v) per t.p), k: wide[keep t.p where wide >= 0]")
    lines = [tuple(record.values())[2:] for record in grid.to_arrow(totals=True).to_pylist()]
    assert lines == [(4.0, 4.0, 4.0), (0.0, 0.0, 0.0), (6.0, 11.0, 6.0)]
    with pytest.raises(relatum.FormulaError, match="extent"):
        model.evaluate("extent(distinct t.v)")


def added_by_recipe(patch: pytest.MonkeyPatch) -> None:
    """The function of the architecture's first recipe, added as the page says."""
    page = (ROOT / "docs" / "architecture.md").read_text(encoding="utf-8")
    names: dict[str, Any] = {
        **vars(register), "whole": rules.whole, "np": np, "Column": v.Column, "bigint": scalars.bigint, "call": scalars.call
    }  # fmt: skip
    exec(page.partition("**Add a function of one row or cell.**")[2].partition("```py\n")[2].partition("```")[0], names)
    patch.setitem(register.SCALARS, "sign", names["record"])
    patch.setitem(kernels.KERNELS, "sign", names["kernel"])
    patch.setitem(scalars.FORMS, "sign", names["form"])


@pytest.mark.parametrize("engine", ["memory", "duckdb", "postgresql"])
def test_a_function_added_by_the_recipe_works_on_every_engine(
    engine: str, server: Server, monkeypatch: pytest.MonkeyPatch
) -> None:
    added_by_recipe(monkeypatch)
    numbers = pa.array([Decimal("-2.5"), Decimal("0.0"), Decimal("7.0"), None], pa.decimal128(9, 1))
    with relatum.Model(engine=server.address if engine == "postgresql" else engine) as model:
        model.add_table("t", pa.table({"k": ["a", "b", "c", "d"], "x": numbers, "n": [-3, 0, 9, 9]}))
        grid = model.pivot("t.k", values="x: sum(sign(t.x)), n: sum(sign(t.n)), all: sign(sum(t.x))").to_arrow()
        assert [tuple(line.values()) for line in grid.to_pylist()] == [
            ("a", -1, -1, -1),
            ("b", 0, 0, 0),
            ("c", 1, 1, 1),
            ("d", None, 1, None),
        ]
    with pytest.raises(TypeError, match="differ in sign"):
        refuse_missing("SQL", [(SCALARS, {name: form for name, form in scalars.FORMS.items() if name != "sign"})])


def test_an_engine_that_lacks_a_kernel_says_so() -> None:
    short = {name: kernel for name, kernel in AGGREGATE_KERNELS.items() if name != "median"}
    with pytest.raises(TypeError, match="The memory engine and the register differ in median"):
        refuse_missing("memory", [(SCALARS, kernels.KERNELS), (AGGREGATES, short)])
    with pytest.raises(TypeError, match="differ in odd"):
        refuse_missing("memory", [(RANKINGS, {**RANKINGS, "odd": None})])


#: Where changes in square brackets are distinguished, and the handler that is removed there.
HANDLERS = [
    ("language/tree.py", "case ViaClause(side) | BothWaysClause(side):", "case ViaClause(side):"),
    ("language/resolve_changes.py", "            case PinEdgeClause(edge, name):\n                return PinEdge(edge, *reader.column(name), source)\n", ""),
    ("plan/context.py", "            case Only(targets):\n                context = _only(catalog, context, targets)\n", ""),
    ("calendar/moves.py", "        case Whole(unit):\n            return _whole(dates.units(unit), sets)\n", ""),
    ("audit/understood.py", "        case MoveDates():\n            return replace(around, moved=True)\n", ""),
    ("engine/memory/evaluate.py", "            case Nested():\n                return self._nested(node, cells)\n", ""),
]  # fmt: skip


def test_a_change_that_is_handled_nowhere_fails_the_type_check(tmp_path: Path) -> None:
    """Every handler taken out at once: the check names each place by itself."""
    texts: dict[str, str] = {}
    for name, handler, instead in HANDLERS:
        text = texts.get(name) or (ROOT / "src" / "relatum" / name).read_text()
        assert handler in text, name
        texts[name] = text.replace(handler, instead, 1)
    shadows = []
    for at, (name, text) in enumerate(texts.items()):
        (tmp_path / f"{at}.py").write_text(text)
        shadows += ["--shadow-file", f"src/relatum/{name}", str(tmp_path / f"{at}.py")]
    # What the type check of the project itself left makes this one quicker; it is not to be spoilt.
    if (ROOT / ".mypy_cache").exists():
        shutil.copytree(ROOT / ".mypy_cache", tmp_path / "cache")
    command = [sys.executable, "-m", "mypy", "--cache-dir", str(tmp_path / "cache"), *shadows]
    command += [f"src/relatum/{name}" for name in texts]
    found = subprocess.run(command, cwd=ROOT, capture_output=True, text=True, check=False).stdout
    missed = {
        name for name, _, _ in HANDLERS if not re.search(rf"{name}:\d+: error: Argument 1 to \"assert_never\"", found)
    }
    assert not missed, found
