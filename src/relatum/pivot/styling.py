"""Which style rules hold in a grid, and where: those of its measures, of its columns' members, and its own."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence

import numpy as np
from msgspec import Struct
from msgspec.structs import replace
from numpy.typing import NDArray

from relatum.data.types import Kind
from relatum.data.vectors import there
from relatum.errors import FormulaError, RequestError
from relatum.language.expression import Expression
from relatum.model.looks import StyleRule
from relatum.model.names import column_name, quoted
from relatum.pivot.axes import Resolved
from relatum.pivot.formats import measure_of
from relatum.pivot.request import Request, ValueText
from relatum.pivot.result import Axis, CellRule, MemberRule, Result
from relatum.plan.notes import Note
from relatum.session.session import Session

#: How a condition's own value is called while it is asked.
_WHEN = "when"


class CellRules(Struct, frozen=True):
    """The rules for cells, and the conditions that are worked out beside the values."""

    rules: tuple[CellRule, ...]
    conditions: tuple[Expression, ...]


NO_RULES = CellRules((), ())


def cell_rules(session: Session, request: Request, formulas: Sequence[Expression]) -> CellRules:
    """The rules for the cells of each value: those of the measure that it is, then the request's own.

    Raises
    ------
    RequestError
        A rule names members, and no field that they are of; it draws what is not a number as a bar.
    FormulaError
        A condition cannot be understood, or is not a condition.
    """
    found: list[CellRule] = []
    conditions: dict[str, Expression] = {}

    def add(rule: StyleRule, number: int, owner: str) -> None:
        column = None
        type_ = formulas[number].type
        if (rule.bar or rule.shades) and not type_.numeric:
            if rule.value:
                raise RequestError(f"Bars and shades show numbers, but {rule.value} is {type_}.")
            return  # a rule for every value is for those that can have it
        if rule.when:
            text = _with_labels(rule.when, request.values)
            if text not in conditions:
                conditions[text] = _condition(session, text, rule.when, f"style of {owner}")
            column = len(request.values) + list(conditions).index(text)
        found.append(CellRule(rule, number, column))

    for number, value in enumerate(request.values):
        measure = measure_of(session, value.formula)
        for rule in measure.style if measure is not None else ():
            assert measure is not None, "rules are a measure's"
            add(rule, number, f"measure {quoted(measure.name)}")
    labels = [value.label for value in request.values]
    for rule in request.style:
        if rule.field:
            continue
        if rule.members:
            raise RequestError("A style for members needs a field.", fix='Set field = "table.column".')
        for number, label in enumerate(labels):
            if rule.value in ("", label):
                add(rule, number, f"value {quoted(label)}")
    return CellRules(tuple(found), tuple(conditions.values()))


def style_notes(request: Request, axes: Sequence[Axis]) -> list[Note]:
    """A note for each rule of the request whose value or field it does not have."""
    if not request.style:
        return []
    labels = [value.label for value in request.values]
    names = [column_name(axis.table, axis.column) for axis in axes]
    entries = [
        Note("style", f"A style applies to the value {rule.value}, which is not in the request.")
        for rule in request.style
        if rule.value and rule.value not in labels
    ]
    return entries + [
        Note("style", f"A style applies to the field {rule.field}, which is not on an axis.")
        for rule in request.style
        if rule.field and rule.field not in names
    ]


def _with_labels(text: str, values: Sequence[ValueText]) -> str:
    """A condition in which labels of values stand for their formulas."""
    bindings = [
        f"{quoted(each.label)} = ({each.formula}\n)"  # on a line of its own: a comment may end the formula
        for each in values
        if each.label != each.formula.strip() and re.search(rf"(?<![\w.]){re.escape(each.label)}(?![\w.])", text)
    ]
    return f"let {', '.join(bindings)} then {text}" if bindings else text


def _condition(session: Session, text: str, said: str, owner: str) -> Expression:
    try:
        expression = session.formulas.formula(text, owner)
    except FormulaError as error:
        if text != said:
            # The caret would point into a text that nobody wrote.
            raise RequestError(f"The condition {said} of the {owner}: {error.reason}", fix=error.fix) from None
        raise
    if expression.type.kind is not Kind.BOOLEAN:
        raise RequestError(
            f"The {owner} is given when {said}, which is {expression.type} and not a condition.",
            fix=f"Compare it with something: {said} < 0.",
        )
    return expression


def member_rules(
    session: Session,
    request: Request,
    resolved: Resolved,
    axes: Sequence[Axis],
    ask: Callable[[Session, Request], Result],
) -> tuple[MemberRule, ...]:
    """The rules for the members of each field, with the members that they hold for.

    Parameters
    ----------
    session, request, resolved, axes
        The question, and the fields that it has.
    ask : callable
        Answers another request: a condition is worked out for each member, under the request's own filters.

    Raises
    ------
    RequestError, FormulaError
        A condition cannot be understood.
    """
    wanted: list[tuple[StyleRule, int]] = []
    for at, (axis, field) in enumerate(zip(axes, resolved.fields, strict=True)):
        if not field.formula:
            wanted += [(rule, at) for rule in session.declaration.settings(axis.table, axis.column).style]
    if request.style:
        names = [column_name(axis.table, axis.column) for axis in axes]
        wanted += [(rule, names.index(rule.field)) for rule in request.style if rule.field in names]
    return tuple(MemberRule(rule, at, _holds(session, request, axes[at], rule, ask)) for rule, at in wanted)


def _holds(
    session: Session, request: Request, axis: Axis, rule: StyleRule, ask: Callable[[Session, Request], Result]
) -> NDArray[np.bool_]:
    """For each code of a field whether a rule holds for its member."""
    size = axis.members.size
    if not rule.when and not rule.members:
        return np.ones(size, np.bool_)
    holds = np.zeros(size, np.bool_)
    if rule.members:
        wanted = {str(each) for each in rule.members}
        for code, value in axis.member_values(np.arange(size)).items():
            holds[code] = str(value) in wanted
        return holds
    name = column_name(axis.table, axis.column)
    _condition(session, rule.when, rule.when, f"style of column {name}")
    asked = replace(
        request,
        rows=(name,),
        columns=(),
        values=(ValueText(_WHEN, rule.when),),
        totals=False,
        show_empty=True,
        values_on="columns",
        style=(),
    )
    found = ask(session, asked)
    column = found.column_of(0)
    true = column.values.astype(np.bool_) & there(column)
    codes = np.concatenate([each.codes[:, 0] for each in found.cells])
    holds[codes[true]] = True
    return holds
