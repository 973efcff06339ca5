"""Numbers in bands as SQL, and the edges that bands are ordered by."""

from __future__ import annotations

import itertools
from decimal import Decimal

from sqlglot import exp

from relatum.data.types import INTEGER, TEXT, Kind, Type
from relatum.engine.sql.dialects import WIDE, Dialect
from relatum.engine.sql.terms import (
    Sql,
    Value,
    at_least,
    bigint,
    call,
    case,
    cast,
    constant,
    decimal_type,
    divided,
    double,
    float_number,
    is_null,
    is_there,
    less,
    minus,
    null,
    number,
    plus,
    remainder,
    sql_type,
    text,
    times,
)


def piped(*parts: Sql) -> Sql:
    """Texts joined."""
    result = parts[0]
    for part in parts[1:]:
        result = exp.DPipe(this=result, expression=part, safe=True)
    return result


def _edge_of(value: Value) -> Decimal:
    return Decimal(int(value.constant or 0)).scaleb(-value.type.scale)


def _plain(value: Decimal) -> str:
    shown = f"{value:f}"
    return shown.rstrip("0").rstrip(".") if "." in shown else shown


def band_at(dialect: Dialect, arguments: list[Value], type_: Type) -> Sql:
    """The band between edges that contains a number."""
    value, edges = arguments[0], [_edge_of(each) for each in arguments[1:]]
    shown = [_plain(edge) for edge in edges]
    names = [f"below {shown[0]}", *(f"{one} to {other}" for one, other in itertools.pairwise(shown))]
    branches = [(is_null(value.sql), null(TEXT))]
    for edge, name in zip(edges, names, strict=True):
        limit = float_number(float(edge)) if value.type.kind is Kind.FLOAT else decimal_constant(edge)
        branches.append((less(value.sql.copy(), limit), text(name)))
    return case(branches, text(f"from {shown[-1]}"))


def decimal_constant(value: Decimal) -> Sql:
    """A number of a formula, exactly."""
    scale = max(-int(value.as_tuple().exponent), 0)
    if not scale and abs(value) >= 2**63:
        return cast(text(f"{value:f}"), decimal_type(WIDE, 0))
    return constant(int(value.scaleb(scale)), Type(Kind.DECIMAL, scale) if scale else INTEGER)


def band_by(dialect: Dialect, arguments: list[Value], type_: Type) -> Sql:
    """The band of one width that contains a number."""
    value, width = arguments
    step, scale = int(width.constant or 1), width.type.scale
    if value.type.kind is Kind.FLOAT:
        unit = 10.0**scale
        guess = call("FLOOR", divided(times(value.sql, float_number(unit)), float_number(float(step))))
        low = divided(times(guess, number(step)), float_number(unit))
        below = minus(guess.copy(), case([(less(value.sql.copy(), low), number(1))], number(0)))
        next_edge = divided(times(plus(below.copy(), number(1)), number(step)), float_number(unit))
        place = plus(below, case([(at_least(value.sql.copy(), next_edge), number(1))], number(0)))
        lower = times(bigint(place), bigint(number(step)))
        edges = [_scaled(each, scale) for each in (lower, plus(lower.copy(), number(step)))]
    else:
        wide = max(value.type.scale, scale)
        exact = decimal_type(WIDE, wide)
        width_sql = cast(decimal_constant(_edge_of(width)), exact)
        mine = cast(value.sql, exact)
        rest = remainder(plus(remainder(mine, width_sql), width_sql.copy()), width_sql.copy())
        lower = minus(mine.copy(), rest)
        edges = [lower, plus(lower.copy(), width_sql.copy())]
        scale = wide
    low_text, high_text = (_number_text(dialect, each, scale) for each in edges)
    return case([(is_there(value.sql.copy()), piped(low_text, text(" to "), high_text))])


def _scaled(value: Sql, scale: int) -> Sql:
    """Whole numbers read as decimals with a number of digits."""
    if not scale:
        return value
    return cast(
        times(cast(value, decimal_type(WIDE - scale, 0)), constant(1, Type(Kind.DECIMAL, scale))),
        decimal_type(WIDE, scale),
    )


def _number_text(dialect: Dialect, value: Sql, scale: int) -> Sql:
    if not scale:
        return cast(value, sql_type(TEXT))
    shown = cast(cast(value, decimal_type(WIDE, scale)), sql_type(TEXT))
    return dialect.without_end(dialect.without_end(shown, "0"), ".")


def band_edge(dialect: Dialect, arguments: list[Value], type_: Type) -> Sql:
    """The lower edge of a band as a number."""
    (value,) = arguments
    number_text = call("SPLIT_PART", call("REPLACE", value.sql, text("from "), text("")), text(" "), number(1))
    lowest = exp.Like(this=value.sql.copy(), expression=text("below %"))
    return case([(lowest, float_number(-1.7976931348623157e308))], double(number_text))
