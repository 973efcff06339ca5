"""Type rules: what each function of the register gives for arguments of which types, and what it refuses."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

from relatum.data.types import (
    BOOLEAN,
    DATE,
    FLOAT,
    INTEGER,
    MAX_SCALE,
    NULL,
    TEXT,
    Kind,
    Type,
    an,
    common_type,
    decimal,
    parse_type,
)
from relatum.errors import ModelError
from relatum.language.expression import Constant, Expression


class TypeProblem(Exception):
    """An argument of the wrong type: its position, and the sentence for a person."""

    def __init__(self, position: int, reason: str, fix: str = "", about: int | None = None) -> None:
        super().__init__(reason)
        self.position = position
        self.reason = reason
        #: What to do; ``{x}`` in it is replaced by the text of the argument at ``about``.
        self.fix = fix
        self.about = position if about is None else about


Infer = Callable[[Sequence[Expression]], Type]


def kinds(arguments: Sequence[Expression]) -> list[Kind]:
    """The kinds of arguments."""
    return [argument.type.kind for argument in arguments]


def numeric(arguments: Sequence[Expression]) -> None:
    """Raise a TypeProblem at an argument that is not a number."""
    for position, argument in enumerate(arguments):
        if not argument.type.numeric and argument.type != NULL:
            raise TypeProblem(position, f"This is {an(argument.type)}, but a number is needed.")


def widest(arguments: Sequence[Expression]) -> Type:
    """The one numeric type that holds all arguments."""
    numeric(arguments)
    types = [argument.type for argument in arguments if argument.type != NULL]
    if not types or any(type_.kind is Kind.FLOAT for type_ in types):
        return FLOAT if types else INTEGER
    scale = max(type_.scale for type_ in types)
    return decimal(scale) if any(type_.kind is Kind.DECIMAL for type_ in types) else INTEGER


def sum_of_two(arguments: Sequence[Expression]) -> Type:
    """Numbers added, or a date moved by whole days."""
    left, right = arguments
    if left.type == DATE and right.type in (INTEGER, NULL):
        return DATE
    if right.type == DATE and left.type == INTEGER:
        return DATE
    if DATE in (left.type, right.type):
        raise TypeProblem(1 if left.type == DATE else 0, "A date can be moved only by a whole number of days.")
    return widest(arguments)


def difference(arguments: Sequence[Expression]) -> Type:
    """Numbers subtracted, or dates."""
    left, right = arguments
    if left.type == DATE and right.type == DATE:
        return INTEGER
    if left.type == DATE and right.type in (INTEGER, NULL):
        return DATE
    if DATE in (left.type, right.type):
        raise TypeProblem(1, "Subtract a date or a whole number of days from a date.")
    return widest(arguments)


def product(arguments: Sequence[Expression]) -> Type:
    """The type of a product: decimals add their digits."""
    widest_type = widest(arguments)
    if widest_type.kind is not Kind.DECIMAL:
        return widest_type
    scale = sum(argument.type.scale for argument in arguments)
    if scale > MAX_SCALE:
        raise TypeProblem(
            1,
            f"The product would have {scale} digits after the point; the limit is {MAX_SCALE}.",
            "Round one side first.",
        )
    return decimal(scale)


def float_of(arguments: Sequence[Expression]) -> Type:
    """Numbers in, a float out."""
    numeric(arguments)
    return FLOAT


def whole(arguments: Sequence[Expression]) -> Type:
    """Numbers in, a whole number out."""
    numeric(arguments)
    return INTEGER


def rounded(arguments: Sequence[Expression]) -> Type:
    """The type of a number rounded to digits written in the formula."""
    widest_type = widest(arguments[:1])
    digits = 0
    if len(arguments) == 2:
        if not isinstance(arguments[1], Constant) or arguments[1].type != INTEGER:
            raise TypeProblem(1, "The number of digits must be a whole-number constant.")
        digits = int(arguments[1].value or 0)
    if widest_type.kind is Kind.FLOAT:
        return FLOAT if digits > 0 else INTEGER
    return decimal(min(digits, widest_type.scale)) if digits > 0 and widest_type.scale else INTEGER


def common(arguments: Sequence[Expression], noun: str = "mixed") -> Type:
    """The one type of all arguments."""
    found = common_type([argument.type for argument in arguments])
    if found is not None:
        return found
    first = next(argument.type for argument in arguments if argument.type != NULL)
    for position, argument in enumerate(arguments):
        if common_type([first, argument.type]) is None:
            kinds = {first.kind, argument.type.kind}
            fix, about = "", None
            if kinds == {Kind.DATE, Kind.TIMESTAMP}:
                about = next(at for at, each in enumerate(arguments) if each.type.kind is Kind.TIMESTAMP)
                fix = "The day of the timestamp is date({x})."
            elif kinds == {Kind.DATE, Kind.TEXT}:
                fix = "Write dates as date '2024-05-31'."
            elif Kind.TEXT in kinds and kinds & {Kind.INTEGER, Kind.DECIMAL, Kind.FLOAT}:
                fix = "Write numbers without quotes and texts in single quotes."
            raise TypeProblem(
                position, f"{an(first)[0].upper()}{an(first)[1:]} and {an(argument.type)} cannot be {noun}.", fix, about
            )
    raise AssertionError("some pair must differ")


def compared(arguments: Sequence[Expression]) -> Type:
    """Values that can be compared, a truth out."""
    common(arguments, "compared")
    return BOOLEAN


def truth(arguments: Sequence[Expression]) -> Type:
    """Conditions in, a truth out."""
    for position, kind in enumerate(kinds(arguments)):
        if kind not in (Kind.BOOLEAN, Kind.NULL):
            raise TypeProblem(position, f"This is {an(arguments[position].type)}, but a condition is needed.")
    return BOOLEAN


def any_to_truth(arguments: Sequence[Expression]) -> Type:
    """Anything in, a truth out."""
    return BOOLEAN


def texts(arguments: Sequence[Expression]) -> Type:
    """Texts in, text out."""
    for position, kind in enumerate(kinds(arguments)):
        if kind not in (Kind.TEXT, Kind.NULL):
            raise TypeProblem(position, f"This is {an(arguments[position].type)}, but text is needed.")
    return TEXT


def joined(arguments: Sequence[Expression]) -> Type:
    """Texts and whole numbers in, text out."""
    for position, kind in enumerate(kinds(arguments)):
        if kind not in (Kind.TEXT, Kind.INTEGER, Kind.NULL):
            raise TypeProblem(
                position, f"This is {an(arguments[position].type)}; text and whole numbers can be joined."
            )
    return TEXT


def length(arguments: Sequence[Expression]) -> Type:
    """Text in, a whole number out."""
    texts(arguments)
    return INTEGER


def pattern(arguments: Sequence[Expression]) -> Type:
    """Text and a pattern written in the formula."""
    texts(arguments)
    if not isinstance(arguments[1], Constant):
        raise TypeProblem(1, "The pattern must be a text constant.")
    return BOOLEAN


def slice_of(arguments: Sequence[Expression]) -> Type:
    """Text with start and length written in the formula."""
    texts(arguments[:1])
    for position, argument in enumerate(arguments[1:], 1):
        if not isinstance(argument, Constant) or argument.type != INTEGER:
            raise TypeProblem(position, "Start and length must be whole-number constants.")
        if int(argument.value or 0) < (1 if position == 1 else 0):
            raise TypeProblem(position, "The first character is number 1, and a length cannot be negative.")
    return TEXT


def date_part(arguments: Sequence[Expression]) -> Type:
    """A date in, a whole number out."""
    if arguments[0].type.kind not in (Kind.DATE, Kind.TIMESTAMP, Kind.NULL):
        raise TypeProblem(0, f"This is {an(arguments[0].type)}, but a date is needed.")
    return INTEGER


def banded(arguments: Sequence[Expression]) -> Type:
    """A number in, the text of its band out."""
    if not (arguments[0].type.numeric or arguments[0].type.kind is Kind.NULL):
        raise TypeProblem(0, f"This is {an(arguments[0].type)}, but band needs a number.")
    return TEXT


def period_text(arguments: Sequence[Expression]) -> Type:
    """A date in, the text of its period out."""
    date_part(arguments)
    return TEXT


def period_date(arguments: Sequence[Expression]) -> Type:
    """A date in, the first date of its period out."""
    date_part(arguments)
    return DATE


def edge_of(arguments: Sequence[Expression]) -> Type:
    """The text of a band in, a number out."""
    return FLOAT


def time_part(arguments: Sequence[Expression]) -> Type:
    """A moment in, a whole number out."""
    kind = arguments[0].type.kind
    if kind is Kind.DATE:
        raise TypeProblem(0, "This is a date, and a date has no time of day.", "Use a timestamp.")
    if kind not in (Kind.TIMESTAMP, Kind.NULL):
        raise TypeProblem(0, f"This is {an(arguments[0].type)}, but a timestamp is needed.")
    return INTEGER


def date_of(arguments: Sequence[Expression]) -> Type:
    """A moment, or year, month and day, in; a date out."""
    if len(arguments) == 2:
        raise TypeProblem(1, "date takes a timestamp, or year, month and day.", "Write date(y, m, d).")
    if len(arguments) == 1:
        date_part(arguments)
        return DATE
    for position, argument in enumerate(arguments):
        if argument.type not in (INTEGER, NULL):
            raise TypeProblem(position, f"This is {an(argument.type)}, but a whole number is needed.")
    return DATE


#: To which kinds values of a kind can be cast.
_CASTS: Mapping[Kind, frozenset[Kind]] = {
    Kind.INTEGER: frozenset({Kind.INTEGER, Kind.DECIMAL, Kind.FLOAT, Kind.TEXT}),
    Kind.DECIMAL: frozenset({Kind.INTEGER, Kind.DECIMAL, Kind.FLOAT, Kind.TEXT}),
    Kind.FLOAT: frozenset({Kind.INTEGER, Kind.DECIMAL, Kind.FLOAT, Kind.TEXT}),
    Kind.BOOLEAN: frozenset({Kind.INTEGER, Kind.TEXT}),
    Kind.TEXT: frozenset({Kind.INTEGER, Kind.DECIMAL, Kind.FLOAT, Kind.TEXT, Kind.DATE}),
    Kind.DATE: frozenset({Kind.DATE, Kind.TEXT}),
    Kind.TIMESTAMP: frozenset({Kind.DATE, Kind.TEXT}),
    Kind.NULL: frozenset({Kind.INTEGER, Kind.DECIMAL, Kind.FLOAT, Kind.TEXT, Kind.DATE}),
}


def cast_to(arguments: Sequence[Expression]) -> Type:
    """A value and the name of a type; that type out."""
    value, name = arguments
    assert isinstance(name, Constant), "the grammar has a type's name there"
    try:
        type_ = parse_type(str(name.value))
    except ModelError:
        type_ = BOOLEAN
    if type_.kind not in _CASTS[Kind.NULL]:
        raise TypeProblem(1, f"Cannot cast to {name.value}.", "Types are integer, decimal(2), float, text and date.")
    if type_.kind not in _CASTS[value.type.kind]:
        raise TypeProblem(0, f"This is {an(value.type)}, which can never be {an(type_)}.")
    return type_


def cases(arguments: Sequence[Expression]) -> Type:
    """Conditions and values in turn."""
    for position in range(0, len(arguments) - 1, 2):
        if arguments[position].type.kind not in (Kind.BOOLEAN, Kind.NULL):
            raise TypeProblem(position, f"This is {an(arguments[position].type)}, but a condition is needed.")
    values = [*arguments[1:-1:2], arguments[-1]]
    try:
        return common(values, "results of one case")
    except TypeProblem as problem:
        position = len(arguments) - 1 if problem.position == len(values) - 1 else 2 * problem.position + 1
        raise TypeProblem(position, problem.reason, problem.fix) from None


def first_of(arguments: Sequence[Expression]) -> Type:
    """The one type of all arguments, which are compared."""
    return common(arguments, "compared")


def orderable(arguments: Sequence[Expression]) -> Type:
    """The type of the first argument."""
    return arguments[0].type
