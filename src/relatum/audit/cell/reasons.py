"""Why a cell has no value: the one reason, found along the parts that it needs."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, assert_never

from relatum.audit.cell.records import Evidence, Reason
from relatum.audit.cell.steps import Step
from relatum.language.expression import (
    Aggregate,
    Apply,
    Choices,
    ColumnValue,
    Constant,
    InContext,
    LetIn,
    LetValue,
    Narrowed,
    NoMatch,
    Ranked,
    Slot,
)
from relatum.model.names import quoted
from relatum.wording import counted


def reason_of(
    steps: Sequence[Step], values: Sequence[Any], evidence: dict[int, Evidence], number: int = 0
) -> tuple[Reason, str]:
    """The reason why a step is null, and a sentence about it; empty where it has a value."""
    if values[number] is not None:
        return "", ""
    step = steps[number]
    match step.expression:
        case Aggregate():
            own = evidence.get(number)
            if own is None and step.inner:
                return reason_of(steps, values, evidence, step.inner[0])
            return _aggregate(step, own)
        case Ranked():
            if step.node is None:
                return "no current member", f"{step.text}: the cell has no single member there."
            return "no rows", f"{step.text}: the formula has no value at the current member."
        case Apply(function, arguments):
            for inner in step.inner:
                if values[inner] is None and function not in ("plus", "coalesce", "case"):
                    return reason_of(steps, values, evidence, inner)
            if function in ("/", "%") and values[step.inner[-1]] == 0:
                return "division by zero", f"{steps[step.inner[-1]].text} is zero."
            if function == "nullif":
                return "no case applies", f"{step.text} is null where both are equal."
            if function == "case":
                return "no case applies", f"No condition of {step.text} holds, or the one that holds gives null."
            for inner in step.inner:
                if values[inner] is None:
                    return reason_of(steps, values, evidence, inner)
            if any(isinstance(each, Constant) and each.value is None for each in arguments):
                return "null inputs", f"{step.text} has null among its arguments."
            return "null inputs", f"{step.text} has no value for these arguments."
        case InContext() | LetIn():
            return reason_of(steps, values, evidence, step.inner[-1])
        case Constant() | Choices() | ColumnValue() | NoMatch() | Narrowed() | LetValue() | Slot():
            return "null inputs", f"{step.text} is null."
        case _:
            assert_never(step.expression)


def _aggregate(step: Step, evidence: Evidence | None) -> tuple[Reason, str]:
    if step.node is None:
        for note in step.findings.notes:
            if note.kind == "period":
                return "no period", note.text
            if note.kind == "unrelated":
                return "unrelated", note.text
        return "unrelated", f"{step.text} has no value in this cell."
    if evidence is None:
        return "null inputs", f"{step.text} is null."
    source = quoted(evidence.source)
    if evidence.count == 0 and evidence.kind != "members":
        emptied = next((each for each in evidence.filters if each.before and not each.after), None)
        if emptied is None:
            return "no rows", f"{source} has no rows."
        return "no rows", f"{emptied.text} leaves none of {counted(emptied.before, 'row')} of {source}."
    if evidence.function == "sole":
        return "not the sole value", f"{counted(evidence.count, 'row')} of {source} have several values."
    if evidence.kind == "members":
        return "null inputs", f"{step.text} has no value for any visible member."
    lost = "; ".join(evidence.losses)
    return "null inputs", f"{counted(evidence.count, 'row')} of {source}, none with a value. {lost}".strip()
