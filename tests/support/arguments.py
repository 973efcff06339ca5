"""Calls every public method with arguments of any kind, drawn from its signature.

``python tests/support/arguments.py SECONDS`` does it for as long as one likes; the tests do a moment of it. Whatever is given,
an error is one of Relatum's, a refused call leaves the model as it was, and a model after any accepted calls can be
saved, opened, and asked to the same end.
"""

from __future__ import annotations

import inspect
import io
import random
import sys
import tempfile
import time
from collections import Counter
from collections.abc import Iterator
from contextlib import suppress
from datetime import UTC, date, datetime, timedelta, timezone
from decimal import Decimal
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import pyarrow as pa

import relatum


class Raising:
    """An object every look at which raises."""

    def __getattr__(self, name: str) -> Any:
        raise ZeroDivisionError(name)

    def __repr__(self) -> str:
        raise ZeroDivisionError

    __str__ = __hash__ = __len__ = __iter__ = __bool__ = __fspath__ = __arrow_c_stream__ = __repr__  # type: ignore[assignment]

    def __eq__(self, other: object) -> bool:
        raise ZeroDivisionError


class OddText(str):
    """A text with special characters."""

    def strip(self, *_: Any) -> str:  # type: ignore[override]
        raise ZeroDivisionError

    def __eq__(self, other: object) -> bool:
        raise ZeroDivisionError

    __hash__ = str.__hash__


class Emptied:
    """A reader that was read already."""

    def __arrow_c_stream__(self, requested_schema: object = None) -> object:
        reader = pa.RecordBatchReader.from_batches(pa.schema([("a", pa.int64())]), [])
        return reader.__arrow_c_stream__()


def nested(depth: int) -> list[Any]:
    """A list within lists."""
    made: list[Any] = []
    for _ in range(depth):
        made = [made]
    return made


def wrong() -> list[Any]:
    """Values that hardly any argument takes."""
    cyclic: list[Any] = []
    cyclic.append(cyclic)
    return [
        None, b"bytes", bytearray(b"x"), memoryview(b"x"), float("nan"), float("inf"), -0.0, 10**400, -1, 0, 1.5, True, 3j, Decimal("NaN"), Decimal("sNaN"), Decimal("1e999999"), [], (), {}, set(), frozenset({1}),
        [None], [1, "a"], {"a": 1}, {1: 2}, {None: None}, (item for item in "abc"), iter([]), range(3), nested(100_000), cyclic, Raising(), Raising, OddText("x"), "\ud800", "a\udfffb", ["\ud800"], {"\ud800": 1},
        "", " ", "\0", "x" * 100_000, "(" * 5000, "not " * 3000, "\u202e", "a\nb", "'", '"', '""', ".", "..", "a.", "*", "🙂" * 50, object(), object, int, type, len, lambda: 1, sys, Path("nowhere.csv"), Path("\ud800"), io.StringIO("a"),
        date.min, date.max, datetime.min, datetime.now(UTC), datetime(2024, 1, 1, tzinfo=timezone(timedelta(hours=23))), timedelta.max, np.int64(3), np.float64("nan"), np.array([1, 2]), np.bool_(True), np.datetime64("NaT"),
        pd.NaT, pd.NA, pd.Timestamp("2024-01-02"), pd.DataFrame({"a": [1]}), pa.table({"a": [1]}), pa.scalar(1), Emptied(), Ellipsis, NotImplemented, relatum.NO_MATCH, relatum.OTHERS, slice(1), Exception("x"),
    ]  # fmt: skip


#: Values that some argument takes.
RIGHT = [
    "sales", "product", "plant", "kind", "revenue", "share", "sales.n", "product.plant", "product.kind", "sales.product_id -> product.product_id", "sum(sales.n)", "revenue / 2", "sales.n * 2", "product.kind = 'tree'", "#,##0.00", "0.0%",
    ["product.kind"], ["product.kind", "product.plant"], ["revenue"], "product.kind by revenue desc", "top 2 product.plant by revenue", {"product.kind": "tree"}, {"a": "revenue"}, "bar", "line", 2, 0, 1, True, False, "sales.csv", "product.csv",
    "product_id", "integer", "text", "date", 12.5, Decimal("12.50"), date(2024, 1, 1), date(2024, 12, 31), "sales.day", "en_GB", "EUR", "UTC", "memory", "new", "Label", "about it", {"over": 5}, [{"when": "> 3", "colour": "good"}], "5 s", "1 GB", "departments",
]  # fmt: skip


def world(folder: Path) -> relatum.Model:
    """A model of files, so that it can be saved and opened."""
    rows = "".join(f"2024-{at % 12 + 1:02}-05,{at % 4},{at}\n" for at in range(30))
    (folder / "sales.csv").write_text(f"day,product_id,n\n{rows}")
    (folder / "product.csv").write_text("product_id,plant,kind\n0,fig,tree\n1,ivy,climber\n2,oak,tree\n")
    model = relatum.Model("world")
    model.add_table("sales", folder / "sales.csv")
    model.add_table("product", folder / "product.csv", key="product_id")
    model.relate("sales.product_id -> product.product_id")
    model.measure("revenue", "sum(sales.n)")
    return model


def methods(thing: object) -> dict[str, Any]:
    """The public methods of an object."""
    found = {}
    for name in dir(type(thing)):
        static = inspect.getattr_static(type(thing), name)
        if not name.startswith("_") and (inspect.isfunction(static) or isinstance(static, classmethod)):
            found[name] = getattr(thing, name)
    return found


class Calls:
    """Calls of any kind on models in one folder, and what was wrong with them."""

    def __init__(self, folder: Path, seed: int) -> None:
        self.folder = folder
        self.chance = random.Random(seed)
        self.wrong: list[str] = []
        self.done = Counter[str]()
        self.model = world(folder)
        self.grid = self.model.pivot("product.kind", values="revenue")

    def things(self) -> Iterator[tuple[str, dict[str, Any]]]:
        """All that can be called, by what it belongs to."""
        yield "Model", methods(self.model)
        yield "Grid", methods(self.grid)
        yield (
            "ReportPage",
            {
                "draft": relatum.draft,
                "open": relatum.open,
                "refresh": relatum.refresh,
                "Model": relatum.Model,
                "limited": lambda **limits: relatum.limited(**limits).__enter__(),
            },
        )
        with suppress(relatum.RelatumError):  # a call that was accepted may have taken these away
            yield "MemberList", methods(self.model.members("product.kind"))
            yield "Explanation", methods(self.model.explain("revenue"))

    def value(self) -> Any:
        return self.chance.choice(wrong() if self.chance.random() < 0.6 else RIGHT)

    def call(self) -> None:
        """One call."""
        owner, known = self.chance.choice(list(self.things()))
        name = self.chance.choice([each for each in known if each not in ("close", "edits") or owner == "Grid"])
        given: dict[str, Any] = {}
        extra: list[Any] = []
        for each in inspect.signature(known[name]).parameters.values():
            needed = each.default is inspect.Parameter.empty
            if each.kind is inspect.Parameter.VAR_POSITIONAL:
                extra = [self.value() for _ in range(self.chance.randint(0, 2))]
            elif each.kind is inspect.Parameter.VAR_KEYWORD:
                given |= {
                    word: self.value()
                    for word in self.chance.sample(
                        ["rows", "columns", "values", "where", "time", "cells", "title", "x"], self.chance.randint(0, 2)
                    )
                }
            elif needed or self.chance.random() < 0.3:
                right = not needed or self.chance.random() < 0.7
                given[each.name] = self.chance.choice(RIGHT) if right and self.chance.random() < 0.5 else self.value()
        if name in ("save", "export", "to_csv", "to_html", "to_json"):
            # Nothing is to be written over what the model is read from.
            given = {key: value for key, value in given.items() if key not in ("path",)}
            given["path"] = self.chance.choice(
                [
                    self.folder / "out.csv",
                    self.folder / "out.toml",
                    self.folder / "out.html",
                    *[x for x in wrong() if not isinstance(x, str | Path | OddText)],
                ]
            )
        before = self.model.declaration
        shown = f"{owner}.{name}({', '.join(f'{key}={self._told(value)}' for key, value in given.items())}{', *' + self._told(extra) if extra else ''})"
        try:
            positional = [given.pop(each.name) for each in inspect.signature(known[name]).parameters.values()
                          if each.kind is inspect.Parameter.POSITIONAL_OR_KEYWORD and each.name in given] if extra else []  # fmt: skip
            known[name](*positional, *extra, **given)
            self.done["accepted"] += 1
        except relatum.RelatumError as error:
            self.done["refused"] += 1
            str(error).encode()
            if self.model.declaration != before:
                self.wrong.append(f"{shown}: refused, and the model is another: {error}")
        except (Exception, RecursionError) as error:
            self.wrong.append(f"{shown}: {type(error).__name__}: {str(error)[:200]}")

    @staticmethod
    def _told(value: Any) -> str:
        try:
            return repr(value)[:60]
        except BaseException:
            return f"<{type(value).__name__}>"

    def settle(self) -> None:
        """Save the model, open it, and see that it is what it was."""
        path = self.folder / "m.toml"
        try:
            self.model.save(path, allow_outside=True)
        except relatum.RelatumError as error:
            if "can be saved" not in str(error) and "from memory" not in str(error) and "no file" not in str(error):
                self.wrong.append(f"cannot be saved: {error}")
            self.model = world(self.folder)
            return
        except Exception as error:
            self.wrong.append(f"saving: {type(error).__name__}: {error}")
            self.model = world(self.folder)
            return
        try:
            other = relatum.open(path, allow_outside=True)
            for name in self.model.declaration.measures:
                one, two = (self._answer(each, name) for each in (self.model, other))
                if one != two and not (one != one and two != two):
                    self.wrong.append(f"{name} is {one!r}, and of the saved model {two!r}")
        except Exception as error:
            self.wrong.append(
                f"saved and not opened: {type(error).__name__}: {str(error)[:300]}\n{path.read_text()[:1500]}"
            )
        self.model = world(self.folder)

    @staticmethod
    def _answer(model: relatum.Model, name: str) -> Any:
        try:
            return model.evaluate(name)
        except relatum.RelatumError as error:
            return f"{type(error).__name__}"


def calls(seconds: float, seed: int = 0) -> Calls:
    """Call for so long."""
    with tempfile.TemporaryDirectory() as folder:
        made = Calls(Path(folder), seed)
        end, at = time.monotonic() + seconds, 0
        while time.monotonic() < end:
            made.call()
            at += 1
            if at % 12 == 0:
                made.settle()
        made.settle()
    return made


if __name__ == "__main__":
    found = calls(float(sys.argv[1]), int(sys.argv[2]) if len(sys.argv) > 2 else 0)
    kinds = Counter(each.split("(")[0] + " … " + each.split("): ")[-1][:90] for each in found.wrong)
    print(dict(found.done), f"{len(found.wrong)} wrong")
    for kind, number in kinds.most_common(60):
        print(number, kind)
    print(*found.wrong[:40], sep="\n")
