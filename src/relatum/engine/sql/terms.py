"""Pieces of SQL as trees: constants, operators with their brackets, columns, conditions."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence

from msgspec import Struct
from sqlglot import exp

from relatum.data.days import day_of
from relatum.data.types import INTEGER, Kind, Type

Sql = exp.Expression
_LOOSE = (exp.Binary, exp.Unary, exp.Between, exp.In, exp.Interval)


class Value(Struct, frozen=True, eq=False):
    """A value as SQL, with its type in the language.

    ``wide`` says that whole numbers are 64 bits wide in the database, too, so that nothing overflows earlier.
    ``constant`` is what a constant of a formula holds.
    """

    sql: Sql
    type: Type
    wide: bool = True
    constant: int | float | str | bool | None = None


def column(alias: str, name: str) -> Sql:
    """A column of something in a query."""
    return exp.Column(this=quoted(name), table=quoted(alias))


def quoted(name: str) -> exp.Identifier:
    """A name, in quotes."""
    return exp.Identifier(this=name, quoted=True)


def closed(sql: Sql) -> Sql:
    """An expression that binds as one."""
    return exp.Paren(this=sql) if isinstance(sql, _LOOSE) and not isinstance(sql, exp.Dot) else sql


def call(name: str, *arguments: Sql) -> Sql:
    """A function of the database, applied."""
    return exp.Anonymous(this=name, expressions=list(arguments))


def binary(kind: type[exp.Binary], left: Sql, right: Sql) -> Sql:
    """Two operands with an operator between them."""
    return kind(this=closed(left), expression=closed(right))  # type: ignore[return-value]


def plus(left: Sql, right: Sql) -> Sql:
    """A sum."""
    return binary(exp.Add, left, right)


def minus(left: Sql, right: Sql) -> Sql:
    """A difference."""
    return binary(exp.Sub, left, right)


def times(left: Sql, right: Sql) -> Sql:
    """A product."""
    return binary(exp.Mul, left, right)


def divided(left: Sql, right: Sql) -> Sql:
    """A quotient, as the database has it: typed, so that nothing is guessed of its operands."""
    return exp.Div(this=closed(left), expression=closed(right), typed=True, safe=False)


def remainder(left: Sql, right: Sql) -> Sql:
    """What is left of a division."""
    return binary(exp.Mod, left, right)


def equal(left: Sql, right: Sql) -> Sql:
    """Whether two values are the same."""
    return binary(exp.EQ, left, right)


def less(left: Sql, right: Sql) -> Sql:
    """Whether one value is below another."""
    return binary(exp.LT, left, right)


def at_most(left: Sql, right: Sql) -> Sql:
    """Whether one value is not above another."""
    return binary(exp.LTE, left, right)


def at_least(left: Sql, right: Sql) -> Sql:
    """Whether one value is not below another."""
    return binary(exp.GTE, left, right)


def is_null(sql: Sql) -> Sql:
    """Whether there is no value."""
    return exp.Is(this=closed(sql), expression=exp.Null())


def is_there(sql: Sql) -> Sql:
    """Whether there is a value."""
    return exp.Not(this=is_null(sql))


def negated(sql: Sql) -> Sql:
    """The opposite of a condition."""
    return exp.Not(this=closed(sql))


def all_of(conditions: Iterable[Sql]) -> Sql:
    """Conditions that all hold."""
    parts = list(conditions)
    if not parts:
        return exp.true()
    if len(parts) > 1:
        parts = [exp.Paren(this=part) if isinstance(part, exp.Or) else part for part in parts]
    result = parts[0]
    for part in parts[1:]:
        result = exp.And(this=result, expression=part)
    return result


def any_of(conditions: Iterable[Sql]) -> Sql:
    """Conditions of which one holds."""
    parts = list(conditions)
    if not parts:
        return exp.false()
    if len(parts) > 1:
        parts = [exp.Paren(this=part) if isinstance(part, exp.And) else part for part in parts]
    result = parts[0]
    for part in parts[1:]:
        result = exp.Or(this=result, expression=part)
    return result


def case(branches: Sequence[tuple[Sql, Sql]], otherwise: Sql | None = None) -> Sql:
    """The value of the first condition that holds."""
    ifs = [exp.If(this=condition, true=value) for condition, value in branches]
    return exp.Case(ifs=ifs, default=otherwise)


def coalesce(*parts: Sql) -> Sql:
    """The first that has a value."""
    return exp.Coalesce(this=parts[0], expressions=list(parts[1:]))


def cast(sql: Sql, type_: exp.DataType) -> Sql:
    """A value as another type of the database."""
    return exp.Cast(this=sql, to=type_)


def sql_type(type_: Type) -> exp.DataType:
    """The database's type for a type of the language."""
    match type_.kind:
        case Kind.INTEGER:
            return exp.DataType.build("BIGINT")
        case Kind.DECIMAL:
            return decimal_type(38, type_.scale)
        case Kind.FLOAT:
            return exp.DataType.build("DOUBLE")
        case Kind.TEXT | Kind.NULL:
            return exp.DataType.build("TEXT")
        case Kind.BOOLEAN:
            return exp.DataType.build("BOOLEAN")
        case Kind.DATE:
            return exp.DataType.build("DATE")
        case Kind.TIMESTAMP:
            kinds = exp.DataType.Type
            return exp.DataType(this=kinds.TIMESTAMP_NS if type_.scale else kinds.TIMESTAMPNTZ)
    raise AssertionError(f"{type_} has a type in SQL")


def decimal_type(width: int, scale: int) -> exp.DataType:
    """The decimal type with a number of digits."""
    sizes = [exp.DataTypeParam(this=exp.Literal.number(size)) for size in (width, scale)]
    return exp.DataType(this=exp.DataType.Type.DECIMAL, expressions=sizes)


def number(value: int) -> Sql:
    """A whole number."""
    return exp.Literal.number(value) if value >= 0 else exp.Paren(this=exp.Neg(this=exp.Literal.number(-value)))


def text(value: str) -> Sql:
    """A text."""
    return exp.Literal.string(value)


def float_number(value: float) -> Sql:
    """A float, to its last bit."""
    assert math.isfinite(value), "no value is infinite"
    shown = exp.Literal.number(repr(abs(value)))
    return cast(exp.Paren(this=exp.Neg(this=shown)) if value < 0 else shown, sql_type(Type(Kind.FLOAT)))


def null(type_: Type) -> Sql:
    """No value, of a type."""
    return cast(exp.Null(), sql_type(type_))


def constant(value: int | float | str | bool | None, type_: Type) -> Sql:
    """A constant of a formula, as it is held inside."""
    if value is None:
        return null(type_)
    match type_.kind:
        case Kind.INTEGER:
            return number(int(value)) if abs(int(value)) < 1 << 31 else cast(number(int(value)), sql_type(INTEGER))
        case Kind.DECIMAL:
            return cast(text(_decimal_text(int(value), type_.scale)), _narrow_decimal(int(value), type_.scale))
        case Kind.FLOAT:
            return float_number(float(value))
        case Kind.TEXT:
            return text(str(value))
        case Kind.BOOLEAN:
            return exp.true() if value else exp.false()
        case Kind.DATE:
            return cast(text(day_of(int(value)).isoformat()), sql_type(type_))
        case Kind.TIMESTAMP:
            return cast(text(_moment_text(int(value), type_.scale)), sql_type(type_))
        case Kind.NULL:
            raise AssertionError("the constant null has no value")
    raise AssertionError(f"{type_} has constants")


def _moment_text(value: int, scale: int) -> str:
    """A moment, counted in microseconds or finer units, as text."""
    unit = 10 ** (6 + scale)
    days, within = divmod(value, 86_400 * unit)
    seconds, part = divmod(within, unit)
    clock = f"{seconds // 3600:02}:{seconds // 60 % 60:02}:{seconds % 60:02}"
    return f"{day_of(days).isoformat()} {clock}" + (f".{part:0{6 + scale}}" if part else "")


def _narrow_decimal(value: int, scale: int) -> exp.DataType:
    return decimal_type(max(len(str(abs(value))), scale, 1), scale)


def _decimal_text(value: int, scale: int) -> str:
    digits = f"{abs(value):0{scale + 1}d}"
    whole, part = (digits[:-scale], digits[-scale:]) if scale else (digits, "")
    return f"{'-' if value < 0 else ''}{whole}{'.' if part else ''}{part}"


def blank(type_: Type) -> Sql:
    """What is in a key's column where its member is null or no match."""
    match type_.kind:
        case Kind.INTEGER | Kind.DECIMAL | Kind.FLOAT:
            return cast(number(0), sql_type(type_)) if type_.kind is not Kind.INTEGER else number(0)
        case Kind.TEXT | Kind.NULL:
            return text("")
        case Kind.BOOLEAN:
            return exp.false()
        case Kind.DATE | Kind.TIMESTAMP:
            return cast(text("1970-01-01"), sql_type(type_))
    raise AssertionError(f"{type_} has a blank")


def bigint(sql: Sql) -> Sql:
    """A value as a whole number of 64 bits."""
    return cast(sql, sql_type(INTEGER))


def double(sql: Sql) -> Sql:
    """A value as a float."""
    return cast(sql, sql_type(Type(Kind.FLOAT)))


def aliased(sql: Sql, name: str) -> Sql:
    """A value under a name."""
    return exp.Alias(this=sql, alias=quoted(name))


def copied(alias: str, names: Iterable[str]) -> list[Sql]:
    """Columns of a relation under the names that they have there."""
    return [aliased(column(alias, name), name) for name in names]


def united(selects: Sequence[exp.Select | exp.Union], *, distinct: bool) -> exp.Select | exp.Union:
    """The rows of several SELECTs one after another, or each different one once."""
    whole, *others = selects
    for select in others:
        whole = exp.Union(this=whole, expression=select, distinct=distinct)
    return whole


def exists_not(source: Sql, on: Sequence[Sql]) -> Sql:
    """That no row of a relation fulfils conditions."""
    inner = exp.Select(expressions=[number(1)])
    inner.set("from_", exp.From(this=source))
    inner.set("where", exp.Where(this=all_of(on)))
    return exp.Not(this=exp.Exists(this=inner))


def none_without_rows(select: exp.Select) -> None:
    """Make the one group of a SELECT none where it has no rows."""
    select.set("having", exp.Having(this=less(number(0), exp.Count(this=exp.Star()))))
