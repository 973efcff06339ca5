"""Writing the model file: a person's comments and order are kept, and a failure leaves what was there."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import date, datetime
from decimal import Decimal
from typing import Any

import msgspec
from msgspec.structs import replace

from relatum.model.declaration import (
    CalendarRange,
    ColumnSettings,
    Declaration,
    EngineChoice,
    EngineKind,
    Relationship,
    SavedPivot,
    Table,
)
from relatum.model.entries import (
    VERSION,
    CalendarEntry,
    ColumnEntry,
    ControlEntry,
    DerivedEntry,
    EngineEntry,
    HierarchyEntry,
    MeasureEntry,
    ModelEntry,
    PivotEntry,
    RelationshipEntry,
    TableEntry,
)
from relatum.model.links import parse_link
from relatum.model.looks import FORMAT_WORDS, Theme
from relatum.model.rewrite import new_text, rewritten, toml


def model_text(declaration: Declaration, former: str | None, sources: Mapping[str, str]) -> str:
    """The text of a model file.

    Parameters
    ----------
    declaration : Declaration
        What to write.
    former : str, optional
        The file's text before, whose comments and order are kept.
    sources : mapping of str to str
        Each table's source as it must be in this file.
    """
    wanted = to_document(declaration, sources)
    return new_text(wanted) if former is None else rewritten(former, wanted, _says_the_same, _is_default)


def to_document(declaration: Declaration, sources: Mapping[str, str]) -> dict[str, Any]:
    """A declaration as plain data in the shape of the model file."""
    entry = ModelEntry(
        relatum=VERSION,
        name=declaration.name,
        locale=declaration.locale,
        currency=declaration.currency,
        timezone=declaration.timezone,
        table={name: _table_entry(table, sources.get(name, "")) for name, table in declaration.tables.items()},
        relationship=[
            RelationshipEntry(
                str(each), "" if each.direction == "down" else each.direction, each.match, each.level, each.standby
            )
            for each in declaration.relationships
        ],
        measure={
            name: MeasureEntry(
                measure.formula,
                measure.format,
                measure.about,
                measure.unrelated,
                measure.label,
                **{word: getattr(measure.writing, word) for word in FORMAT_WORDS[1:]},
                style=measure.style,
            )
            for name, measure in declaration.measures.items()
        },
        hierarchy={
            name: HierarchyEntry(list(each.levels), each.about) for name, each in declaration.hierarchies.items()
        },
        control=[
            ControlEntry(control.measure, _number(control.equals), dict(control.at), control.tolerance)
            for control in declaration.controls
        ],
        pivot={name: _pivot_entry(pivot) for name, pivot in declaration.pivots.items()},
        report=dict(declaration.reports),
        theme=declaration.theme_source or (declaration.theme if declaration.theme != Theme() else ""),
        limits=dict(declaration.limits),
        engine=_engine_entry(declaration.engine),
    )
    document: dict[str, Any] = plain_lists(msgspec.to_builtins(entry, builtin_types=(date, datetime)))
    return {"relatum": VERSION, "name": declaration.name, **document}


def _engine_entry(choice: EngineChoice) -> EngineEntry | EngineKind:
    if not (choice.address or choice.schema):
        return choice.kind
    return EngineEntry(choice.kind, choice.address, choice.schema)


def _number(value: object) -> object:
    """A value as TOML has it: a decimal number is written as one, not as text."""
    if not isinstance(value, Decimal):
        return value
    return int(value) if value == value.to_integral_value() else float(value)


def _pivot_entry(pivot: SavedPivot) -> PivotEntry:
    return PivotEntry(
        values=list(pivot.values),
        rows=list(pivot.rows),
        columns=list(pivot.columns),
        where=pivot.where,
        keep=pivot.keep or [],
        totals=pivot.totals,
        show_empty=pivot.show_empty,
        values_on=pivot.values_on,
        about=pivot.about,
        style=pivot.style,
    )


def as_written(value: object) -> str:
    """A setting as the model file has it, on one line."""
    if isinstance(value, CalendarRange):
        value = _calendar_entry(value)
    if isinstance(value, Mapping):
        value = dict(value)
    return toml(plain_lists(msgspec.to_builtins(value, builtin_types=(date, datetime))))


def _calendar_entry(span: CalendarRange) -> CalendarEntry:
    return CalendarEntry(span.first, span.last, span.fiscal_year_starts, span.week_starts, span.through)


def _column_entry(table: Table, name: str, settings: ColumnSettings) -> ColumnEntry:
    """The properties set for a column; for a derived one only its formula."""
    beside = table.derived[name].stated if name in table.derived else ()
    own = replace(settings, **dict.fromkeys(beside, ""))
    return ColumnEntry(
        type=own.type,
        label=own.label,
        order_by=own.order_by,
        about=own.about,
        heading=own.heading,
        pattern=own.pattern,
        null=list(own.null),
        format=own.format,
        colours=dict(own.colours),
        style=own.style,
        hidden=own.hidden,
    )


def _table_entry(table: Table, source: str) -> TableEntry:
    calendar: CalendarEntry | bool | None = table.dated or None
    if table.calendar is not None:
        calendar = _calendar_entry(table.calendar)
    return TableEntry(
        source=source,
        part=table.part,
        query=table.query,
        key=table.key[0] if len(table.key) == 1 else list(table.key) if table.key else "",
        about=table.about,
        role_of=table.role_of,
        per=table.per[0] if len(table.per) == 1 else list(table.per) if table.per else "",
        columns=dict(table.formulas),
        calendar=calendar,
        column={
            name: entry
            for name, settings in table.columns.items()
            if (entry := _column_entry(table, name, settings)) != ColumnEntry() or name not in table.derived
        },
        derived={
            name: DerivedEntry(
                derived.formula, derived.about, **{each: getattr(table.columns[name], each) for each in derived.stated}
            )
            for name, derived in table.derived.items()
        },
        label=table.label,
        null=list(table.null),
        footer=table.footer,
        headings=table.headings,
    )


def plain_lists(value: Any) -> Any:
    """A value with lists where it has tuples, as TOML has it."""
    if isinstance(value, dict):
        return {key: plain_lists(each) for key, each in value.items()}
    return [plain_lists(each) for each in value] if isinstance(value, list | tuple) else value


def _says_the_same(key: str, said: Any, wanted: Any) -> bool:
    """Whether a file already says what is wanted in other words, so that it can stay unchanged."""
    if key == "link":
        return _identity({key: said}) == _identity({key: wanted})
    if not key and isinstance(said, dict) and isinstance(wanted, dict) and ("link" in said or "measure" in said):
        return said.keys() & {"link", "measure"} == wanted.keys() & {"link", "measure"} and _identity(
            said
        ) == _identity(wanted)
    # One key, grain, field or value may be alone or as a list of one.
    return bool(said == wanted or [said] == wanted or said == [wanted])


def _is_default(key: str, value: object) -> bool:
    defaults = {
        "direction": "down",
        "match": "equal",
        "level": False,
        "standby": False,
        "unrelated": "blank",
        "tolerance": 0,
        "locale": "en",
        "currency": "EUR",
        "timezone": "UTC",
        "footer": 0,
        "week_starts": "monday",
        "fiscal_year_starts": 1,
        "totals": True,
        "show_empty": False,
        "values_on": "columns",
    }
    return key in defaults and defaults[key] == value


def _identity(entry: Mapping[str, Any]) -> str:
    if "link" in entry:
        return str(Relationship(*parse_link(entry["link"])[:2], kind=parse_link(entry["link"])[2]))
    return f"{entry.get('measure')} {dict(entry.get('at', {}))}"
