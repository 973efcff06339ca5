"""Which combinations of members a grid shows, and which its tops leave out: worked out in one way for every engine.

What a combination is made of is an engine's own: codes in arrays, or the relations of a query.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterable, Mapping, Sequence
from typing import Generic, Protocol, TypeVar, assert_never

from relatum.model.routes import Hop
from relatum.plan.nodes import (
    Aggregation,
    Bounds,
    EveryMember,
    Formula,
    GridGrain,
    Judged,
    Match,
    Occurring,
    Plan,
    PlanNode,
    Top,
    Visible,
    WithRows,
)
from relatum.plan.parts import ensures


class Settled(Protocol):
    """A top once it is known which members it hides."""

    @property
    def top(self) -> Top:
        """The top."""
        ...


#: The combinations of a grain.
C = TypeVar("C")
#: Some of the combinations of a grain, to be put together with others.
P = TypeVar("P")
#: The combinations of some keys, to be crossed with those of others.
X = TypeVar("X")
#: A settled top.
S = TypeVar("S", bound=Settled)


class ShownGrains(ABC, Generic[C, P, X, S]):
    """The combinations of a plan's axes that its grid shows, grain by grain.

    Parameters
    ----------
    plan : Plan
        What is asked.
    """

    def __init__(self, plan: Plan) -> None:
        self.plan = plan
        self.settled: list[S] = []

    def grains(self) -> list[C]:
        """The combinations of each grain of the plan, in order."""
        found: dict[GridGrain, C] = {}
        for grain in self.plan.grains:
            if not grain.others:
                found[grain] = self._grain(grain, found)
        left = dict(found)
        for top in self.plan.tops:
            self._take_out(top, left)
        for grain in self.plan.grains:
            if grain.others:
                left[grain] = self._others(grain, found, left)
        return [left[grain] for grain in self.plan.grains]

    def _grain(self, grain: GridGrain, finer: Mapping[GridGrain, C]) -> C:
        """The combinations of a grain without others; those of finer grains are known."""
        if not grain.keys:
            return self._one()
        parts = [
            self._projected(own, other.keys, grain.keys)
            for other, own in finer.items()
            if set(grain.keys) <= set(other.keys)
        ]
        parts += [self._valued(grain, judged) for judged in grain.judged]
        if grain.bare is not None:
            parts += self._bare(grain, grain.bare)
        bounded = [key for key in grain.keys if grain.bare is not None or not self._ensured(grain, key)]
        return self._together(grain, parts, bounded)

    def _ensured(self, grain: GridGrain, key: int) -> bool:
        """Whether the rows that decide what is shown have no member of a key that may not be shown."""
        return all(ensures(judged, self.plan.axes[key], key) for judged in grain.judged)

    def _valued(self, grain: GridGrain, judged: Judged) -> P:
        """The combinations in which a node has a value."""
        node = judged.node
        match judged.among:
            case Occurring():
                assert isinstance(node, Aggregation), "only rows occur"
                return self._occurring(grain, node)
            case WithRows(aggregation, free, members):
                # Without rows it has no value: what it is at these combinations is all that there is.
                if members is None and aggregation == node:
                    return self._with_rows(grain, aggregation)
                return self._where_valued(grain, node, self._reached(grain, aggregation, free, members), whole=True)
            case EveryMember():
                every = self._every_member(grain, unmatched=True, valued=True)
                return self._where_valued(grain, node, every, whole=False)
            case _:
                assert_never(judged.among)

    def _bare(self, grain: GridGrain, values: Iterable[Formula]) -> list[P]:
        """The visible members, and no match by itself where some value of the request is not null."""
        real = self._projected(self._every_member(grain, unmatched=False), grain.keys, grain.keys)
        if not any(self._has_unmatched(key, valued=False) for key in grain.keys):
            return [real]
        return [real, self._unmatched_valued(grain, self._every_member(grain, unmatched=True), values)]

    def _every_member(self, grain: GridGrain, *, unmatched: bool, valued: bool = False) -> C:
        """The visible members, those of one chain as they occur; with ``unmatched`` also each chain's no match."""
        return self._crossed(grain, self._chains(grain.members, unmatched=unmatched, valued=valued), hidden=False)

    def _chains(self, members: Visible, *, unmatched: bool, valued: bool) -> list[tuple[Sequence[int], X]]:
        """For each lookup chain its keys, and the combinations of their members that rows have.

        With ``unmatched`` no match of the whole chain is one of them where some row finds nothing there; with
        ``valued`` also where some row of a coarser fact finds nothing.
        """
        found: list[tuple[Sequence[int], X]] = []
        for bounds, matches in members.parts:
            keys = [match.key for match in matches]
            none = unmatched and all(self._has_unmatched(key, valued=valued) for key in keys)
            found.append((keys, self._chain(bounds, matches, none)))
        return found

    def _has_unmatched(self, key: int, *, valued: bool) -> bool:
        """Whether some row finds no member of an axis's table, so that ``(no match)`` is there, or a value can be."""
        axis = self.plan.axes[key]
        hops = (*axis.lookups, *axis.levels) if valued else axis.lookups
        return any(map(self._unmatched, hops))

    # -- tops ---------------------------------------------------------------------------------------------------------

    def _take_out(self, top: Top, left: dict[GridGrain, C]) -> None:
        """Find the members that a top hides, and take them out of all grains."""
        prefix = (*top.outer, top.key)
        competing = next(own for grain, own in left.items() if grain.keys == prefix and not grain.unopened)
        settled = self._settle(top, competing)
        self.settled.append(settled)
        for grain, own in left.items():
            if set(prefix) <= set(grain.keys):
                left[grain] = self._without(own, grain.keys, settled)

    def _others(self, grain: GridGrain, found: Mapping[GridGrain, C], left: Mapping[GridGrain, C]) -> C:
        """The combinations that others are shown in: where a hidden member is, and where others have a value."""
        of = {settled.top.others: settled.top.key for settled in self.settled if settled.top.others is not None}
        plain = tuple(of[key] if key in grain.others else key for key in grain.keys)
        parts = [
            self._among_hidden(grain, own, other.keys, plain)
            for other, own in found.items()
            if set(plain) <= set(other.keys)
        ]
        axes = [
            [key for key in grain.keys if (of.get(key, key) < self.plan.row_count) == on_rows]
            for on_rows in (True, False)
        ]
        every = self._crossed(grain, [(keys, self._half(keys, found)) for keys in axes if keys], hidden=True)
        parts.append(self._any_valued(grain, every))
        for other, own in left.items():
            if set(grain.keys) < set(other.keys):
                parts.append(self._projected(own, other.keys, grain.keys))
        return self._together(grain, parts, ())

    def _half(self, keys: Sequence[int], found: Mapping[GridGrain, C]) -> X:
        """The combinations of one axis: sets of hidden members with their surroundings, or the members shown."""
        for settled in self.settled:
            if settled.top.others in keys:
                return self._sets(settled, keys)
        return self._beside(
            keys,
            [self._not_hidden(own, other.keys, keys) for other, own in found.items() if set(keys) <= set(other.keys)],
        )

    def _within(self, keys: Sequence[int]) -> list[S]:
        """The settled tops that hide combinations of some keys."""
        return [each for each in self.settled if {*each.top.outer, each.top.key} <= set(keys)]

    # -- what an engine does ------------------------------------------------------------------------------------------

    @abstractmethod
    def _one(self) -> C:
        """The one combination of no keys."""

    @abstractmethod
    def _projected(self, own: C, held: Sequence[int], keys: Sequence[int]) -> P:
        """Some of the keys ``held`` by combinations."""

    @abstractmethod
    def _together(self, grain: GridGrain, parts: Sequence[P], bounded: Sequence[int]) -> C:
        """The distinct combinations of all parts that a grain shows.

        Its open and closed members are looked at, and of the keys ``bounded`` whether the request's own condition
        leaves their members in their tables.
        """

    @abstractmethod
    def _occurring(self, grain: GridGrain, node: Aggregation) -> P:
        """The combinations that rows have themselves and in which an aggregate has a value."""

    @abstractmethod
    def _with_rows(self, grain: GridGrain, node: Aggregation) -> P:
        """The combinations of an aggregate's groups, whose dates may be moved, in which it has a value."""

    @abstractmethod
    def _reached(self, grain: GridGrain, node: Aggregation, free: frozenset[int], members: Visible | None) -> C:
        """The combinations of an aggregate's groups; keys that it is free of have the members that rows have there."""

    @abstractmethod
    def _where_valued(self, grain: GridGrain, node: PlanNode, every: C, *, whole: bool) -> P:
        """The combinations in which a node has a value; ``whole`` if it has none in any others."""

    @abstractmethod
    def _unmatched_valued(self, grain: GridGrain, every: C, values: Iterable[Formula]) -> P:
        """The combinations with no match of some key in which some value is not null."""

    @abstractmethod
    def _any_valued(self, grain: GridGrain, every: C) -> P:
        """The combinations in which some node that decides has a value."""

    @abstractmethod
    def _chain(self, bounds: Bounds, matches: Sequence[Match], none: bool) -> X:
        """The combinations of members that rows within bounds have; with ``none`` also no match of all of them."""

    @abstractmethod
    def _crossed(self, grain: GridGrain, parts: Sequence[tuple[Sequence[int], X]], *, hidden: bool) -> C:
        """Every combination of those of several parts; ``hidden`` if most of them may have no value."""

    @abstractmethod
    def _unmatched(self, hop: Hop) -> bool:
        """Whether some row finds nothing along a hop."""

    @abstractmethod
    def _settle(self, top: Top, own: C) -> S:
        """The members that a top hides among the combinations of its key and the outer ones."""

    @abstractmethod
    def _without(self, own: C, held: Sequence[int], settled: S) -> C:
        """The combinations without those of hidden members."""

    @abstractmethod
    def _among_hidden(self, grain: GridGrain, own: C, held: Sequence[int], plain: Sequence[int]) -> P:
        """The combinations of a grain with others in which the combination of a hidden member lies.

        ``plain`` are the grain's keys with the hidden members' own in place of others.
        """

    @abstractmethod
    def _sets(self, settled: S, keys: Sequence[int]) -> X:
        """The sets of hidden members, each with its outer members."""

    @abstractmethod
    def _not_hidden(self, own: C, held: Sequence[int], keys: Sequence[int]) -> P:
        """The combinations of some keys that no top hides."""

    @abstractmethod
    def _beside(self, keys: Sequence[int], parts: Sequence[P]) -> X:
        """The distinct combinations of all parts."""
