"""A real browser without a screen, and what a test asks of a page in it."""

from __future__ import annotations

import json
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from selenium import webdriver
from selenium.webdriver.chrome.options import Options
from selenium.webdriver.chrome.service import Service
from selenium.webdriver.common.by import By

_ARGUMENTS = (
    "--headless=new", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
    "--disable-component-update", "--disable-sync", "--lang=en",
)  # fmt: skip


@contextmanager
def chromium(folder: Path) -> Iterator[webdriver.Chrome]:
    """The browser, with a separate folder for its profile."""
    options = Options()
    options.binary_location = "/usr/bin/chromium"
    for each in (*_ARGUMENTS, f"--user-data-dir={folder}"):
        options.add_argument(each)
    options.set_capability("goog:loggingPrefs", {"browser": "ALL", "performance": "ALL"})
    driver = webdriver.Chrome(options=options, service=Service("/usr/bin/chromedriver"))
    try:
        yield driver
    finally:
        driver.quit()


class Browsed:
    """A page that is open at an address."""

    def __init__(
        self, driver: webdriver.Chrome, address: str, width: int = 1280, height: int = 800, dark: bool = False
    ) -> None:
        self.driver = driver
        size = {"width": width, "height": height, "deviceScaleFactor": 1, "mobile": False}
        driver.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", size)
        self.prefer(dark)
        driver.get_log("browser")
        driver.get_log("performance")
        driver.get(address)

    def prefer(self, dark: bool) -> None:
        """Has the reader prefer dark or light pages."""
        scheme = [{"name": "prefers-color-scheme", "value": "dark" if dark else "light"}]
        self.driver.execute_cdp_cmd("Emulation.setEmulatedMedia", {"features": scheme})

    def script(self, text: str, *arguments: Any) -> Any:
        """What a script in the page gives back."""
        return self.driver.execute_script(text, *arguments)

    def until(self, holds: Callable[[], Any], seconds: float = 8) -> Any:
        """Waits for something to hold."""
        end = time.monotonic() + seconds
        while True:
            found = holds()
            if found:
                return found
            assert time.monotonic() < end, "it never came to be"
            time.sleep(0.03)

    def find(self, path: str) -> Any:
        """An element by XPath, as soon as it is there."""
        return self.until(lambda: self.driver.find_elements(By.XPATH, path))[0]

    def click(self, path: str) -> None:
        """Clicks an element, which is scrolled to."""
        element = self.find(path)
        self.script("arguments[0].scrollIntoView({block: 'nearest'})", element)
        element.click()
        self.settle()

    def settle(self) -> None:
        """Waits until the page has been drawn again."""
        self.driver.execute_async_script("requestAnimationFrame(() => requestAnimationFrame(arguments[0]))")

    def lines(self) -> list[list[str]]:
        """The visible lines, once they are stable: heads and cells as text; struck-out text in tildes."""
        before: list[list[str]] = []
        for _ in range(60):
            self.settle()
            found = self._read()
            if found and found == before:
                return found
            before = found
            time.sleep(0.05)
        raise AssertionError("the lines never stayed")

    def _read(self) -> list[list[str]]:
        return self.script(
            "return [...document.querySelectorAll('.line')].sort((a, b) => a.ariaRowIndex - b.ariaRowIndex).map(line => "
            "[...line.querySelectorAll('[role=rowheader],[role=gridcell]')].map(cell => "
            "{ const text = [...cell.querySelectorAll('span:not(.hidden):not(.track)')].map(each => each.textContent).join('');"
            " return cell.classList.contains('struck') ? `~${text}~` : text; }))"
        )

    def errors(self, *own: str) -> list[str]:
        """What the browser complained of, and every address that was asked for but the page itself and its ``own``."""
        found = [
            entry["message"] for entry in self.driver.get_log("browser") if entry["level"] in ("SEVERE", "WARNING")
        ]
        for entry in self.driver.get_log("performance"):
            told = json.loads(entry["message"])["message"]
            # A starting browser requests pages itself.
            if told["method"] == "Network.requestWillBeSent" and not told["params"]["documentURL"].startswith(
                "chrome:"
            ):
                address = told["params"]["request"]["url"]
                found += [] if address.startswith(("file:", "data:", "blob:", *own)) else [address]
        return found


class Opened(Browsed):
    """A page in a file that is open."""

    def __init__(self, driver: webdriver.Chrome, path: Path, **look: Any) -> None:
        super().__init__(driver, path.as_uri(), **look)
        self.until(
            lambda: self.script(
                "return document.documentElement.dataset.drawn !== undefined || !document.getElementById('page')"
            )
        )
