"""The first steps of a draft: what the columns are called, which texts mean null, and their types."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from msgspec.structs import replace

from relatum.data.date_patterns import date_pattern, dates_of
from relatum.data.types import DATE, INTEGER
from relatum.drafts.profile import ColumnProfile, TableProfile
from relatum.drafts.relationships import pointed_to_as_text
from relatum.drafts.scheme import Scheme
from relatum.errors import SourceError
from relatum.model.names import column_name
from relatum.sources.database.kinds import is_database
from relatum.sources.read import BY_COLUMN
from relatum.wording import counted


def find_names(scheme: Scheme) -> Scheme:
    """Columns whose headings formulas could only spell in quotes have another name; the heading is kept."""
    for table in scheme.tables.values():
        for name, heading in table.raw.headings.items():
            scheme = scheme.setting(table.name, name, heading=heading)
        if table.raw.numbered:
            said = f"{table.name} has columns with the same heading, or with none: they are numbered"
            scheme = scheme.noting(table.name, said, "")
    return scheme


def find_nulls(scheme: Scheme) -> Scheme:
    """Texts such as NA that mean null among numbers or dates."""
    for table in scheme.tables.values():
        if table.raw.reread is None:
            continue
        marked = {name: each for name, each in table.columns.items() if each.markers}
        sure = {name: each.markers for name, each in marked.items() if each.marks_null[0]}
        for name, column in marked.items():
            where, markers = column_name(table.name, name), ", ".join(column.markers)
            evidence = f"on {column.rows_of(column.markers):,} of {counted(column.rows, 'row')}; {column.marks_null[1]}"
            if name in sure:
                scheme = scheme.adding("null", where, f"{where}: {markers} means null", 0.97, evidence)
            else:
                said = f"{where}: {markers} may be a value or may mean null"
                shown = ", ".join(f'"{each}"' for each in column.markers)
                scheme = scheme.adding("null", where, said, 0.4, evidence, f"set null = [{shown}] if so")
        if sure:
            scheme = _without(scheme, table, sure, [name for name in marked if name not in sure])
    return scheme


def _without(
    scheme: Scheme, table: TableProfile, nulls: Mapping[str, tuple[str, ...]], undecided: Sequence[str]
) -> Scheme:
    """Read texts as null, and look at the columns again: only numbers and dates may remain."""
    data = table.raw.read(nulls)
    scheme = scheme.with_columns(table.name, [ColumnProfile(table.name, name, data.column(name)) for name in nulls])
    shared = dict.fromkeys(marker for markers in nulls.values() for marker in markers)
    kept = {marker for name in undecided for marker in table.columns[name].markers}
    if len(nulls) > 1 and not kept & set(shared):
        return replace(scheme, nulls={**scheme.nulls, table.name: tuple(shared)})
    for name, markers in nulls.items():
        scheme = scheme.setting(table.name, name, null=markers)
    return scheme


def find_types(scheme: Scheme) -> Scheme:
    """Dates written as text, codes that look like numbers, money read as floats."""
    for table in scheme.tables.values():
        for name, type_ in table.raw.types.items():
            # Without a declared type, how a text file is read is a guess.
            if name in table.columns and not _typed(table.raw.source.address):
                scheme = scheme.setting(table.name, name, type=type_)
        for name, column in table.columns.items():
            if name not in table.raw.types:
                scheme = _type(scheme, table, column)
        for name, label in table.raw.labels.items():
            if name in table.columns:
                scheme = scheme.setting(table.name, name, label=label)
        for remark in table.raw.data.remarks:
            scheme = scheme.noting(table.name, remark, "")
        for name, reason in table.raw.data.left_out.items():
            scheme = scheme.noting(table.name, f"{column_name(table.name, name)} is left out", reason)
    return scheme


def _type(scheme: Scheme, table: TableProfile, column: ColumnProfile) -> Scheme:
    name, where = column.name, column_name(table.name, column.name)
    # What a frame or a typed file says of its columns needs no saying again.
    untyped = table.raw.frame is None and not _typed(table.raw.source.address)
    pattern, doubt = column.date_pattern
    if pattern:
        try:
            dates = dates_of(column.as_text(), DATE, date_pattern(pattern))
        except SourceError as error:
            pattern, doubt = "", f"{where} {error.reason}"  # one of the texts that were not looked at before
    if pattern:
        scheme = scheme.setting(table.name, name, type="date", pattern=pattern)
        scheme = scheme.with_columns(table.name, [ColumnProfile(table.name, name, dates)])
        evidence = f"every value is a date of this form: {column.sample()}"
        return scheme.adding("type", where, f"{where} is a date, written {pattern}", 0.97, evidence)
    if doubt:
        statement = f"{where} is text that looks like a date; it stays text"
        return scheme.adding("type", where, statement, 0.4, doubt, "set type and pattern once you know")
    if column.zero_led and untyped:
        evidence = f"{column.zero_led} begins with a zero: a code, not a number"
        return scheme.setting(table.name, name, type="text").adding("type", where, f"{where} is text", 0.98, evidence)
    if column.comma_numbers:
        statement = f"{where} is text that looks like numbers with a decimal comma"
        advice = "write them with a decimal point to read them as numbers"
        return scheme.adding("type", where, statement, 0.4, column.sample(), advice)
    if column.exact is not None and untyped:
        evidence = f"no value has more digits: {column.sample()}"
        scheme = scheme.setting(table.name, name, type=str(column.exact))
        return scheme.adding("type", where, f"{where} is {column.exact}", 0.95, evidence)
    return scheme


def align_types(scheme: Scheme) -> Scheme:
    """Whole numbers that name what has texts for its key are texts too: 101 beside 101N."""
    for table in scheme.tables.values():
        if table.raw.frame is not None or _typed(table.raw.source.address):
            continue
        for name, many in table.columns.items():
            if many.type != INTEGER or not many.distinct:
                continue
            pointed = pointed_to_as_text(scheme, many)
            if pointed is not None:
                one, found = pointed
                where, target = column_name(table.name, name), column_name(one.table, one.name)
                scheme = scheme.with_columns(table.name, [ColumnProfile(table.name, name, many.as_text())])
                scheme = scheme.setting(table.name, name, type="text")
                said = f"{target} is text, and has {found} that it contains"
                scheme = scheme.adding("type", where, f"{where} is text", 0.95, said)
    return scheme


def _typed(address: str) -> bool:
    """Whether a file itself says that a number is a float: text does not."""
    return address.lower().endswith(BY_COLUMN) or is_database(address)
