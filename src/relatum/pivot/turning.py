"""A request turned: with parts changed, members opened or closed, rows and columns swapped; and as it is saved."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from enum import Enum
from functools import partial
from typing import Any

import numpy as np
from msgspec.structs import replace

from relatum.data.groups import distinct
from relatum.errors import RequestError
from relatum.language.parse import parse_axis
from relatum.language.tree import NO_MATCH as NO_MATCH_WORDS
from relatum.model.declaration import SavedPivot
from relatum.model.looks import said_of
from relatum.model.names import literal, quoted
from relatum.pivot.request import AxisWord, Request, ask
from relatum.pivot.result import Axis, Result
from relatum.wording import listed, suggestion


class NoMatch(Enum):
    """Stands for ``(no match)`` where a member is named from Python."""

    NO_MATCH = "(no match)"

    def __repr__(self) -> str:
        return self.value


NO_MATCH = NoMatch.NO_MATCH
#: The parts of a request that can be changed, as callers name them.
PARTS = ("rows", "columns", "values", "where", "keep", "totals", "show_empty", "values_on", "cell_limit", "style")


def changed(request: Request, parts: Mapping[str, Any]) -> Request:
    """A request with some parts changed; those that are not named stay.

    Raises
    ------
    RequestError
        There is no part of that name.
    FormulaError
        The text of a part cannot be read.
    """
    for name in parts:
        if name not in PARTS:
            raise RequestError(f"A request has no part {name}.", fix=suggestion(name, PARTS, noun="part"))
    asked = ask(**parts)
    taken: dict[str, Any] = {name: getattr(asked, name) for name in parts}
    if "values" in parts and "values_on" not in parts and asked.values_on == "rows":
        taken["values_on"] = "rows"  # said after the last value
    return replace(request, **taken)


def turned(request: Request) -> Request:
    """A request with rows and columns swapped, and the values' labels on the other of them."""
    on: AxisWord = "columns" if request.values_on == "rows" else "rows"
    return replace(request, rows=request.columns, columns=request.rows, values_on=on)


# -- saved ------------------------------------------------------------------------------------------------------------


def request_of(saved: SavedPivot, parts: Mapping[str, Any]) -> Request:
    """A saved pivot as a request, with some parts replaced.

    Parameters
    ----------
    saved : SavedPivot
        The pivot as the model has it.
    parts : mapping of str to object
        Parts by name, as :func:`ask` takes them.
    """
    own: dict[str, Any] = {
        "rows": saved.rows,
        "columns": saved.columns,
        "values": saved.values,
        "where": saved.where,
        "keep": saved.keep,
        "totals": saved.totals,
        "show_empty": saved.show_empty,
        "values_on": saved.values_on,
        "style": saved.style,
    }
    return ask(**{**own, **parts})


def saved_as(name: str, request: Request, about: str = "") -> SavedPivot:
    """A request as it is saved under a name."""
    values = tuple(
        "".join([f"{quoted(each.label)}: " if each.label != " ".join(each.formula.split()) else "", each.formula,
                 *(f" {word} {value if isinstance(value, int) else literal(value)}"
                   for word, value in said_of(each.format).items())])
        for each in request.values
    )  # fmt: skip
    return SavedPivot(
        name=name,
        rows=request.rows,
        columns=request.columns,
        values=values,
        where=request.where,
        keep=request.keep,
        totals=request.totals,
        show_empty=request.show_empty,
        values_on="rows" if request.values_on == "rows" else "",
        about=about,
        style=request.style,
    )


# -- open and close ---------------------------------------------------------------------------------------------------


def with_open(result: Result, members: tuple[Any, ...]) -> Request:
    """The request with members opened, each in the outermost field that is closed and shows it.

    Raises
    ------
    RequestError
        No closed field shows a member.
    """
    found = []
    for member in members:
        at = next((number for number, axis in enumerate(result.axes) if _closed_upon(result, axis, member)), None)
        if at is None:
            raise _not_closed(result, member)
        found.append((at, member))
    positions = [at for at, _ in found]
    texts = _Texts(result, positions, positions)
    for at, member in found:
        texts.change(at, partial(_opening, member=member))
        texts.close_below(at)
    return texts.request()


def with_closed(result: Result, members: tuple[Any, ...], depth: int | None) -> Request:
    """The request with members closed again; without any, with only this many row fields opened, one by default.

    Raises
    ------
    RequestError
        No field with deeper ones shows a member as open; there are fewer fields.
    """
    if not members:
        heads = [axis for axis in result.axes[: result.row_count] if axis.attribute is None]
        wanted = 1 if depth is None else depth
        if not 1 <= wanted <= len(heads):
            raise RequestError(f"depth must be 1 to {max(len(heads), 1)}, the number of row fields.")
        last = result.axes.index(heads[wanted - 1])
        texts = _Texts(result, [last] if wanted < len(heads) else [])
        for axis in heads:
            texts.change(result.axes.index(axis), _without_closing)
        if wanted < len(heads):
            texts.change(last, lambda text: f"{text} closed")
        return texts.request()
    closing: dict[int, list[Any]] = {}
    for member in members:
        at = next((number for number, axis in enumerate(result.axes) if _open_upon(result, axis, member)), None)
        if at is None:
            raise RequestError(f"{_shown(member)} is not open.")
        closing.setdefault(at, []).append(member)
    texts = _Texts(result, list(closing))
    for at, shut in closing.items():
        left = [each for each in _open_members(result, result.axes[at]) if not any(_alike(each, one) for one in shut)]
        texts.change(at, partial(_opened, members=left))
    return texts.request()


def _closed_upon(result: Result, axis: Axis, member: Any) -> bool:
    code = _code(result, axis, member)
    return axis.opened is not None and code is not None and not axis.opened[code]


def _open_upon(result: Result, axis: Axis, member: Any) -> bool:
    code = _code(result, axis, member)
    deeper = [each for each in _side(result, axis) if each.attribute is None]
    return code is not None and axis is not deeper[-1] and (axis.opened is None or bool(axis.opened[code]))


def _side(result: Result, axis: Axis) -> list[Axis]:
    at = result.axes.index(axis)
    return list(result.axes[: result.row_count] if at < result.row_count else result.axes[result.row_count :])


def _code(result: Result, axis: Axis, member: Any) -> int | None:
    """The code of a member, where the grid shows it."""
    if axis.attribute is not None:
        return None
    codes = _codes(result, axis)
    found = axis.member_values(codes)
    names = {**found, axis.members.null: None, axis.members.no_match: NO_MATCH}
    return next((code for code in codes.tolist() if code in names and _alike(names[code], member)), None)


def _codes(result: Result, axis: Axis) -> Any:
    key = result.fields.index(result.axes.index(axis))
    parts = [
        cells.codes[:, cells.keys.index(key)] for cells in result.cells if key in cells.keys and key not in cells.others
    ]
    return distinct(np.concatenate(parts)) if parts else np.zeros(0, np.int64)


def _open_members(result: Result, axis: Axis) -> list[Any]:
    codes = _codes(result, axis)
    names = {**axis.member_values(codes), axis.members.null: None, axis.members.no_match: NO_MATCH}
    return [names[code] for code in codes.tolist() if axis.opened is None or axis.opened[code]]


def _alike(one: Any, other: Any) -> bool:
    if isinstance(one, bool) or isinstance(other, bool) or one is None or other is None:
        return one is other
    return (type(one) is type(other) and bool(one == other)) or (_number(one) and _number(other) and bool(one == other))


def _number(value: Any) -> bool:
    return isinstance(value, int | float) or hasattr(value, "as_tuple")


def _not_closed(result: Result, member: Any) -> RequestError:
    closed = [axis for axis in result.axes if axis.opened is not None]
    if not closed:
        return RequestError(
            "No field of this grid is closed; all its members are open.",
            fix=f"Close one: '{result.axes[0].name} closed'." if result.axes else "It has no fields.",
        )
    names = listed([axis.name for axis in closed])
    return RequestError(
        f"{_shown(member)} is not a closed member of {names}.", fix="Open a member that is shown as closed."
    )


def _shown(member: Any) -> str:
    return repr(member) if isinstance(member, NoMatch) else literal(member)


# -- texts of fields --------------------------------------------------------------------------------------------------


class _Texts:
    """The texts of a request's fields while some are changed.

    A hierarchy's text says what is closed of its first level alone. Where more is to be said, it is written as its
    levels: ``closed`` are the positions of the axes that close or open, ``opened`` of those of which the next level
    is closed then.
    """

    def __init__(self, result: Result, closed: Sequence[int] = (), opened: Sequence[int] = ()) -> None:
        self.result = result
        self.texts = {"rows": list[list[str]](), "columns": list[list[str]]()}
        for side, own in (("rows", result.request.rows), ("columns", result.request.columns)):
            for source, text in enumerate(own):
                group = [at for at, axis in enumerate(result.axes) if (axis.side, axis.source) == (side, source)]
                split = any(at in group[1:] for at in closed) or any(
                    at in group[:-1] and self._goes_on(at + 1) for at in opened
                )
                levels = [result.axes[at] for at in group]
                self.texts[side].append(_level_texts(text, levels) if split else [text])

    def change(self, at: int, change: Callable[[str], str]) -> None:
        """Change the text of one field; of a hierarchy that is not written as levels, that of the first alone."""
        texts, level = self._of(at)
        if level < len(texts):
            texts[level] = change(texts[level])

    def close_below(self, at: int) -> None:
        """Close the next level of a hierarchy that has one, unless something is said of it already."""
        texts, level = self._of(at)
        if level + 1 < len(texts) and self._goes_on(at + 1):
            (below,) = parse_axis(texts[level + 1])
            texts[level + 1] += " closed" if below.closing is None else ""

    def _goes_on(self, at: int) -> bool:
        """Whether there are fields below one."""
        axis = self.result.axes[at]
        deepest = [each for each in _side(self.result, axis) if each.attribute is None][-1]
        return axis is not deepest

    def request(self) -> Request:
        """The request with the texts as they are now."""
        rows, columns = (tuple(text for texts in self.texts[side] for text in texts) for side in ("rows", "columns"))
        return replace(self.result.request, rows=rows, columns=columns)

    def _of(self, at: int) -> tuple[list[str], int]:
        axis = self.result.axes[at]
        own = (axis.side, axis.source)
        first = next(number for number, each in enumerate(self.result.axes) if (each.side, each.source) == own)
        return self.texts[axis.side][axis.source], at - first


def _level_texts(text: str, levels: Sequence[Axis]) -> list[str]:
    """The text of a hierarchy as those of its levels, each with its options; what is closed is at the first."""
    (item,) = parse_axis(text)
    named = item.upto or item.formula
    closing = f" {text[item.closing.start : item.closing.stop]}" if item.closing is not None else ""
    options = _without_closing(text)[named.span.stop :].rstrip()
    return [
        f"{level.name}{'' if level.attribute is not None else options}{closing if at == 0 else ''}"
        for at, level in enumerate(levels)
    ]


def _without_closing(text: str) -> str:
    (item,) = parse_axis(text)
    if item.closing is None:
        return text
    return f"{text[: item.closing.start].rstrip()}{text[item.closing.stop :]}"


def _opened(text: str, members: list[Any]) -> str:
    written = ", ".join(NO_MATCH_WORDS if isinstance(each, NoMatch) else literal(each) for each in members)
    return f"{_without_closing(text)} {f'open ({written})' if members else 'closed'}"


def _opening(text: str, member: Any) -> str:
    """The text of a closed field with one member more among those that are open."""
    (item,) = parse_axis(text)
    own = NO_MATCH_WORDS if isinstance(member, NoMatch) else literal(member)
    if item.closing is None or item.closed:
        return f"{_without_closing(text)} open ({own})"
    opening = text[item.closing.start : item.closing.stop]
    return f"{text[: item.closing.start]}{opening[:-1]}, {own}){text[item.closing.stop :]}"
