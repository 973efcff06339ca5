"""Two cells compared: their difference by the members that moved it most, and as quantity, price and mix."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from decimal import Decimal
from fractions import Fraction
from typing import Any

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from relatum.audit.cell.location import Cell, cell_of
from relatum.audit.cell.records import Contribution, Difference
from relatum.audit.cell.story import Asked, CellLook
from relatum.data.arrow import python_values
from relatum.data.types import INTEGER, Kind
from relatum.data.vectors import float_sum
from relatum.errors import RequestError
from relatum.language.expression import Aggregate, Apply, ColumnValue, Expression, InContext
from relatum.language.mentions import Known, request_mentions
from relatum.model.names import column_name, split_name
from relatum.model.routes import Place
from relatum.pivot.axes import resolve_request
from relatum.pivot.request import ask
from relatum.pivot.turning import NO_MATCH
from relatum.plan.compile import GrainWanted, Wanted
from relatum.session.session import Session

#: A column with more members than the first number does not show at a glance what moved; up to the second is best.
_MOST_MEMBERS, _FEW_MEMBERS = 500, 12
#: How much a column is preferred that people already look at, and one that hardly repeats, as an address does.
_LOOKED_AT, _HARDLY_REPEATS = 2.0, 0.1
#: How many columns of lookups are tried.
_MOST_COLUMNS = 24


class _Split(Struct, frozen=True):
    """Values of both cells by the members of a column: the value, and those of other formulas, each before and after.

    These are the quantity where the value is a sum of products, what is divided by what where it is a quotient.
    """

    column: str
    names: tuple[Any, ...]
    before: tuple[Any, ...]
    after: tuple[Any, ...]
    others: tuple[tuple[tuple[Any, ...], tuple[Any, ...]], ...]


def take_apart(session: Session, asked: Asked, other: dict[str, Any], along: str = "") -> Difference:
    """The difference between a cell and another one of the same fields.

    Parameters
    ----------
    session : Session
        The model with its data.
    asked : Asked
        The cell, the later one.
    other : dict
        The members of the cell that it is compared with; those of fields that are not named are the same.
    along : str, optional
        The column by whose members it is taken apart; the one that tells most unless given.

    Raises
    ------
    RequestError
        The value is not a number, one of the cells has none, or no column of a lookup tells members apart.
    """
    earlier = replace(asked, at={**asked.at, **other})
    if set(earlier.at) != set(asked.at):
        raise RequestError("Both cells must have members of the same fields.", fix="Name the fields of the first cell.")
    look = CellLook(session, asked)
    resolved = look.resolved
    if not look.formula.type.numeric:
        raise RequestError("Only numbers have a difference.")
    cells = [look.cell, cell_of(resolved, earlier.at)]
    if any(cell.others for cell in cells):
        raise RequestError("others cannot be one side of a difference.", fix="Compare two members.")
    after, before = (python_values(each.value(look.formula))[0] for each in (look, CellLook(session, earlier)))
    if after is None or before is None:
        raise RequestError(
            "One of the two cells has no value, so there is no difference to explain.",
            fix="Explain the other one alone.",
        )
    quantity, quotient = _quantity(look.formula), _quotient(look.formula)
    others = quotient or ((quantity,) if quantity is not None else ())
    columns = [along] if along else _candidates(look, look.formula)
    splits = []
    for column in columns:
        try:
            splits.append(_split(session, asked, column, cells, others))
        except RequestError:
            if along:
                raise
            continue  # the cell's fields have too many members beside this column's
    splits = [each for each in splits if each.names]
    if not splits:
        raise RequestError("No lookup column divides these two cells into members.", fix="Name one with along.")
    best, winner = max(
        ((each, _parts(each, before, after, bool(quotient))) for each in splits),
        key=lambda each: each[1].telling * _preferred(session, each[0]),
    )
    total = after - before
    pairs = winner.divided or (None,) * len(best.names)
    parts = [
        Contribution(_named(name), old, new, part, pair)
        for name, old, new, part, pair in zip(best.names, best.before, best.after, winner.parts, pairs, strict=True)
    ]
    parts = [each for each in parts if each.part]
    parts.sort(key=lambda each: (-abs(each.part), str(each.name)))
    rest = total - sum((each.part for each in parts), start=type(total)(0))
    if rest and abs(float(rest)) > 1e-9 * max(abs(float(before)), abs(float(after))):
        parts.append(Contribution("the part that does not add up over the members", None, None, rest))
    factors = () if quantity is None else _factors(best, before, after)
    sums = [sum(Fraction(each) for each in side if each is not None) for side in (best.before, best.after)]
    adds_up = bool(winner.divided) or (_alike(sums[0], before) and _alike(sums[1], after))
    return Difference(
        other=cells[1].named,
        before=before,
        after=after,
        total=total,
        by=best.column,
        parts=tuple(parts),
        factors=factors,
        adds_up=adds_up,
    )


def _preferred(session: Session, split: _Split) -> float:
    """How much a column is preferred to others that tell as much: few members, and those that people look at."""
    declaration = session.declaration
    table, column = split_name(split.column)
    weight = min(1.0, _FEW_MEMBERS / len(split.names))
    looked_at = {level for each in declaration.hierarchies.values() for level in each.levels}
    known = Known({name: session.catalog.columns(name) for name in declaration.tables}, declaration.measures)
    for text in (text for pivot in declaration.pivots.values() for text in (*pivot.rows, *pivot.columns)):
        named = (each for each in request_mentions(text, "axis", known) if each.kind == "column")
        looked_at |= {column_name(each.table, each.name) for each in named}
    if split.column in looked_at:
        return weight * _LOOKED_AT
    rows = session.store.rows(Place(table))
    members = len(session.store.members(table, column).values)
    return weight * (_HARDLY_REPEATS if members > _FEW_MEMBERS and members > 0.5 * rows else 1.0)


def _named(name: Any) -> str:
    return "(no match)" if name is NO_MATCH else "(null)" if name is None else str(name)


def _minus(new: Any, old: Any) -> Any:
    if new is None:
        return -old if old is not None else 0
    return new if old is None else new - old


# -- the values by members --------------------------------------------------------------------------------------------


def _split(session: Session, asked: Asked, column: str, cells: Sequence[Cell], others: Sequence[Expression]) -> _Split:
    """The value of both cells by the members of a column, each as the grid with that column has it."""
    request = asked.request
    wider = replace(request, rows=(*request.rows, *ask(rows=column).rows))
    resolved = resolve_request(session, wider)
    own = resolved.session
    keys = tuple(range(len(resolved.heads)))
    fields = tuple(resolved.head(key).field for key in keys)
    added = resolved.row_count - 1
    formulas = (resolved.formulas[asked.number], *others)
    wanted = Wanted(
        fields,
        formulas,
        resolved.filters,
        (GrainWanted(keys),),
        resolved.row_count,
        cell_limit=10_000_000,
        keeps=resolved.keeps,
    )
    found = own.engine.run(own.plan(wanted)[0])
    grain = found.cells[0]
    sides: list[dict[int, tuple[Any, ...]]] = []
    for cell in cells:
        mask = np.ones(len(grain.codes), np.bool_)
        for key, code in cell.codes.items():
            mask &= grain.codes[:, key if key < added else key + 1] == code
        rows = np.flatnonzero(mask)
        values = [python_values(each.take(rows)) for each in grain.values]
        sides.append(dict(zip(grain.codes[rows, added].tolist(), zip(*values, strict=True), strict=True)))
    members = found.members[added]
    codes = sorted({*sides[0], *sides[1]})
    texts = python_values(members.values.take(np.array([code for code in codes if code < members.null], np.int64)))
    names = [*texts, *(None if code == members.null else NO_MATCH for code in codes if code >= members.null)]
    blank = (None,) * len(formulas)
    after, before = ([side.get(code, blank) for code in codes] for side in sides)
    pairs = [tuple(tuple(each[at] for each in side) for side in (before, after)) for at in range(len(formulas))]
    (old, new), *more = ((pair[0], pair[1]) for pair in pairs)
    return _Split(column, tuple(names), old, new, tuple(more))


def _candidates(look: CellLook, formula: Expression) -> list[str]:
    """The columns of lookups by which a value could be taken apart: with some members, and not on the cell itself."""
    catalog, store, declaration = look.session.catalog, look.session.store, look.session.declaration
    fact = _fact(formula)
    taken = {(resolved.field.table, resolved.field.column) for resolved in look.resolved.fields}
    calendars = {table for table, _ in taken if catalog.is_calendar(table)}
    found: list[str] = []
    for place in catalog.routes.lookups(Place(fact)) if fact else ():
        table = place.table
        if place.level or table == fact or table in calendars or catalog.is_calendar(table):
            continue
        for column in catalog.shown(table):
            useful = catalog.columns(table)[column].kind is Kind.TEXT and (table, column) not in taken
            if not useful or catalog.filter(table, frozenset([column]), fact) is None:
                continue
            members = len(store.members(table, column).values)
            keyed = declaration.tables[declaration.rows_of(table)].key == (column,)
            if 2 <= members <= _MOST_MEMBERS and not keyed:
                found.append(column_name(table, column))
    return found[:_MOST_COLUMNS]


def _fact(expression: Expression) -> str:
    """The row table of the first aggregate of a formula."""
    while isinstance(expression, InContext):
        expression = expression.formula
    if isinstance(expression, Aggregate):
        return expression.row_table
    if isinstance(expression, Apply):
        return next((found for each in expression.arguments if (found := _fact(each))), "")
    return ""


class _Parts(Struct, frozen=True):
    """What each member contributed, and how uneven the moves are, relative to the number of members.

    Of a quotient, ``divided`` are the numbers above and below the line, before and after.
    """

    parts: list[Any]
    telling: float
    divided: tuple[tuple[tuple[float, float], tuple[float, float]], ...] = ()


def _parts(split: _Split, before: Any, after: Any, divided: bool) -> _Parts:
    if divided:
        found = _weighted(split, float(before), float(after))
        if found is not None:
            return found
    rate = float(after) / float(before) if before else 0.0
    pairs = list(zip(split.before, split.after, strict=True))
    off = float_sum(abs(float(new or 0) - float(old or 0) * rate) for old, new in pairs)
    return _Parts([_minus(new, old) for old, new in pairs], off / math.sqrt(len(pairs)))


def _weighted(split: _Split, before: float, after: float) -> _Parts | None:
    """The parts of a quotient that adds up over the members above and below the line; None where it does not.

    A member's part is its distance from the old value of all, times its weight below the line, now less before. The
    parts add up to the difference: the distances of all members before, so weighted, come to nothing.
    """
    (old_above, new_above), (old_below, new_below) = (
        [[float(each or 0) for each in s] for s in p] for p in split.others
    )
    sums = [float_sum(each) for each in (old_above, old_below, new_above, new_below)]
    if not sums[1] or not sums[3]:
        return None
    if not math.isclose(sums[0] / sums[1], before, rel_tol=1e-9) or not math.isclose(
        sums[2] / sums[3], after, rel_tol=1e-9
    ):
        return None
    off = [(above - before * below) / sums[1] for above, below in zip(old_above, old_below, strict=True)]
    parts = [
        (above - before * below) / sums[3] - old for above, below, old in zip(new_above, new_below, off, strict=True)
    ]
    alike = [(after - before) * below / sums[3] for below in new_below]
    uneven = float_sum(abs(part - each) for part, each in zip(parts, alike, strict=True))
    divided = tuple(zip(zip(old_above, old_below, strict=True), zip(new_above, new_below, strict=True), strict=True))
    return _Parts(parts, uneven / math.sqrt(len(parts)), divided)


def _quotient(expression: Expression) -> tuple[Expression, Expression] | None:
    """What is divided by what: of a quotient its sides, of an average sum and count; None for any other formula."""
    match expression:
        case Apply("/", (above, below)) if above.type.numeric:
            return above, below
        case Aggregate("avg", (argument,)):
            total = replace(expression, function="sum", type=argument.type, text="")
            return total, replace(expression, function="count", type=INTEGER, text="")
        case _:
            return None


# -- quantity, price and mix ------------------------------------------------------------------------------------------


def _quantity(expression: Expression) -> Expression | None:
    """The sum of the quantity in a sum of products; None for any other formula.

    The quantity is the factor that is a column of the rows themselves, and whole numbers if there is one, rather than
    looked up or worked out: it may be anywhere.
    """
    if not isinstance(expression, Aggregate) or expression.function != "sum" or expression.grain is not None:
        return None
    (argument,) = expression.arguments
    factors = list(_multiplied(argument))
    if len(factors) == 1:
        return None

    def rank(factor: Expression) -> tuple[bool, bool]:
        own = isinstance(factor, ColumnValue) and factor.table == expression.row_table
        return not own, factor.type.kind is not Kind.INTEGER

    factor = min(factors, key=rank)
    return replace(expression, arguments=(factor,), type=factor.type, text="")


def _multiplied(expression: Expression) -> Iterator[Expression]:
    """The factors of a product, in the order in which they are written."""
    if isinstance(expression, Apply) and expression.function == "*":
        for each in expression.arguments:
            yield from _multiplied(each)
    else:
        yield expression


def _factors(split: _Split, before: Any, after: Any) -> tuple[Contribution, ...]:
    """A difference split into quantity, mix, price, new and gone members; the parts add up to it exactly.

    Over the members that have a quantity before and after: quantity at their old average price; mix, that other shares
    of the quantity went to dear and to cheap members, at their old prices; price, that each member's own average price
    changed. New members have no quantity before, those that are gone none after: they are parts of their own.
    """
    members = [
        tuple(Fraction(each or 0) for each in member)
        for member in zip(*split.others[0], split.before, split.after, strict=True)
    ]
    if not (_alike(sum(each[2] for each in members), before) and _alike(sum(each[3] for each in members), after)):
        return ()
    kept = [each for each in members if each[0] and each[1]]
    new = sum((each[3] for each in members if each not in kept), start=Fraction(0))
    gone = sum((each[2] for each in members if each not in kept), start=Fraction(0))
    old_quantity, new_quantity, old_value, new_value = (
        sum((each[at] for each in kept), start=Fraction(0)) for at in range(4)
    )
    if kept and not old_quantity:
        return ()
    exact = isinstance(after, int | Decimal)
    found: list[Contribution] = []
    if kept:
        average = old_value / old_quantity
        at_old_prices = sum((each[1] * each[2] / each[0] for each in kept), start=Fraction(0))
        quantity = _rounded((new_quantity - old_quantity) * average, exact, after)
        price = _rounded(new_value - at_old_prices, exact, after)
        mix = _rounded(new_value - old_value, exact, after) - quantity - price
        found = [
            Contribution("quantity", float(old_quantity), float(new_quantity), quantity),
            Contribution("mix", None, None, mix),
            Contribution("price", None, None, price),
        ]
    ends = [("new", new), ("gone", -gone)]
    found += [Contribution(name, None, None, _rounded(value, exact, after)) for name, value in ends if value]
    return tuple(found)


def _alike(value: Fraction | int, total: Any) -> bool:
    """Whether members add up to a total; sums of floats do so nearly."""
    off = abs(value - Fraction(total))
    return off <= (abs(Fraction(total)) * Fraction(1, 10**9) if isinstance(total, float) else 0)


def _rounded(value: Fraction, exact: bool, like: Any) -> Any:
    """A part in the digits of the difference, so that the three add up exactly."""
    if not exact:
        return float(value)
    if isinstance(like, int):
        return round(value)
    digits = -int(like.as_tuple().exponent)
    return Decimal(round(value * 10**digits)).scaleb(-digits)
