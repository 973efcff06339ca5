"""Texts that a request compares a column with and that no row of it holds: misspelt, or not there yet."""

from __future__ import annotations

import difflib
from collections.abc import Callable, Iterable, Iterator

import numpy as np
from msgspec import Struct

from relatum.data import compute as pc
from relatum.data.buffers import array_values, positions_array, texts_array
from relatum.data.columns import Members
from relatum.data.types import TEXT
from relatum.language.expression import Apply, Choices, ColumnValue, Constant, Expression, inner_of
from relatum.model.names import column_name, literal
from relatum.plan.notes import Note
from relatum.session.session import Session
from relatum.wording import counted

_NEAREST = 3
#: How many absent members of a long list are named; the rest are counted.
_TOLD = 5
#: Among more members than this, only those that differ by case are looked for.
_COMPARED = 20_000


class _Texts(Struct, frozen=True):
    """Texts that are kept from one question to the next."""

    texts: tuple[str, ...]

    @property
    def nbytes(self) -> int:
        """Bytes held in memory, more or less."""
        return 4 * sum(map(len, self.texts))


def absent_notes(session: Session, expressions: Iterable[Expression]) -> list[Note]:
    """A note for each text that a column is compared with but does not contain, with the nearest members."""
    missing: dict[tuple[str, str], dict[str, None]] = {}
    for column, texts in _compared(expressions):
        for text in _kept(session, column.table, column.column, "absent", tuple(texts), _absent):
            missing.setdefault((column.table, column.column), {})[text] = None
    return [note for (table, column), texts in missing.items() for note in _notes(session, table, column, list(texts))]


def _kept(
    session: Session,
    table: str,
    column: str,
    what: str,
    texts: tuple[str, ...],
    find: Callable[[tuple[str, ...], Members], tuple[str, ...]],
) -> tuple[str, ...]:
    """What is found about texts among a column's members: once for each state of the column."""
    store = session.store
    stamps = (store.stamp(table, column),)
    key = (what, table, column, texts)
    return store.work.keep_lately(key, stamps, lambda: _Texts(find(texts, store.members(table, column)))).texts


def _absent(texts: tuple[str, ...], members: Members) -> tuple[str, ...]:
    """The texts that are not members."""
    known = members.values.dictionary
    there = np.flatnonzero(array_values(pc.is_in(known, texts_array(texts))))
    found = set(pc.take(known, positions_array(there)).to_pylist())
    return tuple(text for text in texts if text not in found)


def _compared(expressions: Iterable[Expression]) -> Iterator[tuple[ColumnValue, list[str]]]:
    pending, seen = list(expressions), set[int]()
    while pending:
        part = pending.pop(0)
        if id(part) in seen:
            continue
        seen.add(id(part))
        if isinstance(part, Apply) and part.function in ("=", "in"):
            columns = [each for each in part.arguments if isinstance(each, ColumnValue) and each.type == TEXT]
            texts = [
                str(each.value) for each in part.arguments if isinstance(each, Constant) and each.value is not None
            ]
            texts += [str(value) for each in part.arguments if isinstance(each, Choices) for value in each.values]
            if len(columns) == 1 and texts:
                yield columns[0], texts
        pending += inner_of(part)


def _notes(session: Session, table: str, column: str, texts: list[str]) -> Iterator[Note]:
    name = column_name(table, column)
    for text in texts[:_TOLD]:
        near = _kept(session, table, column, "nearest", (text,), _nearest)
        shown = f"; the nearest: {', '.join(near)}" if near else ""
        yield Note("absent", f"No row of {table} has {name} = {literal(text)}{shown}.")
    if len(texts) > _TOLD:
        yield Note("absent", f"{counted(len(texts) - _TOLD, 'more text')} of the list appear in no row of {name}.")


def _nearest(texts: tuple[str, ...], members: Members) -> tuple[str, ...]:
    """The members most like a text, each with how many rows have it."""
    (text,) = texts
    names = members.values.dictionary.to_pylist()
    same = [name for name in names if name.lower().strip() == text.lower().strip()]
    if len(names) <= _COMPARED:
        lower = {name.lower(): name for name in names}
        same += [lower[each] for each in difflib.get_close_matches(text.lower(), lower, n=_NEAREST, cutoff=0.6)]
    chosen = list(dict.fromkeys(same))[:_NEAREST]
    counts = np.bincount(members.codes, minlength=members.size)
    return tuple(f"{literal(each)} ({counted(int(counts[names.index(each)]), 'row')})" for each in chosen)
