"""The audit: model, data and controls, worst first."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from decimal import Decimal
from typing import Any

import numpy as np

from relatum.data.arrow import python_values
from relatum.data.columns import Column
from relatum.engine.memory.joins import JoinIndex, duplicate_keys, repr_value
from relatum.errors import DataError, RelatumError, counted
from relatum.model.declaration import Control, Relationship
from relatum.model.names import column_name, quoted
from relatum.model.routes import Hop, hops_of
from relatum.pivot.answer import answer
from relatum.pivot.question import ask
from relatum.session.session import Session

_SAMPLES = 3


@dataclass(frozen=True, slots=True)
class Finding:
    """One thing found. ``severity`` is ``problem`` (numbers are wrong, or money has no owner) or ``fact``."""

    severity: str
    subject: str
    text: str
    fix: str = ""


@dataclass(frozen=True, slots=True)
class Report:
    """All findings, worst first, and how much was looked at."""

    model: str
    findings: tuple[Finding, ...]
    tables: int
    relationships: int
    measures: int
    controls: int

    @property
    def ok(self) -> bool:
        """Whether there is no problem; facts do not count as one."""
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
        lines = [f"{finding.severity}: {finding.subject} {finding.text}" for finding in self.findings]
        return "\n".join([self.model, *lines, self.summary])


def check_session(session: Session) -> Report:
    """Audit a model: keys, relationships on the data, measures, controls."""
    declaration = session.declaration
    findings = [
        *_table_findings(session),
        *_relationship_findings(session),
        *_measure_findings(session),
        *(finding for control in declaration.controls for finding in _control_findings(session, control)),
    ]
    findings.sort(key=lambda finding: finding.severity != "problem")
    return Report(
        declaration.name,
        tuple(findings),
        len(declaration.tables),
        len(declaration.relationships),
        len(declaration.measures),
        len(declaration.controls),
    )


def _table_findings(session: Session) -> Iterator[Finding]:
    for name, table in session.declaration.tables.items():
        if table.role_of:
            continue
        data = session.data[name]
        if not data.rows:
            yield Finding("problem", quoted(name), "has no rows.", "Check its source.")
        for column, reason in data.left_out.items():
            yield Finding("fact", column_name(name, column), f"is left out: {reason}.")
        if table.key:
            columns = [session.store.column(name, column) for column in table.key]
            shown = ", ".join(table.key)
            keys, rows, samples = duplicate_keys(columns)
            if keys:
                yield Finding(
                    "problem",
                    quoted(name),
                    f"key {shown} is not unique: {counted(keys, 'value')} on {counted(rows, 'row')}, "
                    f"for instance {_listed(samples)}.",
                    "Remove the duplicates, or state the columns that make a row unique.",
                )
            nulls = int(np.logical_or.reduce([_nulls(column) for column in columns]).sum())
            if nulls:
                yield Finding(
                    "problem",
                    quoted(name),
                    f"key {shown} is null on {counted(nulls, 'row')}.",
                    "A row that no key names can never be looked up.",
                )


def _relationship_findings(session: Session) -> Iterator[Finding]:
    for relationship in session.declaration.relationships:
        hop = hops_of(relationship)[0]
        try:
            if hop.reach:
                yield _pairs_finding(session, hop, relationship)
                continue
            index = session.store.index(hop)
        except DataError as error:
            yield Finding("problem", str(relationship), error.reason, error.fix)
            continue
        yield from _match_findings(session, hop, relationship, index)


def _pairs_finding(session: Session, hop: Hop, relationship: Relationship) -> Finding:
    links = session.store.links(hop)
    alone = int((links.offsets[1:-1] == links.offsets[:-2]).sum())
    return Finding(
        "fact",
        str(relationship),
        f"{counted(len(links.targets), 'pair')} of rows match; {counted(alone, 'row')} of "
        f"{quoted(relationship.many.table)} match none. Values by the other end may count a row several times.",
    )


def _match_findings(session: Session, hop: Hop, relationship: Relationship, index: JoinIndex) -> Iterator[Finding]:
    rows = len(index.positions)
    many, one = quoted(relationship.many.table), quoted(relationship.one.table)
    if index.orphans:
        samples = _orphan_samples(session, relationship, index)
        yield Finding(
            "problem",
            str(relationship),
            f"{counted(index.orphans, 'row')} of {many} ({index.orphans / rows:.2%}) find nothing in {one}, "
            f"for instance {_listed(samples)}. They stand under (no match).",
            f"Add the missing rows to {one}, or correct the keys.",
        )
    if index.null_keys:
        yield Finding(
            "fact",
            str(relationship),
            f"{counted(index.null_keys, 'row')} of {many} ({index.null_keys / rows:.2%}) have no key. "
            "They stand under (no match).",
        )
    unused = index.size - len(np.unique(index.positions[index.positions != index.size]))
    if unused and relationship.direction != "off" and not session.catalog.is_calendar(relationship.one.table):
        yield Finding(
            "fact",
            str(relationship),
            f"{unused:,} of {counted(index.size, 'row')} of {one} are never pointed to by {many}.",
        )


def _orphan_samples(session: Session, relationship: Relationship, index: JoinIndex) -> list[tuple[Any, ...]]:
    columns = [session.store.column(relationship.many.table, name) for name in relationship.many.columns]
    rows = np.flatnonzero(index.positions == index.size)
    for column in columns:
        rows = rows[~_nulls(column)[rows]]
    found: dict[tuple[Any, ...], None] = {}
    for row in rows[:: max(1, len(rows) // 200)][:400]:
        found[tuple(python_values(column.take(np.asarray([row])))[0] for column in columns)] = None
        if len(found) == _SAMPLES:
            break
    return list(found)


def _nulls(column: Column) -> Any:
    return np.zeros(len(column), np.bool_) if column.nulls is None else column.nulls


def _listed(samples: list[tuple[Any, ...]]) -> str:
    return ", ".join(
        repr_value(sample[0]) if len(sample) == 1 else "(" + ", ".join(map(repr_value, sample)) + ")"
        for sample in samples
    )


def _measure_findings(session: Session) -> Iterator[Finding]:
    for name in session.declaration.measures:
        try:
            value = answer(session, ask(values={name: quoted(name)})).scalar()
        except RelatumError as error:
            yield Finding("problem", f"measure {quoted(name)}", error.reason, error.fix)
            continue
        if value is None:
            yield Finding("fact", f"measure {quoted(name)}", "has no value over all rows.")


def _control_findings(session: Session, control: Control) -> Iterator[Finding]:
    subject = f"control {quoted(control.measure)}"
    where = control_condition(control)
    if where:
        subject += f" at {where}"
    try:
        got = answer(session, ask(values={control.measure: quoted(control.measure)}, where=where)).scalar()
    except RelatumError as error:
        yield Finding("problem", subject, error.reason, error.fix)
        return
    if not _agrees(got, control.equals, control.tolerance):
        difference = ""
        if _is_number(got) and _is_number(control.equals):
            difference = f", difference {Decimal(str(got)) - Decimal(str(control.equals)):,}"
        yield Finding(
            "problem",
            subject,
            f"expected {control.equals}, got {got}{difference}.",
            "Find out which of the two is right.",
        )


def control_condition(control: Control) -> str:
    """The condition that a control's context says: ``calendar.year = 2023``."""
    return " and ".join(f"{column} = {_literal(value)}" for column, value in control.at.items())


def _literal(value: object) -> str:
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, int | float):
        return str(value)
    if isinstance(value, str):
        return "'" + value.replace("'", "''") + "'"
    return f"date '{value}'"


def _is_number(value: object) -> bool:
    return isinstance(value, int | float | Decimal) and not isinstance(value, bool)


def _agrees(got: object, expected: object, tolerance: object) -> bool:
    if _is_number(got) and _is_number(expected):
        return abs(Decimal(str(got)) - Decimal(str(expected))) <= Decimal(str(tolerance))
    return got == expected
