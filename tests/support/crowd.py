"""Many threads ask one model while others change it: every answer is that of a state that was.

``python tests/support/crowd.py SECONDS [ENGINE]`` runs 24 that ask and 4 that edit; the tests run them for a moment.
"""

from __future__ import annotations

import random
import sys
import threading
import time
from collections import Counter

import pyarrow as pa

import relatum
from relatum.model.declaration import EngineChoice


class Crowd:
    """A model, the states it went through, and what was wrong."""

    def __init__(self, engine: str | EngineChoice = "memory") -> None:
        self.model = relatum.Model("crowd", engine=engine)
        self.model.add_table("s", pa.table({"k": ["a", "b", "a"], "n": [1, 2, 3]}))
        self.model.add_table("p", pa.table({"k": ["a", "b"], "w": [5, 7]}), key="k")
        self.model.relate("s.k -> p.k")
        self.model.measure("m", "sum(s.n * p.w) * 1")
        self.model.measure("half", "m / 2")
        self.model.measure("more", "m + half")
        #: The factors and weights of all states; each is written down before it can be seen.
        self.factors, self.weights = {1}, {(5, 7)}
        self.wrong: list[str] = []
        self.done = Counter[str]()
        self.over = threading.Event()

    def worths(self) -> set[tuple[int, int]]:
        """What the measure m can be of each member."""
        return {(4 * a * f, 2 * b * f) for f in set(self.factors) for a, b in set(self.weights)}

    def ask(self, seed: int) -> None:
        """Ask this and that until it is over."""
        chance = random.Random(seed)
        while not self.over.is_set():
            try:
                kind = chance.choice(["value", "grid", "explain", "members", "changed"])
                self.done[kind] += 1
                match kind:
                    case "value":
                        self._expect(self.model.evaluate("m") in map(sum, self.worths()), "a value of no state")
                    case "grid":
                        rows = self.model.pivot("p.k", values="m, half, more").to_arrow(totals=True).to_pylist()
                        total = next(each for each in rows if each["p.k:total"])
                        parts = tuple(each["m"] for each in rows if not each["p.k:total"])
                        self._expect(
                            parts in self.worths() and sum(parts) == total["m"],
                            f"{parts} and {total['m']} are of no state",
                        )
                        self._expect(
                            all(each["half"] * 2 == each["m"] and each["more"] * 2 == each["m"] * 3 for each in rows),
                            "measures of two states",
                        )
                    case "explain":
                        self._expect(
                            self.model.explain("m", at={"p.k": "a"}).value in [parts[0] for parts in self.worths()],
                            "an explanation of no state",
                        )
                    case "members":
                        self._expect(len(self.model.members("p.k")) == 2, "members of no state")
                    case "changed":
                        grid = self.model.pivot("p.k", values="m")
                        self._expect(grid.again(values="more").turn().result is not None, "no grid")
            except relatum.RelatumError as error:
                self.wrong.append(f"{kind}: {error}")

    def edit(self, seed: int) -> None:
        """Change this and that until it is over."""
        chance = random.Random(seed)
        while not self.over.is_set():
            try:
                kind = chance.choice(["factor", "weights", "together", "extra", "refused"])
                self.done[kind] += 1
                factor, weights = chance.randint(1, 9), (chance.randint(1, 9), chance.randint(1, 9))
                match kind:
                    case "factor":
                        self.factors.add(factor)
                        self.model.measure("m", f"sum(s.n * p.w) * {factor}", replace=True)
                    case "weights":
                        self.weights.add(weights)
                        self.model.add_table(
                            "p", pa.table({"k": ["a", "b"], "w": list(weights)}), key="k", replace=True
                        )
                    case "together":
                        self.factors.add(factor)
                        self.weights.add(weights)
                        with self.model.edits():
                            self.model.measure("m", f"sum(s.n * p.w) * {factor}", replace=True)
                            self.model.add_table(
                                "p", pa.table({"k": ["a", "b"], "w": list(weights)}), key="k", replace=True
                            )
                    case "extra":
                        name = f"x{seed}"
                        self.model.measure(name, "m * 3", replace=name in self.model.declaration.measures)
                        self.model.rename(name, f"{name}_other")
                        self.model.remove(f"{name}_other")
                    case "refused":
                        try:
                            self.model.measure("bad", "sum(nothing.n)")
                            self.wrong.append("an edit that must be refused was not")
                        except relatum.RelatumError:
                            pass
            except relatum.RelatumError as error:
                self.wrong.append(f"{kind}: {error}")

    def _expect(self, right: bool, what: str) -> None:
        if not right:
            self.wrong.append(what)


def crowd(seconds: float, asking: int = 24, editing: int = 4, engine: str | EngineChoice = "memory") -> Crowd:
    """Let them work for so long."""
    made = Crowd(engine)
    threads = [threading.Thread(target=made.ask, args=(seed,)) for seed in range(asking)]
    threads += [threading.Thread(target=made.edit, args=(1000 + seed,)) for seed in range(editing)]
    for thread in threads:
        thread.start()
    time.sleep(seconds)
    made.over.set()
    for thread in threads:
        thread.join()
    return made


if __name__ == "__main__":
    found = crowd(float(sys.argv[1]), engine=sys.argv[2] if len(sys.argv) > 2 else "memory")
    print(dict(found.done), f"{len(found.wrong)} wrong", *found.wrong[:20], sep="\n")
