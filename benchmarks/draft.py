"""How well drafts find relationships: recall and precision on eight schemas with traps.

``python benchmarks/draft.py`` writes each schema's data, drafts a model from it, and compares the links that the draft
draws with those that a modeller would. Links that must not be drawn are counted apart. One schema lies in a PostgreSQL
server that is started for it.
"""

from __future__ import annotations

import sys
import tempfile
import time
from pathlib import Path

import relatum
from draft_data import DEMO, LIBRARY, LIBRARY_SQL, SCHEMAS, Schema, demo_links, score

sys.path.append(str(Path(__file__).parents[1] / "tests"))

from postgres import postgresql


def main() -> None:
    """Draft every schema and print the table."""
    print(
        f"{'schema':22}{'tables':>7}{'right':>7}{'drawn':>7}{'recall':>8}{'precision':>11}{'unsure':>8}{'seconds':>9}"
    )
    for schema in SCHEMAS:
        with tempfile.TemporaryDirectory() as folder:
            right = demo_links(Path(folder)) if schema is DEMO else schema.right
            (Path(folder) / "raw").mkdir()
            report(schema, schema.write(Path(folder) / "raw"), right)
    with postgresql() as server:
        server.execute(LIBRARY_SQL)
        report(LIBRARY, [server.address], LIBRARY.right)


def report(schema: Schema, data: list[str], right: frozenset[str]) -> None:
    """Draft one schema and print its line, and what went wrong below it."""
    start = time.perf_counter()
    draft = relatum.draft(*data)
    seconds = time.perf_counter() - start
    found = score(draft.declaration.relationships, right, schema.also)
    unsure = sum(each.kind == "relationship" and not each.active for each in draft.proposals)
    print(
        f"{schema.name:22}{len(draft.rows):7}{len(right):7}{len(found.drawn):7}{found.recall:8.2f}"
        f"{found.precision:11.2f}{unsure:8}{seconds:9.2f}"
    )
    for link in sorted(right - found.drawn):
        print(f"    missed  {link}")
    for link in sorted(found.wrong):
        print(f"    drawn, and not among the right ones  {link}")
    for link in sorted(found.drawn & set(schema.unsure)):
        print(f"    wrong   {link}: {schema.unsure[link]}")


if __name__ == "__main__":
    main()
