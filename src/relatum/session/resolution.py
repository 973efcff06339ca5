"""Resolving a declaration over its data: derived columns and derived tables in order, then everything as one record.

What is resolved is immutable and made in one direction: from declaration and data to formulas, from these to a store,
from the store to an engine. What a former resolution worked out is taken over where it says the same of the same data.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from functools import cache

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from relatum.data.columns import Column
from relatum.data.table import TableData
from relatum.data.types import Type
from relatum.engine.store import JoinKeeper, Store, Tables
from relatum.errors import FormulaError, ModelError
from relatum.language.catalog import Catalog
from relatum.language.expression import Expression
from relatum.language.formulas import Formulas
from relatum.language.parse import parse_formula
from relatum.language.tree import Name, bare_names, names_in
from relatum.model.declaration import Declaration, Relationship, Table, frozen
from relatum.model.names import ColumnKey, column_name, quoted, split_name
from relatum.model.routes import RouteMap
from relatum.plan.bounds import field_of
from relatum.plan.compile import GrainWanted, Wanted, compile_plan, compile_rows, needed_derivations
from relatum.plan.engine import Cells, Facts
from relatum.plan.nodes import Derivation, Plan
from relatum.plan.reads import reads_of
from relatum.session.residence import IN_MEMORY, Residence

#: A derived column, or a derived table where the name of the column is empty.
Item = tuple[str, str]
_CELL_LIMIT = 50_000_000


class DerivedTable(Struct, frozen=True, eq=False):
    """A derived table: the plan that works it out, and its rows, worked out when one is first needed."""

    plan: Plan
    data: TableData


class RowField(Struct, frozen=True):
    """A field of a request that is a formula on the rows of a table; ``name`` is not a column's of it."""

    table: str
    name: str
    expression: Expression


class Resolution(Struct, frozen=True, eq=False):
    """A declaration resolved over its data.

    ``expressions`` are the formulas of derived columns, ``derivations`` the same as plans, in order.
    """

    declaration: Declaration
    data: Mapping[str, TableData]
    store: Store
    catalog: Catalog
    formulas: Formulas
    expressions: Mapping[ColumnKey, Expression]
    derivations: Mapping[ColumnKey, Derivation]
    tables: Mapping[str, DerivedTable]
    residence: Residence


def resolve(
    declaration: Declaration,
    sources: Mapping[str, TableData],
    former: Resolution | None = None,
    joins: JoinKeeper | None = None,
    residence: Residence = IN_MEMORY,
) -> Resolution:
    """Resolve a declaration.

    Parameters
    ----------
    declaration : Declaration
        The model.
    sources : mapping of str to TableData
        The data of every table that has a source.
    former : Resolution, optional
        One whose work is taken over where it says the same.
    joins : JoinKeeper, optional
        Keeps join indexes from one run to the next.
    residence : Residence
        Where the data lives: in memory unless given.

    Raises
    ------
    ModelError
        Derived columns or tables need each other in a circle, or a grain names no column.
    FormulaError
        A formula of a derived column or table cannot be understood.
    """
    order = _in_order(declaration)
    now = _begun(declaration, sources, former, joins, residence)
    for table, column in order:
        if column:
            now = _with_column(now, table, column)
        else:
            now = _with_table(now, declaration, declaration.tables[table], former)
    return replace(now, declaration=declaration, store=now.store.settled())


# -- order ------------------------------------------------------------------------------------------------------------


def _in_order(declaration: Declaration) -> list[Item]:
    """Derived columns and derived tables, each after those that its formulas name, through measures too."""
    items: list[Item] = []
    ends = {
        (end.table, name) for each in declaration.relationships for end in (each.many, each.one) for name in end.columns
    }
    for name, table in declaration.tables.items():
        items += [(name, column) for column in table.derived]
        items += [(name, "")] if table.per else []
    # What relationships join by comes first: any formula may look something up through it.
    items.sort(key=lambda item: (item[1] == "", item not in ends))
    known = set(items)
    named: dict[str, frozenset[Item]] = {}
    ordered: dict[Item, None] = {}
    for first in items:
        path: dict[Item, list[Item]] = {} if first in ordered else {first: _needs(declaration, first, known, named)}
        while path:
            here = next(reversed(path))
            if not path[here]:
                ordered[here] = None
                del path[here]
                continue
            other = path[here].pop()
            if other in path:
                chain = [*path]
                raise _circle([*chain[chain.index(other) :], other])
            if other not in ordered:
                path[other] = _needs(declaration, other, known, named)
    return list(ordered)


def _circle(chain: Sequence[Item]) -> ModelError:
    shown = " -> ".join(column_name(*item) if item[1] else quoted(item[0]) for item in chain)
    table, column = chain[0]
    columns = all(item[1] for item in chain)
    return ModelError(
        f"Derived {'columns' if columns else 'columns and tables'} refer to each other in a circle: {shown}.",
        fix="Rewrite one of them without the others.",
        place=("table", table, "derived", column) if column else ("table", table, "columns"),
    )


def _needs(declaration: Declaration, item: Item, known: set[Item], named: dict[str, frozenset[Item]]) -> list[Item]:
    table, column = item
    described = declaration.tables[table]
    texts = [described.derived[column].formula] if column else list(described.formulas.values())
    needed: set[Item] = set()
    try:
        for text in texts:
            needed |= _items_named(declaration, text, table if column else "", known, named)
    except FormulaError as error:
        error.owner = error.owner or (_owner(table, column) if column else f"table {quoted(table)}")
        error.place = ("table", table, "derived", column, "formula") if column else ("table", table, "columns")
        raise
    for grain in described.per:
        parts = split_name(grain)
        if len(parts) == 2:
            needed |= _items_of(declaration, parts, known)
    return sorted(needed - {item}) if item not in needed else [*sorted(needed - {item}), item]


def _items_named(
    declaration: Declaration, text: str, home: str, known: set[Item], named: dict[str, frozenset[Item]]
) -> set[Item]:
    """The derived columns and tables that a formula names, and those that the measures in it name."""
    own = set(declaration.tables[home].derived) if home else set()
    root = parse_formula(text)
    found: set[Item] = set()
    for node in names_in(root):
        if len(node.parts) == 1 and node.parts[0] in own:
            found.add((home, node.parts[0]))
        else:
            found |= _items_of(declaration, node.parts, known)
    pending = [name.parts[0] for name in _measures_in(declaration, text) if name.parts[0] not in own]
    seen: set[str] = set()
    while pending:
        measure = pending.pop()
        if measure in seen:
            continue
        seen.add(measure)
        formula = declaration.measures[measure].formula
        if measure not in named:
            try:
                mentioned = [_items_of(declaration, node.parts, known) for node in names_in(parse_formula(formula))]
            except FormulaError:
                continue  # its own error is raised where measures are resolved
            named[measure] = frozenset().union(*mentioned)
        found |= named[measure]
        pending += [name.parts[0] for name in _measures_in(declaration, formula)]
    return found


def _measures_in(declaration: Declaration, text: str) -> list[Name]:
    return list(bare_names(parse_formula(text), declaration.measures))


def _items_of(declaration: Declaration, parts: Sequence[str], known: set[Item]) -> set[Item]:
    """The derived table that a name is of, and the derived column that it is."""
    table = parts[0]
    if table not in declaration.tables:
        return set()
    owner = declaration.tables[table].role_of or table
    found = {(owner, "")} | ({(owner, parts[1])} if len(parts) == 2 else set())
    return found & known


# -- steps ------------------------------------------------------------------------------------------------------------


def _begun(
    declaration: Declaration,
    sources: Mapping[str, TableData],
    former: Resolution | None,
    joins: JoinKeeper | None,
    residence: Residence,
) -> Resolution:
    """The tables that have sources, without anything derived."""
    data = {
        name: sources[declaration.rows_of(name)] for name in declaration.tables if declaration.rows_of(name) in sources
    }
    there = _among(declaration, data)
    before = former.store if former is not None else None
    store = residence.store(_tables(there, data), joins, before)
    types = {name: dict(data[name].types) for name, table in there.tables.items() if not table.role_of}
    catalog = _catalog(there, data, types, _routes(there, former), store)
    known = _known_measures(former, there, data)
    return Resolution(
        declaration=there,
        data=data,
        store=store,
        catalog=catalog,
        formulas=Formulas(catalog, known),
        expressions={},
        derivations={},
        tables={},
        residence=residence,
    )


def _among(declaration: Declaration, names: Iterable[str]) -> Declaration:
    """The part of a declaration that speaks of these tables."""
    kept = set(names)
    if kept == set(declaration.tables):
        return declaration
    return replace(
        declaration,
        tables=frozen({name: each for name, each in declaration.tables.items() if name in kept}),
        relationships=tuple(
            each for each in declaration.relationships if each.many.table in kept and each.one.table in kept
        ),
        controls=(),
    )


def _tables(declaration: Declaration, data: Mapping[str, TableData]) -> Tables:
    dates = {}
    for name in declaration.tables:
        described = declaration.tables[declaration.rows_of(name)]
        if described.calendar is not None:
            dates[name] = "date"
        elif described.dated:
            dates[name] = described.key[0]
    keys = {name: table.key for name, table in declaration.tables.items()}
    return Tables(data, {name: declaration.rows_of(name) for name in declaration.tables}, dates, keys)


def _routes(declaration: Declaration, former: Resolution | None) -> RouteMap:
    if former is not None:
        known = former.catalog.routes.declaration
        if known.relationships == declaration.relationships and list(known.tables) == list(declaration.tables):
            return former.catalog.routes
    return RouteMap(declaration)


def _catalog(
    declaration: Declaration,
    data: Mapping[str, TableData],
    types: Mapping[str, Mapping[str, Type]],
    routes: RouteMap,
    facts: Facts,
    banded: frozenset[ColumnKey] = frozenset(),
) -> Catalog:
    listed = {
        (name, column): tuple(members)
        for name, table in data.items()
        if not declaration.tables[name].role_of
        for column, members in table.orders.items()
    }
    unread = {(name, column): why for name, table in data.items() for column, why in table.left_out.items()}
    return Catalog(
        declaration=declaration,
        types=types,
        routes=routes,
        determines=facts.determines,
        is_period=facts.is_period,
        listed=listed,
        banded=banded,
        unread=unread,
    )


def _known_measures(
    former: Resolution | None, declaration: Declaration, data: Mapping[str, TableData]
) -> dict[str, Expression]:
    """The measures of a former resolution that still mean the same."""
    if former is None or former.declaration.relationships != declaration.relationships:
        return {}
    for name, before in former.declaration.tables.items():
        after = declaration.tables.get(name)
        if before.per and after is not None and after.per == before.per and after.formulas == before.formulas:
            continue
        same = after is not None and (before.role_of, before.calendar, before.dated, before.key) == (
            after.role_of,
            after.calendar,
            after.dated,
            after.key,
        )
        if not same or former.data[name] is not data.get(name):
            return {}
        assert after is not None
        if any(after.derived.get(column) != each for column, each in before.derived.items()):
            return {}
    changed = {name for name, each in former.declaration.measures.items() if declaration.measures.get(name) is not each}
    if changed and any(table.derived or table.per for table in former.declaration.tables.values()):
        # A derived column's type may follow from a measure.
        return {}
    known = {name: each for name, each in former.formulas.resolved.items() if name not in changed}
    while changed:
        touched = {
            name
            for name in known
            if any(
                each.parts[0] in changed
                for each in _measures_in(former.declaration, declaration.measures[name].formula)
            )
        }
        known = {name: each for name, each in known.items() if name not in touched}
        changed = touched
    return known


def _with_column(now: Resolution, table: str, column: str) -> Resolution:
    """One derived column more."""
    if table not in now.data:
        raise _circle([(table, ""), (table, column)])
    formula = now.declaration.tables[table].derived[column].formula
    try:
        expression = now.formulas.derived(table, formula, _owner(table, column))
    except FormulaError as error:
        error.place = ("table", table, "derived", column, "formula")
        raise
    return _with_derivation(now, table, column, expression, now.store)


def with_fields(now: Resolution, fields: Sequence[RowField]) -> Resolution:
    """A whole resolution with derived columns that one request alone has; what it works out for them is its own."""
    store = now.store.for_request()
    for field in fields:
        now = _with_derivation(now, field.table, field.name, field.expression, store)
        store = now.store
    return now


def _with_derivation(now: Resolution, table: str, column: str, expression: Expression, store: Store) -> Resolution:
    derivation = compile_rows(now.catalog, table, column, expression)
    _refuse_circle(now, derivation)
    store = store.with_derivation(derivation)
    types = {**now.catalog.types, table: {**now.catalog.types[table], column: expression.type}}
    key = (table, column)
    banded = now.catalog.banded | ({key} if now.catalog.is_band(expression) else frozenset())
    catalog = _catalog(now.catalog.declaration, now.data, types, now.catalog.routes, store, banded)
    return replace(
        now,
        store=store,
        catalog=catalog,
        formulas=Formulas(catalog, now.formulas.resolved),
        expressions={**now.expressions, key: expression},
        derivations={**now.derivations, key: derivation},
    )


def _refuse_circle(now: Resolution, derivation: Derivation) -> None:
    """Raise a ModelError where a derived column would be read along a relationship that is made of it."""
    key = (derivation.table, derivation.column)
    if not any(_joins_by(now.declaration, each, key) for each in now.declaration.relationships):
        return
    reads = reads_of(derivation)
    every = {**now.derivations, key: derivation}
    inner = needed_derivations(reads, every, now.catalog)
    if any((each.table, each.column) == key for each in inner):
        joined = [each for each in reads.relationships if _joins_by(now.declaration, each, key)]
        raise ModelError(
            f"The derived column {column_name(*key)} is worked out along {joined[0] if joined else 'a relationship'}, "
            "which is made of it.",
            fix="Relate the tables by a source column, or write the formula without that lookup.",
            place=("table", key[0], "derived", key[1]),
        )


def _joins_by(declaration: Declaration, relationship: Relationship, key: ColumnKey) -> bool:
    ends = (relationship.many, relationship.one)
    return any((declaration.rows_of(end.table), name) == key for end in ends for name in end.columns)


def _with_table(now: Resolution, whole: Declaration, table: Table, former: Resolution | None) -> Resolution:
    """One derived table more, and its roles."""
    try:
        derived = _derived_table(now, table, former)
    except FormulaError as error:
        error.place = ("table", table.name, "columns")
        raise
    except ModelError as error:
        error.place = error.place or ("table", table.name)
        raise
    roles = [name for name, each in whole.tables.items() if each.role_of == table.name]
    there = {*now.data, table.name, *roles}
    data = {name: now.data.get(name, derived.data) for name in whole.tables if name in there}
    declaration = _among(whole, data)
    store = now.store.with_tables(_tables(declaration, data))
    types = {**now.catalog.types, table.name: dict(derived.data.types)}
    routes = _routes(declaration, former)
    catalog = _catalog(declaration, data, types, routes, store, now.catalog.banded)
    return replace(
        now,
        declaration=declaration,
        data=data,
        store=store,
        catalog=catalog,
        formulas=Formulas(catalog, now.formulas.resolved),
        tables={**now.tables, table.name: derived},
    )


# -- derived tables ---------------------------------------------------------------------------------------------------


def _derived_table(now: Resolution, table: Table, former: Resolution | None) -> DerivedTable:
    fields = tuple(field_of(now.catalog, *split_name(name)) for name in table.per)
    names = [field.column for field in fields] + list(table.formulas)
    for name in names:
        if names.count(name) > 1:
            raise ModelError(
                f"The derived table {quoted(table.name)} has two columns called {name}.",
                fix="Rename one of the formulas.",
                place=("table", table.name),
            )
    formulas = tuple(
        now.formulas.formula(text, f"column {column_name(table.name, name)}") for name, text in table.formulas.items()
    )
    types = {field.column: field.type for field in fields if field.type is not None}
    types.update({name: formula.type for name, formula in zip(table.formulas, formulas, strict=True)})
    keys = tuple(range(len(fields)))
    wanted = Wanted(fields, formulas, (), (GrainWanted(keys),), len(fields), cell_limit=_CELL_LIMIT)
    plan, _ = compile_plan(now.catalog, wanted, now.derivations)
    if not all(formula.strict for formula in plan.grains[0].formulas):
        # A formula may have a value where every aggregate is null: every visible member is looked at.
        plan, _ = compile_plan(now.catalog, replace(wanted, show_empty=True), now.derivations)
    known = former.tables.get(table.name) if former is not None else None
    if known is not None and former is not None and known.plan == plan and list(known.data.types) == list(types):
        reads = reads_of(plan)
        same = all(_same_column(former.store, now.store, *each) for each in reads.columns)
        if same and all(former.data.get(name) is now.data[name] for name in reads.tables):
            return known
    return DerivedTable(plan, _rows_later(now, plan, types, tuple(table.formulas)))


def _same_column(one: Store, other: Store, table: str, name: str) -> bool:
    return one.has(table, name) and one.stamp(table, name) is other.stamp(table, name)


def _rows_later(now: Resolution, plan: Plan, types: Mapping[str, Type], formulas: tuple[str, ...]) -> TableData:
    """The rows of a derived table, worked out when one is first needed."""

    @cache
    def worked_out() -> dict[str, Column]:
        answer = now.residence.engine(now.store).run(plan)
        (cells,) = answer.cells
        rows = _rows(cells, [members.no_match for members in answer.members])
        columns = {}
        for at, members in enumerate(answer.members):
            codes = cells.codes[rows, at]
            null = codes == members.null
            taken = members.values.take(np.where(null, 0, codes)) if len(members.values) else None
            if taken is None:
                taken = _nulls(members.values, len(rows))
            columns[plan.fields[at].column] = replace(taken, nulls=null if null.any() else None)
        for name, values in zip(formulas, cells.values, strict=True):
            columns[name] = values.take(rows)
        return columns

    first = next(iter(types))
    data = TableData(types, lambda: len(worked_out()[first]), lambda name: worked_out()[name])
    data.made_by = plan
    return data


def _nulls(members: Column, rows: int) -> Column:
    """As many rows of a column that has no member but null."""
    return replace(members, values=np.zeros(rows, members.values.dtype), nulls=np.ones(rows, np.bool_))


def _rows(cells: Cells, no_match: list[int]) -> np.ndarray[tuple[int], np.dtype[np.intp]]:
    """The members that have a row: no match has none, and those of which every formula is null."""
    keep = np.ones(len(cells.codes), np.bool_)
    for at, code in enumerate(no_match):
        keep &= cells.codes[:, at] != code
    if cells.values:
        every = [np.zeros(len(keep), np.bool_) if each.nulls is None else each.nulls for each in cells.values]
        keep &= ~np.logical_and.reduce(every)
    return np.flatnonzero(keep)


def _owner(table: str, column: str) -> str:
    return f"derived column {column_name(table, column)}"
