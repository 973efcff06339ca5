"""The shape of the model file: what each of its parts may hold.

A part that the file and the declaration have in the same shape is one record, which is there or in ``looks``. An
entry is here where the file's shape is another: a text for a list of one, any value that TOML has, a name above it.
"""

from __future__ import annotations

import inspect
from datetime import date
from typing import Any, Literal, TypeVar

import msgspec

from relatum.model.declaration import EngineChoice, EngineKind
from relatum.model.looks import Duration, Report, StyleRule, Theme

VERSION = 1

Record = TypeVar("Record", bound=msgspec.Struct)


def filled(kind: type[Record], source: msgspec.Struct, /, **changed: Any) -> Record:
    """A record that says what another says, field by field.

    Parameters
    ----------
    kind : type
        What to make: a part of a declaration from its entry in the file, or the entry from the part.
    source : msgspec.Struct
        The other of the two.
    **changed : object
        The fields that the two have in different shapes.
    """
    shared = {name: getattr(source, name) for name in kind.__struct_fields__ if name in source.__struct_fields__}
    return kind(**{**shared, **changed})


class ColumnEntry(msgspec.Struct, forbid_unknown_fields=True, omit_defaults=True):
    """``[table.NAME.column.NAME]``."""

    type: str = ""
    label: str = ""
    order_by: str = ""
    about: str = ""
    heading: str = ""
    pattern: str = ""
    null: str | list[str] = []
    format: str = ""
    colours: dict[str, str] = {}
    style: tuple[StyleRule, ...] = ()
    hidden: bool = False


class DerivedEntry(msgspec.Struct, forbid_unknown_fields=True, omit_defaults=True):
    """``[table.NAME.derived.NAME]``."""

    formula: str
    about: str = ""
    label: str = ""
    format: str = ""
    order_by: str = ""


class CalendarEntry(
    msgspec.Struct, forbid_unknown_fields=True, omit_defaults=True, rename={"first": "from", "last": "to"}
):
    """``calendar = { from = …, to = … }``."""

    first: date
    last: date
    fiscal_year_starts: int = 1
    week_starts: str = "monday"
    through: Any = ""


class TableEntry(msgspec.Struct, forbid_unknown_fields=True, omit_defaults=True):
    """``[table.NAME]``."""

    source: str = ""
    part: str = ""
    query: str = ""
    key: str | list[str] = ""
    about: str = ""
    role_of: str = ""
    per: str | list[str] = ""
    columns: dict[str, str] = {}
    calendar: CalendarEntry | bool | None = None
    column: dict[str, ColumnEntry] = {}
    derived: dict[str, DerivedEntry] = {}
    label: str = ""
    null: str | list[str] = []
    footer: int = 0
    headings: Literal["", "numbered"] = ""


class RelationshipEntry(msgspec.Struct, forbid_unknown_fields=True, omit_defaults=True):
    """``[[relationship]]``."""

    link: str
    direction: str = ""
    match: str = "equal"
    level: bool = False
    standby: bool = False


class MeasureEntry(msgspec.Struct, forbid_unknown_fields=True, omit_defaults=True):
    """``[measure.NAME]``."""

    formula: str
    format: str = ""
    about: str = ""
    unrelated: str = "blank"
    label: str = ""
    scale: str = ""
    digits: int = 0
    duration: Duration = ""
    blank: str = ""
    zero: str = ""
    infinity: str = ""
    style: tuple[StyleRule, ...] = ()


class HierarchyEntry(msgspec.Struct, forbid_unknown_fields=True, omit_defaults=True):
    """``[hierarchy.NAME]``."""

    levels: list[str]
    about: str = ""


class PivotEntry(msgspec.Struct, forbid_unknown_fields=True, omit_defaults=True):
    """``[pivot.NAME]``."""

    values: str | list[str]
    rows: str | list[str] = []
    columns: str | list[str] = []
    where: str = ""
    keep: str | list[str] = []
    totals: bool = True
    show_empty: bool = False
    values_on: str = ""
    about: str = ""
    style: tuple[StyleRule, ...] = ()


class ControlEntry(msgspec.Struct, forbid_unknown_fields=True, omit_defaults=True):
    """``[[control]]``."""

    measure: str
    equals: Any
    at: dict[str, Any] = {}
    tolerance: int | float = 0


class ModelEntry(msgspec.Struct, forbid_unknown_fields=True, omit_defaults=True):
    """A whole model file."""

    relatum: int
    name: str = "model"
    locale: str = "en"
    currency: str = "EUR"
    timezone: str = "UTC"
    table: dict[str, TableEntry] = {}
    relationship: list[RelationshipEntry] = []
    measure: dict[str, MeasureEntry] = {}
    hierarchy: dict[str, HierarchyEntry] = {}
    control: list[ControlEntry] = []
    pivot: dict[str, PivotEntry] = {}
    report: dict[str, Report] = {}
    theme: Theme | str = ""
    limits: dict[str, int | str] = {}
    engine: EngineChoice | EngineKind = "memory"


def json_schema() -> bytes:
    """The JSON Schema of the model file, as it ships with the package."""
    schema = msgspec.json.schema(ModelEntry)
    # Releases of msgspec differ in whether they take the margin of a docstring away.
    for entry in schema["$defs"].values():
        entry["description"] = inspect.cleandoc(entry["description"])
    return msgspec.json.format(msgspec.json.encode(schema, order="sorted"), indent=2) + b"\n"
