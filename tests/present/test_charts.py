"""Charts: which one is drawn and why, what it contains, and what is refused."""

from __future__ import annotations

import math
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pytest
from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.figure import Figure

import relatum
from relatum.present.charts import choose
from relatum.present.charts.bars import lying
from relatum.present.charts.fonts import fonts_for
from relatum.present.charts.frame import frame_of
from relatum.present.sheet import sheet_of
from stall import run


def texts(figure: Figure) -> list[str]:
    """Everything written on a figure, axes and legend too."""
    FigureCanvasAgg(figure).draw()
    found = [each.get_text() for each in figure.texts]
    for plot in figure.axes:
        found += [each.get_text() for each in plot.texts]
        found += [
            each.get_text() for axis in (plot.xaxis, plot.yaxis) for each in axis.get_ticklabels() if each.get_visible()
        ]
        found += [plot.get_title(loc="left"), plot.xaxis.get_label_text(), plot.yaxis.get_label_text()]
    return [text for text in found if text]


def drawn_ticks(plot: Any) -> list[Any]:
    """The labels of the ticks that lie in view: the rest are not drawn."""
    found = []
    for axis in (plot.xaxis, plot.yaxis):
        low, high = sorted(axis.get_view_interval())
        ticks = zip(axis.get_majorticklocs(), axis.get_ticklabels(), strict=False)
        found += [label for place, label in ticks if low <= place <= high]
    return found


def overlapping(figure: Figure) -> list[tuple[str, str]]:
    """Labels on marks that cover each other."""
    canvas = FigureCanvasAgg(figure)
    canvas.draw()
    boxes = [
        (each.get_text(), each.get_window_extent(canvas.get_renderer()))
        for plot in figure.axes
        for each in plot.texts
        if each.get_text()
    ]
    return [
        (one, other)
        for at, (one, box) in enumerate(boxes)
        for other, second in boxes[:at]
        if box.shrunk(0.8, 0.6).overlaps(second.shrunk(0.8, 0.6))
    ]


CHOSEN = [
    ({"rows": "category.category", "values": "revenue"}, "bars", "members are compared"),
    ({"rows": "calendar.month", "values": "revenue"}, "lines", "Month is time"),
    ({"rows": "category.department", "columns": "calendar.quarter", "values": "revenue"}, "lines", "quarter is time"),
    (
        {"rows": "category.department", "columns": "calendar.year", "values": "share: share(revenue of column)"},
        "shares",
        "share of a whole",
    ),
    (
        {"rows": "category.category", "columns": "calendar.month", "values": "revenue"},
        "panels",
        "would be hard to tell apart",
    ),
    (
        {"rows": "category.category", "columns": "customer.region", "values": "revenue"},
        "heat",
        "would be too many bars",
    ),
    (
        {"rows": "category.department", "columns": "product.pot_class", "values": "revenue"},
        "bars",
        "members are compared",
    ),
    ({"rows": "product.plant top 30", "values": "revenue, margin_rate"}, "points", "two values for 3"),
    ({"rows": "calendar.year, calendar.quarter", "values": "revenue"}, "bars", "starts again in each"),
    ({"columns": "category.category", "values": "revenue"}, "bars", "members are compared"),
]


@pytest.mark.parametrize(("asked", "kind", "reason"), CHOSEN)
def test_a_chart_is_chosen_by_sense_and_says_why(
    nursery: relatum.Model, asked: dict[str, Any], kind: str, reason: str
) -> None:
    grid = nursery.pivot(**asked)
    choice = grid.chart_choice()
    assert choice.kind == kind and reason in str(choice)
    assert isinstance(grid.chart(), Figure)


def test_every_kind_is_in_the_help_and_has_bounds() -> None:
    said = " ".join(run("pivot", "--help").stdout.split())
    assert f"The kind of picture: {', '.join(choose.KINDS)}." in said
    assert set(choose._LEGIBLE) == set(choose.KINDS)


KINDS = [
    ("bars", "category.department", "customer.kind"), ("stacked", "category.department", "customer.kind"), ("shares", "category.department", "customer.kind"),
    ("lines", "calendar.month", "category.department"), ("areas", "calendar.month", "category.department"), ("heat", "category.category", "customer.region"),
    ("panels", "calendar.month", "category.category"), ("ranked", "category.category", ()), ("table", "category.category", "calendar.month"),
    ("bars", "category.department, category.category", ()),
]  # fmt: skip


@pytest.mark.parametrize(
    ("kind", "rows", "columns", "mode"), [(*each, ("light", "dark")[at % 2]) for at, each in enumerate(KINDS)]
)
def test_every_chart_is_inside_its_figure_and_says_only_what_the_grid_says(
    nursery: relatum.Model, kind: str, rows: str, columns: Any, mode: str
) -> None:
    grid = nursery.pivot(rows, columns, "revenue scale thousands, quantity")
    figure = grid.chart(kind, mode=mode)
    canvas = FigureCanvasAgg(figure)
    canvas.draw()
    for plot in figure.axes:
        for text in [*plot.texts, *drawn_ticks(plot)]:
            if text.get_text() and text.get_visible():
                box = text.get_window_extent(canvas.get_renderer())
                assert (
                    box.x0 > -2 and box.y0 > -2 and box.x1 < figure.bbox.width + 2 and box.y1 < figure.bbox.height + 2
                ), text.get_text()
    known = {cell.text for line in sheet_of(grid.result).cells for cell in line}
    said = [
        text
        for text in texts(figure)
        if text.startswith("€") and any(text == each.get_text() for plot in figure.axes for each in plot.texts)
    ]
    assert set(said) <= known
    assert "revenue (thousands)" in texts(figure)
    assert len(overlapping(figure)) <= 1


def test_marks_are_as_long_as_the_numbers(nursery: relatum.Model) -> None:
    grid = nursery.pivot("category.category by revenue desc", values="revenue", where="calendar.year = 2024")
    numbers = [float(record["revenue"]) for record in grid.to_arrow().to_pylist()]
    bars = [patch.get_width() for patch in grid.chart("bars").axes[0].patches]
    assert bars == pytest.approx(numbers)
    ranked, line = grid.chart("ranked").axes
    assert [patch.get_height() for patch in ranked.patches] == pytest.approx(sorted(numbers, reverse=True))
    assert line.lines[0].get_ydata() == pytest.approx(np.cumsum(sorted(numbers, reverse=True)) / sum(numbers))
    wide = nursery.pivot(
        "category.department", "customer.kind", "revenue", "customer.kind is not null and not (category is no match)"
    )
    frame = frame_of(wide.result)
    along = "get_width" if lying(frame) else "get_height"
    shares = np.array(
        [[getattr(patch, along)() for patch in group] for group in wide.chart("shares").axes[0].containers]
    )
    assert np.nansum(shares, axis=0) == pytest.approx(np.ones(len(frame.categories)))
    stacked = wide.chart("stacked").axes[0].containers
    totals = [float(each) for each in wide.again(columns=()).to_arrow()["revenue"].to_pylist()]
    assert np.nansum([[getattr(patch, along)() for patch in group] for group in stacked], axis=0) == pytest.approx(
        totals
    )


def test_steps_lead_from_one_total_to_the_other(nursery: relatum.Model) -> None:
    grid = nursery.pivot("category.category", "calendar.year", "revenue scale thousands", "calendar.year >= 2023")
    figure = grid.chart("steps")
    bars = figure.axes[0].patches
    starts = [patch.get_x() for patch in bars]
    ends = [patch.get_x() + patch.get_width() for patch in bars]
    assert starts[0] == starts[-1] == 0
    assert starts[1:-1] == pytest.approx(ends[:-2]), "each step starts where the one before ends"
    assert ends[-2] == pytest.approx(ends[-1]), "and the last leads to the total"
    said = texts(figure)
    assert "2023" in said and "2024" in said and any(text.startswith("+€") for text in said)
    assert {"total", "up"} <= set(said) and ("down" in said) == any(text.startswith("−€") for text in said)
    explained = nursery.explain(
        "revenue", {"calendar.year": 2024}, against={"calendar.year": 2023}, along="category.category"
    )
    steps = explained.steps()
    assert steps.numbers[0] + sum(steps.numbers[1:-1]) == pytest.approx(steps.numbers[-1])


def test_negative_bars_are_hatched_and_told(nursery: relatum.Model) -> None:
    grid = nursery.pivot("category.department", values="less: revenue - 60000")
    plot = grid.chart("bars").axes[0]
    hatched = [patch.get_hatch() is not None for patch in plot.patches]
    assert (
        hatched == [patch.get_width() < 0 or patch.get_height() < 0 for patch in plot.patches]
        and any(hatched)
        and not all(hatched)
    )
    assert "negative" in texts(plot.figure)


def test_labels_targets_and_colours_are_other_values(nursery: relatum.Model) -> None:
    grid = nursery.pivot(
        "category.category",
        values="revenue scale thousands, share: share(revenue of total), target, margin_rate",
        where="calendar.year = 2024",
    )
    figure = grid.chart("bars", labels="{revenue} · {share}", target="target", colour="margin_rate")
    cells = sheet_of(grid.result).cells
    wanted = {f"{line[0].text} · {line[1].text}" for line in cells[:-1]}
    assert wanted <= set(texts(figure))
    assert any(text.startswith("target: target") for text in texts(figure)) and any(
        text.startswith("margin_rate ") for text in texts(figure)
    )
    faces = {patch.get_facecolor() for patch in figure.axes[0].patches}
    assert len(faces) > 5, "bars are coloured by their rates"


def test_a_member_has_one_colour_wherever_it_is_drawn(nursery: relatum.Model) -> None:
    few = nursery.pivot("calendar.year", "category.category", "revenue", "category.department = 'Perennials'")
    all_ = nursery.pivot(
        "calendar.year", "category.category", "revenue", "category.department in ('Perennials', 'Water')"
    )
    colours = [{each.name: each.paint.light for each in frame_of(grid.result).series} for grid in (few, all_)]
    assert all(colours[1][name] == colour for name, colour in colours[0].items())
    assert colours[0]["Ferns"] == "#2f6b3a", "the model says so"
    assert len(set(colours[1].values())) == len(colours[1])


REFUSED = [
    ({"values": "revenue"}, None, {}, "the grid has only one cell"), ({"rows": "category.category", "values": "max(sales.sold_on)"}, None, {}, "No value in the grid is a number"),
    ({"rows": "product.plant", "values": "revenue"}, "bars", {}, "top 20 with others"), ({"rows": "category.category", "values": "revenue"}, "pie", {}, "Unknown chart pie"),
    ({"rows": "category.category", "values": "revenue"}, "points", {}, "points needs two values"), ({"rows": "category.category", "values": "revenue"}, "steps", {}, "steps compares two members"),
    ({"rows": "category.category", "columns": "calendar.year", "values": "revenue"}, "ranked", {}, "Leave out the columns"),
    ({"rows": "category.category", "values": "revenue"}, "bars", {"value": "margin"}, "Unknown value margin"), ({"rows": "category.category", "values": "revenue"}, "bars", {"labels": "x"}, "do not name a value"),
    ({"rows": "category.category", "values": "revenue"}, "bars", {"hue": "x"}, "Unknown chart option hue"), ({"rows": "category.category", "values": "revenue"}, "bars", {"mode": "grey"}, "light or dark"),
    ({"rows": "category.category", "values": "revenue"}, "bars", {"size": (0, 5)}, "1 to 100 inches"),
]  # fmt: skip


@pytest.mark.parametrize(("asked", "kind", "options", "reason"), REFUSED)
def test_what_cannot_be_drawn_is_refused(
    nursery: relatum.Model, asked: dict[str, Any], kind: str | None, options: dict[str, Any], reason: str
) -> None:
    with pytest.raises(relatum.RequestError) as error:
        nursery.pivot(**asked).chart(kind, **options)
    assert reason in str(error.value)


def test_totals_are_left_out_and_others_are_not(nursery: relatum.Model) -> None:
    frame = frame_of(nursery.pivot("category.department, category.category top 1 with others", values="revenue").result)
    names = [each.labels for each in frame.categories]
    assert ("Edibles", "others") in names and not any("total" in labels for labels in names)
    assert not any(math.isnan(number) for number in frame.series[0].numbers)


def test_fonts_hold_every_sign_or_a_note_says_which_are_missing(tmp_path: Path) -> None:
    fonts, note = fonts_for(["Gärten", "Ωμέγα", "сад", "حديقة"], "")
    assert fonts == ["DejaVu Sans"] and note == ""
    fonts, note = fonts_for(["庭"], "No such font")
    assert "庭" and ("Cjk" in note or len(fonts) > 1)
    model = relatum.Model("m")
    model.add_table("sales", pa.table({"product": ["𒀀𒀁", "fig"], "worth": [1, 2]}))
    grid = model.pivot("sales.product", values="w: sum(sales.worth)")
    assert grid.save(tmp_path / "c.png", chart="bars").endswith(
        "no font on this machine has the characters of Cuneiform"
    )
    with pytest.warns(UserWarning, match="missing from font"):
        said = texts(grid.chart("bars"))
    assert "no font on this machine has the characters of Cuneiform" in " ".join(said)


@pytest.mark.parametrize(("ending", "start"), [(".png", b"\x89PNG"), (".svg", b"<?xml"), (".pdf", b"%PDF")])
def test_in_the_shell_a_picture_tells_what_it_is(hollowmere: Path, tmp_path: Path, ending: str, start: bytes) -> None:
    out = [tmp_path / f"{name}{ending}" for name in "ab"]
    for path in out:
        result = run(
            "pivot",
            hollowmere,
            "--rows",
            "category.department",
            "--columns",
            "calendar.year",
            "--values",
            "revenue",
            "--out",
            path,
        )
        assert result.exit_code == 0, result.stderr
        assert (
            f"wrote {path}: chart bars: there are too few Year for a line" in result.stderr
            or "chart lines: Year is time" in result.stderr
        )
    assert out[0].read_bytes().startswith(start) and out[0].read_bytes() == out[1].read_bytes(), (
        "the same picture each time"
    )
    named = run(
        "pivot",
        hollowmere,
        "targets",
        "--out",
        out[0],
        "--chart",
        "bars",
        "--target",
        "target",
        "--labels",
        "{attainment}",
        "--colour",
        "attainment",
    )
    assert named.exit_code == 0 and "chart bars: as asked" in named.stderr
    wrong = run("pivot", hollowmere, "targets", "--out", out[0], "--chart", "tower")
    assert wrong.exit_code == 2 and "Unknown chart tower" in wrong.stderr
