"""Comments that are only searched are never sorted, and what is found is the same as of sorted ones."""

from __future__ import annotations

import random
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.ipc as paipc
import pyarrow.parquet as pq
import pytest

import relatum
from relatum.data import columns, sorting
from relatum.session import reading

CHANCE = random.Random(3)
SPECIAL = {17: "", 18: "", 400: "late, late", 401: "late, late", 30: None, 31: None, 899: None}
NOTES = [SPECIAL.get(at, CHANCE.choice((f"{at} was late", f"{at} came in time%", f"ä{at}\\_"))) for at in range(900)]
LINES = [CHANCE.choice((*range(900), 1000, None)) for _ in range(3000)]
#: A condition on notes, and what it says in Python of a text that is there; of a missing one, what is true of it.
CONDITIONS: list[tuple[str, Any, bool]] = [
    ("note.said like '%late%'", lambda text: "late" in text, False),
    ("note.said not like '%late%'", lambda text: "late" not in text, False),
    ("note.said like '%late%late'", lambda text: text == "late, late", False),
    ("note.said is null", lambda text: False, True),
    ("note.said is not null", lambda text: True, False),
    ("length(note.said) > 9 or note.said is null", lambda text: len(text) > 9, True),
    ("note.said like '%\\_' or note.said like 'ä%'", lambda text: text.startswith("ä"), False),
]


def model_of(kind: str, folder: Path) -> relatum.Model:
    notes = pa.table({"id": range(900), "said": NOTES})
    match kind:
        case "frame":
            source: Any = notes
        case "parquet, few groups":
            pq.write_table(notes, folder / "note.parquet")
            source = folder / "note.parquet"
        case "parquet, many groups":
            pq.write_table(notes, folder / "note.parquet", row_group_size=100)
            source = folder / "note.parquet"
        case "arrow":
            with paipc.new_file(folder / "note.arrow", notes.schema) as writer:
                writer.write_table(notes)
            source = folder / "note.arrow"
        case _:
            raise AssertionError(kind)
    model = relatum.Model()
    model.add_table("note", source, key="id", columns={"words": {"heading": "said"}} if kind == "arrow" else {})
    model.add_table("line", pa.table({"note": LINES}))
    model.relate("line.note -> note.id")
    return model


ASKED = {
    "notes": "count(note)[where {}]",
    "lines": "count(line)[where {}]",
    "cases": "sum(case when {} then note.id else 0 end over note)",
}


def ask(model: relatum.Model, name: str) -> list[tuple[Any, ...]]:
    said = [condition.replace("note.said", name) for condition, _, _ in CONDITIONS]
    grids = [model.pivot(values={key: formula.format(each) for key, formula in ASKED.items()}) for each in said]
    return [tuple(grid.to_arrow().to_pylist()[0].values()) for grid in grids]


@pytest.fixture
def sorted_sizes(monkeypatch: pytest.MonkeyPatch) -> list[int]:
    """How many texts were sorted at once, where they were all notes."""
    monkeypatch.setattr(sorting, "_MANY", 100)
    sizes: list[int] = []
    own = columns.sorted_texts

    def seen(texts: Any) -> Any:
        sizes.extend([len(texts)] if len(texts) >= len(NOTES) else [])
        return own(texts)

    monkeypatch.setattr(columns, "sorted_texts", seen)
    return sizes


@pytest.mark.parametrize("kind", ["frame", "parquet, few groups", "parquet, many groups", "arrow"])
def test_what_is_searched_is_not_sorted(kind: str, tmp_path: Path, sorted_sizes: list[int]) -> None:
    model = model_of(kind, tmp_path)
    name = "note.words" if kind == "arrow" else "note.said"
    found = ask(model, name)
    assert not sorted_sizes
    for (condition, true_of, of_null), answer in zip(CONDITIONS, found, strict=True):
        passing = {at for at, text in enumerate(NOTES) if (of_null if text is None else true_of(text))}
        # A line without a note reads null there.
        lines = [line for line in LINES if (line in passing if line in range(900) else of_null)]
        assert answer == (len(passing), len(lines) or None, sum(passing)), condition
    grid = model.pivot(name, values={"notes": "count(note)"}, totals=False).to_arrow().to_pylist()
    assert sorted_sizes == [900]
    members = [*sorted({text for text in NOTES if text is not None}), None]
    assert [(row[name], row["notes"]) for row in grid] == [(text, NOTES.count(text)) for text in members]
    assert ask(model, name) == found
    assert model.session.data["note"].texts(name.removeprefix("note.")) is None


def test_the_cache_keeps_texts_as_they_are(
    tmp_path: Path, sorted_sizes: list[int], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(reading, "WORTH_BYTES", 0)
    pq.write_table(pa.table({"note": LINES}), tmp_path / "line.parquet")
    made = model_of("parquet, many groups", tmp_path)
    made.add_table("line", tmp_path / "line.parquet", replace=True)
    made.save(tmp_path / "m.toml")
    answers = [ask(relatum.open(tmp_path / "m.toml"), "note.said") for _ in range(2)]
    assert not sorted_sizes
    assert list(tmp_path.glob(".relatum/*-texts-*"))
    # Once somebody has asked for members, these are found in the cache.
    relatum.open(tmp_path / "m.toml").pivot("note.said", values={"notes": "count(note)"})
    answers.append(ask(relatum.open(tmp_path / "m.toml"), "note.said"))
    assert sorted_sizes == [900]
    assert answers == [ask(made, "note.said")] * 3


def test_a_condition_that_asks_for_order_too_sorts(sorted_sizes: list[int]) -> None:
    condition = "note.said like '%late%' or note.said > '5'"
    grid = model_of("frame", Path()).pivot(values={"n": f"count(note)[where {condition}]"})
    wanted = sum(text is not None and ("late" in text or text > "5") for text in NOTES)
    assert (grid.to_arrow().to_pylist(), sorted_sizes) == ([{"n": wanted}], [900])
