"""Several files of one shape as one table, and the rows that a file has gained below those it had."""

from __future__ import annotations

from collections.abc import Mapping

from relatum.data.stacking import appended
from relatum.data.table import TableData
from relatum.data.types import Kind, Type, common_type
from relatum.errors import SourceError
from relatum.sources.files import refuse_unlike


def stacked(parts: Mapping[str, TableData]) -> TableData:
    """The rows of several parts, one below the other.

    Parameters
    ----------
    parts : mapping of str to TableData
        The parts by where they come from, for messages.

    Raises
    ------
    SourceError
        The parts do not have the same columns, or a column has types that do not go together.
    """
    (first_place, first), *others = parts.items()
    for place, part in others:
        refuse_unlike(first_place, first.types, place, part.types)
    types = {name: _common(name, parts) for name in first.types}
    remarks = tuple(remark for part in parts.values() for remark in part.remarks)
    every = list(parts.values())
    return TableData(
        types,
        lambda: sum(part.rows for part in every),
        lambda name: appended([part.column(name) for part in every], types[name]),
        first.left_out,
        first.orders,
        remarks,
    )


def _common(name: str, parts: Mapping[str, TableData]) -> Type:
    (first_place, first), *others = parts.items()
    # A column without any value is read as text, and goes with every type.
    found, found_at = first.types[name], first_place
    for place, part in others:
        here = part.types[name]
        if here == found:
            continue
        both = common_type([found, here])
        if both is None and {found.kind, here.kind} == {Kind.DATE, Kind.TIMESTAMP}:
            both = found if found.kind is Kind.TIMESTAMP else here  # dates alone may be in one of the files
        if both is None and _empty(part, name):
            continue
        if both is None and all(_empty(parts[each], name) for each in list(parts)[: list(parts).index(place)]):
            both = here
        if both is None:
            raise SourceError(
                f"{name} is {here} here and {found} in {found_at}.",
                path=place,
                fix=f'Set its type in the model, type = "text" for the column {name}, or correct the values.',
            )
        found, found_at = both, place if both == here else found_at
    return found


def _empty(part: TableData, name: str) -> bool:
    column = part.column(name)
    return column.null_count == len(column)
