"""Which columns tell a table's rows apart."""

from __future__ import annotations

from itertools import combinations

import numpy as np

from relatum.data.keys import duplicate_keys
from relatum.data.types import Kind
from relatum.drafts.profile import ColumnProfile, TableProfile
from relatum.drafts.proposals import Proposal
from relatum.model.words import (
    core,
    is_amount,
    is_counted,
    is_measured,
    is_ordinal,
    is_rate,
    looks_like_key,
    subject,
    words,
)
from relatum.wording import counted

#: Pairs and triples of columns are tried only where so few rows say at once that most of them repeat.
_PROBE = 20_000
_MOST_COLUMNS = 8
_FEW = 12


def proposed_key(table: TableProfile) -> tuple[tuple[str, ...], Proposal | None]:
    """The key of a table, with its evidence; an empty one where nothing tells the rows apart, or surely names them."""
    if table.raw.key:
        return table.raw.key, _key(table, table.raw.key, 1.0, "declared by the source")
    almost = [each for each in table.columns.values() if looks_like_key(each.name) and almost_unique(each)]
    singles = [each for each in table.columns.values() if each.unique and _can_be_key(each)]
    if singles and (not almost or any(looks_like_key(each.name) for each in singles)):
        best = min(singles, key=lambda each: (-key_score(table, each), list(table.columns).index(each.name)))
        score = key_score(table, best)
        if score >= 1:
            evidence = f"{counted(table.rows, 'row')}, all values different, no null"
            return (best.name,), _key(table, (best.name,), 0.99 if score >= 2 else 0.9, evidence)
    if almost:
        first = almost[0]
        statement = f"key {first.name}"
        return (), Proposal("key", table.name, statement, 0.5, counted(first.distinct, "value"), why_not_unique(first))
    return _composite(table)


def _key(table: TableProfile, columns: tuple[str, ...], confidence: float, evidence: str) -> Proposal:
    return Proposal("key", table.name, f"key {', '.join(columns)}", confidence, evidence)


def _can_be_key(column: ColumnProfile) -> bool:
    if is_rate(column.name) or is_measured(column.name) or (is_amount(column.name) and not looks_like_key(column.name)):
        return False
    return column.type.kind in (Kind.INTEGER, Kind.TEXT, Kind.DATE)


def key_score(table: TableProfile, column: ColumnProfile) -> int:
    """How much a unique column looks like the key of its table: by its name, its type and its place."""
    own = subject(table.name)
    named_so = core(column.name) == own[-len(core(column.name)) :] or words(column.name) in (
        ("id",),
        ("key",),
        ("code",),
    )
    first = next(iter(table.columns)) == column.name
    if is_counted(column.name):
        return 0
    score = 2 * looks_like_key(column.name) + named_so + first
    # A date for each row is a calendar's key; any unique text in front names its rows.
    return max(score, 2) if column.type.kind is Kind.DATE and first else score


def almost_unique(column: ColumnProfile) -> bool:
    """Whether so few rows share a value that it is a slip rather than the nature of the column."""
    known = column.rows - column.nulls
    return column.rows >= 3 and known > 0 and column.distinct < column.rows and column.distinct >= 0.97 * column.rows


def why_not_unique(column: ColumnProfile) -> str:
    """What keeps a column from being a key."""
    keys, rows, samples = duplicate_keys([column.column])
    if not keys:
        return f"null on {counted(column.nulls, 'row')}"
    return f"not unique: {counted(keys, 'value')} on {counted(rows, 'row')}, for instance {samples[0][0]}"


def _composite(table: TableProfile) -> tuple[tuple[str, ...], Proposal | None]:
    """The shortest set of columns that tells the rows apart; of those as short, the one that is named like a key."""
    usable = [
        each
        for each in table.columns.values()
        if (
            each.type.kind in (Kind.TEXT, Kind.DATE, Kind.TIMESTAMP)
            or (each.type.kind is Kind.INTEGER and (is_ordinal(each.name) or each.is_year))
        )
        and not each.nulls
        and each.distinct > 1
        and not each.unique
        and not is_counted(each.name)
        and not is_rate(each.name)
        and not each.free_text
    ]
    place = {name: at for at, name in enumerate(table.columns)}
    usable.sort(key=lambda each: (-_part_score(table, each), place[each.name]))
    usable = usable[:_MOST_COLUMNS]
    for size in (2, 3, 4):
        ordered = sorted(
            combinations(usable, size),
            key=lambda chosen: (-sum(_part_score(table, each) for each in chosen), sum(place[c.name] for c in chosen)),
        )
        for chosen in ordered:
            if np.prod([float(each.distinct) for each in chosen]) < table.rows:
                continue
            if tells_apart(chosen, table.rows):
                names = tuple(each.name for each in sorted(chosen, key=lambda one: place[one.name]))
                evidence = f"together they are unique on all {counted(table.rows, 'row')}"
                scores = [_part_score(table, each) for each in chosen]
                # On a handful of rows, any two columns differ; many columns differ by chance unless all name something.
                sure = table.rows >= _FEW and (min(scores) > 1 or (size == 2 and max(scores) > 1))
                return names, _key(table, names, 0.9 if sure else 0.7, evidence)
    return (), None


def _part_score(table: TableProfile, column: ColumnProfile) -> int:
    """How much a column looks like a part of its table's key."""
    if looks_like_key(column.name):
        own = subject(table.name)
        return 4 if core(column.name) == own[-len(core(column.name)) :] else 3
    if column.is_time or column.level or column.is_year:
        return 2
    return 2 if is_ordinal(column.name) and column.type.kind is Kind.INTEGER else 1


def tells_apart(columns: tuple[ColumnProfile, ...], rows: int) -> bool:
    """Whether columns together differ on every row."""
    if rows > _PROBE:
        step = np.arange(0, _PROBE)
        if duplicate_keys([each.column.take(step) for each in columns])[0]:
            return False
    return duplicate_keys([each.column for each in columns])[0] == 0
