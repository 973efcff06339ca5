"""The members of a column: each with its rows under a condition, for whoever has to choose one."""

from __future__ import annotations

import threading
from typing import Any

import numpy as np
import pyarrow as pa
from msgspec import Struct
from msgspec.structs import replace
from numpy.typing import NDArray

from relatum.data import compute as pc
from relatum.data import vectors as v
from relatum.data.arrow import column_to_arrow
from relatum.data.buffers import array_values, fixed_array
from relatum.data.columns import Array, Column
from relatum.data.types import Kind
from relatum.errors import RequestError
from relatum.model.names import quoted
from relatum.pivot.answer import answer
from relatum.pivot.axes import resolve_request
from relatum.pivot.request import Request, ValueText, ask
from relatum.pivot.result import Axis, Result, Value
from relatum.session.session import Session

_MOST = 100_000_000


class Found(Struct, frozen=True, eq=False):
    """The members of a column in their order.

    ``codes`` are those of ``axis``, null and no match last; ``values`` are counts of rows, or one value, each with a
    column as long as ``codes``; ``present`` tells the members that have rows, or a value, under the condition.
    """

    model: str
    locale: str
    currency: str
    where: str
    axis: Axis
    codes: Array
    values: tuple[tuple[Value, Column], ...]
    present: NDArray[np.bool_]

    def to_arrow(self) -> Any:
        """A tidy Arrow table: the member, whether it is no match, its counts or value, and whether it has rows."""
        members = self.axis.members
        known = self.codes < members.null
        empty = not len(members.values)
        own = members.values.take(np.zeros(0, np.int64) if empty else np.where(known, self.codes, 0))
        texts = pa.nulls(len(self.codes)) if empty else column_to_arrow(_with_nulls(own, ~known))
        names, arrays = [self.axis.name], [texts]
        if (self.codes == members.no_match).any():
            names.append(f"{self.axis.name}:no_match")
            arrays.append(fixed_array(self.codes == members.no_match, pa.bool_()))
        for value, column in self.values:
            names.append(value.label)
            arrays.append(column_to_arrow(column))
        return pa.table([*arrays, fixed_array(self.present, pa.bool_())], names=[*names, "present"])


def find_members(session: Session, column: str, where: str = "", value: str = "", like: str = "") -> Found:
    """The members of a column, or of any field.

    Parameters
    ----------
    session : Session
        The model with its data.
    column : str
        ``table.column``, or a formula as on an axis.
    where : str, optional
        A condition: members without rows under it are included, and marked.
    value : str, optional
        A measure or formula to show instead of row counts.
    like : str, optional
        A part of the member's text, or a pattern with ``%`` and ``_``; capitals do not matter.

    Raises
    ------
    RequestError, FormulaError
        The column, the condition or the value cannot be understood; several fields are named.
    """
    values = ask(values=value).values if value else _counts(session, column)
    request = Request(ask(rows=column).rows, (), values, where.strip(), totals=False, cell_limit=_MOST)
    if len(request.rows) != 1:
        fix = f"Name one, as {request.rows[0]}." if request.rows else "Name one: table.column."
        raise RequestError("Members can be listed for only one column.", fix=fix)
    result = answer(session, request)
    every = answer(session, Request(request.rows, (), values, totals=False, cell_limit=_MOST)) if where else result
    axis = result.axes[0]
    codes = _all_codes(every)
    found = result.cells[0].codes[:, 0]
    place = np.full(axis.members.size, -1, np.int64)
    place[found] = np.arange(len(found))
    own = place[codes]
    columns = tuple(
        (each, _taken(column, own)) for each, column in zip(result.values, result.cells[0].values, strict=True)
    )
    present = np.zeros(len(codes), np.bool_)
    for _, column_found in columns:
        present |= v.there(column_found)
    whole = Found(
        model=result.model,
        locale=result.locale,
        currency=result.currency,
        where=result.where,
        axis=axis,
        codes=codes,
        values=columns,
        present=present,
    )
    return MemberSearch(whole).found(like) if like else whole


class MemberSearch:
    """Members that are searched again and again: their texts are made once.

    Parameters
    ----------
    whole : Found
        All of them.
    """

    def __init__(self, whole: Found) -> None:
        self.whole = whole
        self._lock = threading.Lock()
        self._made: tuple[Array, Any] | None = None

    def texts(self) -> tuple[Array, Any]:
        """The places of the members that are neither null nor no match, and their texts in lower case."""
        with self._lock:
            if self._made is None:
                whole = self.whole
                real = np.flatnonzero(whole.codes < whole.axis.members.null)
                values = column_to_arrow(whole.axis.members.values.take(whole.codes[real]))
                texts = pc.cast(values, pa.large_string())
                cased = whole.axis.members.values.type.kind not in (Kind.INTEGER, Kind.DATE)
                self._made = real, pc.utf8_lower(texts) if cased else texts
            return self._made

    def found(self, like: str) -> Found:
        """The members whose text contains something, or matches a pattern with ``%`` and ``_``; case is ignored."""
        whole = self.whole
        real, texts = self.texts()
        wanted = like.lower()
        if set(like) & {"%", "_"}:
            matches = pc.match_like(texts, wanted.replace("\\", "\\\\"))
        else:
            matches = pc.match_substring(texts, wanted)
        places = real[np.flatnonzero(array_values(matches))]
        return replace(
            whole,
            codes=whole.codes[places],
            values=tuple((value, column.take(places)) for value, column in whole.values),
            present=whole.present[places],
        )


def _counts(session: Session, column: str) -> tuple[ValueText, ...]:
    """The rows of each fact that a column filters, or of its own table if it filters none."""
    resolved = resolve_request(session, Request(ask(rows=column).rows, (), (ValueText("one", "1"),)))
    field = resolved.fields[0].field
    catalog, declaration = resolved.session.catalog, session.declaration
    looked_up = {each.one.table for each in declaration.relationships if each.kind != "many_to_many"}
    facts = [
        name
        for name in declaration.tables
        if name not in looked_up
        and name != field.table
        and catalog.filter(field.table, frozenset([field.column]), name) is not None
    ]
    tables = facts or [field.table]
    return tuple(ValueText(f"rows of {name}", f"count({quoted(name)})") for name in tables)


def _all_codes(every: Result) -> Array:
    """All members in their order, null if some row has it, no match if it has rows or a value."""
    axis = every.axes[0]
    size = len(axis.members.values)
    order = np.empty(size, np.int64)
    order[axis.rank[:size]] = np.arange(size)
    last = []
    found = every.cells[0].codes[:, 0]
    if bool((axis.members.codes == axis.members.null).any()):
        last.append(axis.members.null)
    if bool((found == axis.members.no_match).any()):
        last.append(axis.members.no_match)
    return np.concatenate([order, np.array(last, np.int64)])


def _taken(column: Column, places: Array) -> Column:
    """The values at places; null for a place without one."""
    missing = places < 0
    if not len(column):
        blank, nulls = np.zeros(len(places), column.values.dtype), np.ones(len(places), np.bool_)
        return Column(column.type, blank, nulls, column.dictionary)

    return _with_nulls(column.take(np.where(missing, 0, places)), missing)


def _with_nulls(column: Column, nulls: NDArray[np.bool_]) -> Column:
    every = nulls if column.nulls is None else column.nulls | nulls
    return replace(column, nulls=every if every.any() else None)
