"""What the script of a page is given: grids as written, the parts of totals, lists of members."""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable, Mapping, Sequence
from datetime import date, datetime
from decimal import Decimal
from typing import Any

import numpy as np
from msgspec import Struct
from msgspec.structs import asdict, replace

from relatum.data.arrow import python_values
from relatum.data.columns import Array, Column
from relatum.data.types import Kind
from relatum.errors import RequestError
from relatum.model.looks import said_of
from relatum.model.names import column_name, literal, quoted
from relatum.pivot.members import Found
from relatum.pivot.request import Request
from relatum.pivot.result import BELOW, OTHERS, TOTAL, Axis, Result
from relatum.present.charts.frame import is_time, member_paints, steps_of
from relatum.present.looks import PLAIN_LOOK, LegendEntry, Look
from relatum.present.paint import FONT, SIZE, colours_of
from relatum.present.shapes import shape_of
from relatum.present.sheet import (
    Cell,
    Line,
    NestedLine,
    Sheet,
    code_names,
    column_path,
    headed,
    nested,
    nested_paths,
    sheet_of,
    unmarked,
    writers_of,
)

#: The most members of a field that are listed, cells that are prepared, and hidden members that are named.
MOST_MEMBERS, MOST_CELLS, MOST_HIDDEN = 2_000, 300_000, 100_000
#: A script's numbers are exact up to here; larger ones go as text.
_SAFE = 1 << 53


class Asker(Struct, frozen=True):
    """What a page may ask while it is made.

    ``parts`` answers a request with the parts of its values beside them, ``members`` finds a column's members under a
    condition.
    """

    parts: Callable[[Request], Result]
    members: Callable[[str, str], Found]


class LookNumbers:
    """Looks by number, as a page gets them; 0 means no look."""

    def __init__(self) -> None:
        self.numbers: dict[Look, int] = {PLAIN_LOOK: 0}

    def number(self, look: Look) -> int:
        """The number of a look."""
        return self.numbers.setdefault(look, len(self.numbers))

    def listed(self) -> list[dict[str, Any] | None]:
        """What each number stands for."""
        return [None if look == PLAIN_LOOK else _look(look) for look in self.numbers]


def _look(look: Look) -> dict[str, Any]:
    colour = [look.text_colour("light"), look.text_colour("dark")] if look.text_colour("light") else None
    return {
        "colour": colour,
        "fill": None if look.fill is None else [look.fill.light, look.fill.dark],
        "bold": look.bold,
        "mark": look.mark,
        "bar": look.bar,
        "barPaint": None if look.bar_paint is None else [look.bar_paint.light, look.bar_paint.dark],
    }


def document(request: Request, asker: Asker, prepare: Sequence[str]) -> dict[str, Any]:
    """Everything that the script of a page needs.

    Parameters
    ----------
    request : Request
        The grid's.
    asker : Asker
        Answers what else the page needs.
    prepare : sequence of str
        Columns whose members each get a grid in the file.

    Raises
    ------
    RequestError
        The prepared grids would have too many cells; a column is on an axis already.
    """
    first = asker.parts(request)
    lists = [_prepared(request, asker, column, first.facts) for column in prepare]
    _refuse_axes(first, prepare)
    results: dict[str, Result] = {}
    total = 0
    for choice in itertools.product(*(range(len(each["members"]) + 1) for each in lists)):
        conditions = [each["conditions"][at - 1] for each, at in zip(lists, choice, strict=True) if at]
        where = " and ".join(f"({text})" for text in [request.where, *conditions] if text)
        result = first if not conditions else asker.parts(replace(request, where=where))
        total += sum(len(each.codes) for each in (*result.cells, *result.unseen)) * len(result.values)
        if total > MOST_CELLS:
            combinations = math.prod(len(each["members"]) + 1 for each in lists)
            raise RequestError(
                f"The page would hold {combinations:,} grids and more than {MOST_CELLS:,} cells.",
                fix="Prepare fewer columns, or ask for a smaller grid.",
            )
        results[",".join(map(str, choice))] = result
    looks = LookNumbers()
    page = _page(list(results.values()), asker)
    page["prepared"] = [{key: each[key] for key in ("name", "label", "members")} for each in lists]
    page["grids"] = {name: _grid(result, looks) for name, result in results.items()}
    page["first"] = ",".join("0" for _ in lists)
    page["looks"] = looks.listed()
    return page


def _refuse_axes(result: Result, prepare: Sequence[str]) -> None:
    for name in prepare:
        if any(name == axis.name for axis in result.axes):
            raise RequestError(
                f"{name} is on an axis, so its members can be chosen already.", fix="Prepare other columns."
            )


# -- the whole --------------------------------------------------------------------------------------------------------


def _page(results: Sequence[Result], asker: Asker) -> dict[str, Any]:
    """What all grids of a page have in common; the first is the one without prepared members."""
    result = results[0]
    heads = _heads(result)
    theme = result.theme
    rows = [at for at in heads if at < result.row_count]
    columns = [at for at in heads if at >= result.row_count]
    headings = (headed(value, write) for value, write in zip(result.values, writers_of(result), strict=True))
    return {
        "title": f"{result.model}: {', '.join(headings)}",
        "locale": result.locale.replace("_", "-"),
        "filters": result.request.filters,
        "fields": [{"label": result.axes[at].label, "name": result.axes[at].name} for at in heads],
        "rowFields": [heads.index(at) for at in rows],
        "columnFields": [heads.index(at) for at in columns],
        "lists": [_list(results, at, heads.index(at), asker) for at in heads],
        "rowTime": bool(rows) and is_time(result.axes[rows[-1]]),
        "columnTime": bool(columns) and is_time(result.axes[columns[-1]]),
        "steps": [steps_of(result.axes[every[-1]].period) if every else (1,) for every in (rows, columns)],
        "chart": bool(rows) and any(value.type.numeric for value in result.values),
        "size": round((theme.size or SIZE) * 4 / 3, 1),
        "font": theme.font or FONT,
        "colours": {
            mode: {"series": list(each.series), "text": each.text, "line": each.line}
            for mode, each in (("light", colours_of(theme, "light")), ("dark", colours_of(theme, "dark")))
        },
    }


def _values(result: Result, sheet: Sheet) -> list[dict[str, Any]]:
    """The values of a grid: how they are headed and written, and what they are put together from."""
    heads = _heads(result)
    values: list[dict[str, Any]] = []
    for value, write, recipe in zip(result.values, sheet.writers, result.recipes, strict=True):
        shape = shape_of(write) if value.type.numeric else None
        reason = recipe.reason if shape is not None else "it is not a plain number"
        usable = recipe.steps and shape is not None
        values.append(
            {
                "heading": headed(value, write),
                "formula": "\n".join(value.formulas),
                "about": value.about,
                "words": ", ".join(f"{word} {text}" for word, text in said_of(value.format).items()),
                "recipe": recipe.steps if usable else None,
                "uses": list(recipe.numbers) if usable else [],
                "fields": sorted(heads.index(at) for at in recipe.fields if at in heads) if usable else [],
                "beside": sorted(heads.index(at) for at in recipe.beside if at in heads),
                "innermost": recipe.innermost,
                "reason": f"{value.heading}: {reason}",
                "shape": None if shape is None else asdict(shape),
            }
        )
    return values


def _heads(result: Result) -> list[int]:
    """The positions of the fields that no other determines."""
    return [at for at, axis in enumerate(result.axes) if axis.attribute is None]


def legend_line(entry: LegendEntry, looks: LookNumbers) -> dict[str, Any]:
    """A line of the legend, as a page is given it."""
    return {
        "look": looks.number(replace(entry.look, mark="", bar=None)),
        "sample": entry.look.mark or "■",
        "text": entry.line,
        "shades": [[each.light, each.dark] for each in entry.shades],
    }


def _list(results: Sequence[Result], position: int, number: int, asker: Asker) -> dict[str, Any]:
    """The members of a field: those that some grid shows can be chosen, and are before those that none does."""
    first = results[0]
    axis = first.axes[position]
    there = set().union(*(_shown_codes(result, position) for result in results))
    made = axis.name != column_name(axis.table, axis.column)
    counts: dict[int, str] = {}
    if made:
        codes = sorted(code for code in there if code >= 0)
        codes.sort(key=lambda code: int(axis.rank[code]) if code < len(axis.rank) else code)
    else:
        found = asker.members(axis.name, first.where)
        codes = found.codes.tolist()
        counts = _counts(found, first.facts)
        axis = found.axis
    names = code_names(first.axes[position], np.array(codes, np.int64), first.locale)
    codes.sort(key=lambda code: code not in there)
    members = [
        {"c": code, "t": names[code], "n": counts.get(code, ""), "there": code in there}
        for code in codes[:MOST_MEMBERS]
    ]
    if OTHERS in there:
        members.append({"c": OTHERS, "t": "others", "n": "", "there": True})
    return {"field": number, "members": members, "more": max(len(codes) - MOST_MEMBERS, 0)}


def _shown_codes(result: Result, position: int) -> set[int]:
    """The codes of a field's members, and of others, that a grid shows."""
    layout = result.layout()
    rows = position < result.row_count
    lines = layout.rows if rows else layout.columns
    own = lines[:, position if rows else position - result.row_count]
    return set(own[(own >= 0) | (own == OTHERS)].tolist())


def _counts(found: Found, facts: Sequence[str]) -> dict[int, str]:
    """How many rows each member has, of the fact that the grid's values are over, else of the first one."""
    wanted = [f"rows of {fact}" for fact in facts]
    _, column = next((each for each in found.values if each[0].label in wanted), found.values[0])
    return {
        code: f"{value:,}"
        for code, value in zip(found.codes.tolist(), python_values(column), strict=True)
        if isinstance(value, int)
    }


def _prepared(request: Request, asker: Asker, column: str, facts: Sequence[str]) -> dict[str, Any]:
    """A column's members with the condition that each of them is."""
    found = asker.members(column, request.where)
    axis = found.axis
    name = column_name(axis.table, axis.column)
    values = axis.member_values(found.codes)
    names = code_names(axis, found.codes, found.locale)
    counts = _counts(found, facts)
    members, conditions = [], []
    for code, present in zip(found.codes.tolist(), found.present.tolist(), strict=True):
        if not present:
            continue
        members.append({"t": names[code], "n": counts.get(code, ""), "there": True})
        conditions.append(_condition(axis, code, values, axis.members.no_match in found.codes))
    return {"name": name, "label": axis.label, "members": members, "conditions": conditions}


def _condition(axis: Axis, code: int, values: Mapping[int, Any], unmatched: bool) -> str:
    """The condition that a member is; ``unmatched`` says that some rows find none, whose column is null as well."""
    name, no_match = column_name(axis.table, axis.column), f"{quoted(axis.table)} is no match"
    if code == axis.members.no_match:
        return no_match
    if code == axis.members.null:
        return f"{name} is null and not ({no_match})" if unmatched else f"{name} is null"
    return f"{name} = {literal(values[code])}"


# -- one grid ---------------------------------------------------------------------------------------------------------


def _grid(result: Result, looks: LookNumbers) -> dict[str, Any]:
    sheet = sheet_of(result)
    on_rows = bool(sheet.headings) and sheet.headings[-1] == "" and result.request.values_on == "rows"
    lines = nested(sheet, [axis.attribute is not None for axis in result.axes[: result.row_count]])
    paths = nested_paths(lines)
    columns = [column_path(line, result.axes[result.row_count :]) for line in sheet.columns]
    per_value = not on_rows
    texts: list[str | None] = []
    numbers: list[float | None] = []
    styled: dict[int, int] = {}
    for line in lines:
        cells = line.cells
        for at in range(len(columns)):
            cell = None if cells is None else cells[at]
            if cell is None or not cell.there:
                texts.append(None)
                numbers.append(None)
                continue
            look = looks.number(cell.look)
            if look:
                styled[len(texts)] = look
            texts.append(cell.text)
            numbers.append(_ordinal(cell))
    several = len(result.values) > 1
    row_marks, column_marks = _marks(result, paths, rows=True), _marks(result, columns, rows=False)
    row_lines = [
        {
            "t": unmarked(line.text),
            "d": line.depth,
            "k": line.kind,
            "p": list(path),
            "v": _value_of(line, several) if on_rows else -1,
            "l": looks.number(line.look),
            "total": line.total,
            "mark": row_marks.get(path),
        }
        for line, path in zip(lines, paths, strict=True)
    ]
    column_lines = [
        {
            "labels": [
                {"t": unmarked(label.text), "k": label.kind, "c": label.code, "l": looks.number(label.look)}
                for label in line.labels
            ],
            "p": list(path),
            "v": at % len(result.values) if per_value else -1,
            "total": line.total,
            "mark": column_marks.get(path),
            "w": column_width(result, line, [row[at] for row in sheet.cells]),
        }
        for at, (line, path) in enumerate(zip(sheet.columns, columns, strict=True))
    ]  # fmt: skip
    distinct_rows = list(dict.fromkeys(paths))
    distinct_columns = list(dict.fromkeys(columns))
    whole = replace(result, cells=(*result.cells, *result.unseen))
    unseen_rows, unseen_columns = _unseen(whole, distinct_rows, rows=True), _unseen(whole, distinct_columns, rows=False)
    head_texts = [line.depth * 2 + len(line.text) + 2 * bool(line.look.mark) for line in lines]
    heading = " / ".join(axis.label for axis in result.axes[: result.row_count] if axis.attribute is None)
    return {
        "rows": row_lines,
        "columns": column_lines,
        "texts": texts,
        "numbers": numbers,
        "styled": styled,
        "heads": sheet.depth,
        "heading": heading,
        "headWidth": min(max([len(heading), *head_texts], default=8), 60),
        "width": len(distinct_columns) + len(unseen_columns),
        "parts": _parts(whole, [*distinct_rows, *unseen_rows], [*distinct_columns, *unseen_columns]),
        "unseenRows": unseen_rows,
        "unseenColumns": unseen_columns,
        "hidden": _hidden(result),
        "values": _values(result, sheet),
        "notes": [f"note: {note.text}" for note in result.notes],
        "legend": [legend_line(each, looks) for each in sheet.legend],
    }


def _unseen(whole: Result, seen: Sequence[tuple[int, ...]], *, rows: bool) -> list[tuple[int, ...]]:
    """The lines, or columns, of members that tops hide and that no line shows, by their members."""
    layout = whole.layout()
    heads = [at for at in _heads(whole) if (at < whole.row_count) == rows]
    lines = (layout.rows if rows else layout.columns).tolist()
    paths = (_layout_path(line, [at if rows else at - whole.row_count for at in heads]) for line in lines)
    return [path for path in dict.fromkeys(paths) if path not in set(seen)] if whole.unseen else []


def _hidden(result: Result) -> dict[int, list[tuple[list[int], list[int] | None]]]:
    """For each field with a top the members that it hides under each outer combination; None where they are many."""
    found: dict[int, list[tuple[list[int], list[int] | None]]] = {}
    for each in result.hidden:
        sets: dict[tuple[int, ...], list[int]] = {}
        for *outer, code in each.codes.tolist():
            sets.setdefault(tuple(outer), []).append(code)
        usable = len(each.codes) <= MOST_HIDDEN
        under = [(list(outer), codes if usable else None) for outer, codes in sets.items()]
        found[each.field] = under
    return found


class _Mark(Struct, frozen=True):
    """How a line is drawn in a chart: the colours of its innermost member, and its place among the lines as deep."""

    paint: tuple[str, str]
    place: int


def _marks(result: Result, paths: Sequence[tuple[int, ...]], *, rows: bool) -> dict[tuple[int, ...], _Mark]:
    """How lines are drawn, each as in a picture of the grid."""
    heads = [at for at in _heads(result) if (at < result.row_count) == rows]
    found: dict[tuple[int, ...], _Mark] = {}
    for depth, head in enumerate(heads, 1):
        own = [path for path in dict.fromkeys(paths) if len(path) == depth]
        axis = result.axes[head]
        names = code_names(axis, np.array([path[-1] for path in own], np.int64), result.locale)
        paints = member_paints(result, axis, [(path[-1], names.get(path[-1], "")) for path in own])
        found |= {
            path: _Mark((paint.light, paint.dark), at) for at, (path, paint) in enumerate(zip(own, paints, strict=True))
        }
    return found


def _value_of(line: NestedLine, several: bool) -> int:
    """The number of the value on each line when values are on rows; -1 on lines without one."""
    cell = next((cell for cell in line.cells or () if cell.there), None)
    return (-1 if cell is None else cell.number) if several else 0


def _ordinal(cell: Cell) -> float | None:
    """What a cell is ordered by: its number, or for a date its day."""
    match cell.value:
        case bool() | int() | float() | Decimal():
            number = float(cell.value)
            return number if math.isfinite(number) else None
        case datetime():
            return cell.value.timestamp()
        case date():
            return float(cell.value.toordinal())
        case _:
            return None


def column_width(result: Result, column: Line, cells: Sequence[Cell]) -> int:
    """How many characters a column needs for its head and these cells."""
    number = next((cell.number for cell in cells if cell.there), 0)
    own = result.theme.widths.get(result.values[number].label, 0)
    head = column.labels[-1].text if column.labels else result.values[0].heading
    marked = 2 if any(cell.look.mark for cell in cells) else 0
    barred = 12 if any(cell.look.bar for cell in cells) else 0
    return own or min(max([len(cell.text) + marked for cell in cells] + [len(head) + 3, barred, 4]), 40)


def _parts(result: Result, rows: Sequence[tuple[int, ...]], columns: Sequence[tuple[int, ...]]) -> list[dict[str, Any]]:
    """The numbers of each part, for each distinct line and column; whole digits where they are exact."""
    if not result.parts:
        return []
    layout = result.layout()
    heads = _heads(result)
    row_axes = [at for at in heads if at < result.row_count]
    column_axes = [at - result.row_count for at in heads if at >= result.row_count]
    row_places = {_layout_path(line, row_axes): at for at, line in enumerate(layout.rows.tolist())}
    column_places = {_layout_path(line, column_axes): at for at, line in enumerate(layout.columns.tolist())}
    lines = np.array([row_places.get(row, -1) for row in rows], np.int64)
    tops = np.array([column_places.get(column, -1) for column in columns], np.int64)
    cells = np.where((lines < 0)[:, None] | (tops < 0)[None, :], -1, layout.cells[np.ix_(lines, tops)]).reshape(-1)
    found = []
    for part in result.parts:
        column = result.column_of(part.column)
        found.append({"merge": part.merge, **_numbers(column, cells)})
    return found


def _layout_path(line: Sequence[int], axes: Sequence[int]) -> tuple[int, ...]:
    path = []
    for at in axes:
        if line[at] in (TOTAL, BELOW):
            break
        path.append(line[at])
    return tuple(path)


def _numbers(column: Column, places: Array) -> dict[str, Any]:
    known = places >= 0
    at = np.where(known, places, 0)
    if not len(column):
        return {"numbers": [None] * len(places), "scale": 0, "float": True}
    nulls = ~known if column.nulls is None else ~known | column.nulls[at]
    values = column.values[at].tolist()
    exact = column.type.kind in (Kind.INTEGER, Kind.DECIMAL)
    if exact:
        values = [value if abs(value) < _SAFE else str(value) for value in values]
    numbers = [None if null else value for value, null in zip(values, nulls.tolist(), strict=True)]
    return {"numbers": numbers, "scale": column.type.scale if exact else 0, "float": not exact}
