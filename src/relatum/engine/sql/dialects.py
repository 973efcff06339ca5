"""What databases write differently: one class each, with everything else the same for all."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Sequence
from typing import Literal

from sqlglot import exp

from relatum.data.types import FLOAT, TEXT, Kind, Type
from relatum.engine.sql.terms import (
    Sql,
    bigint,
    binary,
    call,
    case,
    cast,
    coalesce,
    decimal_type,
    divided,
    double,
    float_number,
    is_null,
    minus,
    negated,
    number,
    plus,
    sql_type,
    text,
)

#: Digits of a decimal into which any 64 bits and as many digits after the point fit.
WIDE = 38


class Dialect(ABC):
    """How one database writes what the standard leaves open.

    ``name`` is the dialect's in sqlglot.
    """

    name = ""
    #: How it is made to compute once what a query reads twice: within the query, or before it.
    keeps: Literal["within", "before"] = "within"
    #: Whether floats are also summed divided by 2 ** 64, for averages whose sum is too large.
    sums_small = False

    @property
    def roomy(self) -> Dialect:
        """One that is slower and whose numbers overflow no earlier than ours; itself where none does."""
        return self

    def exact(self, value: Sql, type_: Type) -> Sql:
        """A number for arithmetic."""
        return value

    def average(self, total: Sql, small: Sql, count: Sql) -> Sql:
        """The average of floats from their sum and count; ``small`` is the sum of what they are divided by 2 ** 64."""
        return divided(total, count)

    def render(self, sql: Sql) -> str:
        """A query as text, laid out for a person."""
        return sql.sql(dialect=self.name, pretty=True, comments=True)

    def by_code_point(self, sql: Sql) -> Sql:
        """A text that compares by code point."""
        return sql

    def wall_clock(self, moment: Sql, zone: str) -> Sql:
        """A moment that knows its zone, as the clocks of another zone show it."""
        return call("TIMEZONE", text(zone), moment)

    @abstractmethod
    def clock(self, time: Sql) -> Sql:
        """A time of day as text, with six digits of a second."""

    def part(self, name: str, moment: Sql) -> Sql:
        """A part of a date or timestamp: YEAR, QUARTER, MONTH, DAY, HOUR, MINUTE, WEEK (ISO)."""
        return bigint(exp.Extract(this=exp.Var(this=name), expression=moment))

    def weekday(self, day: Sql) -> Sql:
        """The day of the week, from 1 on Monday."""
        return bigint(exp.Extract(this=exp.Var(this="ISODOW"), expression=day))

    def second(self, moment: Sql) -> Sql:
        """The whole seconds of a timestamp."""
        return self.part("SECOND", moment)

    def days_between(self, later: Sql, earlier: Sql) -> Sql:
        """The number of days between two dates."""
        return bigint(minus(later, earlier))

    def moved(self, day: Sql, days: Sql) -> Sql:
        """A date moved by a number of days."""
        return plus(day, cast(days, exp.DataType.build("INT")))

    def first_of_month(self, year: Sql, month: Sql) -> Sql:
        """The first date of a month."""
        integers = (cast(each, exp.DataType.build("INT")) for each in (year, month))
        return call("MAKE_DATE", *integers, number(1))

    def next_month(self, day: Sql) -> Sql:
        """The same day a month later, of the first day of one."""
        interval = exp.Interval(this=text("1"), unit=exp.Var(this="MONTH"))
        return cast(plus(day, interval), exp.DataType.build("DATE"))

    def matches(self, value: Sql, pattern: str) -> Sql:
        """Whether a text matches a regular expression."""
        return call("REGEXP_MATCHES", value, text(pattern))

    def as_decimal(self, value: Sql, guard: Sql, scale: int = 18) -> Sql:
        """The decimal that a text reads as, where ``guard`` says that it reads as one; null where it is too long."""
        return case([(guard, exp.TryCast(this=value, to=decimal_type(WIDE, scale)))])

    def shortest(self, value: Sql) -> Sql:
        """The shortest decimal of a float, as a decimal; null where it is too large for one."""
        return exp.TryCast(this=cast(value, sql_type(TEXT)), to=decimal_type(WIDE, 18))

    def rounded(self, value: Sql, digits: int, scale: int) -> Sql:
        """A decimal rounded half away from zero to digits, of which ``scale`` are after the point in its type."""
        return cast(call("ROUND", value, number(digits)), decimal_type(WIDE, max(digits, 0)))

    def median(self, fraction: float, value: Sql) -> Sql:
        """The value below which a part of the floats lies, interpolated."""
        return call("QUANTILE_CONT", value, exp.Literal.number(repr(fraction)))

    @abstractmethod
    def edge(self, value: Sql, by: Sequence[Sql], last: bool, known: Sql) -> Sql:
        """The value on the row that is first, or last, by an order; of rows for which ``known`` holds."""

    def any_value(self, value: Sql, type_: Type) -> Sql:
        """One of the values of a group that are all the same."""
        return call("ANY_VALUE", value)

    def float_text(self, value: Sql) -> Sql:
        """A float as text: its shortest decimal, with an exponent where it is far from 1."""
        return cast(value, sql_type(TEXT))

    def float_text_with(self, value: Sql, letter: str) -> Sql:
        """A float as text, of a database that writes an exponent, after a letter, where the language writes none.

        The language writes digits out from 0.0001 up to below 1e16, as Python does.
        """
        written = cast(value.copy(), sql_type(TEXT))

        def part(at: int) -> Sql:
            return call("SPLIT_PART", written.copy(), text(letter), number(at))

        sign = case([(exp.LT(this=value.copy(), expression=number(0)), text("-"))], text(""))
        # The digits alone, and where the point is: after how many of them.
        unsigned = call("REPLACE", call("REPLACE", part(1), text("-"), text("")), text("."), text(""))
        digits = exp.Trim(this=unsigned, expression=text("0"), position="TRAILING")
        after = cast(exp.Nullif(this=part(2), expression=text("")), exp.DataType.build("int"))
        rest = call("SUBSTR", digits.copy(), plus(after.copy(), number(2)))
        length = plus(after.copy(), number(1))
        large = call(
            "CONCAT", sign, call("RPAD", call("LEFT", digits.copy(), length), length.copy(), text("0")), text("."),
            coalesce(exp.Nullif(this=rest, expression=text("")), text("0")),
        )  # fmt: skip
        zeros = call("REPEAT", text("0"), minus(number(-1), after.copy()))
        small = call("CONCAT", sign.copy(), text("0."), zeros, digits.copy())
        distance = call("ABS", after.copy())
        exponent = call(
            "CONCAT",
            case([(exp.LT(this=after.copy(), expression=number(0)), text("-"))], text("+")),
            case([(exp.LT(this=distance, expression=number(10)), text("0"))], text("")),
            cast(distance.copy(), sql_type(TEXT)),
        )
        # Without a fraction that is zero: the mark finds it only at the end.
        mantissa = call("REPLACE", call("CONCAT", part(1), text("!")), text(".0!"), text(""))
        mantissa = call("REPLACE", mantissa, text("!"), text(""))
        return case(
            [
                # Some databases leave nulls out where they join texts.
                (exp.Or(this=is_null(value.copy()), expression=exp.EQ(this=part(2), expression=text(""))), written),
                (exp.Between(this=after.copy(), low=number(0), high=number(15)), large),
                (exp.Between(this=after.copy(), low=number(-4), high=number(-1)), small),
            ],
            call("CONCAT", mantissa, text("e"), exponent),
        )

    @abstractmethod
    def moment_text(self, value: Sql) -> Sql:
        """A timestamp as text, with microseconds where it has some."""

    def like(self, value: Sql, pattern: str) -> Sql:
        """Whether a text matches a pattern of % and _, without an escape."""
        return binary(exp.Like, value, text(pattern))

    def finite(self, value: Sql) -> Sql:
        """A float, or null if it is not finite."""
        return case([(call("ISFINITE", value), value.copy())])

    def float_remainder(self, left: Sql, right: Sql) -> Sql:
        """What is left of a division of floats, with the sign of the first."""
        return binary(exp.Mod, left, right)

    def distinct_count(self, value: Sql) -> Sql:
        """How many different values there are."""
        return exp.Count(this=exp.Distinct(expressions=[value]))

    def summed(self, value: Sql, exact: bool) -> Sql:
        """The sum of values; exact ones without loss."""
        return exp.Sum(this=value)

    def total(self, value: Sql, type_: Type) -> Sql:
        """A sum as its type holds it, an error where it does not fit."""
        return value if type_ == FLOAT else cast(value, sql_type(type_))

    def smallest(self, value: Sql, type_: Type, largest: bool) -> Sql:
        """The least or greatest value."""
        return (exp.Max if largest else exp.Min)(this=value)

    def trimmed(self, value: Sql) -> Sql:
        """A text without blanks at its ends."""
        return call("TRIM", value)

    def stripped(self, value: Sql) -> Sql:
        """A text without white space of any kind at its ends."""
        return call("REGEXP_REPLACE", value, text(r"^\s+|\s+$"), text(""), text("g"))

    def without_end(self, value: Sql, character: str) -> Sql:
        """A text without a character at its end, however often it is there."""
        return call("RTRIM", value, text(character))

    def single_blanks(self, value: Sql) -> Sql:
        """A text with one blank where it has several in a row."""
        return call("REGEXP_REPLACE", value, text(r"\s+"), text(" "), text("g"))

    def order_key(self, sql: Sql, descending: bool) -> exp.Ordered:
        """A key of an order in which null comes last."""
        return exp.Ordered(this=sql, desc=descending, nulls_first=False)


def _some_day() -> Sql:
    return cast(text("2000-01-01"), exp.DataType.build("DATE"))


class DuckDb(Dialect):
    """DuckDB."""

    name = "duckdb"

    @property
    def roomy(self) -> Dialect:
        """One whose decimals have 38 digits, where DuckDB keeps to the 18 of its narrower ones."""
        return _ROOMY_DUCKDB

    def average(self, total: Sql, small: Sql, count: Sql) -> Sql:
        """The average of floats, an error where their sum is too large for one."""
        too_large = call("ERROR", text("overflow of a sum of floats"))
        return divided(case([(call("ISINF", total), cast(too_large, sql_type(FLOAT)))], total.copy()), count)

    def clock(self, time: Sql) -> Sql:
        """A time of day as text, with six digits of a second."""
        return call("STRFTIME", plus(_some_day(), time), text("%H:%M:%S.%f"))

    def edge(self, value: Sql, by: Sequence[Sql], last: bool, known: Sql) -> Sql:
        """The value on the first or last row."""
        key = by[0] if len(by) == 1 else call("ROW", *by)
        chosen = call("ARG_MAX" if last else "ARG_MIN", value, key)
        return exp.Filter(this=chosen, expression=exp.Where(this=known))

    def moment_text(self, value: Sql) -> Sql:
        """A timestamp as text."""
        whole = call("STRFTIME", value, text("%Y-%m-%d %H:%M:%S"))
        return case([(exp.EQ(this=exp.Mod(this=call("MICROSECOND", value), expression=number(1_000_000)),
                             expression=number(0)), whole)],
                    call("STRFTIME", value, text("%Y-%m-%d %H:%M:%S.%f")))  # fmt: skip

    def second(self, moment: Sql) -> Sql:
        """The whole seconds of a timestamp."""
        return bigint(call("SECOND", moment))


class RoomyDuckDb(DuckDb):
    """DuckDB, with numbers that overflow no earlier than ours."""

    sums_small = True

    def exact(self, value: Sql, type_: Type) -> Sql:
        """A number for arithmetic: a decimal of as many digits as there can be."""
        return cast(value, decimal_type(WIDE, type_.scale)) if type_.kind is Kind.DECIMAL else value

    def average(self, total: Sql, small: Sql, count: Sql) -> Sql:
        """The average of floats, of the small sum where theirs is too large."""
        back = exp.Mul(this=divided(small, count), expression=float_number(2.0**64))
        return case([(call("ISINF", total), back)], divided(total.copy(), count.copy()))


_ROOMY_DUCKDB = RoomyDuckDb()


class PostgreSql(Dialect):
    """PostgreSQL."""

    name = "postgres"

    def clock(self, time: Sql) -> Sql:
        """A time of day as text, with six digits of a second."""
        return call("TO_CHAR", time, text("HH24:MI:SS.US"))

    def by_code_point(self, sql: Sql) -> Sql:
        """A text that compares by code point."""
        return exp.Collate(this=exp.Paren(this=sql), expression=exp.Identifier(this="C", quoted=True))

    def second(self, moment: Sql) -> Sql:
        """The whole seconds of a timestamp."""
        return bigint(call("FLOOR", exp.Extract(this=exp.Var(this="SECOND"), expression=moment)))

    def matches(self, value: Sql, pattern: str) -> Sql:
        """Whether a text matches a regular expression."""
        return exp.RegexpLike(this=value, expression=text(pattern))

    def as_decimal(self, value: Sql, guard: Sql, scale: int = 18) -> Sql:
        """The decimal that a text reads as."""
        return case([(guard, cast(value, exp.DataType.build("DECIMAL")))])

    def shortest(self, value: Sql) -> Sql:
        """The shortest decimal of a float."""
        return cast(cast(value, sql_type(TEXT)), exp.DataType.build("DECIMAL"))

    def rounded(self, value: Sql, digits: int, scale: int) -> Sql:
        """A decimal rounded half away from zero."""
        return call("ROUND", cast(value, exp.DataType.build("DECIMAL")), number(digits))

    def median(self, fraction: float, value: Sql) -> Sql:
        """The value below which a part of the floats lies."""
        order = exp.Order(expressions=[exp.Ordered(this=value)])
        inner = call("PERCENTILE_CONT", exp.Literal.number(repr(fraction)))
        return exp.WithinGroup(this=inner, expression=order)

    def edge(self, value: Sql, by: Sequence[Sql], last: bool, known: Sql) -> Sql:
        """The value on the first or last row."""
        order = exp.Order(this=value, expressions=[exp.Ordered(this=each, desc=last) for each in by])
        filtered = exp.Filter(this=exp.ArrayAgg(this=order), expression=exp.Where(this=known))
        return exp.Bracket(this=exp.Paren(this=filtered), expressions=[number(1)], offset=1)

    def any_value(self, value: Sql, type_: Type) -> Sql:
        """One of the values of a group that are all the same."""
        return exp.Bracket(this=exp.Paren(this=exp.ArrayAgg(this=value)), expressions=[number(1)], offset=1)

    def float_text(self, value: Sql) -> Sql:
        """A float as text."""
        return self.float_text_with(value, "e")

    def moment_text(self, value: Sql) -> Sql:
        """A timestamp as text."""
        micro = exp.Mod(this=bigint(exp.Extract(this=exp.Var(this="MICROSECONDS"), expression=value)),
                        expression=number(1_000_000))  # fmt: skip
        whole = call("TO_CHAR", value, text("YYYY-MM-DD HH24:MI:SS"))
        return case(
            [(exp.EQ(this=micro, expression=number(0)), whole)],
            call("TO_CHAR", value.copy(), text("YYYY-MM-DD HH24:MI:SS.US")),
        )

    def like(self, value: Sql, pattern: str) -> Sql:
        """Whether a text matches a pattern, in which a backslash is not an escape."""
        return exp.Escape(this=binary(exp.Like, value, text(pattern)), expression=text(""))

    def finite(self, value: Sql) -> Sql:
        """A float, or null if it is not finite."""
        none = [double(text(each)) for each in ("NaN", "Infinity", "-Infinity")]
        return case([(negated(exp.In(this=value, expressions=none)), value.copy())])

    def float_remainder(self, left: Sql, right: Sql) -> Sql:
        """The remainder of a division of floats, computed from their shortest decimals."""
        return double(binary(exp.Mod, self.shortest(left), self.shortest(right)))

    def smallest(self, value: Sql, type_: Type, largest: bool) -> Sql:
        """The least or greatest value; of booleans, whether any or every one is true."""
        if str(type_) == "boolean":
            return (exp.LogicalOr if largest else exp.LogicalAnd)(this=value)
        return (exp.Max if largest else exp.Min)(this=value)

    def trimmed(self, value: Sql) -> Sql:
        """A text without blanks at its ends."""
        return call("BTRIM", value)


class Spark(Dialect):
    """Spark SQL."""

    name = "spark"
    keeps = "before"

    def wall_clock(self, moment: Sql, zone: str) -> Sql:
        """A moment that knows its zone, as the clocks of another zone show it."""
        # A session is on UTC: so are moments whose zone is left out.
        there = cast(moment, exp.DataType.build("TIMESTAMP_NTZ"))
        return call("CONVERT_TIMEZONE", text("UTC"), text(zone), there)

    def clock(self, time: Sql) -> Sql:
        """A time of day as text, with six digits of a second."""
        moment = call("CONCAT", text("2000-01-01 "), cast(time, sql_type(TEXT)))
        return call("DATE_FORMAT", cast(moment, exp.DataType.build("TIMESTAMP_NTZ")), text("HH:mm:ss.SSSSSS"))

    def weekday(self, day: Sql) -> Sql:
        """The day of the week, from 1 on Monday."""
        return bigint(plus(call("WEEKDAY", day), number(1)))

    def second(self, moment: Sql) -> Sql:
        """The whole seconds of a timestamp."""
        return bigint(call("SECOND", moment))

    def days_between(self, later: Sql, earlier: Sql) -> Sql:
        """The number of days between two dates."""
        return bigint(call("DATE_DIFF", later, earlier))

    def moved(self, day: Sql, days: Sql) -> Sql:
        """A date moved by a number of days."""
        return call("DATE_ADD", day, cast(days, exp.DataType.build("INT")))

    def next_month(self, day: Sql) -> Sql:
        """The same day a month later."""
        return call("ADD_MONTHS", day, number(1))

    def matches(self, value: Sql, pattern: str) -> Sql:
        """Whether a text matches a regular expression."""
        return call("REGEXP_LIKE", value, text(pattern))

    def median(self, fraction: float, value: Sql) -> Sql:
        """The value below which a part of the floats lies."""
        return call("PERCENTILE", value, exp.Literal.number(repr(fraction)))

    def edge(self, value: Sql, by: Sequence[Sql], last: bool, known: Sql) -> Sql:
        """The value on the first or last row."""
        key = by[0] if len(by) == 1 else call("STRUCT", *by)
        chosen = call("MAX_BY" if last else "MIN_BY", value, key)
        return exp.Filter(this=chosen, expression=exp.Where(this=known))

    def float_text(self, value: Sql) -> Sql:
        """A float as text."""
        return self.float_text_with(value, "E")

    def moment_text(self, value: Sql) -> Sql:
        """A timestamp as text."""
        whole = call("DATE_FORMAT", value, text("yyyy-MM-dd HH:mm:ss"))
        full = call("DATE_FORMAT", value.copy(), text("yyyy-MM-dd HH:mm:ss.SSSSSS"))
        ends = exp.Like(this=full.copy(), expression=text("%.000000"))
        return case([(ends, whole)], full)

    def like(self, value: Sql, pattern: str) -> Sql:
        """Whether a text matches a pattern, in which a backslash is not an escape."""
        return binary(exp.Like, value, text(pattern.replace("\\", "\\\\")))

    def finite(self, value: Sql) -> Sql:
        """A float, or null if it is not finite."""
        below = exp.LT(this=call("ABS", value.copy()), expression=double(text("Infinity")))
        return case([(exp.And(this=negated(call("ISNAN", value)), expression=below), value.copy())])

    def summed(self, value: Sql, exact: bool) -> Sql:
        """The sum of values; exact ones in a decimal, so that none overflows on the way."""
        return exp.Sum(this=cast(value, decimal_type(WIDE, 0)) if exact else value)

    def stripped(self, value: Sql) -> Sql:
        """A text without white space of any kind at its ends."""
        return call("REGEXP_REPLACE", value, text(r"^\s+|\s+$"), text(""))

    def without_end(self, value: Sql, character: str) -> Sql:
        """A text without a character at its end, however often it is there."""
        return call("RTRIM", text(character), value)

    def shortest(self, value: Sql) -> Sql:
        """The shortest decimal of a float."""
        small = exp.LT(this=call("ABS", value.copy()), expression=double(exp.Literal.number("1e19")))
        return case([(small, super().shortest(value))])

    def single_blanks(self, value: Sql) -> Sql:
        """A text with one blank where it has several in a row."""
        return call("REGEXP_REPLACE", value, text(r"\s+"), text(" "))


DIALECTS = {"duckdb": DuckDb(), "postgresql": PostgreSql(), "spark": Spark()}
