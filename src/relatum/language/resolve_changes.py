"""Resolving what stands in square brackets."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Protocol

from relatum.data.types import BOOLEAN, NULL
from relatum.errors import FormulaError, Span
from relatum.language.catalog import Catalog
from relatum.language.expression import (
    Apply,
    ColumnValue,
    ContextChange,
    Expression,
    FilterPart,
    Grain,
    NoMatch,
    columns_in,
)
from relatum.language.functions import SCALARS, TypeProblem, an
from relatum.language.reader import Scope
from relatum.language.tree import Change, Condition, Name, Node
from relatum.model.declaration import Relationship
from relatum.model.names import column_name, quoted
from relatum.model.routes import Opened
from relatum.wording import listed

#: Words that `ignoring` knows besides tables and columns.
SETS = ("all", "axes", "rows", "columns", "innermost", "row")


class Resolver(Protocol):
    """The part of a formula's reader that changes need."""

    catalog: Catalog
    text: str
    owner: str

    def resolve(self, node: Node, scope: Scope) -> Expression:
        """Resolve a node."""
        ...

    def parts(self, condition: Condition, scope: Scope) -> tuple[FilterPart, ...]:
        """Resolve a condition."""
        ...

    def grain(self, names: tuple[Name, ...]) -> Grain:
        """Resolve a grain."""
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

    def read(self, changes: Sequence[Change], scope: Scope) -> tuple[Opened, tuple[ContextChange, ...]]:
        """The relationships opened after all changes, and the changes themselves."""
        resolved = []
        for change in changes:
            one = replace(
                self._change(change, scope),
                text=self.reader.written(change.span),
                span=change.span,
                within=self.reader.text,
                owner=self.reader.owner,
            )
            resolved.append(one)
            if one.relationship is not None:
                scope = replace(scope, opened=opened_by(one, scope.opened))
        return scope.opened, tuple(resolved)

    def _change(self, change: Change, scope: Scope) -> ContextChange:
        match change.kind:
            case "where":
                assert change.condition is not None
                return ContextChange("where", (), self.reader.parts(change.condition, scope))
            case "pin":
                return self._pin(change, scope)
            case "ignoring" | "only":
                return ContextChange(change.kind, tuple(self._target(name, change.kind) for name in change.names))
            case "via" | "both_ways":
                return ContextChange(change.kind, relationship=self._relationship(change))
            case "keep":
                return self._keep(change, scope)
        on = self.reader.table(change.on) if change.on is not None else ""
        if on and self.reader.catalog.declaration.tables[self._rows_of(on)].calendar is None:
            assert change.on is not None
            raise self.reader.error(f"{quoted(on)} is no calendar.", change.on.span, "Name a table that is one.")
        return ContextChange(change.kind, ((on, ""),) if on else (), word=change.word, number=change.number)

    def _rows_of(self, table: str) -> str:
        return self.reader.catalog.declaration.rows_of(table)

    def _target(self, name: Name, kind: str) -> tuple[str, str]:
        if len(name.parts) == 2:
            return self.reader.column(name)
        (word,) = name.parts
        quoted_name = self.reader.written(name.span).startswith('"')
        if kind == "ignoring" and word.lower() in SETS and not quoted_name:
            return "", word.lower()
        return self.reader.table(name), ""

    def _pin(self, change: Change, scope: Scope) -> ContextChange:
        (name,) = change.names
        text = self.reader.written(change.span)
        if change.word == "no match":
            table = self.reader.table(name) if len(name.parts) == 1 else self.reader.column(name)[0]
            column = "" if len(name.parts) == 1 else name.parts[1]
            part = FilterPart(table, None, NoMatch(table, BOOLEAN, name.span), text)
            return ContextChange("pin", ((table, column),), (part,), word=change.word)
        value = self.reader.column_value(name)
        target = ((value.table, value.column),)
        if change.word in ("first", "last"):
            return ContextChange("pin", target, word=change.word)
        if change.word == "null":
            real = Apply("not", (NoMatch(value.table),), BOOLEAN)
            condition: Expression = Apply("and", (Apply("is_null", (value,), BOOLEAN), real), BOOLEAN)
        else:
            operands = [self.reader.resolve(operand, scope.within("condition")) for operand in change.operands]
            for operand in operands:
                if any(columns_in(operand)):
                    raise self.reader.error(
                        "A column is pinned to a value, not to another column.", operand.span,
                        "where compares columns: where a.b = a.c.",
                    )  # fmt: skip
            condition = self._in(value, operands, change)
        part = FilterPart(value.table, frozenset([value.column]), condition, text)
        return ContextChange("pin", target, (part,), word=change.word)

    def _in(self, value: ColumnValue, operands: list[Expression], change: Change) -> Expression:
        arguments = [value, *operands]
        try:
            return Apply("in", tuple(arguments), SCALARS["in"].infer(arguments), change.span)
        except TypeProblem as problem:
            raise self.reader.error(problem.reason, arguments[problem.position].span, problem.fix) from None

    def _keep(self, change: Change, scope: Scope) -> ContextChange:
        (name,) = change.names
        grain = self.reader.grain((name,))
        rows = (*scope.rows, grain.table) if grain.table else scope.rows
        inner = replace(scope.within("cell"), rows=rows, columns=(*scope.columns, *grain.columns))
        (node,) = change.operands
        formula = self.reader.resolve(node, inner)
        if not change.word and formula.type not in (BOOLEAN, NULL):
            raise self.reader.error(
                f"This is {an(formula.type)}, and a condition is needed.", node.span, "Compare it: revenue > 1000."
            )
        target = (grain.table, "") if grain.table else grain.columns[0]
        return ContextChange("keep", (target,), (), formula, change.word, change.number)

    def _relationship(self, change: Change) -> Relationship:
        (name,) = change.names
        table, column = self.reader.column(name)
        declaration = self.reader.catalog.declaration
        here = [
            each
            for each in declaration.relationships
            if (each.many.table == table and column in each.many.columns)
            or (each.kind == "many_to_many" and each.one.table == table and column in each.one.columns)
        ]
        wanted = [each for each in here if each.standby] if change.kind == "via" else here
        if len(wanted) == 1:
            return wanted[0]
        what = "standby relationship" if change.kind == "via" else "relationship"
        starts = column_name(table, column)
        known = [str(each) for each in declaration.relationships if each.standby or change.kind != "via"]
        fix = (
            f"Those that can be named: {listed(known)}."
            if known
            else "State one with standby = true, or leave the change out."
        )
        reason = f"No {what} starts at {starts}." if not wanted else f"Several relationships start at {starts}."
        raise self.reader.error(reason, name.span, fix)


def opened_by(change: ContextChange, opened: Opened) -> Opened:
    """What is open after a change ``via`` or ``both ways``."""
    relationship = change.relationship
    assert relationship is not None
    if change.kind == "both_ways":
        return Opened(opened.via, opened.both | {relationship})
    ends = {relationship.many.table, relationship.one.table}
    kept = {each for each in opened.via if {each.many.table, each.one.table} != ends}
    return Opened(frozenset({*kept, relationship}), opened.both)
