"""Roles with labels, moments that find a calendar's dates, and texts that no row holds."""

from __future__ import annotations

from datetime import date, datetime, timedelta
from pathlib import Path

import pyarrow as pa
import pyarrow.csv as pacsv
import pyarrow.parquet as pq
import pytest

import relatum


def voyages(moments: bool) -> relatum.Model:
    """Voyages between harbours, dated by day or by moment."""
    days = [date(2023, 1, 1) + timedelta(days=7 * n) for n in range(100)]
    when = [datetime(d.year, d.month, d.day, n % 24, 59, 59) for n, d in enumerate(days)] if moments else days
    model = relatum.Model("voyages")
    model.add_table("voyage", pa.table({
        "origin": ["A" if n % 3 else "B" for n in range(100)], "destination": ["B" if n % 2 else "C" for n in range(100)],
        "left_at": when, "crates": list(range(100))}))  # fmt: skip
    harbours = pa.table({"code": ["A", "B", "C"], "name": ["Alm", "Bro", "Cul"]})
    model.add_table("harbour", harbours, key="code", columns={"name": {"label": "Name"}})
    model.add_role("origin", "harbour", label="Origin")
    model.add_role("destination", "harbour", label="Destination", labels={"code": "Bound for"})
    model.add_calendar("calendar", date(2023, 1, 1), date(2024, 12, 31))
    for link in (
        "voyage.origin -> origin.code",
        "voyage.destination -> destination.code",
        "voyage.left_at -> calendar.date",
    ):
        model.relate(link)
    model.measure("crates", "sum(voyage.crates)")
    return model


def test_a_table_looked_up_in_its_roles_alone_is_a_lookup() -> None:
    kinds = {node.name: node.kind for node in voyages(False).diagram().graph.nodes}
    assert (kinds["harbour"], kinds["origin"], kinds["voyage"]) == ("lookup", "lookup", "fact")


def test_two_roles_on_one_axis_have_headings_of_their_own(tmp_path: Path) -> None:
    grid = voyages(False).pivot(["origin.name", "destination.name", "destination.code", "origin.code"], values="crates")
    assert [axis.label for axis in grid.result.axes] == ["Origin name", "Destination name", "Bound for", "Origin code"]
    assert str(grid).splitlines()[2].split("  ")[0] == "Origin name"


def test_renaming_a_roles_column_is_its_own() -> None:
    model = voyages(False)
    model.rename("destination.name", "Port of call")
    grid = model.pivot(["origin.name", "destination.name", "harbour.name"], values="count(harbour)")
    assert [axis.label for axis in grid.result.axes] == ["Origin name", "Port of call", "Name"]
    model.rename("harbour.name", "town")
    assert model.pivot("destination.town", values="crates").result.axes[0].label == "Port of call"


def test_a_role_keeps_its_labels_in_the_file(tmp_path: Path) -> None:
    (tmp_path / "harbour.csv").write_text("code,name\nA,Alm\n")
    (tmp_path / "m.toml").write_text("""relatum = 1
[table.harbour]
source = "harbour.csv"
key = "code"
[table.origin]
role_of = "harbour"
label = "From"
[table.origin.column.name]
label = "Where from"
""")
    model = relatum.open(tmp_path / "m.toml")
    grid = model.pivot("origin.name, origin.code", values="count(origin)")
    assert [axis.label for axis in grid.result.axes] == ["Where from", "From code"]
    model.save(tmp_path / "n.toml")
    assert relatum.open(tmp_path / "n.toml").declaration.tables == model.declaration.tables
    with pytest.raises(relatum.ModelError, match="only their own labels"):
        (tmp_path / "n.toml").write_text(
            (tmp_path / "n.toml").read_text().replace('Where from"', 'Where"\ntype = "text"')
        )
        relatum.open(tmp_path / "n.toml")


FORMULAS = ["crates", "crates[back 1 year]", "crates[year to date]", "crates[trailing 3 months]", "crates[pin last calendar.date]",
            "count(voyage)[where calendar.weekday = 'Sunday']", "avg(crates per calendar.month)", "max(calendar.date over voyage)"]  # fmt: skip


@pytest.mark.parametrize("formula", FORMULAS)
@pytest.mark.parametrize("rows", ["calendar.month", "calendar.year, origin.name", "destination.name"])
def test_a_moment_counts_as_its_day(formula: str, rows: str) -> None:
    grids = [voyages(moments).pivot(rows, values={"v": formula}).to_arrow(True) for moments in (False, True)]
    assert grids[0] == grids[1]


ABSENT = [
    ("origin.name = 'Amn'", ["No row of origin has origin.name = 'Amn'; the nearest: 'Alm' (1 row)."]),
    ("origin.name in ('Alm', 'bro', 'Zebra')", ["No row of origin has origin.name = 'bro'; the nearest: 'Bro' (1 row).", "No row of origin has origin.name = 'Zebra'."]),
    ("voyage.origin = 'a' and voyage.destination <> 'zz'", ["No row of voyage has voyage.origin = 'a'; the nearest: 'A' (66 rows)."]),
    ("origin.name = 'Alm'", []), ("origin.name in ('q1', 'q2', 'q3', 'q4', 'q5', 'q6', 'q7')", ["2 more texts of the list appear in no row of origin.name."]),
]  # fmt: skip


@pytest.mark.parametrize(("where", "said"), ABSENT)
@pytest.mark.parametrize("place", ["where", "bracket"])
def test_a_text_that_no_row_holds_is_noted(where: str, said: list[str], place: str) -> None:
    model = voyages(False)
    grid = (
        model.pivot(values="crates", where=where) if place == "where" else model.pivot(values=f"crates[where {where}]")
    )
    notes = [note.text for note in grid.notes if note.kind == "absent"]
    assert set(said) <= set(notes)
    assert bool(said) == bool(notes)


def test_a_note_about_a_missing_text_goes_once_a_row_holds_it(tmp_path: Path) -> None:
    file = tmp_path / "t.csv"
    model = relatum.Model()
    for names, said in (("elm\noak\nelm", ["No row of t has t.name = 'ash'."]), ("elm\nasp", ["; the nearest: 'asp' (1 row)."]),
                        ("elm\nash", []), ("elm\noak", ["No row of t has t.name = 'ash'."])):  # fmt: skip
        file.write_text(f"name\n{names}\n")
        if "t" in model.declaration.tables:
            model.refresh()
        else:
            model.add_table("t", file)
        for _ in range(2):
            notes = [
                note.text
                for note in model.pivot(values="count(t)", where="t.name = 'ash'").notes
                if note.kind == "absent"
            ]
            assert len(notes) == len(said) and all(note.endswith(end) for note, end in zip(notes, said, strict=True)), (
                names
            )


def test_a_whole_grid_is_written_as_its_ending_says(tmp_path: Path) -> None:
    model = relatum.Model()
    long = [f"member {n:04d} with a name that is longer than a terminal would like to show" for n in range(300)]
    model.add_table("t", pa.table({"name": long, "n": list(range(300)), "year": [1990.0 + n % 2 for n in range(300)]}))
    grid = model.pivot("t.name", "t.year", "n: sum(t.n)")
    for kind in ("csv", "json", "parquet", "arrow", "txt"):
        grid.save(tmp_path / f"g.{kind}", totals=True)
    whole = (tmp_path / "g.txt").read_text()
    assert long[250] in whole and "1990.0" not in whole and "…" not in whole
    tidy = grid.to_arrow(True)
    assert pq.read_table(tmp_path / "g.parquet") == tidy
    assert pa.ipc.open_file(tmp_path / "g.arrow").read_all() == tidy
    assert pacsv.read_csv(tmp_path / "g.csv").num_rows == tidy.num_rows
    assert (
        (tmp_path / "g.csv").read_text()
        == grid.to_csv(tmp_path / "h.csv", totals=True)
        == (tmp_path / "h.csv").read_text()
    )
    assert "101 of 301 rows not shown" in str(grid)


VALUES = [
    (["n: sum(t.n)", ("m", "max(t.n)")], ["n", "m"]), ({"a b": "sum(t.n)"}, ["a b"]), ("n: sum(t.n), max(t.n)", ["n", "max(t.n)"]),
    ([("a", "sum(t.n)"), ("b", "min(t.n)")], ["a", "b"]),
]  # fmt: skip


@pytest.mark.parametrize(("values", "labels"), VALUES)
def test_values_in_any_form(values: object, labels: list[str]) -> None:
    model = relatum.Model()
    model.add_table("t", pa.table({"n": [1]}))
    assert [value.label for value in model.pivot(values=values).result.values] == labels  # type: ignore[arg-type]


@pytest.mark.parametrize("values", [5, [5], [("a", "b", "c")], [None], [("a", 1)], {"a": 1}])
def test_values_in_no_form(values: object) -> None:
    model = relatum.Model()
    model.add_table("t", pa.table({"n": [1]}))
    with pytest.raises(relatum.RequestError, match="values of pivot is"):
        model.pivot(values=values)  # type: ignore[arg-type]


def test_notes_are_told_once_the_worst_first() -> None:
    model = voyages(False)
    model.add_table("note", pa.table({"n": [1]}))
    model.measure("other", "count(note)")
    values = [
        "crates",
        "crates[where origin.name = 'Nix']",
        "other",
        "crates[pin origin.name = 'Bar']",
        "crates[pin origin.name = 'Bir', back 1 year]",
    ]
    grid = model.pivot("destination.name", "calendar.month_of_year", values)
    kinds = [note.kind for note in grid.notes]
    assert kinds == ["absent", "absent", "absent", "unrelated", "unrelated", "period", "recurring"]
    assert str(grid).splitlines()[-1] == "4 more notes: grid.notes"
