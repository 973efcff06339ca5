"""The live page in Chromium over six million order lines: how long from an action to the new grid on the screen.

python benchmarks/view.py [LINES [FOLDER]]
"""

from __future__ import annotations

import statistics
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import psutil
import pyarrow as pa
from selenium import webdriver
from selenium.webdriver.chrome.options import Options
from selenium.webdriver.chrome.service import Service

import relatum
from relatum.face.live_model import LiveModel
from relatum.view.host import Host
from relatum.view.protocol import Parts
from relatum.view.server import Server
from star import open_relatum
from star_data import write_tables

#: Until nothing is asked any more, every cell that is seen is there, and two frames have been drawn.
_RESTED = """
const [act, argument, done] = [arguments[0], arguments[1], arguments[arguments.length - 1]];
const from = performance.now();
new Function('argument', act)(argument);
let still = 0;
const look = () => {
  const busy = document.querySelector('[aria-busy=true], .cell.waiting') !== null;
  still = busy ? 0 : still + 1;
  if (still >= 3) done(performance.now() - from); else requestAnimationFrame(look);
};
setTimeout(look, 1);
"""
_SCROLLED = """
const [step, done] = [arguments[0], arguments[arguments.length - 1]];
const grid = document.querySelector('.grid');
let count = 0;
const from = performance.now();
const move = () => {
  grid.scrollTop += step;
  count += 1;
  if (count < 150) requestAnimationFrame(move); else done(150000 / (performance.now() - from));
};
requestAnimationFrame(move);
"""
_BUTTON = "[...document.querySelectorAll('button')].find(each => each.innerText.trim() === argument).click()"
_WORD = "[...document.querySelectorAll('.word')].find(each => each.innerText.startsWith(argument)).click()"
_PICK = (
    "const field = document.querySelector('.box input'); field.value = argument; "
    "field.dispatchEvent(new Event('input', {bubbles: true})); document.documentElement.ariaBusy = 'true'; "
    "setTimeout(() => { document.documentElement.ariaBusy = null; "
    "field.dispatchEvent(new KeyboardEvent('keydown', {key: 'Enter', bubbles: true})); }, 30)"
)
_SEARCH = (
    "const field = document.querySelector('.memberlist input'); field.value = argument; "
    "field.dispatchEvent(new Event('input', {bubbles: true})); document.documentElement.ariaBusy = 'true'; "
    "setTimeout(() => { document.documentElement.ariaBusy = null; }, 65)"
)
_ADD = "document.querySelector(`[aria-label='${argument}']`).click()"
_LABEL = (
    "[...document.querySelectorAll('.box label')].find(each => each.innerText.startsWith(argument))"
    ".querySelector('input').click()"
)
_SELECT = (
    "const field = document.querySelector('.box select'); field.selectedIndex = argument; "
    "field.dispatchEvent(new Event('change', {bubbles: true}))"
)
_CLOSE = "document.querySelector('.box').dispatchEvent(new KeyboardEvent('keydown', {key: 'Escape', bubbles: true}))"
_LINE = "document.querySelectorAll('[role=rowheader]')[argument].click()"
#: What a person does: a name, and steps; the last one is timed.
ACTIONS: list[tuple[str, list[tuple[str, Any]]]] = [
    ("turn", [(_BUTTON, "Turn")]),
    ("turn back", [(_BUTTON, "Turn")]),
    ("add a row field", [(_ADD, "Add a row field"), (_PICK, "customer.region")]),
    ("order it by the value", [(_WORD, "region"), (_SELECT, 1)]),
    ("its top five", [(_LABEL, "top")]),
    ("with others", [(_LABEL, "with others")]),
    ("all of it again", [(_LABEL, "all")]),
    ("remove it", [(_BUTTON, "Remove")]),
    ("only one member", [(_LINE, 0), (_BUTTON, "Only this")]),
    ("undo that", [(_BUTTON, "Undo")]),
    ("a row field of 1,000 members", [(_ADD, "Add a row field"), (_PICK, "part.brand")]),
    ("undo that too", [(_BUTTON, "Undo")]),
    ("one value more", [(_ADD, "Add a value"), (_PICK, "orders")]),
    ("undo the value", [(_BUTTON, "Undo")]),
]  # fmt: skip


#: So many seconds a person looks at a grid, which is drawn as a chart meanwhile.
_PACE = 1.0


class Page:
    """A page in Chromium, and how long what is done in it takes, in milliseconds."""

    def __init__(self, driver: webdriver.Chrome, server: Server) -> None:
        self.driver = driver
        driver.get("about:blank")
        driver.get(server.address)
        while not driver.execute_script("return document.querySelector('.grid') !== null"):
            time.sleep(0.2)
        self.timed("")

    def timed(self, act: str, argument: Any = None) -> float:
        """From an act to the answer on the screen."""
        return float(self.driver.execute_async_script(_RESTED, act, argument))

    def frames(self, step: int) -> float:
        """Frames a second while the grid scrolls by so many pixels a frame."""
        return float(self.driver.execute_async_script(_SCROLLED, step))


def browser(folder: str) -> webdriver.Chrome:
    """Chromium without a screen."""
    options = Options()
    options.binary_location = "/usr/bin/chromium"
    for each in (
        "--headless=new",
        "--no-sandbox",
        "--disable-gpu",
        f"--user-data-dir={folder}",
        "--window-size=1280,800",
    ):
        options.add_argument(each)
    return webdriver.Chrome(options=options, service=Service("/usr/bin/chromedriver"))


def serving(model: relatum.Model, start: Parts, work: Callable[[Page], None]) -> None:
    """Do some work in the page of a model."""
    server = Server(Host(LiveModel(model, editable=False), start))
    thread = server.in_background()
    with tempfile.TemporaryDirectory() as folder:
        driver = browser(folder)
        driver.set_script_timeout(60)
        try:
            work(Page(driver, server))
        finally:
            driver.quit()
            server.stop()
            thread.join(5)


def act(page: Page) -> None:
    """Every action three times, at a person's pace."""
    every: list[float] = []
    for _ in range(3):
        for name, steps in ACTIONS:
            time.sleep(_PACE)
            for script, argument in steps[:-1]:
                page.timed(script, argument)
            every.append(page.timed(*steps[-1]))
            print(f"{name:<32}{every[-1]:8.0f} ms", flush=True)
            if steps[0][0] is _WORD or steps[-1][0] is _LABEL:
                continue
            page.driver.execute_script(f"if (document.querySelector('.box')) {_CLOSE}")
    every.sort()
    print(f"{'median':<32}{statistics.median(every):8.0f} ms\n{'95 of 100':<32}{every[int(len(every) * 0.95)]:8.0f} ms")
    page.timed(_ADD, "Add a filter")
    opened = page.timed(_PICK, "lineorder.orderkey")
    print(f"{'members of 1.5 million open':<32}{opened:8.0f} ms")
    time.sleep(_PACE)
    searched = page.timed(_SEARCH, "12345")
    print(f"{'and are searched':<32}{searched:8.0f} ms")


def scroll(page: Page) -> None:
    """A grid of two million cells."""
    print(f"{'10,000 x 200 cells scroll':<32}{page.frames(40):8.0f} frames/s")
    print(f"{'and ten times as fast':<32}{page.frames(400):8.0f} frames/s")
    page.timed("")
    heap = page.driver.execute_script("return performance.memory.usedJSHeapSize") / 1e6
    own = psutil.Process(page.driver.service.process.pid)
    pages = [each for each in own.children(recursive=True) if "--type=renderer" in " ".join(each.cmdline())]
    own_memory = max(each.memory_full_info().uss for each in pages) / 1e6
    print(f"{'memory of the page':<32}{own_memory:8.0f} MB, of which script {heap:.0f} MB")


def large() -> relatum.Model:
    """A model whose grid has 10,000 lines and 200 columns."""
    chance = np.random.default_rng(11)
    lines, columns = np.repeat(np.arange(10_000), 200), np.tile(np.arange(200), 10_000)
    model = relatum.Model("large")
    model.add_table(
        "t", pa.table({"line": lines, "column": columns, "worth": chance.integers(-5_000, 100_000, len(lines))})
    )
    model.measure("worth", "sum(t.worth)", format="#,##0")
    return model


def main() -> None:
    """Time the page."""
    lines = int(sys.argv[1]) if len(sys.argv) > 1 else 6_000_000
    folder = Path(sys.argv[2] if len(sys.argv) > 2 else tempfile.gettempdir()) / f"star-{lines}"
    write_tables(folder, lines)
    model = open_relatum(folder)
    model.measure("revenue", "sum(lineorder.revenue)", format="#,##0")
    model.measure("orders", "count(distinct lineorder.orderkey)")
    start = Parts(rows=["dates.year"], columns=["supplier.region"], values=["revenue"])
    serving(model, start, act)
    with relatum.limited(cells=5_000_000):
        model = large()
        model.limit(cells=5_000_000)
        serving(model, Parts(rows=["t.line"], columns=["t.column"], values=["worth"], totals=False), scroll)


if __name__ == "__main__":
    main()
