"""Scans of the rows that bounds leave visible: grouped by what cells match on, shared under equal bounds."""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator, Mapping, Sequence
from functools import lru_cache
from types import MappingProxyType

import numpy as np
from msgspec import Struct
from msgspec.structs import replace
from numpy.typing import NDArray

from relatum.data import groups as grouping
from relatum.data.columns import Array, narrow_codes
from relatum.data.groups import Links, number_groups
from relatum.data.types import BOOLEAN
from relatum.engine.memory.aggregates import DistinctCode, MemberCode, RowNumber, RowValue
from relatum.engine.memory.filters import CodeTest, Marks, PartTest, RowFilter, narrowed, part_test
from relatum.engine.memory.folds import CountFold, FoldKind
from relatum.engine.memory.groups import Groups
from relatum.engine.memory.rows import Chunk, RowReader
from relatum.engine.memory.scan import Scan
from relatum.engine.memory.scan_task import ScanTask
from relatum.engine.memory.scanned import (
    Coded,
    Prepared,
    Scanned,
    argument_of,
    coded,
    folds_of,
    held_by,
    needs_rows,
    row_values,
)
from relatum.engine.memory.store import MemoryStore, RowCodes
from relatum.immutable import Immutable
from relatum.language.expression import Apply, ColumnValue, Expression, FilterPart, applications, columns_in
from relatum.language.register import CAST
from relatum.model.names import ColumnKey, column_name
from relatum.model.routes import Place, Route, joined_by, reach_of
from relatum.plan.engine import Loss, LostCast, LostCondition, LostLookup
from relatum.plan.nodes import Aggregation, Bounds, Kept, Match, Restriction
from relatum.plan.reads import reads_of
from relatum.runtime.progress import report_scan

#: For each code whether it is that of a member that is kept.
Mark = NDArray[np.bool_]


class Among(Immutable, frozen=True):
    """That only rows of some members are looked at, those that matter to what is tested for kept ones."""

    match: Match
    kept: Kept


class Found(Struct, frozen=True, eq=False):
    """Groups led on to cells: the first columns of ``groups`` are compared with ``cells``, others are extra keys."""

    scanned: Scanned
    groups: Groups
    cells: list[Array]
    extra: int


class Scans:
    """Carries out scans for a plan: aggregations with the same bounds share one.

    Parameters
    ----------
    store : MemoryStore
        The data.
    """

    def __init__(self, store: MemoryStore) -> None:
        self.store = store
        self.done: dict[_Share, Scanned] = {}
        self._wanted: dict[_Share, list[tuple[Aggregation, tuple[Coded, ...]]]] = {}

    # -- codes --------------------------------------------------------------------------------------------------------

    def size(self, key: Coded) -> int:
        """How many codes there are."""
        if key.reach is not None:
            return self.store.key_links(key.reach).count + 1
        if key.column:
            return self.store.members(key.table, key.column).size
        place = key.route[-1].target if key.route else Place(key.table)
        return self.store.rows(place) + 1

    def row_codes(self, source: str, key: Coded) -> RowCodes:
        """The code of each row of a source, along a route without reach."""
        if key.reach is not None:
            links = self.store.key_links(key.reach)
            if not key.route:
                return RowCodes(links.keys, None)
            keys = narrow_codes(np.append(links.keys.astype(np.int64), links.count), links.count + 1)
            return RowCodes(keys, self.store.route_index(key.route).positions)
        if key.column:
            return self.store.row_codes(key.route, key.table, key.column)
        if key.route:
            return RowCodes(self.store.route_index(key.route).positions, None)
        rows = self.store.rows(Place(source))
        codes = self.store.work.keep_lately(("rows", rows), (), lambda: narrow_codes(np.arange(rows), rows + 1))
        return RowCodes(codes, None)

    # -- scanning -----------------------------------------------------------------------------------------------------

    def want(
        self, aggregation: Aggregation, keys: tuple[Coded, ...], marked: frozenset[Kept | Among], family: object
    ) -> None:
        """Say in advance what will be asked, so that one scan can serve it with others of its family."""
        known = self._wanted.setdefault(self._share(aggregation.bounds, marked, family), [])
        if (aggregation, keys) not in known:
            known.append((aggregation, keys))

    def _share(self, bounds: Bounds, marked: frozenset[Kept | Among], family: object) -> _Share:
        return bounds.source, bounds.restrictions, marked, family

    def groups(
        self, aggregation: Aggregation, keys: tuple[Coded, ...], marks: Marked, family: object
    ) -> tuple[Scanned, Groups]:
        """The groups of an aggregation's rows by coded columns; of the rows that have kept members, if any are given.

        Parameters
        ----------
        aggregation : Aggregation
            What is folded over the rows.
        keys : tuple of Coded
            What the groups are by.
        marks : mapping of Kept or Among to numpy.ndarray of bool
            For each code of what a kept member is matched by, whether it is kept (or matters).
        family : hashable
            Aggregations of one family share a scan.
        """
        marked = frozenset(marks)
        share = self._share(aggregation.bounds, marked, family)
        scanned = self.done.get(share)
        if scanned is None or not self._serves(scanned, aggregation, keys):
            known = self._of_kept(aggregation, keys, marks)
            if known is not None:
                return known
            self.want(aggregation, keys, marked, family)
            scanned = self.done[share] = self._scan(self._wanted[share], marks)
        return scanned, scanned.groups(keys, self.size)

    def _of_kept(
        self, aggregation: Aggregation, keys: tuple[Coded, ...], marks: Marked
    ) -> tuple[Scanned, Groups] | None:
        """The groups of the rows that have kept members, out of groups by these members that a scan has made already.

        A formula by which members are kept is often the one that is asked of them. It serves where each member has one
        code of every key.
        """
        bounds = aggregation.bounds
        for kept, mark in marks.items():
            base = coded(kept.match)
            if needs_rows(aggregation) or not all(self._follows(key, base) for key in keys):
                continue
            others = frozenset(marks) - {kept}
            for (source, restrictions, tested, _), scanned in self.done.items():
                same = (source, restrictions, tested) == (bounds.source, bounds.restrictions, others)
                if same and self._serves(scanned, aggregation, (base,)):
                    groups = scanned.groups((base,), self.size)
                    groups = groups.selected(mark[groups.codes[0]])
                    codes = [self._codes_behind(base, key, groups.codes[0]) for key in keys]
                    wide = Groups(codes, list(map(self.size, keys)), groups.folds, None, groups.columns)
                    return scanned, wide if base in keys else wide.merged()
        return None

    def _serves(self, scanned: Scanned, aggregation: Aggregation, keys: tuple[Coded, ...]) -> bool:
        return (
            all(map(scanned.has, keys))
            and all(value in scanned.numbers for value in row_values(aggregation))
            and all(fold in scanned.folds for fold in folds_of(aggregation, scanned.numbers))
            and (not needs_rows(aggregation) or scanned.result.groups is not None)
        )

    def _scan(self, wanted: list[tuple[Aggregation, tuple[Coded, ...]]], marks: Marked) -> Scanned:
        if marks:
            # Which members are kept is found out by each question.
            prepared = self._prepared(wanted, marks)
        else:
            prepared = self.store.work.keep_lately(
                ("scan", tuple(wanted)), self._stamps(wanted), lambda: self._prepared(wanted, marks)
            )
        task = prepared.scan.task
        result = prepared.scan.run()
        report_scan(prepared.source, task.rows, result.way)
        if marks and any(argument.lookups for argument in task.arguments):
            # Rows that a lookup leaves out are counted among all rows, whatever members are kept.
            counted = replace(task, marks=(), keys=(), folds=[("count", None)], keep=False)
            result.lost = Scan(counted).run().lost
        return Scanned(prepared, result)

    def _stamps(self, wanted: Sequence[tuple[Aggregation, tuple[Coded, ...]]]) -> tuple[object, ...]:
        """The stamps of all that a scan reads."""
        tables, columns = _read_by(tuple(wanted))
        store = self.store
        return (*(store.tables.data[table] for table in tables), *(store.stamp(*column) for column in columns))

    def _prepared(self, wanted: Sequence[tuple[Aggregation, tuple[Coded, ...]]], marks: Marked) -> Prepared:
        bounds = wanted[0][0].bounds
        source = bounds.source
        reader = RowReader(self.store, source)
        every = list(dict.fromkeys(key for _, all_keys in wanted for key in all_keys))
        settled = {key: (base, self._settled_codes(base, key)) for key, base in self._settling(every).items()}
        keys = [key for key in every if key not in settled]
        numbers: dict[RowValue, int] = {}
        folds: dict[tuple[FoldKind, int | None], int] = {("count", None): 0}
        for aggregation, _ in wanted:
            for value in row_values(aggregation):
                numbers.setdefault(value, len(numbers))
            for fold in folds_of(aggregation, numbers):
                folds.setdefault(fold, len(folds))
        task = ScanTask(
            rows=self.store.rows(Place(source)),
            tests=self.tests(reader, bounds.restrictions),
            marks=self._mark_tests(source, marks),
            keys=[(self.row_codes(source, key), self.size(key)) for key in keys],
            arguments=[argument_of(reader, value) for value in numbers],
            folds=list(folds),
            keep=any(needs_rows(aggregation) for aggregation, _ in wanted),
        )
        held = sum(held_by(reader, value) for value in numbers)
        return Prepared(source, keys, numbers, folds, settled, Scan(task), held, _casts(source, numbers, task.tests))

    def _settling(self, keys: Sequence[Coded]) -> dict[Coded, Coded]:
        """Coded columns that another one settles: an order's date and customer follow from its number."""
        settled: dict[Coded, Coded] = {}
        for key in keys:
            # Unique columns settle each other: one of them must stay, so none that this one settles already.
            base = next((each for each in keys if self._settles(each, key) and _followed(each, settled) != key), None)
            if base is not None:
                settled[key] = base
        return {key: _followed(base, settled) for key, base in settled.items()}

    def _settles(self, base: Coded, key: Coded) -> bool:
        """Whether rows with one code of ``base`` all have one code of ``key``."""
        if not base.column or not _lies_beyond(key, base):
            return False
        further = key.route[len(base.route) :]
        related = further[0].relationship if further and not further[0].turned else None
        if related is not None and related.match == "equal" and related.many.columns == (base.column,):
            return True  # the lookup is found by this very column
        return self.store.unique(base.table, base.column)

    def _follows(self, key: Coded, base: Coded) -> bool:
        """Whether one code of ``base``, be it that of a row, has one code of ``key``."""
        return key == base or self._settles(base, key) or (not base.column and _lies_beyond(key, base))

    def _codes_behind(self, base: Coded, key: Coded, codes: Array) -> Array:
        """The codes of a key that follows from ``base``, for codes of real members of that."""
        if key == base:
            return codes
        if base.column:
            return self._settled_codes(base, key)[codes]
        own = self.row_codes(base.table, stripped(key, len(base.route)))
        return own.slice(0, self.store.rows(Place(base.table)), codes)

    def _settled_codes(self, base: Coded, key: Coded) -> Array:
        """The code of one coded column for each code of another that settles it; no match has no match."""
        stamps = (self.store.stamp(base.table, base.column), *self.store.route_stamps(key.route))
        if key.column:
            stamps = (*stamps, self.store.stamp(key.table, key.column))
        return self.store.work.keep(("settled", base, key), stamps, lambda: self._settle(base, key))

    def _settle(self, base: Coded, key: Coded) -> Array:
        members = self.store.members(base.table, base.column)
        rows = np.zeros(members.size, np.int64)
        rows[members.codes] = np.arange(len(members.codes))
        own = self.row_codes(base.table, replace(key, route=key.route[len(base.route) :]))
        settled = np.full(members.size, self.size(key) - 1, np.int64)
        if len(members.codes):
            settled[:-1] = own.slice(0, len(members.codes), rows[:-1])
        return settled

    def losses(self) -> Iterator[Loss]:
        """Rows that scans left out because a lookup found nothing."""
        for scanned in self.done.values():
            values = {number: value for value, number in scanned.numbers.items()}
            source = scanned.prepared.source
            for (number, route), rows in scanned.result.lost.items():
                value = values[number]
                name = route[-1].target.table
                if rows and not isinstance(value, MemberCode | RowNumber):
                    for each in columns_in(value.value if isinstance(value, DistinctCode) else value):
                        if isinstance(each, ColumnValue) and each.table == name:
                            yield LostLookup(source, name, column_name(name, each.column), rows)
            for position, test in enumerate(scanned.prepared.scan.task.tests):
                if test.no_match is not None:
                    rows = _left_out(scanned, position)
                    if rows:
                        yield LostCondition(source, test.part.table, test.part.text, rows)
            yield from self._cast_losses(scanned)

    def _cast_losses(self, scanned: Scanned) -> Iterator[Loss]:
        """Rows on which a value did not fit the type that it was cast to."""
        for table, cast, tests in scanned.prepared.casts:
            part = FilterPart(table, None, _did_not_fit(cast), "")
            own = part_test(RowReader(self.store, table), part, ())
            rows = _counted(self.store.rows(Place(table)), [own, *tests])
            if rows:
                columns = [column_name(each.table, each.column) for each in columns_in(cast)
                           if isinstance(each, ColumnValue)]  # fmt: skip
                yield LostCast(table, " and ".join(dict.fromkeys(columns)), str(cast.type), rows)

    def tests(self, reader: RowReader, restrictions: Iterable[Restriction]) -> list[PartTest]:
        """Tests on rows for conditions, those that reach the rows through several others included."""
        tests = [part_test(reader, each.part, each.route) for each in restrictions if reach_of(each.route) < 0]
        through: dict[Route, list[Restriction]] = {}
        for each in restrictions:
            at = reach_of(each.route)
            if at >= 0:
                through.setdefault(each.route[: at + 1], []).append(replace(each, route=each.route[at + 1 :]))
        for route, parts in through.items():
            mask = self._reached(route, parts)
            codes = self.row_codes(reader.table, before(route))
            tests.append(PartTest(parts[0].part, CodeTest.of(codes, Marks.of(mask)), None))
        return tests

    def _reached(self, route: Route, parts: list[Restriction]) -> NDArray[np.bool_]:
        hop = route[-1]
        visible = self.visible_rows(hop.target.table, parts)
        links = self.store.key_links(hop)
        keys, rows = links.rows.follow(np.arange(links.count))
        mask = np.zeros(links.count + 1, np.bool_)
        mask[keys[visible[rows]]] = True
        return mask

    def _mark_tests(self, source: str, marks: Marked) -> list[CodeTest]:
        """Tests on rows for the members that are kept."""
        return [CodeTest.of(self.row_codes(source, coded(each.match)), Marks.of(mark)) for each, mark in marks.items()]

    def visible_rows(
        self, table: str, restrictions: Iterable[Restriction], marks: Marked = MappingProxyType({})
    ) -> NDArray[np.bool_]:
        """Which rows of a table pass conditions, and have the members that are kept."""
        rows = self.store.rows(Place(table))
        mask = np.ones(rows, np.bool_)
        for test in self._row_tests(table, restrictions, marks):
            mask &= test.mask(Chunk(0, rows))
        return mask

    def visible_among(self, rows: Array, table: str, restrictions: Iterable[Restriction], marks: Marked) -> Array:
        """Those of some rows of a table that pass conditions, and have the members that are kept."""
        for test in self._row_tests(table, restrictions, marks):
            rows = rows[test.mask(Chunk(0, self.store.rows(Place(table)), rows))]
        return rows

    def likely_share(self, source: str, restrictions: Iterable[Restriction]) -> float:
        """About which part of a table's rows passes conditions."""
        tests = self.tests(RowReader(self.store, source), restrictions)
        return math.prod(test.test.share for test in tests)

    def occurring(self, source: str, restrictions: Iterable[Restriction], key: Coded) -> Mark:
        """Which codes of a key occur on the rows that pass conditions; the last one, that of no match, always."""
        tests = self.tests(RowReader(self.store, source), restrictions)
        keys = [(self.row_codes(source, key), self.size(key))]
        found = Scan(ScanTask(self.store.rows(Place(source)), tests, (), keys, (), [("count", None)], False)).run()
        mark = grouping.marked(found.codes[:, 0], self.size(key))
        mark[-1] = True
        return mark

    def _row_tests(self, table: str, restrictions: Iterable[Restriction], marks: Marked) -> list[RowFilter]:
        tests = [test.test for test in self.tests(RowReader(self.store, table), restrictions)]
        return narrowed([*tests, *self._mark_tests(table, marks)])

    def reached_codes(self, hop_route: Route, keys: Sequence[Coded], restrictions: Sequence[Restriction]) -> Links:
        """For each key of a reaching hop, the distinct combinations of codes on the rows that it reaches."""
        hop = hop_route[-1]
        rows, codes = self.table_codes(hop.target.table, keys, restrictions)
        links = self.store.key_links(hop)
        owners, targets = links.rows.follow(np.arange(links.count))
        size = self.store.rows(hop.target)
        by_row = Links.of(rows, np.arange(len(rows)), size)
        positions, picked = by_row.follow(targets)
        owners = owners[positions]
        sizes = [links.count + 1, *(self.size(key) for key in keys)]
        distinct, _ = number_groups([owners, *(codes[picked, at] for at in range(len(keys)))], sizes, len(owners))
        return Links.of(distinct[:, 0], distinct[:, 1:], links.count + 1)

    def table_codes(
        self, table: str, keys: Sequence[Coded], restrictions: Sequence[Restriction]
    ) -> tuple[Array, Array]:
        """Rows of a table that pass conditions, with their codes; a row that reaches several is there for each."""
        direct, bundles = bundled(keys, restrictions)
        rows = np.flatnonzero(self.visible_rows(table, [each for each in restrictions if not _bundled(each, bundles)]))
        codes: dict[Coded, Array] = {
            key: self.row_codes(table, key).slice(0, self.store.rows(Place(table)), rows).astype(np.int64)
            for key in direct
        }
        for route, (inner, parts) in bundles.items():
            at = self.row_codes(table, before(route))
            links = self.reached_codes(route, [stripped(key, len(route)) for key in inner], parts)
            owners, found = links.follow(at.slice(0, self.store.rows(Place(table)), rows).astype(np.int64))
            rows = rows[owners]
            codes = {key: own[owners] for key, own in codes.items()}
            codes.update({key: found[:, number] for number, key in enumerate(inner)})
        wanted = [codes[key] for key in keys]
        return rows, np.stack(wanted, axis=1) if wanted else np.zeros((len(rows), 0), np.int64)


def stripped(key: Coded, hops: int) -> Coded:
    """A coded column as seen from further along its route."""
    return Coded(key.route[hops:], key.table, key.column)


#: For each set of members whether each code is that of one.
Marked = Mapping[Kept | Among, Mark]

#: What aggregations that share a scan have in common: source, conditions, kept members, family.
_Share = tuple[str, tuple[Restriction, ...], frozenset[Kept | Among], object]

Bundles = dict[Route, tuple[list[Coded], list[Restriction]]]


def bundled(keys: Sequence[Coded], restrictions: Sequence[Restriction]) -> tuple[list[Coded], Bundles]:
    """Coded columns at hand, and those beyond reaching hops with the conditions that travel the same way."""
    direct = [key for key in keys if reach_of(key.route) < 0]
    bundles: Bundles = {}
    if len(direct) == len(keys):
        return direct, bundles
    for key in keys:
        at = reach_of(key.route)
        if at >= 0:
            bundles.setdefault(key.route[: at + 1], ([], []))[0].append(key)
    for each in restrictions:
        at = reach_of(each.route)
        if at >= 0 and each.route[: at + 1] in bundles:
            bundles[each.route[: at + 1]][1].append(replace(each, route=each.route[at + 1 :]))
    return direct, bundles


def _bundled(each: Restriction, bundles: Bundles) -> bool:
    at = reach_of(each.route)
    return at >= 0 and each.route[: at + 1] in bundles


def _lies_beyond(key: Coded, base: Coded) -> bool:
    """Whether a key is of the very rows that have the codes of ``base``, or of what these look up."""
    if base == key or base.reach is not None or key.reach is not None:
        return False
    if reach_of(base.route) >= 0 or (base.route and base.route[-1].target.level):
        return False
    return key.route[: len(base.route)] == base.route


def _followed(base: Coded, settled: Mapping[Coded, Coded]) -> Coded:
    while base in settled:
        base = settled[base]
    return base


def _left_out(scanned: Scanned, position: int) -> int:
    """How many rows a condition leaves out because they found nothing."""
    task = scanned.prepared.scan.task
    test = task.tests[position]
    assert test.no_match is not None
    others = [other for number, other in enumerate(task.tests) if number != position]
    return _counted(task.rows, [PartTest(test.part, test.no_match, None), *others])


def _counted(rows: int, tests: list[PartTest]) -> int:
    """How many of a table's rows pass tests."""
    (fold,) = Scan(ScanTask(rows, tests, (), (), (), [("count", None)], False)).run().folds
    assert isinstance(fold, CountFold)
    return int(fold.counts.sum())


def _did_not_fit(cast: Apply) -> Expression:
    """Whether a value is there and what it was cast to is not."""
    value = Apply("is_null", (cast.arguments[0],), BOOLEAN)
    return Apply("and", (Apply("is_null", (cast,), BOOLEAN), Apply("not", (value,), BOOLEAN)), BOOLEAN)


def before(route: Route) -> Coded:
    """The keys by which rows reach many others along a route's last hop."""
    return Coded(route[:-1], route[-1].source.table, "", route[-1])


@lru_cache(maxsize=1024)
def _read_by(
    wanted: tuple[tuple[Aggregation, tuple[Coded, ...]], ...],
) -> tuple[tuple[str, ...], tuple[ColumnKey, ...]]:
    """The tables and columns that a scan reads."""
    reads = [reads_of(aggregation) for aggregation, _ in wanted]
    columns = dict.fromkeys(column for each in reads for column in each.columns)
    tables = dict.fromkeys(table for each in reads for table in each.tables)
    for key in dict.fromkeys(key for _, keys in wanted for key in keys):
        hops = key.route if key.reach is None else (*key.route, key.reach)
        columns.update(dict.fromkeys(joined_by(hops)))
        tables.update(dict.fromkeys(place.table for hop in hops for place in (hop.source, hop.target)))
        if key.column:
            columns[key.table, key.column] = None
    return tuple(tables), tuple(columns)


def _casts(
    source: str, values: Iterable[RowValue], tests: Sequence[PartTest]
) -> tuple[tuple[str, Apply, list[PartTest]], ...]:
    """The casts that a scan carries out, with the table whose rows they are of, and the tests that leave these.

    A constant that does not fit is the formula's own matter.
    """
    found = [
        (source, each, list(tests))
        for value in values
        if not isinstance(value, MemberCode | DistinctCode | RowNumber)
        for each in applications(CAST, value)
    ]
    for test in tests:
        table = test.part.table
        others = [other for other in tests if other is not test] if table == source else []
        found += [(table, each, others) for each in applications(CAST, test.part.expression)]
    return tuple(each for each in found if columns_in(each[1]))
