"""Scalar functions on vectors: what the engine computes for each record of the function register."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from relatum.data import compute as pc
from relatum.data import vectors as v
from relatum.data.buffers import array_values, positions_array, texts_array
from relatum.data.columns import Array, Column, exact_column, text_column
from relatum.data.days import FIRST_DAY, LAST_DAY
from relatum.data.types import BOOLEAN, DATE, INTEGER, TEXT, Kind, Type
from relatum.engine.memory.bands import (
    band_at,
    band_by,
    band_edge,
    month_text,
    period_text,
    period_week,
    quarter_text,
)
from relatum.engine.memory.casts import cast
from relatum.engine.memory.rounding import bounded, ceil, floor, refuse_where, rounded
from relatum.errors import ValueOverflowError
from relatum.language.register import SCALARS

Kernel = Callable[[list[Column], Type], Column]

#: No text has more characters than this.
_LONGEST = (1 << 31) - 1
_MONDAY = 3  # 1 January 1970, day 0, was a Thursday: three days after a Monday


def evaluate(function: str, arguments: list[Column], type_: Type) -> Column:
    """The value of one function of the register on vectors."""
    record = SCALARS[function]
    if record.null == "any" and any(argument.type.kind is Kind.NULL for argument in arguments):
        return v.all_null(type_)
    result = KERNELS[record.kernel](arguments, type_)
    if result.values.ndim and result.nulls is not None and not result.nulls.ndim:
        # A constant null beside a vector: null in every row.
        nulls = np.broadcast_to(result.nulls, result.values.shape)
        return Column(result.type, result.values, nulls, result.dictionary, result.lower, result.upper)
    return result


# -- arithmetic -------------------------------------------------------------------------------------------------------


def _arithmetic(operation: v.Arithmetic, on_floats: Any) -> Kernel:
    def kernel(arguments: list[Column], type_: Type) -> Column:
        nulls = v.either_null(*arguments)
        if type_.kind is Kind.FLOAT:
            one, other = (v.floats(argument) for argument in arguments)
            with np.errstate(all="ignore"):
                return v.finite(on_floats(one, other), nulls)
        if type_.kind is Kind.DECIMAL and operation != "multiply":
            arguments = [v.to_scale(argument, type_.scale, type_) for argument in arguments]
        left, right = arguments
        result = v.exact(operation, type_, left, right, nulls)
        return _refuse_far_dates(result) if type_.kind is Kind.DATE else result

    return kernel


def _refuse_far_dates(column: Column) -> Column:
    """Raise an error for a date outside the years 1 to 9999, which are all that there are."""
    if column.lower >= FIRST_DAY and column.upper <= LAST_DAY:
        return column
    far = (column.values < FIRST_DAY) | (column.values > LAST_DAY)
    if column.nulls is not None:
        far = far & ~column.nulls
    if np.any(far):
        raise ValueOverflowError(
            "A date would lie outside the years 1 to 9999.",
            fix="Move it by fewer days; least() and greatest() can limit them.",
        )
    values = np.clip(column.values, FIRST_DAY, LAST_DAY)
    return Column(column.type, values, column.nulls, None, max(column.lower, FIRST_DAY), min(column.upper, LAST_DAY))


def _negate(arguments: list[Column], type_: Type) -> Column:
    zero = Column(type_, np.zeros((), np.int64), None, None, 0, 0)
    return KERNELS["-"]([zero, arguments[0]], type_)


def _divide(arguments: list[Column], type_: Type) -> Column:
    left, right = (v.floats(argument) for argument in arguments)
    with np.errstate(all="ignore"):
        return v.finite(np.divide(left, right), v.either_null(*arguments))


def _remainder(arguments: list[Column], type_: Type) -> Column:
    nulls = v.either_null(*arguments)
    if type_.kind is Kind.FLOAT:
        with np.errstate(all="ignore"):
            return v.finite(np.fmod(v.floats(arguments[0]), v.floats(arguments[1])), nulls)
    left, right = (v.converted(argument, type_) for argument in arguments)
    zero = right.values == 0
    divisor = np.where(zero, 1, right.values)
    values = np.fmod(left.values.astype(np.int64), divisor)
    if np.any(zero):
        nulls = zero if nulls is None else nulls | zero
    size = max(abs(right.lower), abs(right.upper))
    return Column(type_, np.asarray(values), nulls, None, -size, size)


def _plus(arguments: list[Column], type_: Type) -> Column:
    total, missing = arguments[0], v.either_null(arguments[0])
    total = v.converted(total, type_)
    for argument in arguments[1:]:
        argument = v.converted(argument, type_)
        both = [_with_zero(total), _with_zero(argument)]
        total = KERNELS["+"](both, type_)
        missing = None if missing is None or argument.nulls is None else missing & argument.nulls
    return Column(type_, total.values, missing, None, total.lower, total.upper)


def _with_zero(column: Column) -> Column:
    if column.nulls is None:
        return column
    values = np.where(column.nulls, column.values.dtype.type(0), column.values)
    return Column(column.type, values, None, None, min(column.lower, 0), max(column.upper, 0))


def _absolute(arguments: list[Column], type_: Type) -> Column:
    (column,) = arguments
    if type_.kind is Kind.FLOAT:
        return Column(type_, np.abs(column.values), column.nulls)
    low = 0 if column.lower <= 0 <= column.upper else min(abs(column.lower), abs(column.upper))
    top = max(abs(column.lower), abs(column.upper))
    if top > v.HIGHEST:
        refuse_where(column.values == v.LOWEST, column.nulls)
        top = v.HIGHEST
    wide = column.values.astype(v.whole_type(-top, top))
    return Column(type_, np.abs(wide), column.nulls, None, low, top)


def _float_function(operation: Any) -> Kernel:
    def kernel(arguments: list[Column], type_: Type) -> Column:
        with np.errstate(all="ignore"):
            return v.finite(operation(*(v.floats(argument) for argument in arguments)), v.either_null(*arguments))

    return kernel


# -- comparison and logic ---------------------------------------------------------------------------------------------


def _compare(operation: Any) -> Kernel:
    def kernel(arguments: list[Column], type_: Type) -> Column:
        nulls = v.either_null(*arguments)
        left, right = arguments
        if Kind.FLOAT in (left.type.kind, right.type.kind):
            return v.truth(operation(v.floats(left), v.floats(right)), nulls)
        if left.type.kind is Kind.TEXT:
            left, right = v.same_dictionary([left, right])
        elif left.type.scale != right.type.scale:
            scaled = _to_one_scale(left, right)
            if scaled is None:
                return v.truth(operation(_sign_of_difference(left, right), 0), nulls)
            return v.truth(operation(*scaled), nulls)
        return v.truth(operation(v.plain(left), v.plain(right)), nulls)

    return kernel


def _to_one_scale(left: Column, right: Column) -> tuple[Array, Array] | None:
    """The numbers of both sides with the digits of the finer one; None where 64 bits may not hold them."""
    scale = max(left.type.scale, right.type.scale)
    found = []
    for side in (left, right):
        factor = 10 ** (scale - side.type.scale)
        if max(abs(side.lower), abs(side.upper)) * factor > v.HIGHEST:
            return None
        found.append(side.values if factor == 1 else side.values.astype(np.int64) * factor)
    return found[0], found[1]


def _sign_of_difference(left: Column, right: Column) -> Array:
    # 3 and 2.75 are compared as 3 against 2 remainder 0.75: nothing is multiplied, so nothing can overflow.
    if left.type.scale > right.type.scale:
        result: Array = -_sign_of_difference(right, left)
        return result
    factor = 10 ** (right.type.scale - left.type.scale)
    if not left.values.ndim:
        # A constant is brought to the other side's digits, once.
        value = int(left.values) * factor
        return np.where(right.values < value, 1, np.where(right.values > value, -1, 0))
    if not right.values.ndim:
        whole, rest = divmod(int(right.values), factor)
        return np.where(left.values > whole, 1, np.where(left.values < whole, -1, -1 if rest else 0))
    fine = right.values.astype(np.int64)
    whole = np.floor_divide(fine, factor)
    sign = np.sign(np.subtract(left.values, whole, dtype=np.float64))
    result = np.where(sign == 0, -np.sign(fine - whole * factor), sign)
    # Whole numbers beyond 2**53 may look equal as floats: those few are compared as integers.
    return np.where((sign == 0) & (left.values != whole), np.where(left.values > whole, 1, -1), result)


def _and(arguments: list[Column], type_: Type) -> Column:
    left, right = (v.converted(argument, BOOLEAN) for argument in arguments)
    nulls = v.either_null(left, right)
    if nulls is not None:
        surely_false = (v.known(left) & ~left.values) | (v.known(right) & ~right.values)
        nulls = nulls & ~surely_false
    return v.truth(left.values & right.values, nulls)


def _or(arguments: list[Column], type_: Type) -> Column:
    left, right = (v.converted(argument, BOOLEAN) for argument in arguments)
    values = (v.known(left) & left.values) | (v.known(right) & right.values)
    nulls = v.either_null(left, right)
    return v.truth(values, None if nulls is None else nulls & ~values)


def _not(arguments: list[Column], type_: Type) -> Column:
    return v.truth(~arguments[0].values, arguments[0].nulls)


class Listed(Column, frozen=True, eq=False):
    """The constants of a list: beside other vectors it is one argument, not a value for each row."""


def _in(arguments: list[Column], type_: Type) -> Column:
    subject, others = arguments[0], arguments[1:]
    if subject.type.kind is Kind.NULL:
        return v.all_null(BOOLEAN)
    result: Column | None = None
    for other in others:
        if isinstance(other, Listed):
            equal = v.truth(_among(subject, other), subject.nulls)
        else:
            equal = evaluate("=", [subject, other], BOOLEAN)
        result = equal if result is None else _or([result, equal], BOOLEAN)
    assert result is not None, "a list has an element"
    return result


def _among(subject: Column, listed: Listed) -> Array:
    """Whether each value is one of a list of its type: looked up at once, however long the list is."""
    if subject.type.kind is Kind.TEXT:
        found = array_values(pc.is_in(subject.dictionary, value_set=listed.dictionary))
        return np.asarray(found.take(subject.values)) if len(found) else np.zeros(subject.values.shape, np.bool_)
    places = np.searchsorted(listed.values, subject.values).clip(max=len(listed.values) - 1)
    return np.asarray(listed.values[places] == subject.values)


def _is_null(arguments: list[Column], type_: Type) -> Column:
    (column,) = arguments
    return v.truth(np.zeros(column.values.shape, np.bool_) if column.nulls is None else column.nulls)


def _case(arguments: list[Column], type_: Type) -> Column:
    values = _alike([*arguments[1:-1:2], arguments[-1]], type_)
    result = values[-1]
    for condition, value in zip(reversed(arguments[:-1:2]), reversed(values[:-1]), strict=True):
        holds = v.converted(condition, BOOLEAN)
        result = _choose(holds.values & v.known(holds), value, result)
    return result


def _alike(columns: list[Column], type_: Type) -> list[Column]:
    columns = [v.converted(column, type_) for column in columns]
    return v.same_dictionary(columns) if type_.kind is Kind.TEXT else columns


def _choose(condition: Array, one: Column, other: Column) -> Column:
    nulls = None
    if one.nulls is not None or other.nulls is not None:
        nulls = np.where(condition, ~np.asarray(v.known(one)), ~np.asarray(v.known(other)))
    values = np.where(condition, one.values, other.values)
    return Column(one.type, values, nulls, one.dictionary, min(one.lower, other.lower), max(one.upper, other.upper))


def _coalesce(arguments: list[Column], type_: Type) -> Column:
    columns = _alike(arguments, type_)
    result = columns[-1]
    for column in reversed(columns[:-1]):
        result = column if column.nulls is None else _choose(~column.nulls, column, result)
    return result


def _nullif(arguments: list[Column], type_: Type) -> Column:
    left, right = arguments
    if Kind.NULL in (left.type.kind, right.type.kind):
        return v.converted(left, type_)
    equal = evaluate("=", [left, right], BOOLEAN)
    left = v.converted(left, type_)
    nulls = equal.values if left.nulls is None else equal.values | left.nulls
    return Column(type_, np.broadcast_to(left.values, nulls.shape), nulls, left.dictionary, left.lower, left.upper)


def _extreme(operator: str) -> Kernel:
    def kernel(arguments: list[Column], type_: Type) -> Column:
        nulls = v.either_null(*arguments)
        columns = _alike(arguments, type_)
        result = columns[0]
        for column in columns[1:]:
            result = _choose(evaluate(operator, [result, column], BOOLEAN).values, result, column)
        return Column(type_, result.values, nulls, result.dictionary, result.lower, result.upper)

    return kernel


# -- text -------------------------------------------------------------------------------------------------------------


def _on_texts(function: Callable[[Any], Any]) -> Kernel:
    def kernel(arguments: list[Column], type_: Type) -> Column:
        column = arguments[0]
        return _as_text(column.values, function(column.dictionary), column.nulls)

    return kernel


def _as_text(codes: Array, texts: Any, nulls: v.Nulls) -> Column:
    shape = codes.shape
    column = text_column(TEXT, codes.reshape(-1).astype(np.int64), texts, None if nulls is None else nulls.reshape(-1))
    return Column(
        TEXT,
        column.values.reshape(shape),
        None if column.nulls is None else column.nulls.reshape(shape),
        column.dictionary,
        column.lower,
        column.upper,
    )


def _substring(arguments: list[Column], type_: Type) -> Column:
    start = min(int(arguments[1].values) - 1, _LONGEST)
    stop = None if len(arguments) == 2 else min(start + int(arguments[2].values), _LONGEST)
    return _on_texts(lambda texts: pc.utf8_slice_codeunits(texts, start, stop))(arguments[:1], type_)


def _text_length(arguments: list[Column], type_: Type) -> Column:
    (column,) = arguments
    lengths = array_values(pc.utf8_length(column.dictionary)).astype(np.int64)
    values = lengths.take(column.values) if len(lengths) else column.values.astype(np.int64)
    return Column(type_, np.asarray(values), column.nulls, None, 0, int(lengths.max(initial=0)))


def _like(arguments: list[Column], type_: Type) -> Column:
    column, pattern = arguments
    # Arrow takes a backslash as an escape, and SQL has none unless it is stated.
    wanted = pattern.dictionary[0].as_py().replace("\\", "\\\\")
    texts = column.dictionary
    matches = v.by_blocks(len(texts), np.bool_, lambda part: array_values(pc.match_like(texts[part], wanted)))
    values = matches.take(column.values) if len(matches) else np.zeros(column.values.shape, np.bool_)
    return v.truth(values, column.nulls)


def _join(arguments: list[Column], type_: Type) -> Column:
    left, right = (_written(argument) for argument in arguments)
    nulls = v.either_null(left, right)
    width = max(len(right.dictionary), 1)
    pairs = np.asarray(left.values.astype(np.int64) * width + right.values)
    distinct, positions = np.unique(pairs, return_inverse=True)
    texts = pc.binary_join_element_wise(
        left.dictionary.take(positions_array(distinct // width)),
        right.dictionary.take(positions_array(distinct % width)),
        texts_array([""])[0],
    )
    return _as_text(
        positions.reshape(pairs.shape), texts, None if nulls is None else np.broadcast_to(nulls, pairs.shape)
    )


def _written(column: Column) -> Column:
    if column.type.kind is Kind.TEXT:
        if len(column.dictionary):
            return column
        return Column(TEXT, column.values, column.nulls, texts_array([""]), 0, 0)
    distinct, positions = np.unique(column.values, return_inverse=True)
    texts = texts_array([str(each) for each in distinct.tolist()])
    return _as_text(positions.reshape(column.values.shape), texts, column.nulls)


# -- dates ------------------------------------------------------------------------------------------------------------


def date_part(part: str, days: Array) -> Array:
    """One part of dates given as days since 1970.

    Weeks and weekdays are those of ISO 8601: Monday is 1, and week 1 holds the year's first Thursday.
    """
    result: Array
    if part == "weekday":
        result = (days + _MONDAY) % 7 + 1
        return result
    dates = np.asarray(days, dtype="datetime64[D]")
    if part == "week":
        thursday = days - (days + _MONDAY) % 7 + _MONDAY
        new_year = np.asarray(thursday, dtype="datetime64[D]").astype("datetime64[Y]").astype("datetime64[D]")
        result = (thursday - new_year.astype(np.int64)) // 7 + 1
        return result
    months = dates.astype("datetime64[M]")
    if part == "day":
        result = (dates - months.astype("datetime64[D]")).astype(np.int64) + 1
        return result
    count = months.astype(np.int64)
    return {"year": count // 12 + 1970, "month": count % 12 + 1, "quarter": count % 12 // 3 + 1}[part]


def _time_kernel(unit: int, size: int) -> Kernel:
    """A part of the day, in units of a number of microseconds, of which the next larger unit has ``size``."""

    def kernel(arguments: list[Column], type_: Type) -> Column:
        (column,) = arguments
        if column.type.kind is Kind.DATE:
            return bounded(INTEGER, np.zeros(column.values.shape, np.int64), column.nulls)
        values = column.values.astype(np.int64) // (unit * 10**column.type.scale) % size
        return bounded(INTEGER, np.asarray(values), column.nulls)

    return kernel


def _date(arguments: list[Column], type_: Type) -> Column:
    """The day of a moment, or the date that year, month and day name; null where there is no such date."""
    nulls = v.either_null(*arguments)
    if len(arguments) == 1:
        return bounded(DATE, np.asarray(v.days_of(arguments[0])), nulls)
    years, months, days = (argument.values.astype(np.int64) for argument in arguments)
    inside = (years >= 1) & (years <= 9999) & (months >= 1) & (months <= 12)
    first = ((np.where(inside, years, 1970) - 1970) * 12 + np.where(inside, months, 1) - 1).astype("datetime64[M]")
    start = first.astype("datetime64[D]").astype(np.int64)
    end = (first + np.timedelta64(1, "M")).astype("datetime64[D]").astype(np.int64)
    missing = ~(inside & (days >= 1) & (start + days <= end))
    values = np.where(missing, 0, start + np.where(missing, 1, days) - 1)
    return bounded(DATE, np.asarray(values), missing if nulls is None else missing | nulls)


def _date_kernel(part: str) -> Kernel:
    def kernel(arguments: list[Column], type_: Type) -> Column:
        (column,) = arguments
        values = date_part(part, v.days_of(column))
        if values.ndim == 0:
            return Column(INTEGER, values, column.nulls, None, int(values), int(values))
        return exact_column(INTEGER, values, column.nulls)

    return kernel


_DATE_PARTS = ("year", "quarter", "month", "week", "day", "weekday")

KERNELS: dict[str, Kernel] = {
    "+": _arithmetic("add", np.add),
    "-": _arithmetic("subtract", np.subtract),
    "*": _arithmetic("multiply", np.multiply),
    "/": _divide,
    "%": _remainder,
    "negate": _negate,
    "||": _join,
    "=": _compare(np.equal),
    "<>": _compare(np.not_equal),
    "<": _compare(np.less),
    "<=": _compare(np.less_equal),
    ">": _compare(np.greater),
    ">=": _compare(np.greater_equal),
    "and": _and,
    "or": _or,
    "not": _not,
    "in": _in,
    "like": _like,
    "is_null": _is_null,
    "case": _case,
    "coalesce": _coalesce,
    "nullif": _nullif,
    "plus": _plus,
    "abs": _absolute,
    "round": rounded,
    "floor": floor,
    "ceil": ceil,
    "sqrt": _float_function(np.sqrt),
    "exp": _float_function(np.exp),
    "ln": _float_function(np.log),
    "power": _float_function(np.power),
    "least": _extreme("<="),
    "greatest": _extreme(">="),
    "upper": _on_texts(lambda texts: pc.utf8_upper(texts)),
    "lower": _on_texts(lambda texts: pc.utf8_lower(texts)),
    "trim": _on_texts(lambda texts: pc.utf8_trim(texts, characters=" ")),
    "substring": _substring,
    "length": _text_length,
    **{part: _date_kernel(part) for part in _DATE_PARTS},
    "hour": _time_kernel(3_600_000_000, 24),
    "minute": _time_kernel(60_000_000, 60),
    "second": _time_kernel(1_000_000, 60),
    "date": _date,
    "cast": cast,
    "band_by": band_by,
    "band_at": band_at,
    "band_edge": band_edge,
    "period_month": period_text(month_text, "month"),
    "period_quarter": period_text(quarter_text, "quarter"),
    "period_week": period_week,
}
