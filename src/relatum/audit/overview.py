"""What a model consists of: tables and their sizes in memory, columns, relationships on the data, measures."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct
from msgspec.structs import replace

from relatum.errors import DataError, ModelError
from relatum.model.declaration import Control, Declaration, Hierarchy, Relationship, SavedPivot
from relatum.model.graph import kind_of
from relatum.model.looks import Report, ReportPart
from relatum.model.names import quoted, split_name
from relatum.model.routes import Hop, Place, hops_of
from relatum.pivot.made_of import formula_parts
from relatum.session.session import Session
from relatum.wording import suggestion

#: So much of a report's text says which one it is.
_LONGEST = 60


class ColumnOverview(Struct, frozen=True):
    """One column: its type, how it is stored, bytes in memory, rows without a value, and where it comes from."""

    table: str
    name: str
    type: str
    stored: str
    bytes: int
    nulls: int
    members: int
    formula: str = ""
    about: str = ""
    derived: bool = False
    hidden: bool = False


class TableOverview(Struct, frozen=True):
    """One table. ``kind`` is ``fact``, ``lookup``, ``calendar``, ``derived``, ``alone`` (unrelated), or its role."""

    name: str
    kind: str
    rows: int
    key: tuple[str, ...]
    source: str
    about: str
    columns: tuple[ColumnOverview, ...]

    @property
    def bytes(self) -> int:
        """Bytes in memory."""
        return sum(column.bytes for column in self.columns)

    @property
    def derived_bytes(self) -> int:
        """Bytes of its stored derived columns."""
        return sum(column.bytes for column in self.columns if column.derived)


class RelationshipOverview(Struct, frozen=True):
    """One relationship, described the same way whichever end was named first.

    ``cardinality`` is ``1 : n``, ``1 : 1`` or ``n : n``; ``filters`` says from where to where filters travel;
    ``rows`` are those of the many side and ``matched`` how many of them find a row.
    """

    one: str
    many: str
    cardinality: str
    filters: str
    match: str
    rows: int
    matched: int
    problem: str = ""

    @property
    def coverage(self) -> float | None:
        """The share of the many side's rows that find a row; None without rows."""
        return self.matched / self.rows if self.rows else None


class PartOverview(Struct, frozen=True):
    """What a measure is made of, ``depth`` steps below it: a measure, a derived column, or a column of the data.

    ``formula`` is empty for a column of the data; what is shown above is not repeated below.
    """

    depth: int
    name: str
    what: str
    formula: str = ""
    again: bool = False


class MeasureOverview(Struct, frozen=True):
    """One measure."""

    name: str
    formula: str
    format: str
    about: str
    unrelated: str
    parts: tuple[PartOverview, ...] = ()


class Overview(Struct, frozen=True):
    """A model, or the part of it that a name refers to."""

    model: str
    tables: tuple[TableOverview, ...]
    relationships: tuple[RelationshipOverview, ...]
    measures: tuple[MeasureOverview, ...]
    hierarchies: tuple[Hierarchy, ...] = ()
    controls: tuple[Control, ...] = ()
    pivots: tuple[SavedPivot, ...] = ()
    reports: tuple[ReportOverview, ...] = ()


class ReportOverview(Struct, frozen=True):
    """A report: its name, what heads it, and what each of its parts shows."""

    name: str
    title: str
    parts: tuple[str, ...]


def overview(session: Session, name: str = "") -> Overview:
    """Look a whole model over, or one table, column or measure of it.

    Raises
    ------
    ModelError
        There is nothing of that name.
    """
    declaration = session.declaration
    if not name:
        return Overview(
            model=declaration.name,
            tables=tuple(_table(session, table) for table in declaration.tables),
            relationships=tuple(_relationship(session, each) for each in declaration.relationships),
            measures=tuple(_measure(declaration, measure) for measure in declaration.measures),
            hierarchies=tuple(declaration.hierarchies.values()),
            controls=declaration.controls,
            pivots=tuple(declaration.pivots.values()),
            reports=tuple(_report(*each) for each in declaration.reports.items()),
        )
    parts = split_name(name)
    table = parts[0] if parts else ""
    if len(parts) == 1 and table in declaration.measures:
        measure = replace(_measure(declaration, table), parts=tuple(_parts(session, table)))
        return Overview(declaration.name, (), (), (measure,))
    if len(parts) == 1 and table in declaration.hierarchies:
        return Overview(declaration.name, (), (), (), (declaration.hierarchies[table],))
    if len(parts) == 1 and table in declaration.pivots:
        return Overview(declaration.name, (), (), (), pivots=(declaration.pivots[table],))
    if table not in declaration.tables or len(parts) > 2:
        known = [*declaration.tables, *declaration.measures, *declaration.hierarchies, *declaration.pivots]
        raise ModelError(f"There is no table or measure {name}.", fix=suggestion(name, known))
    found = _table(session, table)
    related = [each for each in declaration.relationships if table in (each.many.table, each.one.table)]
    if len(parts) == 2:
        columns = tuple(column for column in found.columns if column.name == parts[1])
        if not columns:
            raise ModelError(
                f"There is no column {name}.", fix=suggestion(parts[1], session.catalog.shown(table), noun="column")
            )
        found = TableOverview(
            name=found.name,
            kind=found.kind,
            rows=found.rows,
            key=found.key,
            source=found.source,
            about=found.about,
            columns=columns,
        )
        related = [each for each in related if _names(each, *parts)]
    return Overview(declaration.name, (found,), tuple(_relationship(session, each) for each in related), ())


def _report(name: str, report: Report) -> ReportOverview:
    return ReportOverview(name, report.title, tuple(map(_shown_by, report.part)))


def _shown_by(part: ReportPart) -> str:
    """What a part of a report shows, in a few words."""
    if part.figures:
        return f"figures {', '.join(part.figures)}" + (f" against {part.against}" if part.against else "")
    if part.pivot:
        kinds = [f"chart {part.chart}"] * bool(part.chart) + ["table"] * part.table
        return f"pivot {part.pivot} as {' and '.join(kinds)}"
    if part.diagram:
        return "the diagram"
    text = " ".join(part.text.split())
    return f"text {text}" if len(text) <= _LONGEST else f"text {text[: _LONGEST - 1]}…"


def _names(relationship: Relationship, table: str, column: str) -> bool:
    return any(end.table == table and column in end.columns for end in (relationship.many, relationship.one))


def _table(session: Session, name: str) -> TableOverview:
    table = session.declaration.tables[name]
    owner = session.declaration.rows_of(name)
    described = session.declaration.tables[owner]
    columns = []
    for column in session.catalog.columns(name):
        settings = described.columns.get(column)
        derived = described.derived.get(column)
        about = derived.about if derived else settings.about if settings else ""
        known = session.facts.summary(name, column)
        columns.append(
            ColumnOverview(
                table=name,
                name=column,
                type=str(session.catalog.columns(name)[column]),
                stored=known.stored,
                # The rows of a role are those of its table: they take no memory.
                bytes=0 if table.role_of else known.bytes,
                nulls=known.nulls,
                members=known.members,
                formula=derived.formula if derived else table.formulas.get(column, ""),
                about=about,
                derived=derived is not None,
                hidden=settings is not None and settings.hidden,
            )
        )
    source = "frame" if table.frame else f"per {', '.join(table.per)}" if table.per else table.source
    return TableOverview(
        name=name,
        kind=_kind(session, name),
        rows=session.data[name].rows,
        key=described.key,
        source=source,
        about=table.about,
        columns=tuple(columns),
    )


def _kind(session: Session, name: str) -> str:
    role_of = session.declaration.tables[name].role_of
    return f"role of {role_of}" if role_of else kind_of(session.declaration, name)


def _relationship(session: Session, relationship: Relationship) -> RelationshipOverview:
    many, one = relationship.many, relationship.one
    order = list(session.declaration.tables)
    if relationship.kind != "many_to_one" and order.index(many.table) > order.index(one.table):
        # Where neither end is the many side, the order of the tables says which comes first.
        many, one = one, many
    cardinality = {"many_to_one": "1 : n", "one_to_one": "1 : 1", "many_to_many": "n : n"}[relationship.kind]
    match = "level" if relationship.level else "as of" if relationship.match == "as_of" else ""
    rows, matched, problem = session.data[many.table].rows, 0, ""
    try:
        hop = next(each for each in (*hops_of(relationship), _turned(relationship)) if each.source.table == many.table)
        if hop.reach:
            matched = session.facts.partners(hop).found
        else:
            matched = rows - session.store.index(hop).unmatched
    except DataError as error:
        problem = error.reason
    return RelationshipOverview(
        one=str(one),
        many=str(many),
        cardinality=cardinality,
        filters=_filters(relationship),
        match=match,
        rows=rows,
        matched=matched,
        problem=problem,
    )


def _turned(relationship: Relationship) -> Hop:
    many, one = Place(relationship.many.table), Place(relationship.one.table)
    return Hop(one, many, relationship, reach=True, turned=True)


def _filters(relationship: Relationship) -> str:
    """From where to where filters travel."""
    many, one = quoted(relationship.many.table), quoted(relationship.one.table)
    if relationship.direction == "off":
        said = "none"
    elif relationship.kind == "one_to_one" or relationship.direction == "both":
        said = f"{' ↔ '.join(sorted((many, one)))}"
    else:
        source, target = (many, one) if relationship.direction == "right" else (one, many)
        said = f"{source} → {target}"
    return f"{said}, standby" if relationship.standby else said


def _parts(session: Session, name: str) -> Iterator[PartOverview]:
    """What a measure is made of, down to the columns of the data."""
    for part in formula_parts(session, session.declaration.measures[name].formula):
        what = "measure"
        if part.table:
            what = ("derived column, " if part.formula else "") + str(session.catalog.columns(part.table)[part.name])
        yield PartOverview(part.depth, part.shown, what, part.formula, part.again)


def _measure(declaration: Declaration, name: str) -> MeasureOverview:
    measure = declaration.measures[name]
    return MeasureOverview(name, measure.formula, measure.format, measure.about, measure.unrelated)
