"""The function register: one record for each function and operator of the language, and for what plans fold by.

A record says what a function takes and gives, what null and no rows do to it, how partial results merge, and the name
of the kernel that an engine computes it with. Adding a function is adding a record here and a kernel in each engine;
each engine holds its kernels against these records when it is imported.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Literal

from msgspec import Struct

from relatum.data.types import BOOLEAN, INTEGER, Type
from relatum.language.expression import Expression
from relatum.language.rules import (
    Infer,
    any_to_truth,
    banded,
    cases,
    cast_to,
    compared,
    date_of,
    date_part,
    difference,
    edge_of,
    first_of,
    float_of,
    joined,
    length,
    orderable,
    pattern,
    period_date,
    period_text,
    product,
    rounded,
    slice_of,
    sum_of_two,
    texts,
    time_part,
    truth,
    whole,
    widest,
)

#: Written with the name of a type, unlike all others.
CAST = "cast"
#: What plans order bands by; no formula can name it.
BAND_EDGE = "band_edge"
#: The functions that put dates into periods, for which ``period(d by UNIT)`` is short.
PERIOD_KERNELS = {"year": "year", "quarter": "period_quarter", "month": "period_month", "week": "period_week"}


#: What a share may be of, and what it is divided by: the value with these filters ignored.
SHARES = {"total": "axes", "parent": "innermost", "row": "columns", "column": "rows"}
#: Into what a date may be put.
PERIODS = ("year", "quarter", "month", "week")


class Scalar(Struct, frozen=True):
    """A function of values in one row or one cell.

    ``null`` is ``any`` (null as soon as one argument is) or ``own`` (the kernel decides). ``strict`` says of which
    arguments all aggregates must be null for the result to be surely null: of ``any`` one, of ``all``, of the
    ``first``, or ``never``.
    """

    name: str
    signature: str
    least: int
    most: int | None
    infer: Infer
    about: str
    null: Literal["any", "own"] = "any"
    strict: Literal["any", "all", "first", "never"] = "any"

    @property
    def kernel(self) -> str:
        """The name of the kernel that each engine has."""
        return self.name

    @property
    def called(self) -> bool:
        """Whether it is written as a name and arguments in brackets; operators and ``cast`` are not."""
        return self.signature.startswith(f"{self.name}(") and self.name != CAST


Form = Literal["plain", "table", "distinct", "weighted", "by", "fraction", "column", "internal"]


class AggregateFunction(Struct, frozen=True):
    """A function of all visible rows of a row table, or of all members of a grain.

    Parameters
    ----------
    name : str
        What plans and engines call it.
    called : str
        What formulas call it; several records may share it and differ in ``form``.
    form : str
        How its arguments are written: ``plain`` (x), ``table`` (a table), ``distinct`` (distinct x), ``weighted`` (x
        weighted by w), ``by`` (x by y), ``fraction`` (0.9 of x), ``column`` (a column); ``internal`` for what only
        plans use.
    empty : str
        What it is where rows are visible and no argument has a value: ``null`` or ``zero``. Over no rows all are null.
    merge : str
        How partial results combine: ``sum``, ``extreme``, or ``rows`` when only the rows themselves will do.
    ties : str
        What decides between rows that are alike: nothing, or the ``row order`` of the row table.
    grows : bool
        Whether it has a value over rows wherever it has one over some of them.
    """

    name: str
    called: str
    signature: str
    form: Form
    infer: Infer
    about: str
    empty: Literal["null", "zero"] = "null"
    merge: Literal["sum", "extreme", "rows"] = "rows"
    ties: Literal["none", "row order"] = "none"
    grows: bool = True

    @property
    def kernel(self) -> str:
        """The name of the kernel that each engine has."""
        return self.name


class Ranking(Struct, frozen=True):
    """A function of the current member of a grain among the visible ones.

    ``by`` says whether it is written with an order: ``never``, ``always``, or ``maybe`` (the members' own order holds
    without one).
    """

    name: str
    signature: str
    infer: Infer
    about: str
    by: Literal["never", "always", "maybe"]


class Shorthand(Struct, frozen=True):
    """A function that is short for another formula, and exactly equal to it."""

    name: str
    signature: str
    stands_for: str
    about: str


_SCALARS = (
    Scalar("+", "a + b", 2, 2, sum_of_two, "Sum; a date plus whole days."),
    Scalar("-", "a - b", 2, 2, difference, "Difference; date minus date is whole days."),
    Scalar("*", "a * b", 2, 2, product, "Product."),
    Scalar("/", "a / b", 2, 2, float_of, "Quotient, always a float; null when b is zero."),
    Scalar("%", "a % b", 2, 2, widest, "Remainder, with the sign of a; null when b is zero."),
    Scalar("negate", "-a", 1, 1, widest, "The number with its sign changed."),
    Scalar("||", "a || b", 2, 2, joined, "Two texts joined; whole numbers become text."),
    Scalar("=", "a = b", 2, 2, compared, "Equal."),
    Scalar("<>", "a <> b", 2, 2, compared, "Not equal; != is the same."),
    Scalar("<", "a < b", 2, 2, compared, "Less."),
    Scalar("<=", "a <= b", 2, 2, compared, "Less or equal."),
    Scalar(">", "a > b", 2, 2, compared, "Greater."),
    Scalar(">=", "a >= b", 2, 2, compared, "Greater or equal."),
    Scalar("and", "a and b", 2, 2, truth, "Both hold.", null="own", strict="never"),
    Scalar("or", "a or b", 2, 2, truth, "At least one holds.", null="own", strict="never"),
    Scalar("not", "not a", 1, 1, truth, "The condition does not hold; null stays null."),
    Scalar("in", "a in (b, …)", 2, None, compared, "Equal to one of the list.", null="own", strict="never"),
    Scalar("like", "a like 'pattern'", 2, 2, pattern, "Text matches: % is any text, _ any one character."),
    Scalar("is_null", "a is null", 1, 1, any_to_truth, "The value is null.", null="own", strict="never"),
    Scalar(
        "case",
        "case when c then a … else b end",
        3,
        None,
        cases,
        "The value of the first condition that holds.",
        null="own",
        strict="never",
    ),
    Scalar(
        "coalesce",
        "coalesce(a, b, …)",
        1,
        None,
        first_of,
        "The first argument that has a value.",
        null="own",
        strict="never",
    ),
    Scalar("nullif", "nullif(a, b)", 2, 2, first_of, "a, or null where a equals b.", null="own", strict="first"),
    Scalar(
        "plus",
        "plus(a, b, …)",
        1,
        None,
        widest,
        "Sum of the arguments that have a value; null only if none has.",
        null="own",
        strict="all",
    ),
    Scalar("abs", "abs(x)", 1, 1, widest, "The number without its sign."),
    Scalar(
        "round",
        "round(x, digits)",
        1,
        2,
        rounded,
        "Rounded to a number of digits (0 unless given), half away from zero.",
    ),
    Scalar("floor", "floor(x)", 1, 1, whole, "The greatest whole number not above x."),
    Scalar("ceil", "ceil(x)", 1, 1, whole, "The least whole number not below x."),
    Scalar("sqrt", "sqrt(x)", 1, 1, float_of, "Square root; null below zero."),
    Scalar("exp", "exp(x)", 1, 1, float_of, "e to the power of x."),
    Scalar("ln", "ln(x)", 1, 1, float_of, "Natural logarithm; null unless x is above zero."),
    Scalar("power", "power(x, y)", 2, 2, float_of, "x to the power of y."),
    Scalar("least", "least(a, b, …)", 1, None, first_of, "The smallest argument; null if any is null."),
    Scalar("greatest", "greatest(a, b, …)", 1, None, first_of, "The greatest argument; null if any is null."),
    Scalar("upper", "upper(t)", 1, 1, texts, "Text in upper case."),
    Scalar("lower", "lower(t)", 1, 1, texts, "Text in lower case."),
    Scalar("trim", "trim(t)", 1, 1, texts, "Text without spaces at its ends."),
    Scalar(
        "substring", "substring(t, start, length)", 2, 3, slice_of, "Part of a text; the first character is number 1."
    ),
    Scalar("length", "length(t)", 1, 1, length, "Number of characters in a text."),
    Scalar("year", "year(d)", 1, 1, date_part, "Year of a date."),
    Scalar("quarter", "quarter(d)", 1, 1, date_part, "Quarter of a date, 1 to 4."),
    Scalar("month", "month(d)", 1, 1, date_part, "Month of a date, 1 to 12."),
    Scalar("week", "week(d)", 1, 1, date_part, "ISO week number of a date, 1 to 53."),
    Scalar("day", "day(d)", 1, 1, date_part, "Day of the month."),
    Scalar("weekday", "weekday(d)", 1, 1, date_part, "Day of the week: Monday is 1, Sunday 7."),
    Scalar("hour", "hour(t)", 1, 1, time_part, "Hour of a timestamp, 0 to 23."),
    Scalar("minute", "minute(t)", 1, 1, time_part, "Minute of a timestamp, 0 to 59."),
    Scalar("second", "second(t)", 1, 1, time_part, "Second of a timestamp, 0 to 59, without its fraction."),
    Scalar(
        "date",
        "date(t)",
        1,
        3,
        date_of,
        "The date of a timestamp; date(y, m, d) builds a date, or null if there is no such date.",
        null="own",
    ),
    Scalar("band_by", "band(x by 10)", 2, 2, banded, "The band of equal width that a number falls in, as text."),
    Scalar("band_at", "band(x at 0, 10, 100)", 2, None, banded, "The band between edges that a number falls in."),
    Scalar(BAND_EDGE, "", 1, 1, edge_of, "The lower edge of a band, by which bands are ordered."),
    Scalar("period_month", "period(d by month)", 1, 1, period_text, "The month of a date: '2024-05'."),
    Scalar("period_quarter", "period(d by quarter)", 1, 1, period_text, "The quarter of a date: '2024-Q2'."),
    Scalar("period_week", "period(d by week)", 1, 1, period_date, "The Monday of a date's week."),
    Scalar(
        CAST,
        "cast(x as integer)",
        2,
        2,
        cast_to,
        "The value as integer, decimal(2), float, text or date; null if it does not fit.",
    ),
)


def _integer(_: Sequence[Expression]) -> Type:
    return INTEGER


_AGGREGATES = (
    AggregateFunction("sum", "sum", "sum(x)", "plain", widest, "Sum of the values.", merge="sum"),
    AggregateFunction("avg", "avg", "avg(x)", "plain", float_of, "Average of the values.", merge="sum"),
    AggregateFunction(
        "weighted_avg",
        "avg",
        "avg(x weighted by w)",
        "weighted",
        float_of,
        "Average of the values, each counted w times, over rows where both have one.",
        merge="sum",
        grows=False,
    ),
    AggregateFunction("min", "min", "min(x)", "plain", orderable, "Smallest value.", merge="extreme"),
    AggregateFunction("max", "max", "max(x)", "plain", orderable, "Greatest value.", merge="extreme"),
    AggregateFunction("median", "median", "median(x)", "plain", float_of, "The median."),
    AggregateFunction("count", "count", "count(x)", "plain", _integer, "Number of values.", empty="zero", merge="sum"),
    AggregateFunction(
        "count_distinct",
        "count",
        "count(distinct x)",
        "distinct",
        _integer,
        "Number of distinct values.",
        empty="zero",
    ),
    AggregateFunction("count_rows", "count", "count(table)", "table", _integer, "Number of rows.", merge="sum"),
    AggregateFunction("stddev", "stddev", "stddev(x)", "plain", float_of, "Standard deviation of a sample."),
    AggregateFunction("variance", "variance", "variance(x)", "plain", float_of, "Variance of a sample."),
    AggregateFunction(
        "stddev_pop", "stddev_pop", "stddev_pop(x)", "plain", float_of, "Standard deviation of a population."
    ),
    AggregateFunction(
        "variance_pop", "variance_pop", "variance_pop(x)", "plain", float_of, "Variance of a population."
    ),
    AggregateFunction(
        "percentile",
        "percentile",
        "percentile(0.9 of x)",
        "fraction",
        float_of,
        "The value below which that fraction of the values falls, interpolated.",
    ),
    AggregateFunction(
        "first", "first", "first(x by y)", "by", orderable, "The value of x where y is smallest.", ties="row order"
    ),
    AggregateFunction(
        "last", "last", "last(x by y)", "by", orderable, "The value of x where y is greatest.", ties="row order"
    ),
    AggregateFunction(
        "sole",
        "sole",
        "sole(table.column)",
        "column",
        orderable,
        "The value when exactly one is visible, else null.",
        merge="extreme",
        grows=False,
    ),
    AggregateFunction(
        "sole_row",
        "",
        "",
        "internal",
        _integer,
        "The row when exactly one is visible, else null.",
        merge="extreme",
        grows=False,
    ),
    AggregateFunction(
        "few_distinct",
        "",
        "",
        "internal",
        _integer,
        "How many different values of a column there are: 0, 1, or 2 for two and more.",
        empty="zero",
        merge="extreme",
    ),
)

_RANKINGS = (
    Ranking(
        "rank",
        "rank(x among product)",
        _integer,
        "Rank of the current member among the visible ones: 1 is the largest x, ties share the better rank.",
        "never",
    ),
    Ranking(
        "running",
        "running(x among product by y desc)",
        widest,
        "Sum of x over the members up to and including the current one, in the order of y.",
        "always",
    ),
    Ranking(
        "previous",
        "previous(x among product by y)",
        first_of,
        "x at the member before the current one, in the order of y; in the members' own order without by.",
        "maybe",
    ),
    Ranking(
        "next",
        "next(x among product by y)",
        first_of,
        "x at the member after the current one, in the order of y; in the members' own order without by.",
        "maybe",
    ),
)

_SHORTHANDS = (
    Shorthand("share", "share(x of total)", "x / x[ignoring axes]", "x as a share of the grid's total."),
    Shorthand(
        "share", "share(x of parent)", "x / x[ignoring innermost]", "x as a share of the innermost row field's total."
    ),
    Shorthand("share", "share(x of row)", "x / x[ignoring columns]", "x as a share of the row's total."),
    Shorthand("share", "share(x of column)", "x / x[ignoring rows]", "x as a share of the column's total."),
    Shorthand("growth", "growth(x over 1 year)", "x / x[back 1 year] - 1", "Relative growth of x since then."),
    Shorthand("change", "change(x over 1 month)", "x - x[back 1 month]", "Change of x since then."),
)

#: ``narrowed`` asks of the context alone, and is settled before anything runs.
NARROWED = Scalar(
    "narrowed",
    "narrowed(table.column)",
    1,
    1,
    lambda _: BOOLEAN,
    "Whether an axis or a filter restricts the column.",
    null="own",
    strict="never",
)

SCALARS = {record.name: record for record in _SCALARS}
AGGREGATES = {record.name: record for record in _AGGREGATES}
RANKINGS = {record.name: record for record in _RANKINGS}
SHORTHANDS = _SHORTHANDS
SHORTHAND_NAMES = frozenset(each.name for each in _SHORTHANDS)
#: The functions that put a value into bands or periods, with how they are written.
BAND, PERIOD = "band", "period"


#: The scalar functions that are written name(…).
def is_callable(name: str) -> bool:
    """Whether a function of one row or cell is written as this name and arguments in brackets."""
    return name in SCALARS and SCALARS[name].called


def aggregates_called(name: str) -> list[AggregateFunction]:
    """The records that formulas call by a name: one for each form in which it is written."""
    return [record for record in AGGREGATES.values() if record.called == name and name]


def aggregating(name: str) -> bool:
    """Whether a function has its own rows or members, so that a bare name is not a column of the row around it."""
    return name in RANKINGS or name == NARROWED.name or name in SHORTHAND_NAMES or bool(aggregates_called(name))


def known_functions() -> list[str]:
    """Every name that can be before a bracket."""
    called = dict.fromkeys(record.called for record in AGGREGATES.values() if record.called)
    return [
        *filter(is_callable, SCALARS),
        CAST,
        BAND,
        PERIOD,
        *called,
        *RANKINGS,
        *sorted(SHORTHAND_NAMES),
        NARROWED.name,
    ]


def refuse_missing(engine: str, tables: Iterable[tuple[Mapping[str, object], Mapping[str, object]]]) -> None:
    """Raise a TypeError unless an engine has a kernel for each record, and none that no record names.

    Parameters
    ----------
    engine : str
        What the engine is called.
    tables : iterable of pairs
        The records of the register by kernel name, and the engine's kernels by the same names.
    """
    for records, kernels in tables:
        missing = sorted(records.keys() ^ kernels.keys())
        if missing:
            raise TypeError(f"The {engine} engine and the register differ in {', '.join(missing)}.")


#: What else people call a function, and what it is called here.
OTHER_NAMES = {
    "average": "avg(x)",
    "mean": "avg(x)",
    "if": "case when condition then a else b end",
    "iif": "case when condition then a else b end",
    "ifnull": "coalesce(a, b)",
    "nvl": "coalesce(a, b)",
    "isnull": "a is null, or coalesce(a, b)",
    "len": "length(t)",
    "concat": "a || b",
    "ceiling": "ceil(x)",
    "pow": "power(x, y)",
    "log": "ln(x)",
    "substr": "substring(t, start, length)",
    "stdev": "stddev(x)",
    "std": "stddev(x)",
    "var": "variance(x)",
    "mod": "a % b",
    "cast": "cast(x as integer)",
    "extract": "extract(year from d)",
    "datepart": "extract(year from d)",
    "to_date": "cast(x as date)",
    "to_char": "cast(x as text)",
}
