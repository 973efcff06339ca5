"""Style rules, themes and colours: what a cell looks like, the same in every output, and readable for everyone."""

from __future__ import annotations

import itertools
import re
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pytest
from rich.console import Console

import relatum
from relatum.model.colours import contrast, text_on
from relatum.model.looks import ThemeColours
from relatum.present.looks import Look
from relatum.present.paint import DARK, LIGHT, mixed
from relatum.present.sheet import sheet_of
from relatum.present.text import print_grid
from stall import make_stall, run


def looks(grid: relatum.Grid) -> list[list[Look]]:
    return [[cell.look for cell in line] for line in sheet_of(grid.result).cells]


def marks(grid: relatum.Grid) -> list[str]:
    return [
        " ".join(filter(None, (cell.look.mark, cell.text))) for line in sheet_of(grid.result).cells for cell in line
    ]


@pytest.fixture
def stall() -> relatum.Model:
    model = relatum.Model("stall")
    model.add_table("sales", pa.table({"product": ["fig", "fig", "ivy", "yew"], "year": [2023, 2024, 2023, 2024],
                                       "worth": [10, 20, -5, 7]}))  # fmt: skip
    model.measure("worth", "sum(sales.worth)")
    return model


RULES: list[tuple[dict[str, Any], list[str]]] = [
    ({"value": "worth", "when": "worth < 0", "mark": "▼"}, ["30", "▼ −5", "7", "32"]),
    ({"when": "worth > 6", "mark": "▲"}, ["▲ 30", "−5", "▲ 7", "▲ 32"]),
    ({"value": "worth", "when": "share(worth of total) > 0.5", "mark": "!"}, ["! 30", "−5", "7", "! 32"]),
    ({"value": "worth", "when": "worth[pin sales.year = 2024] is null", "mark": "?"}, ["30", "? −5", "7", "32"]),
    ({"value": "worth", "mark": "*"}, ["* 30", "* −5", "* 7", "* 32"]),
]


@pytest.mark.parametrize(("rule", "shown"), RULES)
def test_a_condition_is_worked_out_in_the_cell(stall: relatum.Model, rule: dict[str, Any], shown: list[str]) -> None:
    grid = stall.pivot("sales.product", values="worth", style=[rule])
    assert marks(grid) == shown
    assert grid.to_arrow(totals=True).num_rows == 4, "a condition shows no cell of its own"


def test_a_label_of_a_value_stands_for_its_formula(stall: relatum.Model) -> None:
    rule = {"value": "part", "when": "part >= 0.5", "mark": "▲"}
    grid = stall.pivot("sales.product", values="worth, part: share(worth of total)", style=[rule])
    assert marks(grid) == ["30", "▲ 93.8%", "−5", "−15.6%", "7", "21.9%", "32", "▲ 100.0%"]


def test_a_condition_shows_no_member_that_the_values_do_not(stall: relatum.Model) -> None:
    stall.add_table("kind", pa.table({"product": ["fig", "oak"], "kind": ["tree", "tree"]}), key="product")
    stall.relate("sales.product -> kind.product")
    plain = stall.pivot("kind.product", values="worth")
    styled = plain.again(style=[{"when": "coalesce(worth, 0) = 0 or count(kind) > 0", "mark": "o"}])
    assert styled.to_arrow().to_pylist() == plain.to_arrow().to_pylist()


REFUSED: list[tuple[dict[str, Any], str]] = [
    ({"when": "worth", "mark": "x"}, "which is integer and not a condition"), ({"when": "wort < 1", "mark": "x"}, "Did you mean worth"),
    ({"when": "worth < 0"}, "The rule sets no style"), ({"colour": "reddish"}, "'reddish', which is not a colour"),
    ({"mark": "long"}, "longer than two"), ({"bar": True, "when": "worth < 0"}, "take no condition"),
    ({"shades": ["low"]}, "two or three colours"), ({"shades": ["low", "high"], "between": [1]}, "a number for each colour"),
    ({"shades": ["low", "high"], "between": [2, 1]}, "must increase"), ({"field": "sales.product", "bar": True}, "so they need a value"),
    ({"value": "worth", "field": "sales.product", "mark": "x"}, "a value or a field"), ({"members": ["fig"], "mark": "x"}, "needs a field"),
({"hue": "red"}, "Known keys: value, field, when"), ({"field": "sales.product", "when": "worth < 0", "members": ["fig"], "mark": "x"}, "not both"),
]  # fmt: skip


@pytest.mark.parametrize(("rule", "reason"), REFUSED)
def test_what_is_no_rule_is_refused(stall: relatum.Model, rule: dict[str, Any], reason: str) -> None:
    with pytest.raises(relatum.RelatumError) as error:
        stall.pivot("sales.product", values="worth", style=[rule])
    assert reason in str(error.value)


def test_rules_for_what_is_not_asked_are_noted(stall: relatum.Model) -> None:
    rules = [{"value": "other", "mark": "x"}, {"field": "sales.year", "mark": "x"}]
    grid = stall.pivot("sales.product", values="worth", style=rules)
    assert [note.text for note in grid.notes if note.kind == "style"] == [
        "A style applies to the value other, which is not in the request.", "A style applies to the field sales.year, which is not on an axis."]  # fmt: skip


def test_members_have_looks(stall: relatum.Model) -> None:
    stall.look("sales.product", style=[{"when": "worth < 10", "mark": "▼"}, {"members": ["fig"], "weight": "bold"}])
    grid = stall.pivot(
        "sales.product", "sales.year", "worth", style=[{"field": "sales.year", "members": [2024], "mark": "*"}]
    )
    sheet = sheet_of(grid.result)
    assert [line.labels[0].look.mark for line in sheet.rows] == ["", "▼", "▼", ""]
    assert [line.labels[0].look.bold for line in sheet.rows] == [True, None, None, None]
    assert [line.labels[0].look.mark for line in sheet.columns] == ["", "*", ""]
    legend = [told.text for told in sheet.legend]
    assert legend == ["product: worth < 10", "product: fig", "year: 2024"]


def test_bars_and_shades_lie_between_the_lowest_and_the_highest(stall: relatum.Model) -> None:
    grid = stall.pivot("sales.product", values="worth, again: sum(sales.worth)",
                       style=[{"value": "worth", "bar": True}, {"value": "again", "shades": ["#000000", "#ffffff"]}])  # fmt: skip
    cells = looks(grid)
    assert [line[0].bar for line in cells] == [(0.143, 1.0), (0.0, 0.143), (0.143, 0.343), None]
    fills = [line[1].fill for line in cells]
    assert fills[0] is not None and fills[0].light == "#ffffff" and fills[1] is not None and fills[1].light == "#000000"
    assert fills[3] is None, "a total is no part of the scale"
    assert cells[0][1].text_colour("light") == "#000000" and cells[1][1].text_colour("light") == "#ffffff"
    stated = stall.pivot(
        "sales.product", values="worth", style=[{"shades": ["low", "middle", "high"], "between": [0, 5, 10]}]
    )
    (told,) = sheet_of(stated.result).legend
    assert told.ends == ("0", "5", "10") and len(told.shades) == 3


def shown(grid: relatum.Grid, coloured: bool) -> str:
    system: Any = "truecolor" if coloured else None
    console = Console(
        width=90, color_system=system, force_terminal=coloured, markup=False, highlight=False, record=True
    )
    with console.capture() as captured:
        print_grid(grid.result, console)
    return captured.get()


def test_where_there_is_no_colour_marks_and_letters_stand_in(stall: relatum.Model) -> None:
    rules = [{"value": "worth", "when": "worth < 0", "colour": "bad"}, {"value": "worth", "when": "worth > 9", "fill": "#ffee00"},
             {"value": "s", "shades": ["low", "high"]}, {"value": "b", "bar": True}]  # fmt: skip
    grid = stall.pivot("sales.product", values="worth, s: sum(sales.worth), b: sum(sales.worth)", style=rules)
    plain = shown(grid, False)
    assert "b 30" in plain and "a −5" in plain and "E 30" in plain and "A −5" in plain and "█" in plain
    assert "a  worth < 0" in plain and "b  worth > 9" in plain and "s, low to high, A to E: −5 to 30" in plain
    coloured = shown(grid, True)
    assert (
        "a −5" not in coloured
        and "E 30" not in coloured
        and "\x1b[31m   −5" in coloured
        and "48;2;255;238;0m   30" in coloured
    )


def test_a_page_of_colours_is_legible() -> None:
    for colours in (LIGHT, DARK):
        for name in ("text", "null", "negative", "good", "bad", "notable", "faint", "accent"):
            for ground in (colours.page, colours.total):
                assert contrast(getattr(colours, name), ground) >= 4.5, f"{name} on {ground}"
        assert contrast(colours.head_text, colours.head) >= 4.5
        for shade in (colours.low, colours.middle, colours.high, *colours.series):
            assert contrast(text_on(shade), shade) >= 4.5
        for one, other in itertools.combinations((colours.low, colours.middle, colours.high), 2):
            for part in np.linspace(0, 1, 21):
                fill = mixed(one, other, float(part))
                assert contrast(text_on(fill), fill) >= 4.5


#: How reds and greens, greens, and blues are seen by eyes that lack a kind of cone (Machado, Oliveira, Fernandes: A
#: physiologically-based model for simulation of color vision deficiency, 2009; the full deficiency).
EYES = {
    "all cones": np.eye(3),
    "no long": np.array(
        [[0.152286, 1.052583, -0.204868], [0.114503, 0.786281, 0.099216], [-0.003882, -0.048116, 1.051998]]
    ),
    "no middle": np.array(
        [[0.367322, 0.860646, -0.227968], [0.280085, 0.672501, 0.047413], [-0.011820, 0.042940, 0.968881]]
    ),
    "no short": np.array(
        [[1.255528, -0.076749, -0.178779], [-0.078411, 0.930809, 0.147602], [0.004733, 0.691367, 0.303900]]
    ),
}


def seen(colour: str, eye: np.ndarray[Any, Any]) -> Any:
    """A colour in a perceptually uniform space (OKLab)."""
    parts = np.array([int(colour[at : at + 2], 16) / 255 for at in (1, 3, 5)])
    linear = np.where(parts <= 0.04045, parts / 12.92, ((parts + 0.055) / 1.055) ** 2.4)
    red, green, blue = np.clip(eye @ linear, 0, 1)
    cones = np.cbrt([0.4122214708 * red + 0.5363325363 * green + 0.0514459929 * blue,
                     0.2119034982 * red + 0.6806995451 * green + 0.1073969566 * blue,
                     0.0883024619 * red + 0.2817188376 * green + 0.6299787005 * blue])  # fmt: skip
    return np.array([[0.2104542553, 0.7936177850, -0.0040720468], [1.9779984951, -2.4285922050, 0.4505937099],
                     [0.0259040371, 0.7827717662, -0.8086757660]]) @ cones  # fmt: skip


@pytest.mark.parametrize("eye", EYES)
@pytest.mark.parametrize("colours", [LIGHT, DARK], ids=["light", "dark"])
def test_series_differ_to_every_eye(colours: ThemeColours, eye: str) -> None:
    places = [seen(each, EYES[eye]) for each in colours.series]
    assert min(float(np.linalg.norm(one - other)) for one, other in itertools.combinations(places, 2)) > 0.07
    for one, other in ((colours.good, colours.bad), (colours.low, colours.high)):
        assert one != other


THEMES = [
    ({"light": {"accent": "red"}}, "light.accent is 'red'"), ({"size": 99}, "size is 99"), ({"widths": {"a": 1}}, "The width of a is 1"),
    ({"font": "x;} body {"}, "A font name can contain"), ({"colour": "x"}, "Invalid theme"), ({"light": {"series": ["#12"]}}, "light.series"),
]  # fmt: skip


@pytest.mark.parametrize(("theme", "reason"), THEMES)
def test_what_is_no_theme_is_refused(stall: relatum.Model, theme: dict[str, Any], reason: str) -> None:
    before = stall.declaration
    with pytest.raises(relatum.ModelError) as error:
        stall.dress(theme)
    assert reason in str(error.value) and stall.declaration is before


def test_a_theme_is_in_the_file_or_beside_it(tmp_path: Path) -> None:
    (tmp_path / "sales.csv").write_text("product,worth\nfig,3\n")
    text = 'relatum = 1\ntheme = "house.toml"\n[table.sales]\nsource = "sales.csv"\n'
    (tmp_path / "m.toml").write_text(text)
    (tmp_path / "house.toml").write_text('font = "serif"\nwidths = { worth = 12 }\n[light]\naccent = "#7a1f5c"\n')
    model = relatum.open(tmp_path / "m.toml")
    assert model.declaration.theme.font == "serif"
    page = model.pivot("sales.product", values="worth: sum(sales.worth)").to_html()
    assert "--font:serif" in page and "--accent:#7a1f5c" in page
    model.save(tmp_path / "m.toml")
    assert 'theme = "house.toml"' in (tmp_path / "m.toml").read_text()
    model.dress({"font": "monospace"})
    model.save(tmp_path / "m.toml")
    assert relatum.open(tmp_path / "m.toml").declaration.theme.font == "monospace"
    for bad, reason in (
        ('"/etc/house.toml"', "outside the model's folder"),
        ('"gone.toml"', "no such file"),
        ("3", "it must be a table"),
    ):
        (tmp_path / "m.toml").write_text(text.replace('"house.toml"', bad))
        result = run("show", tmp_path / "m.toml")
        assert result.exit_code == 2 and reason in result.stderr


def test_looks_follow_new_names() -> None:
    model = make_stall()
    model.measure(
        "units",
        "sum(sales.quantity)",
        format={"scale": "thousands"},
        label="Units",
        style=[{"when": "units < 0", "mark": "▼"}],
    )
    model.look(
        "product.product", label="Plant", colours={"fig": "#112233"}, style=[{"when": "units > 2", "weight": "bold"}]
    )
    model.keep_pivot("kept", model.pivot("product.product", values="units",
                                         style=[{"field": "product.product", "when": "units > 1", "fill": "low"}]))  # fmt: skip
    model.add_report(
        "week", [{"pivot": "kept", "chart": "bars"}, {"figures": ["units"], "against": "pin product.product = 'fig'"}]
    )
    model.dress({"widths": {"product.product": 20, "units": 12}})
    for name, new in (("units", "pieces"), ("product", "plant"), ("kept", "saved")):
        model.rename(name, new)
    declaration = model.declaration
    assert declaration.measures["pieces"].style[0].when == "pieces < 0"
    assert declaration.tables["plant"].columns["product"].style[0].when == "pieces > 2"
    rule = declaration.pivots["saved"].style[0]
    assert (rule.field, rule.when) == ("plant.product", "pieces > 1")
    parts = declaration.reports["week"].part
    assert (
        parts[0].pivot == "saved"
        and parts[1].figures == ("pieces",)
        and parts[1].against == "pin plant.product = 'fig'"
    )
    assert dict(declaration.theme.widths) == {"plant.product": 20, "pieces": 12}
    model.remove("pieces", force=True)
    assert not model.declaration.reports and not model.declaration.pivots
    assert model.declaration.tables["plant"].columns["product"].style == ()


def test_the_demo_says_its_looks_in_the_file(hollowmere: Path) -> None:
    model = relatum.open(hollowmere)
    before = hollowmere.read_text()
    model.save(hollowmere)
    assert hollowmere.read_text() == before, "what is not changed is left as it stands"
    text = model.pivot(saved="targets").to_text(100)
    assert "▼  more than a tenth under target" in text and "▲  target reached" in text
    result = run("diff", hollowmere, hollowmere)
    assert result.exit_code == 0
    result = run(
        "pivot", hollowmere, "--rows", "category.department", "--values", "revenue", "--style", "value = revenue"
    )
    assert result.exit_code == 2 and "Invalid style" in result.stderr


CHECKED = [
    (
        'style = [{ when = "worht < 1", mark = "x" }]',
        "problem",
        "measure worth has a style that cannot be evaluated: .*Did you mean worth",
    ),
    (
        'style = [{ when = "worth < 1", colour = "#ffee00" }]',
        "remark",
        "measure worth shows #ffee00 on #ffffff, a contrast of only 1.2",
    ),
    ('[[report.r.part]]\nfigures = ["worht"]', "problem", "report r part 1 cannot be evaluated: .*Did you mean worth"),
    ('style = [{ when = "worth < 1", colour = "bad" }]', "", ""),
]


@pytest.mark.parametrize(("line", "severity", "text"), CHECKED)
def test_check_tells_what_cannot_be_asked_or_read(tmp_path: Path, line: str, severity: str, text: str) -> None:
    (tmp_path / "sales.csv").write_text("product,worth\nfig,3\n")
    (tmp_path / "m.toml").write_text(
        f'relatum = 1\n[table.sales]\nsource = "sales.csv"\n[measure.worth]\nformula = "sum(sales.worth)"\n{line}\n'
    )
    found = [
        (each.severity, f"{each.subject} {each.text}") for each in relatum.open(tmp_path / "m.toml").check().findings
    ]
    told = [(kind, said) for kind, said in found if "style" in said or "shows" in said or said.startswith("report")]
    assert [kind for kind, _ in told] == ([severity] if severity else [])
    assert all(re.match(text, said) for _, said in told)


def test_a_colour_that_cannot_be_read_on_its_fill_gives_way(stall: relatum.Model) -> None:
    for fill, colour, written in (
        ("#7fbcb8", "#a1203a", "#000000"),
        ("#ffffff", "#a1203a", "#a1203a"),
        ("#000000", "#111111", "#ffffff"),
    ):
        grid = stall.pivot(values="worth", style=[{"fill": fill, "colour": colour}])
        assert looks(grid)[0][0].text_colour("light") == written


def test_bars_are_for_numbers(stall: relatum.Model) -> None:
    with pytest.raises(relatum.RequestError, match="Bars and shades show numbers, but first is text"):
        stall.pivot("sales.year", values="first: min(sales.product)", style=[{"value": "first", "bar": True}])
    grid = stall.pivot("sales.year", values="first: min(sales.product), worth", style=[{"shades": ["low", "high"]}])
    assert [line[0].fill for line in looks(grid)] == [None] * 3 and looks(grid)[0][1].fill is not None


def test_a_comment_in_a_labelled_formula_stays_in_it(stall: relatum.Model) -> None:
    grid = stall.pivot(
        "sales.product", values={"part": "sum(sales.worth) -- all of it"}, style=[{"when": "part < 0", "mark": "▼"}]
    )
    assert marks(grid) == ["30", "▼ −5", "7", "32"]


def test_one_condition_serves_every_value(stall: relatum.Model) -> None:
    grid = stall.pivot("sales.product", values="worth, twice: worth * 2", style=[{"when": "worth < 0", "mark": "▼"}])
    assert marks(grid) == ["30", "60", "▼ −5", "▼ −10", "7", "14", "32", "64"]
    assert len(grid.result.cells[0].values) == 3, "it is worked out once"
