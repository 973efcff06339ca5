"""Measures that say nothing, and control totals."""

from __future__ import annotations

from collections.abc import Iterator
from decimal import Decimal

from relatum.audit.finding import Finding
from relatum.data.digits import difference
from relatum.data.types import INTEGER
from relatum.errors import RelatumError
from relatum.language.expression import Aggregate, ColumnValue, Expression, Ranked, inner_of
from relatum.model.declaration import Control
from relatum.model.names import column_name, quoted
from relatum.model.words import is_ordinal, looks_like_key
from relatum.pivot.answer import answer
from relatum.pivot.request import ask
from relatum.session.session import Session


def measure_findings(session: Session, name: str) -> Iterator[Finding]:
    """A measure that cannot be asked, has no value anywhere, or adds up numbers that name things."""
    subject = f"measure {quoted(name)}"
    for column in _named_and_added(session, name):
        yield Finding(
            "doubt",
            subject,
            f"adds up {column}, whose numbers are identifiers or positions.",
            f"Count them: count(distinct {column}).",
            "A sum of codes means nothing.",
        )
    try:
        value = answer(session, ask(values={name: quoted(name)})).scalar()
    except RelatumError as error:
        yield Finding("problem", subject, error.reason, error.fix, "It cannot be evaluated.")
        return
    if value is None and _is_null_everywhere(session, name):
        yield Finding(
            "problem",
            subject,
            "has no value: not over all rows, not in any year or month, and not for any member it ranks.",
            f"Look at its parts with relatum show {quoted(name)}: is a table empty, or a column null in every row?",
            "It is blank everywhere.",
        )


def _named_and_added(session: Session, name: str) -> Iterator[str]:
    """The columns of codes, numbers that name, years and the like that a measure sums or averages as they are."""
    pending, seen, looked_at = [session.formulas.measure(name)], set[str](), set[int]()
    while pending:
        part = pending.pop()
        if id(part) in looked_at:
            continue
        looked_at.add(id(part))
        pending.extend(inner_of(part))
        if not isinstance(part, Aggregate) or part.function not in ("sum", "avg") or part.grain is not None:
            continue
        (value,) = part.arguments
        if not isinstance(value, ColumnValue) or (value.type != INTEGER and part.function != "sum"):
            continue
        column = column_name(value.table, value.column)
        key = session.declaration.tables[session.declaration.rows_of(value.table)].key
        pointing = {(each.many.table, name) for each in session.declaration.relationships for name in each.many.columns}
        names = looks_like_key(value.column) or (value.table, value.column) in pointing or value.column in key
        if (names or is_ordinal(value.column)) and column not in seen:
            seen.add(column)
            yield column


def _is_null_everywhere(session: Session, name: str) -> bool:
    # A measure that compares with the year before has no total, and has values by year; a rank has none but by member.
    for fields in _telling_fields(session, session.formulas.measure(name)):
        result = answer(session, ask(rows=fields, values={name: quoted(name)}, totals=False))
        if any(each.null_count < len(each) for cells in result.cells for each in cells.values):
            return False
    return True


def _telling_fields(session: Session, expression: Expression) -> Iterator[tuple[str, ...]]:
    """Axes over which a measure may have values though it has none over all rows: periods, grains of ranks."""
    for table in session.declaration.tables:
        if session.catalog.is_calendar(table):
            for column in ("year", "month"):
                if column in session.catalog.columns(table):
                    yield (column_name(table, column),)
    pending, seen = [expression], set[int]()
    while pending:
        part = pending.pop()
        if id(part) in seen:
            continue
        seen.add(id(part))
        if isinstance(part, Ranked):
            grain = part.grain
            key = session.declaration.tables[session.declaration.rows_of(grain.table)].key if grain.table else ()
            yield tuple(column_name(grain.table, each) for each in key) or tuple(
                column_name(*column) for column in grain.columns
            )
        pending.extend(inner_of(part))


def control_findings(session: Session, control: Control) -> Iterator[Finding]:
    """A control total that does not agree."""
    where = control.condition
    subject = f"control {quoted(control.measure)}" + (f" at {where}" if where else "")
    try:
        got = answer(session, ask(values={control.measure: quoted(control.measure)}, where=where)).scalar()
    except RelatumError as error:
        yield Finding("problem", subject, error.reason, error.fix)
        return
    if not agrees(got, control.equals, control.tolerance):
        apart = difference(got, control.equals)
        gap = f", difference {apart:,}" if apart is not None else ""
        yield Finding(
            "problem",
            subject,
            f"expected {control.equals}, got {got}{gap}.",
            "Find out which number is right.",
            "The number differs from the control total.",
        )


def agrees(got: object, expected: object, tolerance: object = 0) -> bool:
    """Whether two values are the same, numbers within the tolerance."""
    apart = difference(got, expected)
    if apart is not None:
        return abs(apart) <= Decimal(str(tolerance))
    nothing = got != got and expected != expected
    return nothing or got == expected
