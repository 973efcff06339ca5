"""Random walks over a live page: after each action the grid that is shown is the one that its request asks.

    python tests/support/walks.py 2000 [FIRST]

walks this many actions, from the first one named, and prints how many there were of each kind.
"""

from __future__ import annotations

import json
import random
import sys
import tempfile
from collections import Counter
from pathlib import Path
from typing import Any

from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

import relatum
from browser import chromium
from livepage import LivePage, serving
from relatum.demo.write import write_demo
from relatum.present.sheet import nested, sheet_of

START: dict[str, Any] = {"rows": ["category.department"], "columns": ["calendar.year"], "values": ["revenue"]}
_FIELDS = ("category.category", "customer.region", "calendar.quarter_of_year", "customer.kind", "range")
_MEASURES = ("orders", "margin_rate", "quantity", "average_order")


def shown(grid: relatum.Grid) -> list[list[str]]:
    """The lines of a grid as the page draws them: marks before their texts."""
    result = grid.result
    lines = nested(sheet_of(result), [axis.attribute is not None for axis in result.axes[: result.row_count]])
    return [[line.text, *(f"{cell.look.mark} {cell.text}".strip() for cell in line.cells or ())] for line in lines]


def agrees(page: LivePage, model: relatum.Model) -> None:
    """Compare what the page draws with the answer to the request that it says it asked."""
    request = page.request()
    grid = model.pivot(**{name: part for name, part in request.items() if name != "style"})
    wanted = shown(grid)
    drawn = page.drawn()
    assert drawn or not wanted, request
    for (line, column), text in drawn.items():
        own = wanted[line]
        expected = (
            own[0].removeprefix("▸ ").removeprefix("▾ ") if column < 0 else own[column + 1] if len(own) > 1 else ""
        )
        assert text == expected, (request, line, column)


def _actions(page: LivePage, chance: random.Random) -> list[tuple[str, Any]]:
    words = {
        part: page.script(f"return document.querySelectorAll('[data-part={part}]:not(.add)').length")
        for part in ("values", "rows", "columns", "where", "keep")
    }  # fmt: skip

    def at(part: str) -> str:
        return f"(//button[@data-part='{part}'][not(contains(@class, 'add'))])[{chance.randint(1, words[part])}]"

    def menu(part: str, path: str) -> Any:
        def act() -> None:
            page.tap(at(part))
            found = page.driver.find_elements(By.XPATH, f"//div[@role='dialog']{path}")
            if found:
                chance.choice(found).click()
                page.rest()
            page.press(Keys.ESCAPE)

        return act

    def add(label: str, choices: tuple[str, ...]) -> Any:
        def act() -> None:
            page.tap(f"//button[@aria-label='{label}']")
            page.press(chance.choice(choices), Keys.ENTER)

        return act

    def focus(part: str, *keys: str, held: str = "") -> Any:
        def act() -> None:
            page.script("arguments[0].focus()", page.find(at(part)))
            if held:
                page.chord(held, keys[0])
            else:
                page.press(*keys)

        return act

    def filtered() -> None:
        page.tap("//button[@aria-label='Add a filter']")
        page.press(chance.choice(("customer region", "customer.kind", "calendar.year")), Keys.ENTER)
        page.until(lambda: page.driver.find_elements(By.XPATH, "//div[@role='dialog']//input[@type='checkbox']"))
        boxes = page.driver.find_elements(By.XPATH, "//div[@role='dialog']//input[@type='checkbox']")
        chance.choice(boxes).click()
        page.rest()
        page.press(Keys.ESCAPE)

    def member() -> None:
        lines = page.driver.find_elements(By.XPATH, "//div[@role='rowheader']")
        lines[chance.randrange(min(len(lines), 8))].click()
        page.rest()
        items = page.driver.find_elements(By.XPATH, "//div[@role='dialog']//button[.='Only this' or .='Without this']")
        if items:
            chance.choice(items).click()
            page.rest()
        else:
            page.press(Keys.ESCAPE)

    found: list[tuple[str, Any]] = [
        ("turn", lambda: page.tap("//button[.='Turn']")), ("filter", filtered), ("member", member),
        ("add value", add("Add a value", _MEASURES)),
    ]  # fmt: skip
    for axis in ("rows", "columns"):
        if words[axis] < 2:
            found.append((f"add to {axis}", add(f"Add a {axis[:-1]} field", _FIELDS)))
        if words[axis]:
            found += [
                (f"order {axis}", menu(axis, "//select/option")), (f"top of {axis}", menu(axis, "//input[@name='best']")),
                (f"total of {axis}", menu(axis, "//input[@name='total']")), (f"close {axis}", menu(axis, "//input[@name='closed']")),
                (f"move {axis}", focus(axis, Keys.ARROW_DOWN, held=Keys.ALT)), (f"remove from {axis}", focus(axis, Keys.DELETE)),
            ]  # fmt: skip
    if words["values"] > 1:
        found += [
            ("remove value", focus("values", Keys.DELETE)),
            ("move value", focus("values", Keys.ARROW_RIGHT, held=Keys.ALT)),
        ]
    if words["where"]:
        found += [("remove filter", focus("where", Keys.DELETE)), ("tick", menu("where", "//input[@type='checkbox']"))]
    return found


def walk(
    page: LivePage, model: relatum.Model, chance: random.Random, count: int, told: Counter[str] | None = None
) -> int:
    """Carry out random actions; how many requests there were. At the end all are undone, one by one."""
    start = page.grid()
    asked = 0
    for _ in range(count):
        before = page.request()
        name, act = chance.choice(_actions(page, chance))
        act()
        if told is not None:
            told[name] += 1
        after = page.request()
        asked += after != before
        if after != before:
            agrees(page, model)
    for _ in range(asked + 5):
        if page.driver.find_elements(By.XPATH, "//button[.='Undo'][@disabled]"):
            break
        page.tap("//button[.='Undo']")
    assert page.request() == {**page.request(), **START} and page.grid() == start, "undo leads back to the start"
    return asked


def main() -> None:
    """Walk as many actions as the command line says, fifty at a time, from the first one that it names."""
    count, first = (int(sys.argv[at]) if len(sys.argv) > at else usual for at, usual in ((1, 200), (2, 0)))
    told: Counter[str] = Counter()
    with tempfile.TemporaryDirectory() as folder:
        model = relatum.open(write_demo(Path(folder) / "demo", 4_000))
        asked = 0
        for seed in range(first, first + count, 50):
            with chromium(Path(folder) / f"profile{seed}") as driver, serving(model, editable=False) as server:
                page = LivePage(driver, server, json.dumps(START), width=1600, height=1200)
                asked += walk(page, model, random.Random(seed), min(50, first + count - seed), told)
            print(f"{min(seed + 50 - first, count)} actions, {asked} requests, all as asked", flush=True)
    print(dict(told.most_common()))


if __name__ == "__main__":
    main()
