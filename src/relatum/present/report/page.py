"""A report as one file for a browser or a printer: no script, nothing fetched."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from html import escape

from markdown_it import MarkdownIt
from msgspec import Struct

from relatum import markup
from relatum.model.looks import Theme
from relatum.pivot.result import Result
from relatum.present.html import css_of, legend_lines
from relatum.present.page.write import theme_css
from relatum.present.report.figures import Figure
from relatum.present.sheet import NestedLine, Sheet, headed, nested, sheet_of

#: How many lines of a table are printed; a report is read, not searched.
MOST_LINES = 200


class Section(Struct, frozen=True):
    """One part of a report: its heading and content as HTML."""

    heading: str
    body: str


def page(title: str, about: str, sections: Iterable[Section], theme: Theme, locale: str, notes: Sequence[str]) -> str:
    """The whole report.

    Parameters
    ----------
    title, about : str
        What is above it.
    sections : iterable of Section
        Its parts, in order.
    theme : Theme
        Fonts and colours; a report is light, as paper is.
    locale : str
        The language it is in.
    notes : sequence of str
        What is below it all: when and from what it was made.
    """
    parts = [f"<h1>{escape(title)}</h1>"]
    if about:
        parts.append(f'<p class="about">{escape(about)}</p>')
    for section in sections:
        heading = f"<h2>{escape(section.heading)}</h2>" if section.heading else ""
        parts.append(f"<section>{heading}{section.body}</section>")
    parts.append("".join(f'<p class="note">{escape(note)}</p>' for note in notes))
    rule = "default-src 'none'; img-src data:; style-src 'unsafe-inline'"
    return (
        f'<!doctype html>\n<html lang="{escape(locale.replace("_", "-"), quote=True)}"><head><meta charset="utf-8">'
        f'<meta http-equiv="Content-Security-Policy" content="{rule}">'
        '<meta name="viewport" content="width=device-width, initial-scale=1">'
        f"<title>{escape(title)}</title><style>{theme_css(theme)}{_CSS}</style></head>"
        f"<body><main>{''.join(parts)}</main></body></html>\n"
    )


def markdown_html(text: str) -> str:
    """A text in Markdown (CommonMark) as HTML: tags in it stay text, and no picture is fetched."""
    reader = MarkdownIt("commonmark", {"html": False}).enable("table").disable("image")
    usual = reader.validateLink
    # Of a page in a file a link without a scheme leads to a folder of another machine, which learns who asks.
    reader.validateLink = lambda url: usual(url) and not re.match(r"[/\\]{2}|\\|/%5C", url.strip(), re.IGNORECASE)  # type: ignore[method-assign]
    return f'<div class="prose">{reader.render(text)}</div>'


def figures_html(figures: Iterable[Figure]) -> str:
    """Key figures, side by side."""
    cards = "".join(
        f'<div class="figure" title="{escape(each.about, quote=True)}"><dt>{escape(each.heading)}</dt>'
        f"<dd>{escape(each.text)}</dd><dd class=\"moved\">{escape(each.moved)}</dd></div>"
        for each in figures
    )  # fmt: skip
    return f'<dl class="figures">{cards}</dl>'


def svg_html(svg: str, label: str) -> str:
    """A drawing in the page, with what it shows for whoever cannot see it."""
    inner = re.sub(r"^.*?(?=<svg)", "", svg, count=1, flags=re.DOTALL)
    return f'<figure role="img" aria-label="{escape(label, quote=True)}">{inner}</figure>'


def filters_html(result: Result) -> str:
    """The filters in force."""
    return "".join(f'<p class="note above">{escape(text)}</p>' for text in result.request.filters)


def notes_html(result: Result) -> str:
    """The notes of a grid."""
    return "".join(f'<p class="note">note: {escape(note.text)}</p>' for note in result.notes)


def table_html(result: Result) -> str:
    """A grid as a table: deeper members further in, looks as everywhere."""
    sheet = sheet_of(result)
    lines = nested(sheet, [axis.attribute is not None for axis in result.axes[: result.row_count]])
    body = "".join(_line(line, sheet) for line in lines[:MOST_LINES])
    more = f'<p class="note">{len(lines) - MOST_LINES:,} more lines</p>' if len(lines) > MOST_LINES else ""
    inner = f"<thead>{_heads(result, sheet)}</thead><tbody>{body}</tbody>"
    table = f'<div class="wide"><table style="--characters:{_characters(lines, sheet)}">{inner}</table></div>'
    legend = legend_lines(sheet.legend)
    return table + more + (markup.html(legend) if legend else "")


def _characters(lines: Sequence[NestedLine], sheet: Sheet) -> int:
    """How many characters wide a table is: it is set smaller to fit paper, and a screen as long as it can be read."""
    heads = max((len(line.text) + 2 * line.depth for line in lines), default=8)
    columns = [
        max([len(line.cells[at].text) for line in lines if line.cells] + [_longest_word(sheet, at)])
        for at in range(len(sheet.columns))
    ]
    return heads + sum(each + 3 for each in columns) + 3


def _longest_word(sheet: Sheet, at: int) -> int:
    return max((len(word) for label in sheet.columns[at].labels for word in label.text.split()), default=4)


def _heads(result: Result, sheet: Sheet) -> str:
    depth = sheet.depth
    heading = " / ".join(axis.label for axis in result.axes[: result.row_count] if axis.attribute is None)
    rows = []
    for level in range(depth):
        cells = [f'<th scope="col" class="first">{escape(heading) if level == depth - 1 else ""}</th>']
        before: tuple[object, ...] = ()
        for line in sheet.columns:
            labels = tuple((label.text, label.code) for label in line.labels[: level + 1])
            text = line.labels[level].text if level < len(line.labels) else ""
            if not line.labels and level == depth - 1:
                text = headed(result.values[0], sheet.writers[0])
            shown = "" if labels == before and level < depth - 1 else text
            cells.append(f'<th scope="col">{escape(shown)}</th>')
            before = labels
        rows.append(f"<tr>{''.join(cells)}</tr>")
    return "".join(rows)


def _line(line: NestedLine, sheet: Sheet) -> str:
    faint = line.kind in ("null", "no match", "others")
    kind = ' class="total"' if line.total else ' class="faint"' if faint else ""
    style = f"padding-left:{0.4 + line.depth * 1.1:.1f}em;{css_of(line.look)}"
    cells = [f'<th scope="row" style="{style}">{escape(line.look.marked(line.text))}</th>']
    for at, cell in enumerate(line.cells or ()):
        names = [name for name, there in (("null", cell.null), ("negative", cell.negative),
                                          ("total", sheet.columns[at].total)) if there]  # fmt: skip
        named = f' class="{" ".join(names)}"' if names else ""
        own = css_of(cell.look)
        styled = f' style="{own}"' if own else ""
        cells.append(f"<td{named}{styled}>{escape(cell.look.marked(cell.text))}</td>")
    if line.cells is None:
        cells += ["<td></td>"] * len(sheet.columns)
    return f"<tr{kind}>{''.join(cells)}</tr>"


_CSS = """
:root{color-scheme:light}
body{margin:0;background:var(--page);color:var(--text);font:var(--size)/1.45 var(--font)}
main{max-width:62rem;margin:0 auto;padding:2.2rem 1.4rem 3rem}
h1{font-size:1.8em;line-height:1.2;margin:0 0 .3rem}
h2{font-size:1.2em;margin:2.2rem 0 .6rem;padding-top:.5rem;border-top:3px solid var(--accent)}
.about{color:var(--faint);margin:.2rem 0 1rem;font-size:1.08em}
.prose{max-width:44rem}.prose table{width:auto}
.note{color:var(--faint);font-size:.92em;margin:.15rem 0}
.figures{display:flex;flex-wrap:wrap;gap:1rem;margin:.4rem 0}
.figure{flex:1 1 9.5rem;border-left:3px solid var(--accent);padding:.2rem .2rem .2rem .8rem}
.figure dt{color:var(--faint)}.figure dd{margin:0;font-size:1.65em;font-variant-numeric:tabular-nums}
.figure .moved{font-size:.92em}
figure{margin:.4rem 0;overflow-x:auto}figure svg{max-width:100%;height:auto}
.wide{overflow-x:auto;container-type:inline-size;background:
linear-gradient(to right,var(--page) 40%,transparent) left/3rem 100% no-repeat local,
linear-gradient(to left,var(--page) 40%,transparent) right/3rem 100% no-repeat local,
linear-gradient(to right,var(--faint),transparent) left/.7rem 100% no-repeat scroll,
linear-gradient(to left,var(--faint),transparent) right/.7rem 100% no-repeat scroll}
.wide table{font-size:clamp(.68em,calc(100cqw / var(--characters) / .62),1em)}
.wide .first,.wide th[scope=row]{position:sticky;left:0}.wide th[scope=row]{background-color:var(--page)}
.wide .total th[scope=row]{background-color:var(--total)}
table{border-collapse:collapse;font-variant-numeric:tabular-nums;margin:.5rem 0;min-width:50%}
th,td{padding:.22em .7em;text-align:right;border-bottom:1px solid var(--line-colour);white-space:nowrap;font-weight:400}
thead th{background:var(--head);color:var(--head-text);font-weight:600;border:0;white-space:normal}
thead th{vertical-align:bottom}
th[scope=row],thead .first{text-align:left}
.total th,.total td,td.total{background-color:var(--total);font-weight:700}
.faint th{font-style:italic;color:var(--faint)}
.null{color:var(--null)}.negative{color:var(--negative)}
@media (max-width:600px){main{padding:1rem .8rem}.figure{flex-basis:100%}}
@page{margin:16mm 14mm}
@media print{main{max-width:none;padding:0}.wide,figure{overflow:visible}
.wide{background:none;container-type:normal}.wide .first,.wide th[scope=row]{position:static}
.wide table{font-size:min(.95em,calc(182mm / var(--characters) / .62))}th,td{padding:.2em .5em}.note{break-before:avoid}
.above{break-after:avoid}h2{break-after:avoid}figure,.figure,tr{break-inside:avoid}
thead{display:table-header-group}a{color:inherit}}
"""
