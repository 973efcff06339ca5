"""Random stars with random formulas: after renaming, saving, caching, refreshing or comparing, the numbers are the same."""

from __future__ import annotations

import random
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.parquet as pq
import pytest

import relatum
from agreement import REFUSED, build
from relatum.change.impact import Dependencies
from relatum.model.names import column_name, quoted, split_name
from relatum.session import reading
from stars import Case, random_case

NAMES = ["x", "New Name", "per", 'say "so"', "été", "Where", "sum", "among", "A.B", "zz top"]


def question(case: Case, model: relatum.Model, names: dict[str, str] | None = None) -> Any:
    """The case's grid as values alone; the formulas are measures of the model, so that names in them are followed."""
    names = names or {}
    rows = [names.get(name, name) for name in (column_name(*field) for field in case.fields)]
    values = {
        f"v{number}": quoted(names.get(f"asked_{number}", f"asked_{number}")) for number in range(len(case.formulas))
    }
    grid = model.pivot(rows=rows, values=values)
    table = grid.to_arrow(totals=True)
    return table.rename_columns([f"c{number}" for number in range(table.num_columns)])


def asked(case: Case) -> relatum.Model | None:
    """The star with its formulas as measures; None for a case that the engine refuses on purpose."""
    try:
        model = build(case.star)
        for number, formula in enumerate(case.formulas):
            model.measure(f"asked_{number}", formula)
        question(case, model)
    except relatum.RelatumError as error:
        assert any(reason in error.reason for reason in REFUSED), error
        return None
    return model


def value_of(model: relatum.Model, measure: str) -> Any:
    """A measure over all rows, or why it cannot be asked."""
    try:
        return model.evaluate(quoted(measure))
    except relatum.RelatumError as error:
        return error.reason


def things_of(model: relatum.Model) -> list[str]:
    declaration = model.declaration
    columns = [
        column_name(table, column) for table in declaration.tables for column in model.session.catalog.columns(table)
    ]
    return [*map(quoted, declaration.tables), *map(quoted, declaration.measures), *columns]


@pytest.mark.parametrize("seed", range(12))
def test_a_renamed_model_says_the_same(seed: int) -> None:
    chance = random.Random(seed)
    case = random_case(chance)
    model = asked(case)
    if model is None:
        return
    before = question(case, model)
    names: dict[str, str] = {}
    for _ in range(12):
        old = chance.choice(things_of(model))
        new = chance.choice(NAMES) + chance.choice(["", "1", " 2"])
        now = ".".join([*map(quoted, split_name(old)[:-1]), quoted(new)])
        try:
            model.rename(old, new)
        except relatum.ModelError as error:
            assert any(word in error.reason for word in ("already", "mean something else")), error
            continue
        # What a question names has moved with it: the whole name, or its table's part.
        original = {value: key for key, value in names.items()}
        names[original.get(old, old)] = now
        for column in [column_name(*field) for field in case.fields] + [
            f"asked_{n}" for n in range(len(case.formulas))
        ]:
            current = split_name(names.get(column, column))
            if len(current) == 2 and split_name(old) == (current[0],):
                names[column] = column_name(new, current[1])
            elif current == split_name(old):
                names[column] = now
    spelled = {name: value if len(split_name(value)) > 1 else split_name(value)[0] for name, value in names.items()}
    assert question(case, model, spelled) == before


def write_star(case: Case, model: relatum.Model, folder: Path) -> Path:
    """The case's model as a file, its tables as Parquet."""
    declaration = model.declaration
    for name, table in declaration.tables.items():
        data = model.session.data[name]
        frame = model._state.where().frames[name]
        assert data.rows == len(frame)  # type: ignore[arg-type]
        pq.write_table(frame, folder / f"{name}.parquet")
        model.add_table(name, folder / f"{name}.parquet", key=table.key, calendar=table.dated, replace=True)
    model.save(folder / "star.toml")
    return folder / "star.toml"


@pytest.mark.parametrize("seed", range(100, 107))
def test_saved_cached_and_refreshed_it_says_the_same(
    seed: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(reading, "WORTH_BYTES", 1)
    monkeypatch.setattr("relatum.session.cache._WORTH_ROWS", 1)
    chance = random.Random(seed)
    case = random_case(chance)
    model = asked(case)
    if model is None:
        return
    before = question(case, model)
    file = write_star(case, model, tmp_path)
    for _ in range(2):
        assert question(case, relatum.open(file)) == before
    assert question(case, relatum.open(file, cache=False)) == before
    live = relatum.open(file)
    # Sales are said again in another order, and some twice: a live model and a fresh one agree.
    sales = pq.read_table(tmp_path / "sales.parquet")
    rows = [chance.randrange(len(sales)) for _ in range(len(sales) + 2)]
    pq.write_table(sales.take(pa.array(rows)), tmp_path / "sales.parquet")
    assert live.refresh().ok
    fresh = relatum.open(file)
    assert live.session.data["sales"].rows == len(rows)
    compared = live.compare(fresh)
    assert compared.same, compared.moved
    assert question(case, live) == question(case, fresh) == question(case, relatum.open(file, cache=False))


@pytest.mark.parametrize("seed", range(200, 206))
def test_what_impact_names_is_all_that_goes(seed: int) -> None:
    chance = random.Random(seed)
    case = random_case(chance)
    model = asked(case)
    if model is None:
        return
    values = {name: value_of(model, name) for name in model.declaration.measures}
    removable = [
        *map(quoted, model.declaration.tables), *map(quoted, model.declaration.measures), *map(str, model.declaration.relationships),
        *(column_name(table, column) for table, each in model.declaration.tables.items() for column in each.derived),
    ]  # fmt: skip
    name = chance.choice(removable)
    impact = model.impact(name)
    gone = model.remove(name, force=True)
    assert gone == impact.breaks
    broken = {split_name(each.name)[0] for each in gone if each.kind == "measure"}
    changed = {split_name(each.name)[0] for each in impact.changes if each.kind == "measure"}
    for measure in model.declaration.measures:
        assert measure not in broken
        if measure not in changed:
            # Nothing that bears on it is gone: over all rows it is what it was.
            assert value_of(model, measure) == values[measure], (name, measure)
    known = Dependencies(model.session)
    assert all(known.impact(each) for each in things_of(model)[:5])
