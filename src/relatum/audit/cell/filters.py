"""The filters in force on an aggregate's rows: where each comes from, its route, and the rows that it leaves."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import Struct

from relatum.audit.cell.location import OTHERS
from relatum.audit.cell.records import FilterStep, Origin
from relatum.data.days import day_of
from relatum.model.names import column_name, literal, quoted
from relatum.model.routes import Route
from relatum.pivot.turning import NO_MATCH
from relatum.plan.bounds import Bounder
from relatum.plan.context import ByCondition, ByDates, ByHidden, ByKept, ByMember, Context, Filter
from relatum.plan.describe import step_text
from relatum.plan.engine import Evidence
from relatum.plan.nodes import Aggregation, Formula
from relatum.plan.probing import Probe
from relatum.wording import counted

_ORDER = ("request", "axis", "keep", "where", "pin", "member", "row", "dates")


class FilterPlan(Struct, frozen=True):
    """A filter to report, with the counts of rows before and after it as formulas."""

    text: str
    origin: Origin
    route: tuple[str, ...] | None
    after: Formula


class FilterTeller:
    """Plans the report on the filters of one aggregate's rows.

    Parameters
    ----------
    probe : Probe
        The cell.
    names : mapping of int to str
        How the member of each key of the cell is written.
    """

    def __init__(self, probe: Probe, names: dict[int, str]) -> None:
        self.probe = probe
        self.names = names

    def plan(self, table: str, context: Context) -> tuple[Formula, list[FilterPlan]]:
        """The count of all rows of a table, and its filters in the order in which they are shown."""
        catalog = self.probe.catalog.opening(context.opened)
        bounder = Bounder(self.probe.catalog, context)
        moved = bounder.calendars(table)
        periods = [each for each in context.filters for calendar in moved if bounder.is_period(each, calendar)]
        rest = [each for each in context.filters if each not in periods]
        rest.sort(key=lambda each: _ORDER.index(each.origin))
        plans: list[FilterPlan] = []
        passed: list[Filter] = []
        for each in rest:
            route = catalog.filter(each.table, each.columns, table)
            if route is not None:
                passed.append(each)
            after = self.probe.rows(table, passed, context)
            hops = None if route is None else _hops(route, each)
            plans.append(FilterPlan(self.text(each), _origin(each), hops, after))
        if periods or moved or context.edges:
            words = [self.text(each) for each in periods]
            words += [step_text(step) for steps in moved.values() for step in steps]
            words += [f"with the {edge.edge} {column_name(edge.table, edge.column)}" for edge in context.edges]
            whole = self.probe.rows(table, passed, context, whole=True)
            plans.append(FilterPlan(", ".join(words), "formula", (quoted(table),), whole))
        return self.probe.rows(table, [], context), plans

    def text(self, each: Filter) -> str:
        """A filter as a person reads it."""
        name = column_name(each.table, each.column) if each.column else quoted(each.table)
        match each.by:
            case ByMember(key):
                return f"{name} {self.names.get(key, 'of the current row')}"
            case ByHidden(hidden):
                return f"{name} {self.names.get(hidden.key, '= others')}"
            case ByKept():
                return each.text
            case ByCondition(part):
                return each.text or part.text
            case ByDates():
                return f"the dates of {name} left by calendar changes"


def filters_in_force(evidence: Evidence, first: Formula, plans: Sequence[FilterPlan]) -> tuple[FilterStep, ...]:
    """Filters with the rows before and after each."""
    before = _count(evidence, first)
    found = []
    for each in plans:
        after = _count(evidence, each.after)
        found.append(FilterStep(each.text, each.origin, each.route, before, after))
        before = after
    return tuple(found)


def _count(evidence: Evidence, formula: Formula) -> int:
    column = evidence.value(formula)
    return 0 if column.nulls is not None and bool(column.nulls[0]) else int(column.values[0])


def _origin(each: Filter) -> Origin:
    match each.origin:
        case "request":
            return "request"
        case "axis":
            return "column" if each.axis == "columns" else "row"
        case "where" | "pin" | "keep" | "dates":
            return "formula"
        case "member" | "row":
            return "current row"


def _hops(route: Route, each: Filter) -> tuple[str, ...]:
    """The tables that a filter passes, from its own to the rows."""
    if not route:
        return (quoted(each.table),)
    return (*(str(hop.target) for hop in reversed(route)), str(route[0].source))


def moved_dates(evidence: Evidence, node: Aggregation) -> list[str]:
    """The dates that calendar changes came to."""
    found = []
    for dates in node.bounds.dates:
        days = evidence.dates(dates)
        moves = ", ".join(step_text(step) for step in dates.steps)
        if len(days):
            found.append(f"{moves}: {day_of(int(days[0]))} to {day_of(int(days[-1]))} ({counted(len(days), 'date')})")
        else:
            found.append(f"{moves}: no date")
    return found


def member_text(value: object) -> str:
    """How a member of a field is written after its name."""
    if value is None:
        return "is null"
    if value is NO_MATCH:
        return "is no match"
    return "= others" if value is OTHERS else f"= {literal(value)}"
