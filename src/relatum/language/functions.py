"""The function register: one record for each function and operator of the language.

A record says what a function takes and gives, what null does to it, how partial results merge, and which kernel an
engine computes it with. Adding a function is adding a record here and a kernel in each engine.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from relatum.data.types import BOOLEAN, DATE, FLOAT, INTEGER, MAX_SCALE, NULL, TEXT, Kind, Type, common_type, decimal
from relatum.language.expression import Constant, Expression


class TypeProblem(Exception):
    """An argument of the wrong type: its position, and the sentence for a person."""

    def __init__(self, position: int, reason: str, fix: str = "") -> None:
        super().__init__(reason)
        self.position = position
        self.reason = reason
        self.fix = fix


Infer = Callable[[Sequence[Expression]], Type]


@dataclass(frozen=True, slots=True)
class Scalar:
    """A function of values in one row or one cell.

    ``null`` is ``any`` (null as soon as one argument is) or ``own`` (the kernel decides).
    """

    name: str
    signature: str
    least: int
    most: int | None
    infer: Infer
    about: str
    null: str = "any"


@dataclass(frozen=True, slots=True)
class AggregateFunction:
    """A function of all visible rows of a row table.

    ``form`` is how its arguments are written: ``plain`` (x), ``rows`` (x or a table), ``weighted`` (x, or x weighted
    by w), ``by`` (x by y), ``fraction`` (0.9 of x), ``column`` (a column). ``merge`` says how partial results
    combine: ``sum``, ``extreme``, or ``none`` when only the rows themselves will do.
    """

    name: str
    signature: str
    form: str
    infer: Infer
    merge: str
    about: str


def _kinds(arguments: Sequence[Expression]) -> list[Kind]:
    return [argument.type.kind for argument in arguments]


def _numeric(arguments: Sequence[Expression]) -> None:
    for position, argument in enumerate(arguments):
        if not argument.type.numeric and argument.type != NULL:
            raise TypeProblem(position, f"This is {an(argument.type)}, where a number is needed.")


def an(type_: Type) -> str:
    """A type's name in a sentence: an integer, a date, text."""
    word = str(type_)
    if word in ("text", "null"):
        return word
    return f"{'an' if word[0] in 'aeiou' else 'a'} {word}"


def _widest(arguments: Sequence[Expression]) -> Type:
    _numeric(arguments)
    types = [argument.type for argument in arguments if argument.type != NULL]
    if not types or any(type_.kind is Kind.FLOAT for type_ in types):
        return FLOAT if types else INTEGER
    scale = max(type_.scale for type_ in types)
    return decimal(scale) if any(type_.kind is Kind.DECIMAL for type_ in types) else INTEGER


def _sum_of_two(arguments: Sequence[Expression]) -> Type:
    left, right = arguments
    if left.type == DATE and right.type in (INTEGER, NULL):
        return DATE
    if right.type == DATE and left.type == INTEGER:
        return DATE
    if DATE in (left.type, right.type):
        raise TypeProblem(1 if left.type == DATE else 0, "A date can only be moved by a whole number of days.")
    return _widest(arguments)


def _difference(arguments: Sequence[Expression]) -> Type:
    left, right = arguments
    if left.type == DATE and right.type == DATE:
        return INTEGER
    if left.type == DATE and right.type in (INTEGER, NULL):
        return DATE
    if DATE in (left.type, right.type):
        raise TypeProblem(1, "From a date one subtracts a date, or a whole number of days.")
    return _widest(arguments)


def _product(arguments: Sequence[Expression]) -> Type:
    widest = _widest(arguments)
    if widest.kind is not Kind.DECIMAL:
        return widest
    scale = sum(argument.type.scale for argument in arguments)
    if scale > MAX_SCALE:
        raise TypeProblem(
            1, f"The product would have {scale} digits after the point; {MAX_SCALE} fit.", "Round one side first."
        )
    return decimal(scale)


def _float(arguments: Sequence[Expression]) -> Type:
    _numeric(arguments)
    return FLOAT


def _whole(arguments: Sequence[Expression]) -> Type:
    return FLOAT if _widest(arguments).kind is Kind.FLOAT else INTEGER


def _rounded(arguments: Sequence[Expression]) -> Type:
    widest = _widest(arguments[:1])
    digits = 0
    if len(arguments) == 2:
        if not isinstance(arguments[1], Constant) or arguments[1].type != INTEGER:
            raise TypeProblem(1, "The number of digits must be a whole number written in the formula.")
        digits = int(arguments[1].value or 0)
    if widest.kind is Kind.FLOAT:
        return FLOAT
    return decimal(min(digits, widest.scale)) if digits > 0 and widest.scale else INTEGER


def _common(arguments: Sequence[Expression], noun: str = "mixed") -> Type:
    found = common_type([argument.type for argument in arguments])
    if found is not None:
        return found
    first = next(argument.type for argument in arguments if argument.type != NULL)
    for position, argument in enumerate(arguments):
        if common_type([first, argument.type]) is None:
            kinds = {first.kind, argument.type.kind}
            fix = ""
            if kinds == {Kind.DATE, Kind.TEXT}:
                fix = "Write dates as date '2024-05-31'."
            elif Kind.TEXT in kinds and kinds & {Kind.INTEGER, Kind.DECIMAL, Kind.FLOAT}:
                fix = "Numbers stand without quotes; texts stand in single quotes."
            raise TypeProblem(
                position, f"{an(first)[0].upper()}{an(first)[1:]} and {an(argument.type)} cannot be {noun}.", fix
            )
    raise AssertionError("some pair must differ")


def _compared(arguments: Sequence[Expression]) -> Type:
    _common(arguments, "compared")
    return BOOLEAN


def _truth(arguments: Sequence[Expression]) -> Type:
    for position, kind in enumerate(_kinds(arguments)):
        if kind not in (Kind.BOOLEAN, Kind.NULL):
            raise TypeProblem(position, f"This is {an(arguments[position].type)}, where a condition is needed.")
    return BOOLEAN


def _any_to_truth(arguments: Sequence[Expression]) -> Type:
    return BOOLEAN


def _texts(arguments: Sequence[Expression]) -> Type:
    for position, kind in enumerate(_kinds(arguments)):
        if kind not in (Kind.TEXT, Kind.NULL):
            raise TypeProblem(position, f"This is {an(arguments[position].type)}, where text is needed.")
    return TEXT


def _joined(arguments: Sequence[Expression]) -> Type:
    for position, kind in enumerate(_kinds(arguments)):
        if kind not in (Kind.TEXT, Kind.INTEGER, Kind.NULL):
            raise TypeProblem(
                position, f"This is {an(arguments[position].type)}; text and whole numbers can be joined."
            )
    return TEXT


def _length(arguments: Sequence[Expression]) -> Type:
    _texts(arguments)
    return INTEGER


def _pattern(arguments: Sequence[Expression]) -> Type:
    _texts(arguments)
    if not isinstance(arguments[1], Constant):
        raise TypeProblem(1, "The pattern must be a text written in the formula.")
    return BOOLEAN


def _slice(arguments: Sequence[Expression]) -> Type:
    _texts(arguments[:1])
    for position, argument in enumerate(arguments[1:], 1):
        if not isinstance(argument, Constant) or argument.type != INTEGER:
            raise TypeProblem(position, "Start and length must be whole numbers written in the formula.")
        if int(argument.value or 0) < (1 if position == 1 else 0):
            raise TypeProblem(position, "The first character is number 1, and a length is not negative.")
    return TEXT


def _date_part(arguments: Sequence[Expression]) -> Type:
    if arguments[0].type.kind not in (Kind.DATE, Kind.TIMESTAMP, Kind.NULL):
        raise TypeProblem(0, f"This is {an(arguments[0].type)}, where a date is needed.")
    return INTEGER


def _cases(arguments: Sequence[Expression]) -> Type:
    for position in range(0, len(arguments) - 1, 2):
        if arguments[position].type.kind not in (Kind.BOOLEAN, Kind.NULL):
            raise TypeProblem(position, f"This is {an(arguments[position].type)}, where a condition is needed.")
    values = [*arguments[1:-1:2], arguments[-1]]
    try:
        return _common(values, "results of one case")
    except TypeProblem as problem:
        position = len(arguments) - 1 if problem.position == len(values) - 1 else 2 * problem.position + 1
        raise TypeProblem(position, problem.reason, problem.fix) from None


def _first(arguments: Sequence[Expression]) -> Type:
    return _common(arguments, "compared")


def _orderable(arguments: Sequence[Expression]) -> Type:
    return arguments[0].type


_SCALARS = (
    Scalar("+", "a + b", 2, 2, _sum_of_two, "Sum; a date plus whole days."),
    Scalar("-", "a - b", 2, 2, _difference, "Difference; date minus date is whole days."),
    Scalar("*", "a * b", 2, 2, _product, "Product."),
    Scalar("/", "a / b", 2, 2, _float, "Quotient, always a float; null when b is zero."),
    Scalar("%", "a % b", 2, 2, _widest, "Remainder, with the sign of a; null when b is zero."),
    Scalar("negate", "-a", 1, 1, _widest, "The number with its sign changed."),
    Scalar("||", "a || b", 2, 2, _joined, "Two texts joined; whole numbers are written out."),
    Scalar("=", "a = b", 2, 2, _compared, "Equal."),
    Scalar("<>", "a <> b", 2, 2, _compared, "Not equal; != is the same."),
    Scalar("<", "a < b", 2, 2, _compared, "Less."),
    Scalar("<=", "a <= b", 2, 2, _compared, "Less or equal."),
    Scalar(">", "a > b", 2, 2, _compared, "Greater."),
    Scalar(">=", "a >= b", 2, 2, _compared, "Greater or equal."),
    Scalar("and", "a and b", 2, 2, _truth, "Both hold.", "own"),
    Scalar("or", "a or b", 2, 2, _truth, "At least one holds.", "own"),
    Scalar("not", "not a", 1, 1, _truth, "The condition does not hold; null stays null."),
    Scalar("in", "a in (b, …)", 2, None, _compared, "Equal to one of the list.", "own"),
    Scalar("like", "a like 'pattern'", 2, 2, _pattern, "Text matches: % is any text, _ any one character."),
    Scalar("is_null", "a is null", 1, 1, _any_to_truth, "There is no value.", "own"),
    Scalar(
        "case",
        "case when c then a … else b end",
        3,
        None,
        _cases,
        "The value of the first condition that holds.",
        "own",
    ),
    Scalar("coalesce", "coalesce(a, b, …)", 1, None, _first, "The first argument that has a value.", "own"),
    Scalar("nullif", "nullif(a, b)", 2, 2, _first, "a, or null where a equals b.", "own"),
    Scalar(
        "plus",
        "plus(a, b, …)",
        1,
        None,
        _widest,
        "Sum of the arguments that have a value; null only if none has.",
        "own",
    ),
    Scalar("abs", "abs(x)", 1, 1, _widest, "The number without its sign."),
    Scalar(
        "round",
        "round(x, digits)",
        1,
        2,
        _rounded,
        "Rounded to a number of digits (0 unless given), half away from zero.",
    ),
    Scalar("floor", "floor(x)", 1, 1, _whole, "The greatest whole number not above x."),
    Scalar("ceil", "ceil(x)", 1, 1, _whole, "The least whole number not below x."),
    Scalar("sqrt", "sqrt(x)", 1, 1, _float, "Square root; null below zero."),
    Scalar("exp", "exp(x)", 1, 1, _float, "e to the power of x."),
    Scalar("ln", "ln(x)", 1, 1, _float, "Natural logarithm; null unless x is above zero."),
    Scalar("power", "power(x, y)", 2, 2, _float, "x to the power of y."),
    Scalar("least", "least(a, b, …)", 1, None, _first, "The smallest argument; null if any is null."),
    Scalar("greatest", "greatest(a, b, …)", 1, None, _first, "The greatest argument; null if any is null."),
    Scalar("upper", "upper(t)", 1, 1, _texts, "Text in capitals."),
    Scalar("lower", "lower(t)", 1, 1, _texts, "Text in small letters."),
    Scalar("trim", "trim(t)", 1, 1, _texts, "Text without blanks at its ends."),
    Scalar(
        "substring", "substring(t, start, length)", 2, 3, _slice, "Part of a text; the first character is number 1."
    ),
    Scalar("length", "length(t)", 1, 1, _length, "How many characters a text has."),
    Scalar("year", "year(d)", 1, 1, _date_part, "Year of a date."),
    Scalar("quarter", "quarter(d)", 1, 1, _date_part, "Quarter of a date, 1 to 4."),
    Scalar("month", "month(d)", 1, 1, _date_part, "Month of a date, 1 to 12."),
    Scalar("week", "week(d)", 1, 1, _date_part, "ISO week number of a date, 1 to 53."),
    Scalar("day", "day(d)", 1, 1, _date_part, "Day of the month."),
    Scalar("weekday", "weekday(d)", 1, 1, _date_part, "Day of the week: Monday is 1, Sunday 7."),
)

_AGGREGATES = (
    AggregateFunction("sum", "sum(x)", "plain", _widest, "sum", "Sum of the values."),
    AggregateFunction(
        "avg",
        "avg(x), avg(x weighted by w)",
        "weighted",
        _float,
        "sum",
        "Average of the values, each counted once or w times.",
    ),
    AggregateFunction("min", "min(x)", "plain", _orderable, "extreme", "Smallest value."),
    AggregateFunction("max", "max(x)", "plain", _orderable, "extreme", "Greatest value."),
    AggregateFunction("median", "median(x)", "plain", _float, "none", "The value in the middle."),
    AggregateFunction(
        "count",
        "count(x), count(distinct x), count(table)",
        "rows",
        lambda _: INTEGER,
        "sum",
        "How many values, different values, or rows there are.",
    ),
    AggregateFunction("stddev", "stddev(x)", "plain", _float, "none", "Standard deviation of a sample."),
    AggregateFunction("variance", "variance(x)", "plain", _float, "none", "Variance of a sample."),
    AggregateFunction("stddev_pop", "stddev_pop(x)", "plain", _float, "none", "Standard deviation of a population."),
    AggregateFunction("variance_pop", "variance_pop(x)", "plain", _float, "none", "Variance of a population."),
    AggregateFunction(
        "percentile",
        "percentile(0.9 of x)",
        "fraction",
        _float,
        "none",
        "The value below which that part of the values lies, interpolated.",
    ),
    AggregateFunction("first", "first(x by y)", "by", _orderable, "none", "The value of x where y is smallest."),
    AggregateFunction("last", "last(x by y)", "by", _orderable, "none", "The value of x where y is greatest."),
    AggregateFunction(
        "sole",
        "sole(table.column)",
        "column",
        _orderable,
        "extreme",
        "The value when exactly one is visible, else null.",
    ),
    AggregateFunction(
        "rank",
        "rank(x among product)",
        "among",
        lambda _: INTEGER,
        "none",
        "The place of the current member among the visible ones: 1 is the largest x, ties share the better place.",
    ),
    AggregateFunction(
        "running",
        "running(x among product by y desc)",
        "among",
        _widest,
        "none",
        "The sum of x over the members up to and with the current one, in the order of y.",
    ),
    AggregateFunction(
        "narrowed",
        "narrowed(table.column)",
        "column",
        lambda _: BOOLEAN,
        "none",
        "Whether an axis or a filter bears on the column.",
    ),
)

SCALARS = {record.name: record for record in _SCALARS}
AGGREGATES = {record.name: record for record in _AGGREGATES}

#: Operators are written as such; these scalar functions are written name(…).
CALLABLE = frozenset(name for name, record in SCALARS.items() if record.signature.startswith(f"{name}("))

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
}
