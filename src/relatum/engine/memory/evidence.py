"""What the memory engine shows of one cell: the rows, members and dates behind it, found as its value is."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

import numpy as np

from relatum.data.columns import Array, Column
from relatum.data.types import BOOLEAN
from relatum.data.vectors import spread
from relatum.engine.memory.evaluate import Evaluator
from relatum.engine.memory.frames import Frame
from relatum.engine.memory.rows import Chunk, RowReader
from relatum.engine.memory.shown import Shown
from relatum.engine.memory.store import Store
from relatum.errors import RequestError
from relatum.language.expression import Apply, ColumnValue, Constant, Expression, FilterPart, NoMatch
from relatum.model.routes import Place
from relatum.plan.nodes import Aggregation, Bounds, DateSet, Formula, Hidden, Kept, Match, Plan, Restriction, Visible

#: The key that holds the rows of an aggregate's own table.
_ROW = -1


class MemoryEvidence:
    """Looks into one cell of a plan.

    Parameters
    ----------
    store : Store
        The data.
    plan : Plan
        The request's plan.
    cell : mapping of int to int
        The code of a member for each key of the cell.
    """

    def __init__(self, store: Store, plan: Plan, cell: Mapping[int, int]) -> None:
        self.store = store
        self.plan = plan
        self.evaluator = Evaluator(store, plan.fields, len(plan.axes))
        codes = dict(cell)
        if plan.tops:
            self._settle(codes)
        self.frame = Frame(1, {key: np.array([code]) for key, code in codes.items()})

    def _settle(self, codes: dict[int, int]) -> None:
        """Find the sets of hidden members, and the number of the one that the cell means."""
        _, tops = Shown(self.plan, self.evaluator).codes()
        for top in self.plan.tops:
            if top.others in codes and top.others is not None:
                found = tops.set_under(top, [codes[key] for key in top.outer])
                if found is None:
                    raise RequestError("There are no others there: all members are shown.")
                codes[top.others] = found

    def value(self, formula: Formula) -> Column:
        """A formula's value in the cell: one row."""
        return self.evaluator.values(formula, self.frame)

    def rows(self, node: Aggregation) -> Array:
        """The numbers of the rows that an aggregation is over, in order."""
        bounds = self._settled(node.bounds)
        self.evaluator.sizes[_ROW] = self.store.rows(Place(bounds.source)) + 1
        own = Match(_ROW, (), (), bounds.source, "")
        _, codes = self.evaluator.pairs(Visible(((bounds, (own,)),)), self.frame)
        return np.sort(codes[_ROW])

    def _settled(self, bounds: Bounds) -> Bounds:
        """Bounds whose members are conditions: in one cell they are the same, and leave rows out before any is kept."""
        moved = [match for match in bounds.matches if match.column and not match.at]
        rest = tuple(match for match in bounds.matches if match not in moved)
        conditions = tuple(self._condition(match) for match in moved)
        return replace(bounds, matches=rest, restrictions=(*bounds.restrictions, *conditions))

    def _condition(self, match: Match) -> Restriction:
        members = self.store.members(match.table, match.column)
        code = int(self.frame.codes[match.key][0])
        value = ColumnValue(match.table, match.column, members.values.type, route=())
        unmatched = NoMatch(match.table, route=())
        if code == members.no_match:
            condition: Expression = unmatched
        elif code == members.null:
            null = Apply("is_null", (value,), BOOLEAN)
            condition = Apply("and", (null, Apply("not", (unmatched,), BOOLEAN)), BOOLEAN)
        else:
            inner = members.values.values[code].item()
            known = members.values.dictionary
            constant = Constant(known[inner].as_py() if known is not None else inner, members.values.type)
            condition = Apply("=", (value, constant), BOOLEAN)
        part = FilterPart(match.table, frozenset([match.column]), condition)
        return Restriction(part, match.route)

    def columns(self, table: str, expressions: Sequence[Expression], rows: Array) -> list[Column]:
        """Row expressions of a table on some of its rows."""
        reader = RowReader(self.store, table)
        chunk = Chunk(0, self.store.rows(Place(table)), rows)
        return [spread(reader.compile(expression)(chunk), len(rows)) for expression in expressions]

    def members(self, visible: Visible, formulas: Sequence[Formula]) -> tuple[dict[int, Array], list[Column]]:
        """The members that the cell sees, as the codes of their keys, and formulas at each of them."""
        parents, codes = self.evaluator.pairs(visible, self.frame)
        inner = self.frame.expanded(parents, codes)
        return codes, [self.evaluator.values(formula, inner) for formula in formulas]

    def dates(self, dates: DateSet) -> Array:
        """The dates of a set, in days since 1970, in order."""
        numbers, sets = self.evaluator.dates.sets(dates, self.frame)
        days = self.store.column(dates.calendar.table, dates.calendar.date_column).values.astype(np.int64)
        found: Array = np.sort(days)[sets[numbers[0]]]
        return found

    def kept(self, kept: Kept | Hidden) -> Array:
        """The codes of the members that the cell keeps, or that are hidden in it."""
        numbers, links, size = self.evaluator.kept_links(kept, self.frame)
        owners = np.repeat(np.arange(len(links.offsets) - 1), np.diff(links.offsets))
        return owners[links.targets == numbers[0]] if size else owners[:0]
