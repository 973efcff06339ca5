"""Compares the engine with the oracle on one case. Run as a script, it does so on as many random cases as asked."""

from __future__ import annotations

import math
import random
import re
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import replace
from decimal import Decimal
from typing import Any

import pyarrow as pa

import relatum
from oracle import Star
from oracle_rows import NO_MATCH_MEMBER, TOTAL
from stars import ARROW, KEYS, TYPES, Case, random_case

#: The engine refuses a product of decimals with more digits than fit, conditions that reach nothing, and formulas that
#: open a second route; the oracle knows no limit, has a null there, and takes the first route.
REFUSED = (
    "digits after the point",
    "Two routes lead",
    "as its many side",
    "no relationship leads",
    "does not match",
    "No column is mentioned",
    "reaches no aggregate",
    "so this never holds",
)


#: More refused cases than this part would say little of the language.
MOST_REFUSED = 0.25


def frames(star: Star) -> dict[str, pa.Table]:
    """The tables of a star."""
    return {
        name: pa.table(
            {column: pa.array([row[column] for row in rows], ARROW[kind]) for column, kind in TYPES[name].items()}
        )
        for name, rows in star.tables.items()
    }


def build(star: Star, engine: Any = "memory", *, there: bool = False) -> relatum.Model:
    """The star as a model on an engine: its tables handed over as Arrow frames, or ``there`` already."""
    model = relatum.Model("star", engine=engine)
    for name, frame in frames(star).items():
        key = KEYS.get(name, ())
        source: Any = "" if there else frame
        model.add_table(name, source, part=name if there else "", key=key, calendar=name in star.calendars)
    for link in star.links:
        model.relate(
            link.text(),
            match="as_of" if link.as_of else "equal",
            direction=link.direction,
            level=link.level,
            standby=link.standby,
        )
    # Every third model said something else before, and was asked: what it says now must not remember.
    before = len(star.tables["sales"]) % 3 == 0
    if before:
        for table, column in star.derived:
            model.derive(table, column, "1")
        for name in star.measures:
            model.measure(name, "count(sales) + count(product)")
        said = {f"{table}.{column}": f"sum({table}.{column})" for table, column in star.derived}
        model.pivot(rows="product.pid", values={"n": "count(sales)", **said, **{name: name for name in star.measures}})
    for (table, column), formula in star.derived.items():
        model.derive(table, column, formula, replace=before)
    for name, formula in star.measures.items():
        model.measure(name, formula, unrelated="repeat" if name in star.repeat else "blank", replace=before)
    return model


class Refused(Exception):
    """The engine says on purpose that it cannot."""


def pivoted(model: relatum.Model, case: Case) -> relatum.Grid:
    """The grid of a case."""
    return model.pivot(
        rows=[f"{table}.{column}" for table, column in case.fields[:1]],
        columns=[f"{table}.{column}" for table, column in case.fields[1:]],
        values={f"v{number}": formula for number, formula in enumerate(case.formulas)},
        where=case.where,
    )


def told(grid: relatum.Grid) -> list[list[str]]:
    """The notes of a grid, whatever the order of their words: which column is missed first is a matter of the engine."""
    return sorted(sorted(re.findall(r"[^\s,:]+", note.text)) for note in grid.notes)


def disagreement(case: Case, engine: Any = "memory", keep: Callable[[Star], Any] | None = None) -> str | None:
    """What differs between engine and oracle; None when they agree. Raises Refused where the engine refuses the case.

    Another engine than memory is held against that, too: its notes are the same. With ``keep`` the tables are put
    where the engine is beforehand.
    """
    with refusing():
        model = build(case.star)
    if engine == "memory":
        return found_differently(case, model)
    with build(case.star, keep(case.star) if keep else engine, there=keep is not None) as elsewhere:
        return found_differently(case, model, elsewhere)


@contextmanager
def refusing() -> Iterator[None]:
    """A case that the engine refuses on purpose is not a difference."""
    try:
        yield
    except (relatum.FormulaError, relatum.ModelError) as error:
        if any(reason in error.reason for reason in REFUSED):
            raise Refused(error.reason) from None
        raise


def found_differently(case: Case, model: relatum.Model, elsewhere: relatum.Model | None = None) -> str | None:
    """What differs between a model of the case's star, the same one on another engine, and the oracle."""
    with refusing():
        grid = pivoted(model, case)
    if elsewhere is not None:
        notes, grid = told(grid), pivoted(elsewhere, case)
        if told(grid) != notes:
            return f"notes: got {told(grid)}, expected {notes}"
    got = cells_of(grid.to_arrow(totals=True), case)
    expected = case.star.pivot(list(case.fields), list(case.formulas), case.where)
    expected = {tuple(map(_key, key)): values for key, values in expected.items()}
    for key in sorted(expected.keys() | got.keys(), key=repr):
        if key not in got:
            return f"missing cell {key}: expected {expected[key]}"
        if key not in expected:
            return f"cell {key} should not be shown: got {got[key]}"
        for one, other in zip(got[key], expected[key], strict=True):
            if not alike(one, other):
                return f"cell {key}: got {got[key]}, expected {expected[key]}"
    return None


def cells_of(table: Any, case: Case) -> dict[tuple[Any, ...], list[Any]]:
    """A tidy table as values by combination."""
    records = table.to_pylist()
    cells = {}
    for record in records:
        key = []
        for name in (f"{table}.{column}" for table, column in case.fields):
            member = NO_MATCH_MEMBER if record.get(f"{name}:no_match") else record[name]
            key.append(_key(TOTAL if record[f"{name}:total"] else member))
        assert tuple(key) not in cells, f"the cell {key} is there twice"
        cells[tuple(key)] = [record[f"v{number}"] for number in range(len(case.formulas))]
    return cells


def shrunk(case: Case, tries: int = 400, engine: Any = "memory") -> Case:
    """A smaller case that still disagrees: rows, relationships, formulas and filters are dropped while it does."""

    def fails(smaller: Case) -> bool:
        try:
            return disagreement(smaller, engine) is not None
        except Exception:
            return False

    for _ in range(tries):
        found = next((smaller for smaller in _smaller(case) if fails(smaller)), None)
        if found is None:
            return case
        case = found
    return case


def _smaller(case: Case) -> Iterator[Case]:
    star = case.star
    for at in range(len(case.formulas) if len(case.formulas) > 1 else 0):
        yield replace(case, formulas=case.formulas[:at] + case.formulas[at + 1 :])
    if case.where:
        yield replace(case, where="")
    for at in range(len(case.fields)):
        yield replace(case, fields=case.fields[:at] + case.fields[at + 1 :])
    for name in star.measures:
        left = {other: formula for other, formula in star.measures.items() if other != name}
        yield replace(case, star=replace(star, measures=left, known={}))
    for name in star.derived:
        left_derived = {other: formula for other, formula in star.derived.items() if other != name}
        yield replace(case, star=replace(star, derived=left_derived, known={}))
    for at in range(len(star.links)):
        yield replace(case, star=replace(star, links=star.links[:at] + star.links[at + 1 :], known={}))
    for table, rows in star.tables.items():
        for at in range(len(rows) if len(rows) > 1 else 0):
            tables = {**star.tables, table: rows[:at] + rows[at + 1 :]}
            yield replace(case, star=replace(star, tables=tables, known={}))


def _key(member: Any) -> Any:
    # The oracle knows no types: where it has 1, the engine may have 1.0. True is another member than 1.
    if isinstance(member, bool):
        return (bool, member)
    return ("number", float(f"{float(member):.10g}") + 0.0) if isinstance(member, int | float | Decimal) else member


def alike(one: Any, other: Any) -> bool:
    """Whether two values are the same; floats may differ in their last digits, everything else may not."""
    if one is None or other is None:
        return one is other
    if isinstance(one, float) or isinstance(other, float):
        return math.isclose(float(one), float(other), rel_tol=1e-9, abs_tol=1e-7)
    if isinstance(one, int | Decimal) and isinstance(other, int | Decimal):
        return one == other
    return type(one) is type(other) and one == other


def main() -> int:
    """Run a number of random cases and print those that differ."""
    count, seed = int(sys.argv[1]), int(sys.argv[2]) if len(sys.argv) > 2 else 0
    engine = sys.argv[3] if len(sys.argv) > 3 else "memory"
    differ = refused = 0
    for number in range(count):
        case = random_case(random.Random(seed * 1_000_003 + number))
        try:
            found = disagreement(case, engine)
        except Refused:
            refused += 1
            continue
        except Exception as error:
            found = f"{type(error).__name__}: {error}"
        if found:
            differ += 1
            small = case if "Error" in found else shrunk(case, engine=engine)
            print(f"-- case {number} of seed {seed}: {found}\n{small}\n", flush=True)
    print(f"{count} cases, {refused} refused on purpose, {differ} disagreements")
    return 1 if differ or refused > MOST_REFUSED * count else 0


if __name__ == "__main__":
    sys.exit(main())
