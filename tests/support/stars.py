"""Random stars, formulas and grids, shared by every property test.

A star is a few tiny tables with the blemishes of real data: nulls, orphans, rows before the first price. Formulas are
drawn by type, so that every one of them is understood; what each is worth is for the oracle and the engine to say.
"""

from __future__ import annotations

import random
from dataclasses import dataclass, replace
from datetime import date, timedelta
from decimal import Decimal
from typing import Any

import pyarrow as pa

from oracle import Star
from oracle_rows import Link

START = date(2023, 12, 27)
DAYS = 12
TYPES = {
    "category": {"cat": "int", "name": "text", "rank": "int"},
    "product": {"pid": "text", "cat": "int", "weight": "dec", "label": "text", "live": "bool"},
    "customer": {"cid": "int", "region": "text", "since": "date"},
    "calendar": {"day": "date", "year": "int", "month": "text", "weekday": "int"},
    "price": {"pid": "text", "start": "date", "amount": "dec", "factor": "float"},
    "detail": {"pid": "text", "shade": "text", "height": "int"},
    "member": {"cid": "int", "club": "text"},
    "sales": {"pid": "text", "cid": "int", "sold": "date", "shipped": "date", "quantity": "int", "discount": "dec", "speed": "float",
              "paid": "bool", "remark": "text"},
    "budget": {"cat": "int", "month": "text", "target": "dec", "share": "float"},
}  # fmt: skip
ARROW = {"int": pa.int64(), "text": pa.string(), "dec": pa.decimal128(12, 2), "float": pa.float64(),
         "bool": pa.bool_(), "date": pa.date32()}  # fmt: skip
KEYS = {"category": "cat", "product": "pid", "customer": "cid", "calendar": "day"}
PATTERNS = ("'a%'", "'_'", "'%c%'", "''")


@dataclass(frozen=True)
class Case:
    """A star and the requests on it."""

    star: Star
    fields: tuple[tuple[str, str], ...]
    formulas: tuple[str, ...]
    where: str

    def __repr__(self) -> str:
        links = "; ".join(link.text() for link in self.star.links)
        lines = [f"{name} = {rows}" for name, rows in self.star.tables.items()]
        lines += [f"links: {links}", f"measures: {self.star.measures}", f"derived: {self.star.derived}"]
        lines += [f"fields: {self.fields}", f"formulas: {self.formulas}", f"where: {self.where!r}"]
        return "\n".join(lines)


def random_case(rnd: random.Random, plain: bool = False) -> Case:
    """A whole case from a source of randomness; ``plain`` leaves out all that nests or changes contexts."""
    star = random_star(rnd)
    maker = Maker(rnd, star, 0.0 if plain else 0.3)
    if rnd.random() < 0.6:
        _derive(rnd, star, maker)
    for name in ("first_measure", "second_measure"):
        if rnd.random() < 0.5:
            star.measures[name] = maker.cell(rnd.choice(("num", "num", "text", "bool")), 2)
            if rnd.random() < 0.25:
                star.repeat.add(name)
    return random_question(rnd, star, maker)


def random_question(rnd: random.Random, star: Star, maker: Maker | None = None) -> Case:
    """A grid to ask of a star."""
    maker = maker or Maker(rnd, star, 0.3)
    candidates = [(table, column) for table in star.tables for column in maker.columns(table)]
    fields = tuple(rnd.sample(candidates, rnd.choice((0, 1, 1, 2, 2, 3))))
    if {"product", "category"} & {table for table, _ in fields}:
        # Which combinations of a one-to-one pair occur is a matter of whose rows are looked at.
        fields = tuple(field for field in fields if field[0] != "detail")
    if len(fields) == 3 and (_stands_after_its_key(*fields[1:]) or _stands_after_its_level(star, *fields[1:])):
        # A column after its key on an axis is an attribute, without its own totals: only whole grids have those.
        fields = (fields[0], fields[2], fields[1])
    formulas = tuple(
        maker.cell(rnd.choice(("num", "num", "num", "text", "date", "bool")), 2) for _ in range(rnd.choice((1, 1, 2)))
    )
    where = " and ".join(maker.condition() for _ in range(rnd.choice((0, 0, 1, 1, 2))))
    return Case(star, fields, formulas, where)


def _stands_after_its_key(key: tuple[str, str], other: tuple[str, str]) -> bool:
    table, column = key
    return KEYS.get(table) == column and (other[0] == table or (table, other[0]) == ("product", "category"))


def _stands_after_its_level(star: Star, level: tuple[str, str], other: tuple[str, str]) -> bool:
    links = [link for link in star.links if link.level and (link.one, link.one_columns) == (level[0], (level[1],))]
    return bool(links) and other[0] == level[0] and other != level and star.determined(links[0], other[1])


def random_star(rnd: random.Random) -> Star:
    """Tables with their rows, and some of the relationships that they could have."""
    some = lambda values, missing=0.12: None if rnd.random() < missing else rnd.choice(values)  # noqa: E731
    # In some stars every row finds what it looks up: an engine may then take shorter ways.
    whole = rnd.random() < 0.25
    key = lambda values, *lost: rnd.choice(values) if whole else some([*values, *lost])  # noqa: E731
    days = [START + timedelta(days=number) for number in range(DAYS)]
    words = ["a", "b", "B", "cc", "é"]
    money = [Decimal(cents) / 100 for cents in (-250, 0, 5, 100, 333, 1999)]
    floats = [-1.5, 0.0, 0.25, 2.0, 1e6]
    cats, pids, cids = [1, 2, 3], ["p", "q", "r", "s"], [10, 20]
    tables: dict[str, list[dict[str, Any]]] = {
        "category": [{"cat": cat, "name": some(words), "rank": some([1, 2, 3])} for cat in cats],
        "product": [
            {"pid": pid, "cat": key(cats, 9), "weight": some(money), "label": some(words), "live": some([True, False])}
            for pid in pids
        ],
        "customer": [{"cid": cid, "region": some(["N", "S"], 0.3), "since": some(days)} for cid in cids],
        "calendar": [
            {"day": day, "year": day.year, "month": f"{day:%Y-%m}", "weekday": day.isoweekday()} for day in days
        ],
        "price": [
            {"pid": pid, "start": days[start], "amount": some(money), "factor": some(floats)}
            for pid in pids[:3]
            for start in rnd.sample(range(DAYS), rnd.choice((1, 2)))
        ],
        "sales": [
            {"pid": key(pids, "x"), "cid": key(cids, 99), "sold": key(days, START - timedelta(days=40)), "shipped": key(days),
             "quantity": some([-1, 0, 1, 2, 7]), "discount": some(money), "speed": some(floats),
             "paid": some([True, False]), "remark": some(words)}
            for _ in range(rnd.randint(1, 14))
        ],
        "detail": [
            {"pid": pid, "shade": some(["dark", "light"]), "height": some([1, 2])} for pid in rnd.sample([*pids, "z"], 3)
        ],
        "member": [{"cid": key(cids, 77), "club": some(["x", "y"])} for _ in range(rnd.randint(1, 4))],
        "budget": [
            {"cat": cat, "month": month, "target": some(money), "share": some(floats)}
            for cat in [*cats, None, 9] for month in ("2023-12", "2024-01", "2030-01", None) if rnd.random() < 0.5
        ] or [{"cat": 1, "month": "2024-01", "target": Decimal("1.50"), "share": 0.5}],
    }  # fmt: skip
    links = [
        Link("sales", ("pid",), "product", ("pid",)),
        Link("sales", ("cid",), "customer", ("cid",)),
        Link("sales", ("sold",), "calendar", ("day",)),
        Link("sales", ("pid", "sold"), "price", ("pid", "start"), as_of=True, direction="off"),
        Link("price", ("pid",), "product", ("pid",)),
        Link("product", ("cat",), "category", ("cat",)),
        Link("budget", ("cat",), "category", ("cat",)),
        Link("budget", ("month",), "calendar", ("month",), level=True),
        Link("product", ("pid",), "detail", ("pid",), kind="one_to_one"),
        Link(
            "customer",
            ("cid",),
            "member",
            ("cid",),
            kind="many_to_many",
            direction=rnd.choice(("left", "right", "both")),
        ),
        Link("sales", ("shipped",), "calendar", ("day",), standby=True),
    ]
    kept = [link for link in links if rnd.random() < 0.85]
    if rnd.random() < 0.3:
        # Without prices' own link to products, filters may travel from a price to its sales.
        kept = [link for link in kept if (link.many, link.one) != ("price", "product")]
        kept = [replace(link, direction="down") if link.direction == "off" else link for link in kept]
    if rnd.random() < 0.2:
        at = rnd.randrange(len(kept))
        if kept[at].kind == "many_to_one" and not kept[at].level:
            kept[at] = replace(kept[at], direction="both")
    return Star(tables, kept, calendars={"calendar": "day"})


def _derive(rnd: random.Random, star: Star, maker: Maker) -> None:
    for name in ("extra", "other"):
        table = rnd.choice(list(star.tables))
        kind = rnd.choice(("int", "text", "bool", "dec"))
        star.derived[table, name] = maker.row(table, "num" if kind in ("int", "dec") else kind, 2)
        maker.derived[table, name] = "num" if kind in ("int", "dec") else kind


class Maker:
    """Draws formulas by type over the columns that each table can look up."""

    def __init__(self, rnd: random.Random, star: Star, rich: float = 0.0) -> None:
        self.rnd = rnd
        self.star = star
        self.rich = rich
        self.derived: dict[tuple[str, str], str] = {}
        self.lets: list[str] = []
        self._names = 0

    def columns(self, table: str) -> list[str]:
        return [*TYPES[table], *(column for owner, column in self.derived if owner == table)]

    def kind(self, table: str, column: str) -> str:
        kind = self.derived.get((table, column)) or TYPES[table][column]
        return "num" if kind in ("int", "dec", "float") else kind

    def reachable(self, table: str, kind: str) -> list[str]:
        """Columns of a type that a row of ``table`` has or looks up, as formulas write them."""
        return [
            f"{other}.{column}"
            for other in self.star.tables
            for column in self.columns(other)
            if self.kind(other, column) == kind and self.star.finds(table, other, column, self.star.nothing_yet())
        ]

    # -- row expressions -------------------------------------------------------------------------------------------

    def row(self, table: str, kind: str, depth: int) -> str:
        rnd = self.rnd
        if kind == "num" and depth and rnd.random() < self.rich * 0.3:
            return self.cell("num", 0)
        if kind == "bool" and rnd.random() < self.rich * 0.1:
            found = [
                other
                for other, level in self.star.paths(table, self.star.nothing_yet(), filters=False)
                if other != table and not level
            ]
            if found:
                return f"({rnd.choice(found)} is no match)"
        if depth == 0 or rnd.random() < 0.25:
            columns = self.reachable(table, kind)
            return rnd.choice(columns) if columns and rnd.random() < 0.8 else self.literal(kind)
        go = lambda wanted: self.row(table, wanted, depth - 1)  # noqa: E731
        return self.compound(kind, go)

    def literal(self, kind: str) -> str:
        choices = {
            "num": ("0", "1", "2.5", "-3", "1e2"),
            "text": ("'a'", "'cc'", "''"),
            "bool": ("true", "false"),
            "date": ("date '2023-12-30'", "date '2024-01-02'"),
        }[kind]
        return self.rnd.choice(choices)

    def compound(self, kind: str, go: Any) -> str:
        """A formula of a type whose parts ``go`` draws: the same operators in a row and in a cell."""
        rnd = self.rnd
        if kind == "num":
            forms = [
                lambda: f"({go('num')} {rnd.choice('+-*')} {go('num')})",
                lambda: f"({go('num')} / {go('num')})",
                lambda: f"abs({go('num')})",
                lambda: f"round({go('num')}, {rnd.choice((0, 1, -1))})",
                lambda: f"{rnd.choice(('floor', 'ceil'))}({go('num')})",
                lambda: f"coalesce({go('num')}, {go('num')})",
                lambda: f"plus({go('num')}, - {go('num')})",
                lambda: f"nullif({go('num')}, {go('num')})",
                lambda: f"{rnd.choice(('least', 'greatest'))}({go('num')}, {go('num')})",
                lambda: f"{rnd.choice(('year', 'month', 'weekday', 'quarter', 'week', 'day'))}({go('date')})",
                lambda: f"length({go('text')})",
                lambda: f"({go('date')} - {go('date')})",
                lambda: f"cast({go(rnd.choice(('num', 'text')))} as {rnd.choice(('integer', 'decimal(1)', 'float'))})",
                lambda: f"extract({rnd.choice(('year', 'month'))} from {go('date')})",
                lambda: f"case {go('text')} when 'a' then {go('num')} when {go('text')} then {go('num')} end",
            ]
        elif kind == "text":
            forms = [
                lambda: f"({go('text')} || {go('text')})",
                lambda: f"{rnd.choice(('upper', 'lower', 'trim'))}({go('text')})",
                lambda: f"substring({go('text')}, {rnd.choice((1, 2))}, 1)",
                lambda: f"coalesce({go('text')}, {go('text')})",
                lambda: f"cast({go(rnd.choice(('date', 'text')))} as text)",
                lambda: f"band({go('num')} {rnd.choice(('by 2', 'by 0.25', 'by 1e1', 'at 0, 2.5', 'at -1'))})",
                lambda: f"period({go('date')} by {rnd.choice(('month', 'quarter'))})",
            ]
        elif kind == "date":
            forms = [lambda: f"({go('date')} {rnd.choice('+-')} {rnd.choice((1, 30))})",
                     lambda: f"coalesce({go('date')}, {go('date')})", lambda: f"cast({go(rnd.choice(('date', 'text')))} as date)",
                     lambda: f"period({go('date')} by week)",
                     lambda: f"date(year({go('date')}), month({go('date')}), day({go('date')}))"]  # fmt: skip
        else:
            some = rnd.choice(("num", "text", "date"))
            forms = [
                lambda: f"({go(some)} {rnd.choice(('=', '<>', '<', '<=', '>', '>='))} {go(some)})",
                lambda: f"({go('bool')} {rnd.choice(('and', 'or'))} {go('bool')})",
                lambda: f"(not {go('bool')})",
                lambda: f"({go(some)} {rnd.choice(('is null', 'is not null'))})",
                lambda: f"({go(some)} in ({self.literal(some)}, {self.literal(some)}))",
                lambda: f"({go('text')} like {rnd.choice(PATTERNS)})",
                lambda: f"({go('num')} between {go('num')} and {go('num')})",
            ]
        forms.append(lambda: f"case when {go('bool')} then {go(kind)} else {go(kind)} end")
        return rnd.choice(forms)()

    # -- cells -----------------------------------------------------------------------------------------------------

    def cell(self, kind: str, depth: int) -> str:
        rnd = self.rnd
        if self.lets and kind == "num" and rnd.random() < 0.2:
            return rnd.choice(self.lets)
        if depth and rnd.random() < self.rich:
            return self.rich_cell(kind, depth)
        if depth == 0 or rnd.random() < 0.45:
            return self.aggregate(kind)
        go = lambda wanted: self.cell(wanted, depth - 1)  # noqa: E731
        named = [name for name in self.star.measures if kind == "num" and self._numeric(name)]
        if named and rnd.random() < 0.3:
            return rnd.choice(named)
        return self.compound(kind, go)

    def rich_cell(self, kind: str, depth: int) -> str:
        """A formula that nests, names or changes its context."""
        rnd = self.rnd
        inner = lambda wanted="num": self.cell(wanted, depth - 1)  # noqa: E731
        forms = [
            lambda: f"({inner(kind)})[{', '.join(self.change(depth - 1) for _ in range(rnd.choice((1, 1, 2))))}]",
            lambda: f"({inner(kind)})[{', '.join(self.change(depth - 1) for _ in range(rnd.choice((1, 2, 3))))}]",
        ]
        if kind == "num":
            forms += [
                lambda: f"{rnd.choice(('sum', 'avg', 'min', 'max', 'count', 'median'))}({inner()} per {self.grain()})",
                lambda: f"rank({inner()} among {self.member_grain()})",
                lambda: f"running({inner()} among {self.member_grain()} by {inner()} {rnd.choice(('asc', 'desc'))})",
                lambda: (
                    f"{rnd.choice(('previous', 'next'))}({inner()} among {self.member_grain()}{self.maybe_by(inner)})"
                ),
                lambda: f"share({inner()} of {rnd.choice(('total', 'parent', 'row', 'column'))})",
                lambda: (
                    f"{rnd.choice(('growth', 'change'))}({inner()} over {rnd.choice(('1 year', '2 days', '1 month'))})"
                ),
                lambda: self.let(depth),
            ]
        return rnd.choice(forms)()

    def maybe_by(self, inner: Any) -> str:
        return self.rnd.choice(("", f" by {inner()}", f" by {inner()} desc", f" by {inner('text')}"))

    def let(self, depth: int) -> str:
        self._names += 1
        name = f"x{self._names}"
        value = self.cell("num", depth - 1)
        self.lets.append(name)
        body = f"({name} + {self.cell('num', depth - 1)})"
        self.lets.remove(name)
        return f"(let {name} = {value} then {body})"

    def some_column(
        self, tables: tuple[str, ...] = ("category", "product", "customer", "calendar", "detail", "member", "sales")
    ) -> str:
        table = self.rnd.choice(tables)
        return f"{table}.{self.rnd.choice(self.columns(table))}"

    def member_grain(self) -> str:
        return self.rnd.choice(("product", "category", "customer", "calendar.month", "category.name", "product.label"))

    def grain(self) -> str:
        if self.rnd.random() < 0.75:
            return self.member_grain()
        one, other = self.some_column(), self.some_column()
        return f"({one}, {other})" if one != other else one

    def change(self, depth: int) -> str:
        """One change of context."""
        rnd = self.rnd
        unit = rnd.choice(("year", "quarter", "month", "week", "day"))
        column = self.some_column()
        lookup = self.rnd.choice(("product", "category", "customer", "calendar", "detail", "member"))
        forms = [
            lambda: f"where {self.condition()}",
            lambda: self.pin(),
            lambda: (
                f"pin {rnd.choice(('first', 'last'))} {rnd.choice(('calendar.day', 'calendar.month', 'sales.sold', column))}"
            ),
            lambda: (
                f"ignoring {rnd.choice((lookup, column, 'sales', 'axes', 'rows', 'columns', 'innermost', 'row', 'all'))}"
            ),
            lambda: f"ignoring ({lookup}, {column})",
            lambda: f"only {rnd.choice((lookup, column, 'sales'))}",
            lambda: f"{rnd.choice(('back', 'forward'))} {rnd.choice((1, 2))} {unit}",
            lambda: rnd.choice((f"{unit} to date", "to date", "before", f"whole {unit}")),
            lambda: f"trailing {rnd.choice((1, 2, 5))} {unit}",
            lambda: f"{rnd.choice(('back', 'forward'))} {rnd.choice((1, 2))} {unit}",
            lambda: f"keep {self.member_grain()} where {self.cell('bool', max(depth - 1, 0))}",
            lambda: (
                f"keep {rnd.choice(('top', 'bottom'))} {rnd.choice((1, 2))} {self.member_grain()} by {self.cell('num', 0)}"
            ),
            lambda: (
                f"keep {rnd.choice(('top', 'bottom'))} {rnd.choice((1, 2))} {self.member_grain()} "
                f"by ({self.cell('num', 0)}, {self.cell(rnd.choice(('num', 'text')), 0)}{rnd.choice(('', ' desc'))})"
            ),
        ]
        if any(link.standby for link in self.star.links):
            forms.append(lambda: rnd.choice(("via sales.shipped", "via sales.(shipped)")))
        ways = [
            link
            for link in self.star.links
            if link.kind == "many_to_one" and not link.standby and not link.level and not link.as_of
        ]
        if ways:
            link = rnd.choice(ways)
            if (
                sum(other.many == link.many and link.many_columns[0] in other.many_columns for other in self.star.links)
                == 1
            ):
                forms.append(lambda: f"both ways {link.many}.{link.many_columns[0]}")
        return rnd.choice(forms)()

    def pin(self) -> str:
        rnd = self.rnd
        table = rnd.choice(("product", "category", "customer", "calendar", "sales"))
        column = rnd.choice([name for name in self.columns(table) if self.kind(table, name) != "bool"])
        kind = self.kind(table, column)
        return rnd.choice(
            (
                f"pin {table}.{column} = {self.literal(kind)}",
                f"pin {table}.{column} in ({self.literal(kind)}, {self.literal(kind)})",
                f"pin {table}.{column} is null",
                f"pin {table}.{column} is no match",
                f"pin {table} is no match",
                "pin calendar.month = '2024-01'",
                "pin calendar.year = 2023",
            )
        )

    def _numeric(self, name: str) -> bool:
        return self.star.measures[name].startswith(("sum(", "count(", "avg("))

    def aggregate(self, kind: str) -> str:
        rnd = self.rnd
        table = rnd.choice(("sales", "sales", "budget", "price", "product", "customer", "category"))
        over = f" over {table}" if rnd.random() < 0.15 else ""
        own = self._own(table)

        def argument(wanted: str) -> str:
            text = self.row(table, wanted, 1)
            return text if over else self._with(own, text, table)

        if kind == "num":
            forms = [
                lambda: f"sum({argument('num')}{over})",
                lambda: f"avg({argument('num')}{over})",
                lambda: f"count({table})",
                lambda: f"count({argument(rnd.choice(('num', 'text', 'date')))}{over})",
                lambda: f"count(distinct {argument(rnd.choice(('num', 'text', 'date')))}{over})",
                lambda: (
                    f"{rnd.choice(('median', 'stddev', 'variance', 'stddev_pop', 'variance_pop'))}({argument('num')}{over})"
                ),
                lambda: f"percentile(0.9 of {argument('num')}{over})",
                lambda: f"avg({argument('num')} weighted by {self.row(table, 'num', 1)} over {table})",
                lambda: f"{rnd.choice(('min', 'max'))}({argument('num')}{over})",
                lambda: (
                    f"{rnd.choice(('first', 'last'))}({argument('num')} by {self.row(table, rnd.choice(('num', 'date')), 0)} over {table})"
                ),
            ]
            return rnd.choice(forms)()
        if kind == "bool" and rnd.random() < 0.4:
            return f"narrowed({rnd.choice(('product.pid', 'calendar.year', 'category.name'))})"
        if rnd.random() < 0.3:
            options = [
                f"{name}.{column}"
                for name in self.star.tables
                for column in self.columns(name)
                if self.kind(name, column) == kind
            ]
            return f"sole({rnd.choice(options)})"
        return f"{rnd.choice(('min', 'max'))}({argument(kind)}{over})"

    def _own(self, table: str) -> str:
        return {"sales": "sales.quantity", "budget": "budget.target", "price": "price.amount",
                "product": "product.weight", "customer": "customer.cid", "category": "category.rank"}[table]  # fmt: skip

    def _with(self, own: str, text: str, table: str) -> str:
        """The expression, with a column of the table itself in it, so that the row table can be inferred."""
        # A column of the table inside another aggregate of the text says nothing about the rows meant here.
        if f"{table}." in text and not self.rich:
            return text
        return f"case when {own} is null then {text} else {text} end"

    def condition(self) -> str:
        table = self.rnd.choice(("sales", "product", "category", "customer", "calendar", "budget"))
        own = "calendar.weekday" if table == "calendar" else self._own(table)
        text = self.row(table, "bool", 1)
        # An outer `and` would split the condition into parts that may mention no column at all.
        part = text if f"{table}." in text and " and " not in text else f"({own} is not null or {text})"
        stated = self.rnd.random()
        if stated < 0.1 and " or " not in text:
            return f"({part}) over {table}"
        return f"({own} is not null or {text} over {table})" if 0.1 <= stated < 0.15 and " over " not in text else part


def travelling_up(case: Case, rnd: random.Random) -> Case:
    """The case with filters travelling both ways along several relationships at once, which a drawn star rarely has."""
    links = [
        replace(link, direction="both")
        if link.kind == "many_to_one" and not (link.level or link.as_of or link.standby) and rnd.random() < 0.4
        else link
        for link in case.star.links
    ]
    return replace(case, star=replace(case.star, links=links, known={}))
