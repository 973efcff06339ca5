"""The live page in a notebook: its messages with the kernel, and a real JupyterLab."""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from selenium.webdriver.common.by import By

import relatum
from browser import Browsed, chromium
from processes import started

pytestmark = pytest.mark.xdist_group("live")
ASKED = {"rows": ["category.department"], "values": ["revenue"]}


def heard(widget: Any, number: int, message: dict[str, Any]) -> dict[str, Any]:
    """The reply to a message, as the notebook is sent it."""
    sent: list[Any] = []
    widget.send = sent.append
    widget._hear(widget, {"number": number, "message": message}, [])
    end = time.monotonic() + 20
    while not sent and time.monotonic() < end:
        time.sleep(0.01)
    reply = json.loads(json.dumps(sent[0]))
    assert reply["number"] == number
    return reply


def test_what_is_found_by_hand_goes_on_in_code(nursery: relatum.Model) -> None:
    widget = nursery.view("departments")
    assert widget.request.splitlines()[0].startswith("values   revenue")
    with pytest.raises(relatum.RequestError, match="not asked anything yet"):
        _ = widget.grid
    opened = heard(widget, 1, {"kind": "open"})["answer"]
    assert opened["start"]["rows"] == ["category.department by revenue desc"] and ".relatum-live{" in opened["theme"]
    answer = heard(widget, 2, {"kind": "ask", "request": ASKED})["answer"]
    assert widget.request == "values   revenue\nrows     category.department"
    assert widget.grid.to_arrow().equals(nursery.pivot(**ASKED).to_arrow())
    assert heard(widget, 3, {"kind": "block", "grid": answer["grid"], "rows": [0, 1], "columns": [0, 1]})["answer"][
        "texts"
    ][0].startswith("€")
    assert "fault" in heard(widget, 4, {"kind": "ask", "request": {"values": ["nothing"]}})
    assert widget.request.startswith("values   revenue"), "the last answer stays"
    widget.close()


def test_a_grid_becomes_a_page_of_its_request(nursery: relatum.Model) -> None:
    grid = nursery.pivot(
        "customer.region top 2 by revenue", "calendar.year", "revenue, orders", where="sales.quantity > 1", totals=False
    )
    widget = grid.view()
    assert heard(widget, 1, {"kind": "open"})["answer"]["can"] == {"edit": True, "save": False}
    assert widget.request.splitlines() == [
        "values   revenue, orders", "rows     customer.region top 2 by revenue", "columns  calendar.year", "where    sales.quantity > 1", "totals   no",
    ]  # fmt: skip
    widget.close()


def test_edits_in_the_page_are_edits_of_the_model(stall: relatum.Model) -> None:
    widget = stall.view()
    heard(widget, 1, {"kind": "change", "edit": {"edit": "writemeasure", "name": "added", "formula": "count(sales)"}})
    assert stall.evaluate("added") == stall.evaluate("count(sales)")
    readonly = stall.view(read_only=True)
    assert (
        "cannot change"
        in heard(readonly, 1, {"kind": "change", "edit": {"edit": "remove", "name": "added"}})["fault"]["reason"]
    )
    for each in (widget, readonly):
        each.close()


def test_a_message_of_nobody_is_left_alone(stall: relatum.Model) -> None:
    widget = stall.view()
    sent: list[Any] = []
    widget.send = sent.append
    for content in (None, [], {"number": "x"}, {"number": 1, "message": {"kind": "nothing"}}):
        widget._hear(widget, content, [])
    assert sent == []
    widget.close()


def test_without_the_extra_it_says_what_to_install() -> None:
    script = "import sys; sys.modules['anywidget'] = None\nimport relatum, pyarrow as pa\nm = relatum.Model()\nm.add_table('t', pa.table({'x': [1]}))\nm.view()"
    done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, timeout=60)
    assert "anywidget is not installed" in done.stderr and "relatum[notebook]" in done.stderr


# -- a real JupyterLab ------------------------------------------------------------------------------------------------


@pytest.fixture
def lab(tmp_path: Path, hollowmere: Path) -> Iterator[str]:
    """The address of a notebook in JupyterLab."""
    cells = [f"import relatum\nmodel = relatum.open({str(hollowmere)!r})\nwidget = model.view('departments')\nwidget",
             "print(widget.request.splitlines()[1], widget.grid.to_arrow().num_rows)"]  # fmt: skip
    import nbformat  # noqa: PLC0415 - loads a schema library that takes seconds

    notebook = nbformat.v4.new_notebook(cells=[nbformat.v4.new_code_cell(each) for each in cells])
    notebook.metadata["kernelspec"] = {"name": "python3", "display_name": "Python 3", "language": "python"}
    nbformat.write(notebook, tmp_path / "view.ipynb")
    home = tmp_path / "home"
    home.mkdir()
    command = [sys.executable, "-m", "jupyterlab", "--no-browser", "--allow-root", "--port", "0", "--IdentityProvider.token=token",
               f"--ServerApp.root_dir={tmp_path}", "--ServerApp.ip=127.0.0.1", "--LabApp.news_url=None"]  # fmt: skip
    environment = {
        **os.environ,
        "HOME": str(home),
        "JUPYTER_CONFIG_DIR": str(home),
        "JUPYTER_RUNTIME_DIR": str(home),
        "IPYTHONDIR": str(home),
    }
    with started(command, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True, env=environment) as process:
        told = ""
        while (found := re.search(r"http://127\.0\.0\.1:(\d+)/lab", told)) is None:
            line = process.stderr.readline()
            assert line, told
            told += line
        yield f"http://127.0.0.1:{found[1]}/lab/tree/view.ipynb?token=token"


def test_it_works_in_jupyterlab(lab: str, tmp_path: Path) -> None:
    with chromium(tmp_path / "profile") as driver:
        page = Browsed(driver, lab, width=1400, height=1000)
        page.until(lambda: len(driver.find_elements(By.CSS_SELECTOR, ".jp-Notebook .jp-CodeCell .cm-content")) == 2, 60)
        page.until(
            lambda: (
                page.script("return document.querySelector('.jp-Notebook-ExecutionIndicator')?.dataset.status")
                == "idle"
            ),
            60,
        )
        run = "//button[@data-command='notebook:run-cell-and-select-next'] | //*[@data-jp-item-name='run']//button | //jp-button[contains(@title, 'Run this cell')]"
        driver.find_elements(By.CSS_SELECTOR, ".jp-Notebook .jp-CodeCell .cm-content")[0].click()
        page.find(run).click()
        page.until(lambda: driver.find_elements(By.CSS_SELECTOR, ".relatum-live .line"), 40)
        names = page.script(
            "return [...document.querySelectorAll('.relatum-live [role=rowheader]')].map(each => each.innerText.trim())"
        )
        assert "Perennials" in names and names[-1] == "total"
        page.click("//div[contains(@class, 'relatum-live')]//button[.='Turn']")
        page.until(
            lambda: (
                "2023" in page.script("return document.querySelector('.relatum-live .line').parentElement.innerText")
            )
        )
        # The widget's style reaches nothing of the notebook's own.
        assert (
            page.script(
                "return getComputedStyle(document.querySelector('.jp-Toolbar button, .jp-Toolbar jp-button')).fontSize"
            )
            != ""
        )
        driver.find_elements(By.CSS_SELECTOR, ".jp-Notebook .jp-CodeCell .cm-content")[1].click()
        page.find(run).click()
        page.until(
            lambda: (
                "rows     calendar.year 18"
                in page.script(
                    "return [...document.querySelectorAll('.jp-OutputArea-output pre')].map(each => each.innerText).join('')"
                )
            ),
            20,
        )
        severe = [
            entry["message"]
            for entry in driver.get_log("browser")
            if entry["level"] == "SEVERE" and "relatum" in entry["message"].lower()
        ]
        assert severe == []
