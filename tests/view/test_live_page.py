"""The live page in a real browser, over the real server: a person's whole work, and what no text or stranger can do."""

from __future__ import annotations

import io
import json
import random
import shutil
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import openpyxl
import pyarrow as pa
import pytest
from click.testing import CliRunner
from selenium.webdriver.chrome.webdriver import WebDriver
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

import hostile
import relatum
import walks
from browser import chromium
from livepage import LivePage, serving
from relatum.cli.main import app
from relatum.view.server import Server

pytestmark = pytest.mark.xdist_group("live")
AXE = Path(__file__).parents[2] / "web" / "node_modules" / "axe-core" / "axe.min.js"


@pytest.fixture(scope="module")
def downloads(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return tmp_path_factory.mktemp("downloads")


@pytest.fixture(scope="module")
def driver(tmp_path_factory: pytest.TempPathFactory, downloads: Path) -> Iterator[WebDriver]:
    with chromium(tmp_path_factory.mktemp("chromium")) as found:
        found.execute_cdp_cmd("Browser.setDownloadBehavior", {"behavior": "allow", "downloadPath": str(downloads)})
        yield found


@pytest.fixture(scope="module")
def served(nursery: relatum.Model, hollowmere: Path) -> Iterator[Server]:
    with serving(nursery, hollowmere, editable=False) as server:
        yield server


@pytest.fixture
def drafted(hollowmere: Path, tmp_path: Path) -> Path:
    """A model drafted from the demo's files."""
    folder = tmp_path / "raw"
    shutil.copytree(hollowmere.parent, folder, ignore=shutil.ignore_patterns("*.toml", ".relatum"))
    path = folder / "drafted.toml"
    done = CliRunner().invoke(app, ["draft", str(folder), "-o", str(path)])
    assert done.exit_code == 0, done.output
    return path


def downloaded(folder: Path, ending: str) -> bytes:
    end = time.monotonic() + 10
    while time.monotonic() < end:
        found = [each for each in folder.iterdir() if each.suffix == ending]
        if found and found[0].stat().st_size:
            data = found[0].read_bytes()
            found[0].unlink()
            return data
        time.sleep(0.05)
    raise AssertionError(f"no {ending} was handed over")


def test_a_whole_job_by_mouse(driver: WebDriver, drafted: Path, downloads: Path) -> None:
    model = relatum.open(drafted)
    with serving(model, drafted) as server:
        page = LivePage(driver, server, width=1400, height=900)
        # A measure is written, and its value seen while it is typed.
        page.tap("//button[.='Model']")
        page.tap("//button[.='New measure']")
        page.fill("name", "takings")
        page.fill("formula", "sum(sales.quantty)")
        page.until(lambda: "Did you mean" in page.find("//div[@role='alert']").text)
        page.fill("formula", "sum(sales.quantity)")
        value = f"{model.evaluate('sum(sales.quantity)'):,}"
        page.until(lambda: page.find("//b[@class='value']").text == value)
        page.tap("//button[.='Add this measure']")
        # It is asked by region, which a relationship brings to it.
        page.tap("//button[.='Grid']")
        for part in ("row field", "column field"):
            while page.driver.find_elements(
                By.XPATH,
                f"//button[@data-part='{'rows' if part[0] == 'r' else 'columns'}'][not(contains(@class, 'add'))]",
            ):
                page.tap(f"(//button[@data-part='{'rows' if part[0] == 'r' else 'columns'}'])[1]")
                page.tap("//div[@role='dialog']//button[.='Remove']")
        while (
            len(page.driver.find_elements(By.XPATH, "//button[@data-part='values'][not(contains(@class, 'add'))]")) > 1
        ):
            page.tap("(//button[@data-part='values'])[1]")
            page.tap("//div[@role='dialog']//button[.='Remove']")
        page.tap("(//button[@data-part='values'])[1]")
        page.tap("//button[.='Another measure…']")
        page.tap("//div[@role='option'][span='takings']")
        page.tap("//button[@aria-label='Add a row field']")
        page.fill("Search columns, or type a formula", "customer region", end=Keys.ENTER)
        page.tap("//button[@aria-label='Add a column field']")
        page.fill("Search columns, or type a formula", "calendar.year", end=Keys.ENTER)
        wanted = model.pivot("customer.region", "calendar.year", "takings")
        assert [line[1:] for line in page.grid()] == [line[1:] for line in walks.shown(wanted)]
        # A cell is explained down to its rows, and compared with another.
        page.tap("(//div[@role='gridcell'])[2]")
        page.until(lambda: "rows of sales" in page.find("//div[@id='panel-body']").text)
        page.tap("//button[.='All rows']")
        assert len(page.driver.find_elements(By.XPATH, "//div[@id='panel-body']//tbody/tr")) > 100
        page.tap("//div[@id='panel-body']//button[.='CSV']")
        assert downloaded(downloads, ".csv").startswith(b"row,")
        ActionChains(driver).key_down(Keys.SHIFT).click(page.find("(//div[@role='gridcell'])[1]")).key_up(
            Keys.SHIFT
        ).perform()
        page.until(lambda: "difference to" in page.find("//div[@id='panel-body']").text)
        page.tap("//button[.='Export']")
        page.tap("//div[@role='dialog']//button[.='.xlsx']")
        sheet = openpyxl.load_workbook(io.BytesIO(downloaded(downloads, ".xlsx"))).active
        assert any("North" in str(row) for row in sheet.iter_rows(values_only=True))
        # A relationship's direction is changed: what that does is seen first.
        page.tap("//button[.='Model']")
        link = next(str(each) for each in model.declaration.relationships if each.one.table == "customer")
        page.tap(f"//nav//button[.='{link}']")
        page.tap("//label[span='off']/input")
        page.until(lambda: "values change" in page.find("//div[@class='tried']").text)
        page.tap("//button[.='See the grid as it would be']")
        assert page.find("//section[@aria-label='The grid as it would be']").text.count("\n") > 2
        page.tap("//button[.='Make this change']")
        page.tap("//button[.='Take back']")
        # The request is kept, and the file written once what is written was shown.
        text = drafted.read_text()
        page.tap("//button[.='Keep']")
        page.fill("name of the pivot", "by_region")
        page.tap("//button[.='Keep it']")
        assert drafted.read_text() == text
        page.tap("//button[.='Save']")
        assert "by_region" in page.find("//pre[contains(@class, 'lines')]").text
        page.tap("//button[.='Write the file']")
        page.until(lambda: drafted.read_text() != text)
        assert page.errors(server.address.partition("#")[0]) == []
    again = relatum.open(drafted)
    assert again.pivot(saved="by_region").to_arrow().equals(wanted.to_arrow())
    assert all(line in drafted.read_text() for line in text.splitlines() if line.startswith("#"))


def test_a_whole_job_by_keys_alone(driver: WebDriver, drafted: Path) -> None:
    model = relatum.open(drafted)
    with serving(model, drafted) as server:
        page = LivePage(driver, server, width=1400, height=900)
        page.press("/")
        page.chord(Keys.CONTROL, "a")
        page.press("values count(sales)", Keys.ENTER)
        page.until(lambda: page.words() == ["count(sales)"])
        page.script("document.querySelector('.word').focus()")
        page.press(Keys.ARROW_RIGHT, Keys.ARROW_RIGHT)
        assert page.focused() == "Add a row field"
        page.press(Keys.ENTER)
        page.press("customer region", Keys.ENTER)
        page.press(Keys.ARROW_RIGHT)
        assert page.request()["rows"] == ["customer.region"]
        page.script("document.querySelector('[data-part=rows]').focus()")
        page.chord(Keys.ALT, Keys.ARROW_DOWN)
        assert page.request()["columns"] == ["customer.region"] and page.focused().startswith("region")
        page.press("t")
        assert page.request()["rows"] == ["customer.region"]
        page.script("document.querySelector('[data-part=rows]').focus()")
        page.press(Keys.ENTER)
        page.press(Keys.ESCAPE)
        assert page.focused().startswith("region"), "Escape goes back to the word"
        page.script("document.querySelector('.grid').focus()")
        page.press(Keys.ARROW_DOWN, Keys.ARROW_RIGHT, Keys.ENTER)
        page.until(lambda: "rows of sales" in page.find("//div[@id='panel-body']").text)
        page.script("document.querySelector('.grid').focus()")
        page.press(Keys.ARROW_LEFT, Keys.ENTER)
        page.press(Keys.ENTER)
        assert page.request()["where"].startswith("customer.region = ")
        page.script("document.querySelector('[data-part=where]').focus()")
        page.press(Keys.DELETE)
        assert page.request()["where"] == ""
        assert [line[1:] for line in page.grid()] == [
            line[1:] for line in walks.shown(model.pivot("customer.region", values="count(sales)"))
        ]


# -- the sentence -----------------------------------------------------------------------------------------------------


def test_the_address_holds_the_request_and_the_browser_goes_back(
    driver: WebDriver, served: Server, nursery: relatum.Model
) -> None:
    asked = {
        "rows": ["category.category top 3 by revenue with others"],
        "columns": ["calendar.year"],
        "values": ["revenue"],
    }
    page = LivePage(driver, served, json.dumps(asked))
    first = page.grid()
    assert [line[1:] for line in first] == [line[1:] for line in walks.shown(nursery.pivot(**asked))]
    page.tap("//button[.='Turn']")
    page.tap(page.word("revenue"))
    page.tap("//div[@role='dialog']//button[.='share of row']")
    assert page.words() == ["revenue", "row share", "Year", "Category top 3 by revenue with others"]
    page.driver.back()
    page.driver.back()
    page.until(lambda: page.request()["rows"] == asked["rows"])
    page.rest()
    assert page.grid() == first
    page.tap("//button[.='Redo']")
    assert page.request()["rows"] == ["calendar.year"]
    page.tap("//button[.='Undo']")
    assert page.grid() == first
    # A request that cannot be answered leaves the page in place.
    page = LivePage(driver, served, json.dumps({"values": ["no_such_measure"]}))
    assert "no_such_measure" in page.find("//div[@role='alert']").text
    page.tap("//button[starts-with(., 'Ask the first')]")
    assert page.grid()


def test_members_are_ticked_in_a_filter_and_the_chart_follows(
    driver: WebDriver, served: Server, nursery: relatum.Model
) -> None:
    page = LivePage(
        driver,
        served,
        json.dumps({"rows": ["category.department"], "columns": ["calendar.year"], "values": ["revenue", "orders"]}),
    )
    page.tap("//button[@aria-label='Add a filter']")
    page.fill("Search columns, or type a condition", "region", end=Keys.ENTER)
    page.tap("//div[@role='dialog']//label[span='North']/input")
    page.tap("//div[@role='dialog']//label[span='(no match)']/input")
    assert page.request()["where"] == "customer.region <> 'North'"
    page.tap("//div[@role='dialog']//button[@aria-label='Only West']")
    assert page.request()["where"] == "customer.region = 'West'"
    page.press(Keys.ESCAPE)
    assert page.words()[-1] == "region = West"
    assert [line[1:] for line in page.grid()] == [
        line[1:]
        for line in walks.shown(
            nursery.pivot("category.department", "calendar.year", "revenue, orders", where="customer.region = 'West'")
        )
    ]
    page.tap("//button[.='Chart']")
    page.until(lambda: "not drawn: orders" in page.find("//figcaption").text)
    page.tap("//button[@aria-label='Put the panel below the grid']")
    assert page.find("//main").get_attribute("class") == "stacked"
    page.tap("//button[@aria-label='Close the panel']")
    assert not page.driver.find_elements(By.XPATH, "//aside")


def test_the_keys_stay_with_a_box_whatever_it_shows_next(driver: WebDriver, served: Server) -> None:
    page = LivePage(driver, served, json.dumps({"rows": ["category.department"], "values": ["revenue"]}))
    inside = "return document.querySelector('.box')?.contains(document.activeElement)"
    page.tap("//button[@aria-label='Add a filter']")
    page.fill("Search columns, or type a condition", "customer.kind", end=Keys.ENTER)
    page.tap("(//div[@role='dialog']//input[@type='checkbox'])[1]")  # the box is now that of the filter which this made
    assert page.script(inside)
    page.tap("//div[@role='dialog']//p[@role='status']")  # a text: it takes no keys
    assert not page.script(inside)
    page.press(Keys.TAB)
    assert page.script(inside)
    page.tap("//div[@role='dialog']//p[@role='status']")
    page.press(Keys.ESCAPE)
    assert not page.driver.find_elements(By.XPATH, "//div[@role='dialog']")


def test_a_fault_is_pointed_at_while_the_last_answer_stays_and_names_are_completed(
    driver: WebDriver, served: Server
) -> None:
    page = LivePage(driver, served, json.dumps({"rows": ["category.department"], "values": ["revenue"]}))
    before = page.grid()
    page.press("/")
    page.press(Keys.END)
    page.chord(Keys.CONTROL, Keys.END)
    page.chord(Keys.SHIFT, Keys.ENTER)
    page.press("columns calendar.yeer")
    page.until(lambda: "^^^" in page.find("//div[@id='typing-fault']").text)
    assert "Did you mean calendar.year?" in page.find("//div[@id='typing-fault']").text and page.grid() == before
    page.press(*[Keys.BACKSPACE] * 3)
    page.press(Keys.TAB)
    page.press(Keys.ENTER)
    page.until(lambda: page.request()["columns"] == ["calendar.year"])


def test_held_changes_are_asked_once(driver: WebDriver, served: Server) -> None:
    page = LivePage(driver, served, json.dumps({"rows": ["category.department"], "values": ["revenue"]}))
    before = page.grid()
    page.tap("//button[.='Hold']")
    page.tap("//button[.='Turn']")
    page.tap("//button[@aria-label='Add a row field']")
    page.fill("Search columns, or type a formula", "calendar.year", end=Keys.ENTER)
    assert page.words() == ["revenue", "Year", "Department"] and page.grid() == before
    page.tap("//button[.='Ask']")
    assert page.request()["rows"] == ["calendar.year"] and page.grid() != before


def test_words_are_dragged(driver: WebDriver, served: Server) -> None:
    page = LivePage(
        driver, served, json.dumps({"rows": ["category.department", "customer.region"], "values": ["revenue"]})
    )
    ActionChains(driver).drag_and_drop(
        page.find(page.word("Department")), page.find("//button[@aria-label='Add a column field']")
    ).perform()
    page.until(lambda: page.request()["columns"] == ["category.department"])
    assert page.request()["rows"] == ["customer.region"]


def test_a_closed_member_opens_and_one_with_lines_folds(driver: WebDriver, served: Server) -> None:
    page = LivePage(
        driver, served, json.dumps({"rows": ["category.department closed", "category.category"], "values": ["revenue"]})
    )
    page.tap("//button[@aria-label='Open Edibles']")
    assert page.request()["rows"][0] == "category.department open ('Edibles')" and "Herbs" in [
        line[0] for line in page.grid()
    ]
    page.tap("//button[@aria-label='Close Edibles']")
    assert "Herbs" not in [line[0] for line in page.grid()] and page.request()["rows"][0].endswith(
        "open ('Edibles')"
    ), "folded, not asked again"


# -- random walks -----------------------------------------------------------------------------------------------------


def test_a_random_walk_shows_what_its_request_asks_and_goes_back_to_the_start(
    driver: WebDriver, served: Server, nursery: relatum.Model
) -> None:
    page = LivePage(driver, served, json.dumps(walks.START), width=1600, height=1200)
    assert walks.walk(page, nursery, random.Random(20261130), 16) > 7


# -- everyone can use it ----------------------------------------------------------------------------------------------

_STATES = {
    "grid": [], "menu": ["(//button[@data-part='rows'])[1]"], "members": ["//button[@role='tab'][.='Members']", "(//div[@role='option'])[2]"],
    "why": ["(//div[@role='gridcell'])[1]"], "model": ["//button[.='Model']"], "picker": ["//button[@aria-label='Add a filter']"],
    "text": ["//button[@class='slash']"], "request": ["//button[.='Request']"],
}  # fmt: skip


@pytest.mark.parametrize(
    ("width", "state"), [(1280, state) for state in _STATES] + [(800, "grid"), (640, "model"), (640, "menu")]
)
def test_everyone_can_use_it_in_light_and_dark(driver: WebDriver, served: Server, state: str, width: int) -> None:
    asked = {
        "rows": ["category.department"],
        "columns": ["calendar.year"],
        "values": ["revenue", "share: share(revenue of column)"],
    }
    page = LivePage(driver, served, json.dumps(asked), width=width, height=800)
    for step in _STATES[state]:
        page.tap(step)
    page.script(AXE.read_text())
    for dark in (False, True):
        page.prefer(dark)
        page.rest()
        assert page.script("return matchMedia('(prefers-color-scheme: dark)').matches") == dark
        found = driver.execute_async_script("axe.run(document, {resultTypes: ['violations']}).then(arguments[0])")
        assert [(each["id"], [node["html"][:160] for node in each["nodes"]][:3]) for each in found["violations"]] == []
    assert page.script("return document.documentElement.scrollWidth <= innerWidth"), "nothing sticks out"


# -- hostile texts ----------------------------------------------------------------------------------------------------


def test_no_text_in_a_model_runs_in_the_page(driver: WebDriver, tmp_path: Path) -> None:
    worst = [text for text in hostile.TEXTS if "<" in text or "javascript" in text][:6] or hostile.TEXTS[:6]
    script = "<img src=x onerror=\"document.title='ran'\"><script>document.title='ran'</script>"
    model = relatum.Model(script)
    model.add_table(
        "t",
        pa.table({"a": [script, *worst], "x": list(range(1 + len(worst))), script: ["u"] * (1 + len(worst))}),
        about=script,
    )
    model.measure(
        "m",
        "sum(t.x)",
        format=f"0 '{script.replace(chr(39), '')}'",
        label=script,
        about=script,
        style=[{"when": "m > 0", "mark": "<i", "about": script}],
    )
    asked: dict[str, Any] = {"rows": ["t.a"], "values": ["m", f'"{script.replace(chr(34), chr(34) * 2)}": m + 1']}
    model.keep_pivot("p", model.pivot(**asked), about=script)
    with serving(model, pivot="p") as server:
        page = LivePage(driver, server)
        for step in ("(//button[@data-part='rows'])[1]", "//button[.='Members…']", "(//div[@role='gridcell'])[1]", "//button[@role='tab'][.='Chart']",
                     "(//div[@role='rowheader'])[2]", "//button[.='Pivots']", "//button[.='Request']", "//button[.='Model']", "//nav//button[.='t']", "//nav//button[.='m']"):  # fmt: skip
            page.tap(step)
        assert (
            driver.title == script
            and page.script("return document.querySelectorAll('img:not([src^=data])').length") == 0
        )
        assert page.errors(server.address.partition("#")[0]) == []
