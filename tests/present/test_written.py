"""Numbers in writing: the quick way writes what the library of locales writes."""

from __future__ import annotations

from decimal import Decimal

from hypothesis import given, settings
from hypothesis import strategies as st

from relatum.data.digits import exactly
from relatum.data.types import decimal
from relatum.model.looks import Format
from relatum.present.numbers import Writer, _babel_text

LOCALES = (
    "en",
    "en_GB",
    "de",
    "de_AT",
    "de_CH",
    "fr",
    "fr_CH",
    "es",
    "pl",
    "pt_PT",
    "hi",
    "en_IN",
    "ar",
    "fa",
    "bn",
    "sv",
    "ja",
    "he",
    "hu",
)
PATTERNS = (
    "#,##0",
    "#,##0.00",
    "0.0%",
    "¤#,##0",
    "#,##0.00 ¤",
    "¤¤ #,##0.0#",
    "0.###",
    "#,##0.##;(#,##0.##)",
    "000",
    "#",
    "0.00E0",
    "@@@",
    "'x' #,##0",
    "#,##0‰",
    "+#,##0;-#,##0",
)


@settings(max_examples=400, deadline=None)
@given(
    st.sampled_from(LOCALES), st.sampled_from(PATTERNS), st.sampled_from(["EUR", "JPY", "CHF"]), st.sampled_from([0, 0, 2, 5]),
    st.sampled_from(["", "thousands", "millions"]), st.one_of(st.integers(-10**13, 10**13), st.integers(-1500, 1500)), st.integers(0, 6),
)  # fmt: skip
def test_numbers_are_written_as_the_library_of_locales_writes_them(
    locale: str, pattern: str, currency: str, digits: int, scale: str, number: int, places: int
) -> None:
    value = Decimal(number).scaleb(-places)
    write = Writer(decimal(places), Format(pattern, scale, digits), abs(value), locale, currency)
    with exactly():
        rounded, own = write.rounded(value.scaleb(-write.power))
        expected = _babel_text(rounded, own, locale, currency)
    assert write(value) == expected
