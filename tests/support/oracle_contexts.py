"""What changes in brackets mean to the oracle, and which rows and members a context leaves."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterator
from dataclasses import replace
from datetime import date
from typing import Any

from oracle_dates import moved
from oracle_history import (
    AtMember,
    AtRow,
    CarriedOut,
    Context,
    Edge,
    Event,
    Filter,
    Ignored,
    IgnoredWord,
    Moved,
    Only,
    Opened,
    Pinned,
    Row,
)
from oracle_rows import NO_MATCH, NO_MATCH_MEMBER, Link, Path, Tables
from oracle_values import FUNCTIONS, _compare, _logic, scalar
from relatum.calendar.steps import Shift, Step, ToDate, Trailing
from relatum.language.tree import (
    BothWaysClause,
    CalendarClause,
    Call,
    Changed,
    Clause,
    Condition,
    IgnoringClause,
    KeepBestClause,
    KeepWhereClause,
    ManySide,
    Name,
    OnlyClause,
    Operation,
    Over,
    PinClause,
    PinEdgeClause,
    PinNoMatchClause,
    PinNullClause,
    Syntax,
    ViaClause,
    WhereClause,
    children,
    conjuncts,
)


class Contexts(Tables):
    """Contexts over tables."""

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
        return context.then(AtRow(table, number, tuple(filters), group))

    def at_member(self, context: Context, table: str, column: str, member: Any, kind: str, axis: str = "") -> Context:
        def test(row: Row) -> bool:
            if row[1] == NO_MATCH or member == NO_MATCH_MEMBER:
                return row[1] == NO_MATCH and member == NO_MATCH_MEMBER
            return self.value(row, column) == member

        named = frozenset([(table, column)])
        one = Filter(kind, table, frozenset([column]), test, named, axis)
        changed = context.plus(one)
        return changed.then(AtMember((table, column), member)) if kind == "member" else changed

    def conditions(self, condition: Condition, kind: str, context: Context) -> list[Filter]:
        found = []
        for part in conjuncts(condition.formula):
            over = ""
            if isinstance(part, Over):
                part, over = part.part, part.table.parts[0]
            table = self.row_table([part], over, context)
            named = frozenset(self.mentioned(part, context))
            elsewhere = any(other != table for other, _ in named) or _tests_no_match(part)
            columns = None if elsewhere else frozenset(column for _, column in named)
            test = lambda row, part=part: self.condition(part, row, context)  # noqa: E731
            found.append(
                Filter(kind, table, columns, test, named, keyed=any(name in context.lets for name in _bare(part)))
            )
        return found

    def condition(self, part: Syntax, row: Row, context: Context) -> bool:
        def leaf(node: Syntax) -> Any:
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

    def mentioned(self, node: Syntax, context: Context) -> Iterator[tuple[str, str]]:
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

    def row_table(self, nodes: list[Syntax], over: str, context: Context) -> str:
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

    def changed(self, context: Context, changes: tuple[Clause, ...]) -> Context:
        for change in changes:
            context = self._changed(context, change)
        return context

    def _changed(self, context: Context, change: Clause) -> Context:
        match change:
            case WhereClause(condition):
                return context.plus(*self.conditions(condition, "where", context))
            case IgnoringClause(names):
                for name in names:
                    context = context.then(self.ignored(name, context))
                return context
            case OnlyClause(names):
                tables = [self.upstream(name.parts[0], context) for name in names if len(name.parts) == 1]
                columns = frozenset((*name.parts,) for name in names if len(name.parts) == 2)
                return context.then(Only(frozenset().union(*tables), columns))
            case ViaClause(side):
                return context.then(Opened(self.link_named(side, standby=True), both=False))
            case BothWaysClause(side):
                return context.then(Opened(self.link_named(side, standby=False), both=True))
            case KeepWhereClause() | KeepBestClause():
                return self._keep(context, change)
            case CalendarClause(step, on):
                return context.then(Moved(on.parts[0] if on else "", step))
            case PinEdgeClause(edge, name):
                return context.then(Edge(edge, *name.parts))
            case PinNoMatchClause(name):
                table, column = (*name.parts, "")[:2]
                return context.then(Pinned(table, column)).plus(
                    Filter("pin", table, None, lambda row: row[1] == NO_MATCH)
                )
            case PinNullClause(name):
                table, column = name.parts
                test = lambda row: row[1] != NO_MATCH and self.value(row, column) is None  # noqa: E731
                one = Filter("pin", table, frozenset([column]), test, frozenset([(table, column)]))
                return context.then(Pinned(table, column)).plus(one)
            case PinClause(name, operands):
                table, column = name.parts
                values = [scalar(each, lambda name: context.lets[name.parts[0]]) for each in operands]

                def test(row: Any) -> bool:
                    return _logic("or", [_compare("=", self.value(row, column), each) for each in values]) is True

                one = Filter("pin", table, frozenset([column]), test, frozenset([(table, column)]))
                return context.then(Pinned(table, column)).plus(one)
        raise AssertionError(change)

    def link_named(self, side: ManySide, standby: bool) -> Link:
        """The one relationship whose many side is exactly these columns; of a many-to-many, either side."""
        named = side.table.parts[0], {name.parts[0] for name in side.columns}
        (link,) = [
            each for each in self.links
            if (each.standby or not standby)
            and (named == (each.many, set(each.many_columns))
                 or (each.kind == "many_to_many" and named == (each.one, set(each.one_columns))))
        ]  # fmt: skip
        return link

    def upstream(self, table: str, context: Context) -> set[str]:
        return {other for other, level in self.paths(table, context, filters=False) if not level}

    def ignored(self, name: Name, context: Context) -> Event:
        """What an ``ignoring`` is about."""
        if len(name.parts) == 2:
            return Ignored(column=(*name.parts,))
        (word,) = name.parts
        if word in ("all", "axes", "rows", "columns", "innermost", "row"):
            return IgnoredWord(word)
        return Ignored(frozenset(self.upstream(word, context)))

    def _keep(self, context: Context, change: KeepWhereClause | KeepBestClause) -> Context:
        grain = change.grain.parts
        best = isinstance(change, KeepBestClause)
        orderings = change.by if isinstance(change, KeepBestClause) else ()
        formula = orderings[0].formula if orderings else change.condition
        aside = context
        if best:
            chain = self.chain(grain[0], context)
            aside = context.without(lambda each: each.kind in ("axis", "member", "row") and each.table in chain)
        grains = [grain] if len(grain) == 2 else grain[0]
        kept = self.grain_members(grains, aside, self.sources([formula]))
        values = [(member, self.evaluate(formula, inner), inner) for member, inner in kept]
        if isinstance(change, KeepBestClause):
            chosen = self.best(change, values)
        else:
            chosen = [member for member, value, _ in values if value is True]
        asked = [each.formula for each in orderings] or [formula]
        bears = tuple(self.bearing(asked, self.inner_of(grains, aside, self.sources([formula]))))
        if len(grain) == 2:
            table, column = grain
            test = lambda row: row[1] != NO_MATCH and self.value(row, column) in [each[0] for each in chosen]  # noqa: E731
            return context.plus(Filter("keep", table, frozenset([column]), test, frozenset([grain]), bears=bears))
        return context.plus(Filter("keep", grain[0], None, lambda row: row[1] in chosen, bears=bears))

    def best(self, change: KeepBestClause, values: list[tuple[Any, Any, Context]]) -> list[Any]:
        """The best members: those with fewer than a number of better ones; further parts break ties."""
        ranked = [
            (member, [self.order_value(each.formula, self.evaluate(each.formula, inner)) for each in change.by])
            for member, value, inner in values
            if value is not None
        ]
        largest = [change.edge == "top", *(each.descending for each in change.by[1:])]

        def better(one: list[Any], other: list[Any]) -> bool:
            for mine, theirs, down in zip(one, other, largest, strict=True):
                if mine is None or theirs is None:
                    if (mine is None) != (theirs is None):
                        return theirs is None
                elif mine != theirs:
                    return mine > theirs if down else mine < theirs
            return False

        return [member for member, own in ranked if sum(better(other, own) for _, other in ranked) < change.number]

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

    def steps_of(self, table: str, context: Context) -> dict[str, list[Step]]:
        found = self.calendars_of(table, context)
        result: dict[str, list[Step]] = {}
        for name, change, gone in context.steps:
            name = name or (found[0] if found else "")
            if name in found and name not in gone:
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
            return each.kind in ("row", "member", "dates") or each.keeps
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
        self, calendar: str, steps: list[Step], context: Context, source: str, ends: list[str]
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
            held = moved(sorted(every), held, step)
        chosen = _chosen(periods, steps)
        test = lambda row: row[1] != NO_MATCH and self.value(row, key) in held  # noqa: E731
        return Filter("dates", calendar, None, test, chosen=chosen), periods

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
                context = context.then(CarriedOut(calendar, tuple(periods))).plus(dates)
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
            for at, step in enumerate(steps):
                # A move needs a period: a filter, or one that a step before it makes.
                stuck = stuck or (isinstance(step, Shift) and not _chosen(periods, steps[:at]))
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
        for word, table, column in context.edges:
            path = self.path(source, table, frozenset([column]), context, filters=True)
            if path is None or rows is None:
                continue
            values = {row: self.reached_values(row, path, column, reached) for row in rows}
            known = [value for found in values.values() for value in found]
            best = (min if word == "first" else max)(known) if known else None
            # It is a filter from here on: what the next pin reaches passes it.
            test = lambda row, column=column, best=best: best is not None and self.value(row, column) == best  # noqa: E731
            reached.append((path, Filter("pin", table, frozenset([column]), test)))
            rows = self.visible(source, reached)
        return rows, bearing

    def reached_values(self, row: Row, path: Path, column: str, filters: list[tuple[Path, Filter]]) -> list[Any]:
        rows = [row]
        for passed, step in enumerate(path, 1):
            rows = [other for one in rows for other in self.found(one, step)]
            beyond = [(way[passed:], each) for way, each in filters if way[:passed] == path[:passed]]
            rows = [other for other in rows if self.passes(other, beyond)]
        return [value for value in (self.value(other, column) for other in rows) if value is not None]


def _chosen(periods: list[Filter], steps: list[Step]) -> bool:
    filtered = any(each.kind != "dates" or each.chosen for each in periods)
    return filtered or any(isinstance(step, Trailing) or (isinstance(step, ToDate) and step.unit) for step in steps)


def replace_test(one: Filter, test: Callable[[Row], bool]) -> Filter:
    return replace(one, test=test)


def _bare(node: Syntax) -> Iterator[str]:
    if isinstance(node, Name) and len(node.parts) == 1:
        yield node.parts[0]
    for child in children(node):
        yield from _bare(child)


def _no_match_tables(node: Syntax) -> Iterator[str]:
    if isinstance(node, Operation) and node.operator == "is_no_match":
        yield node.operands[0].parts[0]
    if isinstance(node, Call) and node.function not in FUNCTIONS:
        return  # an aggregate inside has rows of its own
    for child in children(node):
        yield from _no_match_tables(child)


def _tests_no_match(node: Syntax) -> bool:
    return any(True for _ in _no_match_tables(node))
