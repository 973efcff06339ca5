"""Scalar functions as SQL: the form of each record of the function register."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from decimal import Decimal

from sqlglot import exp

from relatum.data.types import BOOLEAN, DATE, FLOAT, INTEGER, TEXT, Kind, Type
from relatum.engine.sql.bands import band_at, band_by, band_edge, decimal_constant, piped
from relatum.engine.sql.dialects import WIDE, Dialect
from relatum.engine.sql.terms import (
    Sql,
    Value,
    all_of,
    any_of,
    at_least,
    at_most,
    bigint,
    binary,
    call,
    case,
    cast,
    closed,
    coalesce,
    decimal_type,
    divided,
    double,
    equal,
    float_number,
    is_null,
    is_there,
    less,
    minus,
    negated,
    null,
    number,
    plus,
    remainder,
    sql_type,
    text,
    times,
)
from relatum.language.register import SCALARS

#: Functions whose result is one of their arguments, and no wider than these.
_CHOOSING = frozenset({"case", "coalesce", "nullif", "least", "greatest", "round", "floor", "ceil"})

Form = Callable[[Dialect, list[Value], Type], Sql]

#: The largest power of e that a float holds, and the least that is not 0.
_LARGEST, _LEAST = 709.78, -745.0
_WHOLE = r"^[+-]?[0-9]+$"
_NUMBER = r"^[+-]?([0-9]+(\.[0-9]*)?|\.[0-9]+)$"
_FLOAT = r"^[+-]?([0-9]+(\.[0-9]*)?|\.[0-9]+)([eE][+-]?[0-9]{1,3})?$"
_DAY = (
    r"^[0-9]{4}-[0-9]{2}-[0-9]{2}([T ]([01][0-9]|2[0-3]):[0-5][0-9](:[0-5][0-9]([.,][0-9]{1,9})?)?"
    r"( ?(Z|[+-][0-9]{2}(:?[0-9]{2})?))?)?$"
)
#: More digits than this a number in a text does not have.
_DIGITS = 37


def applied(dialect: Dialect, function: str, arguments: list[Value], type_: Type) -> Value:
    """One function of the register, applied to values."""
    if SCALARS[function].null == "any" and any(each.type.kind is Kind.NULL for each in arguments):
        return Value(null(type_), type_)
    wide = function not in _CHOOSING or any(each.wide for each in arguments if each.type == INTEGER)
    return Value(FORMS[function](dialect, arguments, type_), type_, wide)


def converted(value: Value, type_: Type) -> Sql:
    """A value in a type that holds it: whole numbers as decimals, either as floats."""
    if value.type == type_ or value.type.kind is Kind.NULL:
        return null(type_) if value.type.kind is Kind.NULL and type_.kind is not Kind.NULL else value.sql
    return double(value.sql) if type_.kind is Kind.FLOAT else cast(value.sql, sql_type(type_))


def _wide(value: Value) -> Sql:
    """A number that overflows no earlier than 64 bits do."""
    return value.sql if value.wide or value.type.kind is not Kind.INTEGER else bigint(value.sql)


# -- arithmetic -------------------------------------------------------------------------------------------------------


def _arithmetic(kind: type[exp.Binary]) -> Form:
    def form(dialect: Dialect, arguments: list[Value], type_: Type) -> Sql:
        left, right = arguments
        if type_.kind is Kind.FLOAT:
            return binary(kind, converted(left, FLOAT), converted(right, FLOAT))
        if DATE in (left.type, right.type):
            return _date_arithmetic(dialect, left, right, kind is exp.Sub)
        # One operand of 64 bits is enough: the other is brought to as many.
        wide = left.wide or right.wide or Kind.DECIMAL in (left.type.kind, right.type.kind)
        one = dialect.exact(left.sql if wide else _wide(left), left.type)
        return binary(kind, one, dialect.exact(right.sql, right.type))

    return form


def _date_arithmetic(dialect: Dialect, left: Value, right: Value, back: bool) -> Sql:
    if left.type == DATE and right.type == DATE:
        return dialect.days_between(left.sql, right.sql)
    day, days = (left, right) if left.type == DATE else (right, left)
    return dialect.moved(day.sql, exp.Neg(this=closed(days.sql)) if back else days.sql)


def _negate(dialect: Dialect, arguments: list[Value], type_: Type) -> Sql:
    (value,) = arguments
    return exp.Paren(this=exp.Neg(this=closed(_wide(value))))


def _divide(dialect: Dialect, arguments: list[Value], type_: Type) -> Sql:
    left, right = (converted(each, FLOAT) for each in arguments)
    return divided(left, _unless_zero(right))


def _unless_zero(value: Sql) -> Sql:
    return exp.Nullif(this=value, expression=number(0))


def _remainder(dialect: Dialect, arguments: list[Value], type_: Type) -> Sql:
    left, right = arguments
    if type_.kind is Kind.FLOAT:
        return dialect.float_remainder(converted(left, FLOAT), _unless_zero(converted(right, FLOAT)))
    return remainder(_wide(left), _unless_zero(_wide(right)))


def _plus(dialect: Dialect, arguments: list[Value], type_: Type) -> Sql:
    numbers = [_wide(each) if each.type == type_ == INTEGER else converted(each, type_) for each in arguments]
    total = coalesce(numbers[0], number(0))
    for each in numbers[1:]:
        total = plus(total, coalesce(each, number(0)))
    return case([(any_of(is_there(each.copy()) for each in numbers), total)])


def _absolute(dialect: Dialect, arguments: list[Value], type_: Type) -> Sql:
    return call("ABS", _wide(arguments[0]))


def _round(dialect: Dialect, arguments: list[Value], type_: Type) -> Sql:
    value = arguments[0]
    digits = int(arguments[1].constant or 0) if len(arguments) == 2 else 0
    return _rounded(dialect, value, digits, type_)


def _rounded(dialect: Dialect, value: Value, digits: int, type_: Type) -> Sql:
    if value.type.kind is Kind.FLOAT:
        # A float is rounded as its shortest decimal reads; past 2 ** 53 it has no fraction.
        found = double(dialect.rounded(dialect.shortest(value.sql), digits, 18)) if digits > -18 else double(number(0))
        far = at_least(call("ABS", value.sql.copy()), float_number(2.0**53))
        kept = case([(far, value.sql.copy())], found) if digits >= 0 else found
        if digits > 17:
            kept = value.sql.copy()
        return kept if type_.kind is Kind.FLOAT else bigint(kept)
    if digits >= value.type.scale:
        return value.sql
    if value.type.scale - digits > 19:
        return cast(case([(is_there(value.sql), number(0))]), sql_type(type_))
    wide = cast(value.sql, decimal_type(WIDE, value.type.scale))
    return cast(dialect.rounded(wide, digits, value.type.scale), sql_type(type_))


def _to_whole(function: str) -> Form:
    def form(dialect: Dialect, arguments: list[Value], type_: Type) -> Sql:
        (value,) = arguments
        return value.sql if value.type.kind is Kind.INTEGER else bigint(call(function, value.sql))

    return form


def _guarded(name: str, holds: Callable[[Sql], Sql]) -> Form:
    """A function of a float that has a value only where a condition holds."""

    def form(dialect: Dialect, arguments: list[Value], type_: Type) -> Sql:
        value = converted(arguments[0], FLOAT)
        return case([(holds(value.copy()), call(name, value))])

    return form


def _exp(dialect: Dialect, arguments: list[Value], type_: Type) -> Sql:
    value = converted(arguments[0], FLOAT)
    tiny = (less(value, float_number(_LEAST)), double(number(0)))
    return case([tiny, (at_most(value.copy(), float_number(_LARGEST)), call("EXP", value.copy()))])


def _power(dialect: Dialect, arguments: list[Value], type_: Type) -> Sql:
    base, power = (converted(each, FLOAT) for each in arguments)
    zero, whole = double(number(0)), equal(call("FLOOR", power.copy()), power.copy())
    size = times(call("LN", call("ABS", base.copy())), power.copy())
    result = call("POWER", base.copy(), power.copy())
    return case(
        [
            (any_of([is_null(base), is_null(power)]), null(FLOAT)),
            (equal(power.copy(), zero), double(number(1))),
            (equal(base.copy(), zero.copy()), case([(less(zero.copy(), power.copy()), zero.copy())])),
            (all_of([less(base.copy(), zero.copy()), negated(whole)]), null(FLOAT)),
            (less(float_number(_LARGEST), size), null(FLOAT)),
            (less(size.copy(), float_number(_LEAST)), zero.copy()),
        ],
        result,
    )


# -- comparison and logic ---------------------------------------------------------------------------------------------


def _compare(kind: type[exp.Binary]) -> Form:
    def form(dialect: Dialect, arguments: list[Value], type_: Type) -> Sql:
        left, right = arguments
        return binary(kind, *_comparable(dialect, left, right, kind not in (exp.EQ, exp.NEQ)))

    return form


def _comparable(dialect: Dialect, left: Value, right: Value, ordered: bool) -> tuple[Sql, Sql]:
    if left.type.kind is Kind.TEXT and ordered:
        return dialect.by_code_point(left.sql), right.sql
    if Kind.FLOAT in (left.type.kind, right.type.kind) and left.type != right.type:
        return converted(left, FLOAT), converted(right, FLOAT)
    return left.sql, right.sql


def _logic(join: Callable[[Sequence[Sql]], Sql]) -> Form:
    return lambda dialect, arguments, type_: join([converted(each, BOOLEAN) for each in arguments])


def _not(dialect: Dialect, arguments: list[Value], type_: Type) -> Sql:
    return negated(converted(arguments[0], BOOLEAN))


def _in(dialect: Dialect, arguments: list[Value], type_: Type) -> Sql:
    subject, others = arguments[0], arguments[1:]
    if subject.type.kind is Kind.NULL:
        return null(BOOLEAN)
    parts: list[Sql] = []
    for other in others:
        if isinstance(other.sql, exp.Tuple):
            parts.append(exp.In(this=closed(subject.sql.copy()), expressions=other.sql.expressions))
        elif other.type.kind is Kind.NULL:
            parts.append(null(BOOLEAN))
        else:
            copied = Value(subject.sql.copy(), subject.type)
            parts.append(exp.EQ(this=closed(_comparable(dialect, copied, other, False)[0]),
                                expression=closed(_comparable(dialect, copied, other, False)[1])))  # fmt: skip
    return any_of(parts)


def _is_null(dialect: Dialect, arguments: list[Value], type_: Type) -> Sql:
    return is_null(arguments[0].sql)


def _case(dialect: Dialect, arguments: list[Value], type_: Type) -> Sql:
    branches = [
        (converted(condition, BOOLEAN), converted(value, type_))
        for condition, value in zip(arguments[:-1:2], arguments[1:-1:2], strict=True)
    ]
    return case(branches, converted(arguments[-1], type_))


def _coalesce(dialect: Dialect, arguments: list[Value], type_: Type) -> Sql:
    return coalesce(*(converted(each, type_) for each in arguments))


def _nullif(dialect: Dialect, arguments: list[Value], type_: Type) -> Sql:
    left, right = arguments
    if Kind.NULL in (left.type.kind, right.type.kind):
        return converted(left, type_)
    same = exp.EQ(this=closed(_comparable(dialect, left, right, False)[0]),
                  expression=closed(_comparable(dialect, left, right, False)[1]))  # fmt: skip
    return case([(same, null(type_))], converted(Value(left.sql.copy(), left.type), type_))


def _extreme(kind: type[exp.Binary]) -> Form:
    def form(dialect: Dialect, arguments: list[Value], type_: Type) -> Sql:
        values = [Value(converted(each, type_), type_) for each in arguments]
        missing = any_of(is_null(each.sql.copy()) for each in values)
        result = values[0]
        for value in values[1:]:
            left, right = _comparable(dialect, Value(result.sql.copy(), type_), Value(value.sql.copy(), type_), True)
            chosen = case([(binary(kind, left, right), result.sql.copy())], value.sql.copy())
            result = Value(chosen, type_)
        return case([(missing, null(type_))], result.sql)

    return form


# -- text -------------------------------------------------------------------------------------------------------------


def _join(dialect: Dialect, arguments: list[Value], type_: Type) -> Sql:
    left, right = (each.sql if each.type == TEXT else cast(each.sql, sql_type(TEXT)) for each in arguments)
    return exp.DPipe(this=closed(left), expression=closed(right), safe=True)


def _called(name: str) -> Form:
    return lambda dialect, arguments, type_: call(name, *(each.sql for each in arguments))


def _trim(dialect: Dialect, arguments: list[Value], type_: Type) -> Sql:
    return dialect.trimmed(arguments[0].sql)


def _substring(dialect: Dialect, arguments: list[Value], type_: Type) -> Sql:
    bounds = [min(int(each.constant or 0), (1 << 31) - 1) for each in arguments[1:]]
    if len(bounds) == 2:
        bounds[1] = min(bounds[1], (1 << 31) - 1 - bounds[0])
    return call("SUBSTR", arguments[0].sql, *map(number, bounds))


def _length(dialect: Dialect, arguments: list[Value], type_: Type) -> Sql:
    return bigint(call("LENGTH", arguments[0].sql))


def _like(dialect: Dialect, arguments: list[Value], type_: Type) -> Sql:
    return dialect.like(arguments[0].sql, str(arguments[1].constant))


# -- dates ------------------------------------------------------------------------------------------------------------


def day(value: Value) -> Sql:
    """The day of a date or timestamp."""
    return value.sql if value.type == DATE else cast(value.sql, sql_type(DATE))


def _part(name: str) -> Form:
    return lambda dialect, arguments, type_: dialect.part(name, day(arguments[0]))


def _weekday(dialect: Dialect, arguments: list[Value], type_: Type) -> Sql:
    return dialect.weekday(day(arguments[0]))


def _time(name: str) -> Form:
    def form(dialect: Dialect, arguments: list[Value], type_: Type) -> Sql:
        value = arguments[0].sql
        return dialect.second(value) if name == "SECOND" else dialect.part(name, value)

    return form


def _date(dialect: Dialect, arguments: list[Value], type_: Type) -> Sql:
    if len(arguments) == 1:
        return converted(arguments[0], DATE) if arguments[0].type.kind is Kind.NULL else day(arguments[0])
    return _date_of(dialect, *(converted(each, INTEGER) for each in arguments))


def _date_of(dialect: Dialect, year: Sql, month: Sql, number_of_day: Sql) -> Sql:
    """The date with a year, month and day; null if there is no such date."""
    inside = all_of(
        [
            exp.Between(this=closed(year), low=number(1), high=number(9999)),
            exp.Between(this=closed(month), low=number(1), high=number(12)),
            exp.Between(this=closed(number_of_day), low=number(1), high=number(31)),
        ]
    )
    first = dialect.first_of_month(year.copy(), month.copy())
    found = dialect.moved(first, minus(number_of_day.copy(), number(1)))
    same = equal(dialect.part("MONTH", found.copy()), month.copy())
    return case([(inside, case([(same, found)]))])


def _padded(value: Sql, width: int) -> Sql:
    return call("LPAD", cast(value, sql_type(TEXT)), number(width), text("0"))


def _period(unit: str) -> Form:
    def form(dialect: Dialect, arguments: list[Value], type_: Type) -> Sql:
        moment = day(arguments[0])
        year = _padded(dialect.part("YEAR", moment), 4)
        if unit == "month":
            return piped(year, text("-"), _padded(dialect.part("MONTH", moment.copy()), 2))
        return piped(year, text("-Q"), cast(dialect.part("QUARTER", moment.copy()), sql_type(TEXT)))

    return form


def _period_week(dialect: Dialect, arguments: list[Value], type_: Type) -> Sql:
    moment = day(arguments[0])
    return dialect.moved(moment, minus(number(1), dialect.weekday(moment.copy())))


# -- casts ------------------------------------------------------------------------------------------------------------


def _cast(dialect: Dialect, arguments: list[Value], type_: Type) -> Sql:
    value = arguments[0]
    if value.type == type_ or value.type.kind is Kind.NULL:
        return converted(value, type_)
    match type_.kind:
        case Kind.TEXT:
            return _to_text(dialect, value)
        case Kind.DATE:
            return _to_date(dialect, value)
        case Kind.FLOAT:
            return _to_float(dialect, value)
        case Kind.INTEGER | Kind.DECIMAL:
            return _to_exact(dialect, value, type_)
        case Kind.BOOLEAN | Kind.TIMESTAMP | Kind.NULL:
            raise AssertionError(f"cannot cast to {type_}")
    raise AssertionError(f"{type_} is cast to or not")


def _to_date(dialect: Dialect, value: Value) -> Sql:
    if value.type != TEXT:
        return day(value)
    parts = [bigint(call("SUBSTR", value.sql.copy(), number(start), number(size))) for start, size in _PLACES]
    return case([(dialect.matches(value.sql, _DAY), _date_of(dialect, *parts))])


_PLACES = ((1, 4), (6, 2), (9, 2))


def _to_float(dialect: Dialect, value: Value) -> Sql:
    if value.type != TEXT:
        return double(value.sql)
    stripped = dialect.stripped(value.sql)
    return case([(dialect.matches(stripped, _FLOAT), double(stripped.copy()))])


def _to_exact(dialect: Dialect, value: Value, type_: Type) -> Sql:
    limit = Decimal(2**63).scaleb(-type_.scale)
    match value.type.kind:
        case Kind.TEXT:
            stripped = dialect.stripped(value.sql)
            fits = dialect.matches(stripped, _WHOLE if type_.kind is Kind.INTEGER else _NUMBER)
            short = at_most(call("LENGTH", stripped.copy()), number(_DIGITS))
            wide = dialect.as_decimal(stripped.copy(), all_of([fits, short]))
            found = dialect.rounded(wide, type_.scale, 18)
        case Kind.FLOAT:
            found = dialect.rounded(dialect.shortest(value.sql), type_.scale, 18)
        case Kind.BOOLEAN:
            return cast(cast(value.sql, exp.DataType.build("INT")), sql_type(type_))
        case Kind.INTEGER | Kind.DECIMAL:
            wide = cast(value.sql, decimal_type(WIDE, value.type.scale))
            found = wide if type_.scale >= value.type.scale else dialect.rounded(wide, type_.scale, value.type.scale)
        case Kind.DATE | Kind.TIMESTAMP | Kind.NULL:
            raise AssertionError(f"{value.type} is not cast to {type_}")
    inside = all_of([less(found.copy(), decimal_constant(limit)), at_least(found.copy(), decimal_constant(-limit))])
    return case([(inside, cast(found, sql_type(type_)))])


def _to_text(dialect: Dialect, value: Value) -> Sql:
    match value.type.kind:
        case Kind.INTEGER | Kind.BOOLEAN | Kind.DATE:
            return cast(value.sql, sql_type(TEXT))
        case Kind.DECIMAL:
            return cast(cast(value.sql, sql_type(value.type)), sql_type(TEXT))
        case Kind.FLOAT:
            whole = all_of(
                [
                    less(call("ABS", value.sql.copy()), float_number(2.0**53)),
                    equal(call("FLOOR", value.sql.copy()), value.sql.copy()),
                ]
            )
            return case([(whole, cast(bigint(value.sql.copy()), sql_type(TEXT)))], dialect.float_text(value.sql.copy()))
        case Kind.TIMESTAMP:
            return dialect.moment_text(value.sql)
        case Kind.TEXT | Kind.NULL:
            raise AssertionError(f"{value.type} is text already, or nothing")
    raise AssertionError(f"{value.type} is written as text")


FORMS: Mapping[str, Form] = {
    "+": _arithmetic(exp.Add),
    "-": _arithmetic(exp.Sub),
    "*": _arithmetic(exp.Mul),
    "/": _divide,
    "%": _remainder,
    "negate": _negate,
    "||": _join,
    "=": _compare(exp.EQ),
    "<>": _compare(exp.NEQ),
    "<": _compare(exp.LT),
    "<=": _compare(exp.LTE),
    ">": _compare(exp.GT),
    ">=": _compare(exp.GTE),
    "and": _logic(all_of),
    "or": _logic(any_of),
    "not": _not,
    "in": _in,
    "like": _like,
    "is_null": _is_null,
    "case": _case,
    "coalesce": _coalesce,
    "nullif": _nullif,
    "plus": _plus,
    "abs": _absolute,
    "round": _round,
    "floor": _to_whole("FLOOR"),
    "ceil": _to_whole("CEIL"),
    "sqrt": _guarded("SQRT", lambda value: at_least(value, number(0))),
    "exp": _exp,
    "ln": _guarded("LN", lambda value: less(number(0), value)),
    "power": _power,
    "least": _extreme(exp.LTE),
    "greatest": _extreme(exp.GTE),
    "upper": _called("UPPER"),
    "lower": _called("LOWER"),
    "trim": _trim,
    "substring": _substring,
    "length": _length,
    "year": _part("YEAR"),
    "quarter": _part("QUARTER"),
    "month": _part("MONTH"),
    "week": _part("WEEK"),
    "day": _part("DAY"),
    "weekday": _weekday,
    "hour": _time("HOUR"),
    "minute": _time("MINUTE"),
    "second": _time("SECOND"),
    "date": _date,
    "cast": _cast,
    "band_by": band_by,
    "band_at": band_at,
    "band_edge": band_edge,
    "period_month": _period("month"),
    "period_quarter": _period("quarter"),
    "period_week": _period_week,
}
