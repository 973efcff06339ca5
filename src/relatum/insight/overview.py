"""What a model consists of: tables and their sizes in memory, columns, relationships on the data, measures."""

from __future__ import annotations

from dataclasses import dataclass

from relatum.data.columns import Column
from relatum.errors import DataError, ModelError, suggestion
from relatum.model.declaration import Declaration, Relationship
from relatum.model.names import split_name
from relatum.model.routes import hops_of
from relatum.session.session import Session


@dataclass(frozen=True, slots=True)
class ColumnOverview:
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


@dataclass(frozen=True, slots=True)
class TableOverview:
    """One table. ``kind`` is ``fact``, ``lookup``, ``calendar``, ``alone`` (no relationship), or the role it plays."""

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


@dataclass(frozen=True, slots=True)
class RelationshipOverview:
    """One relationship: its ends, kind, direction, and how many of the many side's rows find a row."""

    many: str
    one: str
    kind: str
    direction: str
    rows: int
    matched: int
    problem: str = ""


@dataclass(frozen=True, slots=True)
class MeasureOverview:
    """One measure."""

    name: str
    formula: str
    format: str
    about: str
    unrelated: str


@dataclass(frozen=True, slots=True)
class Overview:
    """A model, or the part of it that a name stands for."""

    model: str
    tables: tuple[TableOverview, ...]
    relationships: tuple[RelationshipOverview, ...]
    measures: tuple[MeasureOverview, ...]


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
            declaration.name,
            tuple(_table(session, table) for table in declaration.tables),
            tuple(_relationship(session, each) for each in declaration.relationships),
            tuple(_measure(declaration, measure) for measure in declaration.measures),
        )
    parts = split_name(name)
    table = parts[0] if parts else ""
    if len(parts) == 1 and table in declaration.measures:
        return Overview(declaration.name, (), (), (_measure(declaration, table),))
    if table not in declaration.tables or len(parts) > 2:
        known = [*declaration.tables, *declaration.measures]
        raise ModelError(f"There is no table or measure {name}.", fix=suggestion(name, known))
    found = _table(session, table)
    related = [each for each in declaration.relationships if table in (each.many.table, each.one.table)]
    if len(parts) == 2:
        columns = tuple(column for column in found.columns if column.name == parts[1])
        if not columns:
            raise ModelError(
                f"There is no column {name}.", fix=suggestion(parts[1], [column.name for column in found.columns])
            )
        found = TableOverview(found.name, found.kind, found.rows, found.key, found.source, found.about, columns)
        related = [each for each in related if _names(each, *parts)]
    return Overview(declaration.name, (found,), tuple(_relationship(session, each) for each in related), ())


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
        data = session.store.column(name, column)
        columns.append(
            ColumnOverview(
                name,
                column,
                str(data.type),
                _stored(data),
                # The rows of a role are those of its table: they take no memory of their own.
                0 if table.role_of else data.nbytes,
                data.null_count,
                len(session.store.members(name, column).values),
                derived.formula if derived else table.formulas.get(column, ""),
                about,
            )
        )
    source = "frame" if table.frame else f"per {', '.join(table.per)}" if table.per else table.source
    return TableOverview(
        name, _kind(session, name), session.data[name].rows, described.key, source, table.about, tuple(columns)
    )


def _kind(session: Session, name: str) -> str:
    table = session.declaration.tables[name]
    if table.role_of:
        return f"role of {table.role_of}"
    if session.catalog.is_calendar(name):
        return "calendar"
    relationships = session.declaration.relationships
    if any(each.one.table == name for each in relationships):
        return "lookup"
    return "fact" if any(each.many.table == name for each in relationships) else "alone"


def _stored(column: Column) -> str:
    width = f"{column.values.dtype.itemsize * 8} bits"
    return width if column.dictionary is None else f"{width}, {len(column.dictionary):,} texts"


def _relationship(session: Session, relationship: Relationship) -> RelationshipOverview:
    kind = relationship.kind.replace("_", " ")
    if relationship.level:
        kind = "to a level"
    elif relationship.match == "as_of":
        kind = "as of"
    rows = session.data[relationship.many.table].rows
    many, one = str(relationship.many), str(relationship.one)
    hop = hops_of(relationship)[0]
    direction = "standby" if relationship.standby else relationship.direction
    try:
        if hop.reach:
            links = session.store.links(hop)
            matched = int((links.offsets[1:-1] > links.offsets[:-2]).sum())
            return RelationshipOverview(many, one, "many to many", direction, rows, matched)
        index = session.store.index(hop)
    except DataError as error:
        return RelationshipOverview(many, one, kind, direction, rows, 0, error.reason)
    return RelationshipOverview(many, one, kind, direction, rows, rows - index.unmatched)


def _measure(declaration: Declaration, name: str) -> MeasureOverview:
    measure = declaration.measures[name]
    return MeasureOverview(name, measure.formula, measure.format, measure.about, measure.unrelated)
