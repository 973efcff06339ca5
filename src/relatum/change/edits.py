"""Renaming and removing what a model consists of, so that all that names it follows."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from typing import TypeVar

import msgspec
from msgspec.structs import replace

from relatum.change.impact import Dependant, Dependencies, Thing, find_relationship, thing_of
from relatum.errors import FormulaError, ModelError
from relatum.language.mentions import Known, Mention, RequestPart, mentions, request_mentions, respelled
from relatum.model.declaration import ColumnSettings, Declaration, End, SavedPivot, Table, frozen, refuse_name
from relatum.model.key_lines import KeyPath
from relatum.model.looks import Report, ReportPart, StyleRule, Theme
from relatum.model.names import ColumnKey, column_name, quoted, split_name
from relatum.wording import listed

T = TypeVar("T")


def renamed(dependencies: Dependencies, name: str, new: str) -> Declaration:
    """The declaration in which a thing has another name, and everything that names it says so.

    Parameters
    ----------
    name : str
        A table, ``table.column``, measure or hierarchy.
    new : str
        Its new name, without the table's.

    Raises
    ------
    ModelError
        There is nothing of that name, the new name is taken, or a formula would come to mean something else.
    """
    thing = dependencies.find(name)
    refuse_name(new, thing.kind)
    if thing.kind in ("relationship", "control", "report"):
        raise ModelError(f"A {thing.kind} has no name, so it cannot be renamed.", fix="Remove it and add it again.")
    declaration, known = dependencies.declaration, dependencies.known
    parts, whole = split_name(thing.name), split_name(new)
    if len(whole) > 1 and whole[0] in declaration.tables:
        raise ModelError(
            f"{new} includes a table; give only the new column name.",
            fix=f"Rename {thing.name} to {quoted(whole[-1])}.",
        )
    if parts[-1] == new:
        return declaration
    if thing.kind == "column":
        table, column = parts
        if declaration.tables[table].role_of:
            return _labelled(declaration, table, column, new)
        for grain in declaration.tables[table].per:
            if split_name(grain)[-1] == column:
                raise ModelError(f"{thing.name} takes its name from {grain}.", fix=f"Rename {grain} instead.")
        columns = _column_aliases(declaration, table, column)
        for owner in columns:
            _refuse_column(declaration, known, owner, new)
        return _rewritten(declaration, known, _Names({}, {}, dict.fromkeys(columns, new)))
    taken = {**declaration.tables, **declaration.measures, **declaration.hierarchies, **declaration.pivots}
    if new in taken:
        raise ModelError(f"The name {new} is already used in this model.", fix="Choose another name.")
    if thing.kind == "table":
        return _rewritten(declaration, known, _Names({parts[0]: new}, {}, {}))
    if thing.kind == "measure":
        return _rewritten(declaration, known, _Names({}, {parts[0]: new}, {}))
    if thing.kind == "pivot":
        pivots = {new if each == parts[0] else each: value for each, value in declaration.pivots.items()}
        return replace(
            declaration,
            pivots=frozen({key: replace(value, name=key) for key, value in pivots.items()}),
            reports=frozen({name: _showing(each, parts[0], new) for name, each in declaration.reports.items()}),
        )
    return _rewritten(declaration, known, _Names({}, {}, {}, {parts[0]: new}))


def _labelled(declaration: Declaration, role: str, column: str, label: str) -> Declaration:
    """The declaration in which a role labels a column: the label's table name is that of the role."""
    described = declaration.tables[role]
    settings = {**described.columns, column: replace(described.columns.get(column, ColumnSettings()), label=label)}
    changed = replace(described, columns=frozen(settings))
    return replace(declaration, tables=frozen({**declaration.tables, role: changed}))


def with_tables_renamed(declaration: Declaration, names: Mapping[str, str]) -> Declaration:
    """The declaration as it would be with other names for tables."""
    tables = {name: [*table.columns, *table.derived] for name, table in declaration.tables.items()}
    return _rewritten(declaration, Known(tables, declaration.measures, declaration.hierarchies), _Names(names, {}, {}))


def with_columns_renamed(declaration: Declaration, columns: Mapping[ColumnKey, str]) -> Declaration:
    """The declaration as it would be with other names for columns, roles and derived tables of them included."""
    every = {alias: new for key, new in columns.items() for alias in _column_aliases(declaration, *key)}
    tables: dict[str, dict[str, None]] = {}
    for name, table in declaration.tables.items():
        tables[name] = dict.fromkeys([*table.columns, *table.derived, *(old for owner, old in every if owner == name)])
    return _rewritten(declaration, Known(tables, declaration.measures, declaration.hierarchies), _Names({}, {}, every))


def _column_aliases(declaration: Declaration, table: str, column: str) -> list[ColumnKey]:
    """The column itself, and the same column where roles and derived tables have it."""
    if table in declaration.tables and declaration.tables[table].role_of:
        table = declaration.tables[table].role_of
    found = [(table, column)]
    for name, each in declaration.tables.items():
        if each.role_of == table:
            found.append((name, column))
    for name, each in declaration.tables.items():
        if any(tuple(split_name(grain)) in found for grain in each.per):
            found.append((name, column))
    return found


def _refuse_column(declaration: Declaration, known: Known, owner: ColumnKey, new: str) -> None:
    table = declaration.tables[owner[0]]
    if table.calendar is not None:
        raise ModelError(
            f"{column_name(*owner)} is generated with its calendar and cannot be renamed.",
            fix="Give it a label instead: grids show that.",
        )
    if new in known.tables[owner[0]]:
        raise ModelError(f"The table {quoted(owner[0])} has a column {new} already.", fix="Choose another name.")


class _Names:
    """New names of tables, measures, columns and hierarchies."""

    def __init__(
        self,
        tables: Mapping[str, str],
        measures: Mapping[str, str],
        columns: Mapping[ColumnKey, str],
        hierarchies: Mapping[str, str] | None = None,
    ) -> None:
        self.tables, self.measures, self.columns = tables, measures, columns
        self.hierarchies = hierarchies or {}

    def table(self, name: str) -> str:
        return self.tables.get(name, name)

    def measure(self, name: str) -> str:
        return self.measures.get(name, name)

    def hierarchy(self, name: str) -> str:
        return self.hierarchies.get(name, name)

    def single(self, mention: Mention) -> str:
        """The new name of what has a name of one part."""
        kinds = {"table": self.table, "measure": self.measure, "hierarchy": self.hierarchy}
        return kinds[mention.kind](mention.name)

    def column(self, table: str, name: str) -> str:
        return self.columns.get((table, name), name)

    def path(self, text: str) -> str:
        """``table.column`` as written in settings; anything else stays unchanged."""
        parts = split_name(text)
        if len(parts) != 2:
            return text
        new = (self.table(parts[0]), self.column(*parts))
        return text if new == parts else column_name(*new)

    def mention(self, mention: Mention) -> str | None:
        if mention.kind == "column":
            new = self.column(mention.table, mention.name)
        else:
            new = self.single(mention)
        return None if new == mention.name else quoted(new)

    def thing(self, mention: Mention) -> Thing:
        if mention.kind == "column":
            return Thing("column", column_name(self.table(mention.table), self.column(mention.table, mention.name)))
        return Thing(mention.kind, quoted(self.single(mention)))

    def known(self, known: Known) -> Known:
        tables = {
            self.table(table): [self.column(table, column) for column in columns]
            for table, columns in known.tables.items()
        }
        hierarchies = [self.hierarchy(each) for each in known.hierarchies]
        return Known(tables, [self.measure(each) for each in known.measures], hierarchies)


def _rewritten(declaration: Declaration, known: Known, names: _Names) -> Declaration:
    known_after = names.known(known)

    def formula(text: str, owner: str, home: str = "", part: RequestPart | None = None) -> str:
        def found_in(text: str, known: Known, home: str) -> list[Mention]:
            return mentions(text, known, home) if part is None else request_mentions(text, part, known)

        found = found_in(text, known, home)
        changed = respelled(text, found, names.mention)
        wanted = [names.thing(each) for each in found]
        got = [thing_of(each) for each in found_in(changed, known_after, names.table(home) if home else "")]
        if wanted != got:
            wrong = next((str(each) for each in got if each not in wanted), "another name")
            raise ModelError(
                f"With that name, {owner} would change its meaning: it would read {wrong}.",
                fix="Choose a name that is neither a column of its table nor a let name in the formula.",
            )
        return changed

    tables = {names.table(name): _table(table, names, formula) for name, table in declaration.tables.items()}
    return replace(
        declaration,
        tables=frozen(tables),
        relationships=tuple(
            replace(each, many=_end(each.many, names), one=_end(each.one, names)) for each in declaration.relationships
        ),
        measures=frozen(
            {
                names.measure(name): replace(
                    each,
                    name=names.measure(name),
                    formula=formula(each.formula, f"measure {quoted(name)}"),
                    style=_rules(each.style, formula),
                )
                for name, each in declaration.measures.items()
            }
        ),
        hierarchies=frozen(
            {
                names.hierarchy(name): replace(
                    each, name=names.hierarchy(name), levels=tuple(map(names.path, each.levels))
                )
                for name, each in declaration.hierarchies.items()
            }
        ),
        controls=tuple(
            replace(
                each,
                measure=names.measure(each.measure),
                at=frozen({names.path(column): value for column, value in each.at.items()}),
            )
            for each in declaration.controls
        ),
        pivots=frozen({name: _pivot(each, formula) for name, each in declaration.pivots.items()}),
        reports=frozen({name: _report(each, formula) for name, each in declaration.reports.items()}),
        theme=_theme(declaration.theme, names),
    )


def _readable(text: str, part: RequestPart, formula: Callable[..., str], owner: str) -> str:
    """A text rewritten; one that cannot be read stays as it is."""
    try:
        return formula(text, owner, "", part) if text else ""
    except FormulaError:
        return text


def _rules(rules: tuple[StyleRule, ...], formula: Callable[..., str]) -> tuple[StyleRule, ...]:
    return tuple(
        msgspec.structs.replace(
            rule,
            when=_readable(rule.when, "values", formula, "a style"),
            field=_readable(rule.field, "axis", formula, "a style"),
        )
        for rule in rules
    )


def _report(report: Report, formula: Callable[..., str]) -> Report:
    def part(each: ReportPart) -> ReportPart:
        against = _readable(f"0[{each.against}]", "values", formula, "a report")[2:-1] if each.against else ""
        return msgspec.structs.replace(
            each,
            figures=tuple(_readable(text, "values", formula, "a report") for text in each.figures),
            where=_readable(each.where, "where", formula, "a report"),
            against=against,
        )

    return msgspec.structs.replace(report, part=tuple(map(part, report.part)))


def _showing(report: Report, old: str, new: str) -> Report:
    """A report whose parts show a saved pivot by its new name."""
    parts = (msgspec.structs.replace(each, pivot=new) if each.pivot == old else each for each in report.part)
    return msgspec.structs.replace(report, part=tuple(parts))


def _theme(theme: Theme, names: _Names) -> Theme:
    widths = {
        names.path(name) if len(split_name(name)) == 2 else names.measure(name): width
        for name, width in theme.widths.items()
    }
    return msgspec.structs.replace(theme, widths=widths)


def _pivot(pivot: SavedPivot, formula: Callable[..., str]) -> SavedPivot:
    """A saved pivot with its texts rewritten; one that cannot be read stays as it is."""

    def text(each: str, part: RequestPart) -> str:
        return _readable(each, part, formula, f"pivot {quoted(pivot.name)}")

    return replace(
        pivot,
        rows=tuple(text(each, "axis") for each in pivot.rows),
        columns=tuple(text(each, "axis") for each in pivot.columns),
        values=tuple(text(each, "values") for each in pivot.values),
        where=text(pivot.where, "where") if pivot.where else "",
        keep=text(pivot.keep, "keep") if pivot.keep else "",
        style=_rules(pivot.style, formula),
    )


def _end(end: End, names: _Names) -> End:
    return End(names.table(end.table), tuple(names.column(end.table, column) for column in end.columns))


def _table(table: Table, names: _Names, formula: Callable[..., str]) -> Table:
    old = table.name

    def column(name: str) -> str:
        return names.column(old, name)

    settings = {
        column(name): replace(
            each,
            order_by=column(each.order_by) if each.order_by else "",
            style=_rules(each.style, formula),
        )
        for name, each in table.columns.items()
    }
    for name in (each for (owner, each) in names.columns if owner == old):
        # A column of the source keeps the heading that it has there.
        if name not in table.derived and name not in table.formulas and not table.role_of and not table.per:
            here = settings.get(column(name), ColumnSettings())
            heading = here.heading or name
            settings[column(name)] = replace(here, heading="" if heading == column(name) else heading)
    span = table.calendar
    if span is not None and isinstance(span.through, str):
        span = replace(span, through=names.path(span.through))
    return replace(
        table,
        name=names.table(old),
        key=tuple(map(column, table.key)),
        role_of=names.table(table.role_of),
        calendar=span,
        per=tuple(map(names.path, table.per)),
        formulas=frozen(
            {column(name): formula(text, f"column {column_name(old, name)}") for name, text in table.formulas.items()}
        ),
        columns=frozen(settings),
        derived=frozen(
            {
                column(name): replace(
                    each,
                    name=column(name),
                    formula=formula(each.formula, f"derived column {column_name(old, name)}", old),
                )
                for name, each in table.derived.items()
            }
        ),
    )


_FORCED = "Change those first, or remove them too with force=True (--force in the shell)."


def removed(dependencies: Dependencies, name: str, force: bool) -> tuple[Declaration, tuple[Dependant, ...]]:
    """The declaration without a thing; with ``force`` without all that breaks either, which is returned too.

    Raises
    ------
    ModelError
        There is nothing of that name, it is a column of a source, or others need it and ``force`` is not said.
    """
    thing = dependencies.find(name)
    breaks = dependencies.impact(name).breaks
    if thing.kind == "column":
        table, column = split_name(thing.name)
        described = dependencies.declaration.tables[table]
        if column not in described.derived and column not in described.formulas:
            raise ModelError(
                f"{thing.name} is a column of the source of {quoted(table)}.",
                fix="Remove it at the source; relatum impact shows what would break.",
            )
    if breaks and not force:
        shown = listed([each.called for each in breaks], 8)
        raise ModelError(
            f"{thing} is needed by {shown}.",
            fix=_FORCED,
        )
    gone = [thing, *(Thing(each.kind, each.name, each.place) for each in breaks)]
    return _without(dependencies.declaration, gone), breaks


def _without(declaration: Declaration, gone: Iterable[Thing]) -> Declaration:
    names: dict[str, set[str]] = {}
    places: set[KeyPath] = set()
    for thing in gone:
        names.setdefault(thing.kind, set()).add(thing.name)
        places.add(thing.place)
    tables = {}
    dropped = names.get("table", set())
    columns = names.get("column", set())
    for name, table in declaration.tables.items():
        if quoted(name) in dropped:
            continue

        def stays(column: str, name: str = name) -> bool:
            return column_name(name, column) not in columns

        span = table.calendar
        if span is not None and ("table", name, "calendar", "through") in places:
            span = replace(span, through="")
        tables[name] = replace(
            table,
            key=() if ("table", name, "key") in places else table.key,
            calendar=span,
            formulas=frozen({each: text for each, text in table.formulas.items() if stays(each)}),
            columns=frozen(
                {
                    each: replace(
                        value,
                        order_by="" if ("table", name, "column", each, "order_by") in places else value.order_by,
                        style=() if ("table", name, "column", each, "style") in places else value.style,
                    )
                    for each, value in table.columns.items()
                    if stays(each)
                }
            ),
            derived=frozen({each: value for each, value in table.derived.items() if stays(each)}),
        )
    links = {str(find_relationship(declaration, link)) for link in names.get("relationship", ())}
    return replace(
        declaration,
        tables=frozen(tables),
        relationships=tuple(each for each in declaration.relationships if str(each) not in links),
        measures=frozen(
            {
                name: replace(each, style=() if ("measure", name, "style") in places else each.style)
                for name, each in _kept(declaration.measures, names.get("measure", set())).items()
            }
        ),
        hierarchies=_kept(declaration.hierarchies, names.get("hierarchy", set())),
        controls=tuple(
            each for number, each in enumerate(declaration.controls, 1) if ("control", number) not in places
        ),
        pivots=_kept(declaration.pivots, names.get("pivot", set())),
        reports=_reports_without(declaration.reports, places),
    )


def _reports_without(reports: Mapping[str, Report], gone: set[KeyPath]) -> Mapping[str, Report]:
    """Reports without those that go, and without parts and figures of others; one that would be empty goes, too."""
    found: dict[str, Report] = {}
    for name, report in reports.items():
        left = []
        for number, part in enumerate(report.part, 1):
            own: KeyPath = ("report", name, number)
            figures = tuple(each for at, each in enumerate(part.figures, 1) if (*own, at) not in gone)
            if own not in gone and bool(figures) == bool(part.figures):
                left.append(msgspec.structs.replace(part, figures=figures))
        if ("report", name) not in gone and left:
            found[name] = msgspec.structs.replace(report, part=tuple(left))
    return frozen(found)


def _kept(mapping: Mapping[str, T], dropped: set[str]) -> Mapping[str, T]:
    return frozen({name: each for name, each in mapping.items() if quoted(name) not in dropped})
