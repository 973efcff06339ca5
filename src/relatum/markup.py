"""Plain HTML for notebooks: tables and lines in the colours of the page, so that light and dark both read."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from html import escape
from typing import assert_never

from msgspec import Struct

_LINE = "1px solid rgba(128,128,128,.4)"
_CELL = f"padding:.15em .7em;border:0;border-bottom:{_LINE};background:none;color:inherit;"


class Text(Struct, frozen=True):
    """One cell: its text, and its emphasis."""

    text: str
    number: bool = False
    bold: bool = False
    faint: bool = False
    prose: bool = False  # breaks between words where room is short
    span: int = 1
    css: str = ""  # declarations of its own, which the caller has made of checked colours and numbers alone


#: A line of a table.
Row = Sequence[str | Text]


class Line(Struct, frozen=True):
    """A line of text between tables."""

    text: str
    bold: bool = False
    faint: bool = False


class Table(Struct, frozen=True):
    """A table: lines of headings, then lines of cells."""

    heads: Sequence[Row]
    rows: Sequence[Row]


#: What a text of several parts consists of, whatever draws it.
Block = Line | Table


def html(each: Block) -> str:
    """A line or table as HTML."""
    match each:
        case Line():
            return line(each.text, bold=each.bold, faint=each.faint)
        case Table():
            return table(each.heads, each.rows)
        case _:
            assert_never(each)


def cell(text: str | Text, tag: str = "td") -> str:
    """A cell of a table; text is escaped."""
    own = Text(text) if isinstance(text, str) else text
    style = f"{_CELL}text-align:{'right' if own.number else 'left'};vertical-align:top;"
    style += "font-weight:600;" if own.bold or tag == "th" else "font-weight:400;"
    style += "white-space:pre-wrap;" if own.prose else "white-space:pre;"
    style += ("opacity:.65;" if own.faint else "") + own.css
    span = f' colspan="{own.span}"' if own.span > 1 else ""
    scope = ' scope="col"' if tag == "th" else ""
    return f'<{tag}{span}{scope} style="{style}">{escape(own.text)}</{tag}>'


def table(heads: Iterable[Row], rows: Iterable[Row]) -> str:
    """A table: lines of headings, then lines of cells."""
    top = "".join(f"<tr>{''.join(cell(each, 'th') for each in line)}</tr>" for line in heads)
    body = "".join(f"<tr>{''.join(cell(each) for each in line)}</tr>" for line in rows)
    style = "border-collapse:collapse;border:0;margin:.4em 0;font-variant-numeric:tabular-nums;"
    return f'<table style="{style}"><thead>{top}</thead><tbody>{body}</tbody></table>'


def line(text: str, *, bold: bool = False, faint: bool = False, before: str = "") -> str:
    """A line of text; ``before`` is what :func:`sample` makes."""
    style = ("font-weight:600;" if bold else "") + ("opacity:.7;" if faint else "")
    return f'<div style="{style}">{before}{escape(text)}</div>'


def sample(text: str, css: str) -> str:
    """A small piece that shows a look."""
    return f'<span style="padding:0 .3em;margin-right:.3em;{css}">{escape(text)}</span>'


def block(*parts: str) -> str:
    """Lines and tables one below the other, in the colours of the page."""
    return f'<div style="color:inherit;overflow-x:auto;">{"".join(parts)}</div>'
