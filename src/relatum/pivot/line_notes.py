"""What the reader of a grid should know of its lines: members left out, not there to be opened, or closed and empty."""

from __future__ import annotations

from typing import Any

import numpy as np
from msgspec.structs import replace

from relatum.data import compute as pc
from relatum.data.buffers import positions_array
from relatum.data.columns import Array, Column
from relatum.data.groups import number_groups, places_of
from relatum.language.expression import (
    Aggregate,
    Expression,
    InContext,
    KeepBest,
    KeepWhere,
    MoveDates,
    PinEdge,
    inner_of,
)
from relatum.language.tree import NO_MATCH
from relatum.pivot.axes import Resolved
from relatum.plan.compile import GrainWanted, Wanted
from relatum.plan.engine import Answer, Cells, Tied
from relatum.plan.notes import Note
from relatum.wording import agreeing, counted, listed, ordinal


def line_notes(resolved: Resolved, wanted: Wanted, found: Answer) -> list[Note]:
    """Notes on members that tops leave out, that ``open (…)`` names in vain, and that are closed upon their values."""
    return [
        *_left_out_notes(resolved, found),
        *_not_there_notes(resolved, found),
        *_deeper_notes(resolved, wanted, found),
    ]


def _left_out_notes(resolved: Resolved, found: Answer) -> list[Note]:
    notes = []
    for each in found.left_out:
        field = resolved.head(each.key)
        assert field.best is not None, "members are left out of the best"
        edge = "largest" if field.best.by[0].descending else "smallest"
        if each.unranked:
            notes.append(Note("hidden", f"No member of {field.name} has a value to rank by, so none is shown."))
        elif each.count:
            one = each.count == 1
            if field.others:
                where = "is counted in others" if one else "are counted in others"
            else:
                where = "is not shown, but counts in totals" if one else "are not shown, but count in totals"
            best = f"the {edge}" if field.best.number == 1 else f"the {field.best.number} {edge}"
            notes.append(Note("hidden", f"{counted(each.count, 'member')} of {field.name} other than {best} {where}."))
        if each.tied is not None:
            notes.append(Note("hidden", _tied_note(field.name, field.best.number, each.tied)))
    return notes


def _tied_note(name: str, number: int, tied: Tied) -> str:
    if tied.outers > 1:
        return f"Because of ties, {tied.outers:,} outer members show more than {counted(number, 'member')} of {name}."
    shown = tied.place - 1 + tied.members
    return (
        f"{tied.members:,} members of {name} tie for {ordinal(tied.place)} place: "
        f"{shown:,} are shown instead of {number:,}."
    )


def _held(values: Column, at: Array) -> set[Any]:
    """Some members as their column holds them."""
    if values.dictionary is None:
        return set(values.values[at].tolist())
    return set(pc.take(values.dictionary, positions_array(values.values[at])).to_pylist())


def _not_there_notes(resolved: Resolved, found: Answer) -> list[Note]:
    """A note for each field of which ``open (…)`` names members that are not shown."""
    notes = []
    for key, opened in found.opened.items():
        field = resolved.head(key)
        if field.opened is None:
            continue
        shown = np.zeros(len(opened), np.bool_)
        for cells in found.cells:
            if key in cells.keys and key not in cells.others:
                shown[cells.codes[:, cells.keys.index(key)]] = True
        there, members = opened & shown, found.members[key]
        held = _held(members.values, np.flatnonzero(there[: members.null]))
        missing = [
            text for text, value in field.opened.named if not (there[members.null] if value is None else value in held)
        ]
        if field.opened.no_match and not there[members.no_match]:
            missing.append(NO_MATCH)
        if missing:
            them = agreeing(len(missing), "it is", "they are")
            notes.append(Note("absent", f"{field.name} does not show {listed(missing)}, so {them} not opened."))
    return notes


# -- closed members whose values are deeper ---------------------------------------------------------------------------


def _deeper_notes(resolved: Resolved, wanted: Wanted, found: Answer) -> list[Note]:
    """A note where a closed member is not shown because all its values are deeper than the computed levels.

    A sum that has a value deeper has one in the coarser cell; only where that is not sure is the whole grid looked at.
    """
    shut = [at for at in range(len(resolved.heads)) if resolved.head(at).stops]
    if not shut or not any(map(_may_lie_deeper, resolved.formulas)):
        return []
    rows = tuple(range(resolved.row_count))
    columns = tuple(range(resolved.row_count, len(resolved.heads)))
    whole = replace(wanted, grains=(GrainWanted((*rows, *columns)),), tops=(), closings=())
    session = resolved.session
    every = session.engine.run(session.plan(whole)[0]).cells[0]
    notes = []
    for at in shut:
        prefix = tuple(key for key in (rows if at in rows else columns) if key <= at)
        deeper = _prefixes(every, prefix)
        shown = [_prefixes(cells, prefix) for cells in found.cells if set(prefix) <= set(cells.keys) - cells.others]
        sizes = [len(found.members[key].values) + 2 for key in prefix]
        count = _missing(deeper, np.concatenate(shown) if shown else deeper[:0], sizes)
        if count:
            name = resolved.head(at).name
            notes.append(
                Note(
                    "hidden",
                    f"{counted(count, 'member')} of {name} not shown: their values are at a deeper level. Open them "
                    "to see the values.",
                )
            )
    return notes


def _prefixes(cells: Cells, keys: tuple[int, ...]) -> Array:
    return cells.codes[:, [cells.keys.index(key) for key in keys]]


def _missing(wanted: Array, there: Array, sizes: list[int]) -> int:
    """How many distinct combinations of one array are not in another."""
    distinct, _ = number_groups(list(wanted.T), sizes, len(wanted))
    return int((places_of(list(distinct.T), list(there.T), sizes) < 0).sum())


def _may_lie_deeper(formula: Expression) -> bool:
    """Whether a formula may have a value in a cell and none in the coarser one."""
    pending, seen = [formula], set[int]()
    while pending:
        part = pending.pop()
        if id(part) in seen:
            continue
        seen.add(id(part))
        if isinstance(part, Aggregate) and part.function == "sole":
            return True
        if isinstance(part, InContext) and any(
            isinstance(change, PinEdge | KeepWhere | KeepBest | MoveDates) for change in part.changes
        ):
            return True
        pending += inner_of(part)
    return False
