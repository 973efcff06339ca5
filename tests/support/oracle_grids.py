"""Whole grids of the oracle: which lines a request shows, in which order, and what each cell is worth. One cell at a time."""

from __future__ import annotations

import functools
import itertools
from dataclasses import dataclass, field, replace
from typing import Any

from oracle import Star, axes_of
from oracle_history import Context, Filter, Row
from oracle_rows import NO_MATCH, NO_MATCH_MEMBER, TOTAL
from oracle_values import _literal
from oracle_words import parsed, parsed_condition, spelled_out
from relatum.language.parse import parse_axis, parse_keeps
from relatum.language.tree import NO_MATCH as NO_MATCH_WORD
from relatum.language.tree import AxisItem, Name, Ordering, Syntax

Key = tuple[Any, ...]


class _Word:
    def __init__(self, word: str) -> None:
        self.word = word

    def __repr__(self) -> str:
        return self.word


OTHERS, BELOW = _Word("others"), _Word("below")


@dataclass
class Asked:
    """A request."""

    rows: tuple[str, ...]
    columns: tuple[str, ...]
    values: tuple[str, ...]
    where: str = ""
    keep: str = ""
    totals: bool = True
    show_empty: bool = False


@dataclass
class GridField:
    """A field of an axis that no other determines, with its options."""

    pair: tuple[str, str]
    item: AxisItem
    total: str
    rows: bool
    attributes: list[tuple[str, str]] = field(default_factory=list)

    @property
    def stops(self) -> bool:
        return self.item.closed or self.item.opened is not None

    def is_open(self, member: Any) -> bool:
        if member == NO_MATCH_MEMBER:
            return NO_MATCH_WORD in (self.item.opened or ())
        wanted = [self.constant(each) for each in self.item.opened or () if not isinstance(each, str)]
        return any(type(one) is type(member) and one == member for one in wanted)

    def constant(self, literal: Any) -> Any:
        return _literal(literal.value, str(literal.type))


class Grid:
    """One request put to a star."""

    def __init__(self, star: Star, asked: Asked) -> None:
        self.star, self.asked = star, asked
        #: The fields of each axis as they are written, those that others determine among them.
        self.written: dict[bool, list[tuple[str, str]]] = {True: [], False: []}
        self.fields = [*self._fields(asked.rows, True), *self._fields(asked.columns, False)]
        self.count = sum(each.rows for each in self.fields)
        self.trees = [parsed(text) for text in asked.values]
        where = star.nothing_yet()
        if asked.where:
            where = where.plus(*star.conditions(parsed_condition(asked.where), "request", where))
        kept = []
        for clause in spelled_out(parse_keeps(asked.keep)) if asked.keep else ():
            one = star.changed(where, (clause,)).filters[-1]
            kept.append(replace(one, kind="request", keeps=True))
        self.request = where.plus(*kept)
        self.pairs = [each.pair for each in self.fields]
        #: For each top with others: hidden members by their outer ones.
        self.hidden: dict[int, dict[Key, list[Any]]] = {}

    def _fields(self, texts: tuple[str, ...], rows: bool) -> list[GridField]:
        found: list[GridField] = []
        for text in texts:
            (item,) = parse_axis(text)
            item = spelled_out(item)
            pair = self._pair(item, text)
            self.written[rows].append(pair)
            head = next((each for each in found if self._determines(each.pair, pair)), None)
            if head is not None:
                head.attributes.append(pair)
            else:
                total = item.total or "after"
                found.append(GridField(pair, item, total if self.asked.totals else "none", rows))
        return found

    def _pair(self, item: AxisItem, text: str) -> tuple[str, str]:
        if isinstance(item.formula, Name) and item.over is None:
            return item.formula.parts[0], item.formula.parts[1]
        table = self.star.row_table([item.formula], item.over.parts[0] if item.over else "", self.star.nothing_yet())
        name = f"= {text}"
        self.star.derived[table, name] = text[item.formula.span.start : item.formula.span.stop]
        return table, name

    def _determines(self, head: tuple[str, str], other: tuple[str, str]) -> bool:
        keys = {"category": "cat", "product": "pid", "customer": "cid", "calendar": "day"}
        if keys.get(head[0]) == head[1]:
            return self.star.finds(head[0], *other, self.star.nothing_yet())
        level = next(
            (link for link in self.star.links if link.level and (link.one, link.one_columns) == (head[0], (head[1],))),
            None,
        )
        return level is not None and other[0] == head[0] and (other == head or self.star.determined(level, other[1]))

    # -- contexts --------------------------------------------------------------------------------------------------

    def cell(self, key: Key) -> Context:
        """The context of a cell: a filter for each member, and one for the hidden members where others are."""
        context = self.request
        for number, (each, member) in enumerate(zip(self.fields, key, strict=True)):
            axis = "rows" if each.rows else "columns"
            if member in (TOTAL, BELOW):
                continue
            if member is OTHERS:
                context = context.plus(self._one_of(each.pair, self.hidden[number][self._outer(number, key)], axis))
            else:
                context = self.star.at_member(context, *each.pair, member, "axis", axis)
        return context

    def _one_of(self, pair: tuple[str, str], members: list[Any], axis: str) -> Filter:
        table, column = pair

        def test(row: Row) -> bool:
            if row[1] == NO_MATCH:
                return NO_MATCH_MEMBER in members
            return self.star.value(row, column) in [each for each in members if each != NO_MATCH_MEMBER]

        return Filter("axis", table, frozenset([column]), test, frozenset([pair]), axis, several=True)

    def _axis(self, number: int) -> list[int]:
        return [at for at, each in enumerate(self.fields) if each.rows == self.fields[number].rows]

    def _outer(self, number: int, key: Key) -> Key:
        return tuple(key[at] for at in self._axis(number) if at < number)

    # -- which lines there are -------------------------------------------------------------------------------------

    def parts(self, axis: list[int]) -> list[tuple[int, str]]:
        """How deep the lines of an axis go: as far as members, or as totals; ``shut`` for those not opened alone."""
        fields = [self.fields[at] for at in axis]
        shut = next((at for at, each in enumerate(fields) if each.item.closed), None)
        deepest = len(fields) if shut is None else shut + 1
        found = []
        for depth in range(deepest, -1, -1):
            stopped = 0 < depth < len(fields) and fields[depth - 1].stops
            if depth == len(fields) or fields[depth].total != "none" or (stopped and depth - 1 == shut):
                found.append((depth, "all"))
            elif stopped:
                found.append((depth, "shut"))
        return found

    def lines(self) -> dict[Key, list[Any]]:
        """Every combination shown, in order, with its values."""
        rows = [at for at, each in enumerate(self.fields) if each.rows]
        columns = [at for at, each in enumerate(self.fields) if not each.rows]
        grains = [(one, other, how, also) for one, how in self.parts(rows) for other, also in self.parts(columns)]
        first = (grains[0][0], grains[0][1])
        deepest = self._kept(rows, columns, *first)
        bare = any(deepest) and (self.asked.show_empty or not self.in_force(deepest))
        shown: set[Key] = set()
        for depth, other, how, also in sorted(grains, key=lambda each: -each[0] - each[1]):
            kept = self._kept(rows, columns, depth, other)
            new = self.star_shown(kept, bare) | {self._coarser(kept, key) for key in shown if self._has(kept, key)}
            for axis, deep, way in ((rows, depth, how), (columns, other, also)):
                new = {key for key in new if self._allowed(axis, deep, way, key)}
            shown |= new
        every = set(shown)
        for number, each in enumerate(self.fields):
            if each.item.best is not None:
                shown = self._cut(number, shown, every)
        shown |= self._others(shown, every)
        ordered = sorted(shown, key=functools.cmp_to_key(self._compare))
        return {self._told(key): [self.star.evaluate(tree, self.cell(key)) for tree in self.trees] for key in ordered}

    def _kept(self, rows: list[int], columns: list[int], depth: int, other: int) -> tuple[bool, ...]:
        there = {*rows[:depth], *columns[:other]}
        return tuple(at in there for at in range(len(self.fields)))

    def _coarser(self, kept: tuple[bool, ...], key: Key) -> Key:
        return tuple(member if keep else TOTAL for member, keep in zip(key, kept, strict=True))

    def _has(self, kept: tuple[bool, ...], key: Key) -> bool:
        return all(member is not TOTAL for member, keep in zip(key, kept, strict=True) if keep)

    def _allowed(self, axis: list[int], depth: int, way: str, key: Key) -> bool:
        """Whether closed members let a line be: deeper fields under opened members alone."""
        for at in axis[: max(depth - 1, 0)]:
            if self.fields[at].stops and not self.fields[at].is_open(key[at]):
                return False
        return way == "all" or not self.fields[axis[depth - 1]].is_open(key[axis[depth - 1]])

    def in_force(self, kept: tuple[bool, ...]) -> bool:
        key = tuple(NO_MATCH_MEMBER if keep else TOTAL for keep in kept)
        some = self.cell(key)
        return bool(self.star.judged(self.trees, some, axes_of(some)))

    def star_shown(self, kept: tuple[bool, ...], bare: bool) -> set[Key]:
        if not any(kept):
            return {tuple(TOTAL for _ in self.fields)}
        return self.star.shown(self.trees, self.pairs, kept, self.request, bare, self.count)

    # -- the best and the rest -----------------------------------------------------------------------------------

    def ranked(self, number: int) -> list[tuple[Syntax, bool]]:
        """What a field's members are ranked by, each with whether the largest is the better."""
        best = self.fields[number].item.best
        assert best is not None
        by = best.by or (Ordering(self.trees[0], False, best.span),)
        return [(by[0].formula, best.edge == "top"), *((each.formula, each.descending) for each in by[1:])]

    def _prefix(self, number: int, key: Key) -> Key:
        """The combination of a field's member and its outer ones, the other axis totalled."""
        there = [at for at in self._axis(number) if at <= number]
        return tuple(key[at] if at in there else TOTAL for at in range(len(self.fields)))

    def order_of(self, number: int, prefix: Key, formula: Syntax) -> Any:
        """What a member is ordered by."""
        star = self.star
        if isinstance(formula, Name) and len(formula.parts) == 2:
            table, column = self.fields[number].pair
            if prefix[number] == NO_MATCH_MEMBER:
                return None
            row = star.some_row(table, column, prefix[number])
            member = star.looked_up(row, *formula.parts, self.star.nothing_yet())
            place = star.place(*formula.parts, member)
            return place[1] if place[0] == 0 else None
        return star.order_value(formula, star.evaluate(formula, self.cell(prefix)))

    def _cut(self, number: int, shown: set[Key], every: set[Key]) -> set[Key]:
        """The lines without those of the members that are not among the best."""
        best = self.fields[number].item.best
        assert best is not None
        ranked = self.ranked(number)
        candidates: dict[Key, dict[Key, list[Any]]] = {}
        for key in every:
            if (
                key[number] is TOTAL
                or key[number] == NO_MATCH_MEMBER
                or any(self._is_hidden(at, key) for at in self._axis(number))
            ):
                continue
            prefix = self._prefix(number, key)
            own = candidates.setdefault(self._outer(number, key), {})
            if prefix not in own:
                own[prefix] = [self.order_of(number, prefix, formula) for formula, _ in ranked]
        self.hidden[number] = {}
        for outer, own in candidates.items():
            for prefix, mine in own.items():
                better = sum(
                    _better(other, mine, [down for _, down in ranked]) for other in own.values() if other[0] is not None
                )
                if mine[0] is None or better >= best.number:
                    self.hidden[number].setdefault(outer, []).append(prefix[number])
        return {key for key in shown if not self._is_hidden(number, key)}

    def _is_hidden(self, number: int, key: Key) -> bool:
        own = self.hidden.get(number, {}).get(self._outer(number, key), [])
        return key[number] is not TOTAL and any(
            member is key[number] or (type(member) is type(key[number]) and member == key[number]) for member in own
        )

    def _others(self, shown: set[Key], every: set[Key]) -> set[Key]:
        """The lines of others: where a hidden member's own line was, and where an aggregate has a value for all of them."""
        rows = [at for at, each in enumerate(self.fields) if each.rows]
        columns = [at for at, each in enumerate(self.fields) if not each.rows]
        halves = []
        for axis in (rows, columns):
            half = [({at: key[at] for at in axis[:depth]}, None, way, depth) for depth, way in self.parts(axis) for key in every
                    if self._has(tuple(at in axis[:depth] for at in range(len(self.fields))), key)]  # fmt: skip
            half += [({**dict(zip(axis, outer, strict=False)), at: OTHERS}, at, "all", axis.index(at) + 1)
                     for at in axis if self.fields[at].item.others for outer in self.hidden.get(at, {})]  # fmt: skip
            halves.append(half or [({}, None, "all", 0)])
        found: set[Key] = set()
        candidates = {}
        for one, other in itertools.product(*halves):
            if one[1] is None and other[1] is None:
                continue
            there = {**one[0], **other[0]}
            key = tuple(there.get(at, TOTAL) for at in range(len(self.fields)))
            fits = [self._allowed_others(axis, half, key) for axis, half in ((rows, one), (columns, other))]
            if all(fits) and all(self._reachable(number, key) for number in range(len(self.fields))):
                candidates[key] = None
        for key in sorted(candidates, key=lambda each: sum(member is TOTAL for member in each)):
            context = self.cell(key)
            judged = self.star.judged(self.trees, context, axes_of(context))
            if any(self.star.aggregate(call, inner) is not None for call, inner in judged) or any(
                self._covers(key, other) for other in (*every, *found) if other != key
            ):
                found.add(key)
        return found

    def _allowed_others(self, axis: list[int], half: Any, key: Key) -> bool:
        _, _, way, depth = half
        return self._allowed(axis, depth, way, key)

    def _reachable(self, number: int, key: Key) -> bool:
        """Whether a line's own members are among those shown."""
        return key[number] in (TOTAL, OTHERS) or not self._is_hidden(number, key)

    def _covers(self, key: Key, other: Key) -> bool:
        """Whether another line is part of this one: a hidden member's of others, a finer one of a coarser one."""
        for number, (mine, theirs) in enumerate(zip(key, other, strict=True)):
            if mine is TOTAL:
                continue
            if mine is OTHERS:
                if theirs is not OTHERS and (theirs is TOTAL or not self._is_hidden(number, other)):
                    return False
            elif mine is not theirs and (type(mine) is not type(theirs) or mine != theirs):
                return False
        hidden = [number for number, mine in enumerate(key) if mine is not OTHERS and self._is_hidden(number, other)]
        return not hidden

    # -- order -----------------------------------------------------------------------------------------------------

    def _compare(self, one: Key, other: Key) -> int:
        for number, (mine, theirs) in enumerate(zip(one, other, strict=True)):
            if mine is theirs or (type(mine) is type(theirs) and mine == theirs):
                continue
            mine_at, theirs_at = self._place(number, one), self._place(number, other)
            return -1 if mine_at < theirs_at else 1
        return 0

    @functools.cache  # noqa: B019 - one grid is short-lived
    def _place(self, number: int, key: Key) -> tuple[Any, ...]:
        member, field_ = key[number], self.fields[number]
        if member is TOTAL:
            return (-1 if field_.total == "before" else 3,)
        if member is OTHERS:
            return (1,)
        if member == NO_MATCH_MEMBER:
            return (2,)
        item = field_.item
        by = [(each.formula, each.descending) for each in item.by] or (
            self.ranked(number) if item.best is not None else []
        )
        keys = []
        prefix = self._prefix(number, key)
        for formula, down in by:
            value = self.order_of(number, prefix, formula)
            keys += [value is None, 0 if value is None else _Turned(value, down)]
        return (0, *keys, self.star.place(*field_.pair, member))

    def _told(self, key: Key) -> Key:
        """A line as shown: with everything below unopened members, and the attributes of its members."""
        told: list[Any] = []
        for axis in (True, False):
            below = False
            members: dict[tuple[str, str], Any] = {}
            for number, each in enumerate(self.fields):
                if each.rows != axis:
                    continue
                member = BELOW if below and key[number] is TOTAL else key[number]
                stopped = each.stops and member not in (TOTAL, OTHERS, BELOW) and not each.is_open(member)
                below = below or member is OTHERS or stopped
                members[each.pair] = member
                members |= {pair: self._attribute(each.pair, member, pair) for pair in each.attributes}
            told += [members[pair] for pair in self.written[axis]]
        return tuple(told)

    def _attribute(self, head: tuple[str, str], member: Any, pair: tuple[str, str]) -> Any:
        if member is OTHERS:
            return BELOW
        if member in (TOTAL, BELOW, NO_MATCH_MEMBER):
            return member
        return self.star.looked_up(self.star.some_row(*head, member), *pair, self.star.nothing_yet())


@functools.total_ordering
class _Turned:
    """A value that sorts upwards or downwards."""

    def __init__(self, value: Any, down: bool) -> None:
        self.value, self.down = value, down

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _Turned) and self.value == other.value

    def __lt__(self, other: _Turned) -> bool:
        return other.value < self.value if self.down else self.value < other.value


def _better(one: list[Any], other: list[Any], largest: list[bool]) -> bool:
    """Whether a member is better than another: by the first thing that tells them apart; null is the worst."""
    for mine, theirs, down in zip(one, other, largest, strict=True):
        if mine is None or theirs is None:
            if (mine is None) != (theirs is None):
                return theirs is None
        elif mine != theirs:
            return bool(mine > theirs) if down else bool(mine < theirs)
    return False
