"""A request as asked: rows, columns, values, filters; and as resolved against a model."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from relatum.errors import FormulaError, RequestError
from relatum.language.expression import Expression, FilterPart
from relatum.language.parse import LABELS
from relatum.model.names import column_name, quoted, split_list, split_name
from relatum.plan.bounds import field_of
from relatum.plan.nodes import Field
from relatum.session.session import Session
from relatum.wording import suggestion

#: What a caller may pass for axes and values.
Names = str | Sequence[str]
Values = str | Sequence[str | tuple[str, str]] | Mapping[str, str]


@dataclass(frozen=True, slots=True)
class Request:
    """What a pivot is asked.

    ``rows`` and ``columns`` are lists of ``table.column``; ``values`` are pairs of a label and a formula; ``where``
    is a condition. ``totals`` asks for subtotals and grand totals, ``show_empty`` for members without rows too.
    """

    rows: tuple[str, ...]
    columns: tuple[str, ...]
    values: tuple[tuple[str, str], ...]
    where: str = ""
    totals: bool = True
    show_empty: bool = False
    cell_limit: int = 1_000_000


@dataclass(frozen=True, slots=True)
class Resolved:
    """A request whose names are all known: fields (rows first), formulas and filter parts."""

    fields: tuple[Field, ...]
    row_count: int
    formulas: tuple[Expression, ...]
    filters: tuple[FilterPart, ...]


def ask(
    rows: Names = (),
    columns: Names = (),
    values: Values = (),
    where: str | None = None,
    totals: bool = True,
    show_empty: bool = False,
    cell_limit: int = 1_000_000,
) -> Request:
    """A request from what a caller passes: names may stand in one text, separated by commas."""
    if not isinstance(values, str | Mapping | Sequence):
        raise RequestError(f"{values!r} is no value to ask for.", fix="Write 'revenue' or 'label: formula'.")
    return Request(
        _listed(rows), _listed(columns), tuple(_labelled(values)), (where or "").strip(), totals, show_empty, cell_limit
    )


def _listed(names: Names) -> tuple[str, ...]:
    texts = [names] if isinstance(names, str) else names
    return tuple(part for text in texts for part in split_list(text))


def _labelled(values: Values) -> list[tuple[str, str]]:
    if isinstance(values, str):
        return [_split_label(text) for text in split_list(values)]
    found = []
    for each in values.items() if isinstance(values, Mapping) else values:
        match each:
            case str():
                found.append(_split_label(each))
            case (str() as label, str() as formula):
                found.append((label, formula))
            case _:
                raise RequestError(
                    f"{each!r} is no value to ask for.",
                    fix="Write 'revenue', 'label: formula', a pair of label and formula, or a mapping of them.",
                )
    return found


def _split_label(text: str) -> tuple[str, str]:
    quote = ""
    for at, character in enumerate(text):
        if quote:
            quote = "" if character == quote else quote
        elif character in "'\"":
            quote = character
        elif character == ":":
            label = text[:at].strip()
            return label[1:-1] if label[:1] == label[-1:] == '"' and len(label) > 1 else label, text[at + 1 :].strip()
    return " ".join(text.split()), text.strip()


def resolve_request(session: Session, request: Request) -> Resolved:
    """Find every name of a request.

    Raises
    ------
    RequestError
        No values are asked, an axis names no column or one twice, or two values have one label.
    FormulaError
        A value or the condition cannot be understood.
    """
    if not request.values:
        raise RequestError(
            "No values are asked for.",
            fix=f"Name a measure or write a formula. {suggestion('', session.declaration.measures, noun='measure')}",
        )
    labels = [label for label, _ in request.values]
    for label in labels:
        if labels.count(label) > 1:
            raise RequestError(f"Two values have the label {label}.", fix="Give one of them a label: label: formula.")
    rows = [_field(session, name) for name in _spread(session, request.rows)]
    fields = [*rows, *(_field(session, name) for name in _spread(session, request.columns))]
    for field in fields:
        if fields.count(field) > 1:
            raise RequestError(f"{column_name(field.table, field.column)} stands on the axes twice.")
    formulas = tuple(_formula(session, label, formula) for label, formula in request.values)
    filters = session.formulas.condition(request.where) if request.where else ()
    return Resolved(tuple(fields), len(rows), formulas, filters)


def _formula(session: Session, label: str, text: str) -> Expression:
    try:
        return session.formulas.formula(text, "" if label == " ".join(text.split()) else f"value {quoted(label)}")
    except FormulaError as error:
        # An equation of a name that the model has not is meant to give that name.
        if error.span.start == 0 and re.match(r"\w+ *=", text) and not text[: error.span.stop].count("."):
            error.fix = f"{LABELS} {error.fix}"
        raise


def _spread(session: Session, names: Sequence[str]) -> list[str]:
    """The columns that an axis names, a hierarchy taken apart into its levels."""
    hierarchies = session.declaration.hierarchies
    spread: list[str] = []
    for name in names:
        parts = split_name(name)
        spread += hierarchies[parts[0]].levels if len(parts) == 1 and parts[0] in hierarchies else [name]
    return spread


def _field(session: Session, text: str) -> Field:
    parts = split_name(text)
    catalog = session.catalog
    tables = catalog.declaration.tables
    if len(parts) == 1:
        owners = catalog.tables_with(parts[0])
        fix = f"Did you mean {' or '.join(column_name(owner, parts[0]) for owner in owners)}?" if owners else ""
        raise RequestError(f"{text} is not a column.", fix=fix or "An axis takes columns: table.column.")
    if len(parts) != 2:
        raise RequestError(f"{text!r} is not a column.", fix="An axis takes columns: table.column.")
    table, column = parts
    if table not in tables:
        raise RequestError(
            f"There is no table {table}, which {text} names.", fix=suggestion(table, tables, noun="table")
        )
    if column not in catalog.columns(table):
        raise RequestError(
            f"The table {quoted(table)} has no column {column}.",
            fix=suggestion(column, catalog.columns(table), noun="column"),
        )
    return field_of(catalog, table, column)
