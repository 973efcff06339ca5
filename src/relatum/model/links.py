"""The text form of a relationship: ``sales.product_id -> product.product_id``."""

from __future__ import annotations

import re

from relatum.errors import ModelError
from relatum.model.declaration import End
from relatum.model.names import split_list, split_name

_SEVERAL = re.compile(r'(?P<table>(?:"(?:[^"]|"")*"|[^"])+?)\.\s*\((?P<columns>.*)\)\s*\Z', re.DOTALL)
#: A name in quotes, in which no arrow is one, or an arrow.
_PIECES = re.compile(r'"(?:[^"]|"")*"|<->|>-<|->|<-')
#: What is between the ends, and the kind of relationship that it says.
ARROWS = {"<->": "one_to_one", ">-<": "many_to_many", "->": "many_to_one", "<-": "many_to_one"}


def parse_link(text: str) -> tuple[End, End, str]:
    """Read both ends of a relationship and its kind.

    Parameters
    ----------
    text : str
        ``many.column -> one.column`` (or ``one.column <- many.column``), ``left.column <-> right.column`` (one to one)
        or ``left.column >-< right.column`` (many to many). Several columns are ``table.(a, b)``.

    Returns
    -------
    tuple
        The left end, the right end, and ``many_to_one``, ``one_to_one`` or ``many_to_many``.

    Raises
    ------
    ModelError
        The text is not of that form, or the two ends name a different number of columns.

    Examples
    --------
    >>> many, one, kind = parse_link("budget.(region, month) -> region_month.(region, month)")
    >>> many.table, one.columns, kind
    ('budget', ('region', 'month'), 'many_to_one')
    """
    arrows = [each for each in _PIECES.finditer(text) if each[0] in ARROWS]
    if len(arrows) != 1:
        raise ModelError(
            f"The link {text!r} needs exactly one '->' between its two ends.",
            fix="Write the many side first: facts.code -> lookup.code. Use <-> for one to one and >-< for many to "
            "many.",
            place=("link",),
        )
    arrow, sides = arrows[0][0], (text[: arrows[0].start()], text[arrows[0].end() :])
    left, right = (_parse_end(side, text) for side in (reversed(sides) if arrow == "<-" else sides))
    if len(left.columns) != len(right.columns):
        raise ModelError(
            f"The link {text!r} names {len(left.columns)} column(s) on the left and {len(right.columns)} on the right.",
            fix="Each column on one side needs its partner on the other, in the same order.",
            place=("link",),
        )
    return left, right, ARROWS[arrow]


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
        f"In the link {link!r}, {text.strip()!r} is not a column with its table.",
        fix="Write table.column, or table.(first, second) for several columns.",
        place=("link",),
    )
