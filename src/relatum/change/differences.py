"""Two declarations side by side: what changed in meaning."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from typing import Any, Literal, TypeVar

import msgspec
from msgspec import Struct
from msgspec.structs import replace

from relatum.change.edits import with_columns_renamed, with_tables_renamed
from relatum.errors import FormulaError
from relatum.language.mentions import Known, meaning, mentions, respelled
from relatum.model.declaration import (
    ColumnSettings,
    Declaration,
    EngineChoice,
    Measure,
    Relationship,
    SavedPivot,
    Table,
)
from relatum.model.looks import Format, ReportPart
from relatum.model.names import ColumnKey, column_name, quoted, split_list, split_name
from relatum.model.rewrite import aligned
from relatum.model.save import as_written

T = TypeVar("T")


What = Literal["added", "removed", "changed", "renamed"]


class Difference(Struct, frozen=True):
    """One thing that two models have differently.

    ``before`` and ``after`` are the setting that changed, or the other name.
    """

    what: What
    kind: str
    name: str
    setting: str = ""
    before: str = ""
    after: str = ""

    def __str__(self) -> str:
        said = f"{self.what:8} {self.kind} {self.name}"
        if self.what == "renamed":
            return f"{said} to {self.after}"
        if self.kind == "part":
            said = f"{self.what:8} {self.name}"
        if self.setting:
            said += f": {self.setting}"
        if self.before or self.after:
            said += f" {self.before or 'none'} -> {self.after or 'none'}"
        return said


def _setting(setting: str | EngineChoice) -> str:
    """A setting of a model as a person reads it."""
    if isinstance(setting, str):
        return setting
    return " ".join(filter(None, (setting.kind, setting.address, setting.schema)))


def compare_declarations(before: Declaration, after: Declaration) -> tuple[Difference, ...]:
    """What changed in meaning: blanks, comments and the order of things do not count."""
    found: list[Difference] = []
    # A role of a renamed table is known for renamed itself once that is followed.
    while tables := _renamed_tables(before, after):
        pairs = [(quoted(old), quoted(new)) for old, new in tables.items()]
        found += [Difference("renamed", "table", old, "", old, new) for old, new in pairs]
        before = with_tables_renamed(before, tables)
    renamed = _renamed_columns(before, after)
    for (table, old_name), new_name in renamed.items():
        names = column_name(table, old_name), column_name(table, new_name)
        found.append(Difference("renamed", "column", names[0], "", *names))
    if renamed:
        before = with_columns_renamed(before, renamed)
    for setting in ("name", "locale", "currency", "timezone", "engine"):
        old, new = (_setting(getattr(each, setting)) for each in (before, after))
        if old != new:
            found.append(Difference("changed", "model", before.name, setting, old, new))
    for name in sorted(before.limits.keys() | after.limits.keys()):
        old, new = (str(each.limits.get(name, "")) for each in (before, after))
        if old != new:
            found.append(Difference("changed", "model", before.name, f"limit {name}", old, new))
    found += _mapping("table", _named(before.tables), _named(after.tables))
    for name in before.tables:
        if name in after.tables:
            found += _columns(before.tables[name], after.tables[name])
    links = [{str(each): each for each in map(_ordered, model.relationships)} for model in (before, after)]
    found += _mapping("relationship", *links)
    measures = list(_mapping("measure", _named(before.measures), _named(after.measures)))
    renames = {split_name(each.before)[0]: split_name(each.after)[0] for each in measures if each.what == "renamed"}
    # A formula that follows a renamed measure says what it said before.
    if renames:
        measures = list(_mapping("measure", _named(_following(before, renames)), _named(after.measures)))
    found += measures
    found += _mapping("hierarchy", _named(before.hierarchies), _named(after.hierarchies))
    controls = [
        {" ".join(filter(None, [each.measure, each.condition])): each for each in declaration.controls}
        for declaration in (before, after)
    ]
    found += _mapping("control", *controls)
    pivots = [
        {quoted(name): _normal(each) for name, each in declaration.pivots.items()} for declaration in (before, after)
    ]
    found += _mapping("pivot", *pivots)
    found += _mapping("report", before.reports, after.reports)
    for name in before.reports.keys() & after.reports.keys():
        found += _parts(name, before.reports[name].part, after.reports[name].part)
    if before.theme != after.theme:
        found += [Difference("changed", "model", before.name, f"theme {name}", old, new)
                  for name, old, new in _settings(before.theme, after.theme)]  # fmt: skip
    return tuple(found)


def _renamed_tables(before: Declaration, after: Declaration) -> dict[str, str]:
    """Tables under another name for the same source or, without one, for the same settings."""
    found: dict[str, str] = {}
    new = {name: each for name, each in after.tables.items() if name not in before.tables}
    for name, each in before.tables.items():
        if name not in after.tables:
            twins = [
                other
                for other, table in new.items()
                if other not in found.values()
                and (_origin(each) == _origin(table) if each.source else not table.source and _same(each, table))
            ]
            if len(twins) == 1:
                found[name] = twins[0]
    return found


def _origin(table: Table) -> tuple[str, str, str]:
    return table.source, table.part, table.query


def _renamed_columns(before: Declaration, after: Declaration) -> dict[ColumnKey, str]:
    """The columns of sources that have another name for the same heading."""
    found: dict[ColumnKey, str] = {}
    for table in before.tables.keys() & after.tables.keys():
        old, new = ({each.heading or name: name for name, each in model.tables[table].columns.items()}
                    for model in (before, after))  # fmt: skip
        for heading in dict.fromkeys([*old, *new]):
            names = old.get(heading, heading), new.get(heading, heading)
            if names[0] != names[1] and names[0] not in after.tables[table].columns:
                found[table, names[0]] = names[1]
    return found


def _following(declaration: Declaration, renames: Mapping[str, str]) -> dict[str, Measure]:
    """The measures with formulas that call others by their new names."""
    known = Known(dict.fromkeys(declaration.tables, ()), declaration.measures)
    followed = {}
    for name, measure in declaration.measures.items():
        with suppress(FormulaError):
            found = [each for each in mentions(measure.formula, known) if each.kind == "measure"]
            measure = replace(
                measure,
                formula=respelled(
                    measure.formula, found, lambda each: quoted(renames[each.name]) if each.name in renames else None
                ),
            )
        followed[name] = measure
    return followed


def _normal(pivot: SavedPivot) -> SavedPivot:
    """A saved pivot with its texts in one form: a list of fields means the same as one text of them."""

    def texts(parts: tuple[str, ...]) -> tuple[str, ...]:
        return tuple(" ".join(each.split()) for part in parts for each in split_list(part))

    return replace(
        pivot,
        rows=texts(pivot.rows),
        columns=texts(pivot.columns),
        values=texts(pivot.values),
        where=" ".join(pivot.where.split()),
        keep=" ".join(pivot.keep.split()),
        values_on=pivot.values_on or "columns",
    )


def _named(things: Mapping[str, T]) -> dict[str, T]:
    """Things by their names as formulas spell them."""
    return {quoted(name): each for name, each in things.items()}


def _ordered(relationship: Relationship) -> Relationship:
    """A relationship described the same way whichever end was named first."""
    if relationship.kind == "many_to_one" or str(relationship.many) <= str(relationship.one):
        return relationship
    direction = {"left": "right", "right": "left"}.get(relationship.direction, relationship.direction)
    return replace(relationship, many=relationship.one, one=relationship.many, direction=direction)


#: What goes by a name that says nothing of itself, so that it can have another.
_NAMED = frozenset(("table", "column", "derived column", "measure", "hierarchy", "pivot"))


def _mapping(kind: str, before: Mapping[str, Any], after: Mapping[str, Any]) -> Iterator[Difference]:
    gone = {name: each for name, each in before.items() if name not in after}
    new = {name: each for name, each in after.items() if name not in before}
    for name, each in list(gone.items()) if kind in _NAMED else ():
        twin = next((other for other, thing in new.items() if _same(each, thing)), None)
        if twin is not None:
            yield Difference("renamed", kind, name, "", name, twin)
            del gone[name], new[twin]
    for name in gone:
        yield Difference("removed", kind, name)
    for name in new:
        yield Difference("added", kind, name)
    for name in before:
        if name in after:
            for setting, old, now in _settings(before[name], after[name]):
                yield Difference("changed", kind, name, setting, old, now)


def _parts(report: str, before: Sequence[ReportPart], after: Sequence[ReportPart]) -> Iterator[Difference]:
    """What changed in the parts of a report, which have no names: the most similar ones are taken as the same."""
    said, wanted = ([msgspec.to_builtins(each) for each in side] for side in (before, after))
    for old, new in aligned(said, wanted, lambda _, one, other: bool(one == other)):
        if new is None:
            assert old is not None, "one side has a part"
            yield Difference("removed", "part", f"{old + 1} of report {report}")
        elif old is None:
            yield Difference("added", "part", f"{new + 1} of report {report}")
        else:
            for setting, was, now in _settings(before[old], after[new]):
                yield Difference("changed", "part", f"{new + 1} of report {report}", setting, was, now)


def _columns(before: Table, after: Table) -> Iterator[Difference]:
    for kind, old, new in (
        ("column", before.columns, after.columns),
        ("derived column", before.derived, after.derived),
        ("column", before.formulas, after.formulas),
    ):
        own = [{column_name(before.name, column): each for column, each in side.items() if each != ColumnSettings()}
               for side in (old, new)]  # fmt: skip
        for each in _mapping(kind, *own):
            if old is not before.columns or each.what not in ("added", "removed"):
                yield each
            elif split_name(each.name)[1] not in {*before.derived} ^ {*after.derived}:
                # A column without stated properties exists all the same; a derived one is reported as a whole.
                sides = [side.get(each.name, ColumnSettings()) for side in own]
                for setting, was, now in _settings(*sides):
                    yield Difference("changed", "column", each.name, setting, was, now)


#: Fields that hold names, or things that are compared one by one.
_APART = frozenset(
    ("name", "stated", "columns", "derived", "formulas", "many", "one", "frame", "measure", "at", "part")
)


#: What some settings are called in the model file.
_WRITTEN = {"dated": "calendar"}


def _same(before: Any, after: Any) -> bool:
    return not list(_settings(before, after))


def _settings(before: Any, after: Any) -> Iterator[tuple[str, str, str]]:
    if isinstance(before, str):
        if not _means_the_same(before, str(after)):
            yield "formula", before, str(after)
        return
    # The columns of a table are compared one by one; those of a saved pivot are a part of request.
    apart = _APART - {"columns"} if isinstance(before, SavedPivot) else _APART
    apart = apart - {"part"} if isinstance(before, Table) else apart
    names = before.__struct_fields__
    for name in names:
        old, new = getattr(before, name), getattr(after, name)
        if name in apart or old == new:
            continue
        if name == "formula" and _means_the_same(old, new):
            continue
        if isinstance(old, Format) and isinstance(new, Format):
            yield from _settings(old, new)  # how values are written: each word is a setting of its own
        else:
            yield _WRITTEN.get(name, name), _shown(old), _shown(new)


def _means_the_same(before: str, after: str) -> bool:
    try:
        return meaning(before) == meaning(after)
    except FormulaError:
        return before == after


def _shown(value: object) -> str:
    """A setting as a person reads it: a text by itself, everything else as it is written in the model file."""
    if isinstance(value, tuple) and all(isinstance(each, str) for each in value):
        return ", ".join(value)
    if value is None or value == () or value == {}:
        return ""
    return " ".join((value if isinstance(value, str) else as_written(value)).split())
