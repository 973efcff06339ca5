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
from dataclasses import dataclass, field
from datetime import date, timedelta
from decimal import ROUND_FLOOR, ROUND_HALF_UP, Decimal, localcontext
from typing import Any

from relatum.language.parse import parse_condition, parse_formula
from relatum.language.tree import Call, Case, Literal, Name, Node, Operation, children, conjuncts

NO_MATCH = -1
NO_MATCH_MEMBER = "(no match)"
Row = tuple[str, int]


@dataclass
class Link:
    """A relationship: each row of ``many`` finds at most one row of ``one``."""

    many: str
    many_columns: tuple[str, ...]
    one: str
    one_columns: tuple[str, ...]
    as_of: bool = False
    off: bool = False
    level: bool = False

    def text(self) -> str:
        def end(table: str, columns: tuple[str, ...]) -> str:
            return f"{table}.{columns[0]}" if len(columns) == 1 else f"{table}.({', '.join(columns)})"

        return f"{end(self.many, self.many_columns)} -> {end(self.one, self.one_columns)}"


@dataclass
class Star:
    """Tables as lists of rows, relationships, measures and derived columns as formulas."""

    tables: dict[str, list[dict[str, Any]]]
    links: list[Link]
    measures: dict[str, str] = field(default_factory=dict)
    derived: dict[tuple[str, str], str] = field(default_factory=dict)
    repeat: set[str] = field(default_factory=set)

    # -- rows and lookups ------------------------------------------------------------------------------------------

    def value(self, row: Row, column: str) -> Any:
        table, number = row
        if number == NO_MATCH:
            return None
        if (table, column) in self.derived:
            return self.row_formula(parse_formula(self.derived[table, column]), row)
        return self.tables[table][number][column]

    def columns(self, table: str) -> list[str]:
        names = list(self.tables[table][0]) if self.tables[table] else []
        return names + [column for owner, column in self.derived if owner == table]

    def found(self, row: Row, link: Link) -> Row:
        """The row of the one side that a row finds. For a level, the first row that has its value."""
        if row[1] == NO_MATCH:
            return (link.one, NO_MATCH)
        wanted = [self.value(row, column) for column in link.many_columns]
        if any(value is None for value in wanted):
            return (link.one, NO_MATCH)
        best = NO_MATCH
        for other in range(len(self.tables[link.one])):
            keys = [self.value((link.one, other), column) for column in link.one_columns]
            if any(key is None for key in keys):
                continue
            if link.as_of:
                latest = None if best == NO_MATCH else self.value((link.one, best), link.one_columns[-1])
                if keys[:-1] == wanted[:-1] and keys[-1] <= wanted[-1] and (latest is None or keys[-1] > latest):
                    best = other
            elif keys == wanted and best == NO_MATCH:
                best = other
        return (link.one, best)

    def determined(self, link: Link, column: str) -> bool:
        """Whether a level's value fixes another column of its table."""
        known: dict[tuple[Any, ...], Any] = {}
        for number in range(len(self.tables[link.one])):
            key = tuple(self.value((link.one, number), name) for name in link.one_columns)
            if None not in key and known.setdefault(key, self.value((link.one, number), column)) != self.value(
                (link.one, number), column
            ):
                return False
        return True

    def routes(self, start: str) -> Iterator[tuple[Link, ...]]:
        """Every chain of lookups that leads away from a table, the empty one first."""
        pending: list[tuple[Link, ...]] = [()]
        while pending:
            route = pending.pop(0)
            yield route
            if route and (route[-1].off or route[-1].level):
                continue
            here = route[-1].one if route else start
            pending += [(*route, link) for link in self.links if link.many == here]

    def route(self, start: str, table: str, columns: set[str] | None, filters: bool) -> tuple[Link, ...] | None:
        """The chain to a table that gives all of ``columns`` (None: any), for lookups or for filters."""
        whole, levels = [], []
        for route in self.routes(start):
            if (route[-1].one if route else start) != table:
                continue
            if filters and any(link.off for link in route):
                continue
            if route and route[-1].level:
                if columns is not None and all(self.determined(route[-1], column) for column in columns):
                    levels.append(route)
            else:
                whole.append(route)
        return (whole + levels + [None])[0]

    def follow(self, row: Row, route: tuple[Link, ...]) -> Row:
        for link in route:
            row = self.found(row, link)
        return row

    def look_up(self, row: Row, table: str, column: str) -> Any:
        route = self.route(row[0], table, {column}, filters=False)
        assert route is not None, f"{row[0]} does not look up {table}.{column}"
        return self.value(self.follow(row, route), column)

    # -- formulas of one row ---------------------------------------------------------------------------------------

    def row_formula(self, node: Node, row: Row) -> Any:
        def leaf(name: Node) -> Any:
            assert isinstance(name, Name)
            table, column = name.parts if len(name.parts) == 2 else (row[0], name.parts[0])
            return self.look_up(row, table, column)

        return scalar(node, leaf)

    def row_table(self, nodes: list[Node], over: str = "") -> str:
        mentioned = {(name.parts[0], name.parts[1]) for node in nodes for name in names_in(node)}
        if over:
            return over
        (table,) = {
            start
            for start, _ in mentioned
            if all(self.route(start, table, {column}, filters=False) is not None for table, column in mentioned)
        }
        return table

    # -- cells -----------------------------------------------------------------------------------------------------

    def conditions(self, where: str) -> list[Condition]:
        if not where:
            return []
        condition = parse_condition(where)
        over = condition.over.parts[0] if condition.over else ""
        found = []
        for part in conjuncts(condition.formula):
            table = self.row_table([part], over)
            own = {name.parts[1] for name in names_in(part) if name.parts[0] == table}
            elsewhere = any(name.parts[0] != table for name in names_in(part))
            test = lambda row, part=part: self.row_formula(part, row) is True  # noqa: E731
            named = {(name.parts[0], name.parts[1]) for name in names_in(part)}
            found.append(Condition(table, None if elsewhere else own, test, named))
        return found

    def visible(self, table: str, filters: list[Condition]) -> list[Row] | None:
        """The rows of a table that pass every filter; None when some filter does not reach it."""
        routes = [self.route(table, each.table, each.columns, filters=True) for each in filters]
        if None in routes:
            return None
        rows = [(table, number) for number in range(len(self.tables[table]))]
        return [
            row
            for row in rows
            if all(each.test(self.follow(row, route)) for each, route in zip(filters, routes, strict=True))
        ]

    def reached_only(self, table: str, filters: list[Condition]) -> list[Condition]:
        return [each for each in filters if self.route(table, each.table, each.columns, filters=True) is not None]

    def evaluate(self, node: Node, filters: list[Condition], repeat: bool = False) -> Any:
        def leaf(part: Node) -> Any:
            if isinstance(part, Name):
                (name,) = part.parts
                return self.evaluate(parse_formula(self.measures[name]), filters, name in self.repeat)
            assert isinstance(part, Call)
            return self.aggregate(part, filters, repeat)

        return scalar(node, leaf)

    def aggregate(self, node: Call, filters: list[Condition], repeat: bool) -> Any:
        if node.function == "filtered":
            table, column = node.arguments[0].parts
            return any((table, column) in each.named for each in filters)
        if node.function == "sole":
            table, column = node.arguments[0].parts
            rows = self.visible(table, self.reached_only(table, filters))
            values = {self.value(row, column) for row in rows}
            return values.pop() if len(values) == 1 else None
        (argument,) = node.arguments
        counts_rows = _counts_rows(node)
        extra = [part for part in (node.by, node.weight) if part is not None]
        table = self.rows_of(node)
        rows = self.visible(table, self.reached_only(table, filters) if repeat else filters)
        if not rows:
            return None
        if counts_rows:
            return len(rows)
        values = [self.row_formula(argument, row) for row in rows]
        if extra:
            others = [self.row_formula(extra[0], row) for row in rows]
            pairs = [pair for pair in zip(values, others, strict=True) if None not in pair]
            return _weighted(pairs) if node.weight is not None else _by_order(node.function, pairs)
        values = [value for value in values if value is not None]
        if any(isinstance(value, float) for value in values):
            values = [float(value) for value in values]
        if node.of is not None:
            return _percentile(values, float(scalar(node.of, None)))
        if node.function == "count":
            return len(set(values)) if node.distinct else len(values)
        return AGGREGATES[node.function](values) if values else None

    def rows_of(self, node: Call) -> str:
        """An aggregate's row table."""
        if _counts_rows(node):
            return node.arguments[0].parts[0]
        parts = [*node.arguments, *(part for part in (node.by, node.weight) if part is not None)]
        return self.row_table(parts, node.over.parts[0] if node.over else "")

    # -- grids -----------------------------------------------------------------------------------------------------

    def members(self, table: str, column: str) -> list[Any]:
        values = {self.value((table, number), column) for number in range(len(self.tables[table]))}
        return [*sorted(value for value in values if value is not None), None, NO_MATCH_MEMBER]

    def member(self, table: str, column: str, member: Any) -> Condition:
        def test(row: Row) -> bool:
            if row[1] == NO_MATCH or member == NO_MATCH_MEMBER:
                return row[1] == NO_MATCH and member == NO_MATCH_MEMBER
            return self.value(row, column) == member

        return Condition(table, {column}, test, {(table, column)})

    def pivot(self, fields: list[tuple[str, str]], formulas: list[str], where: str = "") -> dict[tuple[Any, ...], list]:
        """Values by combination of members; ``TOTAL`` stands where a field is totalled over. All grains are there."""
        trees = [parse_formula(formula) for formula in formulas]
        question = self.conditions(where)
        shown = self.shown(trees, fields, question)
        cells = {}
        for kept in itertools.product((True, False), repeat=len(fields)):
            for combination in shown if any(kept) else [tuple(TOTAL for _ in fields)]:
                key = tuple(member if keep else TOTAL for member, keep in zip(combination, kept, strict=True))
                filters = question + self.axes(fields, key)
                cells[key] = [self.evaluate(tree, filters) for tree in trees]
        return cells

    def axes(self, fields: list[tuple[str, str]], combination: tuple[Any, ...]) -> list[Condition]:
        pairs = zip(fields, combination, strict=True)
        return [self.member(*each, member) for each, member in pairs if member is not TOTAL]

    def shown(
        self, trees: list[Node], fields: list[tuple[str, str]], question: list[Condition]
    ) -> list[tuple[Any, ...]]:
        """The combinations in which some aggregate that every axis bears on has a value, else the visible members."""
        judged = [
            (call, repeat)
            for tree in trees
            for call, repeat in self.judged(tree, False)
            if not repeat or all(self.reaches(call, *each) for each in fields)
        ]
        if not judged:
            return sorted(self.occurring(fields, question), key=repr)
        return [
            combination
            for combination in itertools.product(*(self.members(*each) for each in fields))
            if any(
                self.aggregate(call, question + self.axes(fields, combination), repeat) is not None
                for call, repeat in judged
            )
        ]

    def judged(self, node: Node, repeat: bool) -> Iterator[tuple[Call, bool]]:
        if isinstance(node, Name):
            (name,) = node.parts
            yield from self.judged(parse_formula(self.measures[name]), name in self.repeat)
        elif isinstance(node, Call) and (node.function in AGGREGATES or node.function in ("count", "percentile")):
            yield node, repeat
        elif not (isinstance(node, Call) and node.function in ("sole", "filtered")):
            for child in children(node):
                yield from self.judged(child, repeat)

    def reaches(self, call: Call, table: str, column: str) -> bool:
        return self.route(self.rows_of(call), table, {column}, filters=True) is not None

    def occurring(self, fields: list[tuple[str, str]], question: list[Condition]) -> set[tuple[Any, ...]]:
        """Visible members: columns of one chain of lookups as they occur, those of different chains freely."""
        tables = list(dict.fromkeys(table for table, _ in fields))

        def finds(start: str, other: str) -> bool:
            columns = [column for table, column in fields if table == other]
            return all(self.route(start, other, {column}, filters=True) is not None for column in columns)

        finest = [table for table in tables if not any(other != table and finds(other, table) for other in tables)]
        owners = [next(owner for owner in finest if owner == table or finds(owner, table)) for table, _ in fields]
        parts = []
        for owner in dict.fromkeys(owners):
            own = [number for number, other in enumerate(owners) if other == owner]
            rows = self.visible(owner, self.reached_only(owner, question))
            parts.append({tuple((number, self.member_of(row, *fields[number])) for number in own) for row in rows})
        return (
            {
                tuple(
                    member for _, member in sorted((pair for part in parts for pair in part), key=lambda pair: pair[0])
                )
                for parts in itertools.product(*parts)
            }
            if fields
            else {()}
        )

    def member_of(self, row: Row, table: str, column: str) -> Any:
        found = self.follow(row, self.route(row[0], table, {column}, filters=True))
        return NO_MATCH_MEMBER if found[1] == NO_MATCH else self.value(found, column)


class _Total:
    def __repr__(self) -> str:
        return "total"


TOTAL = _Total()


@dataclass
class Condition:
    """A filter: rows of ``table`` for which ``test`` holds; ``columns`` are those it judges, None if of several tables."""

    table: str
    columns: set[str] | None
    test: Callable[[Row], bool]
    named: set[tuple[str, str]]


def _counts_rows(node: Call) -> bool:
    argument = node.arguments[0]
    return node.function == "count" and isinstance(argument, Name) and len(argument.parts) == 1


def names_in(node: Node) -> Iterator[Name]:
    if isinstance(node, Name):
        yield node
    for child in children(node):
        yield from names_in(child)


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
