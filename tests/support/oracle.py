"""A slow, obvious evaluator: one cell at a time, plain Python rows, written from the language's rules.

It shares nothing with the engine but the parser. Values are int, Decimal, float, str, bool, date and None. A row is a
pair of a table's name and a row number; the number NO_MATCH is the virtual row of a lookup.
"""

from __future__ import annotations

import functools
import itertools
from collections.abc import Callable, Iterator
from dataclasses import replace
from decimal import Decimal
from typing import Any

from oracle_contexts import Contexts
from oracle_history import Context, Filter, Opened, Row
from oracle_rows import NO_MATCH, NO_MATCH_MEMBER, TOTAL, Path
from oracle_values import AGGREGATES, FUNCTIONS, _by_order, _operation, _percentile, _weighted, scalar
from oracle_words import parsed, parsed_condition
from relatum.errors import Span
from relatum.language.tree import Call, Changed, Let, Name, Operation, Syntax, children


class Star(Contexts):
    """Tables, relationships, measures and derived columns; asks formulas and grids of them."""

    # -- formulas --------------------------------------------------------------------------------------------------

    def evaluate(self, node: Syntax, context: Context) -> Any:
        """A formula's value under a context: in a cell, or at a current row."""

        def leaf(part: Syntax) -> Any:
            if isinstance(part, Name):
                return self.name(part, context)
            if isinstance(part, Changed):
                return self.evaluate(part.formula, self.changed(context, part.changes))
            if isinstance(part, Let):
                lets = dict(context.lets)
                for name, formula in part.bindings:
                    lets[name.parts[0]] = self.evaluate(formula, replace(context, lets=lets))
                return self.evaluate(part.body, replace(context, lets=lets))
            if isinstance(part, Operation):
                return self.condition(part, context.rows[-1][:2], context)
            assert isinstance(part, Call)
            if part.function == "narrowed":
                table, column = part.arguments[0].parts
                return any((table, column) in each.named for each in context.filters)
            if part.among is not None:
                return self.ranked(part, context)
            return self.aggregate(part, context)

        return scalar(node, leaf)

    def name(self, part: Name, context: Context) -> Any:
        if len(part.parts) == 1:
            (name,) = part.parts
            if name in context.lets:
                return context.lets[name]
            return self.evaluate(parsed(self.measures[name]), replace(context, repeat=name in self.repeat, lets={}))
        table, column = part.parts
        for other, number, _ in reversed(context.rows):
            if self.finds(other, table, column, context):
                return self.look_up((other, number), table, column, context)
        return next(
            None if member == NO_MATCH_MEMBER else member
            for pair, member in reversed(context.members)
            if pair == (table, column)
        )

    def aggregate(self, node: Call, context: Context) -> Any:
        """An aggregate's value; null where some filter that counts does not bear on it."""
        if node.function == "sole":
            table, column = node.arguments[0].parts
            rows, _ = self.bounded(table, context, [])
            values = {self.value(row, column) for row in rows or []}
            return values.pop() if len(values) == 1 else None
        if not context.repeat and self.missed(node, context):
            return None
        if node.per:
            return self.per(node, context)
        table = self.rows_of(node, context)
        parts = self.parts_of(node)
        ends = self.sources(parts)
        rows, _ = self.bounded(table, context, ends)
        if not rows:
            return None
        if _counts_rows(node):
            return len(rows)
        carried = self.carried(context, [table], ends)
        keyed = [each for each in context.filters if each.keyed]
        rows = [row for row in rows if all(self.passes(row, [self.keyed_path(row, each, context)]) for each in keyed
                                           if self.path(table, each.table, None, context, True) is not None)]  # fmt: skip
        if not rows:
            return None
        found = [[self.evaluate(part, self.at_row(carried, *row, "row")) for part in parts] for row in rows]
        if node.by is not None:
            found = [[value, self.order_value(node.by, by)] for value, by in found]
        return _over(node, found)

    def keyed_path(self, row: Row, each: Filter, context: Context) -> tuple[Path, Filter]:
        return self.path(row[0], each.table, None, context, filters=True), each

    def parts_of(self, node: Call) -> list[Syntax]:
        if _counts_rows(node):
            return []
        return [*node.arguments, *(part for part in (node.by, node.weight) if part is not None)]

    def rows_of(self, node: Call, context: Context) -> str:
        """An aggregate's row table."""
        if _counts_rows(node):
            return node.arguments[0].parts[0]
        return self.row_table(self.parts_of(node), node.over.parts[0] if node.over else "", context)

    def per(self, node: Call, context: Context) -> Any:
        (formula,) = node.arguments
        found = []
        for _, inner in self.grain_members(self.grain_of(node), context, self.sources([formula])):
            value = self.evaluate(formula, inner)
            found += [] if value is None else [[value]]
        return _over(node, found) if found else None

    def grain_of(self, node: Call) -> str | list[tuple[str, str]]:
        names = node.per or (node.among,)
        return names[0].parts[0] if len(names[0].parts) == 1 else [name.parts for name in names]

    def current(self, node: Call, context: Context) -> tuple[list[Filter], Any]:
        """The filters of the current member among which a formula ranks, and that member."""
        grain = self.grain_of(node)
        if isinstance(grain, str):
            groups = {group for table, _, group in context.rows if table == grain and group is not None}
            own = [each for each in context.filters
                   if each.group in groups or (each.kind in ("axis", "member", "row") and each.table == grain)]  # fmt: skip
            held = [n for t, n, g in context.rows if t == grain and any(each.group is g for each in own)]
            rows = self.bounded(grain, context, [])[0] or []
            current: Any = held[-1] if held else rows[0][1] if len(rows) == 1 else None
        else:
            own = [each for each in context.filters
                   if each.kind in ("axis", "member") and (each.table, each.column) == grain[0]]  # fmt: skip
            current = None if not own else (own[-1],)
        return own, current

    def ranked(self, node: Call, context: Context) -> Any:
        grain = self.grain_of(node)
        (formula,) = node.arguments
        own, current = self.current(node, context)
        if not own or current is None or (own[-1].kind == "axis" and any(each.several for each in own)):
            return None
        left = context.without(lambda each: each in own)
        members = list(self.grain_members(grain, left, self.sources([formula])))
        values = [(member, self.evaluate(formula, inner), inner) for member, inner in members]
        if not isinstance(grain, str):
            table, column = grain[0]
            current = next((m for m, _, _ in values if own[-1].test(self.some_row(table, column, m[0]))), None)
        mine = next((value for member, value, _ in values if member == current), None)
        if current is None or all(member != current for member, _, _ in values):
            return None
        if node.function in ("previous", "next"):
            return self.beside(node, values, current)
        if node.function == "rank":
            return None if mine is None else 1 + sum(value is not None and value > mine for _, value, _ in values)
        orders = {member: self.order_value(node.by, self.evaluate(node.by, inner)) for member, _, inner in values}
        along = [
            value
            for member, value, _ in values
            if value is not None and _not_after(orders[member], orders[current], node.descending)
        ]
        return functools.reduce(lambda one, other: _operation("+", [one, other]), along) if along else None

    def beside(self, node: Call, values: list[tuple[Any, Any, Context]], current: Any) -> Any:
        """The value at the member before or after the current one."""
        grain = self.grain_of(node)
        ordered = (
            list(values) if isinstance(grain, str) else sorted(values, key=lambda one: self.place(*grain[0], one[0][0]))
        )
        if node.by is not None:
            keys = {member: self.order_value(node.by, self.evaluate(node.by, inner)) for member, _, inner in values}
            known = [each for each in ordered if keys[each[0]] is not None]
            known = stable_sorted(known, lambda each: keys[each[0]], node.descending)
            ordered = known + [each for each in ordered if keys[each[0]] is None]
        at = next(number for number, each in enumerate(ordered) if each[0] == current)
        at += -1 if node.function == "previous" else 1
        return ordered[at][1] if 0 <= at < len(ordered) else None

    def place(self, table: str, column: str, member: Any) -> tuple[Any, ...]:
        """What a member of a column is ordered by on an axis: null after all others, no match last."""
        if member is None or member == NO_MATCH_MEMBER:
            return (1 if member is None else 2, 0)
        return (0, self.order_value(Name((table, column), Span(0, 0)), member))

    def order_value(self, node: Syntax, value: Any) -> Any:
        """What a value is ordered by: of a band its lower edge."""
        if isinstance(value, str) and self.is_band(node):
            first = value.split(" ")
            return (
                Decimal("-Infinity") if first[0] == "below" else Decimal(first[1] if first[0] == "from" else first[0])
            )
        return value

    def is_band(self, node: Syntax) -> bool:
        if isinstance(node, Name) and tuple(node.parts) in self.derived:
            node = parsed(self.derived[tuple(node.parts)])
        return isinstance(node, Call) and node.function == "band"

    def some_row(self, table: str, column: str, member: Any) -> Row:
        return next(row for row in self.rows(table) if self.value(row, column) == member)

    # -- related ---------------------------------------------------------------------------------------------------

    def sources(self, nodes: list[Syntax]) -> list[str]:
        """The row tables of all aggregates in formulas."""
        found: list[str] = []
        for node in nodes:
            if isinstance(node, Name) and len(node.parts) == 1 and node.parts[0] in self.measures:
                found += self.sources([parsed(self.measures[node.parts[0]])])
            elif isinstance(node, Call) and node.function not in FUNCTIONS and node.function != "narrowed":
                if not node.per and node.among is None:
                    found.append(self.rows_of(node, self.nothing_yet().then(*(Opened(link, both=False) for link in self.links if link.standby)))
                                 if node.function != "sole" else node.arguments[0].parts[0])  # fmt: skip
                parts = [node.arguments[0]] if node.among is not None else self.parts_of(node)
                found += self.sources([] if node.function == "sole" else parts)
            elif isinstance(node, Changed):
                found += self.sources([node.formula])
            else:
                found += self.sources(list(children(node)))
        return list(dict.fromkeys(found))

    def missed(self, node: Call, context: Context) -> bool:
        """Whether some filter that counts bears neither on an aggregate's rows nor on a formula inside it."""
        bearing = self.bearing_on(node, context)
        return any(each.kind not in ("row", "dates") and each not in bearing for each in context.filters)

    def bearing_on(self, node: Call, context: Context) -> list[Filter]:
        if node.per:
            grain, ends = self.grain_of(node), self.sources(list(node.arguments))
            owners = [grain] if isinstance(grain, str) else list(dict.fromkeys(self.owners(grain, context)))
            own = [each for owner in owners for each in self.reach(owner, context, ends)[1]]
            return [*own, *self.bearing(list(node.arguments), self.inner_of(grain, context, ends))]
        table = node.arguments[0].parts[0] if node.function == "sole" else self.rows_of(node, context)
        parts = [] if node.function == "sole" else self.parts_of(node)
        ends = self.sources(parts)
        own = self.reach(table, context, ends)[1]
        inner = self.at_row(self.carried(context, [table], ends), table, NO_MATCH, "row")
        keyed = [each for each in context.filters if each.keyed]
        return [*own, *self.bearing(parts, inner), *(each for each in keyed if each in own)]

    def bearing(self, nodes: list[Syntax], context: Context) -> Iterator[Filter]:
        """The filters that bear on aggregates inside formulas."""
        for node in nodes:
            if isinstance(node, Name):
                if len(node.parts) == 1 and node.parts[0] in self.measures:
                    inner = replace(context, lets={})
                    yield from self.bearing([parsed(self.measures[node.parts[0]])], inner)
            elif isinstance(node, Changed):
                yield from self.bearing([node.formula], self.changed(context, node.changes))
            elif isinstance(node, Let):
                lets = {name.parts[0]: None for name, _ in node.bindings}
                inner = replace(context, lets={**context.lets, **lets})
                yield from self.bearing([*(formula for _, formula in node.bindings), node.body], inner)
            elif isinstance(node, Call) and node.function not in FUNCTIONS:
                if node.among is not None:
                    own = self.current(node, context)[0]
                    if own:
                        left = context.without(lambda each, own=own: each in own)
                        parts = [*node.arguments, *([node.by] if node.by else [])]
                        inner = self.inner_of(self.grain_of(node), left, self.sources(list(node.arguments)))
                        yield from self.bearing(parts, inner)
                elif node.function != "narrowed":
                    yield from self.bearing_on(node, context)
            else:
                yield from self.bearing(list(children(node)), context)

    # -- grids -----------------------------------------------------------------------------------------------------

    def members(self, table: str, column: str) -> list[Any]:
        values = {self.value((table, number), column) for number in range(len(self.tables[table]))}
        return [*sorted(value for value in values if value is not None), None, NO_MATCH_MEMBER]

    def pivot(self, fields: list[tuple[str, str]], formulas: list[str], where: str = "") -> dict[tuple[Any, ...], list]:
        """Values by combination of members; ``TOTAL`` is where a field is totalled over. All grains are there."""
        trees = [parsed(formula) for formula in formulas]
        request = self.nothing_yet()
        if where:
            request = request.plus(*self.conditions(parsed_condition(where), "request", request))
        bare = bool(fields) and not self.in_force(trees, fields, request)
        shown: set[tuple[Any, ...]] = set()
        grains = itertools.product((True, False), repeat=len(fields))
        for kept in sorted(filter(is_grain, grains), key=lambda each: -sum(each)):
            # A combination that contains a shown one of a finer grain is shown too.
            finer = {
                key for key in shown if all(member is not TOTAL for member, keep in zip(key, kept, strict=True) if keep)
            }
            shown |= {_coarser(kept, key) for key in finer} | self.shown(trees, fields, kept, request, bare)
        return {key: [self.evaluate(tree, self.cell(fields, key, request)) for tree in trees] for key in shown}

    def cell(self, fields: list[tuple[str, str]], key: tuple[Any, ...], context: Context, rows: int = 1) -> Context:
        for number, (pair, member) in enumerate(zip(fields, key, strict=True)):
            if member is not TOTAL:
                context = self.at_member(context, *pair, member, "axis", "rows" if number < rows else "columns")
        return context

    def in_force(self, trees: list[Syntax], fields: list[tuple[str, str]], request: Context) -> bool:
        """Whether every axis member of a full combination is in force for some aggregate, whatever its value."""
        some = self.cell(fields, tuple(NO_MATCH_MEMBER for _ in fields), request)
        return bool(self.judged(trees, some, axes_of(some)))

    def shown(
        self,
        trees: list[Syntax],
        fields: list[tuple[str, str]],
        kept: tuple[bool, ...],
        request: Context,
        bare: bool,
        rows: int = 1,
    ) -> set[tuple[Any, ...]]:
        """The combinations of one grain in which some aggregate that every axis bears on has a value.

        With ``bare`` the visible members too, and no match by itself where some formula has a value.
        """
        if not any(kept):
            return {tuple(TOTAL for _ in fields)}
        numbers = [number for number, keep in enumerate(kept) if keep]
        own = [fields[number] for number in numbers]

        def key_of(members: tuple[Any, ...]) -> tuple[Any, ...]:
            there = dict(zip(numbers, members, strict=True))
            return tuple(there.get(number, TOTAL) for number in range(len(fields)))

        real, with_no_match = self.combinations(own, request)
        found = set(real) if bare else set()
        for combination in itertools.product(*(self.members(*each) for each in own)):
            if not all(self.left(field, member, request) for field, member in zip(own, combination, strict=True)):
                continue
            context = self.cell(fields, key_of(combination), request, rows)
            axes = axes_of(context)
            judged = self.judged(trees, context, axes)
            # What nests may have a value for members that nobody sees: they are not shown.
            seen = [pair for pair in judged if combination in with_no_match or self.needs_rows(pair[0])]
            if any(
                self.aggregate(call, inner) is not None and self.occurs(own, combination, inner) for call, inner in seen
            ):
                found.add(combination)
            if bare and combination in with_no_match - real and self.no_match_is_there(own, combination):
                found |= {combination} if any(self.evaluate(tree, context) is not None for tree in trees) else set()
        allowed = {one for one in found if all(self.left(f, m, request) for f, m in zip(own, one, strict=True))}
        return set(map(key_of, allowed))

    def combinations(self, fields: list[tuple[str, str]], request: Context) -> tuple[set[Any], set[Any]]:
        """The visible combinations: of one chain as they occur, of several freely; and those with no match of a chain."""
        owners = self.owners(fields, request)
        parts, with_no_match = [], []
        for owner in dict.fromkeys(owners):
            own = [number for number, other in enumerate(owners) if other == owner]
            rows = self.bounded(owner, request, [])[0] or []
            parts.append({tuple((n, self.member_of(row, *fields[n], request)) for n in own) for row in rows})
            with_no_match.append(parts[-1] | {tuple((n, NO_MATCH_MEMBER) for n in own)})

        def together(sets: list[set[Any]]) -> set[tuple[Any, ...]]:
            return {
                tuple(member for _, member in sorted((p for part in chosen for p in part), key=lambda p: p[0]))
                for chosen in itertools.product(*sets)
            }

        return together(parts), together(with_no_match)

    def left(self, field: tuple[str, str], member: Any, request: Context) -> bool:
        """Whether the request's own condition leaves a member in its table."""
        table, column = field
        key = ("left", request.filters, field)
        if key not in self.known:
            reached = self.reach(table, request, [])[0]
            rows = self.visible(table, reached)
            direct = [each for path, each in reached if all(step.how == "up" for step in path)]
            self.known[key] = (
                {self.value(row, column) for row in rows},
                all(each.test((each.table, NO_MATCH)) for each in direct),
                bool(reached),
            )
        values, no_match, filtered = self.known[key]
        return not filtered or (no_match if member == NO_MATCH_MEMBER else member in values)

    def no_match_is_there(self, fields: list[tuple[str, str]], combination: tuple[Any, ...]) -> bool:
        """Whether some row finds nothing in each table whose no match is meant."""
        return all(
            any(
                self.follow(row, path)[1] == NO_MATCH
                for start in self.tables
                for end, path in self.paths(start, self.nothing_yet(), filters=False).items()
                if end == (table, False) and path
                for row in self.rows(start)
            )
            for (table, _), member in zip(fields, combination, strict=True)
            if member == NO_MATCH_MEMBER
        )

    def is_simple(self, node: Call) -> bool:
        return not node.per and not self.sources(self.parts_of(node))

    def needs_rows(self, node: Call) -> bool:
        """Whether an aggregate has no value where no rows of it are visible, however it nests."""
        if self.is_simple(node):
            return True
        return node.function not in ("count", "count_distinct") and all(map(self.lacks, self.parts_of(node)))

    def lacks(self, node: Syntax) -> bool:
        """Whether a formula has no value where an aggregate of it has none."""
        match node:
            case Name(parts=(name,)):
                return name in self.measures and self.lacks(parsed(self.measures[name]))
            case Changed(formula=inner):
                return self.lacks(inner)
            case Call(function="coalesce"):
                return all(map(self.lacks, node.arguments))
            case Call(function="nullif"):
                return self.lacks(node.arguments[0])
            case Call() if node.function not in FUNCTIONS:
                return node.function not in ("sole", "narrowed") and node.among is None and self.needs_rows(node)
            case Operation(operator="and" | "or" | "in" | "is_null"):
                return False
            case Call() | Operation():
                return any(map(self.lacks, children(node)))
            case _:
                return False

    def occurs(self, fields: list[tuple[str, str]], combination: tuple[Any, ...], context: Context) -> bool:
        """Whether rows have a combination: its members of one lookup chain together, a moved calendar's by themselves."""
        parts: dict[Any, dict[tuple[str, str], Any]] = {}
        for owner, pair, member in zip(self.owners(fields, context), fields, combination, strict=True):
            moved = bool(context.steps) and pair[0] in self.calendars
            parts.setdefault(pair[0] if moved else owner, {})[pair] = member
        return all(self.some_row_has(part, context) for part in parts.values())

    def looked_up(self, row: Row, table: str, column: str, context: Context) -> Any:
        """The member that a row has or looks up."""
        path = self.path(row[0], table, frozenset([column]), context, filters=False)
        assert path is not None, f"{row[0]} does not look up {table}.{column}"
        found = self.follow(row, path)
        return NO_MATCH_MEMBER if found[1] == NO_MATCH else self.value(found, column)

    def some_row_has(self, members: dict[tuple[str, str], Any], context: Context) -> bool:
        key = ("some row has", tuple(members.items()), context.via)
        if key not in self.known:
            starts = [start for start in self.tables if all(self.finds(start, *pair, context) for pair in members)]
            self.known[key] = any(
                all(self.looked_up(row, *pair, context) == member for pair, member in members.items())
                for start in starts
                for row in self.rows(start)
            )
        return self.known[key]

    def judged(self, nodes: list[Syntax], context: Context, axes: tuple[Filter, ...]) -> list[tuple[Call, Context]]:
        """The aggregates for which every axis member is in force, with their contexts.

        Where there are rankings alone, those of what they rank count instead.
        """
        found = []
        for call, inner in self.outermost_of(nodes, context):
            bearing = self.bearing_on(call, inner)
            if all(axis in bearing or (axis in inner.filters and not inner.repeat) for axis in axes):
                found.append((call, inner))
        return found

    def outermost_of(self, nodes: list[Syntax], context: Context) -> list[tuple[Call, Context]]:
        found = [pair for node in nodes for pair in self.outermost(node, context)]
        aggregates = [pair for pair in found if pair[0].among is None]
        if aggregates or not found:
            return aggregates
        return [pair for call, inner in found for pair in self.outermost_of([call.arguments[0]], inner)]

    def outermost(self, node: Syntax, context: Context) -> list[tuple[Call, Context]]:
        """The aggregates and rankings of a formula that are in no other, ``sole`` aside, with their contexts."""
        if isinstance(node, Name):
            (name,) = node.parts
            if name not in self.measures or name in context.lets:
                return []
            inner = replace(context, repeat=name in self.repeat, lets={})
            return self.outermost(parsed(self.measures[name]), inner)
        if isinstance(node, Changed):
            return self.outermost(node.formula, self.changed(context, node.changes))
        if isinstance(node, Let):
            lets = dict(context.lets)
            found = []
            for name, formula in node.bindings:
                inner = replace(context, lets=dict(lets))
                found += self.outermost(formula, inner)
                lets[name.parts[0]] = self.evaluate(formula, inner)
            return found + self.outermost(node.body, replace(context, lets=lets))
        if isinstance(node, Call) and node.function not in FUNCTIONS:
            return [] if node.function in ("sole", "narrowed") else [(node, context)]
        return [pair for child in children(node) for pair in self.outermost(child, context)]


def axes_of(context: Context) -> tuple[Filter, ...]:
    """The filters of a cell's axes."""
    return tuple(each for each in context.filters if each.kind == "axis")


def _coarser(kept: tuple[bool, ...], key: tuple[Any, ...]) -> tuple[Any, ...]:
    """A combination at a coarser grain."""
    return tuple(member if keep else TOTAL for member, keep in zip(key, kept, strict=True))


def is_grain(kept: tuple[bool, ...]) -> bool:
    """Whether a grid works a grain out: rows are the first field, and a total over a column is one over the next."""
    return all(here or not later for here, later in itertools.pairwise(kept[1:]))


def stable_sorted(values: list[Any], key: Callable[[Any], Any], descending: bool) -> list[Any]:
    """Sorted; equal ones keep their order."""
    return sorted(values, key=lambda each: _Down(key(each))) if descending else sorted(values, key=key)


@functools.total_ordering
class _Down:
    """A value that sorts the other way round."""

    def __init__(self, value: Any) -> None:
        self.value = value

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _Down) and self.value == other.value

    def __lt__(self, other: _Down) -> bool:
        return other.value < self.value


def _not_after(one: Any, current: Any, descending: bool) -> bool:
    """Whether a member is up to and with the current one; null comes last, ties come along."""
    if current is None or one is None:
        return current is None
    return one >= current if descending else one <= current


def _counts_rows(node: Call) -> bool:
    argument = node.arguments[0]
    return (node.function == "count" and isinstance(argument, Name) and len(argument.parts) == 1
            and not node.per and not node.over and not node.distinct)  # fmt: skip


def _over(node: Call, found: list[list[Any]]) -> Any:
    """An aggregate of its arguments' values on each row or member."""
    if node.by is not None or node.weight is not None:
        pairs = [tuple(pair) for pair in found if None not in pair]
        return _weighted(pairs) if node.weight is not None else _by_order(node.function, pairs)
    values = [value for (value,) in found if value is not None]
    if any(isinstance(value, float) for value in values):
        values = [float(value) for value in values]
    if node.of is not None:
        return _percentile(values, float(scalar(node.of, None)))
    if node.function == "count":
        return len(set(values)) if node.distinct else len(values)
    return AGGREGATES[node.function](values) if values else None
