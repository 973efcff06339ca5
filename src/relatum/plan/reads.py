"""What a plan reads: columns, tables and relationships, found by walking its nodes."""

from __future__ import annotations

from collections.abc import Callable
from operator import attrgetter
from weakref import WeakKeyDictionary

from msgspec import Struct

from relatum.immutable import Immutable
from relatum.language.expression import Apply, ColumnValue
from relatum.model.declaration import Relationship
from relatum.model.routes import Hop, joined_by
from relatum.plan.nodes import Bounds, Calendar, Derivation, Field, KeyColumn, Match, Pinned, RankedAmong


class Reads(Struct, frozen=True):
    """Columns as pairs of table and name, tables whose rows are gone through, and relationships; each once.

    ``texts`` are the columns whose values are only looked at one by one: their order, and which of them are equal,
    does not matter. ``keys`` are those that only relationships compare.
    """

    columns: tuple[tuple[str, str], ...]
    texts: frozenset[tuple[str, str]]
    keys: frozenset[tuple[str, str]]
    tables: tuple[str, ...]
    relationships: tuple[Relationship, ...]


#: Functions that look at each text by itself. `in` is not one: a note names the texts of a list that are not members.
_ONE_BY_ONE = frozenset(("is_null", "length", "like"))
_KNOWN: WeakKeyDictionary[Immutable, Reads] = WeakKeyDictionary()


def reads_of(root: Immutable) -> Reads:
    """Everything that a plan, or a part of one, reads: found once, and what is shared is walked once.

    Parameters
    ----------
    root : Plan, node, formula or derivation
        Where to begin.

    Returns
    -------
    Reads
        Its columns by table and name, the tables whose rows it counts, and the hops it goes along.
    """
    found = _KNOWN.get(root)
    if found is None:
        found = _KNOWN[root] = _walked(root)
    return found


def _walked(root: Immutable) -> Reads:
    columns: dict[tuple[str, str], None] = {}
    looked_at: dict[tuple[str, str], None] = {}
    joined: dict[tuple[str, str], None] = {}
    tables: dict[str, None] = {}
    relationships: dict[Relationship, None] = {}
    seen: set[int] = set()
    pending: list[object] = [root]
    while pending:
        part = pending.pop()
        kind = type(part)
        if kind is tuple or kind is frozenset:
            pending.extend(part)  # type: ignore[arg-type]
            continue
        fields = _fields_of(kind)
        if fields is None or id(part) in seen:
            continue
        seen.add(id(part))
        if kind not in _TELLING:
            pending.extend(fields(part))
            continue
        match part:
            case Apply(function, (ColumnValue(table, column) as subject, *others)) if function in _ONE_BY_ONE:
                looked_at[table, column] = None
                pending += [subject.route, *others]
                continue
            case Apply():
                pass
            case ColumnValue(table, column) | Pinned(table=table, column=column):
                columns[table, column] = None
            case Match(table=table, column=column) | KeyColumn(table=table, column=column):
                tables[table] = None
                if column:
                    columns[table, column] = None
            case Field(table=table, column=column, key=key):
                tables[table] = None
                columns.update(dict.fromkeys((table, name) for name in (column, *(name for name, _ in key)) if name))
            case RankedAmong(visible=visible, order=order):
                own = (match for _, matches in visible.parts for match in matches if order.by)
                columns.update(dict.fromkeys((match.table, order.by) for match in own))
            case Bounds(source=table) | Derivation(table=table):
                tables[table] = None
            case Calendar(table, date_column, through=through):
                columns[table, date_column] = None
                if isinstance(through, tuple):
                    columns[through] = None
            case Hop():
                places = (part.source, part.target)
                tables.update(dict.fromkeys(place.table for place in places))
                joined.update(dict.fromkeys(joined_by((part,))))
                if part.relationship is not None:
                    relationships[part.relationship] = None
                continue
            case _:
                raise AssertionError(f"what a {kind.__name__} reads is said nowhere")
        pending.extend(fields(part))
    whole = columns | joined
    texts, keys = frozenset(looked_at) - whole.keys(), frozenset(joined) - columns.keys() - looked_at.keys()
    return Reads(tuple(whole | looked_at), texts, keys, tuple(tables), tuple(relationships))


#: The nodes that say something of what is read; of all others just their fields are gone through.
_TELLING = frozenset(
    (Apply, ColumnValue, Pinned, Match, KeyColumn, Field, RankedAmong, Bounds, Derivation, Calendar, Hop)
)


_FIELDS: dict[type, Callable[[object], tuple[object, ...]] | None] = {}


def _fields_of(kind: type) -> Callable[[object], tuple[object, ...]] | None:
    """What gives the fields of a node of a kind; None for what is not a node."""
    if kind not in _FIELDS:
        names = kind.__struct_fields__ if issubclass(kind, Immutable | Hop) else ()
        few = len(names) < 2  # of one field, attrgetter gives the bare value
        get = (lambda part: tuple(getattr(part, name) for name in names)) if few else attrgetter(*names)
        _FIELDS[kind] = get if names else None
    return _FIELDS[kind]
