"""What the memory engine shows of one cell: the rows, members and dates behind it, found as its value is."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

import numpy as np
from msgspec.structs import replace

from relatum.data.arrow import python_values
from relatum.data.columns import Array, Column
from relatum.data.types import BOOLEAN
from relatum.data.vectors import spread, there
from relatum.engine.memory.evaluate import Evaluator
from relatum.engine.memory.frames import Frame
from relatum.engine.memory.rows import Chunk, RowReader
from relatum.engine.memory.shown import Shown
from relatum.engine.memory.store import MemoryStore
from relatum.errors import RequestError
from relatum.language.expression import Apply, ColumnValue, Constant, Expression, FilterPart, NoMatch, columns_in
from relatum.model.names import column_name
from relatum.model.routes import Place, Route
from relatum.plan.engine import NamedMembers, RowsFound
from relatum.plan.nodes import Aggregation, Bounds, DateSet, Formula, Hidden, Kept, Match, Plan, Restriction, Visible

#: The key that holds the rows of an aggregate's own table.
_ROW = -1


class MemoryEvidence:
    """Looks into one cell of a plan.

    Parameters
    ----------
    store : MemoryStore
        The data.
    plan : Plan
        The request's plan.
    cell : mapping of int to int
        The code of a member for each key of the cell.
    """

    def __init__(self, store: MemoryStore, plan: Plan, cell: Mapping[int, int]) -> None:
        self.store = store
        self.plan = plan
        self.evaluator = Evaluator(store, plan.fields, len(plan.axes))
        codes = dict(cell)
        if plan.tops:
            self._settle(codes)
        self.frame = Frame(1, {key: np.array([code]) for key, code in codes.items()})

    def _settle(self, codes: dict[int, int]) -> None:
        """Find the sets of hidden members, and the number of the one that the cell means."""
        shown = Shown(self.plan, self.evaluator)
        shown.grains()
        for top in self.plan.tops:
            if top.others in codes and top.others is not None:
                found = shown.set_under(top, [codes[key] for key in top.outer])
                if found is None:
                    raise RequestError("There are no others here: all members are shown.")
                codes[top.others] = found

    def value(self, formula: Formula) -> Column:
        """A formula's value in the cell: one row."""
        return self.evaluator.values(formula, self.frame)

    def rows(self, node: Aggregation, most: int | None) -> RowsFound:
        """The numbers of the rows that an aggregation is over: as they are, or from the middle on."""
        rows = self._rows(node)
        order = np.arange(len(rows))
        if node.function in ("median", "percentile") and node.arguments:
            (value,) = self.columns(node.bounds.source, node.arguments[:1], rows)
            known = there(value)
            order = np.lexsort((value.values, ~known))
            part = 0.5 if node.function == "median" else node.fraction
            middle = part * (int(known.sum()) - 1)
            order = order[np.argsort(np.abs(np.arange(len(rows)) - middle), kind="stable")]
        return RowsFound(len(rows), rows[order if most is None else order[:most]])

    def distinct(self, node: Aggregation, most: int | None) -> tuple[Column, Array, int]:
        """The distinct values of an aggregation's argument in order, the rows of each, and how many there are."""
        (column,) = self.columns(node.bounds.source, node.arguments[:1], self._rows(node))
        known = there(column)
        _, first, counts = np.unique(column.values[known], return_index=True, return_counts=True)
        chosen = np.arange(len(first)) if most is None else np.arange(len(first))[:most]
        return column.take(np.flatnonzero(known)[first[chosen]]), counts[chosen], len(first)

    def lost(self, node: Aggregation) -> list[tuple[str, int]]:
        """The tables of lookups that found nothing on some of an aggregation's rows, with how many."""
        routes = {value.route for argument in node.arguments for value in columns_in(argument) if value.route}
        rows = self._rows(node) if routes else np.zeros(0, np.int64)
        found = []
        for route in sorted(routes, key=str):
            place = route[-1].target
            missing = int((self.store.positions(route, rows) == self.store.rows(place)).sum())
            if missing:
                found.append((place.table, missing))
        return found

    def codes(self, table: str, route: Route, column_: tuple[str, str], rows: Array) -> Array:
        """The codes of a column's members that rows of a table have, or look up along a route."""
        codes = self.store.row_codes(route, *column_)
        return codes.slice(0, int(rows.max(initial=-1)) + 1, None)[rows].astype(np.int64)

    def _rows(self, node: Aggregation) -> Array:
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

    def members(self, visible: Visible, formulas: Sequence[Formula], most: int | None, drops: bool) -> NamedMembers:
        """The members that the cell sees, and formulas at each of them."""
        parents, codes = self.evaluator.pairs(visible, self.frame)
        inner = self.frame.expanded(parents, codes)
        values = [self.evaluator.values(formula, inner) for formula in formulas]
        rows = np.arange(len(parents))
        if drops:
            rows = np.flatnonzero(there(values[0]))
        chosen = rows if most is None else rows[:most]
        names = [named for key, own in codes.items() for named in self._named(key, own[chosen])]
        return NamedMembers(len(rows), names, [each.take(chosen) for each in values])

    def _named(self, key: int, codes: Array) -> Iterator[tuple[str, Column]]:
        """What tells members: their values, or the keys of their rows."""
        field = self.plan.fields[key]
        if field.column:
            members = self.store.members(field.table, field.column)
            known = codes < members.null
            column = members.values.take(np.where(known, codes, 0)) if len(members.values) else members.values
            nulls = ~known if column.nulls is None else column.nulls | ~known
            made = Column(column.type, column.values, nulls, column.dictionary, column.lower, column.upper)
            yield column_name(field.table, field.column), made
            return
        names = [name for name, _ in field.key] or list(self.store.tables.data[field.table].types)[:1]
        for name in names:
            yield column_name(field.table, name), self.store.column(field.table, name).take(codes)

    def dates(self, dates: DateSet) -> Array:
        """The dates of a set, in days since 1970, in order."""
        numbers, sets = self.evaluator.dates.sets(dates, self.frame)
        days = self.store.column(dates.calendar.table, dates.calendar.date_column).values.astype(np.int64)
        found: Array = np.sort(days)[sets[numbers[0]]]
        return found

    def kept(self, kept: Kept | Hidden, most: int) -> tuple[int, list[str]]:
        """How many members the cell keeps, or that are hidden in it, and what some of them are called."""
        codes = self._kept(kept)
        table, column = kept.match.table, kept.match.column
        shown = codes[:most]
        if column:
            members = self.store.members(table, column)
            real = python_values(members.values.take(shown[shown < members.null]))
            return len(codes), [*map(str, real), *(["null"] if (shown == members.null).any() else [])]
        columns = [python_values(self.store.column(table, name).take(shown)) for name in self.store.tables.keys[table]]
        return len(codes), [" ".join(map(str, each)) for each in zip(*columns, strict=True)]

    def _kept(self, kept: Kept | Hidden) -> Array:
        numbers, links, size = self.evaluator.kept_links(kept, self.frame)
        owners = np.repeat(np.arange(len(links.offsets) - 1), np.diff(links.offsets))
        return owners[links.targets == numbers[0]] if size else owners[:0]
