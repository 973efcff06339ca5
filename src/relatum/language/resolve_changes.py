"""Resolving square brackets."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol, assert_never

from msgspec.structs import replace

from relatum.data.types import BOOLEAN, NULL, an
from relatum.errors import FormulaError, Span
from relatum.language.advice import comparison
from relatum.language.catalog import Catalog
from relatum.language.expression import (
    Apply,
    BothWays,
    Change,
    ColumnValue,
    Expression,
    FilterPart,
    FilterSet,
    Grain,
    Ignoring,
    KeepBest,
    KeepWhere,
    MoveDates,
    NoMatch,
    OfSet,
    OnColumn,
    Only,
    OnTable,
    Pin,
    PinEdge,
    PinNoMatch,
    Via,
    Where,
    Written,
    columns_in,
)
from relatum.language.reader import Scope
from relatum.language.tree import (
    BothWaysClause,
    CalendarClause,
    Clause,
    Condition,
    IgnoringClause,
    KeepBestClause,
    KeepWhereClause,
    ManySide,
    Name,
    OnlyClause,
    PinClause,
    PinEdgeClause,
    PinNoMatchClause,
    PinNullClause,
    Syntax,
    ViaClause,
    WhereClause,
)
from relatum.model.declaration import End, Relationship
from relatum.model.names import quoted
from relatum.model.routes import Opened
from relatum.wording import listed

#: Words that `ignoring` knows besides tables and columns.
SETS: tuple[FilterSet, ...] = ("all", "axes", "rows", "columns", "innermost", "row")


class Resolver(Protocol):
    """The part of a formula's reader that changes need."""

    catalog: Catalog
    text: str
    owner: str

    def resolve(self, node: Syntax, scope: Scope) -> Expression:
        """Resolve a node."""
        ...

    def among(self, arguments: list[Expression], span: Span) -> Expression:
        """A value and the list of others that it may equal."""
        ...

    def parts(self, condition: Condition, scope: Scope) -> tuple[FilterPart, ...]:
        """Resolve a condition."""
        ...

    def grain(self, names: tuple[Name, ...]) -> Grain:
        """Resolve a grain."""
        ...

    def ordering(self, expression: Expression) -> Expression:
        """What a value is ordered by."""
        ...

    def table(self, node: Name) -> str:
        """Find a table."""
        ...

    def column(self, node: Name) -> tuple[str, str]:
        """Find a column."""
        ...

    def column_value(self, node: Name) -> ColumnValue:
        """A column as a value."""
        ...

    def written(self, span: Span) -> str:
        """A stretch of the text."""
        ...

    def error(self, reason: str, span: Span, fix: str = "") -> FormulaError:
        """An error that points."""
        ...


class ChangeReader:
    """Resolves the changes of one pair of brackets."""

    def __init__(self, reader: Resolver) -> None:
        self.reader = reader

    def read(self, changes: Sequence[Clause], scope: Scope) -> tuple[Opened, tuple[Change, ...]]:
        """The relationships opened after all changes, and the changes themselves."""
        resolved: list[Change] = []
        for clause in changes:
            one = self._change(clause, scope)
            resolved.append(one)
            if isinstance(one, Via | BothWays):
                scope = replace(scope, opened=opened_by(one, scope.opened))
        return scope.opened, tuple(resolved)

    def _change(self, clause: Clause, scope: Scope) -> Change:
        reader = self.reader
        source = Written(reader.written(clause.span), clause.span, reader.text, reader.owner)
        match clause:
            case WhereClause(condition):
                return Where(reader.parts(condition, scope), source)
            case PinClause(name, values):
                return self._pin(name, values, scope, source)
            case PinNullClause(name):
                value = reader.column_value(name)
                real = Apply("not", (NoMatch(value.table),), BOOLEAN)
                null = Apply("and", (Apply("is_null", (value,), BOOLEAN), real), BOOLEAN)
                return Pin(value.table, value.column, self._part(value, null, source), source)
            case PinNoMatchClause(name):
                table, column = reader.column(name) if len(name.parts) > 1 else (reader.table(name), None)
                part = FilterPart(table, None, NoMatch(table, BOOLEAN, name.span), source.text)
                return PinNoMatch(table, column, part, source)
            case PinEdgeClause(edge, name):
                return PinEdge(edge, *reader.column(name), source)
            case IgnoringClause(names):
                return Ignoring(tuple(map(self._ignored, names)), source)
            case OnlyClause(names):
                return Only(tuple(map(self._target, names)), source)
            case ViaClause(side):
                return Via(self._relationship(side, standby=True), source)
            case BothWaysClause(side):
                return BothWays(self._relationship(side, standby=False), source)
            case KeepWhereClause(name, node):
                grain, formula = self._at_members(name, node, scope)
                if formula.type not in (BOOLEAN, NULL):
                    raise reader.error(
                        f"This is {an(formula.type)}, but a condition is needed.",
                        node.span,
                        f"Compare it: {comparison(formula.type, reader.written(node.span))}.",
                    )
                return KeepWhere(grain, formula, source)
            case KeepBestClause():
                return self._best(clause, scope, source)
            case CalendarClause(step, on):
                return MoveDates(step, self._calendar(on), source)
            case _:
                assert_never(clause)

    def _best(self, clause: KeepBestClause, scope: Scope, source: Written) -> KeepBest:
        grain, formula = self._at_members(clause.grain, clause.by[0].formula, scope)
        if clause.by[0].descending:
            raise self.reader.error(
                "A direction cannot be used here: top keeps the largest, bottom the smallest.",
                clause.by[0].span,
                "Further parts take a direction: by (F, G desc).",
            )
        ties = []
        for each in clause.by[1:]:
            _, tie = self._at_members(clause.grain, each.formula, scope)
            ties.append((self.reader.ordering(tie), each.descending))
        return KeepBest(clause.edge, clause.number, grain, self.reader.ordering(formula), tuple(ties), source)

    def _calendar(self, on: Name | None) -> str:
        if on is None:
            return ""
        name = self.reader.table(on)
        declaration = self.reader.catalog.declaration
        if declaration.tables[declaration.rows_of(name)].calendar is None:
            raise self.reader.error(f"{quoted(name)} is not a calendar.", on.span, "Name a calendar table.")
        return name

    def _ignored(self, name: Name) -> OnTable | OnColumn | OfSet:
        word = name.parts[0].lower()
        if len(name.parts) == 1 and not self.reader.written(name.span).startswith('"'):
            for known in SETS:
                if word == known:
                    return OfSet(known)
        return self._target(name)

    def _target(self, name: Name) -> OnTable | OnColumn:
        if len(name.parts) == 2:
            return OnColumn(*self.reader.column(name))
        return OnTable(self.reader.table(name))

    def _part(self, value: ColumnValue, condition: Expression, source: Written) -> FilterPart:
        return FilterPart(value.table, frozenset([value.column]), condition, source.text)

    def _pin(self, name: Name, values: Sequence[Syntax], scope: Scope, source: Written) -> Pin:
        value = self.reader.column_value(name)
        operands = [self.reader.resolve(operand, scope.within("condition")) for operand in values]
        for operand in operands:
            if any(columns_in(operand)):
                raise self.reader.error(
                    "A column can be pinned only to a value, not to another column.", operand.span,
                    "Use where to compare columns: where a.b = a.c.",
                )  # fmt: skip
        condition = self.reader.among([value, *operands], source.span)
        return Pin(value.table, value.column, self._part(value, condition, source), source)

    def _at_members(self, name: Name, node: Syntax, scope: Scope) -> tuple[Grain, Expression]:
        """A grain, and a formula computed at each of its members."""
        grain = self.reader.grain((name,))
        rows = (*scope.rows, grain.table) if grain.table else scope.rows
        inner = replace(scope.within("cell"), rows=rows, columns=(*scope.columns, *grain.columns))
        return grain, self.reader.resolve(node, inner)

    def _relationship(self, side: ManySide, *, standby: bool) -> Relationship:
        """The relationship whose many side is exactly these columns (of a many-to-many, either side)."""
        table = self.reader.table(side.table)
        columns = tuple(self.reader.column(replace(each, parts=(table, *each.parts)))[1] for each in side.columns)
        declaration = self.reader.catalog.declaration
        named = End(table, columns)

        def ends(each: Relationship) -> tuple[End, ...]:
            return (each.many, each.one) if each.kind == "many_to_many" else (each.many,)

        def same(end: End) -> bool:
            return end.table == table and set(end.columns) == set(columns)

        known = [each for each in declaration.relationships if each.standby or not standby]
        wanted = [each for each in known if any(map(same, ends(each)))]
        if len(wanted) == 1:
            return wanted[0]
        what = "standby relationship" if standby else "relationship"
        if wanted:
            shown = " and ".join(map(str, wanted))
            raise self.reader.error(
                f"Several relationships have {named} as their many side: {shown}.",
                side.span,
                "Change a column of one of them, or remove the other.",
            )
        names = [str(end) for each in known for end in ends(each)]
        fix = (
            f"Available: {listed(list(dict.fromkeys(names)))}."
            if known
            else "Add one with standby = true, or leave the change out."
        )
        shown = str(named) if columns else quoted(table)
        raise self.reader.error(f"No {what} has {shown} as its many side.", side.span, fix)


def opened_by(change: Via | BothWays, opened: Opened) -> Opened:
    """What is open after a change ``via`` or ``both ways``."""
    relationship = change.relationship
    match change:
        case BothWays():
            return Opened(opened.via, opened.both | {relationship})
        case Via():
            ends = {relationship.many.table, relationship.one.table}
            kept = {each for each in opened.via if {each.many.table, each.one.table} != ends}
            return Opened(frozenset({*kept, relationship}), opened.both)
        case _:
            assert_never(change)
