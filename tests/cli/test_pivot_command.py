"""``relatum pivot``: its output in the terminal and in files."""

from __future__ import annotations

import csv
import io
import json
from pathlib import Path

import hypothesis.strategies as st
import pyarrow as pa
import pyarrow.ipc as paipc
import pyarrow.parquet as pq
import pytest
from hypothesis import given, settings
from rich.cells import cell_len

import relatum
from stall import run

ASKED = ("--rows", "product.plant", "--columns", "calendar.year", "--values", "revenue, orders")


@pytest.mark.parametrize("totals", [False, True])
@pytest.mark.parametrize("kind", ["csv", "json", "parquet", "arrow"])
def test_a_file_holds_the_whole_tidy_grid(hollowmere: Path, tmp_path: Path, kind: str, totals: bool) -> None:
    out = tmp_path / f"grid.{kind}"
    result = run("pivot", hollowmere, *ASKED, "--out", out, *(["--totals"] if totals else []))
    assert (result.exit_code, result.stdout) == (0, "")
    assert f"wrote {out}" in result.stderr
    model = relatum.open(hollowmere)
    tidy = model.pivot("product.plant", "calendar.year", "revenue, orders", totals=totals).to_arrow(totals)
    if kind == "parquet":
        assert pq.read_table(out) == tidy
    elif kind == "arrow":
        assert paipc.open_file(out).read_all() == tidy
    elif kind == "csv":
        rows = list(csv.reader(io.StringIO(out.read_text())))
        assert rows[0] == tidy.column_names and len(rows) == tidy.num_rows + 1
    else:
        records = json.loads(out.read_text())["records"]
        assert [each["orders"] for each in records] == tidy["orders"].to_pylist()
    if kind != "json":
        assert "note: " in result.stderr, "a table of values has no place for notes"


def test_text_in_a_file_is_whole_and_in_the_terminal_limited(hollowmere: Path, tmp_path: Path) -> None:
    out = tmp_path / "grid.txt"
    assert run("pivot", hollowmere, *ASKED, "-o", out).exit_code == 0
    whole = out.read_text()
    plants = set(relatum.open(hollowmere).session.store.members("product", "plant").values.dictionary.to_pylist())
    sold = {line.split("  ")[0].strip() for line in whole.splitlines()}
    assert len(plants & sold) > 180 and "not shown" not in whole
    shown = run("pivot", hollowmere, *ASKED, "--limit", "12", width=120).stdout
    assert f"{len(plants & sold) + 2 - 12} of {len(plants & sold) + 2} rows not shown" in shown
    assert shown.splitlines()[-3].startswith("total"), "the grand total stays"
    assert run("pivot", hollowmere, *ASKED, "--limit", "0").exit_code == 2


def test_notes_are_told_the_worst_few_or_all(hollowmere: Path) -> None:
    asked = ("pivot", hollowmere, "--rows", "customer.region", "--values", "revenue, target, revenue[keep top 2 customer by revenue]",
             "--where", "customer.region in ('Nroth', 'North') and product.plant <> 'Ivy'")  # fmt: skip
    few, every = (
        run(*asked, width=300).stdout.splitlines(),
        run(*asked, "--notes", "all", width=300).stdout.splitlines(),
    )
    told = [line for line in every if line.startswith("note: ")]
    assert len(told) > 3 and [line for line in few if line.startswith("note: ")] == told[:3]
    assert told[0].startswith("note: No row of customer has customer.region = 'Nroth'; the nearest: 'North'")
    assert (
        few[-1] == f"{len(told) - 3} more notes: --notes all shows them"
        if len(told) > 4
        else few[-1].startswith("1 more note:")
    )


KINDS = [
    ("grid.ods", "Known endings: .csv, .json, .parquet, .arrow, .txt, .md, .xlsx, .html, .png, .svg, .pdf"),
    ("grid", "ending in nothing"),
    ("gone/grid.csv", "cannot be written"),
    ("grid.docx", "ending in .docx"),
]


@pytest.mark.parametrize(("name", "said"), KINDS)
def test_other_files_are_refused(hollowmere: Path, tmp_path: Path, name: str, said: str) -> None:
    result = run("pivot", hollowmere, "--values", "revenue", "--out", tmp_path / name)
    assert result.exit_code == 2 and said in result.stderr
    assert list(tmp_path.iterdir()) == []


def test_a_measure_is_shown_down_to_its_columns(hollowmere: Path) -> None:
    lines = [
        line.split() for line in run("show", hollowmere, "attainment", width=120).stdout.splitlines() if line.strip()
    ]
    assert [line[0] for line in lines[1:]][:4] == ["attainment", "Revenue", "revenue", "sales.quantity"]
    document = json.loads(run("show", hollowmere, "margin_rate", "--format", "json").stdout)
    parts = document["measures"][0]["parts"]
    assert [(each["depth"], each["name"], each["again"]) for each in parts][:3] == [
        (1, "margin", False),
        (2, "net_revenue", False),
        (3, "sales.quantity", False),
    ]
    assert [each["name"] for each in parts if each["again"] and each["formula"]] == ["net_revenue"]


def test_many_to_many_stands_under_neutral_heads(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("k,n\n1,2\n")
    (tmp_path / "b.csv").write_text("k,m\n1,2\n1,3\n")
    (tmp_path / "m.toml").write_text(
        'relatum = 1\n[table.a]\nsource = "a.csv"\n[table.b]\nsource = "b.csv"\n[[relationship]]\nlink = "a.k >-< b.k"\ndirection = "both"\n'
    )
    text = run("show", tmp_path / "m.toml", width=120).stdout
    assert "one side" not in text and "one table" in text and "the other" in text


@settings(max_examples=60, deadline=None)
@given(
    heads=st.lists(
        st.sampled_from(["The department of things", "苗木と種子の部門", "k", "é" * 40]), min_size=1, max_size=4
    ),
    amounts=st.lists(st.integers(-(10**15), 10**15), min_size=1, max_size=4),
    width=st.integers(20, 200),
    label=st.sampled_from(["n", "a label that goes on and on and on and on"]),
)
def test_a_value_is_never_cut(heads: list[str], amounts: list[int], width: int, label: str) -> None:
    """Names give way, their ends standing; the line is longer than the terminal only where nothing is left to give."""
    frame = {f"c{at}": [f"{head} {row}" for row in range(len(amounts))] for at, head in enumerate(heads)}
    model = relatum.Model()
    model.add_table("sales", pa.table({**frame, "q": amounts}))
    grid = model.pivot(rows=[f"sales.{name}" for name in frame], values={label: "sum(sales.q)"})
    lines = grid.to_text(width).splitlines()
    body = lines[next(at for at, line in enumerate(lines) if line == "no filters") + 2 :]
    for row, amount in enumerate(amounts):
        assert any(line.endswith(f"{amount:,}".replace("-", "−")) and str(row) in line for line in body)
    least = (7 + 2) * len(heads) + 24
    assert all(cell_len(line) <= max(width, least) for line in body)
