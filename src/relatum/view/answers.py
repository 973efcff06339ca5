"""What a live page is answered beside grids: the model, lists of members, explanations, pictures, files."""

from __future__ import annotations

import base64
import difflib
import shlex
import tempfile
import threading
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any, assert_never

import msgspec
import numpy as np
import pyarrow as pa

from relatum import markup
from relatum.audit.finding import Money
from relatum.audit.overview import overview
from relatum.audit.relationships import relationship_findings
from relatum.change.impact import Impact, find_relationship
from relatum.data.arrow import python_values
from relatum.data.columns import Array
from relatum.immutable import as_plain
from relatum.language.register import AGGREGATES, RANKINGS, SCALARS, SHORTHANDS
from relatum.model.declaration import Declaration
from relatum.model.names import column_name, literal, quoted
from relatum.model.rewrite import new_text, toml
from relatum.model.save import plain_lists
from relatum.pivot.members import Found, MemberSearch
from relatum.pivot.result import Axis
from relatum.pivot.turning import request_of
from relatum.present.charts.choose import KINDS
from relatum.present.charts.painter import painter
from relatum.present.diagram import Diagram
from relatum.present.diagram.draw import slug
from relatum.present.grid import Grid
from relatum.present.numbers import plain
from relatum.present.sheet import code_names
from relatum.session.session import Session
from relatum.view.live import Live
from relatum.view.protocol import Direct, Edits, KeepPivot, Parts, Remove, Rename, WriteMeasure, bare
from relatum.view.sentence import NO_MATCH, NULL, parts_of
from relatum.wording import counted

#: The kinds of charts, and the files that a grid can be written to, by their endings.
CHARTS = KINDS
ENDINGS = (".csv", ".json", ".parquet", ".arrow", ".txt", ".md", ".xlsx", ".html", ".png", ".svg", ".pdf")
#: The files of rows behind a value.
ROW_ENDINGS = (".csv", ".json", ".parquet", ".arrow")


def names_answer(session: Session) -> dict[str, Any]:
    """The names that a request can use: tables with columns, measures, hierarchies, functions, saved pivots."""
    declaration = session.declaration
    tables = []
    for name in declaration.tables:
        types = session.catalog.columns(name)
        columns = [
            {
                "name": column_name(name, column),
                "short": column,
                "label": _label(declaration, name, column),
                "type": str(types[column]),
                "about": _about(declaration, name, column),
            }
            for column in session.catalog.shown(name)
        ]
        table = declaration.tables[name]
        tables.append({"name": quoted(name), "about": table.about, "rows": session.data[name].rows, "columns": columns})
    return {
        "tables": tables,
        "measures": [_measure_answer(declaration, name) for name in declaration.measures],
        "hierarchies": [
            {"name": quoted(name), "levels": list(each.levels), "about": each.about}
            for name, each in declaration.hierarchies.items()
        ],
        "pivots": [
            {"name": quoted(name), "about": each.about, "request": parts_of(request_of(each, {}))}
            for name, each in declaration.pivots.items()
        ],
        "functions": [
            {"name": record.name, "signature": record.signature, "about": record.about}
            for records in (SCALARS.values(), AGGREGATES.values(), RANKINGS.values(), SHORTHANDS)
            for record in records
        ],
    }


def _measure_answer(declaration: Declaration, name: str) -> dict[str, Any]:
    measure = declaration.measures[name]
    return {
        "name": quoted(name),
        "label": measure.label or name,
        "about": measure.about,
        "formula": measure.formula,
        "format": measure.format,
    }


def _label(declaration: Declaration, table: str, column: str) -> str:
    return declaration.settings(table, column).label or column.replace("_", " ")


def _about(declaration: Declaration, table: str, column: str) -> str:
    owner = declaration.tables[declaration.rows_of(table)]
    derived = owner.derived.get(column)
    return (derived.about or derived.formula) if derived else declaration.settings(table, column).about


# -- a request as text ------------------------------------------------------------------------------------------------


def forms_of(parts: Parts, file: str) -> dict[str, str]:
    """A request as a shell command, as Python, and as a saved pivot of a model file."""
    said = {name: value for name, value in _said(parts).items() if name not in ("totals", "show_empty", "values_on")}
    words = ["relatum", "pivot", file or "MODEL.toml"]
    for name, value in said.items():
        for each in value if isinstance(value, list) else [value]:
            # A style rule is said as in the model file, without its braces.
            words += [f"--{name}", each if isinstance(each, str) else toml(plain_lists(each)).strip("{}").strip()]
    words += [] if parts.totals else ["--no-totals"]
    words += ["--empty"] if parts.show_empty else []
    words += ["--values-on", "rows"] if parts.values_on == "rows" else []
    arguments = ", ".join(f"{name}={value!r}" for name, value in _said(parts).items())
    entry = new_text({"pivot": {"NAME": plain_lists(_said(parts))}})
    return {"shell": " ".join(map(_quoted, words)), "python": f"model.pivot({arguments})", "file": entry.strip()}


def _quoted(word: str) -> str:
    """A word of a shell command, in the quotes that leave it as it is to read."""
    return f'"{word}"' if "'" in word and not set(word) & set('"$`\\!') else shlex.quote(word)


def _said(parts: Parts) -> dict[str, Any]:
    """The parts of a request that say something."""
    usual = msgspec.to_builtins(Parts())
    return {name: value for name, value in msgspec.to_builtins(parts).items() if value != usual[name]}


# -- members ----------------------------------------------------------------------------------------------------------


class Listing:
    """The members of a column, which a page goes through and searches."""

    def __init__(self, found: Found) -> None:
        self.whole = found
        self._search = MemberSearch(found)
        self._last = ("", found, _present_first(found))
        self._prepared = False

    def page(self, like: str, first: int, count: int) -> dict[str, Any]:
        """Some of the members that contain a text: those with rows come first."""
        if not self._prepared:
            # A person looks before they type: the texts are made meanwhile.
            self._prepared = True
            threading.Thread(target=self._search.texts, daemon=True, name="relatum-members").start()
        if like != self._last[0]:
            found = self._search.found(like) if like else self.whole
            self._last = (like, found, _present_first(found))
        return members_answer(self._last[1], self._last[2][first : first + count])


def _present_first(found: Found) -> Array:
    return np.argsort(~found.present, kind="stable")


def without_value(found: Found) -> frozenset[str]:
    """Which of null and no match a column has."""
    members = found.axis.members
    keys = {members.null: NULL, members.no_match: NO_MATCH}
    return frozenset(keys[code] for code in found.codes[found.codes >= members.null].tolist())


def members_answer(found: Found, chosen: Array) -> dict[str, Any]:
    """Some members of a column, each with its count and how formulas write it."""
    members = found.axis.members
    codes = found.codes[chosen]
    names = code_names(found.axis, codes, found.locale)
    values = found.axis.member_values(codes)
    counts = python_values(found.values[0][1].take(chosen)) if len(chosen) else []
    keys = {members.null: NULL, members.no_match: NO_MATCH}
    listed = [
        {
            "text": names[code],
            "key": keys[code] if code in keys else literal(values[code]),
            "count": "" if number is None else f"{number:,}",
            "there": there,
        }
        for code, number, there in zip(codes.tolist(), counts, found.present[chosen].tolist(), strict=True)
    ]
    return {
        "members": listed,
        "total": len(found.codes),
        "present": int(found.present.sum()),
        "counts": found.values[0][0].label,
        "without": sorted(without_value(found), reverse=True),
    }


def key_of(axis: Axis, code: int, member: Any) -> str:
    """How a choice names a member."""
    return {axis.members.null: NULL, axis.members.no_match: NO_MATCH}.get(code) or literal(member)


# -- explanations -----------------------------------------------------------------------------------------------------


def blocks_answer(blocks: Sequence[markup.Block]) -> list[dict[str, Any]]:
    """Lines and tables as plain values."""
    return [_block(each) for each in blocks]


def _block(block: markup.Block) -> dict[str, Any]:
    match block:
        case markup.Line():
            first = block.pieces[0]
            return {"line": block.text, "bold": first.bold, "faint": first.tone in ("faint", "context")}
        case markup.Table():
            return {"heads": [_cells(line) for line in block.heads], "rows": [_cells(line) for line in block.rows]}
        case _:
            assert_never(block)


def _cells(line: markup.Row) -> list[dict[str, Any]]:
    cells = []
    for pieces in map(markup.pieces_of, line):
        first, text = pieces[0], "".join(each.text for each in pieces)
        cells.append({"t": text, "number": first.number, "bold": first.bold, "faint": first.tone == "faint"})
    return cells


def explanation_answer(explanation: Any, against: bool) -> dict[str, Any]:
    """An explanation: its head, what is behind each aggregate, and the difference to another cell."""
    found = explanation.blocks()
    story = explanation.story
    return {
        "head": blocks_answer(found.head),
        "evidence": [
            {"blocks": blocks_answer(blocks), "count": each.count, "kind": each.kind}
            for blocks, each in zip(found.evidence, story.evidence, strict=True)
        ],
        "difference": blocks_answer(found.difference) if against else [],
        "by": story.difference.by if against and story.difference is not None else "",
        "notes": list(story.notes),
    }


def rows_answer(table: Any, first: int, count: int) -> dict[str, Any]:
    """A page of a table's rows, as texts."""
    page = table.slice(first, count)
    columns = [list(map(plain, column.to_pylist())) for column in page.columns]
    return {
        "heads": page.column_names,
        "numbers": [_is_number(field.type) for field in page.schema],
        "rows": [list(line) for line in zip(*columns, strict=True)],
        "total": table.num_rows,
        "first": first,
    }


def _is_number(type_: pa.DataType) -> bool:
    return bool(pa.types.is_integer(type_) or pa.types.is_floating(type_) or pa.types.is_decimal(type_))


# -- pictures and files -----------------------------------------------------------------------------------------------


def chart_answer(grid: Grid, chart: str, mode: str, size: tuple[float, float]) -> dict[str, Any]:
    """A picture of a grid as SVG, the kind that was drawn and why, and what it leaves out."""
    kind = None if chart == "auto" else chart
    drawing = grid.drawing(kind, {"mode": mode, "size": size})
    svg, notes = painter().svg(drawing)
    return {"svg": svg, "choice": str(drawing.choice), "notes": list(notes)}


def file_answer(name: str, write: Callable[[Path], object]) -> dict[str, str]:
    """A file for the page to hand to the person: its name, and its bytes in base64."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / name
        write(path)
        return {"name": name, "bytes": base64.b64encode(path.read_bytes()).decode()}


# -- the model --------------------------------------------------------------------------------------------------------


def model_answer(session: Session, diagram: Diagram) -> dict[str, Any]:
    """Tables with columns, relationships and measures, and the drawing of them."""
    found = overview(session)
    declaration = session.declaration
    related = []
    for number, (each, seen) in enumerate(zip(declaration.relationships, found.relationships, strict=True)):
        related.append(
            {
                "link": str(each),
                "kind": each.kind,
                "direction": each.direction,
                "directions": ["left", "right", "both"] if each.kind == "many_to_many" else ["down", "both", "off"],
                "standby": each.standby,
                "match": seen.match or "equal",
                "filters": seen.filters,
                "rows": seen.rows,
                "matched": seen.matched,
                "problem": seen.problem,
                "id": f"relationship-{number}",
            }
        )
    return {
        "svg": diagram.svg(),
        "tables": [
            {
                "name": quoted(each.name),
                "id": f"table-{slug(each.name)}",
                "kind": each.kind,
                "rows": each.rows,
                "bytes": each.bytes,
                "key": list(each.key),
                "source": each.source,
                "about": each.about,
                "columns": [
                    {"name": one.name, "type": one.type, "members": one.members, "nulls": one.nulls,
                     "bytes": one.bytes, "stored": one.stored, "formula": one.formula, "about": one.about}
                    for one in each.columns
                ],
            }
            for each in found.tables
        ],
        "relationships": related,
        "measures": [_measure_answer(declaration, name) for name in declaration.measures],
    }  # fmt: skip


def relationship_answer(session: Session, link: str) -> list[dict[str, Any]]:
    """What the audit finds about one relationship.

    Raises
    ------
    ModelError
        There is no such relationship.
    """
    declaration = session.declaration
    priced = [name for name, measure in declaration.measures.items() if "¤" in measure.format]
    money = Money(session, next(iter(priced), ""))
    found = relationship_findings(session, find_relationship(declaration, link), money)
    return [as_plain(each) for each in found]


def impact_answer(found: Impact) -> dict[str, Any]:
    """What depends on something: what breaks without it, and what changes, by the reason."""
    together: dict[str, list[str]] = {}
    for each in found.changes:
        together.setdefault(each.effect, []).append(each.called)
    return {
        "thing": f"{found.kind} {found.thing}",
        "breaks": [{"name": each.called, "path": list(each.path[1:])} for each in found.breaks],
        "changes": [{"effect": effect, "names": list(dict.fromkeys(names))} for effect, names in together.items()],
    }


def impact_of_edit(live: Live, edit: Edits) -> dict[str, Any] | None:
    """What depends on the thing that an edit changes; None where it is new."""
    match edit:
        case WriteMeasure(name=name) if bare(name) in live.declaration.measures:
            return impact_answer(live.impact(quoted(bare(name))))
        case Direct(link=name) | Rename(name=name) | Remove(name=name):
            return impact_answer(live.impact(name))
        case WriteMeasure() | KeepPivot():
            return None
        case _:
            assert_never(edit)


def difference_answer(before: str, after: str) -> list[str]:
    """The lines that differ between two texts, with a few around them."""
    lines = difflib.unified_diff(before.splitlines(), after.splitlines(), "file", "page", lineterm="", n=2)
    return list(lines)[2:]


def moved_answer(before: Grid, after: Grid) -> str:
    """How many values of a grid another one has otherwise, in words."""
    one, other = (_values(each) for each in (before, after))
    keys = one.keys() | other.keys()
    moved = sum(one.get(key) != other.get(key) for key in keys)
    return f"{moved:,} of {counted(len(keys), 'value')} change" if moved else "No value of this grid changes."


def _values(grid: Grid) -> dict[tuple[Any, ...], Any]:
    table = grid.to_arrow(totals=True)
    labels = {value.label for value in grid.result.values}
    columns = {name: column.to_pylist() for name, column in zip(table.column_names, table.columns, strict=True)}
    keys = list(zip(*(column for name, column in columns.items() if name not in labels), strict=True))
    return {
        (label, *(keys[at] if keys else ())): value
        for label in columns
        if label in labels
        for at, value in enumerate(columns[label])
    }
