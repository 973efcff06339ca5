"""Decimal numbers with all their digits: the usual 28 are fewer than a number here may have."""

from __future__ import annotations

from contextlib import AbstractContextManager
from decimal import Context, Decimal, localcontext

#: Enough for the greatest float, written out, with its decimals.
_DIGITS = 420


def exactly() -> AbstractContextManager[Context]:
    """Work with as many digits as any number here has, inside the block.

    Examples
    --------
    >>> with exactly():
    ...     round(Decimal("1e30") + Decimal("0.005"), 2)
    Decimal('1000000000000000000000000000000.00')
    """
    return localcontext(prec=_DIGITS)


def difference(one: object, other: object) -> Decimal | None:
    """How much more one number is than another; None where either is not a number, or none that is finite.

    Parameters
    ----------
    one, other : object
        The numbers: int, float or Decimal.

    Returns
    -------
    Decimal or None
        ``one`` minus ``other``, with all its digits.

    Examples
    --------
    >>> difference(0.3, Decimal("0.1")), difference(float("nan"), 1), difference("a", 1)
    (Decimal('0.2'), None, None)
    """
    numbers = [Decimal(str(each)) for each in (one, other) if is_number(each)]
    if len(numbers) < 2 or not all(each.is_finite() for each in numbers):
        return None
    with exactly():
        return numbers[0] - numbers[1]


def is_number(value: object) -> bool:
    """Whether a value is a number: a boolean is not."""
    return isinstance(value, int | float | Decimal) and not isinstance(value, bool)
