"""The page, in a real browser: what a reader does with it, and what no text in it can do."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pyarrow as pa
import pytest
from selenium.webdriver.chrome.webdriver import WebDriver
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.keys import Keys

import hostile
import relatum
from browser import Opened, chromium
from relatum.present.sheet import nested, sheet_of
from stall import run

pytestmark = pytest.mark.xdist_group("browser")


@pytest.fixture(scope="module")
def driver(tmp_path_factory: pytest.TempPathFactory) -> Iterator[WebDriver]:
    with chromium(tmp_path_factory.mktemp("chromium")) as found:
        yield found


ASKED = {
    "rows": "category.department, category.category",
    "columns": "calendar.year",
    "values": "revenue scale thousands, margin_rate, orders",
}


@pytest.fixture(scope="module")
def page(nursery: relatum.Model, tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("page") / "g.html"
    grid = nursery.pivot(
        **ASKED,
        style=[
            {"value": "revenue", "bar": True},
            {"value": "orders", "when": "orders > 100", "mark": "▲", "colour": "good"},
        ],
    )
    grid.save(path, prepare="customer.region")
    return path


def shown(grid: relatum.Grid) -> list[list[str]]:
    lines = nested(sheet_of(grid.result), [False] * grid.result.row_count)
    return [[line.text, *(f"{cell.look.mark} {cell.text}".strip() for cell in line.cells or ())] for line in lines]


def test_it_shows_what_the_grid_shows_and_asks_nobody(driver: WebDriver, page: Path, nursery: relatum.Model) -> None:
    opened = Opened(driver, page, width=2400, height=1300)
    grid = nursery.pivot(**ASKED, style=[{"value": "orders", "when": "orders > 100", "mark": "▲"}])
    assert opened.lines() == shown(grid)
    assert opened.find("//h1").text == "nursery: revenue (thousands), margin_rate, orders"
    assert "no matching price" in opened.find("//footer").text and "orders > 100" in opened.find("//footer").text
    assert opened.errors() == []
    assert page.read_text().count("http") == page.read_text().count("http-equiv") + page.read_text().count(
        "http://www.w3.org"
    ), "no address stands in it"


def test_members_open_close_and_are_ordered(driver: WebDriver, page: Path, nursery: relatum.Model) -> None:
    opened = Opened(driver, page)
    every = opened.lines()
    opened.click("//button[@aria-label='Close Edibles']")
    assert [line[0] for line in opened.lines()] == [
        line[0] for line in every if line[0] not in ("Herbs", "Soft Fruit", "Vegetables")
    ]
    assert opened.find("//div[@role='row'][.//*[text()='Edibles']]").get_attribute("aria-expanded") == "false"
    opened.click("//button[@aria-label='Open Edibles']")
    opened.click("(//button[@class='order'])[1]")
    names = [line[0] for line in opened.lines()]
    records = (
        nursery.pivot("category.department", values="revenue", where="calendar.year = 2022", totals=False)
        .to_arrow()
        .to_pylist()
    )
    wanted = [each["category.department"] for each in sorted(records, key=lambda each: -each["revenue"])]
    assert [name for name in names if name in wanted] == [name for name in wanted if name is not None]
    assert names[-1] == "total" and names[-2] == "(no match)"
    assert opened.find("(//*[@role='columnheader'][@aria-sort='descending'])").text.endswith("revenue (thousands)")
    opened.click("(//button[@class='order'])[1]")
    assert [name for name in [line[0] for line in opened.lines()] if name in wanted] == [
        name for name in wanted[::-1] if name is not None
    ]
    opened.click("//button[.='As asked']")
    assert opened.lines() == every
    assert opened.errors() == []


def test_chosen_members_give_exact_totals_or_none(driver: WebDriver, page: Path, nursery: relatum.Model) -> None:
    opened = Opened(driver, page, width=2400, height=1300)
    opened.find("//fieldset[legend[contains(.,'Category')]]//input[@type='search']").send_keys("ern")
    opened.settle()
    listed = [
        each.text for each in driver.find_elements("xpath", "//fieldset[legend[contains(.,'Category')]]//label/span")
    ]
    assert listed == ["Ferns"]
    opened.click("//label[span='Ferns']/input")
    grid = nursery.pivot(**ASKED, where="category.category <> 'Ferns' or category is no match")
    exact = {line[0]: line for line in shown(grid)}
    seen = {line[0]: line for line in opened.lines()}
    assert "Ferns" not in seen
    for name in ("Perennials", "total"):
        for at in range(1, len(exact[name])):
            orders = at % 3 == 0
            # A mark was set by the number that was there before.
            told = exact[name][at].split()[-1]
            assert seen[name][at].startswith("~") if orders else seen[name][at] == told, (name, at)
    assert seen["Edibles"][3].startswith("▲"), "what is not narrowed stays"
    assert (
        "struck out" in opened.find("//footer").text
        and "count(distinct sales.order_no)" in opened.find("//footer").text
    )
    assert opened.find("//p[@class='filters']").text == "Category: all but Ferns"
    opened.click("//fieldset[legend[contains(.,'Category')]]//button[.='just these']")
    assert [line[0] for line in opened.lines()] == ["Perennials", "Ferns", "total"] or "Ferns" in [
        line[0] for line in opened.lines()
    ]
    assert opened.errors() == []


def test_prepared_members_are_the_grid_under_that_condition(
    driver: WebDriver, page: Path, nursery: relatum.Model
) -> None:
    opened = Opened(driver, page, width=2400, height=1300)
    opened.click("//fieldset[legend='region']//label[span='North']/input")
    grid = nursery.pivot(
        **ASKED, where="customer.region = 'North'", style=[{"value": "orders", "when": "orders > 100", "mark": "▲"}]
    )
    assert opened.lines() == shown(grid)
    assert "region: North" in opened.find("//p[@class='filters']").text


def test_which_category_fell_most_in_the_north(driver: WebDriver, nursery: relatum.Model, tmp_path: Path) -> None:
    asked = {
        "rows": "category.category",
        "values": "revenue, change: change(revenue over 1 year)",
        "where": "calendar.year = 2024",
    }
    path = tmp_path / "fall.html"
    nursery.pivot(**asked).save(path, prepare="customer.region")
    opened = Opened(driver, path)
    opened.click("//label[span='North']/input")
    opened.click("//button[@class='order'][contains(., 'change')]")
    opened.click("//button[@class='order'][contains(., 'change')]")
    name, _, change = opened.lines()[0]
    north = nursery.pivot(
        **{**asked, "where": "calendar.year = 2024 and customer.region = 'North' and not (category is no match)"},
        totals=False,
    )
    worst = min(
        (each for each in north.to_arrow().to_pylist() if each["change"] is not None), key=lambda each: each["change"]
    )
    assert name == worst["category.category"] and change == f"−€{-worst['change']:,.0f}"


def test_with_keys_alone(driver: WebDriver, page: Path) -> None:
    opened = Opened(driver, page)
    grid = opened.find("//*[@role='treegrid']")
    opened.script("arguments[0].focus()", grid)

    def press(*keys: str) -> str:
        for key in keys:
            ActionChains(driver).send_keys(key).perform()
        opened.settle()
        return opened.script(
            "return document.getElementById(document.activeElement.getAttribute('aria-activedescendant'))?.textContent"
        )

    before = len(opened.lines())
    assert press(Keys.ARROW_LEFT) is not None and len(opened.lines()) == before - 3, "closed"
    assert "Edibles" in press(Keys.ARROW_RIGHT) and len(opened.lines()) == before
    assert press(Keys.ARROW_DOWN, Keys.ARROW_RIGHT).startswith("€")
    press(Keys.ENTER)
    assert opened.find("//*[@aria-sort='descending']") is not None
    ActionChains(driver).key_down(Keys.CONTROL).send_keys(Keys.END).key_up(Keys.CONTROL).perform()
    assert press(Keys.HOME) == "total"
    ActionChains(driver).key_down(Keys.CONTROL).send_keys("c").key_up(Keys.CONTROL).perform()
    opened.until(lambda: "Copied" in opened.find("//*[@role='status']").text)
    assert opened.errors() == []


def test_copied_text_is_the_table(driver: WebDriver, page: Path, nursery: relatum.Model) -> None:
    opened = Opened(driver, page)
    opened.script("document.execCommand = (word) => { window.copied = document.activeElement.value; return word === 'copy'; };"
                  "Object.defineProperty(navigator, 'clipboard', { value: undefined })")  # fmt: skip
    opened.click("//button[.='Copy as text']")
    lines = [line.split("\t") for line in opened.until(lambda: opened.script("return window.copied")).splitlines()]
    plain = [[text.removeprefix("▼ ") for text in line] for line in shown(nursery.pivot(**ASKED))]
    assert [[line[0].strip(), *line[1:]] for line in lines[2:]] == plain, (
        "numbers without marks, for whoever pastes them"
    )


@pytest.mark.parametrize(
    ("width", "height", "dark"), [(1280, 800, False), (400, 800, False), (1280, 800, True), (400, 800, True)]
)
def test_wide_narrow_light_and_dark(driver: WebDriver, page: Path, width: int, height: int, dark: bool) -> None:
    opened = Opened(driver, page, width=width, height=height, dark=dark)
    assert opened.script("return document.documentElement.scrollWidth") <= width, (
        "the page itself never scrolls sideways"
    )
    background = opened.script("return getComputedStyle(document.body).backgroundColor")
    assert (background == "rgb(20, 25, 26)") == dark
    assert opened.script("return !!document.querySelector('canvas').getContext('2d').canvas.width")
    opened.click("//button[.='Dark']")
    assert opened.script("return getComputedStyle(document.body).backgroundColor") != background
    opened.click("(//button[@class='about'])[1]")
    assert "sum(" in opened.find("//*[@role='dialog']").text or "revenue" in opened.find("//*[@role='dialog']").text
    ActionChains(driver).send_keys(Keys.ESCAPE).perform()
    opened.until(lambda: not driver.find_elements("xpath", "//*[@role='dialog']"))
    names = opened.script("return [...document.querySelectorAll('button,input')].filter(each => !(each.textContent || each.ariaLabel || "
                          "each.closest('label')?.textContent || each.getAttribute('aria-label')))")  # fmt: skip
    assert names == [], "everything that can be worked has a name"
    assert opened.errors() == []


def test_texts_that_mean_harm_stay_texts(driver: WebDriver, tmp_path: Path) -> None:
    texts = list(hostile.TEXTS)
    model = relatum.Model("<b>model</b>")
    model.add_table(
        "sales", pa.table({"product": texts, "kind": ["x<i>"] * len(texts), "worth": range(1, len(texts) + 1)})
    )
    model.measure("worth", "sum(sales.worth)", about="</style><script>window.hit=1</script>", label="<u>worth</u>")
    rule = {"value": "worth", "when": "worth > 1", "mark": "<", "about": "<script>window.hit=1</script>"}
    grid = model.pivot(
        "sales.product",
        "sales.kind",
        "worth, other: sum(sales.worth)",
        where=f"sales.product <> '{texts[0]}x'",
        style=[rule],
    )
    grid.save(tmp_path / "h.html")
    opened = Opened(driver, tmp_path / "h.html", height=1200)
    seen = [line[0] for line in opened.lines()]
    assert sorted(seen[:-1]) == sorted(text.strip() for text in texts)
    opened.click("(//button[@class='about'])[1]")
    assert "</style><script>" in opened.find("//*[@role='dialog']").text
    assert opened.script("return window.hit") is None
    assert "<b>model</b>" in opened.find("//h1").text
    assert opened.errors() == []


def test_fifty_thousand_cells_draw_only_what_is_seen(driver: WebDriver, tmp_path: Path) -> None:
    model = relatum.Model("large")
    count = 1000
    model.add_table("sales", pa.table({"row": [f"r{at:04d}" for at in range(count) for _ in range(50)], "column": [f"c{at:02d}" for _ in range(count) for at in range(50)],
                                       "worth": [(at * 7919) % 10007 for at in range(count * 50)]}))  # fmt: skip
    model.pivot("sales.row", "sales.column", "worth: sum(sales.worth)").save(tmp_path / "l.html")
    opened = Opened(driver, tmp_path / "l.html")
    assert opened.script("return document.querySelectorAll('.line .cell').length") < 1500
    opened.script("document.querySelector('[role=treegrid]').scrollTo(3000, 20000)")
    opened.settle()
    names = [line[0] for line in opened.lines()]
    assert names and names[0] > "r0700" and "r0750" in names
    took = opened.script(
        "const from = performance.now(); document.querySelector('button.order').click(); return performance.now() - from"
    )
    assert took < 2000
    assert opened.errors() == []


REFUSED = [
    (["--rows", "category.category", "--prepare", "category.category"], "is on an axis"), (["--rows", "category.category", "--prepare", "product.colour"], "no column colour"),
    (["--rows", "product.plant", "--columns", "calendar.month", "--prepare", "customer.town,calendar.date"], "Prepare fewer columns"),
]  # fmt: skip


@pytest.mark.parametrize(("arguments", "reason"), REFUSED)
def test_what_cannot_be_prepared_is_refused(
    hollowmere: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, arguments: list[str], reason: str
) -> None:
    monkeypatch.setattr("relatum.present.page.document.MOST_CELLS", 2_000)
    result = run("pivot", hollowmere, *arguments, "--values", "revenue", "--out", tmp_path / "x.html")
    assert result.exit_code == 2 and reason in result.stderr
    assert not (tmp_path / "x.html").exists()


def test_two_prepared_columns_and_a_printed_page(driver: WebDriver, nursery: relatum.Model, tmp_path: Path) -> None:
    asked = {"rows": "product.plant", "values": "revenue"}
    nursery.pivot(**asked).save(tmp_path / "two.html", prepare="calendar.year, customer.region")
    opened = Opened(driver, tmp_path / "two.html", height=500)
    opened.click("//fieldset[legend='Year']//label[span='2023']/input")
    opened.click("//fieldset[legend='region']//label[span='South']/input")
    whole = shown(nursery.pivot(**asked, where="calendar.year = 2023 and customer.region = 'South'"))
    seen = opened.lines()
    assert seen == whole[: len(seen)] and len(seen) < len(whole), "only what is seen is drawn"
    opened.script("dispatchEvent(new Event('beforeprint'))")
    assert opened.lines() == whole, "all of it is printed"
    opened.script("dispatchEvent(new Event('afterprint'))")
    assert len(opened.lines()) < len(whole)
    assert {each.text for each in driver.find_elements("xpath", "//p[@class='filters']/span")} == {
        "Year: 2023",
        "region: South",
    }
    assert opened.errors() == []


def test_a_wide_table_of_a_report_is_printed_whole(driver: WebDriver, nursery: relatum.Model, tmp_path: Path) -> None:
    (tmp_path / "r.html").write_text(nursery.report("year").text)
    opened = Opened(driver, tmp_path / "r.html", width=700)
    driver.execute_cdp_cmd("Emulation.setEmulatedMedia", {"media": "print"})
    opened.settle()
    # Paper of A4 less its margins is 182 mm wide.
    wide = opened.script(
        "return [...document.querySelectorAll('table')].map(each => each.getBoundingClientRect().width * 25.4 / 96)"
    )
    assert wide and max(wide) <= 184
    driver.execute_cdp_cmd("Emulation.setEmulatedMedia", {"media": ""})
    assert opened.errors() == []


def test_a_prepared_null_member_is_not_the_rows_that_find_nothing(driver: WebDriver, tmp_path: Path) -> None:
    model = relatum.Model("m")
    model.add_table("sales", pa.table({"p": ["a", "b", "zz"], "x": [1, 2, 4]}))
    model.add_table("kind", pa.table({"p": ["a", "b"], "k": ["t", None]}), key="p")
    model.relate("sales.p -> kind.p")
    model.pivot("sales.p", values="v: sum(sales.x)").save(tmp_path / "n.html", prepare="kind.k")
    opened = Opened(driver, tmp_path / "n.html")
    for member, total in (("t", "1"), ("(null)", "2"), ("(no match)", "4"), ("all", "7")):
        opened.click(f"//fieldset[legend='k']//label[span='{member}']/input")
        assert opened.lines()[-1] == ["total", total]
