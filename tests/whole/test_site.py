"""The documentation as a site: it builds without a warning, nothing in it is fetched, and its search works offline."""

from __future__ import annotations

import html
import json
import re
import subprocess
import sys
from pathlib import Path

import pytest
from selenium.webdriver.common.keys import Keys

import relatum
from browser import chromium
from pages import ROOT
from relatum.cli.main import app
from relatum.language.register import AGGREGATES, RANKINGS, SCALARS, SHORTHANDS
from relatum.present.charts.choose import KINDS

pytestmark = pytest.mark.xdist_group("browser")


def test_the_site_is_built_and_searched_without_a_network(tmp_path: Path) -> None:
    site = tmp_path / "site"
    build = [sys.executable, "-m", "mkdocs", "build", "--strict", "--quiet", "--site-dir", str(site)]
    done = subprocess.run(
        build, cwd=ROOT, capture_output=True, text=True, env={"NO_MKDOCS_2_WARNING": "1", "PATH": "/usr/bin:/bin"}
    )
    assert done.returncode == 0, done.stdout + done.stderr
    for page in site.rglob("*.html"):
        text = page.read_text()
        fetched = re.findall(r"<(?:script|img|iframe|link)[^>]+(?:src|href)=\"?(https?:[^\"> ]+)", text)
        assert [each for each in fetched if "rel=canonical" not in each] == [], page.name
    gallery = (site / "looks.html").read_text()
    for kind in KINDS:
        assert f"gallery/{kind}.svg" in gallery and (site / "gallery" / f"{kind}.svg").stat().st_size > 5_000
    reference = (site / "generated" / "file.html").read_text()
    for key in ("fiscal_year_starts", "unrelated", "shades", "against", "widths", "values_on", "headings"):
        assert f"<code>{key}</code>" in reference
    calls = (site / "api.html").read_text()
    for call in (
        "relatum.Model.pivot",
        "relatum.Model.report",
        "relatum.Grid.chart",
        "relatum.Grid.to_html",
        "relatum.open",
    ):
        assert f'id="{call}"' in calls or f"id={call}" in calls
    assert not searched_in_vain(site)
    with chromium(tmp_path / "chromium") as driver:
        driver.set_window_size(1280, 800)
        driver.get((site / "index.html").as_uri())
        driver.find_element("css selector", "input.md-search__input").click()
        driver.switch_to.active_element.send_keys("crow's foot", Keys.ARROW_DOWN)
        driver.implicitly_wait(15)
        found = driver.find_element("css selector", ".md-search-result__item a")
        assert found.get_attribute("href").startswith(site.as_uri())


def searched_in_vain(site: Path) -> list[str]:
    """The options of commands, the functions of the language and the calls of the library that no page says."""
    index = json.loads((site / "search" / "search_index.json").read_text(encoding="utf-8"))
    text = html.unescape(" ".join(f"{each['title']} {each['text']}" for each in index["docs"]))
    commands = [
        app,
        *(part for each in app.commands.values() for part in (each, *getattr(each, "commands", {}).values())),
    ]
    wanted = {option for command in commands for each in command.params for option in each.opts if option[:2] == "--"}
    wanted |= {each.called for each in AGGREGATES.values()} | set(RANKINGS) | {each.name for each in SHORTHANDS}
    wanted |= {head for each in SCALARS.values() if (head := each.signature.partition("(")[0]).isidentifier()}
    wanted |= {name for cls in (relatum.Model, relatum.Grid) for name in vars(cls) if name[0] != "_"}
    return sorted(each for each in wanted if not re.search(rf"(?<!\w){re.escape(each)}(?!\w)", text))
