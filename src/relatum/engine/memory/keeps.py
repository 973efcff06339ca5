"""The members that cells keep: those for which a formula is true, or the best by it."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Protocol

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from relatum.data import vectors as v
from relatum.data.columns import Array, Column
from relatum.data.groups import Links
from relatum.engine.memory.align import aligned, with_bounds
from relatum.engine.memory.frames import Frame, same_cells
from relatum.engine.memory.ranks import top_mask
from relatum.engine.memory.rows import evaluate_tree
from relatum.engine.memory.scanned import coded
from relatum.engine.memory.scans import Among, Found, Mark, Marked, Scans
from relatum.language.expression import Expression, Slot
from relatum.model.names import column_name
from relatum.model.routes import Place, reach_of
from relatum.plan.dependencies import kept_keys, kept_names, node_keys
from relatum.plan.engine import NullWinner
from relatum.plan.few import formulas_of
from relatum.plan.nodes import Aggregation, Bounds, Formula, Kept, KeyColumn, Match, PlanNode, Restriction, Visible
from relatum.plan.parts import always_kept, keeps_always, own_rows_key
from relatum.plan.slots import node_in

#: A smaller table is not gone through beforehand for the members that matter.
MANY_ROWS = 1 << 16
#: Which members matter is found out first where they are likely to be no more than this part of all.
_SHARE = 0.25


class Evaluates(Protocol):
    """What works out the formulas by which members are kept."""

    scans: Scans
    sizes: dict[int, int]
    #: Of which lookups a formula leaves no match out, where that has a value: its text, and the table.
    unmatched: dict[tuple[str, str], None]

    def values(self, formula: Formula, frame: Frame) -> Column:
        """A formula's value for each cell of a frame."""
        ...

    def node(self, node: PlanNode, frame: Frame) -> Column:
        """A node's value for each cell."""
        ...

    def found(self, node: Aggregation, cells: Frame, extra: Sequence[Match], among: Marked = ...) -> Found:
        """The groups of an aggregation's rows."""
        ...

    def group_values(self, node: Aggregation, found: Found) -> Column:
        """The value of an aggregation for each group."""
        ...

    def valued_pairs(self, visible: Visible, formula: Formula, cells: Frame) -> tuple[Array, dict[int, Array], bool]:
        """The members that each cell sees and at which a formula can have a value; and whether no match can."""
        ...

    def find_unmatched(
        self, text: str, visible: Visible, formula: Formula, cells: Frame, condition: bool = False
    ) -> None:
        """Take down that no match has a value (or fulfils a condition), which is left out."""
        ...


_Consumer = tuple[str, tuple[Restriction, ...]]


class Keeps:
    """Finds kept members, each set once.

    Parameters
    ----------
    evaluator : Evaluates
        Works out their formulas.
    """

    def __init__(self, evaluator: Evaluates) -> None:
        self.evaluator = evaluator
        #: Columns of whose members null is one that was kept.
        self.nulls: dict[NullWinner, None] = {}
        self._links: dict[tuple[object, ...], list[tuple[Frame, Links]]] = {}
        self._marks: dict[tuple[Kept, _Consumer | None], Mark] = {}
        self._consumers: dict[Kept, set[_Consumer]] = {}

    def prepare(self, aggregations: Iterable[Aggregation]) -> None:
        """Say in advance which rows will be tested for kept members."""
        for node in aggregations:
            for kept in always_kept(node.bounds):
                self._consumers.setdefault(_anywhere(kept), set()).add((node.bounds.source, node.bounds.restrictions))

    def links(self, kept: Kept, cells: Frame) -> tuple[Array, Links, int]:
        """For each cell the number of its set of members; for each member the sets that hold it."""
        names, scans = kept_names(kept), self.evaluator.scans
        narrow, numbers = (cells, None) if names else cells.project(kept_keys(kept), self.evaluator.sizes)
        size = scans.size(coded(kept.match))
        key = (kept.members, kept.formula, kept.best, size)
        links = next((own for frame, own in self._links.get(key, ()) if same_cells(frame, narrow, names)), None)
        if links is None:
            codes, parents = self._members(kept, narrow)
            links = Links.of(codes, parents, size)
            self._links.setdefault(key, []).append((narrow, links))
        own = numbers if numbers is not None else np.arange(cells.size)
        return own, links, max(narrow.size, 1)

    def marks(self, bounds: Bounds, *, tested: bool = False) -> dict[Kept | Among, Mark]:
        """For each code of what kept members are matched by whether it is that of one, where no cell decides that.

        Parameters
        ----------
        bounds : Bounds
            What is kept, and conditions.
        tested : bool
            That only the rows within bounds are tested: members that none of them has may be left out.
        """
        return {each: self._mark(each, bounds if tested else None) for each in always_kept(bounds)}

    def _mark(self, kept: Kept, consumer: Bounds | None) -> Mark:
        anywhere = _anywhere(kept)
        known = self._marks.get((anywhere, None))
        if known is not None:
            return known
        matter = None if consumer is None else self._that_matter(kept, consumer)
        key = (anywhere, None if consumer is None or matter is None else (consumer.source, consumer.restrictions))
        if key not in self._marks:
            mark = np.zeros(self.evaluator.scans.size(coded(kept.match)), np.bool_)
            found = self._members(kept, Frame(1, {}))[0] if matter is None else self._members_among(kept, matter)
            mark[found] = True
            self._marks[key] = mark
        return self._marks[key]

    def _members(self, kept: Kept, cells: Frame) -> tuple[Array, Array]:
        """The codes of the members that each cell keeps, and the cells."""
        evaluator, formula = self.evaluator, formulas_of(kept)[0]
        parents, new, unmatched = evaluator.valued_pairs(kept.members, formula, cells)
        inner = cells.expanded(parents, new)
        value = evaluator.values(formula, inner)
        codes = new[kept.match.key]
        mask: NDArray[np.bool_]
        if kept.best is None:
            mask = np.asarray(value.values & v.known(value))
        else:
            ties = [(evaluator.values(each, inner), down) for each, down in kept.best.ties]
            mask = top_mask(parents, value, kept.best.number, kept.best.edge == "top", ties)
            null = evaluator.sizes[kept.match.key] - 2
            if kept.match.column and bool((codes[mask] == null).any()):
                self.nulls[NullWinner(kept.text, column_name(kept.match.table, kept.match.column))] = None
        if unmatched:
            evaluator.find_unmatched(kept.text, kept.members, formula, cells, condition=kept.best is None)
        return codes[mask], parents[mask]

    # -- members that matter ------------------------------------------------------------------------------------------

    def _that_matter(self, kept: Kept, consumer: Bounds) -> Mark | None:
        """For each code of the rows of a table whether one of the rows to be tested has it, or it is that of no match.

        None where it is not worth finding out: the formula is worked out under the same conditions, or most have one.
        """
        scans = self.evaluator.scans
        if kept.best is not None or len(self._consumers.get(_anywhere(kept), ())) != 1:
            return None
        if len(kept.members.parts) != 1 or own_rows_key(*kept.members.parts[0]) is None:
            return None
        by_member = _by_member(kept)
        known = [{each.part for each in node.bounds.restrictions} for node in by_member]
        further = [each for each in consumer.restrictions if not any(each.part in parts for parts in known)]
        rows = scans.store.rows(Place(consumer.source))
        if not by_member or rows < MANY_ROWS or scans.likely_share(consumer.source, further) > _SHARE:
            return None
        return scans.occurring(consumer.source, consumer.restrictions, coded(kept.match))

    def _members_among(self, kept: Kept, matter: Mark) -> Array:
        """The codes of the members that are kept, of those that matter."""
        evaluator, key = self.evaluator, kept.match.key
        ((bounds, _),) = kept.members.parts
        formula, by_member = formulas_of(kept)[0], _by_member(kept)
        rows = np.flatnonzero(matter[:-1])
        rows = evaluator.scans.visible_among(rows, bounds.source, bounds.restrictions, self.marks(bounds))
        no_match = len(matter) - 1
        frame = Frame(len(rows) + 1, {key: np.append(rows, no_match)})
        valued = False

        def leaf(expression: Expression) -> Column:
            nonlocal valued
            assert isinstance(expression, Slot), "the formulas of a plan read cells through slots"
            node = node_in(expression)
            if node in by_member:
                assert isinstance(node, Aggregation), "only rows are found by member"
                found = evaluator.found(node, frame, (), {Among(node.bounds.matches[0], kept): matter})
                values = evaluator.group_values(node, found)
                column = aligned(found.groups.codes, found.cells, found.groups.sizes, values, frame.size)
            else:
                column = evaluator.node(node, frame)
            if not isinstance(node, KeyColumn) and key in node_keys(node):
                valued = valued or bool(np.broadcast_to(v.known(column), frame.size)[-1])
            return with_bounds(column)

        value = v.spread(evaluate_tree(formula.expression, leaf), frame.size)
        holds = np.asarray(value.values & v.known(value))
        if valued and holds[-1]:
            evaluator.unmatched[kept.text, kept.match.table] = None
        kept_rows: Array = rows[holds[:-1]]
        return kept_rows


def _by_member(kept: Kept) -> list[Aggregation]:
    """The aggregates of a keep's formula whose rows each find one member, and are matched by that alone."""
    return [
        node
        for node in formulas_of(kept)[0].inputs
        if isinstance(node, Aggregation)
        and same_for_cells(node.bounds)
        and [(match.key, match.at) for match in node.bounds.matches] == [(kept.match.key, ())]
        and reach_of(node.bounds.matches[0].route) < 0
    ]


def same_for_cells(bounds: Bounds) -> bool:
    """Whether the groups within bounds are the same for all cells, which choose among them by what they match on."""
    return not bounds.dates and keeps_always(bounds)


def _anywhere(kept: Kept) -> Kept:
    """A kept set apart from where it is used: a member is the same whoever looks it up."""
    return replace(kept, match=replace(kept.match, route=()))
