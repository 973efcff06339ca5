"""The parts of one query, named and in order: what a plan's SQL is put together from."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Collection, Mapping
from typing import assert_never

from msgspec import Struct, field
from sqlglot import exp

from relatum.engine.sql.dialects import Dialect
from relatum.engine.sql.terms import Sql, quoted

_WORD = re.compile(r"[^a-z0-9]+")
#: Longer names of parts are cut: databases allow 63 bytes.
_LONGEST = 40
#: What says of a table in a FROM that it is a part.
_PART = "part"


class KeyColumn(Struct, frozen=True, eq=False):
    """A key of cells in a relation.

    ``value`` is the column that holds the member, ``state`` the one that says whether it is a member (0), null (1) or
    no match (2); None where all are members. Where there is none, the value's column holds a blank, so that two keys
    are the same where both columns are.
    """

    value: str
    state: str | None

    @property
    def names(self) -> tuple[str, ...]:
        """The columns that it has."""
        return (self.value,) if self.state is None else (self.value, self.state)


class Frame(Struct, frozen=True, eq=False):
    """Cells as a relation: a column or two for each key, and one for each value that ``let`` has named.

    Where ``present`` names columns, the relation's rows are cells if one of these has a value.
    """

    name: str
    keys: Mapping[int, KeyColumn]
    names: Mapping[int, str] = field(default_factory=dict)
    present: tuple[str, ...] = ()

    @property
    def key_names(self) -> list[str]:
        """The columns of all keys."""
        return [name for key in self.keys.values() for name in key.names]


class Statement(Struct, frozen=True):
    """A query as text: the ``whole`` of it, and the pieces in which it is asked.

    ``kept`` are parts of it to be worked out before, each a SELECT and the name under which what follows reads it;
    ``last`` is what remains to be asked then. None are kept where the query itself says what is to be worked out once.
    """

    whole: str
    last: str
    kept: tuple[tuple[str, str], ...] = ()


class _Part(Struct, eq=False):
    name: str
    make: Callable[[], Sql]
    comment: str


class Sheet:
    """Parts of a query, each a relation with a name.

    Parameters
    ----------
    taken : frozenset of str
        Names that no part may have: those of the model's tables.
    """

    def __init__(self, taken: frozenset[str] = frozenset()) -> None:
        self._taken = {name.lower() for name in taken}
        self._parts: dict[str, _Part] = {}

    def add(self, hint: str, select: Sql | Callable[[], Sql], comment: str = "") -> str:
        """Take down a part; its name is made of the hint."""
        word = _WORD.sub("_", hint.lower()).strip("_")[:_LONGEST] or "part"
        name, number = word, 1
        while name in self._parts or name in self._taken:
            number += 1
            name = f"{word}_{number}"
        made = select if callable(select) and not isinstance(select, exp.Expression) else lambda: select
        self._parts[name] = _Part(name, made, comment)
        return name

    def table(self, name: str, alias: str) -> Sql:
        """A part as something to read from."""
        table = exp.Table(this=quoted(name), alias=exp.TableAlias(this=quoted(alias)))
        table.meta[_PART] = name
        return table

    def statement(self, select: exp.Select | exp.Union, dialect: Dialect) -> Statement:
        """A SELECT preceded by all parts that it reads; what is read twice is computed once."""
        made = {part.name: part.make() for part in self._parts.values()}
        uses = Counter(_read_by(select))
        # A part is read by those that come after it.
        for name in reversed(made):
            if uses[name]:
                uses.update(_read_by(made[name]))
        made = {name: this for name, this in made.items() if uses[name]}
        twice = {name for name in made if uses[name] > 1}
        match dialect.keeps:
            case "within":
                whole = dialect.render(self._with(select, made, twice))
                return Statement(whole, whole)
            case "before":
                kept, last = self._pieces(select, made, {name for name in twice if made[name].find(exp.Table)})
                named = tuple((_kept(name), dialect.render(this)) for name, this in kept)
                return Statement(dialect.render(self._with(select, made)), dialect.render(last), named)
            case _ as never:
                assert_never(never)

    def _with(self, select: Sql, made: Mapping[str, Sql], once: Collection[str] = ()) -> Sql:
        parts = []
        for name, this in made.items():
            alias = exp.TableAlias(this=quoted(name))
            if self._parts[name].comment:
                alias.this.add_comments([f" {self._parts[name].comment} "])
            parts.append(exp.CTE(this=this, alias=alias, materialized=True if name in once else None))
        if parts:
            select.set("with_", exp.With(expressions=parts))
        return select

    def _pieces(self, select: Sql, made: dict[str, Sql], kept: set[str]) -> tuple[list[tuple[str, Sql]], Sql]:
        """The parts to be kept, each with what it alone reads before it, and the same for the rest."""

        def piece(this: Sql) -> Sql:
            wanted = set(_read_by(this)) - kept
            for name in reversed(made):
                if name in wanted:
                    wanted |= set(_read_by(made[name])) - kept
            inner = {name: made[name].copy() for name in made if name in wanted}
            whole = self._with(this.copy(), inner)
            for table in whole.find_all(exp.Table):
                if table.meta.get(_PART) in kept:
                    table.set("this", quoted(_kept(table.name)))
            return whole

        return [(name, piece(made[name])) for name in made if name in kept], piece(select)


def _read_by(this: Sql) -> list[str]:
    """The parts that something reads, as often as it reads them."""
    return [table.meta[_PART] for table in this.find_all(exp.Table) if _PART in table.meta]


def _kept(name: str) -> str:
    return f"relatum_{name}"
