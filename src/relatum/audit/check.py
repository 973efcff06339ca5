"""The audit: model, data and controls, worst first."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct

from relatum import markup
from relatum.audit.finding import SEVERITIES, Finding, Money, Severity
from relatum.audit.looks import look_findings
from relatum.audit.measures import control_findings, measure_findings
from relatum.audit.pivots import pivot_findings
from relatum.audit.relationships import relationship_findings
from relatum.audit.tables import hierarchy_findings, table_findings
from relatum.errors import ModelError
from relatum.runtime.progress import reported
from relatum.session.session import Session
from relatum.wording import counted, suggestion, visible_lines

_TONES: dict[Severity, markup.Tone] = {"problem": "bad", "doubt": "notable", "remark": "context"}


class Report(Struct, frozen=True):
    """All findings, worst first, and how much was looked at."""

    model: str
    findings: tuple[Finding, ...]
    tables: int
    relationships: int
    measures: int
    controls: int

    @property
    def ok(self) -> bool:
        """Whether there are no problems; doubts and remarks do not count."""
        return not self.problems

    @property
    def problems(self) -> tuple[Finding, ...]:
        """The findings that make numbers wrong or leave them without an owner."""
        return tuple(finding for finding in self.findings if finding.severity == "problem")

    @property
    def summary(self) -> str:
        """One sentence: how many problems, and how much was looked at."""
        looked_at = (
            f"{counted(self.tables, 'table')}, {counted(self.relationships, 'relationship')}, "
            f"{counted(self.measures, 'measure')} and {counted(self.controls, 'control')}"
        )
        found = counted(len(self.problems), "problem") if self.problems else "No problem"
        return f"{found} in {looked_at}."

    def __str__(self) -> str:
        lines = [
            " ".join(filter(None, [f"{each.severity}: {each.subject}", each.text, each.effect, each.fix]))
            for each in self.findings
        ]
        return visible_lines("\n".join([self.model, *lines, self.summary]))

    def blocks(self) -> list[markup.Block]:
        """The report in blocks, for whatever draws them."""
        blocks: list[markup.Block] = [markup.line(self.model, bold=True)]
        for each in self.findings:
            tone = _TONES[each.severity]
            effect = f" {each.effect}" if each.effect else ""
            blocks.append(
                markup.line(markup.Text(f"{each.severity:<8}", tone=tone), markup.Text(each.subject, bold=True))
            )
            said = markup.Text(effect, tone="notable" if each.severity == "problem" else "", prose=True)
            blocks.append(markup.line(markup.Text(each.text, prose=True), said, indent=8))
            if each.fix:
                blocks.append(markup.line(markup.Text(each.fix, tone="faint", prose=True), indent=8))
        return [*blocks, markup.line(self.summary, tone="good" if self.ok else "bad", bold=True)]

    def _repr_html_(self) -> str:
        return markup.html(self.blocks())


def check_session(session: Session, value: str = "") -> Report:
    """Audit a model: tables, relationships on the data, hierarchies, measures, saved pivots, controls.

    Parameters
    ----------
    session : Session
        The model with its data.
    value : str, optional
        The measure that says what rows are worth; the first one with a currency in its format unless given.

    Raises
    ------
    ModelError
        There is no measure ``value``.
    """
    declaration = session.declaration
    if value and value not in declaration.measures:
        raise ModelError(f"Unknown measure {value}.", fix=suggestion(value, declaration.measures, noun="measure"))
    priced = [name for name, measure in declaration.measures.items() if "¤" in measure.format]
    money = Money(session, value or next(iter(priced), ""))
    findings = sorted(_findings(session, money), key=_rank)
    return Report(
        declaration.name,
        tuple(findings),
        len(declaration.tables),
        len(declaration.relationships),
        len(declaration.measures),
        len(declaration.controls),
    )


def _findings(session: Session, money: Money) -> Iterator[Finding]:
    declaration = session.declaration
    for name in reported(declaration.tables, lambda each: f"checking {each}"):
        yield from table_findings(session, name)
    for relationship in reported(declaration.relationships, lambda each: f"checking {each}"):
        yield from relationship_findings(session, relationship, money)
    yield from hierarchy_findings(session)
    for name in reported(declaration.measures, lambda each: f"checking {each}"):
        yield from measure_findings(session, name)
    yield from pivot_findings(session)
    yield from look_findings(session)
    for control in reported(declaration.controls, lambda each: f"checking the control of {each.measure}"):
        yield from control_findings(session, control)


def _rank(finding: Finding) -> tuple[int, bool, float, int]:
    """Problems first, then doubts; what makes numbers wrong before what has no owner, then by money and rows."""
    worth = abs(float(finding.value)) if finding.value is not None else 0.0
    counts_no_rows = finding.rows == 0
    return SEVERITIES.index(finding.severity), not counts_no_rows, -worth, -finding.rows
