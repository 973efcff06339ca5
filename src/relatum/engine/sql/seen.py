"""Which rows of a table bounds leave visible, as the FROM of a SELECT, with the keys of the cells that see them."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

from msgspec import Struct, field
from msgspec.structs import replace

from relatum.data.types import Type
from relatum.engine.sql.parts import Parts
from relatum.engine.sql.rows import At, Key, Rows, same_key
from relatum.engine.sql.sheet import KeyColumn
from relatum.engine.sql.terms import Sql, Value, aliased, column, equal, is_there
from relatum.model.routes import Hop, Place, Route, reach_of
from relatum.plan.nodes import Bounds, DateSet, Hidden, Kept, Match, Pinned, Restriction
from relatum.plan.parts import implied


class Entry(Struct, frozen=True):
    """What cells and groups are compared by: a key's member, or the row that its row finds along ``at``."""

    key: int
    at: Route
    table: str
    type: Type


class SetRelation(Struct, frozen=True, eq=False):
    """Sets of dates or members, each belonging to cells: a relation of cells' entries beside what they hold.

    ``member`` are the columns of what is held: a date, the columns of a level, or a member with its state.
    """

    name: str
    entries: tuple[tuple[Entry, KeyColumn], ...]
    member: tuple[str, ...]
    outer: Mapping[int, KeyColumn] = field(default_factory=dict)


class Seen(Struct, eq=False):
    """Rows that cells see: a FROM, where its rows are, and the keys by which cells see them.

    ``extra`` are the keys of further matches, ``pins`` those of pinned columns.
    """

    rows: Rows
    start: At
    entries: list[tuple[Entry, Key]] = field(default_factory=list)
    extra: list[Key] = field(default_factory=list)
    pins: list[Key] = field(default_factory=list)


class _Matched(Struct, frozen=True, eq=False):
    match: Match
    kind: str


class _InSet(Struct, frozen=True, eq=False):
    held: SetRelation
    route: Route
    what: DateSet | Kept | Hidden


_Wanted = _Matched | _InSet


class _Bundle(Struct, eq=False):
    restrictions: list[Restriction] = field(default_factory=list)
    wanted: list[tuple[int, _Wanted]] = field(default_factory=list)


Exported = list[tuple[Entry, Key]] | Key


class Seer:
    """Makes the FROM of rows within bounds.

    Parameters
    ----------
    parts : Parts
        What selects are made of.
    set_of : callable
        The relation of a set of dates or members.
    """

    def __init__(self, parts: Parts, set_of: Callable[[DateSet | Kept | Hidden, Place], SetRelation]) -> None:
        self.parts = parts
        self.set_of = set_of

    def see(self, bounds: Bounds, extra: Sequence[Match] = (), pins: Sequence[Pinned] = ()) -> Seen:
        """The rows within bounds; with the keys of ``extra`` matches and of pinned columns."""
        wanted: list[_Wanted] = [_Matched(match, "own") for match in bounds.matches]
        wanted += [_Matched(match, "extra") for match in extra]
        wanted += [_Matched(Match(-1, (), pin.route, pin.table, pin.column), "pin") for pin in pins]
        for dates in bounds.dates:
            place = dates.route[-1].target if dates.route else Place(dates.calendar.table)
            wanted.append(_InSet(self.set_of(dates, place), dates.route, dates))
        for kept in bounds.kept:
            wanted.append(_InSet(self.set_of(kept, Place(kept.match.table)), kept.match.route, kept))
        rows, start = Rows.of(self.parts, bounds.source)
        # What members were found under need not be looked up again.
        known = [each for each in implied(bounds) if each.route]
        found = self._within(rows, start, [each for each in bounds.restrictions if each not in known], wanted)
        seen = Seen(rows, start)
        for one, keys in zip(wanted, found, strict=True):
            match one:
                case _Matched(match, kind):
                    assert isinstance(keys, Key), "a match has one key"
                    if kind == "own":
                        seen.entries.append((Entry(match.key, match.at, match.table, keys.type), keys))
                    else:
                        (seen.extra if kind == "extra" else seen.pins).append(keys)
                case _InSet():
                    assert isinstance(keys, list), "a set has the entries of its cells"
                    seen.entries += keys
        seen.entries = self._once(seen.rows, seen.entries)
        return seen

    def _once(self, rows: Rows, entries: list[tuple[Entry, Key]]) -> list[tuple[Entry, Key]]:
        """Each entry once: where several have one, they agree."""
        known: dict[tuple[int, Route], tuple[Entry, Key]] = {}
        rest = []
        for entry, key in entries:
            place = (entry.key, entry.at)
            if place in known and known[place][0].type == entry.type:
                rows.where += same_key(known[place][1], key)
                continue
            known.setdefault(place, (entry, key))
            rest.append((entry, key))
        return rest

    def _within(
        self, rows: Rows, start: At, restrictions: Sequence[Restriction], wanted: Sequence[_Wanted]
    ) -> list[Exported]:
        bundles: dict[Route, _Bundle] = {}
        for each in restrictions:
            at = reach_of(each.route)
            if at < 0:
                rows.where.append(rows.fulfils(start, each))
            else:
                bundle = bundles.setdefault(each.route[: at + 1], _Bundle())
                bundle.restrictions.append(replace(each, route=each.route[at + 1 :]))
        found: dict[int, Exported] = {}
        for number, one in enumerate(wanted):
            route = one.match.route if isinstance(one, _Matched) else one.route
            at = reach_of(route)
            if at < 0:
                found[number] = self._direct(rows, start, one)
            else:
                rest = route[at + 1 :]
                inner = (
                    replace(one, match=replace(one.match, route=rest))
                    if isinstance(one, _Matched)
                    else replace(one, route=rest)
                )
                bundles.setdefault(route[: at + 1], _Bundle()).wanted.append((number, inner))
        for route, bundle in bundles.items():
            exported = self._reached(rows, rows.at(start, route[:-1]), route[-1], bundle)
            found.update(exported)
        return [found[number] for number in range(len(wanted))]

    def _direct(self, rows: Rows, start: At, one: _Wanted) -> Exported:
        match one:
            case _Matched(match):
                return rows.key_along(start, match)
            case _InSet(held, route, what):
                return self._join_set(rows, start, route, held, what)

    def _join_set(
        self, rows: Rows, start: At, route: Route, held: SetRelation, what: DateSet | Kept | Hidden
    ) -> list[tuple[Entry, Key]]:
        alias = self.parts.alias("held")
        if isinstance(what, DateSet):
            at = rows.at(start, route)
            names = at.place.level or (what.calendar.date_column,)
            on = [
                equal(rows.column(at, name).sql, column(alias, own))
                for name, own in zip(names, held.member, strict=True)
            ]
        else:
            own = rows.key_along(start, replace(what.match, route=route))
            state = column(alias, held.member[1]) if len(held.member) > 1 else None
            on = same_key(own, Key(column(alias, held.member[0]), state, own.type))
        rows.join(self.parts.sheet.table(held.name, alias), on, left=False)
        return [(entry, key_in(alias, kept, entry.type)) for entry, kept in held.entries]

    # -- rows that many rows are reached from -------------------------------------------------------------------------

    def _reached(self, rows: Rows, here: At, hop: Hop, bundle: _Bundle) -> dict[int, Exported]:
        """Join what a hop reaches: the distinct keys of the rows there, which conditions leave."""
        inner, start = Rows.of(self.parts, hop.target.table)
        keys = self._within(inner, start, bundle.restrictions, [one for _, one in bundle.wanted])
        ends = self._hop_ends(rows, here, inner, start, hop)
        columns = [aliased(there, f"j{at}") for at, (_, there) in enumerate(ends)]
        alias = self.parts.alias("reached")
        exported: dict[int, Exported] = {}
        for (number, _), key in zip(bundle.wanted, keys, strict=True):
            if isinstance(key, Key):
                exported[number] = self._export(columns, alias, key)
            else:
                exported[number] = [(entry, self._export(columns, alias, own)) for entry, own in key]
        inner.where += [is_there(there.copy()) for _, there in ends]
        name = self.parts.sheet.add(f"reached_{hop.target.table}", inner.select(*columns, distinct=True))
        on = [equal(mine, column(alias, f"j{at}")) for at, (mine, _) in enumerate(ends)]
        rows.join(self.parts.sheet.table(name, alias), on, left=False)
        return exported

    def _export(self, columns: list[Sql], alias: str, key: Key) -> Key:
        name = f"e{len(columns)}"
        columns.append(aliased(key.value, name))
        if key.state is None:
            return Key(column(alias, name), None, key.type)
        columns.append(aliased(key.state, f"{name}s"))
        return Key(column(alias, name), column(alias, f"{name}s"), key.type)

    def _hop_ends(self, rows: Rows, here: At, inner: Rows, there: At, hop: Hop) -> list[tuple[Sql, Sql]]:
        """What must be equal on both sides of a hop that reaches many rows."""
        relationship = hop.relationship
        assert relationship is not None, "rows are reached along a relationship"
        if relationship.match == "as_of":
            found = inner.at(there, (Hop(hop.target, hop.source, relationship),))
            return [(rows.row(here), inner.row(found))]
        pairs = []
        for left, right in zip(relationship.many.columns, relationship.one.columns, strict=True):
            many: Value = inner.column(there, left) if hop.turned else rows.column(here, left)
            one: Value = rows.column(here, right) if hop.turned else inner.column(there, right)
            one_sql, many_sql = rows.agreeing(many, one)[::-1]
            pairs.append((one_sql, many_sql) if hop.turned else (many_sql, one_sql))
        return pairs


def key_in(alias: str, kept: KeyColumn, type_: Type) -> Key:
    """A key, read from a relation."""
    return Key(column(alias, kept.value), None if kept.state is None else column(alias, kept.state), type_)
