"""How well drafts do on sixteen schemas with traps: relationships, measures, calendar, and whether the model is.

``python benchmarks/draft.py`` writes each schema's data, drafts a model from it, and compares the links that the draft
draws with those that a modeller would. Links that must not be drawn are counted apart. One schema lies in a PostgreSQL
server that is started for it. With names of schemas, only those are drafted.
"""

from __future__ import annotations

import sys
import tempfile
import time
from pathlib import Path

import relatum
from draft_awkward import AWKWARD
from draft_data import DEMO, LIBRARY, LIBRARY_SQL, SCHEMAS, Schema, demo_links, score, sense
from draft_middle import MIDDLE
from relatum.errors import RelatumError

sys.path.append(str(Path(__file__).parents[1] / "tests" / "support"))

from postgres import postgresql


def main(names: list[str]) -> None:
    """Draft every schema, or those that are named, and print the table."""
    print(
        f"{'schema':22}{'tables':>7}{'right':>7}{'drawn':>7}{'recall':>8}{'precision':>11}{'unsure':>8}"
        f"{'measures':>10}{'sensible':>10}{'found':>8}{'calendar':>10}{'check':>8}{'seconds':>9}"
    )
    for schema in (*SCHEMAS, *AWKWARD, *MIDDLE):
        if names and schema.name not in names:
            continue
        with tempfile.TemporaryDirectory() as folder:
            right = demo_links(Path(folder)) if schema is DEMO else schema.right
            (Path(folder) / "raw").mkdir()
            report(schema, schema.write(Path(folder) / "raw"), right)
    if not names or LIBRARY.name in names:
        with postgresql() as server:
            server.execute(LIBRARY_SQL)
            report(LIBRARY, [server.address], LIBRARY.right)


def report(schema: Schema, data: list[str], right: frozenset[str]) -> None:
    """Draft one schema and print its line, and what went wrong below it."""
    start = time.perf_counter()
    try:
        draft = relatum.draft(*data)
    except Exception as error:  # a crash of any kind is a result here
        print(f"{schema.name:22} no draft: {type(error).__name__}: {error}")
        return
    seconds = time.perf_counter() - start
    found = score(draft.declaration, right, schema.also)
    judged = sense(draft.declaration, schema)
    unsure = sum(each.kind == "relationship" and not each.active for each in draft.proposals)
    wanted = len(schema.measures)
    print(
        f"{schema.name:22}{len(draft.rows):7}{len(right):7}{len(found.drawn):7}{found.recall:8.2f}"
        f"{found.precision:11.2f}{unsure:8}{judged.count:10}"
        f"{1 - len(judged.senseless) / max(judged.count, 1):10.2f}"
        f"{1 - len(judged.missing) / max(wanted, 1):8.2f}{calendar(draft, schema):>10}{checked(draft):>8}{seconds:9.2f}"
    )
    for link in sorted(found.right - found.drawn):
        print(f"    missed  {link}")
    for link in sorted(found.wrong):
        print(f"    drawn, and not among the right ones  {link}")
    for link in sorted(score(draft.declaration, frozenset(schema.unsure), frozenset()).drawn & set(schema.unsure)):
        print(f"    wrong   {link}: {schema.unsure[link]}")
    for formula in judged.senseless:
        print(f"    means nothing  {formula}")
    for formula in judged.missing:
        print(f"    not there  {formula}")


def calendar(draft: relatum.Draft, schema: Schema) -> str:
    """Whether the calendar has the years that are wanted."""
    if schema.years is None:
        return "-"
    ranges = [each.calendar for each in draft.declaration.tables.values() if each.calendar]
    years = [(each.first.year, each.last.year) for each in ranges]
    return "right" if years == [schema.years] else f"{years[0][0]}-{years[0][1]}" if years else "none"


def checked(draft: relatum.Draft) -> str:
    """Whether the drafted model opens and passes its own check."""
    try:
        report = draft.model().check()
    except RelatumError:
        return "no model"
    return "ok" if report.ok else "problem"


if __name__ == "__main__":
    main(sys.argv[1:])
