"""Running a plan: which combinations a grid shows, then the values of every grain."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

import numpy as np

from relatum.data.columns import Array, Column
from relatum.data.days import day_of
from relatum.engine.memory.evaluate import Evaluator
from relatum.engine.memory.filters import PartTest
from relatum.engine.memory.folds import CountFold
from relatum.engine.memory.frames import Frame, number_groups
from relatum.engine.memory.scan import ScanTask, run_scan
from relatum.engine.memory.scans import Scanned
from relatum.engine.memory.store import Store
from relatum.errors import RequestError
from relatum.language.catalog import Catalog
from relatum.language.expression import ColumnValue, columns_in
from relatum.model.names import column_name
from relatum.plan.dependencies import node_keys
from relatum.plan.nodes import Aggregation, Answer, Cells, DateSet, Field, Formula, Loss, Naming, Nested, Node, Plan


class MemoryEngine:
    """Answers plans from arrays in memory.

    Parameters
    ----------
    store : Store
        The loaded tables.
    catalog : Catalog
        Their columns and routes.
    """

    def __init__(self, store: Store, catalog: Catalog) -> None:
        self.store = store
        self.catalog = catalog

    def run(self, plan: Plan) -> Answer:
        """The values of every grain of a plan."""
        evaluator = Evaluator(self.store, self.catalog, plan.fields, plan.axes)
        evaluator.prepare(formula for combine in plan.combines for formula in combine.formulas)
        shown = _Shown(plan, evaluator).codes()
        cells = []
        for combine in plan.combines:
            codes = _grain(shown, combine.keys, evaluator)
            frame = Frame(len(codes), {key: codes[:, at] for at, key in enumerate(combine.keys)})
            values = tuple(evaluator.values(formula, frame) for formula in combine.formulas)
            cells.append(Cells(combine.keys, codes, values))
        members = tuple(self.store.members(field.table, field.column) for field in plan.fields[: plan.axes])
        return Answer(tuple(cells), members, tuple(dict.fromkeys(self._losses(evaluator))))

    def _losses(self, evaluator: Evaluator) -> Iterator[Loss]:
        for calendar, end in evaluator.dates.cut:
            yield Loss("period", calendar, "", 0, day_of(end).isoformat())
        for place in evaluator.dates.partly:
            columns_of = " and ".join(column_name(place.table, column) for column in place.level)
            yield Loss("partly", "", columns_of, 0, "")
        for text, table in evaluator.unmatched:
            yield Loss("member", "", table, 0, text)
        for scanned in evaluator.scans.done.values():
            texts = {number: expression for expression, number in scanned.numbers.items()}
            source = scanned.bounds.source
            for (number, route), rows in scanned.result.lost.items():
                if rows:
                    name = route[-1].target.table
                    for each in columns_in(texts[number]):
                        if isinstance(each, ColumnValue) and each.table == name:
                            yield Loss("lookup", source, name, rows, column_name(name, each.column))
            for position, test in enumerate(scanned.tests):
                if test.no_match is not None:
                    rows = _left_out(scanned, position)
                    if rows:
                        yield Loss("condition", source, test.part.table, rows, test.part.text)


def derived_values(store: Store, catalog: Catalog, fields: tuple[Field, ...], formula: Formula, rows: int) -> Column:
    """The values of a derived column: one for each row of the table that key 0 holds."""
    evaluator = Evaluator(store, catalog, fields, 0)
    return evaluator.values(formula, Frame(rows, {0: np.arange(rows)}))


def _grain(shown: Array, keys: tuple[int, ...], evaluator: Evaluator) -> Array:
    if not keys:
        return np.zeros((1, 0), np.int64)
    codes, _ = number_groups([shown[:, key] for key in keys], [evaluator.sizes[key] for key in keys], len(shown))
    return codes


def _left_out(scanned: Scanned, position: int) -> int:
    test = scanned.tests[position]
    assert test.no_match is not None
    others = [other for number, other in enumerate(scanned.tests) if number != position]
    tests = [PartTest(test.part, test.no_match, None), *others]
    (fold,) = run_scan(ScanTask(scanned.rows, tests, [], [], [("count", None)], False)).folds
    assert isinstance(fold, CountFold)
    return int(fold.counts.sum())


class _Shown:
    """The combinations of a plan's axes that its grid shows."""

    def __init__(self, plan: Plan, evaluator: Evaluator) -> None:
        self.plan = plan
        self.evaluator = evaluator
        self.axes = tuple(range(plan.axes))

    def codes(self) -> Array:
        """A row of member codes for each combination, in order."""
        if not self.axes:
            return np.zeros((1, 0), np.int64)
        parts = [self._valued(node) for node in self.plan.judged]
        if self.plan.show_members:
            parts.append(self._members(unmatched=False))
        every = np.concatenate(parts) if parts else np.zeros((0, len(self.axes)), np.int64)
        shown = self._distinct(every)
        self._refuse_many(len(shown))
        return shown

    def _distinct(self, codes: Array) -> Array:
        sizes = [self.evaluator.sizes[key] for key in self.axes]
        return number_groups([codes[:, at] for at in range(len(self.axes))], sizes, len(codes))[0]

    def _refuse_many(self, count: int) -> None:
        if count > self.plan.cell_limit:
            raise RequestError(
                f"The grid would have {count:,} combinations; the limit is {self.plan.cell_limit:,}.",
                fix="Take a coarser column, add a filter, or raise cell_limit.",
            )

    def _valued(self, node: Node) -> Array:
        """The combinations in which a node has a value."""
        if isinstance(node, Aggregation) and self._plain(node):
            found = self.evaluator.found(node, Frame(0, {key: np.zeros(0, np.int64) for key in self.axes}), ())
            values = self.evaluator.group_values(node, found)
            codes = self._ordered(node, found.groups.codes)
            return codes if values.nulls is None else codes[~np.broadcast_to(values.nulls, len(codes))]
        candidates = self._distinct(self._candidates(node))
        frame = Frame(len(candidates), {key: candidates[:, key] for key in self.axes})
        values = self.evaluator.node(node, frame)
        self.evaluator.remember(node, frame, values)
        return candidates if values.nulls is None else candidates[~np.broadcast_to(values.nulls, len(candidates))]

    def _plain(self, node: Aggregation) -> bool:
        bounds = node.bounds
        return not (bounds.dates or bounds.kept or bounds.pinned) and {m.key for m in bounds.matches} == set(self.axes)

    def _ordered(self, node: Aggregation, codes: list[Array]) -> Array:
        place = {match.key: at for at, match in enumerate(node.bounds.matches)}
        return np.stack([codes[place[key]] for key in self.axes], axis=1)

    def _candidates(self, node: Node) -> Array:
        """Combinations among which are all where a node has a value."""
        if isinstance(node, Aggregation):
            # What is kept or pinned only takes rows away.
            wide = replace(node, bounds=replace(node.bounds, kept=(), pinned=()))
            found = self._moved(wide)
            return self._members(unmatched=True) if found is None else found
        if isinstance(node, Naming):
            return self._candidates(node.body.inputs[0])
        if isinstance(node, Nested):
            counts = node.function in ("count", "distinct") and not node.drops  # 0 where rows have no value
            for argument in node.arguments if all(each.strict for each in node.arguments) and not counts else ():
                for inner in _aggregations_of(argument):
                    if set(self.axes) <= node_keys(inner) and not inner.bounds.kept:
                        found = self._moved(replace(inner, bounds=replace(inner.bounds, pinned=())))
                        if found is not None:
                            return found
        return self._members(unmatched=True)

    def _moved(self, node: Aggregation) -> Array | None:
        """Combinations with rows, for an aggregation whose dates may be moved; None where that is not settled here."""
        keys = {match.key for match in node.bounds.matches}
        domain = [self._domain(dates) for dates in node.bounds.dates]
        by_dates = {key for codes in domain if codes is not None for key in codes}
        if None in domain or not set(self.axes) <= keys | by_dates or len(domain) > 1 or keys & by_dates:
            return None
        codes = domain[0] if domain and domain[0] is not None else {}
        size = len(next(iter(codes.values()))) if codes else 1
        blank = {match.key: np.zeros(size, np.int64) for match in node.bounds.matches}
        found = self.evaluator.found(node, Frame(size, {**blank, **codes}), ())
        place = {match.key: at for at, match in enumerate(node.bounds.matches)}
        columns = {key: found.groups.codes[place[key]] for key in self.axes if key in place}
        if codes:
            # The number of a set of dates stands for the cells that have it: each led there by its own codes.
            numbers, sets = found.cells[-1], found.groups.codes[-1]
            first = np.zeros(int(numbers.max(initial=0)) + 1, np.int64)
            first[numbers] = np.arange(size)
            columns.update({key: own[first[sets]] for key, own in codes.items()})
        return np.stack([columns[key] for key in self.axes], axis=1)

    def _domain(self, dates: DateSet) -> dict[int, Array] | None:
        """All combinations of a set of dates' own keys that the calendar has."""
        if dates.within or any(match.at or not match.column for match in dates.matches):
            return None
        store = self.evaluator.store
        if not dates.matches:
            return {}
        codes = [store.members(dates.calendar, match.column).codes.astype(np.int64) for match in dates.matches]
        sizes = [self.evaluator.sizes[match.key] for match in dates.matches]
        distinct, _ = number_groups(codes, sizes, len(codes[0]))
        return {match.key: distinct[:, at] for at, match in enumerate(dates.matches)}

    def _members(self, unmatched: bool) -> Array:
        """The visible members, those of one chain as they occur; with ``unmatched`` also each chain's no match."""
        evaluator = self.evaluator
        grids = []
        count = 1
        for part in self.plan.members.parts:
            _, codes = evaluator.pairs(replace(self.plan.members, parts=(part,)), Frame(1, {}), unmatched=True)
            keys = [match.key for match in part[1]]
            own = np.stack([codes[key] for key in keys], axis=1)
            if unmatched:
                own = np.concatenate([own, [[evaluator.sizes[key] - 1 for key in keys]]])
            grids.append((keys, number_groups(list(own.T), [evaluator.sizes[key] for key in keys], len(own))[0]))
            count *= len(grids[-1][1])
        self._refuse_many(count)
        result = np.zeros((count, len(self.axes)), np.int64)
        repeat = count
        for keys, own in grids:
            repeat //= max(len(own), 1)
            rows = np.arange(count) // max(repeat, 1) % max(len(own), 1)
            result[:, keys] = own[rows]
        return result


def _aggregations_of(formula: Formula) -> Iterator[Aggregation]:
    for node in formula.inputs:
        if isinstance(node, Aggregation):
            yield node
        elif isinstance(node, Nested):
            for argument in node.arguments:
                yield from _aggregations_of(argument)
        elif isinstance(node, Naming):
            yield from _aggregations_of(node.body)
