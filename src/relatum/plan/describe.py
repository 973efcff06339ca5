"""A plan, written out for a person: what each grain is made of, down to which rows of which table a cell sees."""

from __future__ import annotations

from collections.abc import Iterator
from decimal import Decimal
from typing import assert_never

from relatum.calendar.steps import Before, Shift, Step, ToDate, Trailing, Whole
from relatum.data.days import day_of, moment_of
from relatum.data.types import Kind
from relatum.language.expression import (
    Aggregate,
    Apply,
    Choices,
    ColumnValue,
    Constant,
    Expression,
    InContext,
    LetIn,
    LetValue,
    Narrowed,
    NoMatch,
    Ranked,
    Slot,
)
from relatum.language.register import SCALARS
from relatum.model.names import column_name, literal, quoted
from relatum.model.routes import Route
from relatum.plan.nodes import (
    Aggregation,
    Bounds,
    DateSet,
    Field,
    Formula,
    Hidden,
    Kept,
    KeyColumn,
    Match,
    Named,
    Naming,
    Nested,
    Plan,
    PlanNode,
    RankedAmong,
    Visible,
)
from relatum.plan.slots import node_in

#: A formula that doubles itself through measures would fill the screen.
_LONGEST = 600
_INFIX = frozenset(("+", "-", "*", "/", "%", "||", "=", "<>", "<", "<=", ">", ">=", "and", "or", "like"))


def describe(plan: Plan) -> str:
    """A plan as text: its grains, finest first, each with its formulas and the steps that these are made of.

    Parameters
    ----------
    plan : Plan
        What :func:`relatum.plan.compile.compile_plan` makes.

    Returns
    -------
    str
        Lines of text; what a formula takes from a step is named ``#1``, ``#2``, … after that step.
    """
    return "\n".join(_Writer(plan).lines())


class _Writer:
    def __init__(self, plan: Plan) -> None:
        self.plan = plan
        self.numbers: dict[PlanNode, int] = {}
        self.described: set[PlanNode] = set()
        self.texts: dict[int, str] = {}

    def lines(self) -> Iterator[str]:
        for derivation in self.plan.derived:
            name = column_name(derivation.table, derivation.column)
            yield f"derived column {name} = {self.expression(derivation.formula.expression)}"
        for interval in self.plan.intervals:
            table = interval.relationship.one.table
            start = column_name(table, interval.start)
            yield f"a row of {quoted(table)} holds from its {start} on, up to and without the next"
        for grain in self.plan.grains:
            keys = ", ".join(
                f"others of {_field(self.plan.fields[key])}" if key in grain.others else _field(self.plan.fields[key])
                for key in grain.keys
            )
            yield f"cells by {keys}" if keys else "the cell of the grand total" if self.plan.axes else "one cell"
            for formula in grain.formulas:
                yield f"  = {self.expression(formula.expression)}"
                for node in formula.inputs:
                    yield from self.step(node, "    ")

    def number(self, node: PlanNode) -> str:
        return f"#{self.numbers.setdefault(node, len(self.numbers) + 1)}"

    def step(self, node: PlanNode, indent: str) -> Iterator[str]:
        """One step and those that it needs; a step that was shown before is only named."""
        head = f"{indent}{self.number(node)}"
        if node in self.described:
            yield f"{head} as above"
            return
        self.described.add(node)
        deeper = indent + "  "
        match node:
            case Aggregation(bounds=bounds, function=function, arguments=arguments):
                given = ", ".join(map(self.expression, arguments))
                yield f"{head} {function}({given}) over rows of {quoted(bounds.source)}"
                yield from self.bounds(bounds, deeper)
            case Nested(visible, function, arguments, conditions):
                given = ", ".join(self.expression(each.expression) for each in arguments)
                yield f"{head} {function}({given}) {self.members(visible)}"
                yield from self.visible(visible, deeper)
                for condition in conditions:
                    yield f"{deeper}where {self.expression(condition.expression)}"
                for formula in (*arguments, *conditions):
                    yield from self.formula(formula, deeper)
            case RankedAmong(visible, function, formula, by, descending):
                order = f" by {self.expression(by.expression)}{' desc' if descending else ''}" if by else ""
                yield f"{head} {function}({self.expression(formula.expression)}{order}) among {self.members(visible)}"
                yield from self.visible(visible, deeper)
                for each in (formula, by) if by else (formula,):
                    yield from self.formula(each, deeper)
            case KeyColumn(key, route, table, column, _, no_match):
                what = f"{quoted(table)} is no match" if no_match else column_name(table, column) if column else table
                yield f"{head} {what} of {self.key(key)}{_along(route)}"
            case Named(number):
                yield f"{head} the value named x{number}"
            case Naming(numbers, values, body):
                yield f"{head} {self.expression(body.expression)}"
                for number, value in zip(numbers, values, strict=True):
                    yield f"{deeper}let x{number} = {self.expression(value.expression)}"
                    yield from self.formula(value, deeper + "  ")
                yield from self.formula(body, deeper)
            case _:
                assert_never(node)

    def formula(self, formula: Formula, indent: str) -> Iterator[str]:
        for node in formula.inputs:
            yield from self.step(node, indent)

    def key(self, key: int) -> str:
        return f"the {'cell' if key < len(self.plan.axes) else 'member'}'s {_field(self.plan.fields[key])}"

    def members(self, visible: Visible) -> str:
        names = [_field(self.plan.fields[match.key]) for _, matches in visible.parts for match in matches]
        return f"over the members of {', '.join(names)}"

    def visible(self, visible: Visible, indent: str) -> Iterator[str]:
        for bounds, _ in visible.parts:
            yield from self.bounds(bounds, indent)

    # -- bounds -------------------------------------------------------------------------------------------------------

    def bounds(self, bounds: Bounds, indent: str) -> Iterator[str]:
        for match in bounds.matches:
            yield f"{indent}with {self.match(match)}"
        for each in bounds.restrictions:
            yield f"{indent}where {self.expression(each.part.expression)}{_along(each.route)}"
        for dates in bounds.dates:
            yield from self.dates(dates, indent)
        for kept in bounds.kept:
            yield from self.kept(kept, indent)
        for pin in bounds.pinned:
            yield f"{indent}with the {pin.edge} {column_name(pin.table, pin.column)} of these{_along(pin.route)}"

    def match(self, match: Match) -> str:
        return f"{self.key(match.key)}{_along(match.route)}"

    def dates(self, dates: DateSet, indent: str) -> Iterator[str]:
        moves = ", then ".join(map(step_text, dates.steps)) or "as they are"
        yield f"{indent}on dates of {quoted(dates.calendar.table)}, {moves}{_along(dates.route)}"
        for match in dates.matches:
            yield f"{indent}  from those of {self.match(match)}"
        for each in dates.restrictions:
            yield f"{indent}  from those where {self.expression(each.part.expression)}"
        for inner in dates.within:
            yield from self.dates(inner, indent + "  ")
        for one in dates.kept:
            yield from self.kept(one, indent + "  ")
        for table, _ in dates.ends:
            yield f"{indent}  up to the last date of {quoted(table)}"

    def kept(self, kept: Kept | Hidden, indent: str) -> Iterator[str]:
        if isinstance(kept, Hidden):
            members = _field(Field(kept.match.table, kept.match.column))
            yield f"{indent}of the hidden {members}{_along(kept.match.route)}"
            return
        value = self.expression(kept.formula.expression)
        rule = f"where {value}"
        if kept.best is not None:
            ties = [f", {self.expression(each.expression)}{' desc' if down else ''}" for each, down in kept.best.ties]
            rule = f"{kept.best.edge} {kept.best.number} by {value}{''.join(ties)}"
        members = _field(Field(kept.match.table, kept.match.column))
        yield f"{indent}of the kept {members}: {rule}{_along(kept.match.route)}"
        yield from self.visible(kept.members, indent + "  ")
        for each in kept.formulas:
            yield from self.formula(each, indent + "  ")

    # -- expressions --------------------------------------------------------------------------------------------------

    def expression(self, expression: Expression) -> str:
        """An expression as a formula writes it; a very long one is cut in its middle."""
        if id(expression) not in self.texts:
            text = self.written(expression)
            if len(text) > _LONGEST:
                text = f"{text[: _LONGEST // 2]} … {text[-_LONGEST // 4 :]}"
            self.texts[id(expression)] = text
        return self.texts[id(expression)]

    def written(self, expression: Expression) -> str:
        match expression:
            case Constant():
                return _constant(expression)
            case Choices(values, type_):
                shown = [_constant(Constant(value, type_)) for value in values[:9]]
                return ", ".join([*shown, f"… {len(values) - 9} more"] if len(values) > 9 else shown)
            case ColumnValue(table, column):
                return column_name(table, column)
            case NoMatch(table):
                return f"{quoted(table)} is no match"
            case Slot():
                return self.number(node_in(expression))
            case Apply(function, arguments):
                return applied_text(function, [self.expression(each) for each in arguments])
            case LetValue(number):
                return f"x{number}"
            case Aggregate() | Ranked() | Narrowed() | InContext() | LetIn():
                raise AssertionError(f"{expression} is not part of a plan")
            case _:
                assert_never(expression)


def applied_text(function: str, arguments: list[str]) -> str:
    """A function on arguments, as a formula writes it.

    Parameters
    ----------
    function : str
        The name of a function in the register.
    arguments : list of str
        Its arguments, written out.

    Returns
    -------
    str
        In brackets where it is an operator.
    """
    if function in _INFIX and len(arguments) == 2:
        return f"({arguments[0]} {function} {arguments[1]})"
    if SCALARS[function].called:
        return f"{function}({', '.join(arguments)})"
    match function:
        case "in":
            return f"{arguments[0]} in ({', '.join(arguments[1:])})"
        case "is_null":
            return f"{arguments[0]} is null"
        case "not":
            return f"not {arguments[0]}"
        case "band_by":
            return f"band({arguments[0]} by {arguments[1]})"
        case "band_at":
            return f"band({arguments[0]} at {', '.join(arguments[1:])})"
        case "band_edge":
            return f"the lower edge of {arguments[0]}"
        case "period_month" | "period_quarter" | "period_week":
            return f"period({arguments[0]} by {function.removeprefix('period_')})"
        case "cast":
            return f"cast({arguments[0]} as {arguments[1][1:-1]})"
        case "negate":
            return f"-{arguments[0]}"
        case "case":
            pairs = zip(arguments[:-1:2], arguments[1:-1:2], strict=True)
            whens = " ".join(f"when {condition} then {value}" for condition, value in pairs)
            return f"case {whens} else {arguments[-1]} end"
        case _:
            raise AssertionError(f"a plan's text does not say how {function} is written")


def _field(field: Field) -> str:
    return column_name(field.table, field.column) if field.column else f"row of {quoted(field.table)}"


def _along(route: Route) -> str:
    return " by " + " -> ".join([str(route[0].source), *(str(hop.target) for hop in route)]) if route else ""


def _constant(constant: Constant) -> str:
    value = constant.value
    if value is None or isinstance(value, str | bool):
        return literal(value)
    match constant.type.kind:
        case Kind.DATE:
            return literal(day_of(int(value)))
        case Kind.TIMESTAMP:
            return _moment(int(value), constant.type.scale)
        case Kind.DECIMAL:
            return f"{Decimal(int(value)).scaleb(-constant.type.scale):f}"
        case Kind.INTEGER | Kind.FLOAT:
            return literal(value)
        case Kind.TEXT | Kind.BOOLEAN | Kind.NULL:
            raise AssertionError(f"{value!r} is no {constant.type.kind}")
        case _:
            assert_never(constant.type.kind)


def _moment(value: int, digits: int) -> str:
    if not digits:
        return literal(moment_of(value))
    whole, finer = divmod(value, 10**digits)
    return f"timestamp '{moment_of(whole).isoformat(sep=' ', timespec='microseconds')}{finer:03}'"


def step_text(step: Step) -> str:
    """A calendar change as a formula writes it."""
    match step:
        case Shift(number, unit):
            return f"{'back' if number < 0 else 'forward'} {abs(number)} {unit}"
        case ToDate(unit):
            return f"{unit} to date" if unit else "to date"
        case Before():
            return "before"
        case Trailing(number, unit):
            return f"trailing {number} {unit}"
        case Whole(unit):
            return f"whole {unit}"
        case _:
            assert_never(step)
