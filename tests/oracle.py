"""A slow, obvious evaluator: one cell at a time, plain Python rows, written from the language's rules.

It shares nothing with the engine but the parser. Values are int, Decimal, float, str, bool, date and None. A row is a
pair of a table's name and a row number; the number NO_MATCH is the virtual row of a lookup.
"""

from __future__ import annotations

import functools
import itertools
import math
import operator
import re
import statistics
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field, replace
from datetime import date, timedelta
from decimal import ROUND_FLOOR, ROUND_HALF_UP, Decimal, localcontext
from typing import Any

from relatum.language.parse import parse_condition, parse_formula
from relatum.language.tree import (
    Call,
    Case,
    Change,
    Changed,
    Condition,
    Let,
    Literal,
    Name,
    Node,
    Operation,
    children,
    conjuncts,
)

NO_MATCH = -1
NO_MATCH_MEMBER = "(no match)"
Row = tuple[str, int]
STEPS = ("back", "forward", "to_date", "before", "trailing", "whole")


class _Total:
    def __repr__(self) -> str:
        return "total"


TOTAL = _Total()


@dataclass(frozen=True)
class Link:
    """A relationship. For many to many, ``many`` is the left end and ``one`` the right one."""

    many: str
    many_columns: tuple[str, ...]
    one: str
    one_columns: tuple[str, ...]
    as_of: bool = False
    direction: str = "down"
    level: bool = False
    kind: str = "many_to_one"
    standby: bool = False

    def text(self) -> str:
        def end(table: str, columns: tuple[str, ...]) -> str:
            return f"{table}.{columns[0]}" if len(columns) == 1 else f"{table}.({', '.join(columns)})"

        arrow = {"many_to_one": "->", "one_to_one": "<->", "many_to_many": ">-<"}[self.kind]
        return f"{end(self.many, self.many_columns)} {arrow} {end(self.one, self.one_columns)}"


@dataclass(frozen=True)
class Step:
    """One step away from a table: ``how`` is ``up`` (to the row looked up), ``turned`` (the same, right to left) or ``reach``."""

    link: Link
    how: str
    turned: bool = False

    @property
    def target(self) -> str:
        return self.link.many if self.turned else self.link.one


Path = tuple[Step, ...]


@dataclass(eq=False)
class Filter:
    """One filter: rows of ``table`` for which ``test`` holds. ``columns`` are those it judges, None for whole rows.

    ``kind`` is where it comes from; ``bears`` are filters that bear on a keep's formula.
    """

    kind: str
    table: str
    columns: frozenset[str] | None
    test: Callable[[Row], bool]
    named: frozenset[tuple[str, str]] = frozenset()
    axis: str = ""
    group: object = None
    bears: tuple[Filter, ...] = ()
    keyed: bool = False

    @property
    def column(self) -> str:
        return next(iter(self.columns)) if self.columns is not None and len(self.columns) == 1 else ""


@dataclass(frozen=True)
class Context:
    """What a formula is worked out under."""

    filters: tuple[Filter, ...] = ()
    steps: tuple[tuple[str, Change], ...] = ()
    pinned: tuple[tuple[str, str, str], ...] = ()
    rows: tuple[tuple[str, int, object], ...] = ()
    members: tuple[tuple[tuple[str, str], Any], ...] = ()
    via: frozenset[Link] = frozenset()
    both: frozenset[Link] = frozenset()
    lets: dict[str, Any] = field(default_factory=dict)
    repeat: bool = False

    def plus(self, *filters: Filter) -> Context:
        return replace(self, filters=(*self.filters, *filters))

    def without(self, dropped: Callable[[Filter], bool]) -> Context:
        return replace(self, filters=tuple(each for each in self.filters if not dropped(each)))


@dataclass
class Star:
    """Tables as lists of rows, relationships, measures and derived columns as formulas."""

    tables: dict[str, list[dict[str, Any]]]
    links: list[Link]
    measures: dict[str, str] = field(default_factory=dict)
    derived: dict[tuple[str, str], str] = field(default_factory=dict)
    repeat: set[str] = field(default_factory=set)
    calendars: dict[str, str] = field(default_factory=dict)
    known: dict[Any, Any] = field(default_factory=dict, repr=False)

    # -- rows and lookups ------------------------------------------------------------------------------------------

    def value(self, row: Row, column: str) -> Any:
        table, number = row
        if number == NO_MATCH:
            return None
        if (table, column) in self.derived:
            key = (table, number, column)
            if key not in self.known:
                context = self.at_row(Context(), table, number, "row")
                self.known[key] = self.evaluate(parse_formula(self.derived[table, column]), context)
            return self.known[key]
        return self.tables[table][number][column]

    def columns(self, table: str) -> list[str]:
        names = list(self.tables[table][0]) if self.tables[table] else []
        return names + [column for owner, column in self.derived if owner == table]

    def rows(self, table: str) -> list[Row]:
        return [(table, number) for number in range(len(self.tables[table]))]

    def active(self, context: Context) -> list[Link]:
        replaced = [{link.many, link.one} for link in context.via]
        found = [link for link in self.links if not link.standby and {link.many, link.one} not in replaced]
        return found + [link for link in self.links if link in context.via]

    def steps_from(self, table: str, context: Context, filters: bool) -> Iterator[Step]:
        """The steps that lead away from a table: for lookups, or against the way that filters travel."""
        for link in [*self.active(context), *(link for link in context.both if link not in self.active(context))]:
            direction = "both" if link in context.both else link.direction
            if link.kind == "many_to_many":
                if filters and link.many == table and direction in ("left", "both"):
                    yield Step(link, "reach")
                if filters and link.one == table and direction in ("right", "both"):
                    yield Step(link, "reach", True)
                continue
            if link.many == table and not (filters and direction == "off"):
                yield Step(link, "up")
            if link.one == table and link.kind == "one_to_one" and not (filters and direction == "off"):
                yield Step(link, "up", True)
            elif link.one == table and filters and direction == "both":
                yield Step(link, "reach", True)

    def found(self, row: Row, step: Step) -> list[Row]:
        """The rows that a row finds in one step: one for a lookup, perhaps the virtual one."""
        link, number = step.link, row[1]
        own, other = link.many_columns, link.one_columns
        if step.turned:
            own, other = other, own
        nothing = [] if step.how == "reach" else [(step.target, NO_MATCH)]
        if number == NO_MATCH:
            return nothing
        wanted = [self.value(row, column) for column in own]
        if any(value is None for value in wanted):
            return nothing
        if link.as_of:
            return self._as_of(row, step, wanted) if not step.turned else self._as_of_back(row, step)
        rows = [each for each in self.rows(step.target) if [self.value(each, column) for column in other] == wanted]
        if step.how == "reach":
            return rows
        return rows[:1] or nothing

    def _as_of(self, row: Row, step: Step, wanted: list[Any]) -> list[Row]:
        columns = step.link.one_columns
        earlier = [
            each
            for each in self.rows(step.target)
            if [self.value(each, column) for column in columns[:-1]] == wanted[:-1]
            and self.value(each, columns[-1]) is not None
            and self.value(each, columns[-1]) <= wanted[-1]
        ]
        return [max(earlier, key=lambda each: self.value(each, columns[-1]))] if earlier else [(step.target, NO_MATCH)]

    def _as_of_back(self, row: Row, step: Step) -> list[Row]:
        return [each for each in self.rows(step.target) if self.found(each, Step(step.link, "up")) == [row]]

    def determined(self, link: Link, column: str) -> bool:
        """Whether a level's value fixes another column of its table."""
        key = (link, column)
        if key not in self.known:
            values: dict[tuple[Any, ...], set[Any]] = {}
            for row in self.rows(link.one):
                values.setdefault(tuple(self.value(row, name) for name in link.one_columns), set()).add(
                    self.value(row, column)
                )
            self.known[key] = all(len(found) == 1 for level, found in values.items() if None not in level)
        return self.known[key]

    def paths(self, start: str, context: Context, filters: bool) -> dict[tuple[str, bool], Path]:
        """Every way to another table, the empty one first; a key's second part says that only a level is reached."""
        key = (start, context.via, context.both, filters)
        if key in self.known:
            return self.known[key]
        found: dict[tuple[str, bool], Path] = {(start, False): ()}
        pending: list[Path] = [()]
        while pending:
            path = pending.pop(0)
            here = path[-1].target if path else start
            passed = {start, *(step.target for step in path)}
            for step in self.steps_from(here, context, filters):
                end = (step.target, step.link.level and step.how == "up")
                if step.target in passed or end in found:
                    continue
                found[end] = (*path, step)
                stops = step.link.direction == "off" and step.how == "up" and step.link not in context.both
                if not end[1] and not stops:
                    pending.append((*path, step))
        self.known[key] = found
        return found

    def path(
        self, start: str, table: str, columns: frozenset[str] | None, context: Context, filters: bool
    ) -> Path | None:
        """The way to a table that gives all of ``columns``; None for columns means whole rows."""
        found = self.paths(start, context, filters)
        if (table, False) in found:
            return found[table, False]
        if (table, True) in found and columns is not None:
            path = found[table, True]
            if all(self.determined(path[-1].link, column) for column in columns):
                return path
        return None

    def look_up(self, row: Row, table: str, column: str, context: Context) -> Any:
        path = self.path(row[0], table, frozenset([column]), context, filters=False)
        assert path is not None, f"{row[0]} does not look up {table}.{column}"
        return self.value(self.follow(row, path), column)

    def follow(self, row: Row, path: Path) -> Row:
        for step in path:
            (row,) = self.found(row, step)
        return row

    def finds(self, start: str, table: str, column: str, context: Context) -> bool:
        return self.path(start, table, frozenset([column]), context, filters=False) is not None

    # -- visible rows ----------------------------------------------------------------------------------------------

    def visible(self, table: str, filters: list[tuple[Path, Filter]]) -> list[Row]:
        return [row for row in self.rows(table) if self.passes(row, filters)]

    def passes(self, row: Row, filters: list[tuple[Path, Filter]]) -> bool:
        """Whether a row passes filters that lie along paths; those beyond one reach must hold for one related row."""
        if not all(each.test(row) for path, each in filters if not path):
            return False
        for step in dict.fromkeys(path[0] for path, _ in filters if path):
            beyond = [(path[1:], each) for path, each in filters if path and path[0] == step]
            if not any(self.passes(other, beyond) for other in self.found(row, step)):
                return False
        return True

    # -- contexts --------------------------------------------------------------------------------------------------

    def at_row(self, context: Context, table: str, number: int, kind: str) -> Context:
        """The context with a current row: a filter on its table and one on each table that it looks up."""
        group = object()
        filters = []
        for (other, level), path in self.paths(table, context, filters=False).items():
            if level:
                continue
            target = self.follow((table, number), path)
            test = lambda row, target=target: row == target  # noqa: E731
            filters.append(Filter("row" if path else kind, other, None, test, group=group))
        return replace(context.plus(*filters), rows=(*context.rows, (table, number, group)))

    def at_member(self, context: Context, table: str, column: str, member: Any, kind: str, axis: str = "") -> Context:
        def test(row: Row) -> bool:
            if row[1] == NO_MATCH or member == NO_MATCH_MEMBER:
                return row[1] == NO_MATCH and member == NO_MATCH_MEMBER
            return self.value(row, column) == member

        named = frozenset([(table, column)])
        one = Filter(kind, table, frozenset([column]), test, named, axis)
        changed = context.plus(one)
        return replace(changed, members=(*context.members, ((table, column), member))) if kind == "member" else changed

    def conditions(self, condition: Condition, kind: str, context: Context) -> list[Filter]:
        over = condition.over.parts[0] if condition.over else ""
        found = []
        for part in conjuncts(condition.formula):
            table = self.row_table([part], over, context)
            named = frozenset(self.mentioned(part, context))
            elsewhere = any(other != table for other, _ in named) or _tests_no_match(part)
            columns = None if elsewhere else frozenset(column for _, column in named)
            test = lambda row, part=part: self.condition(part, row, context)  # noqa: E731
            found.append(
                Filter(kind, table, columns, test, named, keyed=any(name in context.lets for name in _bare(part)))
            )
        return found

    def condition(self, part: Node, row: Row, context: Context) -> bool:
        def leaf(node: Node) -> Any:
            if isinstance(node, Operation) and node.operator == "is_no_match":
                table = node.operands[0].parts[0]
                path = self.paths(row[0], context, filters=False)
                way = path.get((table, False), path.get((table, True)))
                return self.follow(row, way)[1] == NO_MATCH
            if isinstance(node, Changed):
                inner = self.changed(context, node.changes)
                return scalar(node.formula, lambda name: self.look_up(row, *name.parts, inner))
            assert isinstance(node, Name)
            if len(node.parts) == 1:
                return context.lets[node.parts[0]]
            return self.look_up(row, *node.parts, context)

        return scalar(part, leaf) is True

    def mentioned(self, node: Node, context: Context) -> Iterator[tuple[str, str]]:
        """The columns that a row expression reads from its own row."""
        match node:
            case Name(parts) if len(parts) == 2:
                yield parts[0], parts[1]
            case Call() if node.function not in FUNCTIONS:
                return
            case Changed(formula):
                yield from self.mentioned(formula, context)
            case Operation("is_no_match"):
                return
            case _:
                for child in children(node):
                    yield from self.mentioned(child, context)

    def row_table(self, nodes: list[Node], over: str, context: Context) -> str:
        if over:
            return over
        mentioned = {pair for node in nodes for pair in self.mentioned(node, context)}
        tables = {table for table, _ in mentioned} | {table for node in nodes for table in _no_match_tables(node)}
        found = {
            start
            for start in tables
            if all(self.finds(start, *pair, context) for pair in mentioned)
            and all(self.paths(start, context, False).keys() & {(other, False), (other, True)} for other in tables)
        }
        lefts = {link.many for link in self.links if link.kind == "one_to_one" and {link.many, link.one} <= found}
        return (found & lefts or found).pop()

    def changed(self, context: Context, changes: tuple[Change, ...]) -> Context:
        for change in changes:
            context = self._changed(context, change)
        return context

    def _changed(self, context: Context, change: Change) -> Context:
        kind = change.kind
        if kind == "where":
            return context.plus(*self.conditions(change.condition, "where", context))
        if kind == "pin":
            return self._pin(context, change)
        if kind == "ignoring":
            for name in change.names:
                context = self._ignoring(context, name)
            return context
        if kind == "only":
            return self._only(context, change)
        if kind == "via":
            (link,) = [each for each in self.links if each.standby and each.many == change.names[0].parts[0]
                       and change.names[0].parts[1] in each.many_columns]  # fmt: skip
            kept = {each for each in context.via if {each.many, each.one} != {link.many, link.one}}
            return replace(context, via=frozenset({*kept, link}))
        if kind == "both_ways":
            table, column = change.names[0].parts
            (link,) = [
                each for each in self.links
                if (each.many == table and column in each.many_columns)
                or (each.kind == "many_to_many" and each.one == table and column in each.one_columns)
            ]  # fmt: skip
            return replace(context, both=context.both | {link})
        if kind == "keep":
            return self._keep(context, change)
        return replace(context, steps=(*context.steps, (change.on.parts[0] if change.on else "", change)))

    def _pin(self, context: Context, change: Change) -> Context:
        table, column = (*change.names[0].parts, "")[:2]
        if change.word in ("first", "last"):
            return replace(context, pinned=(*context.pinned, (change.word, table, column)))
        if column:
            context = context.without(lambda each: each.table == table and each.column == column)
        else:
            context = context.without(lambda each: each.table == table and each.columns is not None)
        if change.word == "no match":
            return context.plus(Filter("pin", table, None, lambda row: row[1] == NO_MATCH))
        named = frozenset([(table, column)])
        if change.word == "null":
            test = lambda row: row[1] != NO_MATCH and self.value(row, column) is None  # noqa: E731
            return context.plus(Filter("pin", table, frozenset([column]), test, named))
        values = [scalar(each, lambda name: context.lets[name.parts[0]]) for each in change.operands]
        test = lambda row: _logic("or", [_compare("=", self.value(row, column), each) for each in values]) is True  # noqa: E731
        return context.plus(Filter("pin", table, frozenset([column]), test, named))

    def upstream(self, table: str, context: Context) -> set[str]:
        return {other for other, level in self.paths(table, context, filters=False) if not level}

    def _ignoring(self, context: Context, name: Name) -> Context:
        if len(name.parts) == 2:
            table, column = name.parts
            pinned = tuple(each for each in context.pinned if each[1:] != (table, column))
            return replace(context.without(lambda each: each.table == table and each.column == column), pinned=pinned)
        (word,) = name.parts
        if word == "all":
            return replace(context, filters=(), steps=(), pinned=())
        if word == "axes":
            return context.without(lambda each: each.kind == "axis")
        if word in ("rows", "columns"):
            return context.without(lambda each: each.kind == "axis" and each.axis == word)
        if word == "innermost":
            inner = [each for each in context.filters if each.kind == "axis" and each.axis == "rows"]
            return context.without(lambda each: inner and each is inner[-1])
        if word == "row":
            group = context.rows[-1][2] if context.rows else None
            left = context.without(lambda each: group is not None and each.group is group)
            return replace(left, rows=tuple((t, n, g if g is not group else None) for t, n, g in context.rows))
        drop = self.upstream(word, context)
        left = context.without(lambda each: each.table in drop)
        return self._drop_steps(left, lambda other: other in drop)

    def _only(self, context: Context, change: Change) -> Context:
        tables: set[str] = set()
        columns = {name.parts for name in change.names if len(name.parts) == 2}
        for name in change.names:
            if len(name.parts) == 1:
                tables |= self.upstream(name.parts[0], context)
        left = context.without(lambda each: each.table not in tables and (each.table, each.column) not in columns)
        pinned = tuple(each for each in left.pinned if each[1] in tables or each[1:] in columns)
        touched = tables | {table for table, _ in columns}
        return self._drop_steps(replace(left, pinned=pinned), lambda other: other not in touched)

    def _drop_steps(self, context: Context, dropped: Callable[[str], bool]) -> Context:
        steps = tuple(
            (name, step)
            for name, step in context.steps
            if not (dropped(name) if name else all(dropped(each) for each in self.calendars))
        )
        return replace(context, steps=steps)

    def _keep(self, context: Context, change: Change) -> Context:
        grain = change.names[0].parts
        (formula,) = change.operands
        aside = context
        if change.word:
            chain = self.chain(grain[0], context)
            aside = context.without(lambda each: each.kind in ("axis", "member", "row") and each.table in chain)
        grains = [grain] if len(grain) == 2 else grain[0]
        kept = self.grain_members(grains, aside, self.sources([formula]))
        values = [(member, self.evaluate(formula, inner)) for member, inner in kept]
        if change.word:
            known = [(member, value) for member, value in values if value is not None]
            better = (lambda a, b: a > b) if change.word == "top" else (lambda a, b: a < b)
            chosen = [
                member for member, value in known if sum(better(other, value) for _, other in known) < change.number
            ]
        else:
            chosen = [member for member, value in values if value is True]
        bears = tuple(self.bearing([formula], self.inner_of(grains, aside, self.sources([formula]))))
        if len(grain) == 2:
            table, column = grain
            test = lambda row: row[1] != NO_MATCH and self.value(row, column) in [each[0] for each in chosen]  # noqa: E731
            return context.plus(Filter("keep", table, frozenset([column]), test, frozenset([grain]), bears=bears))
        return context.plus(Filter("keep", grain[0], None, lambda row: row[1] in chosen, bears=bears))

    def chain(self, table: str, context: Context) -> set[str]:
        ones = {link.one for link in self.links}
        down = {other for other in self.tables if other in ones and table in self.upstream(other, context)}
        return {table} | self.upstream(table, context) | down

    # -- members of a grain ----------------------------------------------------------------------------------------

    def owners(self, fields: list[tuple[str, str]], context: Context) -> list[str]:
        """The table on whose rows each field's members are seen: the finest that looks it up."""
        tables = list(dict.fromkeys(table for table, _ in fields))

        def finds(start: str, other: str) -> bool:
            columns = [column for table, column in fields if table == other]
            paths = [self.path(start, other, frozenset([column]), context, filters=True) for column in columns]
            return all(path is not None and all(step.how == "up" for step in path) for path in paths)

        finest = [
            table for at, table in enumerate(tables)
            if not any(other != table and finds(other, table) and not (finds(table, other) and tables.index(other) > at)
                       for other in tables)
        ]  # fmt: skip
        return [next(owner for owner in finest if owner == table or finds(owner, table)) for table, _ in fields]

    def grain_members(
        self, grain: str | list[tuple[str, str]], context: Context, ends: list[str]
    ) -> Iterator[tuple[Any, Context]]:
        """The visible members of a grain, each with the context at it; no match is left out."""
        if isinstance(grain, str):
            rows = self.bounded(grain, context, ends)[0] or []
            carried = self.carried(context, [grain], ends)
            for _, number in rows:
                yield number, self.at_row(carried, grain, number, "member")
            return
        owners = self.owners(grain, context)
        carried = self.carried(context, list(dict.fromkeys(owners)), ends)
        parts = []
        for owner in dict.fromkeys(owners):
            own = [number for number, other in enumerate(owners) if other == owner]
            rows = self.bounded(owner, context, ends)[0] or []
            parts.append({tuple((n, self.member_of(row, *grain[n], context)) for n in own) for row in rows})
        for chosen in itertools.product(*parts):
            members = [member for _, member in sorted((pair for part in chosen for pair in part), key=lambda p: p[0])]
            if NO_MATCH_MEMBER in members:
                continue
            inner = carried
            for pair, member in zip(grain, members, strict=True):
                inner = self.at_member(inner, *pair, member, "member")
            yield tuple(members), inner

    def member_of(self, row: Row, table: str, column: str, context: Context) -> Any:
        found = self.follow(row, self.path(row[0], table, frozenset([column]), context, filters=True))
        return NO_MATCH_MEMBER if found[1] == NO_MATCH else self.value(found, column)

    def inner_of(self, grain: str | list[tuple[str, str]], context: Context, ends: list[str]) -> Context:
        """The context at some member of a grain, for what bears on formulas there."""
        if isinstance(grain, str):
            return self.at_row(self.carried(context, [grain], ends), grain, NO_MATCH, "member")
        inner = self.carried(context, list(dict.fromkeys(self.owners(grain, context))), ends)
        for pair in grain:
            inner = self.at_member(inner, *pair, NO_MATCH_MEMBER, "member")
        return inner

    # -- calendar changes ------------------------------------------------------------------------------------------

    def calendars_of(self, table: str, context: Context) -> list[str]:
        reached = {other for other, _ in self.paths(table, context, filters=True)}
        return [name for name in self.calendars if name in reached]

    def steps_of(self, table: str, context: Context) -> dict[str, list[Change]]:
        found = self.calendars_of(table, context)
        result: dict[str, list[Change]] = {}
        for name, change in context.steps:
            name = name or (found[0] if found else "")
            if name in found:
                result.setdefault(name, []).append(change)
        return result

    def is_period(self, each: Filter, calendar: str) -> bool:
        if (
            each.table != calendar
            or (each.kind == "keep" and each.columns is None)
            or each.keyed
            or each.kind == "keep"
        ):
            return False
        if each.columns is None:
            return each.kind in ("row", "member", "dates")
        return bool(each.columns) and all(self.period_column(calendar, column) for column in each.columns)

    def period_column(self, calendar: str, column: str) -> bool:
        key = self.calendars[calendar]
        ordered = sorted(self.rows(calendar), key=lambda row: self.value(row, key))
        values = [self.value(row, column) for row in ordered]
        months: dict[tuple[int, int], set[Any]] = {}
        for row, value in zip(ordered, values, strict=True):
            day = self.value(row, key)
            months.setdefault((day.year, day.month), set()).add(value)
        if all(len(found) == 1 for found in months.values()):
            return True
        return len([1 for _ in itertools.groupby(values)]) == len(set(values))

    def dates_filter(
        self, calendar: str, steps: list[Change], context: Context, source: str, ends: list[str]
    ) -> tuple[Filter, list[Filter]]:
        """The dates that a source sees after calendar changes, as a filter, and the filters that it replaces."""
        periods = [each for each in context.filters if self.is_period(each, calendar)]
        key = self.calendars[calendar]
        every = [self.value(row, key) for row in self.rows(calendar)]
        held = {self.value(row, key) for row in self.rows(calendar) if all(each.test(row) for each in periods)}
        end = self.end_of(calendar, source, ends, context)
        if end is not None:
            held = {day for day in held if day <= end}
        for step in steps:
            held = moved(sorted(every), held, step.kind, step.word, step.number)
        return Filter("dates", calendar, None, lambda row: row[1] != NO_MATCH and self.value(row, key) in held), periods

    def end_of(self, calendar: str, source: str, ends: list[str], context: Context) -> date | None:
        last = []
        for table in dict.fromkeys([source, *ends]):
            path = self.paths(table, context, filters=False).get((calendar, False))
            if path:
                days = [self.value(self.follow(row, path), self.calendars[calendar]) for row in self.rows(table)]
                last += [max(day for day in days if day is not None)] if any(days) else []
                if table == source:
                    break
        return max(last) if last else None

    def carried(self, context: Context, sources: list[str], ends: list[str]) -> Context:
        """The context inside an aggregate whose own tables carry calendar changes out."""
        for source in sources:
            for calendar, steps in self.steps_of(source, context).items():
                dates, periods = self.dates_filter(calendar, steps, context, source, ends)
                left = context.without(lambda each, periods=periods: each in periods).plus(dates)
                rest = tuple(pair for pair in context.steps if (pair[0] or calendar) != calendar)
                context = replace(left, steps=rest)
        return context

    # -- bounds ----------------------------------------------------------------------------------------------------

    def reach(
        self, source: str, context: Context, ends: list[str]
    ) -> tuple[list[tuple[Path, Filter]], list[Filter], bool]:
        """The filters that reach a table with their paths, those that they stand for, and whether nothing may move."""
        reached: list[tuple[Path, Filter]] = []
        stand_for: list[Filter] = []
        stuck = False
        consumed: list[Filter] = []
        for calendar, steps in self.steps_of(source, context).items():
            dates, periods = self.dates_filter(calendar, steps, context, source, ends)
            stuck = stuck or (not periods and any(step.kind in ("back", "forward") for step in steps))
            reached.append(self.dates_path(source, dates, context))
            consumed += periods
        for each in context.filters:
            if each in consumed:
                continue
            path = self.path(source, each.table, each.columns, context, filters=True)
            if path is None and each.kind == "dates":
                if (each.table, True) in self.paths(source, context, filters=True):
                    reached.append(self.dates_path(source, each, context))
                continue
            if path is not None:
                reached.append((path, each))
                stand_for += [each, *each.bears]
        return reached, [*stand_for, *consumed], stuck

    def dates_path(self, source: str, dates: Filter, context: Context) -> tuple[Path, Filter]:
        paths = self.paths(source, context, filters=True)
        if (dates.table, False) in paths:
            return paths[dates.table, False], dates
        path = paths[dates.table, True]
        level = path[-1].link.one_columns

        def touches(row: Row) -> bool:
            # A coarse fact is seen where the dates touch its period.
            own = [self.value(row, column) for column in level]
            return any(
                dates.test(other) and [self.value(other, column) for column in level] == own
                for other in self.rows(dates.table)
            )

        return path, replace_test(dates, touches)

    def bounded(self, source: str, context: Context, ends: list[str]) -> tuple[list[Row] | None, list[Filter]]:
        """The visible rows of a table, and the filters that bear on them; None for rows where nothing may move."""
        reached, bearing, stuck = self.reach(source, context, ends)
        rows = None if stuck else self.visible(source, reached)
        for word, table, column in context.pinned:
            path = self.path(source, table, frozenset([column]), context, filters=True)
            if path is None or rows is None:
                continue
            values = {row: self.reached_values(row, path, column, reached) for row in rows}
            known = [value for found in values.values() for value in found]
            best = (min if word == "first" else max)(known) if known else None
            rows = [row for row in rows if best is not None and best in values[row]]
        return rows, bearing

    def reached_values(self, row: Row, path: Path, column: str, filters: list[tuple[Path, Filter]]) -> list[Any]:
        rows = [row]
        for passed, step in enumerate(path, 1):
            rows = [other for one in rows for other in self.found(one, step)]
            beyond = [(way[passed:], each) for way, each in filters if way[:passed] == path[:passed]]
            rows = [other for other in rows if self.passes(other, beyond)]
        return [value for value in (self.value(other, column) for other in rows) if value is not None]

    # -- formulas --------------------------------------------------------------------------------------------------

    def evaluate(self, node: Node, context: Context) -> Any:
        """A formula's value under a context: in a cell, or at a current row."""

        def leaf(part: Node) -> Any:
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
            if part.function == "filtered":
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
            return self.evaluate(
                parse_formula(self.measures[name]), replace(context, repeat=name in self.repeat, lets={})
            )
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
        return _over(node, found)

    def keyed_path(self, row: Row, each: Filter, context: Context) -> tuple[Path, Filter]:
        return self.path(row[0], each.table, None, context, filters=True), each

    def parts_of(self, node: Call) -> list[Node]:
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
        if not own or current is None:
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
        if node.function == "rank":
            return None if mine is None else 1 + sum(value is not None and value > mine for _, value, _ in values)
        orders = {member: self.evaluate(node.by, inner) for member, _, inner in values}
        along = [
            value
            for member, value, _ in values
            if value is not None and _not_after(orders[member], orders[current], node.descending)
        ]
        return functools.reduce(lambda one, other: _operation("+", [one, other]), along) if along else None

    def some_row(self, table: str, column: str, member: Any) -> Row:
        return next(row for row in self.rows(table) if self.value(row, column) == member)

    # -- related ---------------------------------------------------------------------------------------------------

    def sources(self, nodes: list[Node]) -> list[str]:
        """The row tables of all aggregates in formulas."""
        found: list[str] = []
        for node in nodes:
            if isinstance(node, Name) and len(node.parts) == 1 and node.parts[0] in self.measures:
                found += self.sources([parse_formula(self.measures[node.parts[0]])])
            elif isinstance(node, Call) and node.function not in FUNCTIONS and node.function != "filtered":
                if not node.per and node.among is None:
                    found.append(self.rows_of(node, Context(via=frozenset(link for link in self.links if link.standby)))
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

    def bearing(self, nodes: list[Node], context: Context) -> Iterator[Filter]:
        """The filters that bear on aggregates inside formulas."""
        for node in nodes:
            if isinstance(node, Name):
                if len(node.parts) == 1 and node.parts[0] in self.measures:
                    inner = replace(context, lets={})
                    yield from self.bearing([parse_formula(self.measures[node.parts[0]])], inner)
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
                elif node.function != "filtered":
                    yield from self.bearing_on(node, context)
            else:
                yield from self.bearing(list(children(node)), context)

    # -- grids -----------------------------------------------------------------------------------------------------

    def members(self, table: str, column: str) -> list[Any]:
        values = {self.value((table, number), column) for number in range(len(self.tables[table]))}
        return [*sorted(value for value in values if value is not None), None, NO_MATCH_MEMBER]

    def pivot(self, fields: list[tuple[str, str]], formulas: list[str], where: str = "") -> dict[tuple[Any, ...], list]:
        """Values by combination of members; ``TOTAL`` stands where a field is totalled over. All grains are there."""
        trees = [parse_formula(formula) for formula in formulas]
        question = Context()
        if where:
            question = question.plus(*self.conditions(parse_condition(where), "question", question))
        cells = {}
        shown = self.shown(trees, fields, question)
        for kept in itertools.product((True, False), repeat=len(fields)):
            for combination in shown if any(kept) else [tuple(TOTAL for _ in fields)]:
                key = tuple(member if keep else TOTAL for member, keep in zip(combination, kept, strict=True))
                if key not in cells and is_grain(key):
                    cells[key] = [self.evaluate(tree, self.cell(fields, key, question)) for tree in trees]
        return cells

    def cell(self, fields: list[tuple[str, str]], key: tuple[Any, ...], context: Context) -> Context:
        axes: tuple[Filter, ...] = ()
        for number, (pair, member) in enumerate(zip(fields, key, strict=True)):
            if member is not TOTAL:
                one = self.at_member(Context(), *pair, member, "axis", "rows" if number == 0 else "columns")
                axes += one.filters
        return replace(context, filters=(*axes, *context.filters))

    def shown(self, trees: list[Node], fields: list[tuple[str, str]], question: Context) -> list[tuple[Any, ...]]:
        """The combinations in which some aggregate that every axis bears on has a value, else the visible members."""
        if not fields:
            return [()]
        some = self.cell(fields, tuple(NO_MATCH_MEMBER for _ in fields), question)
        owners = self.owners(fields, question)
        parts, with_no_match = [], []
        for owner in dict.fromkeys(owners):
            own = [number for number, other in enumerate(owners) if other == owner]
            rows = self.bounded(owner, question, [])[0] or []
            parts.append({tuple((n, self.member_of(row, *fields[n], question)) for n in own) for row in rows})
            with_no_match.append(parts[-1] | {tuple((n, NO_MATCH_MEMBER) for n in own)})

        def combinations(sets: list[set[Any]]) -> list[tuple[Any, ...]]:
            return [
                tuple(member for _, member in sorted((p for part in chosen for p in part), key=lambda p: p[0]))
                for chosen in itertools.product(*sets)
            ]

        if not any(self.judged(tree, some, some.filters[: len(fields)]) for tree in trees):
            return combinations(parts)
        found = []
        visible = set(combinations(with_no_match))
        for combination in itertools.product(*(self.members(*each) for each in fields)):
            context = self.cell(fields, combination, question)
            axes = context.filters[: len(fields)]
            judged = [pair for tree in trees for pair in self.judged(tree, context, axes)]
            # What nests may have a value for members that nobody sees: they are not shown.
            seen = [pair for pair in judged if combination in visible or self.is_simple(pair[0])]
            if any(self.aggregate(call, inner) is not None for call, inner in seen):
                found.append(combination)
        return found

    def is_simple(self, node: Call) -> bool:
        return not node.per and not self.sources(self.parts_of(node))

    def judged(self, node: Node, context: Context, axes: tuple[Filter, ...]) -> list[tuple[Call, Context]]:
        """The aggregates of a formula for which every axis member is in force, with their contexts."""
        if isinstance(node, Name):
            (name,) = node.parts
            if name not in self.measures or name in context.lets:
                return []
            inner = replace(context, repeat=name in self.repeat, lets={})
            return self.judged(parse_formula(self.measures[name]), inner, axes)
        if isinstance(node, Changed):
            return self.judged(node.formula, self.changed(context, node.changes), axes)
        if isinstance(node, Let):
            lets = dict(context.lets)
            found = []
            for name, formula in node.bindings:
                inner = replace(context, lets=lets)
                found += self.judged(formula, inner, axes)
                lets[name.parts[0]] = self.evaluate(formula, inner)
            return found + self.judged(node.body, replace(context, lets=lets), axes)
        if isinstance(node, Call) and node.function not in FUNCTIONS:
            if node.function in ("sole", "filtered") or node.among is not None:
                return []
            bearing = self.bearing_on(node, context)
            in_force = all(axis in context.filters or axis in bearing for axis in axes)
            if context.repeat:
                in_force = all(axis in bearing for axis in axes)
            return [(node, context)] if in_force else []
        return [pair for child in children(node) for pair in self.judged(child, context, axes)]


def is_grain(key: tuple[Any, ...]) -> bool:
    """Whether a grid works a combination out: rows are the first field, and a total over a column is one over the next."""
    return all(later is TOTAL for here, later in itertools.pairwise(key[1:]) if here is TOTAL)


def replace_test(one: Filter, test: Callable[[Row], bool]) -> Filter:
    return Filter(one.kind, one.table, one.columns, test, one.named, one.axis, one.group, one.bears)


def moved(every: list[date], held: set[date], kind: str, unit: str, number: int) -> set[date]:
    """A set of dates after one calendar change, date by date."""
    months = {"month": 1, "quarter": 3, "year": 12}

    def unit_of(day: date) -> Any:
        return {"day": day, "week": day - timedelta(days=day.weekday()), "month": (day.year, day.month),
                "quarter": (day.year, (day.month - 1) // 3), "year": day.year}[unit]  # fmt: skip

    if kind in ("back", "forward"):
        sign = -1 if kind == "back" else 1
        if unit in ("day", "week"):
            shift = timedelta(days=sign * number * (7 if unit == "week" else 1))
            return {day + shift for day in held} & set(every)
        result = set()
        for day in held:
            month = [other for other in every if (other.year, other.month) == (day.year, day.month)]
            year, index = divmod(day.year * 12 + day.month - 1 + sign * number * months[unit], 12)
            target = [other for other in every if (other.year, other.month) == (year, index + 1)]
            result.update(target if held.issuperset(month) else [other for other in target if other.day == day.day])
        return result
    if not held:
        return set()
    last = max(held)
    if kind == "whole":
        units = {unit_of(day) for day in held}
        return {day for day in every if unit_of(day) in units}
    if kind == "before":
        return {day for day in every if day < min(held)}
    if kind == "to_date":
        return {day for day in every if day <= last and (not unit or unit_of(day) == unit_of(last))}
    if unit in ("day", "week"):
        first = last - timedelta(days=number * (7 if unit == "week" else 1) - 1)
    else:
        span = number * months[unit]
        if (last + timedelta(days=1)).day == 1:
            year, index = divmod(last.year * 12 + last.month - span, 12)
            first = date(year, index + 1, 1)
        else:
            year, index = divmod(last.year * 12 + last.month - 1 - span, 12)
            length = (date(year + index // 11, (index + 1) % 12 + 1, 1) - timedelta(days=1)).day
            first = date(year, index + 1, min(last.day, length)) + timedelta(days=1)
    return {day for day in every if first <= day <= last}


def _not_after(one: Any, current: Any, descending: bool) -> bool:
    """Whether a member stands up to and with the current one; null comes last, ties come along."""
    if current is None or one is None:
        return current is None
    return one >= current if descending else one <= current


def _bare(node: Node) -> Iterator[str]:
    if isinstance(node, Name) and len(node.parts) == 1:
        yield node.parts[0]
    for child in children(node):
        yield from _bare(child)


def _no_match_tables(node: Node) -> Iterator[str]:
    if isinstance(node, Operation) and node.operator == "is_no_match":
        yield node.operands[0].parts[0]
    for child in children(node):
        yield from _no_match_tables(child)


def _tests_no_match(node: Node) -> bool:
    return any(True for _ in _no_match_tables(node))


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


# -- aggregates of a list of values --------------------------------------------------------------------------------


def _exact(function: Callable[[], Any]) -> Any:
    with localcontext() as context:
        context.prec = 60
        return function()


def _percentile(values: list[Any], fraction: float) -> float | None:
    if not values:
        return None
    ordered = sorted(map(float, values))
    place = fraction * (len(ordered) - 1)
    low = math.floor(place)
    high = min(low + 1, len(ordered) - 1)
    return ordered[low] + (ordered[high] - ordered[low]) * (place - low)


def _weighted(pairs: list[tuple[Any, Any]]) -> float | None:
    weight = math.fsum(float(other) for _, other in pairs)
    return math.fsum(float(value) * float(other) for value, other in pairs) / weight if pairs and weight else None


def _by_order(function: str, pairs: list[tuple[Any, Any]]) -> Any:
    if not pairs:
        return None
    best = (min if function == "first" else max)(other for _, other in pairs)
    tied = [value for value, other in pairs if other == best]
    return tied[0] if function == "first" else tied[-1]


AGGREGATES: dict[str, Callable[[list[Any]], Any]] = {
    "sum": lambda values: _exact(lambda: sum(values)),
    "avg": lambda values: math.fsum(map(float, values)) / len(values),
    "min": min,
    "max": max,
    "median": lambda values: _percentile(values, 0.5),
    "stddev": lambda values: statistics.stdev(map(float, values)) if len(values) > 1 else None,
    "variance": lambda values: statistics.variance(map(float, values)) if len(values) > 1 else None,
    "stddev_pop": lambda values: statistics.pstdev(map(float, values)),
    "variance_pop": lambda values: statistics.pvariance(map(float, values)),
    "first": min,  # never called with a plain list: `first` and `last` take pairs
    "last": max,
}


# -- scalar functions ------------------------------------------------------------------------------------------------


def scalar(node: Node, leaf: Callable[[Node], Any] | None) -> Any:
    """The value of a formula whose names and aggregates ``leaf`` gives."""
    go = lambda part: scalar(part, leaf)  # noqa: E731
    match node:
        case Literal(value, type_):
            return _literal(value, str(type_))
        case Operation("and" | "or" as word, operands):
            return _logic(word, [go(operand) for operand in operands])
        case Operation("in", (subject, *choices)):
            return _logic("or", [_compare("=", go(subject), go(choice)) for choice in choices])
        case Operation("is_no_match"):
            return leaf(node)
        case Operation("is_null", (operand,)):
            return go(operand) is None
        case Operation(word, operands):
            return _operation(word, [go(operand) for operand in operands])
        case Case(branches, otherwise):
            for condition, value in branches:
                if go(condition) is True:
                    return go(value)
            return None if otherwise is None else go(otherwise)
        case Call(function, arguments) if function in FUNCTIONS:
            values = [go(argument) for argument in arguments]
            if function == "coalesce":
                return next((value for value in values if value is not None), None)
            if function == "nullif":
                return None if _compare("=", *values) is True else values[0]
            if function == "plus":
                known = [value for value in values if value is not None]
                return functools.reduce(lambda one, other: _operation("+", [one, other]), known) if known else None
            return None if any(value is None for value in values) else _exact(lambda: FUNCTIONS[function](*values))
    assert leaf is not None
    return leaf(node)


def _literal(value: Any, type_: str) -> Any:
    if value is None:
        return None
    if type_ == "date":
        return date(1970, 1, 1) + timedelta(days=value)
    if type_.startswith("decimal"):
        return Decimal(value).scaleb(-int(type_[8:-1]))
    return value


def _logic(word: str, values: list[Any]) -> bool | None:
    decisive = word == "or"
    if decisive in values:
        return decisive
    return None if None in values else not decisive


_COMPARE = {
    "=": operator.eq,
    "<>": operator.ne,
    "<": operator.lt,
    "<=": operator.le,
    ">": operator.gt,
    ">=": operator.ge,
}


def _compare(word: str, left: Any, right: Any) -> bool | None:
    return None if left is None or right is None else _COMPARE[word](*_alike(left, right))


def _alike(left: Any, right: Any) -> tuple[Any, Any]:
    # A float beside a decimal makes both floats.
    return (float(left), float(right)) if isinstance(left, float) or isinstance(right, float) else (left, right)


def _operation(word: str, values: list[Any]) -> Any:
    if any(value is None for value in values):
        return None
    if word in _COMPARE:
        return _compare(word, *values)
    if word in ("not", "negate", "plus_sign"):
        return {"not": operator.not_, "negate": operator.neg, "plus_sign": operator.pos}[word](values[0])
    return _exact(lambda: _binary(word, *values))


def _binary(word: str, left: Any, right: Any) -> Any:
    if word == "||":
        return f"{left}{right}"
    if word == "like":
        return re.fullmatch(re.escape(right).replace("%", ".*").replace("_", "."), left, re.DOTALL) is not None
    if isinstance(left, date) or isinstance(right, date):
        return _date_arithmetic(word, left, right)
    left, right = _alike(left, right)
    if word == "/":
        return float(left) / float(right) if right else None
    if word == "%":
        if not right:
            return None
        return math.fmod(left, right) if isinstance(left, float) else left - right * _truncated(left, right)
    return {"+": operator.add, "-": operator.sub, "*": operator.mul}[word](left, right)


def _truncated(left: Any, right: Any) -> int:
    quotient = abs(left) // abs(right)
    return int(quotient if (left < 0) == (right < 0) else -quotient)


def _date_arithmetic(word: str, left: Any, right: Any) -> Any:
    if isinstance(left, date) and isinstance(right, date):
        return (left - right).days
    if isinstance(right, date):
        left, right = right, left
    return left + timedelta(days=right if word == "+" else -right)


def _rounded(value: Any, digits: int = 0) -> Any:
    if isinstance(value, float):
        scaled = abs(value) * 10.0**digits
        return math.copysign(math.floor(scaled) + (scaled - math.floor(scaled) >= 0.5), value) / 10.0**digits
    result = Decimal(value).quantize(Decimal(1).scaleb(-digits), ROUND_HALF_UP)
    return int(result) if digits <= 0 else result


def _root(value: Any) -> float | None:
    return math.sqrt(value) if value >= 0 else None


FUNCTIONS: dict[str, Callable[..., Any]] = {
    "coalesce": lambda *_: None,
    "nullif": lambda *_: None,
    "plus": lambda *_: None,
    "abs": abs,
    "round": _rounded,
    "floor": lambda x: float(math.floor(x)) if isinstance(x, float) else int(Decimal(x).to_integral(ROUND_FLOOR)),
    "ceil": lambda x: float(math.ceil(x)) if isinstance(x, float) else -int(Decimal(-x).to_integral(ROUND_FLOOR)),
    "sqrt": _root,
    "least": lambda *values: min(values),
    "greatest": lambda *values: max(values),
    "upper": str.upper,
    "lower": str.lower,
    "trim": lambda text: text.strip(" "),
    "substring": lambda text, start, length=None: text[start - 1 :][: length if length is not None else len(text)],
    "length": len,
    "year": lambda day: day.year,
    "quarter": lambda day: (day.month + 2) // 3,
    "month": lambda day: day.month,
    "week": lambda day: day.isocalendar().week,
    "day": lambda day: day.day,
    "weekday": lambda day: day.isoweekday(),
}
