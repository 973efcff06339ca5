"""Writing the model file: a person's comments and order are kept, and a failure leaves what was there."""

from __future__ import annotations

from collections.abc import Mapping, MutableMapping
from datetime import date, datetime
from decimal import Decimal
from pathlib import Path
from typing import Any

import msgspec
import tomlkit

from relatum.model.atomic import write_atomically
from relatum.model.declaration import Declaration, EngineChoice, EngineKind, Relationship, SavedPivot, Table
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
from relatum.model.file import read_text
from relatum.model.links import parse_link
from relatum.model.looks import FORMAT_WORDS, Theme


def write_model(declaration: Declaration, path: Path, sources: Mapping[str, str]) -> None:
    """Write a declaration; where the file is there already, its comments and order are kept.

    Parameters
    ----------
    declaration : Declaration
        What to write.
    path : Path
        The file. It is replaced in one step, or left as it was.
    sources : mapping of str to str
        Each table's source as it must stand in this file.
    """
    wanted = to_document(declaration, sources)
    document = tomlkit.parse(read_text(path)) if path.exists() else tomlkit.document()
    _merge(document, wanted)
    write_atomically(path, tomlkit.dumps(document))


def to_document(declaration: Declaration, sources: Mapping[str, str]) -> dict[str, Any]:
    """A declaration as plain data in the shape of the model file."""
    entry = ModelEntry(
        VERSION,
        declaration.name,
        declaration.locale,
        declaration.currency,
        declaration.timezone,
        {name: _table_entry(table, sources.get(name, "")) for name, table in declaration.tables.items()},
        [
            RelationshipEntry(
                str(each), "" if each.direction == "down" else each.direction, each.match, each.level, each.standby
            )
            for each in declaration.relationships
        ],
        {
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
        {name: HierarchyEntry(list(each.levels), each.about) for name, each in declaration.hierarchies.items()},
        [
            ControlEntry(control.measure, _number(control.equals), dict(control.at), control.tolerance)
            for control in declaration.controls
        ],
        {name: _pivot_entry(pivot) for name, pivot in declaration.pivots.items()},
        dict(declaration.reports),
        declaration.theme_source or (declaration.theme if declaration.theme != Theme() else ""),
        dict(declaration.limits),
        _engine_entry(declaration.engine),
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
        list(pivot.values),
        list(pivot.rows),
        list(pivot.columns),
        pivot.where,
        pivot.keep or [],
        pivot.totals,
        pivot.show_empty,
        pivot.values_on,
        pivot.about,
        pivot.style,
    )


def _table_entry(table: Table, source: str) -> TableEntry:
    calendar: CalendarEntry | bool | None = table.dated or None
    if table.calendar is not None:
        span = table.calendar
        calendar = CalendarEntry(span.first, span.last, span.fiscal_year_starts, span.week_starts, span.through)
    return TableEntry(
        source,
        table.part,
        table.query,
        table.key[0] if len(table.key) == 1 else list(table.key) if table.key else "",
        table.about,
        table.role_of,
        table.per[0] if len(table.per) == 1 else list(table.per) if table.per else "",
        dict(table.formulas),
        calendar,
        {
            name: ColumnEntry(
                s.type,
                s.label,
                s.order_by,
                s.about,
                s.heading,
                s.pattern,
                list(s.null),
                s.format,
                dict(s.colours),
                s.style,
            )
            for name, s in table.columns.items()
        },
        {name: DerivedEntry(derived.formula, derived.about) for name, derived in table.derived.items()},
        label=table.label,
        null=list(table.null),
        footer=table.footer,
        headings=table.headings,
    )


def _merge(current: MutableMapping[str, Any], wanted: Mapping[str, Any]) -> None:
    for key in [key for key in current if key not in wanted]:
        # A setting at its default may be written out by a person: it is left as it stands.
        if not _is_default(key, current[key]):
            del current[key]
    for key, value in wanted.items():
        if key not in current:
            current[key] = toml_item(value)
        elif key == "link" and _identity({key: current[key]}) == _identity({key: value}):
            continue  # the same ends, named the other way round
        elif isinstance(value, dict):
            if isinstance(current[key], MutableMapping):
                _merge(current[key], value)
            else:
                current[key] = toml_item(value)  # a theme that was named, and now stands here
        elif key in ("style", "part"):
            # Rules and parts have no names: a list that says another thing is written anew.
            if tomlkit.item(current[key]).unwrap() != value:
                current[key] = toml_item(value)
        elif isinstance(value, list) and value and isinstance(value[0], dict):
            _merge_list(current, key, value)
        elif current[key] != value and current[key] != [value] and [current[key]] != value:
            # One key, grain, field or value may stand alone or as a list of one: it says the same, and is left.
            current[key] = value


def plain_lists(value: Any) -> Any:
    """A value with lists where it has tuples, as TOML has it."""
    if isinstance(value, dict):
        return {key: plain_lists(each) for key, each in value.items()}
    return [plain_lists(each) for each in value] if isinstance(value, list | tuple) else value


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


def _merge_list(current: MutableMapping[str, Any], key: str, wanted: list[dict[str, Any]]) -> None:
    entries = current[key]
    kept = list(entries)
    if [_identity(entry) for entry in kept] == [_identity(entry) for entry in wanted[: len(kept)]]:
        for entry, value in zip(kept, wanted, strict=False):
            _merge(entry, value)
        for value in wanted[len(kept) :]:
            entries.append(toml_item(value))
        return
    known = {_identity(entry): entry for entry in kept}
    array = tomlkit.aot()
    for value in wanted:
        entry = known.get(_identity(value))
        if entry is None:
            array.append(toml_item(value))
        else:
            _merge(entry, value)
            array.append(entry)
    current[key] = array


def _identity(entry: Mapping[str, Any]) -> str:
    if "link" in entry:
        return str(Relationship(*parse_link(entry["link"])[:2], kind=parse_link(entry["link"])[2]))
    return f"{entry.get('measure')} {dict(entry.get('at', {}))}"


def toml_item(value: Any) -> Any:
    """A value as the file shows it: a calendar on one line, relationships each under a heading of its own."""
    if isinstance(value, dict):
        if set(value) >= {"from", "to"}:
            inline = tomlkit.inline_table()
            inline.update(value)
            return inline
        table = tomlkit.table(is_super_table=bool(value) and all(isinstance(each, dict) for each in value.values()))
        for key, each in value.items():
            table[key] = toml_item(each)
        return table
    if isinstance(value, list) and value and isinstance(value[0], dict):
        array = tomlkit.aot()
        for each in value:
            array.append(toml_item(each))
        return array
    return value
