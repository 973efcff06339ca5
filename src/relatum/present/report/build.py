"""From a report's declaration to its page: every part asked, drawn and written."""

from __future__ import annotations

import os
from collections.abc import Callable
from html import escape
from pathlib import Path
from typing import Any

from relatum.arguments import checked
from relatum.errors import RelatumError, RequestError
from relatum.model.declaration import Declaration
from relatum.model.looks import Report, ReportPart
from relatum.pivot.request import Request
from relatum.pivot.result import Result
from relatum.present.grid import Grid
from relatum.present.pictures import picture_bytes
from relatum.present.report.figures import figures_of, figures_request
from relatum.present.report.page import (
    Section,
    figures_html,
    filters_html,
    markdown_html,
    notes_html,
    page,
    svg_html,
    table_html,
)
from relatum.runtime.atomic import write_atomically
from relatum.runtime.progress import reported


@checked
class ReportPage:
    """A finished report: a notebook shows it, :meth:`save` writes it.

    Parameters
    ----------
    title : str
        What heads it.
    text : str
        The page, as HTML: one file without scripts that loads nothing from the network, ready for printing.
    """

    def __init__(self, title: str, text: str) -> None:
        self.title = title
        self.text = text

    def __repr__(self) -> str:
        return f"<Report {self.title}: {len(self.text):,} characters of HTML>"

    def _repr_html_(self) -> str:
        # A separate frame keeps its styles out of the notebook.
        style = "width:100%;height:46em;border:1px solid rgba(128,128,128,.4)"
        title, text = escape(self.title), escape(self.text)
        return f'<iframe sandbox title="{title}" srcdoc="{text}" style="{style}"></iframe>'

    def save(self, path: str | os.PathLike[str]) -> None:
        """Write the page.

        Raises
        ------
        RequestError
            The file does not end in .html.
        """
        target = Path(path)
        if target.suffix.lower() != ".html":
            raise RequestError(
                f"Cannot write a report to files ending in {target.suffix or 'nothing'}.",
                path=target,
                fix="Name a file ending in .html; a browser can print it to PDF.",
            )
        write_atomically(target, self.text)


def report_page(
    name: str,
    report: Report,
    declaration: Declaration,
    pivot: Callable[..., Grid],
    asked: Callable[[Request], Result],
    diagram: Callable[[], Any],
) -> ReportPage:
    """A report with every part worked out.

    Parameters
    ----------
    name : str
        Its name: its title unless it has one.
    report : Report
        Its parts.
    declaration : Declaration
        The model.
    pivot, asked, diagram : callable
        Run a saved pivot, answer a request, and draw the model.

    Raises
    ------
    RelatumError
        A part cannot be understood or drawn; the error says which.
    """
    sections = []
    for number, part in enumerate(reported(report.part, lambda each: f"computing {each.heading or 'a part'}"), 1):
        try:
            sections.append(Section(part.heading, _body(part, pivot, asked, diagram)))
        except RelatumError as error:
            error.reason = f"Part {number} of the report {name}: {error.reason}"
            raise
    title = report.title or name.replace("_", " ")
    notes = [f"{declaration.name}: every number on this page comes from the model."]
    return ReportPage(title, page(title, report.about, sections, declaration.theme, declaration.locale, notes))


def _body(
    part: ReportPart, pivot: Callable[..., Grid], asked: Callable[[Request], Result], diagram: Callable[[], Any]
) -> str:
    if part.text:
        return markdown_html(part.text)
    if part.diagram:
        return svg_html(diagram().svg(), "How the tables are related")
    if part.figures:
        result = asked(figures_request(part.figures, part.against, part.where))
        return filters_html(result) + figures_html(figures_of(result, part.against)) + notes_html(result)
    saved = pivot(saved=part.pivot)
    grid = saved if not part.where else saved.again(where=_both(saved.request.where, part.where))
    pieces = [filters_html(grid.result)]
    if part.chart:
        kind = None if part.chart == "automatic" else part.chart
        figure, choice, notes = grid.drawn(kind, {"bare": True})
        pieces.append(svg_html(picture_bytes(figure, ".svg").decode(), f"{part.heading or part.pivot}, {choice.kind}"))
        pieces += [f'<p class="note">{escape(note)}</p>' for note in notes]
    if part.table:
        pieces.append(table_html(grid.result))
    return "".join([*pieces, notes_html(grid.result)])


def _both(one: str, other: str) -> str:
    return f"({one}) and ({other})" if one else other
