"""Commands killed at random while two other processes ask and refresh the same model: no wrong answer, nothing lost.

``python tests/support/kills.py KILLS [SEED]`` kills so many; the tests kill a few.
"""

from __future__ import annotations

import json
import random
import sys
import tempfile
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path

import relatum
from fault import MODEL, PRODUCT
from forker import Forker, Outcome
from relatum.model.file import read_model
from relatum.runtime.atomic import write_atomically

#: Files of any size are worth keeping, so that every command writes to the cache.
PRELUDE = "import relatum.session.reading as r; r.WORTH_BYTES = 1"
ASK = ("pivot", "shop.toml", "--rows", "product.plant", "--values", "revenue", "--format", "json")


def sales(number: int) -> str:
    """The sales in one of the states in which they are."""
    return "product_id,quantity\n" + "".join(f"P{1 + at % 2},{(at * number) % 9}\n" for at in range(400))


def worth(number: int) -> dict[str, int]:
    """What the revenue of each plant is in that state."""
    found = {"Fern": 0, "Ivy": 0}
    for at in range(400):
        found["Fern" if at % 2 == 0 else "Ivy"] += (at * number) % 9 * (5 if at % 2 == 0 else 7)
    return found


@dataclass
class Trial:
    """A folder at which several processes work, and what went wrong there."""

    folder: Path
    numbers: list[int]
    wrong: list[str] = field(default_factory=list)
    asked: int = 0

    def check_answer(self, said: Outcome) -> None:
        """An answer is one of those that the sales gave in some state; or the command says that they have changed."""
        self.asked += 1
        if said.exit_code == 2 and "has changed since" in said.stderr:
            return
        if said.exit_code:
            self.wrong.append(f"{said.exit_code}: {said.stderr[:300]}")
            return
        found = {each["product.plant"]: each["revenue"] for each in json.loads(said.stdout)["records"]}
        if found not in [worth(number) for number in self.numbers]:
            self.wrong.append(f"{found} is of no state")

    @contextmanager
    def others(self) -> Iterator[None]:
        """Two more processes: one asks, one refreshes and asks."""
        over = threading.Event()

        def work(commands: list[tuple[str, ...]]) -> None:
            forker = Forker()
            while not over.is_set():
                for command in commands:
                    said = forker.run(self.folder, *command, prelude=PRELUDE)
                    if command == ASK:
                        self.check_answer(said)
                    elif said.exit_code not in (0, 1) and "has changed since" not in said.stderr:
                        self.wrong.append(f"{command}: {said.exit_code}: {said.stderr[:300]}")
            forker.close()

        threads = [threading.Thread(target=work, args=(each,)) for each in ([ASK], [("refresh", "shop.toml"), ASK])]
        for thread in threads:
            thread.start()
        try:
            yield
        finally:
            over.set()
            for thread in threads:
                thread.join()


def kill(count: int, seed: int, folder: Path) -> Trial:
    """Kill a number of commands at random moments while the sales change; report what went wrong."""
    chance = random.Random(seed)
    trial = Trial(folder, [1])
    (folder / "shop.toml").write_text(MODEL.split("[[control]]")[0], encoding="utf-8")
    (folder / "product.csv").write_text(PRODUCT, encoding="utf-8")
    (folder / "sales.csv").write_text(sales(1), encoding="utf-8")
    forker = Forker()
    kept = {"product.csv": PRODUCT}
    with trial.others():
        for number in range(count):
            commands = [
                ASK, (*ASK[:-2], "--out", "out.csv"), ("draft", "sales.csv", "product.csv", "-o", "draft.toml", "--replace"), ("refresh", "shop.toml"),
                ("edit", "shop.toml", "measure", f"m{number}", f"revenue + {number}"), ("export", "shop.toml", "-o", "shop.sql"), ("pivot", "shop.toml", "--rows", "product.plant", "--values", "revenue", "--keep-as", f"p{number}"),
            ]  # fmt: skip
            if chance.random() < 0.3:
                trial.numbers.append(number + 2)
                write_atomically(folder / "sales.csv", sales(number + 2))
            before = read_model(folder / "shop.toml")
            command = chance.choice(commands)
            said = forker.run(folder, *command, prelude=PRELUDE, seconds=chance.uniform(0.01, 0.35))
            if said.exit_code not in (-9, 0, 1) and "has changed since" not in said.stderr:
                trial.wrong.append(f"{command}: {said.exit_code}: {said.stderr[:300]}")
            after = read_model(folder / "shop.toml")
            if command[0] not in ("edit", "pivot") and before != after:
                trial.wrong.append(f"{command} changed the model")
            if not set(before.measures) <= set(after.measures) or not set(before.pivots) <= set(after.pivots):
                trial.wrong.append(f"{command} lost something of the model")
            for name, content in kept.items():
                if (folder / name).read_text() != content:
                    trial.wrong.append(f"{command} changed {name}")
            for name in ("draft.toml", "shop.sql", "out.csv"):
                if (folder / name).exists() and not (folder / name).read_text().strip():
                    trial.wrong.append(f"{name} is half-written")
    last = worth(trial.numbers[-1])
    for cache in (True, False):
        model = relatum.open(folder / "shop.toml", cache=cache)
        found = model.pivot("product.plant", values="revenue", totals=False).to_arrow()
        if dict(zip(found["product.plant"].to_pylist(), found["revenue"].to_pylist(), strict=True)) != last:
            trial.wrong.append(f"with the cache {cache}: the last state is another")
    said = forker.run(folder, "refresh", "shop.toml", prelude=PRELUDE, seconds=20)
    if said.exit_code:
        trial.wrong.append(f"the last refresh: {said.exit_code}: {said.stderr[:300]}")
    left = [
        each.name
        for each in folder.iterdir()
        if not each.name.startswith(".")
        and each.name not in ("shop.toml", "sales.csv", "product.csv", "draft.toml", "shop.sql", "out.csv")
    ]
    if left:
        trial.wrong.append(f"left behind: {left}")
    forker.close()
    return trial


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as name:
        found = kill(int(sys.argv[1]), int(sys.argv[2]) if len(sys.argv) > 2 else 1, Path(name))
        print(
            f"{sys.argv[1]} kills, {found.asked} answers of others, {len(found.wrong)} wrong",
            *found.wrong[:20],
            sep="\n",
        )
