"""A live page in a real browser: its words, menus and lines as a person sees them."""

from __future__ import annotations

import json
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.keys import Keys

import relatum
from browser import Browsed
from relatum.face.live_model import LiveModel
from relatum.view.host import Host, first_request
from relatum.view.server import Server


@contextmanager
def serving(model: relatum.Model, path: Path | None = None, pivot: str = "", editable: bool = True) -> Iterator[Server]:
    """A server of a model's page, for the length of a block."""
    live = LiveModel(model, path, editable=editable)
    server = Server(Host(live, first_request(live, pivot)))
    thread = server.in_background()
    try:
        yield server
    finally:
        server.stop()
        thread.join(5)


class LivePage(Browsed):
    """A live page that is open."""

    def __init__(self, driver: Any, server: Server, end: str = "", **look: Any) -> None:
        driver.get("about:blank")
        super().__init__(driver, server.address, **look)
        self.server = server
        self.ready()
        if end:
            # The token is this tab's now: an address with a request can follow.
            driver.get("about:blank")
            driver.get(f"http://127.0.0.1:{server.port}/#{end}")
            self.ready()

    def ready(self) -> None:
        """Waits until the page shows an answer, or why it has none."""
        self.until(lambda: self.script("return document.querySelector('.sentence, .fault, .typing') !== null"))
        self.rest()

    def rest(self) -> None:
        """Waits until nothing is being asked: all cells that are seen are there, and stay."""
        before: Any = None
        end = time.monotonic() + 20
        while time.monotonic() < end:
            self.settle()
            now = self.script(
                "return [document.querySelectorAll('.cell.waiting, .busy, [aria-busy=true]').length, document.querySelector('#live')?.innerText]"
            )
            if now == before and now[0] == 0:
                return
            before = now
            time.sleep(0.06)
        raise AssertionError(f"the page never came to rest: {before}")

    def words(self) -> list[str]:
        """The words of the sentence, without those that add one."""
        return self.script("return [...document.querySelectorAll('.word:not(.add)')].map(each => each.innerText)")

    def press(self, *keys: str) -> None:
        """Keys, typed wherever the focus is."""
        ActionChains(self.driver).send_keys(*keys).perform()
        self.rest()

    def chord(self, modifier: str, key: str) -> None:
        """A key with another one held down."""
        ActionChains(self.driver).key_down(modifier).send_keys(key).key_up(modifier).perform()
        self.rest()

    def tap(self, path: str) -> None:
        """Clicks an element, and waits for what follows."""
        self.click(path)
        self.rest()

    def fill(self, label: str, text: str, *, end: str = Keys.TAB) -> None:
        """Types into a field, in place of what is there."""
        field = self.find(f"//*[@aria-label='{label}']")
        self.script("arguments[0].focus(); arguments[0].select?.()", field)
        field.send_keys(text or Keys.DELETE, end)
        self.rest()

    def word(self, text: str) -> str:
        """The path of a word by what it begins with."""
        return f"//button[contains(@class, 'word')][starts-with(normalize-space(.), '{text}')]"

    def focused(self) -> str:
        """What the focus is on, as a person hears it."""
        return self.script(
            "const at = document.activeElement; return (at.getAttribute('aria-label') || at.innerText || at.tagName).trim()"
        )

    def grid(self) -> list[list[str]]:
        """The lines that are drawn: heads and cells as text."""
        return [line for line in self._read() if line]

    def drawn(self) -> dict[tuple[int, int], str]:
        """The texts that are drawn, by the numbers of their line and column; -1 is the line's head."""
        found = self.script(
            "const depth = document.querySelectorAll('.heads [role=row]').length;"
            "return [...document.querySelectorAll('.line')].flatMap(line => [...line.querySelectorAll('[role=rowheader], [role=gridcell]')]"
            ".map(cell => [line.ariaRowIndex - depth - 1, cell.ariaColIndex - 2,"
            " [...cell.querySelectorAll('span:not(.hidden):not(.track)')].map(each => each.textContent).join('')]))"
        )
        return {(line, column): text for line, column, text in found}

    def request(self) -> dict[str, Any]:
        """The request that the address holds."""
        usual = {"rows": [], "columns": [], "values": [], "where": "", "keep": "", "totals": True, "show_empty": False,
                 "values_on": "columns", "style": []}  # fmt: skip
        text = self.script("return decodeURIComponent(location.hash.slice(1))")
        return {**usual, **json.loads(text)}
