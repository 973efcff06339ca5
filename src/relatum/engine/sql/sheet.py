"""The parts of one query, named and in order: what a plan's SQL is put together from."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

from sqlglot import exp

from relatum.engine.sql.terms import Sql, quoted

_WORD = re.compile(r"[^a-z0-9]+")
#: Longer names of parts are cut: databases allow 63 bytes.
_LONGEST = 40


@dataclass(frozen=True, slots=True, eq=False)
class KeyColumn:
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


@dataclass(frozen=True, slots=True, eq=False)
class Frame:
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


@dataclass(slots=True, eq=False)
class _Part:
    name: str
    make: Callable[[], Sql]
    comment: str
    uses: int = 0


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
        self._parts[name].uses += 1
        return exp.Table(this=quoted(name), alias=exp.TableAlias(this=quoted(alias)))

    def query(self, select: exp.Select | exp.Union, *, keep: bool) -> Sql:
        """The whole query: a SELECT with all parts before it; with ``keep`` those read twice are worked out once."""
        parts = []
        for part, this in [(part, part.make()) for part in self._parts.values()]:
            if part.uses == 0:
                continue
            alias = exp.TableAlias(this=quoted(part.name))
            whole = exp.CTE(this=this, alias=alias, materialized=True if keep and part.uses > 1 else None)
            if part.comment:
                alias.this.add_comments([f" {part.comment} "])
            parts.append(whole)
        if parts:
            select.set("with_", exp.With(expressions=parts))
        return select
