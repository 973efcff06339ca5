"""Notes on no match: that a formula leaves it out where it has a value."""

from __future__ import annotations

from relatum.engine.sql.cells import Cells, Reading
from relatum.engine.sql.sheet import Frame, KeyColumn
from relatum.engine.sql.terms import aliased, any_of, blank, column, equal, is_there, number
from relatum.engine.sql.windows import counted
from relatum.plan.dependencies import node_keys
from relatum.plan.engine import LeftOutMember
from relatum.plan.nodes import Formula, Nested, Visible
from relatum.plan.nodes import KeyColumn as KeyNode
from relatum.plan.parts import aggregations
from relatum.plan.shown import needs_values


def note_unmatched(
    cells: Cells, text_: str, visible: Visible, formula: Formula, frame: Frame, *, condition: bool = False
) -> None:
    """Have it noted where a formula has a value for no match of a grain, which is left out."""
    matches = [match for _, own in visible.parts for match in own]
    for match in matches:
        if not _may_have_unmatched(cells, formula, match.key):
            continue
        key = KeyColumn(f"k{match.key}", f"k{match.key}s")
        if len(matches) > 1:
            inner = cells.members(visible, frame, unmatched=True)
            if inner.keys[match.key].state is None:
                continue
            reading = Reading(cells, inner)
            reading.rows.where.append(equal(column(reading.alias, f"k{match.key}s"), number(2)))
            inner = cells.frame("no_match", reading.rows.select(*reading.columns()), inner.keys, frame.names)
        else:
            reading = Reading(cells, frame)
            virtual = [aliased(blank(cells.key_type(match.key)), key.value), aliased(number(2), f"k{match.key}s")]
            select = reading.rows.select(*reading.columns(), *virtual)
            inner = cells.frame("no_match", select, {**frame.keys, match.key: key}, frame.names)
        reading = Reading(cells, inner)
        inputs = [each for each in formula.inputs if not isinstance(each, KeyNode) and match.key in node_keys(each)]
        value = reading.value(formula)
        reading.rows.where.append(any_of(is_there(reading.node(each)) for each in inputs))
        reading.rows.where.append(value.sql if condition else is_there(value.sql))
        cells.parts.remark(LeftOutMember(text_, match.table), reading.rows.select(counted()))


def _may_have_unmatched(cells: Cells, formula: Formula, key: int) -> bool:
    """Whether rows that a formula aggregates may find no member that a key holds, or it has a value without any."""
    if key not in formula.keys:
        return False
    if any(isinstance(each, Nested) and key in node_keys(each) and not needs_values(each) for each in formula.inputs):
        return True
    routes = [m.route for node in aggregations([formula]) for m in node.bounds.matches if m.key == key]
    return not routes or any(cells.parts.may_miss(hop) for route in routes for hop in route if not hop.reach)
