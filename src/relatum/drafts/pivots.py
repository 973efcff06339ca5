"""Pivots worth asking of a drafted model, each with what in the data says so."""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Sequence

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from relatum.data import vectors as v
from relatum.data.columns import Array, Column
from relatum.data.types import Kind
from relatum.drafts.proposals import LIKELY, Proposal
from relatum.errors import RelatumError
from relatum.language.expression import Aggregate
from relatum.language.parse import parse_formula
from relatum.language.tree import Call
from relatum.model.declaration import Declaration, Measure, SavedPivot
from relatum.model.names import column_name, quoted, split_name
from relatum.model.routes import Place
from relatum.model.words import is_detail, looks_like_key, plural, thing
from relatum.pivot.answer import answer
from relatum.pivot.request import Request, ValueText, ask
from relatum.pivot.turning import request_of
from relatum.session.session import Session
from relatum.wording import counted

#: The number of members that can be read at a glance; of a column with more, the best are shown.
_FEW, _MANY = 40, 100_000
_MOST_TRIED, _BEST = 12, 20
#: How far a grid of two columns must be from what its totals alone would say, on a scale from 0 to 1.
_NOT_FLAT = 0.05


class _Column(Struct, frozen=True):
    """A column that a fact could be grouped by: how many members it has, and what part of the variance they explain."""

    name: str
    table: str
    members: int
    explains: float


def pivot_proposals(session: Session) -> Iterator[Proposal]:
    """Three to five pivots of the first measure; fewer where the data has nothing to show."""
    declaration = session.declaration
    facts = {name: _fact(session, each) for name, each in declaration.measures.items()}
    summed = [name for name, fact in facts.items() if fact and not _counts(declaration.measures[name])]
    first = next(iter([*_widest(session, facts, summed), *(name for name, fact in facts.items() if fact)]), None)
    if first is None:
        return
    measure, fact = declaration.measures[first], facts[first]
    columns = sorted(_columns(session, measure, fact), key=lambda each: -each.explains)
    few = [each for each in columns if each.members <= _FEW]
    for saved, reason in (
        *_by_best(measure, few),
        *_over_time(session, measure, fact),
        *_two_ways(session, measure, few),
        *_best_of_many(session, measure, columns),
        *_opened(session, measure, fact),
    ):
        try:
            answer(session, request_of(saved, {}))
        except RelatumError:
            continue  # what the data refuses is not worth asking
        yield Proposal("pivot", saved.name, _statement(saved), LIKELY, reason, content=saved)


def _widest(session: Session, facts: dict[str, str], summed: list[str]) -> list[str]:
    """Sums, those first whose rows find most tables, money before other numbers, and then as they come."""

    def rank(name: str) -> tuple[bool, int]:
        reached = {place.table for place in session.catalog.routes.lookups(Place(facts[name]))}
        return not session.declaration.measures[name].format.endswith("0.00"), -len(reached)

    return sorted(summed, key=rank)


def _statement(saved: SavedPivot) -> str:
    columns = f" and {', '.join(saved.columns)}" if saved.columns else ""
    return f"{saved.values[0]} by {', '.join(saved.rows)}{columns}"


def _fact(session: Session, measure: Measure) -> str:
    """The row table of a measure that sums or counts rows; empty for any other."""
    expression = session.formulas.measure(measure.name)
    sums = isinstance(expression, Aggregate) and expression.function in ("sum", "count_rows")
    return expression.row_table if sums and isinstance(expression, Aggregate) else ""


def _counts(measure: Measure) -> bool:
    root = parse_formula(measure.formula)
    return isinstance(root, Call) and root.function == "count"


def _columns(session: Session, measure: Measure, fact: str) -> Iterator[_Column]:
    catalog, store = session.catalog, session.store
    found: list[tuple[str, str, int]] = []
    ends = [end for each in session.declaration.relationships for end in (each.many, each.one)]
    joined = {(end.table, name) for end in ends for name in end.columns}
    for place in catalog.routes.lookups(Place(fact)):
        table = place.table
        if place.level or catalog.is_calendar(table):
            continue
        for column, type_ in catalog.columns(table).items():
            reaches = catalog.filter(table, frozenset([column]), fact) is not None
            key = (column,) == session.declaration.tables[session.declaration.rows_of(table)].key
            names = reaches and not (key or (table, column) in joined or is_detail(column))
            if type_.kind in (Kind.TEXT, Kind.BOOLEAN) and names:
                members = len(store.members(table, column).values)
                # Codes without a table of their own are worth a look where they are few.
                most = _FEW if looks_like_key(column) else _MANY
                if 2 <= members <= most and members * 2 <= max(session.data[fact].rows, 4):
                    found.append((table, column, members))
    found.sort(key=lambda each: (each[2] > _FEW, each[2]))
    for table, column, members in found[:_MOST_TRIED]:
        name = column_name(table, column)
        yield _Column(name, table, members, _explained(session, measure, fact, name))


def _explained(session: Session, measure: Measure, fact: str, column: str) -> float:
    """The part of the variance among the rows of a fact that lies between the members of a column."""
    root = parse_formula(measure.formula)
    if not (isinstance(root, Call) and root.function == "sum" and root.over is None and not root.per):
        return 0.0
    argument = measure.formula[root.arguments[0].span.start : root.arguments[0].span.stop]
    values = (
        ValueText("sum", measure.formula),
        ValueText("rows", f"count({quoted(fact)})"),
        ValueText("variance", f"variance_pop({argument})"),
    )
    result = answer(session, Request((column,), (), values))
    full, total = result.cells[0], result.cells[-1]
    sums, rows = _floats(full.values[0]), _floats(full.values[1])
    variance, count = float(_floats(total.values[2])[0]), float(_floats(total.values[1])[0])
    if not variance or not count or not len(sums):
        return 0.0
    mean = float(sums.sum()) / count
    between = float((rows * (sums / np.maximum(rows, 1) - mean) ** 2).sum()) / count
    return min(between / variance, 1.0)


def _floats(column: Column) -> Array:
    """The values in floats, 0 where there is none."""
    return np.where(v.there(column), v.floats(column), 0.0)


def _by_best(measure: Measure, few: Sequence[_Column]) -> Iterator[tuple[SavedPivot, str]]:
    if not few:
        return
    best, name = few[0], quoted(measure.name)
    values = (name, f"share: share({name} of total)")
    saved = SavedPivot(f"by_{_called(best)}", (f"{best.name} by {name} desc",), (), values)
    example = (
        f"the one that explains most of {measure.name}: {best.explains:.1%}" if best.explains else "the one with fewest"
    )
    yield saved, f"of {counted(len(few), 'column')} with few members {example}"


def _over_time(session: Session, measure: Measure, fact: str) -> Iterator[tuple[SavedPivot, str]]:
    for calendar in session.catalog.calendars(fact)[:1]:
        if session.declaration.tables[session.declaration.rows_of(calendar)].calendar is None:
            continue
        years = len(session.store.members(calendar, "year").values)
        name, period = quoted(measure.name), "quarter" if years > 1 else "month"
        growth = (f"growth: growth({name} over 1 year on {quoted(calendar)})",) if years > 1 else ()
        rows = tuple(f"{quoted(calendar)}.{each}" for each in (("year", period) if years > 1 else (period,)))
        yield SavedPivot("over_time", rows, (), (name, *growth)), f"{quoted(calendar)} covers {counted(years, 'year')}"


def _two_ways(session: Session, measure: Measure, few: Sequence[_Column]) -> Iterator[tuple[SavedPivot, str]]:
    best: tuple[float, _Column, _Column] | None = None
    for one, other in itertools.combinations([each for each in few if each.members <= _FEW][:6], 2):
        places = [{place.table for place in session.catalog.routes.lookups(Place(each.table))} for each in (one, other)]
        if other.table not in places[0] and one.table not in places[1]:
            apart = _apart(session, measure, one.name, other.name)
            if best is None or apart > best[0]:
                best = (apart, one, other)
    if best is None or best[0] < _NOT_FLAT:
        return
    apart, one, other = best
    rows, columns = (one, other) if one.members >= other.members else (other, one)
    name = quoted(measure.name)
    saved = SavedPivot(
        f"{_called(rows)}_by_{_called(columns)}", (f"{rows.name} by {name} desc",), (columns.name,), (name,)
    )
    yield saved, f"{apart:.0%} of it lies in other cells than the row and column totals alone suggest"


def _apart(session: Session, measure: Measure, one: str, other: str) -> float:
    """What part of a measure lies in other cells of a grid than its totals alone would say."""
    request = ask(rows=one, columns=other, values={"value": measure.formula}, totals=False)
    cells = answer(session, request).cells[0]
    values = np.abs(_floats(cells.values[0]))
    if not len(values) or not values.sum():
        return 0.0
    grid = np.zeros(cells.codes.max(axis=0) + 1)
    grid[tuple(cells.codes.T)] = values
    expected = grid.sum(axis=1, keepdims=True) * grid.sum(axis=0, keepdims=True) / grid.sum()
    return float(np.abs(grid - expected).sum() / (2 * grid.sum()))


def _best_of_many(session: Session, measure: Measure, columns: Sequence[_Column]) -> Iterator[tuple[SavedPivot, str]]:
    many = [each for each in columns if each.members > _FEW]
    if not many:
        return
    column, name = max(many, key=lambda each: each.explains), quoted(measure.name)
    result = answer(session, ask(rows=column.name, values={"value": measure.formula}))
    values = np.sort(np.abs(_floats(result.cells[0].values[0])))[::-1]
    part = float(values[:_BEST].sum() / values.sum()) if values.sum() else 0.0
    saved = SavedPivot(f"best_{plural(_called(column))}", (f"{column.name} top {_BEST} with others",), (), (name,))
    yield saved, f"the top {_BEST} of {column.members:,} make up {part:.0%}"


def _opened(session: Session, measure: Measure, fact: str) -> Iterator[tuple[SavedPivot, str]]:
    reached = {place.table for place in session.catalog.routes.lookups(Place(fact))}
    usable = [
        (name, hierarchy)
        for name, hierarchy in session.declaration.hierarchies.items()
        if all(split_name(level)[0] in reached for level in hierarchy.levels)
    ]
    for name, hierarchy in usable[:1]:
        value = quoted(measure.name)
        saved = SavedPivot(f"{name}_opened", (f"{quoted(name)} by {value} desc closed",), (), (value,))
        yield saved, f"{counted(len(hierarchy.levels), 'level')} to open one by one"


def _called(column: _Column) -> str:
    """What the members of a column are, for the name of a pivot."""
    return thing(column.table, split_name(column.name)[-1])


def with_pivots(declaration: Declaration, proposals: Sequence[Proposal]) -> Declaration:
    """The declaration with the pivots that are proposed; one whose name is taken gets another."""
    for each in proposals:
        if isinstance(each.content, SavedPivot):
            declaration = declaration.with_pivot(each.content)
    return declaration


def named_apart(proposals: Iterator[Proposal], declaration: Declaration) -> Iterator[Proposal]:
    """Proposals of pivots under names that nothing else has."""
    taken = {*declaration.tables, *declaration.measures, *declaration.hierarchies, *declaration.pivots}
    for each in proposals:
        assert isinstance(each.content, SavedPivot), "a pivot is proposed"
        name = each.subject
        while name in taken:
            name = f"{name}_pivot"
        taken.add(name)
        yield replace(each, subject=name, content=replace(each.content, name=name))
