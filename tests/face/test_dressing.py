"""Looks as a part of the model: what refuses, what depends on what, what two models have differently, what a notebook shows."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

import pandas
import polars
import pyarrow as pa
import pytest

import relatum
from stall import run

BASE = """relatum = 1
[table.sales]
source = "sales.csv"
[table.kind]
source = "kind.csv"
key = "product"
[[relationship]]
link = "sales.product -> kind.product"
[measure.worth]
formula = "sum(sales.worth)"
[measure.pieces]
formula = "count(sales)"
[pivot.kinds]
rows = "kind.kind"
values = "worth"
"""


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    (tmp_path / "sales.csv").write_text("product,worth\nfig,3\nivy,-4\nyew,9\n")
    (tmp_path / "kind.csv").write_text("product,kind\nfig,tree\nivy,vine\nyew,tree\n")
    (tmp_path / "m.toml").write_text(BASE)
    return tmp_path


@pytest.fixture
def shop(folder: Path) -> relatum.Model:
    return relatum.open(folder / "m.toml")


LOOKS: list[tuple[str, tuple[Any, ...], dict[str, Any], str]] = [
    ("look", ("kind",), {}, r"Write table\.column"), ("look", ("kinds.kind",), {"label": "x"}, "no table kinds"),
    ("look", ("kind.kind",), {"colours": {"tree": "leaf"}}, "'leaf', which is not a colour"), ("look", ("kind.kind",), {"style": [{"bar": True, "when": "worth > 1"}]}, "take no condition"),
    ("look", ("kind.kind",), {"format": "never"}, "not a pattern"), ("dress", ({"light": 3},), {}, "Invalid theme"),
    ("dress", ("gone.toml",), {}, "no such file"), ("add_report", ("r", []), {}, "has no parts"), ("add_report", ("r", [{"txt": "a"}]), {}, "Invalid report"),
    ("add_report", ("r", [{"pivot": "kind"}]), {}, "Did you mean kinds"), ("add_report", ("r", [{"text": "a", "against": "back 1 year"}]), {}, "against applies only to figures"),
    ("report", ("week",), {}, "The model has no reports"), ("measure", ("m", "sum(sales.worth)"), {"format": {"scale": "dozens"}}, "scale is 'dozens'"),
    ("measure", ("m", "sum(sales.worth)"), {"format": {"wide": 3}}, "A format has no setting wide"), ("measure", ("m", "sum(sales.worth)"), {"style": [{"mark": "abc"}]}, "longer than two"),
    ("measure", ("m", "sum(sales.worth)"), {"format": {"format": "0.0", "duration": "hours"}}, "a duration uses"),
]  # fmt: skip


@pytest.mark.parametrize(("call", "arguments", "words", "reason"), LOOKS)
def test_what_cannot_be_is_refused_and_changes_nothing(
    shop: relatum.Model, call: str, arguments: Any, words: Any, reason: str
) -> None:
    before = shop.declaration
    with pytest.raises(relatum.RelatumError) as error:
        getattr(shop, call)(*arguments, **words)
    assert re.search(reason, str(error.value)), str(error.value)
    assert shop.declaration is before


CHANGES = [
    ('style = [{ when = "worth < 0", mark = "▼" }]\n', "[measure.pieces]", r"measure worth.*style.*worth < 0"),
    ('scale = "thousands"\n', "[measure.pieces]", r"measure worth.*scale.*thousands"),
    ('label = "Worth"\n', "[measure.pieces]", r"measure worth.*label.*Worth"),
    ('[theme]\nfont = "serif"\n', "[[relationship]]", r"theme font.*serif"),
    ('[theme.light]\naccent = "#123456"\n', "[[relationship]]", r"theme light.*accent.*#123456"),
    ('[table.kind.column.kind]\ncolours = { tree = "#123456" }\n', "[[relationship]]", r"changed column kind\.kind\s+colours.*tree.*#123456"),
    ('style = [{ value = "worth", bar = true }]\n', "", r"pivot kinds.*style.*bar = true"),
    ('[report.week]\n[[report.week.part]]\ntext = "x"\n', "", r"report week"),
]  # fmt: skip


@pytest.mark.parametrize(("line", "before", "told"), CHANGES)
def test_diff_tells_what_looks_otherwise(folder: Path, line: str, before: str, told: str) -> None:
    other = folder / "n.toml"
    other.write_text(BASE.replace(before, line + before, 1) if before else BASE + line)
    result = run("diff", folder / "m.toml", other)
    assert result.exit_code == 1, result.stderr
    assert re.search(told, " ".join(result.stdout.split())), result.stdout
    assert run("diff", other, other).exit_code == 0
    saved = relatum.open(other)
    saved.save(other)
    assert run("diff", other, folder / "m.toml").exit_code == 1
    assert relatum.open(other).declaration == saved.declaration, "a saved look is the same look"


def test_impact_knows_styles_and_reports(shop: relatum.Model) -> None:
    shop.measure("worth", "sum(sales.worth)", style=[{"when": "pieces > 1", "mark": "▲"}], replace=True)
    shop.look("kind.kind", style=[{"when": "pieces > 1", "weight": "bold"}])
    shop.add_report("week", [{"pivot": "kinds"}, {"figures": ["pieces"], "where": "kind.kind = 'tree'"}])
    found = {(each.kind, each.name) for each in shop.impact("pieces").breaks}
    figure = ("part", "2 of report week, figure 1")
    assert found == {("setting", "style of worth"), ("setting", "style of kind.kind"), figure}
    assert ("part", "1 of report week") in {(each.kind, each.name) for each in shop.impact("kinds").breaks}
    assert ("part", "2 of report week") in {(each.kind, each.name) for each in shop.impact("kind.kind").breaks}
    with pytest.raises(relatum.ModelError, match="is needed by"):
        shop.remove("pieces")
    shop.remove("pieces", force=True)
    assert shop.declaration.measures["worth"].style == ()
    assert [each.pivot for each in shop.declaration.reports["week"].part] == ["kinds"]  # the part of figures is gone
    assert shop.declaration.tables["kind"].columns["kind"].style == ()


def test_a_report_is_removed_by_its_name(shop: relatum.Model) -> None:
    shop.add_report("week", [{"text": "a"}])
    with pytest.raises(relatum.ModelError, match="A report has no name, so it cannot be renamed"):
        shop.rename("report week", "month")
    shop.remove("report week")
    assert not shop.declaration.reports


def test_a_notebook_shows_looks_in_both_modes(shop: relatum.Model) -> None:
    rules = [{"value": "worth", "when": "worth < 0", "mark": "▼", "colour": "bad"}, {"value": "worth", "when": "worth > 8", "fill": "#ffee00", "weight": "bold"},
             {"value": "b", "bar": True}, {"value": "s", "shades": ["low", "high"]}]  # fmt: skip
    html = shop.pivot(
        "sales.product", values="worth scale thousands format '#,##0.000', b: worth, s: worth", style=rules
    )._repr_html_()
    assert "worth (thousands)" in html
    assert re.search(r"color:#a1203a;color:light-dark\(#a1203a,#f29aa4\);[^>]*>▼ −0.004<", html)
    assert re.search(r"background-color:#ffee00;[^>]*font-weight:700;[^>]*>0.009<", html)
    assert re.search(
        r"linear-gradient\(90deg,transparent 30\.8%,#[0-9a-f]{6}66 30\.8%,#[0-9a-f]{6}66 53\.8%,transparent 53\.8%\)",
        html,
    )
    assert "s, low to high: −4 to 9" in html and "worth &lt; 0" in html


def test_an_explanation_is_in_full_where_the_grid_is_in_thousands(shop: relatum.Model) -> None:
    shop.measure(
        "worth", "sum(sales.worth)", format={"format": "#,##0.00", "scale": "thousands", "blank": "none"}, replace=True
    )
    assert "8.00" in str(shop.explain("worth")).splitlines()[1]
    assert shop.pivot(values="worth").to_text(60).splitlines()[-1].split()[-1] == "0.01"


ENDINGS = [".txt", ".md", ".html", ".xlsx", ".csv", ".json", ".parquet", ".arrow", ".png", ".svg", ".pdf"]


@pytest.mark.parametrize("ending", ENDINGS)
def test_a_file_that_cannot_be_written_says_so_and_leaves_what_was_there(folder: Path, ending: str) -> None:
    target = folder / f"x{ending}"
    target.mkdir()
    result = run("pivot", folder / "m.toml", "kinds", "--out", target)
    assert result.exit_code == 2 and result.stderr.startswith("error: ")
    assert list(folder.glob(".x*")) == [], "no part of it is left"
    good = folder / f"y{ending}"
    assert run("pivot", folder / "m.toml", "kinds", "--out", good).exit_code == 0
    first = good.read_bytes()
    assert run("pivot", folder / "m.toml", "kinds", "--out", good).exit_code == 0
    assert good.read_bytes() == first, "the same grid gives the same file"


def test_frames_of_any_library_are_dressed_alike() -> None:
    table = pa.table({"product": ["fig", "ivy"], "worth": [1500, 2500]})
    texts = set()
    for frame in (table, polars.DataFrame(table), pandas.DataFrame(table.to_pydict())):
        model = relatum.Model("m", locale="en_IN", currency="INR")
        model.add_table("sales", frame)
        texts.add(
            model.pivot(
                "sales.product", values="w: sum(sales.worth * 1000) format '¤#,##0' scale lakh digits 2"
            ).to_text(60)
        )
    (text,) = texts
    assert "w (lakh)" in text and "₹15" in text and "₹25" in text


def test_show_lists_reports(folder: Path, shop: relatum.Model) -> None:
    parts = [
        {"text": "Hello\nthere"},
        {"figures": ["worth"], "against": "pin kind.kind = 'tree'"},
        {"pivot": "kinds", "chart": "bars"},
        {"diagram": True},
    ]
    shop.add_report("week", parts, title="The week")
    shop.save(folder / "m.toml")
    lines = [line.rstrip().split(maxsplit=1) for line in run("show", folder / "m.toml").stdout.splitlines()]
    at = next(number for number, line in enumerate(lines) if line[:1] == ["report"])
    assert lines[at + 1] == ["week", "text Hello there"]
    assert [" ".join(line) for line in lines[at + 2 : at + 5]] == [
        "figures worth against pin kind.kind = 'tree'",
        "pivot kinds as chart bars and table",
        "the diagram",
    ]
