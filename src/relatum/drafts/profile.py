"""What a column holds: how many values, how many distinct, whether they are dates, money or codes in disguise."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import pyarrow as pa

from relatum.data.arrow import column_from_arrow, column_to_arrow, python_values
from relatum.data.columns import Column, Members, members_of
from relatum.data.types import TEXT, Kind, Type, decimal
from relatum.drafts.collect import Raw
from relatum.model.words import says_a_date

_DATE = re.compile(r"(\d{1,4})([-/.])(\d{1,2})\2(\d{1,4})\Z")
_COMMA = re.compile(r"-?\d{1,3}(?:[. ]\d{3})*,\d+\Z|-?\d+,\d+\Z")
_DIGITS = re.compile(r"\d+\Z")
_MONTH = re.compile(r"\d{4}-(?:0[1-9]|1[0-2])\Z")
_QUARTER = re.compile(r"\d{4}-Q[1-4]\Z")
#: How many rows, spread over the whole column, are looked at where all would take long.
_SAMPLE = 20_000
#: Texts of more words than this, on average, are remarks: a person's, a place's or a product's name rarely has more.
_REMARK_WORDS = 4
#: Fewer different numbers than this may read as times of day by chance.
_FEW_TIMES = 20
#: Numbers between these are taken for years if the column's name says so.
_FIRST_YEAR, _LAST_YEAR = 1000, 2200
#: Above this a float has no four decimals to the last digit (15 digits in all).
_LARGEST_EXACT = 1e12
#: What people write for a missing value.
_MARKERS = frozenset("NA N/A n/a na #N/A NULL null Null None nan NaN \\N - -- . .. ? (null) missing unknown".split())
_NUMBER = re.compile(r"\s*[-+]?(\d+(\.\d*)?|\.\d+)([eE][-+]?\d+)?\s*\Z")
_DAY = re.compile(r"\d{4}-\d{2}-\d{2}([T ].*)?\Z")
#: A decimal has as many digits as some value needs, up to this many.
_MOST_DIGITS = 4


@dataclass(frozen=True)
class ColumnProfile:
    """One column of a table, looked at."""

    table: str
    name: str
    column: Column

    @property
    def type(self) -> Type:
        """The type in which it was read."""
        return self.column.type

    @cached_property
    def members(self) -> Members:
        """Its distinct values."""
        return members_of(self.column)

    @cached_property
    def rows(self) -> int:
        """How many rows it has."""
        return len(self.column)

    @cached_property
    def nulls(self) -> int:
        """How many rows have no value."""
        return self.column.null_count

    @cached_property
    def distinct(self) -> int:
        """How many distinct values it has."""
        return len(self.members.values)

    @property
    def unique(self) -> bool:
        """Whether every row has a different value."""
        return self.rows > 0 and self.nulls == 0 and self.distinct == self.rows

    @cached_property
    def texts(self) -> list[str]:
        """Some of its distinct texts, from all over; none for other columns."""
        if self.type.kind is not Kind.TEXT:
            return []
        count = self.distinct
        picked = (
            np.unique(np.linspace(0, count - 1, min(count, _SAMPLE)).astype(np.int64)) if count else np.zeros(0, int)
        )
        return [str(each) for each in python_values(self.members.values.take(picked))]

    @cached_property
    def markers(self) -> tuple[str, ...]:
        """The texts among its members that people write for no value."""
        known = {text: None for text in self.texts if text.strip() in _MARKERS}
        return tuple(known)

    @cached_property
    def marks_null(self) -> tuple[bool, str]:
        """Whether its markers surely mean no value, and what speaks for it: the rest are numbers, or dates."""
        others = [text for text in self.texts if text not in self.markers]
        if not others:
            return True, "there are no other values"
        if all(_NUMBER.match(each) for each in others):
            return True, "the rest are numbers"
        if all(_DAY.match(each) for each in others):
            return True, "the rest are dates"
        return False, f"the rest are texts: {', '.join(others[:3])}"

    def rows_of(self, texts: Sequence[str]) -> int:
        """On how many rows one of some texts is."""
        counts = np.bincount(self.members.codes, minlength=self.members.size)
        known = self.members.values.dictionary.to_pylist()
        return int(sum(counts[known.index(text)] for text in texts))

    @cached_property
    def free_text(self) -> bool:
        """Whether its texts are written freely, sentences rather than names."""
        return bool(self.texts) and float(np.mean([len(each.split()) for each in self.texts[:1000]])) > _REMARK_WORDS

    @cached_property
    def clock(self) -> bool:
        """Whether its whole numbers read as hours and minutes: 1730 for half past five."""
        if (
            self.type.kind is not Kind.INTEGER
            or self.distinct < _FEW_TIMES
            or self.column.lower < 0
            or self.column.upper >= 2460
        ):
            return False
        values = self.members.values.values.astype(np.int64)
        return bool(self.column.upper > 100 and np.all(values % 100 < 60))

    @cached_property
    def digits_only(self) -> bool:
        """Whether it is text that holds nothing but digits."""
        return bool(self.texts) and all(_DIGITS.match(each) for each in self.texts)

    @cached_property
    def zero_led(self) -> str:
        """A text of digits that begins with a zero, where all are digits."""
        led = [each for each in self.texts if each.startswith("0") and len(each) > 1] if self.digits_only else []
        return led[0] if led else ""

    @cached_property
    def comma_numbers(self) -> bool:
        """Whether its texts look like numbers with a decimal comma."""
        return (
            bool(self.texts)
            and all(_COMMA.match(each) or _DIGITS.match(each) for each in self.texts)
            and any("," in each for each in self.texts)
        )

    @cached_property
    def level(self) -> str:
        """``month`` or ``quarter`` where all texts are months or quarters of a year, as a calendar writes them."""
        if self.texts and all(_MONTH.match(each) for each in self.texts):
            return "month"
        return "quarter" if self.texts and all(_QUARTER.match(each) for each in self.texts) else ""

    @cached_property
    def is_year(self) -> bool:
        """Whether it holds years: whole numbers from 1000 to 2200, and a name that says so."""
        inside = self.distinct > 0 and _FIRST_YEAR <= self.column.lower and self.column.upper <= _LAST_YEAR
        return self.type.kind is Kind.INTEGER and inside and "year" in self.name.lower()

    @property
    def is_time(self) -> bool:
        """Whether it says when: a date, or a moment of a date."""
        return self.type.kind in (Kind.DATE, Kind.TIMESTAMP)

    @cached_property
    def date_pattern(self) -> tuple[str, str]:
        """The pattern in which its texts write dates (empty where they do not, or not surely), and a doubt."""
        if says_a_date(self.name) and self._compact_days:
            return "yyyyMMdd", ""
        return _date_pattern(self.texts)

    @cached_property
    def _compact_days(self) -> bool:
        """Whether its values are days as eight digits, 20240531: whole numbers, or texts of nothing but digits."""
        if self.type.kind is Kind.INTEGER:
            written = self.members.values.values.astype(np.int64)
        elif self.digits_only and all(len(each) == 8 for each in self.texts):
            written = np.asarray([int(each) for each in self.texts], np.int64)
        else:
            return False
        first, last = _FIRST_YEAR * 10_000 + 101, _LAST_YEAR * 10_000 + 1231
        if not len(written) or written.min() < first or written.max() > last:
            return False
        months = (written // 100 % 100, written // 10_000)
        starts = ((months[1] - 1970) * 12 + months[0] - 1).astype("datetime64[M]")
        lengths = ((starts + np.timedelta64(1, "M")).astype("datetime64[D]") - starts.astype("datetime64[D]")).astype(
            np.int64
        )
        days = written % 100
        return bool(np.all((months[0] >= 1) & (months[0] <= 12) & (days >= 1) & (days <= lengths)))

    def as_text(self) -> Column:
        """The column as it is written: whole numbers as their digits."""
        if self.type.kind is Kind.TEXT:
            return self.column
        return column_from_arrow(column_to_arrow(self.column).cast(pa.string()), TEXT)

    @cached_property
    def exact(self) -> Type | None:
        """The decimal type that holds every value of a float column exactly as written; None where none does."""
        if self.type.kind is not Kind.FLOAT or not self.distinct:
            return None
        values = self.column.values if self.column.nulls is None else self.column.values[~self.column.nulls]
        if np.abs(values).max() >= _LARGEST_EXACT:
            return None
        for digits in range(1, _MOST_DIGITS + 1):
            scaled = np.rint(values * 10.0**digits)
            if bool(np.all(scaled / 10.0**digits == values)):
                return decimal(digits)
        return None

    @property
    def largest(self) -> float:
        """The largest absolute value of its numbers; 0 if there are none."""
        if self.type.kind is Kind.FLOAT:
            return float(np.abs(self.column.values).max(initial=0.0))
        return float(max(abs(self.column.lower), abs(self.column.upper)) / 10**self.type.scale)

    def sample(self) -> str:
        """A few of its values, for evidence."""
        shown = python_values(self.members.values.take(np.arange(min(3, self.distinct))))
        return ", ".join(map(str, shown))


def _date_pattern(texts: list[str]) -> tuple[str, str]:
    parts = [_DATE.match(each) for each in texts]
    if not texts or not all(parts):
        return "", ""
    found = [each for each in parts if each is not None]
    marks = {each[2] for each in found}
    first, second = ([int(each[at]) for each in found] for at in (1, 3))
    if len(marks) > 1:
        return "", f"dates in more than one format: {', '.join(texts[:3])}"
    (mark,) = marks
    if all(len(each[1]) == 4 for each in found):
        return f"yyyy{mark}MM{mark}dd", ""
    if not all(len(each[4]) == 4 for each in found):
        return "", f"dates with two-digit years: {texts[0]}"
    day_first, month_first = max(first) > 12, max(second) > 12
    if day_first and month_first:
        example = next(each for each, a in zip(texts, first, strict=True) if a > 12)
        other = next(each for each, b in zip(texts, second, strict=True) if b > 12)
        return "", f"dates in two orders: {example} has the day first, {other} has the month first"
    if not day_first and not month_first:
        return "", f"dates whose day and month could be either way round: {texts[0]}"
    return (f"dd{mark}MM{mark}yyyy" if day_first else f"MM{mark}dd{mark}yyyy"), ""


@dataclass(frozen=True)
class TableProfile:
    """A table, looked at."""

    raw: Raw
    columns: dict[str, ColumnProfile]

    @property
    def name(self) -> str:
        """Its name in the model."""
        return self.raw.name

    @property
    def rows(self) -> int:
        """How many rows it has."""
        return self.raw.data.rows

    @cached_property
    def prefix(self) -> str:
        """The prefix that all of its columns have, up to an underscore: ``lo_``."""
        names = list(self.columns)
        head, mark, _ = names[0].partition("_") if names else ("", "", "")
        prefix = head + mark
        return prefix if mark and len(names) > 1 and all(each.startswith(prefix) for each in names) else ""


def profile(raw: Raw) -> TableProfile:
    """Look at a table."""
    return TableProfile(raw, {name: ColumnProfile(raw.name, name, raw.data.column(name)) for name in raw.data.types})
