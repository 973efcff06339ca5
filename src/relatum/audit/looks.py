"""What is wrong with how a model looks: rules that cannot be asked, reports, colours that are hard to read."""

from __future__ import annotations

from collections.abc import Iterator

from relatum.audit.finding import Finding
from relatum.errors import RelatumError
from relatum.model.colours import LEGIBLE, contrast, text_on, whole
from relatum.model.looks import Report, StyleRule
from relatum.model.names import column_name, quoted
from relatum.pivot.axes import resolve_request
from relatum.pivot.request import ask
from relatum.session.session import Session


def look_findings(session: Session) -> Iterator[Finding]:
    """A problem for each rule or report that cannot be asked, a remark for each colour that is hard to read."""
    declaration = session.declaration
    styles = [(f"measure {quoted(name)}", each.style) for name, each in declaration.measures.items()]
    styles += [
        (f"column {column_name(table.name, name)}", column.style)
        for table in declaration.tables.values()
        for name, column in table.columns.items()
    ]
    for subject, rules in styles:
        for rule in rules:
            yield from _asked(session, subject, rule)
    styles += [(f"pivot {quoted(name)}", each.style) for name, each in declaration.pivots.items()]
    for subject, rules in styles:
        for rule in rules:
            yield from _hard_to_read(session, subject, rule)
    for name, report in declaration.reports.items():
        yield from _report(session, name, report)


def _asked(session: Session, subject: str, rule: StyleRule) -> Iterator[Finding]:
    if rule.when:
        try:
            session.formulas.formula(rule.when)
        except RelatumError as error:
            text = " ".join([error.reason, error.fix]).strip()
            yield Finding("problem", subject, f"has a style that cannot be evaluated: {text}", "Change its when.")


def _hard_to_read(session: Session, subject: str, rule: StyleRule) -> Iterator[Finding]:
    page = whole(session.declaration.theme.light.page or "#ffffff")
    ground = whole(rule.fill) if rule.fill.startswith("#") else page
    colour = whole(rule.colour) if rule.colour.startswith("#") else text_on(ground)
    found = contrast(colour, ground)
    if found < LEGIBLE and (rule.colour.startswith("#") or rule.fill.startswith("#")):
        yield Finding(
            "remark",
            subject,
            f"shows {colour} on {ground}, a contrast of only {found:.1f}: many people cannot read it",
            f"Choose colours with a contrast of {LEGIBLE} or more, or one of the theme's colour names.",
        )


def _report(session: Session, name: str, report: Report) -> Iterator[Finding]:
    for number, part in enumerate(report.part, 1):
        if not part.figures:
            continue
        try:
            figures = ask(values=list(part.figures)).values
            against = [f"({figure.formula})[{part.against}]" for figure in figures] if part.against else []
            resolve_request(session, ask(values=[*part.figures, *against], where=part.where))
        except RelatumError as error:
            text = " ".join([error.reason, error.fix]).strip()
            yield Finding("problem", f"report {name}", f"part {number} cannot be evaluated: {text}", "Change it.")
