"""A request as asked, all of it text: rows, columns, values, filters, and how each axis is ordered, cut and closed."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, Literal, NamedTuple

import msgspec
from msgspec import Struct

from relatum.arguments import checked_call
from relatum.errors import ModelError, RequestError
from relatum.language.parse import parse_axis, parse_values
from relatum.model.looks import PLAIN, Format, StyleRule, check_rule
from relatum.model.names import quoted

#: What a caller may pass for axes and values.
Names = str | Sequence[str]
Values = str | Sequence[str | tuple[str, str]] | Mapping[str, str]
AxisWord = Literal["rows", "columns"]


class ValueText(NamedTuple):
    """A value that is asked: its label, its formula and the format that follows it."""

    label: str
    formula: str
    format: Format = PLAIN


class Request(Struct, frozen=True):
    """What a pivot is asked.

    ``rows`` and ``columns`` are lists of fields with their options, ``where`` is a condition, ``keep`` a list of keeps.
    ``totals`` asks for subtotals and grand totals, ``show_empty`` for members without rows too; ``values_on`` is the
    axis that the values' labels are on, ``style`` the request's own rules for how cells look.
    """

    rows: tuple[str, ...]
    columns: tuple[str, ...]
    values: tuple[ValueText, ...]
    where: str = ""
    keep: str = ""
    totals: bool = True
    show_empty: bool = False
    values_on: AxisWord = "columns"
    cell_limit: int | None = None
    style: tuple[StyleRule, ...] = ()

    @property
    def filters(self) -> list[str]:
        """The filters that it sets, as they are shown beside an answer."""
        return [f"{word} {text}" for word, text in (("where", self.where), ("keep", self.keep)) if text]


@checked_call("a request")
def ask(
    rows: Names = (),
    columns: Names = (),
    values: Values = (),
    where: str | None = None,
    keep: Names | None = None,
    totals: bool = True,
    show_empty: bool = False,
    values_on: str = "",
    cell_limit: int | None = None,
    style: Sequence[Mapping[str, Any] | StyleRule] = (),
) -> Request:
    """A request from what a caller passes: names may be in one text, separated by commas.

    Parameters
    ----------
    rows, columns, values, where, keep, totals, show_empty, values_on, cell_limit, style
        The parts of a request, as ``Model.pivot`` describes them.

    Raises
    ------
    FormulaError
        A text of an axis or of the values cannot be read.
    RequestError
        Values are neither text, list nor mapping; they are on no axis.
    """
    asked, on = _valued(values)
    return Request(
        rows=_fields(rows, "rows"),
        columns=_fields(columns, "columns"),
        values=asked,
        where=(where or "").strip(),
        keep=keep.strip() if isinstance(keep, str) else ", ".join(each.strip() for each in keep or ()),
        totals=totals,
        show_empty=show_empty,
        values_on=_axis_word(values_on) or on or "columns",
        cell_limit=cell_limit,
        style=style_rules(style),
    )


def style_rules(said: Sequence[Mapping[str, Any] | StyleRule]) -> tuple[StyleRule, ...]:
    """Style rules from their words, checked; a RequestError says what is wrong with one."""
    return tuple(map(_rule, said))


def _rule(said: Mapping[str, Any] | StyleRule) -> StyleRule:
    """A style rule from its words, checked."""
    try:
        rule = said if isinstance(said, StyleRule) else msgspec.convert(dict(said), StyleRule)
        check_rule(rule)
    except msgspec.ValidationError as error:
        raise RequestError(
            f"Invalid style {dict(said)!r}: {str(error).replace('`', '')}.",  # type: ignore[arg-type]
            fix=f"Known keys: {', '.join(StyleRule.__struct_fields__)}.",
        ) from None
    except ModelError as error:
        raise RequestError(f"Invalid style rule: {error.reason}", fix=error.fix) from None
    return rule


def _axis_word(text: str) -> AxisWord | None:
    match text:
        case "":
            return None
        case "rows" | "columns":
            return text
    raise RequestError(f"Values can be on rows or columns, not on {text}.")


def _fields(names: Names, axis: AxisWord) -> tuple[str, ...]:
    texts = [names] if isinstance(names, str) else names
    return tuple(
        text[item.span.start : item.span.stop] for text in texts if text.strip() for item in parse_axis(text, axis)
    )


def _valued(values: Values) -> tuple[tuple[ValueText, ...], AxisWord | None]:
    """The values that are asked, and the axis that their own text puts their labels on."""
    found: list[ValueText] = []
    on: AxisWord | None = None
    items = values.items() if isinstance(values, Mapping) else [values] if isinstance(values, str) else values
    for each in items:
        match each:
            case str():
                more, stated = _split(each, "")
            case (str() as label, str() as formula):
                more, stated = _split(formula, label)
            case _:
                raise RequestError(
                    f"Invalid value {each!r}.",
                    fix="Write 'formula', 'label: formula', a pair of label and formula, or a mapping of them.",
                )
        found += more
        on = stated or on
    return tuple(found), on


def _split(text: str, label: str) -> tuple[list[ValueText], AxisWord | None]:
    """The values of one text; with a label they are one formula."""
    if not text.strip() and not label:
        return [], None
    same = not label or label == " ".join(text.split())
    owner = "" if same else f"value {quoted(label)}"
    read = parse_values(text, owner)
    found = []
    for item in read.items:
        formula = text[item.formula.span.start : item.formula.span.stop]
        found.append(ValueText(label or item.label or " ".join(formula.split()), formula, item.format))
    if label and (len(found) > 1 or read.items[0].label):
        raise RequestError(f"The value {label} contains several formulas.", fix="Label each of them separately.")
    return found, read.on
