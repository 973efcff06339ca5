"""Random requests, put to engine and oracle. Run as a script, it compares as many as asked and prints those that differ."""

from __future__ import annotations

import random
import sys
from dataclasses import dataclass, replace
from typing import Any

import relatum
from agreement import REFUSED, Refused, _key, alike, build
from oracle import Star
from oracle_grids import BELOW, OTHERS, Asked, Grid
from oracle_rows import NO_MATCH_MEMBER, TOTAL
from stars import KEYS, Case, Maker, random_case

#: Requests that the engine refuses for good reasons, beside those of formulas.
REFUSED_REQUESTS = (*REFUSED, "can have several values of", "is on the axes twice", "A keep of a request has no axes", "so the two form one field",
                    "must be a constant number", "no rows find", "finds a row in")  # fmt: skip


@dataclass
class GridCase:
    """A star and a request."""

    star: Star
    asked: Asked

    def __repr__(self) -> str:
        star = repr(Case(self.star, (), (), ""))
        return f"{star}\n{self.asked}"


def random_grid(rnd: random.Random) -> GridCase:
    """A whole case from a source of randomness."""
    case = random_case(rnd, plain=rnd.random() < 0.5)
    maker = Maker(rnd, case.star, rnd.choice((0.0, 0.0, 0.25)))
    values = tuple(maker.cell("num", rnd.choice((0, 0, 1))) for _ in range(rnd.choice((1, 1, 2))))
    values = tuple(_respelled(rnd, value) for value in values)
    rows, columns = rnd.choice(((1, 0), (1, 1), (2, 0), (2, 0), (2, 1), (1, 2), (3, 0)))
    used: set[str] = set()
    texts = [_field(rnd, maker, used) for _ in range(rows + columns)]
    keeps = [_keep(rnd, maker, values) for _ in range(rnd.choice((0, 0, 0, 1, 2)))]
    asked = Asked(
        tuple(texts[:rows]),
        tuple(texts[rows:]),
        values,
        maker.condition() if rnd.random() < 0.3 else "",
        ", ".join(keeps),
        rnd.random() < 0.85,
        rnd.random() < 0.1,
    )
    return GridCase(case.star, asked)


def _respelled(rnd: random.Random, value: str) -> str:
    if rnd.random() < 0.7:
        return value
    return rnd.choice((f"share({value} of {{}})", f"rank({value} among product.label)", f"growth({value} over 1 day)",
                       f"({value})[pin last calendar.day]")).format(rnd.choice(("total", "parent", "row", "column")))  # fmt: skip


def _field(rnd: random.Random, maker: Maker, used: set[str]) -> str:
    tables = ("category", "product", "customer", "calendar", "sales", "product", "calendar", "budget")
    name = ""
    while not name or name in used:
        name = maker.some_column(tables)
        if rnd.random() < 0.2:
            table = rnd.choice(("sales", "product", "customer", "category"))
            number = {
                "sales": "sales.quantity",
                "product": "product.weight",
                "customer": "customer.cid",
                "category": "category.rank",
            }[table]
            name = rnd.choice((f"band({number} by 2)", f"band({number} at 0, 2)", f"band({maker.aggregate('num')} by 5) over {table}",
                               f"({number} > 1)", "period(sales.sold by month)"))  # fmt: skip
        elif rnd.random() < 0.15:
            name = rnd.choice([f"{table}.{key}" for table, key in KEYS.items()] + ["calendar.month"])
    used.add(name)
    return " ".join([name, *_options(rnd, maker, name)])


def _options(rnd: random.Random, maker: Maker, name: str) -> list[str]:
    options = []
    if rnd.random() < 0.35:
        options.append(f"by {_by(rnd, maker, name)}")
    if rnd.random() < 0.35:
        by = rnd.choice(
            (
                "",
                "",
                f" by {maker.aggregate('num')}",
                f" by ({maker.aggregate('num')}, {maker.aggregate(rnd.choice(('num', 'text')))}{rnd.choice(('', ' desc'))})",
            )
        )
        options.append(
            f"{rnd.choice(('top', 'bottom'))} {rnd.choice((1, 1, 2))}{by}{rnd.choice(('', ' with others', ' with others'))}"
        )
    options.append(rnd.choice(("", "", "", "no total", "total before", "total after")))
    if rnd.random() < 0.2:
        members = ", ".join(rnd.sample(("null", "no match", *_members(name)), 2))
        options.append(rnd.choice(("closed", f"open ({members})")))
    return options


def _members(name: str) -> tuple[str, ...]:
    return {"calendar.month": ("'2023-12'", "'2024-01'"), "product.pid": ("'p'", "'q'"), "product.label": ("'a'", "'B'"),
            "customer.region": ("'N'",), "category.name": ("'a'", "'b'"), "category.cat": ("1", "2"), "calendar.year": ("2023", "2024"),
            "customer.cid": ("10",), "sales.quantity": ("1", "-1"), "calendar.day": ("date '2023-12-30'",)}.get(name, ())  # fmt: skip


def _by(rnd: random.Random, maker: Maker, name: str) -> str:
    one = rnd.choice(
        (
            maker.aggregate("num"),
            maker.aggregate("num"),
            maker.aggregate("text"),
            maker.cell("num", 1),
            _settled(rnd, name),
        )
    )
    if rnd.random() < 0.3:
        return f"({one}{rnd.choice(('', ' desc'))}, {maker.aggregate('num')}{rnd.choice(('', ' desc'))})"
    return f"{one}{rnd.choice(('', ' desc'))}"


def _settled(rnd: random.Random, name: str) -> str:
    """A column that a field mostly determines."""
    known = {"product.pid": ("product.weight", "product.label", "category.name"), "calendar.day": ("calendar.weekday", "calendar.month"),
             "customer.cid": ("customer.region",), "category.cat": ("category.name", "category.rank"), "calendar.month": ("calendar.year",)}  # fmt: skip
    return rnd.choice(known.get(name, (name if "(" not in name else "product.weight",)))


def _keep(rnd: random.Random, maker: Maker, values: tuple[str, ...]) -> str:
    grain = rnd.choice(
        ("product", "category", "customer", "calendar.month", "calendar", "sales.remark", maker.some_column())
    )
    if rnd.random() < 0.3:  # by what is asked: an engine may have the answer already
        return f"{grain} where {rnd.choice(values)} {rnd.choice(('>', '<='))} {rnd.choice((0, 1, 2))}"
    if rnd.random() < 0.5:
        return f"{grain} where {maker.cell('bool', 0)}"
    return f"{rnd.choice(('top', 'bottom'))} {rnd.choice((1, 2))} {grain} by {maker.aggregate('num')}"


def pivoted(model: relatum.Model, asked: Asked) -> relatum.Grid:
    """A model asked for a grid, its values labelled by their numbers."""
    values = {f"v{number}": value for number, value in enumerate(asked.values)}
    return model.pivot(
        asked.rows,
        asked.columns,
        values,
        asked.where,
        keep=asked.keep,
        totals=asked.totals,
        show_empty=asked.show_empty,
    )


def difference(case: GridCase) -> str | None:
    """What differs between engine and oracle; None when they agree. Raises Refused where the engine refuses the case."""
    asked = case.asked
    try:
        model = build(case.star)
        grid = pivoted(model, asked)
    except relatum.RelatumError as error:
        if any(reason in str(error) for reason in REFUSED_REQUESTS):
            raise Refused(str(error)) from None
        raise
    expected = Grid(replace(case.star, derived=dict(case.star.derived), known={}), asked).lines()
    got = list(_told(grid, len(asked.values)))
    wanted = [(tuple(map(_key, key)), values) for key, values in expected.items()]
    for at in range(max(len(got), len(wanted))):
        if at >= len(got) or at >= len(wanted) or got[at][0] != wanted[at][0]:
            return f"line {at}: got {got[at : at + 2]}, expected {wanted[at : at + 2]}"
        if not all(map(alike, got[at][1], wanted[at][1])):
            return f"line {at}: got {got[at]}, expected {wanted[at]}"
    return None


def _told(grid: Any, count: int) -> Any:
    """The lines of a grid as the oracle tells them."""
    result = grid.result
    for record in grid.to_arrow(totals=True).to_pylist():
        key: list[Any] = []
        heads: dict[int, Any] = {}
        for word in ("rows", "columns"):
            below = False
            for position, axis in enumerate(result.axes):
                if (position < result.row_count) != (word == "rows"):
                    continue
                name = axis.name
                attribute = axis.attribute is not None
                if record[f"{name}:total"]:
                    member: Any = TOTAL
                elif record.get(f"{name}:no_match"):
                    member = NO_MATCH_MEMBER
                elif record.get(f"{name}:others"):
                    member = OTHERS
                else:
                    head = heads.get(axis.attribute[0]) if attribute else None
                    member = BELOW if (head in (OTHERS, BELOW) if attribute else below) else record[name]
                if not attribute:
                    heads[position] = member
                    below = below or member is OTHERS or bool(record.get(f"{name}:closed"))
                key.append(member)
        yield tuple(map(_key, key)), [record[f"v{at}"] for at in range(count)]


def main() -> int:
    """Run a number of random cases and print those that differ."""
    count, seed = int(sys.argv[1]), int(sys.argv[2]) if len(sys.argv) > 2 else 0
    differ = refused = 0
    reasons: dict[str, int] = {}
    for number in range(count):
        case = random_grid(random.Random(seed * 1_000_003 + number))
        try:
            found = difference(case)
        except Refused as error:
            refused += 1
            reasons[str(error).split("\n")[0][:60]] = reasons.get(str(error).split("\n")[0][:60], 0) + 1
            continue
        except Exception as error:
            found = f"{type(error).__name__}: {error}"
        if found:
            differ += 1
            print(f"-- case {number} of seed {seed}: {found}\n{case}\n", flush=True)
    print(f"{count} cases, {refused} refused on purpose, {differ} differ")
    for reason, times in sorted(reasons.items(), key=lambda each: -each[1])[:12]:
        print(f"  {times} {reason}")
    return 1 if differ else 0


if __name__ == "__main__":
    sys.exit(main())
