"""Scans of the rows that bounds leave visible: grouped by what cells match on, shared where bounds are alike."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from relatum.data.columns import Array, Column, narrow_codes
from relatum.data.types import BOOLEAN, FLOAT, INTEGER
from relatum.engine.memory.filters import CodeTest, PartTest, part_test
from relatum.engine.memory.frames import Links, number_groups
from relatum.engine.memory.groups import Groups
from relatum.engine.memory.rows import Chunk, RowReader
from relatum.engine.memory.scan import Argument, ScanResult, ScanTask, run_scan
from relatum.engine.memory.store import RowCodes, Store
from relatum.language.catalog import Catalog
from relatum.language.expression import Apply, ColumnValue, Constant, Expression
from relatum.model.routes import Place, Route
from relatum.plan.nodes import Aggregation, Bounds, Match, Restriction

COLLECTED = frozenset(
    {"distinct", "median", "percentile", "stddev", "variance", "stddev_pop", "variance_pop", "first", "last"}
)
#: Stand for the code of a column's member, in which null counts as a value, and for the number of a row.
_MEMBER_CODE, _ROW_NUMBER = "member code", "row number"
FOLDS = {
    "rows": (),
    "count": ("count",),
    "sum": ("sum", "count"),
    "avg": ("sum", "count"),
    "weighted": ("sum", "count"),
    "min": ("min", "count"),
    "max": ("max", "count"),
    "sole": ("min", "max"),
    "sole row": ("min", "max"),
}


@dataclass(frozen=True, slots=True)
class Coded:
    """Something that every row of a source has a code of: a member of ``table.column``, or a row of ``table``."""

    route: Route
    table: str
    column: str


def coded(match: Match) -> Coded:
    """What a match compares."""
    return Coded(match.route, match.table, match.column)


def reach_of(route: Route) -> int:
    """The position of the first hop of a route that reaches many rows; -1 where each row finds one."""
    return next((at for at, hop in enumerate(route) if hop.reach), -1)


@dataclass(slots=True, eq=False)
class Scanned:
    """One pass over a table, and what it was asked for."""

    bounds: Bounds
    keys: list[Coded]
    tests: list[PartTest]
    numbers: dict[Expression, int]
    folds: dict[tuple[str, int | None], int]
    rows: int
    result: ScanResult

    def groups(self, wanted: Sequence[Coded], sizes: Sequence[int]) -> Groups:
        """The groups by some of the coded columns."""
        codes = self.result.codes
        every = Groups(
            [codes[:, at] for at in range(len(self.keys))],
            list(sizes),
            self.result.folds,
            self.result.groups,
            self.result.columns,
        )
        return every.rolled_up([self.keys.index(each) for each in wanted])


class Scans:
    """Carries out scans for a plan: aggregations whose rows are bounded alike share one.

    Parameters
    ----------
    store, catalog
        The data, and what it is called.
    """

    def __init__(self, store: Store, catalog: Catalog) -> None:
        self.store = store
        self.catalog = catalog
        self.done: dict[object, Scanned] = {}
        self._wanted: dict[object, list[tuple[Aggregation, tuple[Coded, ...]]]] = {}

    # -- codes --------------------------------------------------------------------------------------------------------

    def size(self, key: Coded) -> int:
        """How many codes there are."""
        if key.column:
            return self.store.members(key.table, key.column).size
        place = key.route[-1].target if key.route else Place(key.table)
        return self.store.rows(place) + 1

    def row_codes(self, source: str, key: Coded) -> RowCodes:
        """The code of each row of a source, along a route without reach."""
        if key.column:
            return self.store.row_codes(key.route, key.table, key.column)
        if key.route:
            return RowCodes(self.store.route_index(key.route).positions, None)
        rows = self.store.rows(Place(source))
        return RowCodes(narrow_codes(np.arange(rows), rows + 1), None)

    # -- scanning -----------------------------------------------------------------------------------------------------

    def want(self, aggregation: Aggregation, keys: tuple[Coded, ...], family: object) -> None:
        """Say beforehand what will be asked, so that one scan can serve it with others of its family."""
        known = self._wanted.setdefault(self._share(aggregation.bounds, family), [])
        if (aggregation, keys) not in known:
            known.append((aggregation, keys))

    def _share(self, bounds: Bounds, family: object) -> object:
        return bounds.source, bounds.restrictions, family

    def groups(self, aggregation: Aggregation, keys: tuple[Coded, ...], family: object) -> tuple[Scanned, Groups]:
        """The groups of an aggregation's rows by coded columns."""
        share = self._share(aggregation.bounds, family)
        scanned = self.done.get(share)
        if scanned is None or not self._serves(scanned, aggregation, keys):
            self.want(aggregation, keys, family)
            scanned = self.done[share] = self._scan(self._wanted[share])
        return scanned, scanned.groups(keys, [self.size(key) for key in scanned.keys])

    def _serves(self, scanned: Scanned, aggregation: Aggregation, keys: tuple[Coded, ...]) -> bool:
        return (
            all(key in scanned.keys for key in keys)
            and all(expression in scanned.numbers for expression in arguments_of(aggregation))
            and all((kind, scanned.numbers[part]) in scanned.folds for kind, part in folds_of(aggregation))
            and (aggregation.function not in COLLECTED or scanned.result.groups is not None)
        )

    def _scan(self, wanted: list[tuple[Aggregation, tuple[Coded, ...]]]) -> Scanned:
        bounds = wanted[0][0].bounds
        source = bounds.source
        reader = RowReader(self.store, self.catalog, source)
        keys = list(dict.fromkeys(key for _, all_keys in wanted for key in all_keys))
        arguments: list[Argument] = []
        numbers: dict[Expression, int] = {}
        folds: dict[tuple[str, int | None], int] = {("count", None): 0}
        for aggregation, _ in wanted:
            for expression in arguments_of(aggregation):
                if expression not in numbers:
                    numbers[expression] = len(arguments)
                    arguments.append(_argument(reader, expression))
            for kind, expression in folds_of(aggregation):
                folds.setdefault((kind, numbers[expression]), len(folds))
        tests = self.tests(reader, bounds.restrictions)
        task = ScanTask(
            self.store.rows(Place(source)),
            tests,
            [(self.row_codes(source, key), self.size(key)) for key in keys],
            arguments,
            list(folds),
            any(aggregation.function in COLLECTED for aggregation, _ in wanted),
        )
        return Scanned(bounds, keys, tests, numbers, folds, task.rows, run_scan(task))

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
            codes = self.row_codes(reader.table, Coded(route[:-1], route[-1].source.table, ""))
            tests.append(PartTest(parts[0].part, CodeTest.of(codes, mask), None))
        return tests

    def _reached(self, route: Route, parts: list[Restriction]) -> NDArray[np.bool_]:
        hop = route[-1]
        visible = self.visible_rows(hop.target.table, parts)
        links = self.store.links(hop)
        owners, targets = links.follow(np.arange(len(links.offsets) - 1))
        mask = np.zeros(len(links.offsets) - 1, np.bool_)
        mask[owners[visible[targets]]] = True
        return mask

    def visible_rows(self, table: str, restrictions: Iterable[Restriction]) -> NDArray[np.bool_]:
        """Which rows of a table pass conditions."""
        rows = self.store.rows(Place(table))
        mask = np.ones(rows, np.bool_)
        for test in self.tests(RowReader(self.store, self.catalog, table), restrictions):
            mask &= test.test.mask(Chunk(0, rows))
        return mask

    def reached_codes(self, hop_route: Route, keys: Sequence[Coded], restrictions: Sequence[Restriction]) -> Links:
        """For each row before a reaching hop, the distinct combinations of codes on the rows that it reaches."""
        hop = hop_route[-1]
        rows, codes = self.table_codes(hop.target.table, keys, restrictions)
        links = self.store.links(hop)
        owners, targets = links.follow(np.arange(len(links.offsets) - 1))
        size = self.store.rows(hop.target)
        by_row = Links.of(rows, np.arange(len(rows)), size)
        positions, picked = by_row.follow(targets)
        owners = owners[positions]
        sizes = [len(links.offsets) - 1, *(self.size(key) for key in keys)]
        distinct, _ = number_groups([owners, *(codes[picked, at] for at in range(len(keys)))], sizes, len(owners))
        return Links.of(distinct[:, 0], distinct[:, 1:], len(links.offsets) - 1)

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
            at = self.row_codes(table, Coded(route[:-1], route[-1].source.table, ""))
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


Bundles = dict[Route, tuple[list[Coded], list[Restriction]]]


def bundled(keys: Sequence[Coded], restrictions: Sequence[Restriction]) -> tuple[list[Coded], Bundles]:
    """Coded columns at hand, and those beyond reaching hops with the conditions that travel the same way."""
    direct = [key for key in keys if reach_of(key.route) < 0]
    bundles: Bundles = {}
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


def arguments_of(aggregation: Aggregation) -> tuple[Expression, ...]:
    """The row expressions that an aggregation's folds take."""
    if aggregation.function == "sole":
        return (Apply(_MEMBER_CODE, aggregation.arguments, INTEGER),)
    if aggregation.function == "sole row":
        return (Apply(_ROW_NUMBER, (Constant(aggregation.bounds.source, INTEGER),), INTEGER),)
    if aggregation.function != "weighted":
        return aggregation.arguments
    value, weight = aggregation.arguments
    missing = Apply("is_null", (value,), BOOLEAN)
    nothing = Constant(None, FLOAT)
    # As floats from the start: a product of two decimals may have more digits than fit.
    product = Apply("*", (value, weight), FLOAT)
    return product, Apply("case", (missing, nothing, weight), FLOAT)


def folds_of(aggregation: Aggregation) -> list[tuple[str, Expression]]:
    """The folds that an aggregation needs, each with its argument."""
    kinds = FOLDS.get(aggregation.function, ())
    return [(kind, argument) for argument in arguments_of(aggregation) for kind in kinds]


def _argument(reader: RowReader, expression: Expression) -> Argument:
    if isinstance(expression, Apply) and expression.function == _MEMBER_CODE:
        (value,) = expression.arguments
        assert isinstance(value, ColumnValue)
        members = reader.store.members(value.table, value.column)

        def codes(chunk: Chunk) -> Column:
            return Column(INTEGER, chunk.of(members.codes), None, None, 0, members.size)

        return Argument(INTEGER, codes, ())
    if isinstance(expression, Apply) and expression.function == _ROW_NUMBER:
        numbers = np.arange(reader.store.rows(Place(reader.table)))

        def rows(chunk: Chunk) -> Column:
            return Column(INTEGER, chunk.of(numbers), None, None, 0, len(numbers))

        return Argument(INTEGER, rows, ())
    return Argument(expression.type, reader.compile(expression), tuple(reader.matches(expression)))
