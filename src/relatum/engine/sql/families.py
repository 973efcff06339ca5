"""Aggregates that share one pass over the rows: those with the same bounds, split by what distinguishes cells.

The rows are grouped once, as finely as the finest of them needs; the rest are put together from these groups.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence

from msgspec import Struct, field
from msgspec.structs import replace
from sqlglot import exp

from relatum.engine.sql.aggregates import AGGREGATE_FORMS, Given, Merge, Merging, Whole
from relatum.engine.sql.parts import Parts
from relatum.engine.sql.rows import At, Key, Rows, key_columns
from relatum.engine.sql.seen import Entry, Seen, Seer, SetRelation, key_in
from relatum.engine.sql.sheet import KeyColumn
from relatum.engine.sql.terms import Sql, aliased, all_of, any_of, case, column, equal, less, none_without_rows, number
from relatum.language.register import AGGREGATES
from relatum.model.routes import Place, Route, reach_of
from relatum.plan.nodes import Aggregation, DateSet, Hidden, Kept, Match, Restriction


class _Coded(Struct, frozen=True):
    """Something every row has: a member of ``table.column`` along a route, or its row number."""

    route: Route
    table: str
    column: str
    date: bool = False


class Shared(Struct, frozen=True, eq=False):
    """Where an aggregate's values are: a relation, what cells are compared by, and the column of the value."""

    name: str
    entries: tuple[tuple[Entry, KeyColumn], ...]
    value: str


class _Merged(Struct, frozen=True, eq=False):
    """What an aggregate of coarser groups is put together from: the columns of its parts, and that of its rows.

    The rows are counted where SQL has zero without them, and the aggregate has conditions of its own.
    """

    given: Given
    parts: list[tuple[str, Merge]]
    rows: str = ""


class _Base(Struct, eq=False):
    """Rows grouped once: by which columns, and the aggregates made of the groups.

    They can be under different conditions.
    """

    columns: frozenset[_Coded]
    nodes: list[Aggregation] = field(default_factory=list)
    name: str = ""
    keys: dict[_Coded, tuple[Key, KeyColumn]] = field(default_factory=dict)
    #: For each aggregate its own value, or its parts with how they merge.
    values: dict[Aggregation, str] = field(default_factory=dict)
    merged: dict[Aggregation, _Merged] = field(default_factory=dict)

    def conditions(self) -> tuple[tuple[Restriction, ...], dict[Aggregation, tuple[Restriction, ...]]]:
        """The conditions that all aggregates have, and those that each has besides."""
        first, *others = (node.bounds.restrictions for node in self.nodes)
        common = tuple(each for each in first if all(each in other for other in others))
        own = {node: tuple(each for each in node.bounds.restrictions if each not in common) for node in self.nodes}
        return common, own


SetOf = Callable[[DateSet | Kept | Hidden, Place], SetRelation]


class Families:
    """Finds which aggregates of a plan share a pass, and makes it.

    Parameters
    ----------
    parts : Parts
        What selects are made of.
    set_of : callable
        The relation of a set of dates or members that is the same for all cells.
    """

    def __init__(self, parts: Parts, set_of: SetOf) -> None:
        self.parts = parts
        self.set_of = set_of
        self._bases: dict[Aggregation, _Base] = {}

    def prepare(self, nodes: Iterable[Aggregation]) -> None:
        """Say in advance which aggregates a plan has."""
        families: dict[object, list[Aggregation]] = {}
        for node in dict.fromkeys(nodes):
            if _shares(node):
                families.setdefault((node.bounds.source, node.bounds.restrictions, node.bounds.kept), []).append(node)
        bases = [base for family in families.values() for base in self._divide(family)]
        for base in _united(bases):
            self._bases.update(dict.fromkeys(base.nodes, base))

    def _divide(self, family: Sequence[Aggregation]) -> list[_Base]:
        """Each aggregate to the groups that it is made of: its own where all its rows are needed at once."""
        wanted = {node: _columns(node) for node in family}
        bases = {columns: _Base(columns) for columns in dict.fromkeys(wanted.values())}
        finest = [one for one in bases if not any(_covers(other, one) and other != one for other in bases)]
        for node, columns in wanted.items():
            if isinstance(AGGREGATE_FORMS[node.function], Whole):
                chosen = columns
            else:
                chosen = next((each for each in finest if _covers(each, columns)), columns)
            bases[chosen].nodes.append(node)
        return [base for base in bases.values() if base.nodes]

    def has(self, node: Aggregation) -> bool:
        """Whether an aggregate shares a pass."""
        return node in self._bases

    def shared(self, node: Aggregation) -> Shared:
        """Where the values of an aggregate are."""
        base = self._bases[node]
        if not base.name:
            self._make(base)
        entries = []
        if node in base.values:
            for match in node.bounds.matches:
                key, kept = base.keys[_coded(match)]
                entries.append((Entry(match.key, match.at, match.table, key.type), kept))
            return Shared(base.name, tuple(entries), base.values[node])
        return self._put_together(node, base)

    # -- the pass -----------------------------------------------------------------------------------------------------

    def _make(self, base: _Base) -> None:
        first = base.nodes[0].bounds
        codeds = sorted(base.columns, key=lambda each: (len(each.route), each.table, each.column, str(each.route)))
        common, own = base.conditions()
        bounds = replace(first, matches=(), dates=(), restrictions=common)
        extra = [Match(-1, (), each.route, each.table, each.column) for each in codeds]
        seen = Seer(self.parts, self.set_of).see(bounds, extra)
        columns: list[Sql] = []
        for at, (coded, key) in enumerate(zip(codeds, seen.extra, strict=True)):
            made, kept = key_columns(key, f"g{at}")
            columns += made
            base.keys[coded] = key, kept
        grouped = len(columns)
        known: dict[str, str] = {}
        for node in base.nodes:
            columns += self._aggregated(base, node, own[node], seen, known)
        alternatives = dict.fromkeys(own.values())
        if len(alternatives) > 1 and all(alternatives):
            seen.rows.where.append(any_of(_fulfilled(seen, each) for each in alternatives))
        hint = f"{first.source}_by_{'_'.join(each.column or each.table for each in codeds)}" if codeds else first.source
        select = seen.rows.select(*columns, grouped=grouped)
        if not grouped:
            none_without_rows(select)
        base.name = self.parts.sheet.add(hint, select)

    def _aggregated(
        self, base: _Base, node: Aggregation, besides: tuple[Restriction, ...], seen: Seen, known: dict[str, str]
    ) -> list[Sql]:
        """The columns of an aggregate: its value where the groups are its own, else the parts that merge.

        ``besides`` are the conditions that it does not share with all others.
        """
        rows = seen.rows
        stored = self.parts.stored(node.bounds.source)
        row = stored.row if node.function == "sole_row" else stored.order
        leaf = rows.reader(seen.start)
        values = [rows.value(argument, leaf) for argument in node.arguments]
        given = Given(self.parts.dialect, values, node.type, node.fraction, lambda: row(seen.start.alias))
        form = AGGREGATE_FORMS[node.function]
        own = _columns(node) == base.columns and not node.bounds.dates
        if isinstance(form, Whole):
            return [self._named(base.values, node, form.form(given), known)]
        condition = _fulfilled(seen, besides) if besides else None
        parts = [(_of_rows(part, condition), merge) for part, merge in form.parts(given)]
        counted: list[tuple[Sql, Merge]] = []
        if condition is not None and node.function == "count_rows":
            parts = [(exp.Nullif(this=part, expression=number(0)), merge) for part, merge in parts]
        elif condition is not None and AGGREGATES[node.function].empty == "zero":
            counted = [(_of_rows(exp.Count(this=exp.Star()), condition), "sum")]
        if own:
            value = _with_rows(form.finish(given, [part for part, _ in parts]), [part for part, _ in counted])
            return [self._named(base.values, node, value, known)]
        columns, names = [], []
        for part, merge in (*parts, *counted):
            text = f"{merge} {part.sql()}"
            if text not in known:
                known[text] = f"p{len(known)}"
                columns.append(aliased(part, known[text]))
            names.append((known[text], merge))
        base.merged[node] = _Merged(given, names[: len(parts)], names[-1][0] if counted else "")
        return columns

    def _named(self, values: dict[Aggregation, str], node: Aggregation, sql: Sql, known: dict[str, str]) -> Sql:
        name = f"v{len(known)}"
        known[f"value {len(known)}"] = name
        values[node] = name
        return aliased(sql, name)

    # -- putting together ---------------------------------------------------------------------------------------------

    def _put_together(self, node: Aggregation, base: _Base) -> Shared:
        """An aggregate of groups finer than it needs: by fewer columns, or by dates that have been moved."""
        alias = self.parts.alias("grouped")
        rows = Rows(self.parts, alias, self.parts.sheet.table(base.name, alias))
        entries: list[tuple[Entry, Key]] = []
        for dates in node.bounds.dates:
            entries += self._join_dates(rows, alias, base, dates)
        for match in node.bounds.matches:
            key = self._key(rows, alias, base, match)
            entries.append((Entry(match.key, match.at, match.table, key.type), key))
        columns: list[Sql] = []
        made = []
        for at, (entry, key) in enumerate(entries):
            own, kept = key_columns(key, f"g{at}")
            columns += own
            made.append((entry, kept))
        grouped = len(columns)
        merged = base.merged[node]
        form = AGGREGATE_FORMS[node.function]
        assert isinstance(form, Merging), "only what merges is put together"
        parts = [_merged(self.parts, merged.given, column(alias, name), merge) for name, merge in merged.parts]
        counted: list[Sql] = [exp.Sum(this=column(alias, merged.rows))] if merged.rows else []
        value = _with_rows(form.finish(merged.given, parts), counted)
        select = rows.select(*columns, aliased(value, "v"), grouped=grouped)
        if not grouped:
            none_without_rows(select)
        hint = f"{node.function}_of_{node.bounds.source}{'_moved' if node.bounds.dates else ''}"
        return Shared(self.parts.sheet.add(hint, select), tuple(made), "v")

    def _join_dates(self, rows: Rows, alias: str, base: _Base, dates: DateSet) -> list[tuple[Entry, Key]]:
        held = self.set_of(dates, Place(dates.calendar.table))
        own = self.parts.alias("held")
        _, kept = base.keys[_dated(dates)]
        on = [equal(column(alias, kept.value), column(own, held.member[0]))]
        if kept.state is not None:
            on.append(equal(column(alias, kept.state), number(0)))
        rows.join(self.parts.sheet.table(held.name, own), on, left=False)
        return [(entry, key_in(own, each, entry.type)) for entry, each in held.entries]

    def _key(self, rows: Rows, alias: str, base: _Base, match: Match) -> Key:
        coded = _coded(match)
        if coded in base.keys:
            key, kept = base.keys[coded]
            return key_in(alias, kept, key.type)
        anchor = next(each for each in base.keys if _leads(each, coded))
        _, kept = base.keys[anchor]
        here = self._anchored(rows, alias, anchor, kept)
        return rows.key_along(here, replace(match, route=match.route[len(anchor.route) :]))

    def _anchored(self, rows: Rows, alias: str, anchor: _Coded, kept: KeyColumn) -> At:
        """The row of a calendar that a date of the groups is."""
        name = f"{anchor.table}_of_{anchor.column}"
        known = rows.anchors.get(name)
        if known is not None:
            return known
        own = self.parts.alias(anchor.table)
        there = At(own, Place(anchor.table))
        on = [equal(column(alias, kept.value), rows.column(there, anchor.column).sql)]
        if kept.state is not None:
            on.append(equal(column(alias, kept.state), number(0)))
        rows.join(self.parts.stored(anchor.table).relation(own), on, left=True)
        probe = None if kept.state is None else lambda: rows.column(there, anchor.column).sql
        rows.anchors[name] = At(own, Place(anchor.table), probe)
        return rows.anchors[name]


def _merged(parts: Parts, given: Given, sql: Sql, merge: Merge) -> Sql:
    if merge == "sum":
        return exp.Sum(this=sql)
    return parts.dialect.smallest(sql, given.first.type if given.values else given.type, merge == "max")


def _united(bases: Iterable[_Base]) -> list[_Base]:
    """The bases, those that differ by conditions alone put together: one pass serves all."""
    found: dict[object, _Base] = {}
    for base in bases:
        bounds = base.nodes[0].bounds
        alone = not all(isinstance(AGGREGATE_FORMS[node.function], Merging) for node in base.nodes)
        alone = alone or any(reach_of(each.route) >= 0 for each in bounds.restrictions)
        key = (bounds.source, bounds.kept, base.columns, bounds.restrictions if alone else None)
        found.setdefault(key, _Base(base.columns)).nodes.extend(base.nodes)
    return list(found.values())


def _fulfilled(seen: Seen, restrictions: Iterable[Restriction]) -> Sql:
    """That rows fulfil conditions."""
    return all_of(seen.rows.fulfils(seen.start, each) for each in restrictions)


def _of_rows(part: Sql, condition: Sql | None) -> Sql:
    """A part of an aggregate, of the rows that fulfil a condition."""
    if condition is None:
        return part

    assert part.find(exp.AggFunc), "a part of an aggregate is one of SQL's aggregates"

    def filtered(each: Sql) -> Sql:
        if not isinstance(each, exp.AggFunc):
            return each
        return exp.Filter(this=each, expression=exp.Where(this=condition.copy()))

    return part.transform(filtered)


def _with_rows(value: Sql, counted: Sequence[Sql]) -> Sql:
    """A value where there are rows, if these are counted."""
    return case([(less(number(0), each), value) for each in counted]) if counted else value


def _coded(match: Match) -> _Coded:
    return _Coded(match.route, match.table, match.column)


def _dated(dates: DateSet) -> _Coded:
    return _Coded(dates.route, dates.calendar.table, dates.calendar.date_column, True)


def _columns(node: Aggregation) -> frozenset[_Coded]:
    return frozenset([*map(_coded, node.bounds.matches), *map(_dated, node.bounds.dates)])


def _leads(anchor: _Coded, other: _Coded) -> bool:
    """Whether a calendar's date settles something that its row has or looks up."""
    if not anchor.date:
        return False
    beyond = other.route[: len(anchor.route)] == anchor.route
    return beyond and (len(other.route) > len(anchor.route) or bool(other.column and other.table == anchor.table))


def _covers(finer: frozenset[_Coded], coarser: frozenset[_Coded]) -> bool:
    """Whether groups by some columns can be put together to groups by others."""
    return all(each in finer or any(_leads(anchor, each) for anchor in finer) for each in coarser)


def _shares(node: Aggregation) -> bool:
    """Whether an aggregate's rows are the same for all cells, and each in one group of any grouping."""
    bounds = node.bounds
    routes: list[Route] = [each.route for each in bounds.matches]
    routes += [each.route for each in bounds.dates]
    if bounds.pinned or any(
        isinstance(each, Hidden) or (each.match.route and reach_of(each.match.route) >= 0) for each in bounds.kept
    ):
        return False
    if bounds.dates and isinstance(AGGREGATE_FORMS[node.function], Whole):
        return False
    if any(each.route and each.route[-1].target.level for each in bounds.dates):
        return False
    return all(reach_of(route) < 0 for route in routes)
