"""A formula part by part: each in the context in which it is in one cell, down to its aggregates."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import assert_never

from msgspec import Struct
from msgspec.structs import replace

from relatum.audit.cell.filters import FilterPlan, FilterTeller
from relatum.language.expression import (
    Aggregate,
    Apply,
    Change,
    Choices,
    ColumnValue,
    Constant,
    Expression,
    Ignoring,
    InContext,
    LetIn,
    LetValue,
    MoveDates,
    Narrowed,
    NoMatch,
    OfSet,
    Ranked,
    Slot,
)
from relatum.language.substitute import with_values
from relatum.model.names import column_name, literal, quoted
from relatum.plan.context import Context
from relatum.plan.describe import applied_text, step_text
from relatum.plan.formulas import Findings
from relatum.plan.nodes import Formula, PlanNode
from relatum.plan.probing import Probe


class Step(Struct, frozen=True):
    """A part of the formula where it is.

    ``inner`` are the numbers of the steps that it is made of. ``node`` is what the plan works out for an aggregate or
    ranking, None where it has no value there; ``counted`` and ``filters`` are what is shown of its rows.
    """

    depth: int
    kind: str
    text: str
    expression: Expression
    formula: Formula
    findings: Findings
    inner: tuple[int, ...] = ()
    node: PlanNode | None = None
    source: str = ""
    counted: Formula | None = None
    filters: tuple[FilterPlan, ...] = ()


@dataclass
class StepMaker:
    """Walks a formula in the context of a cell.

    ``constant`` works a formula out now: the value of a ``let`` is fixed for all that is inside.
    """

    probe: Probe
    teller: FilterTeller
    names: Mapping[int, str]
    constant: Callable[[Expression, Context], Constant]
    steps: list[Step] = field(default_factory=list)

    def walk(self, expression: Expression, context: Context, depth: int = 0) -> int:
        """Add the steps of an expression, and return the number of the last one."""
        number = len(self.steps)
        formula, findings = self.probe.formula(expression, context)
        name = self.names.get(id(expression), "")
        text = quoted(name) if name else self.text(expression)
        self.steps.append(Step(depth, "measure" if name else "function", text, expression, formula, findings))
        inner: tuple[int, ...]
        if name and isinstance(expression, Aggregate | Ranked):
            inner = (self._own(expression, context, depth + 1),)
        else:
            inner = self._inside(expression, context, depth, number)
        self.steps[number] = replace(self.steps[number], inner=inner)
        return number

    def _own(self, expression: Expression, context: Context, depth: int) -> int:
        """The step of a measure's formula below that of its name."""
        number = len(self.steps)
        formula, findings = self.probe.formula(expression, context)
        self.steps.append(Step(depth, "function", self.text(expression), expression, formula, findings))
        self._inside(expression, context, depth, number)
        return number

    def _inside(self, expression: Expression, context: Context, depth: int, number: int) -> tuple[int, ...]:
        match expression:
            case Apply(arguments=arguments):
                parts = [each for each in arguments if not isinstance(each, Constant | Choices)]
                return tuple(self.walk(each, context, depth + 1) for each in parts)
            case InContext(formula=formula):
                self._kind(number, "brackets")
                return (self.walk(formula, self.probe.after(expression, context), depth + 1),)
            case LetIn(numbers=numbers, values=values, body=body):
                self._kind(number, "named")
                known: dict[int, Constant] = {}
                inner = []
                for each, value in zip(numbers, values, strict=True):
                    settled = with_values(value, known)
                    inner.append(self.walk(settled, context, depth + 1))
                    known[each] = self.constant(settled, context)
                return (*inner, self.walk(with_values(body, known), context, depth + 1))
            case Aggregate():
                self._aggregate(number, expression, context)
                return ()
            case Ranked():
                node = next(iter(self.steps[number].formula.inputs), None)
                self.steps[number] = replace(self.steps[number], kind="ranking", node=node)
                return ()
            case Constant() | Choices() | ColumnValue() | NoMatch() | Narrowed() | LetValue() | Slot():
                return ()
            case _:
                assert_never(expression)

    def _kind(self, number: int, kind: str) -> None:
        own = self.steps[number]
        if own.kind == "function":
            self.steps[number] = replace(own, kind=kind)

    def _aggregate(self, number: int, aggregate: Aggregate, context: Context) -> None:
        node = next(iter(self.steps[number].formula.inputs), None)
        source = aggregate.row_table or (aggregate.grain.table if aggregate.grain is not None else "")
        own = replace(self.steps[number], kind="aggregate", node=node, source=source)
        if source:
            counted, filters = self.teller.plan(source, context)
            own = replace(own, counted=counted, filters=tuple(filters))
        self.steps[number] = own

    # -- text ---------------------------------------------------------------------------------------------------------

    def text(self, expression: Expression) -> str:
        """An expression as a formula writes it, measures by their names."""
        match expression:
            case Aggregate(text=text) | Ranked(text=text):
                return text
            case Apply(function, arguments):
                return applied_text(function, [self.named(each) for each in arguments])
            case InContext(formula, changes):
                inner = self.named(formula)
                return f"{inner}[{', '.join(map(change_text, changes))}]"
            case LetIn(body=body):
                return f"let … then {self.named(body)}"
            case Constant(value, type_):
                return literal(value) if not type_.scale else f"{int(value or 0) / 10**type_.scale}"
            case Choices(values):
                return ", ".join(map(literal, values[:9]))
            case ColumnValue(table, column):
                return column_name(table, column)
            case NoMatch(table):
                return f"{quoted(table)} is no match"
            case Narrowed(table, column):
                return f"narrowed({column_name(table, column)})"
            case LetValue() | Slot():
                return "…"
            case _:
                assert_never(expression)

    def named(self, expression: Expression) -> str:
        """A part by its measure's name, where it is one."""
        name = self.names.get(id(expression), "")
        return quoted(name) if name else self.text(expression)


def change_text(change: Change) -> str:
    """A change of context as it is written, or as the shorthand for which it was written."""
    match change:
        case MoveDates(step, calendar):
            return f"{step_text(step)} on {quoted(calendar)}" if calendar else step_text(step)
        case Ignoring((OfSet(word),)):
            return f"ignoring {word}"
        case _:
            return change.source.text
