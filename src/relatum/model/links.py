"""The text form of a relationship: ``sales.product_id -> product.product_id``."""

from __future__ import annotations

import re

from relatum.errors import ModelError
from relatum.model.declaration import End
from relatum.model.names import split_list, split_name

_SEVERAL = re.compile(r"(?P<table>.+?)\.\s*\((?P<columns>.*)\)\s*\Z", re.DOTALL)


def parse_link(text: str) -> tuple[End, End]:
    """Read ``many.columns -> one.columns``.

    Parameters
    ----------
    text : str
        Both ends around ``->``. One column is ``table.column``; several are ``table.(a, b)``.

    Returns
    -------
    tuple of End
        The many side and the one side.

    Raises
    ------
    ModelError
        The text is not of that form, or the two ends name a different number of columns.

    Examples
    --------
    >>> many, one = parse_link("budget.(region, month) -> region_month.(region, month)")
    >>> many.table, one.columns
    ('budget', ('region', 'month'))
    """
    sides = text.split("->")
    if len(sides) != 2:
        raise ModelError(
            f"The link {text!r} has no single '->' between its two ends.",
            fix="Write the many side first: sales.product_id -> product.product_id.",
            place=("link",),
        )
    many, one = (_parse_end(side, text) for side in sides)
    if len(many.columns) != len(one.columns):
        raise ModelError(
            f"The link {text!r} names {len(many.columns)} column(s) on the left and {len(one.columns)} on the right.",
            fix="Each column of one end needs its partner at the other, in the same order.",
            place=("link",),
        )
    return many, one


def _parse_end(text: str, link: str) -> End:
    match = _SEVERAL.match(text.strip())
    if match:
        table = split_name(match["table"])
        columns = [split_name(part) for part in split_list(match["columns"])]
        if len(table) == 1 and columns and all(len(column) == 1 for column in columns):
            return End(table[0], tuple(column[0] for column in columns))
    else:
        parts = split_name(text)
        if len(parts) == 2:
            return End(parts[0], (parts[1],))
    raise ModelError(
        f"In the link {link!r}, {text.strip()!r} is not a table with a column.",
        fix="Write table.column, or table.(first, second) for several columns.",
        place=("link",),
    )
