"""How a value follows from parts that add up over members: what a total over some of them may be put together from."""

from __future__ import annotations

from typing import Any, Literal, assert_never

from msgspec import Struct, field
from msgspec.structs import replace

from relatum.data.types import INTEGER
from relatum.language.expression import (
    Aggregate,
    Apply,
    BothWays,
    Change,
    Choices,
    ColumnValue,
    Constant,
    Expression,
    Ignoring,
    InContext,
    KeepBest,
    KeepWhere,
    LetIn,
    LetValue,
    MoveDates,
    Narrowed,
    NoMatch,
    OfSet,
    Only,
    Pin,
    PinEdge,
    PinNoMatch,
    Ranked,
    Slot,
    Via,
    Where,
    inner_of,
)
from relatum.language.register import AGGREGATES
from relatum.pivot.axes import AxisField
from relatum.pivot.result import Recipe
from relatum.session.session import Session

Merge = Literal["sum", "min", "max"]
#: What a recipe may do with its parts: arithmetic that gives null where a part is null.
_ARITHMETIC = {"+": "+", "-": "-", "*": "*", "/": "/", "negate": "negate"}


class Part(Struct, frozen=True):
    """An aggregate that adds up (or whose extremes are those of its parts) over the members of some fields."""

    expression: Expression
    merge: Merge
    fields: frozenset[int]


class RecipeMaker(Struct):
    """Finds the recipes of values, with their parts in one list.

    Parameters
    ----------
    session : Session
        The model, with the fields that the request makes for itself.
    fields : tuple of AxisField
        The fields of the grid.
    """

    session: Session
    fields: tuple[AxisField, ...]
    parts: list[Part] = field(default_factory=list)

    def recipe(self, expression: Expression) -> Recipe:
        """The recipe of a value, or why it has none."""
        found = self._steps(expression)
        beside, innermost = self._beside(expression)
        if isinstance(found, str):
            return Recipe([], frozenset(), found, beside, innermost)
        every = frozenset(range(len(self.fields)))
        used = [self.parts[number] for number in Recipe(found, frozenset()).numbers]
        fields = frozenset.intersection(every, *(each.fields for each in used)) if used else frozenset()
        return Recipe(found, fields, "", beside, innermost, all(each.merge == "sum" for each in used))

    def _beside(self, expression: Expression) -> tuple[frozenset[int], bool]:
        """The fields on whose other members the value of one member depends; see :class:`relatum.pivot.result.Recipe`.

        That is where a formula sets aside what the axes add and keeps the request's own filters.
        """
        keys = {at: (each.field.table, each.field.column) for at, each in enumerate(self.fields)}
        fields: set[int] = set()
        innermost = False
        seen: set[int] = set()
        pending = [expression]
        while pending:
            part = pending.pop()
            if id(part) in seen:
                continue
            seen.add(id(part))
            pending += inner_of(part)
            match part:
                case Ranked(grain=grain):
                    fields |= {at for at, key in keys.items() if key[0] == grain.table or key in grain.columns}
                case Narrowed(table, column):
                    fields |= {at for at, key in keys.items() if key == (table, column)}
                case InContext(changes=changes):
                    for change in changes:
                        fields |= self._set_aside(change)
                        innermost |= isinstance(change, Ignoring) and OfSet("innermost") in change.targets
                case (
                    Aggregate()
                    | Apply()
                    | LetIn()
                    | LetValue()
                    | Constant()
                    | Choices()
                    | ColumnValue()
                    | NoMatch()
                    | Slot()
                ):
                    pass
                case _:
                    assert_never(part)
        return frozenset(fields), innermost

    def _set_aside(self, change: Change) -> set[int]:
        """The fields whose members a change sets aside, and not the request's filters on the same columns."""
        match change:
            case Ignoring(targets):
                axes = {each.word for each in targets if isinstance(each, OfSet)}
                return {at for at, each in enumerate(self.fields) if "axes" in axes or each.axis in axes}
            case KeepBest():
                return set(range(len(self.fields)))
            case Where() | Pin() | PinNoMatch() | PinEdge() | Only() | Via() | BothWays() | KeepWhere() | MoveDates():
                return set()
            case _:
                assert_never(change)

    def _steps(self, expression: Expression) -> list[Any] | str:
        match expression:
            case Constant(value) if isinstance(value, int | float) and not isinstance(value, bool):
                scale = 10**expression.type.scale
                return ["number", value / scale if scale > 1 else value]
            case Apply(function, arguments) if function in _ARITHMETIC:
                steps = [self._steps(each) for each in arguments]
                wrong = next((each for each in steps if isinstance(each, str)), None)
                return [_ARITHMETIC[function], *steps] if wrong is None else wrong
            case InContext(Apply() as inner) if inner.function in _ARITHMETIC:
                # Brackets around arithmetic are brackets around each of its terms.
                moved = (replace(expression, formula=each, type=each.type) for each in inner.arguments)
                return self._steps(replace(inner, arguments=tuple(moved)))
            case InContext(InContext() as inner):
                return self._steps(replace(inner, changes=(*inner.changes, *expression.changes)))
            case InContext(Constant() as inner):
                return self._steps(inner)
            case Aggregate() | InContext():
                return self._aggregate(expression)
            case (
                Constant()
                | Choices()
                | ColumnValue()
                | NoMatch()
                | Apply()
                | Ranked()
                | Narrowed()
                | LetIn()
                | LetValue()
                | Slot()
            ):
                return "its formula does not add up over members"
            case _:
                assert_never(expression)

    def _aggregate(self, expression: Aggregate | InContext) -> list[Any] | str:
        inner: Expression = expression
        changes: tuple[Any, ...] = ()
        while isinstance(inner, InContext):
            changes, inner = (*changes, *inner.changes), inner.formula
        if not isinstance(inner, Aggregate) or not all(isinstance(each, MoveDates) for each in changes):
            return "the change in square brackets does not depend on the members alone"
        if inner.grain is not None or inner.repeat:
            return f"{inner.text} is evaluated for each member and does not add up"
        fields = frozenset(at for at in range(len(self.fields)) if self._parted(inner, at, bool(changes)))
        if inner.function == "avg":
            sums = [replace(inner, function=name, type=type_) for name, type_ in
                    (("sum", inner.arguments[0].type), ("count", INTEGER))]  # fmt: skip
            return ["/", *(self._part(_put(expression, each), "sum", fields) for each in sums)]
        record = AGGREGATES[inner.function]
        if record.merge == "sum" and inner.function in ("sum", "count", "count_rows"):
            return self._part(expression, "sum", fields)
        if inner.function in ("min", "max") and inner.type.numeric:
            return self._part(expression, "min" if inner.function == "min" else "max", fields)
        return f"{inner.text} does not add up over members"

    def _part(self, expression: Expression, merge: Merge, fields: frozenset[int]) -> list[Any]:
        made = Part(expression, merge, fields)
        if made not in self.parts:
            self.parts.append(made)
        return ["part", self.parts.index(made)]

    def _parted(self, aggregate: Aggregate, at: int, moved: bool) -> bool:
        """Whether each row of an aggregate belongs to one member of a field, whatever dates its bracket moves to."""
        place = self.fields[at].field
        declaration = self.session.declaration
        table = declaration.tables[declaration.rows_of(place.table)]
        if moved and (table.calendar is not None or table.dated):
            return False
        route = self.session.catalog.lookup(aggregate.row_table, place.table, place.column)
        return route is not None and all(
            hop.relationship is None or hop.relationship.kind != "many_to_many" for hop in route
        )


def _put(outer: Expression, inner: Aggregate) -> Expression:
    """An aggregate in the brackets of another."""
    return replace(outer, formula=_put(outer.formula, inner)) if isinstance(outer, InContext) else inner
