"""One request, one look: the same texts in a terminal, on a page, in a workbook, on marks of charts, in Markdown."""

from __future__ import annotations

import json
import random
import re
import subprocess
import xml.etree.ElementTree as xml
from decimal import Decimal
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest
from babel.numbers import get_decimal_symbol, get_group_symbol
from msgspec.structs import asdict

import hostile
import relatum
from relatum.data.arrow import python_values
from relatum.present.charts.frame import frame_of
from relatum.present.charts.options import mark_texts
from relatum.present.markdown import plain
from relatum.present.page.document import Asker, document
from relatum.present.pictures import drawable
from relatum.present.shapes import shape_of
from relatum.present.sheet import sheet_of, writers_of
from sheets import Book
from stall import run

WEB = Path(__file__).parents[2] / "web"
LOCALES = ("en", "en_GB", "de", "fr", "hi", "en_IN", "sv", "ar", "ja", "pt_BR", "pl", "de_CH")
PATTERNS = (
    "",
    "#,##0",
    "#,##0.00",
    "0.0#",
    "¤#,##0.00",
    "#,##0.0 ¤",
    "0.0%",
    "#,##0;(#,##0)",
    "0000",
    "¤#,##0;-¤#,##0",
    "0.000",
    "#,###,##0.0",
)
SCALES = ("", "", "", "thousands", "ten thousands", "lakh", "millions", "automatic")


def random_case(chance: random.Random) -> tuple[relatum.Model, str, list[dict[str, Any]]]:
    """A small model in some locale, a value in some format, and rules."""
    locale = chance.choice(LOCALES)
    model = relatum.Model("m", locale=locale, currency=chance.choice(["EUR", "USD", "INR", "SAR", "JPY"]))
    count = 12
    kind = chance.choice(["whole", "decimal", "float"])
    size = 10 ** chance.randint(0, 9)
    numbers: list[Any] = [chance.choice([0, None, chance.randint(-size, size)]) for _ in range(count)]
    if kind == "decimal":
        numbers = [None if each is None else Decimal(each).scaleb(-2) for each in numbers]
    if kind == "float":
        numbers = [None if each is None else each / chance.choice([1, 3, 7, 1000]) for each in numbers]
    types = {"whole": pa.int64(), "decimal": pa.decimal128(14, 2), "float": pa.float64()}
    members = [f"m{at % 4}" for at in range(count)]
    model.add_table(
        "t", pa.table({"a": members, "b": [f"k{at % 3}" for at in range(count)], "x": pa.array(numbers, types[kind])})
    )
    words = {"format": chance.choice(PATTERNS), "scale": chance.choice(SCALES), "digits": chance.choice([0, 0, 0, 2, 4]),
             "blank": chance.choice(["", "none"]), "zero": chance.choice(["", "", "nil"])}  # fmt: skip
    said = " ".join(f"{word} {text if isinstance(text, int) else repr(text)}" for word, text in words.items() if text)
    rules = [
        {"when": "v > 0", "mark": chance.choice("▲!*")},
        {"shades": ["low", "high"]},
        {"bar": True},
        {"when": "v < 0", "colour": "bad", "weight": "bold"},
    ]
    return model, f"v: {chance.choice(['sum', 'max', 'min'])}(t.x) {said}", chance.sample(rules, chance.randint(0, 2))


def test_every_medium_says_the_same(tmp_path: Path) -> None:
    asked, wanted = [], []
    for seed in range(25):
        model, value, rules = random_case(random.Random(seed))
        grid = model.pivot("t.a", "t.b", value, style=rules)
        sheet = sheet_of(grid.result)
        texts = [[f"{cell.look.mark} {cell.text}".strip() for cell in line] for line in sheet.cells]
        write = writers_of(grid.result)[0]
        if not any(cell.look.bar or cell.look.letter for line in sheet.cells for cell in line):
            lines = grid.to_text(400).splitlines()
            first = next(number for number, line in enumerate(lines) if re.match(r"m\d|total|\(null", line))
            for number, line in enumerate(texts):
                assert "".join(lines[first + number].split()[1:]) == "".join("".join(line).split()), (seed, value)
        given = document(grid.request, Asker(grid._questions.with_parts, grid._questions.members), [])
        page = given["grids"][given["first"]]
        marked = [
            text
            if not given["looks"][look] or not given["looks"][look]["mark"]
            else f"{given['looks'][look]['mark']} {text}"
            for at, text in enumerate(page["texts"])
            for look in [page["styled"].get(at, 0)]
        ]
        assert [text or "" for text in marked] == [text for line in texts for text in line], (seed, value)
        book = Book(
            grid._workbook(False),
            get_decimal_symbol(model.declaration.locale),
            get_group_symbol(model.declaration.locale),
        )
        rows = [line[1 : 1 + len(texts[0])] for line in book.rows("Grid")[3:]]
        assert rows == texts, (seed, value, model.declaration.locale)
        markdown = [
            [cell.strip().strip("*") for cell in line.split(" | ")[1:]]
            for line in grid.to_markdown().splitlines()
            if line.startswith(("| m", "| **"))
        ]
        for line, cells in zip(markdown, sheet.cells, strict=True):
            marks = [cell.look.mark or cell.look.letter for cell in cells]
            assert [cell.rstrip("| *") for cell in line] == [
                plain(f"{mark} {cell.text}" if mark else cell.text).rstrip("| *")
                for mark, cell in zip(marks, cells, strict=True)
            ]
        frame = frame_of(grid.result)
        for one, series in enumerate(frame.series):
            on_marks = mark_texts(frame, series, "")
            cells = [line[one] for line in sheet.cells[:-1]]
            assert list(on_marks) == [
                "" if cell.null or not cell.there else f"{cell.look.mark} {cell.text}".strip() for cell in cells
            ]
        shape = shape_of(write)
        column = grid.result.column_of(0)
        for number in python_values(column):
            if number is not None and shape is not None:
                exact = (
                    {"float": number}
                    if isinstance(number, float)
                    else {"digits": str(int(Decimal(number).scaleb(column.type.scale))), "scale": column.type.scale}
                )
                asked.append({**exact, "shape": asdict(shape)})
                wanted.append(write(number))
    assert len(wanted) > 250
    (tmp_path / "asked.json").write_text(json.dumps(asked))
    done = subprocess.run(
        ["node", str(WEB / "tools" / "written.mjs"), str(tmp_path / "asked.json")],
        capture_output=True,
        text=True,
        check=True,
    )
    wrong = [
        (one, other, what)
        for one, other, what in zip(json.loads(done.stdout), wanted, asked, strict=True)
        if one != other
    ]
    assert wrong == [], "the page writes numbers as the grid does"


def test_the_script_of_the_page_is_linted_tested_and_what_its_sources_give() -> None:
    for command in (
        ["node", "test.mjs"],
        ["node", "build.mjs", "--check"],
        ["npx", "--no-install", "eslint", "src", "test", "tools", "build.mjs", "test.mjs"],
        ["npx", "--no-install", "tsc", "-p", "."],
    ):
        done = subprocess.run(command, cwd=WEB, capture_output=True, text=True, stdin=subprocess.DEVNULL, timeout=120)
        assert done.returncode == 0, done.stdout + done.stderr
    shipped = (Path(relatum.__file__).parent / "present" / "page" / "LICENCES.txt").read_text()
    assert all(f"{name} " in shipped for name in ("chart.js", "@kurkle/color", "preact")) and shipped.count("MIT") >= 3


@pytest.mark.parametrize("text", hostile.TEXTS)
def test_a_hostile_text_is_a_text_in_every_file(tmp_path: Path, text: str) -> None:
    model = relatum.Model("m")
    model.add_table("t", pa.table({"a": [text, "fig"], "x": [1, 2]}))
    model.measure(
        "v", "sum(t.x)", about=text, label=text.strip(), style=[{"when": "v > 1", "mark": "<", "about": text}]
    )
    model.look("t.a", label=text)
    grid = model.pivot("t.a", values="v", where="t.x > 0")
    for ending in (".txt", ".md", ".html", ".xlsx", ".csv", ".json", ".parquet", ".arrow", ".png", ".svg", ".pdf"):
        grid.save(tmp_path / f"g{ending}", totals=True)
    book = Book((tmp_path / "g.xlsx").read_bytes())
    cells = [cell for page in book.book for line in page.iter_rows() for cell in line if cell.value is not None]
    # What XML has no place for is written by its code (ECMA-376, 22.9.2.19).
    values = [
        re.sub("_x([0-9A-Fa-f]{4})_", lambda found: chr(int(found[1], 16)), cell.value)
        for cell in cells
        if isinstance(cell.value, str)
    ]
    assert text in values and not [cell for cell in cells if cell.data_type == "f" or cell.hyperlink]
    page = (tmp_path / "g.html").read_text()
    assert page.count("<script") == 2 and page.count("</script>") == 2
    for element in xml.parse(tmp_path / "g.svg").iter():
        assert not element.tag.endswith(("}script", "}image", "}a")) and not [
            name for name in element.attrib if name.startswith("on")
        ]
    frame = frame_of(grid.result)
    drawn = [
        *(each.name for each in frame.categories),
        *(each.name for each in frame.series),
        *frame.fields,
        frame.heading(0),
    ]
    assert [drawable(each) for each in drawn] == drawn, (
        "a picture is turned around by no sign, and has marks for controls"
    )
    assert json.loads((tmp_path / "g.json").read_text())["records"][0]["t.a"] in (text, "fig")
    shown = grid._repr_html_()
    assert "<script" not in shown and "<img" not in shown and "<svg" not in shown
    model.keep_pivot("p", grid)
    model.add_report("r", [{"heading": text, "text": f"{text}\n\n[x](javascript:1) ![y](http://127.0.0.1/y.png)"}, {"pivot": "p", "chart": "bars"}, {"figures": ["v"]}],
                     title=text, about=text)  # fmt: skip
    report = model.report("r").text
    assert (
        "<script" not in report
        and "<img" not in report
        and 'href="javascript' not in report
        and "onload=" not in report.replace("&lt;svg onload=", "")
    )


@pytest.mark.parametrize(
    ("against", "said"),
    [("back 1 year", "the year before"), ("Back 2 months", "2 months before"), ("back 1 fiscal_year", "the fiscal year before"), ("ignoring calendar", "(ignoring calendar)")],
)  # fmt: skip
def test_a_figure_says_what_it_is_compared_with(hollowmere: Path, against: str, said: str) -> None:
    model = relatum.open(hollowmere)
    model.add_report("compared", [{"figures": ["revenue"], "against": against, "where": "calendar.month = '2024-05'"}])
    assert f"{said}</dd>" in model.report("compared").text


def test_a_report_has_its_parts_and_prints(hollowmere: Path, nursery: relatum.Model, tmp_path: Path) -> None:
    out = tmp_path / "year.html"
    result = run("report", hollowmere, "year", "--out", out)
    assert result.exit_code == 0, result.stderr
    text = out.read_text()
    now, before = (nursery.evaluate("revenue", where=f"calendar.year = {year}") for year in (2024, 2023))
    assert f"€{round(now / 1000):,}" in text and f"({100 * (now / before - 1):+.1f}%)".replace("-", "−") in text
    assert text.count("the year before</dd>") == 5
    for heading in (
        "Hollowmere in 2024",
        "Where the change came from",
        "Departments",
        "Through the seasons",
        "Against the targets",
        "How to read this",
    ):
        assert heading in text
    assert text.count("<figure") == 3 and text.count("<table") == 2 and "<strong>same months</strong>" in text
    assert "@page" in text and "<script" not in text and "default-src 'none'" in text
    single = tmp_path / "one.toml"
    single.write_text(
        'title = "One"\n[[part]]\ndiagram = true\n[[part]]\npivot = "departments"\nwhere = "calendar.year = 2023"\nchart = "automatic"\ntable = false\n'
    )
    assert run("report", hollowmere, single, "--out", out).exit_code == 0
    assert "where calendar.year = 2023" in out.read_text() and 'id="table-sales"' in out.read_text()
    assert "<iframe sandbox" in nursery.report("year")._repr_html_()


REPORTS = [
    ("[[part]]\n", "has nothing"), ('[[part]]\ntext = "a"\npivot = "departments"\n', "has text and pivot"), ("title = 'x'\n", "has no parts"),
    ('[[part]]\npivot = "nothing"\n', "which does not exist"), ('[[part]]\npivot = "departments"\nchart = "tower"\n', "Part 1 of the report one: Unknown chart tower"),
    ('[[part]]\npivot = "departments"\ntable = false\n', "neither chart nor table"), ('[[part]]\nfigures = ["revenew"]\n', "Did you mean revenue"),
    ('[[part]]\ntext = "a"\nagainst = "back 1 year"\n', "against applies only to figures"), ('[[part]]\ncolour = "a"\n', "unknown"), ("[[part\n", "not TOML"),
]  # fmt: skip


@pytest.mark.parametrize(("text", "reason"), REPORTS)
def test_what_is_no_report_is_refused(hollowmere: Path, tmp_path: Path, text: str, reason: str) -> None:
    file = tmp_path / "one.toml"
    file.write_text(text)
    result = run("report", hollowmere, file, "--out", tmp_path / "x.html")
    assert result.exit_code == 2 and reason in result.stderr, result.stderr
    assert not (tmp_path / "x.html").exists()


def test_an_unknown_report_or_ending_is_refused(hollowmere: Path, tmp_path: Path) -> None:
    assert run("report", hollowmere, "yeer").stderr.count("Did you mean year") == 1
    assert "files ending in .pdf" in run("report", hollowmere, "year", "--out", tmp_path / "x.pdf").stderr
