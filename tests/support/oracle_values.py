"""The oracle's values: aggregates of lists, and scalar functions, in plain Python."""

from __future__ import annotations

import functools
import math
import operator
import re
import statistics
from collections.abc import Callable
from datetime import date, timedelta
from decimal import ROUND_FLOOR, ROUND_HALF_UP, Decimal, localcontext
from typing import Any

from relatum.language.tree import Call, Case, Literal, Operation, Syntax

# -- aggregates of a list of values --------------------------------------------------------------------------------


def _exact(function: Callable[[], Any]) -> Any:
    with localcontext() as context:
        context.prec = 60
        return function()


def _percentile(values: list[Any], fraction: float) -> float | None:
    if not values:
        return None
    ordered = sorted(map(float, values))
    place = fraction * (len(ordered) - 1)
    low = math.floor(place)
    high = min(low + 1, len(ordered) - 1)
    return ordered[low] + (ordered[high] - ordered[low]) * (place - low)


def _weighted(pairs: list[tuple[Any, Any]]) -> float | None:
    weight = math.fsum(float(other) for _, other in pairs)
    return math.fsum(float(value) * float(other) for value, other in pairs) / weight if pairs and weight else None


def _by_order(function: str, pairs: list[tuple[Any, Any]]) -> Any:
    if not pairs:
        return None
    best = (min if function == "first" else max)(other for _, other in pairs)
    tied = [value for value, other in pairs if other == best]
    return tied[0] if function == "first" else tied[-1]


AGGREGATES: dict[str, Callable[[list[Any]], Any]] = {
    "sum": lambda values: _exact(lambda: sum(values)),
    "avg": lambda values: math.fsum(map(float, values)) / len(values),
    "min": min,
    "max": max,
    "median": lambda values: _percentile(values, 0.5),
    "stddev": lambda values: statistics.stdev(map(float, values)) if len(values) > 1 else None,
    "variance": lambda values: statistics.variance(map(float, values)) if len(values) > 1 else None,
    "stddev_pop": lambda values: statistics.pstdev(map(float, values)),
    "variance_pop": lambda values: statistics.pvariance(map(float, values)),
    "first": min,  # never called with a plain list: `first` and `last` take pairs
    "last": max,
}


# -- scalar functions ------------------------------------------------------------------------------------------------


def scalar(node: Syntax, leaf: Callable[[Syntax], Any] | None) -> Any:
    """The value of a formula whose names and aggregates ``leaf`` gives."""
    go = lambda part: scalar(part, leaf)  # noqa: E731
    match node:
        case Literal(value, type_):
            return _literal(value, str(type_))
        case Operation("and" | "or" as word, operands):
            return _logic(word, [go(operand) for operand in operands])
        case Operation("in", (subject, *choices)):
            return _logic("or", [_compare("=", go(subject), go(choice)) for choice in choices])
        case Operation("is_no_match"):
            return leaf(node)
        case Operation("is_null", (operand,)):
            return go(operand) is None
        case Operation(word, operands):
            return _operation(word, [go(operand) for operand in operands])
        case Case(branches, otherwise):
            for condition, value in branches:
                if go(condition) is True:
                    return go(value)
            return None if otherwise is None else go(otherwise)
        case Call("band"):
            edges = [go(node.by)] if node.by is not None else [go(each) for each in node.arguments[1:]]
            return _band(go(node.arguments[0]), edges, node.by is not None)
        case Call("period"):
            day = go(node.arguments[0])
            return None if day is None else _PERIODS[node.word](day)
        case Call(function, arguments) if function in FUNCTIONS:
            values = [go(argument) for argument in arguments]
            if function == "coalesce":
                return next((value for value in values if value is not None), None)
            if function == "nullif":
                return None if _compare("=", *values) is True else values[0]
            if function == "plus":
                known = [value for value in values if value is not None]
                return functools.reduce(lambda one, other: _operation("+", [one, other]), known) if known else None
            return None if any(value is None for value in values) else _exact(lambda: FUNCTIONS[function](*values))
    assert leaf is not None
    return leaf(node)


def _literal(value: Any, type_: str) -> Any:
    if value is None:
        return None
    if type_ == "date":
        return date(1970, 1, 1) + timedelta(days=value)
    if type_.startswith("decimal"):
        return Decimal(value).scaleb(-int(type_[8:-1]))
    return value


def _logic(word: str, values: list[Any]) -> bool | None:
    decisive = word == "or"
    if decisive in values:
        return decisive
    return None if None in values else not decisive


_COMPARE = {
    "=": operator.eq,
    "<>": operator.ne,
    "<": operator.lt,
    "<=": operator.le,
    ">": operator.gt,
    ">=": operator.ge,
}


def _compare(word: str, left: Any, right: Any) -> bool | None:
    return None if left is None or right is None else _COMPARE[word](*_alike(left, right))


def _alike(left: Any, right: Any) -> tuple[Any, Any]:
    # A float beside a decimal makes both floats.
    return (float(left), float(right)) if isinstance(left, float) or isinstance(right, float) else (left, right)


def _operation(word: str, values: list[Any]) -> Any:
    if any(value is None for value in values):
        return None
    if word in _COMPARE:
        return _compare(word, *values)
    if word == "cast":
        return _cast(*values)
    if word in ("not", "negate", "plus_sign"):
        return {"not": operator.not_, "negate": operator.neg, "plus_sign": operator.pos}[word](values[0])
    return _exact(lambda: _binary(word, *values))


def _binary(word: str, left: Any, right: Any) -> Any:
    if word == "||":
        return f"{left}{right}"
    if word == "like":
        return re.fullmatch(re.escape(right).replace("%", ".*").replace("_", "."), left, re.DOTALL) is not None
    if isinstance(left, date) or isinstance(right, date):
        return _date_arithmetic(word, left, right)
    left, right = _alike(left, right)
    if word == "/":
        return float(left) / float(right) if right else None
    if word == "%":
        if not right:
            return None
        return math.fmod(left, right) if isinstance(left, float) else left - right * _truncated(left, right)
    return {"+": operator.add, "-": operator.sub, "*": operator.mul}[word](left, right)


def _truncated(left: Any, right: Any) -> int:
    quotient = abs(left) // abs(right)
    return int(quotient if (left < 0) == (right < 0) else -quotient)


def _date_arithmetic(word: str, left: Any, right: Any) -> Any:
    if isinstance(left, date) and isinstance(right, date):
        return (left - right).days
    if isinstance(right, date):
        left, right = right, left
    return left + timedelta(days=right if word == "+" else -right)


_PERIODS: dict[str, Callable[[date], Any]] = {
    "year": lambda day: day.year,
    "quarter": lambda day: f"{day.year:04}-Q{(day.month + 2) // 3}",
    "month": lambda day: f"{day:%Y-%m}",
    "week": lambda day: day - timedelta(days=day.isoweekday() - 1),
}


def _band(value: Any, edges: list[Any], by: bool) -> str | None:
    if value is None:
        return None
    exact = Decimal(repr(value)) if isinstance(value, float) else Decimal(value)
    limits = [Decimal(repr(edge)) if isinstance(edge, float) else Decimal(edge) for edge in edges]
    if by:
        number = (exact / limits[0]).to_integral(ROUND_FLOOR)
        limits = [number * limits[0], (number + 1) * limits[0]]
    shown = [f"{(edge + 0).normalize():f}" for edge in limits]  # no minus zero
    at = sum(exact >= edge for edge in limits)
    if at == 0:
        return f"below {shown[0]}"
    return f"from {shown[-1]}" if at == len(limits) else f"{shown[at - 1]} to {shown[at]}"


def _rounded(value: Any, digits: int = 0) -> Any:
    if isinstance(value, float):
        scaled = abs(value) * 10.0**digits
        return math.copysign(math.floor(scaled) + (scaled - math.floor(scaled) >= 0.5), value) / 10.0**digits
    result = Decimal(value).quantize(Decimal(1).scaleb(-digits), ROUND_HALF_UP)
    return int(result) if digits <= 0 else result


def _cast(value: Any, name: str) -> Any:
    """A value as another type; None where it does not fit."""
    if name == "text":
        if isinstance(value, float):
            return str(int(value)) if value.is_integer() and abs(value) < 2**53 else repr(value)
        return value.isoformat() if isinstance(value, date) else str(value)
    if name == "date":
        return value if isinstance(value, date) else _cast_date(value)
    if isinstance(value, str):
        pattern = (
            r"[+-]?\d+"
            if name == "integer"
            else r"[+-]?(\d+(\.\d*)?|\.\d+)" + (r"([eE][+-]?\d+)?" if name == "float" else "")
        )
        if not re.fullmatch(pattern, value.strip()):
            return None
        value = Decimal(value.strip())
    if name == "float":
        return float(value)
    digits = 0 if name == "integer" else int(name[8:-1])
    exact = Decimal(repr(value)) if isinstance(value, float) else Decimal(value)
    rounded = exact.quantize(Decimal(1).scaleb(-digits), ROUND_HALF_UP)
    if abs(rounded.scaleb(digits)) >= 2**63:
        return None
    return rounded if digits else int(rounded)


def _cast_date(text: str) -> date | None:
    try:
        return date.fromisoformat(text)
    except ValueError:
        return None


def _date(*parts: Any) -> date | None:
    if len(parts) == 1:
        return parts[0]
    try:
        return date(*parts)
    except ValueError:
        return None


def _root(value: Any) -> float | None:
    return math.sqrt(value) if value >= 0 else None


FUNCTIONS: dict[str, Callable[..., Any]] = {
    "coalesce": lambda *_: None,
    "nullif": lambda *_: None,
    "plus": lambda *_: None,
    "abs": abs,
    "round": _rounded,
    "floor": lambda x: float(math.floor(x)) if isinstance(x, float) else int(Decimal(x).to_integral(ROUND_FLOOR)),
    "ceil": lambda x: float(math.ceil(x)) if isinstance(x, float) else -int(Decimal(-x).to_integral(ROUND_FLOOR)),
    "sqrt": _root,
    "least": lambda *values: min(values),
    "greatest": lambda *values: max(values),
    "upper": str.upper,
    "lower": str.lower,
    "trim": lambda text: text.strip(" "),
    "substring": lambda text, start, length=None: text[start - 1 :][: length if length is not None else len(text)],
    "length": len,
    "year": lambda day: day.year,
    "quarter": lambda day: (day.month + 2) // 3,
    "month": lambda day: day.month,
    "week": lambda day: day.isocalendar().week,
    "day": lambda day: day.day,
    "weekday": lambda day: day.isoweekday(),
    "date": _date,
    "band": _band,
    "period": lambda day: day,
}
