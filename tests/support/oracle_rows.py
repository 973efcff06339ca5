"""The oracle's tables: rows, what they look up, and which of them pass filters. One row at a time."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

from oracle_history import Context, Filter, Row
from oracle_words import parsed

NO_MATCH = -1
NO_MATCH_MEMBER = "(no match)"


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


@dataclass
class Tables:
    """Tables as lists of rows, relationships, measures and derived columns as formulas."""

    tables: dict[str, list[dict[str, Any]]]
    links: list[Link]
    measures: dict[str, str] = field(default_factory=dict)
    derived: dict[tuple[str, str], str] = field(default_factory=dict)
    repeat: set[str] = field(default_factory=set)
    calendars: dict[str, str] = field(default_factory=dict)
    known: dict[Any, Any] = field(default_factory=dict, repr=False)

    def nothing_yet(self) -> Context:
        """The context in which nothing has happened."""
        return Context(calendars=frozenset(self.calendars))

    # -- rows and lookups ------------------------------------------------------------------------------------------

    def value(self, row: Row, column: str) -> Any:
        table, number = row
        if number == NO_MATCH:
            return None
        if (table, column) in self.derived:
            key = (table, number, column)
            if key not in self.known:
                context = self.at_row(self.nothing_yet(), table, number, "row")
                self.known[key] = self.evaluate(parsed(self.derived[table, column]), context)
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
