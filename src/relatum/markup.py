"""What is shown, in blocks: lines and tables of texts, which a terminal, a notebook and a page each draw their way."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from html import escape
from typing import Literal, assert_never

from msgspec import Struct

_LINE = "1px solid rgba(128,128,128,.4)"
_CELL = f"padding:.15em .7em;border:0;border-bottom:{_LINE};background:none;color:inherit;"

#: What a text is about: a good or bad thing, one worth noticing, a filter in force, or something beside the point.
Tone = Literal["", "good", "bad", "notable", "context", "faint"]


class Text(Struct, frozen=True):
    """A piece of text, and its emphasis."""

    text: str
    number: bool = False
    bold: bool = False
    tone: Tone = ""
    prose: bool = False  # sentences, maybe several lines: they break between words where room is short
    span: int = 1
    css: str = ""  # declarations of its own, which the caller has made of checked colours and numbers alone


#: A cell of a table: one text, or pieces one after another.
Cell = str | Text | tuple[Text, ...]
#: A line of a table.
Row = Sequence[Cell]


class Line(Struct, frozen=True):
    """A line of text: pieces one after another, indented by some characters, maybe apart from what precedes."""

    pieces: tuple[Text, ...]
    indent: int = 0
    apart: bool = False

    @property
    def text(self) -> str:
        """The text of all pieces."""
        return "".join(each.text for each in self.pieces)


class Table(Struct, frozen=True):
    """A table: lines of headings, then lines of cells, maybe apart from what precedes."""

    heads: Sequence[Row]
    rows: Sequence[Row]
    apart: bool = False


#: What anything to be shown consists of, whatever draws it.
Block = Line | Table


def line(*pieces: str | Text, bold: bool = False, tone: Tone = "", indent: int = 0, apart: bool = False) -> Line:
    """A line of pieces; its emphasis is that of plain strings among them."""
    texts = tuple(Text(each, bold=bold, tone=tone) if isinstance(each, str) else each for each in pieces)
    return Line(texts, indent, apart)


def pieces_of(cell: Cell) -> tuple[Text, ...]:
    """The pieces of a cell."""
    match cell:
        case str():
            return (Text(cell),)
        case Text():
            return (cell,)
        case tuple():
            return cell
        case _:
            assert_never(cell)


# -- in a notebook ----------------------------------------------------------------------------------------------------


def html(blocks: Iterable[Block]) -> str:
    """Blocks one below the other as HTML, in the colours of the page, so that light and dark both read."""
    return f'<div style="color:inherit;overflow-x:auto;">{"".join(map(_html, blocks))}</div>'


def _html(block: Block) -> str:
    match block:
        case Line(pieces, indent, apart):
            style = f"margin-left:{indent}ch;" * bool(indent) + "margin-top:.6em;" * apart
            style += "white-space:pre-wrap;" * any(each.prose for each in pieces)
            return f'<div style="{style}">{"".join(map(_span, pieces))}</div>'
        case Table(heads, rows, apart):
            top = "".join(f"<tr>{''.join(_cell(each, 'th') for each in row)}</tr>" for row in heads)
            body = "".join(f"<tr>{''.join(_cell(each, 'td') for each in row)}</tr>" for row in rows)
            style = "border-collapse:collapse;border:0;font-variant-numeric:tabular-nums;"
            style += "margin:1em 0 .4em;" if apart else "margin:.4em 0;"
            return f'<table style="{style}"><thead>{top}</thead><tbody>{body}</tbody></table>'
        case _:
            assert_never(block)


def _cell(cell: Cell, tag: str) -> str:
    """A cell of a table; text is escaped."""
    first, *more = pieces_of(cell)
    style = f"{_CELL}text-align:{'right' if first.number else 'left'};vertical-align:top;"
    style += "font-weight:600;" if (first.bold and not more) or tag == "th" else "font-weight:400;"
    style += "white-space:pre-wrap;" if first.prose else "white-space:pre;"
    span = f' colspan="{first.span}"' if first.span > 1 else ""
    scope = ' scope="col"' if tag == "th" else ""
    inside = "".join(map(_span, (first, *more))) if more else escape(first.text)
    style += "" if more else _tone_css(first.tone) + first.css
    return f'<{tag}{span}{scope} style="{style}">{inside}</{tag}>'


def _span(piece: Text) -> str:
    style = "font-weight:600;" * piece.bold + _tone_css(piece.tone) + piece.css
    return f'<span style="{style}">{escape(piece.text)}</span>' if style else escape(piece.text)


def sample(text: str, css: str) -> Text:
    """A small piece that shows a look."""
    return Text(text, css=f"padding:0 .3em;margin-right:.3em;{css}")


def _tone_css(tone: Tone) -> str:
    match tone:
        case "":
            return ""
        case "good":
            return either("color", "#1d6a45", "#86cfa6")
        case "bad":
            return "font-weight:600;" + either("color", "#9c2f24", "#ee978c")
        case "notable":
            return either("color", "#775200", "#dfb765")
        case "context" | "faint":
            return "opacity:.68;"
        case _:
            assert_never(tone)


def either(name: str, light: str, dark: str) -> str:
    """A declaration for light and for dark; the light one where a browser knows only one."""
    return f"{name}:{light};{name}:light-dark({light},{dark});"
