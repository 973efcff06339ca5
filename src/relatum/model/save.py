"""Writing the model file: a person's comments and order are kept, and a failure leaves what was there."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import date, datetime
from decimal import Decimal
from typing import Any

import msgspec
from msgspec import structs
from msgspec.structs import replace

from relatum.model.declaration import (
    CalendarRange,
    ColumnSettings,
    Declaration,
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
    HierarchyEntry,
    MeasureEntry,
    ModelEntry,
    PivotEntry,
    RelationshipEntry,
    TableEntry,
    filled,
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
    engine = declaration.engine
    entry = ModelEntry(
        relatum=VERSION,
        name=declaration.name,
        locale=declaration.locale,
        currency=declaration.currency,
        timezone=declaration.timezone,
        table={name: _table_entry(table, sources.get(name, "")) for name, table in declaration.tables.items()},
        relationship=[
            filled(
                RelationshipEntry,
                each,
                link=str(each),
                direction="" if each.direction == "down" else each.direction,
            )
            for each in declaration.relationships
        ],
        measure={
            name: filled(MeasureEntry, measure, **{word: getattr(measure.writing, word) for word in FORMAT_WORDS[1:]})
            for name, measure in declaration.measures.items()
        },
        hierarchy={
            name: filled(HierarchyEntry, each, levels=list(each.levels))
            for name, each in declaration.hierarchies.items()
        },
        control=[
            filled(ControlEntry, control, equals=_number(control.equals), at=dict(control.at))
            for control in declaration.controls
        ],
        pivot={name: _pivot_entry(pivot) for name, pivot in declaration.pivots.items()},
        report=dict(declaration.reports),
        theme=declaration.theme_source or (declaration.theme if declaration.theme != Theme() else ""),
        limits=dict(declaration.limits),
        engine=engine if engine.address or engine.schema else engine.kind,
    )
    document: dict[str, Any] = plain_lists(msgspec.to_builtins(entry, builtin_types=(date, datetime)))
    return {"relatum": VERSION, "name": declaration.name, **document}


def _number(value: object) -> object:
    """A value as TOML has it: a decimal number is written as one, not as text."""
    if not isinstance(value, Decimal):
        return value
    return int(value) if value == value.to_integral_value() else float(value)


def _pivot_entry(pivot: SavedPivot) -> PivotEntry:
    lists = {axis: list(getattr(pivot, axis)) for axis in ("values", "rows", "columns")}
    return filled(PivotEntry, pivot, keep=pivot.keep or [], **lists)


def as_written(value: object) -> str:
    """A setting as the model file has it, on one line."""
    if isinstance(value, CalendarRange):
        value = filled(CalendarEntry, value)
    if isinstance(value, Mapping):
        value = dict(value)
    return toml(plain_lists(msgspec.to_builtins(value, builtin_types=(date, datetime))))


def _column_entry(table: Table, name: str, settings: ColumnSettings) -> ColumnEntry:
    """The properties set for a column; for a derived one only its formula."""
    beside = table.derived[name].stated if name in table.derived else ()
    own = replace(settings, **dict.fromkeys(beside, ""))
    return filled(ColumnEntry, own, null=list(own.null), colours=dict(own.colours))


def _table_entry(table: Table, source: str) -> TableEntry:
    calendar: CalendarEntry | bool | None = table.dated or None
    if table.calendar is not None:
        calendar = filled(CalendarEntry, table.calendar)
    return filled(
        TableEntry,
        table,
        source=source,
        key=_alone(table.key),
        per=_alone(table.per),
        columns=dict(table.formulas),
        calendar=calendar,
        column={
            name: entry
            for name, settings in table.columns.items()
            if (entry := _column_entry(table, name, settings)) != ColumnEntry() or name not in table.derived
        },
        derived={
            name: filled(DerivedEntry, derived, **{each: getattr(table.columns[name], each) for each in derived.stated})
            for name, derived in table.derived.items()
        },
        null=list(table.null),
    )


def _alone(texts: tuple[str, ...]) -> str | list[str]:
    """Several texts as a list, one by itself."""
    return list(texts) if len(texts) > 1 else "".join(texts)


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


#: What a file may say that holds without being said.
_DEFAULTS = {
    field.encode_name: field.default
    for kind in (ModelEntry, TableEntry, CalendarEntry, RelationshipEntry, MeasureEntry, PivotEntry, ControlEntry)
    for field in structs.fields(kind)
    if isinstance(field.default, bool | int | str)
} | {"direction": "down"}


def _is_default(key: str, value: object) -> bool:
    return key in _DEFAULTS and _DEFAULTS[key] == value


def _identity(entry: Mapping[str, Any]) -> str:
    if "link" in entry:
        return str(Relationship(*parse_link(entry["link"])[:2], kind=parse_link(entry["link"])[2]))
    return f"{entry.get('measure')} {dict(entry.get('at', {}))}"
