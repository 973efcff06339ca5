"""The formulas of a model: each measure resolved once, after those that it names."""

from __future__ import annotations

from collections.abc import Mapping

from relatum.errors import FormulaError
from relatum.language.catalog import Catalog
from relatum.language.expression import Expression, FilterPart, inner_of
from relatum.language.parse import parse_condition, parse_formula
from relatum.language.reader import Scope
from relatum.language.resolve import FormulaReader
from relatum.language.tree import Name, bare_names
from relatum.model.names import quoted

_NESTING = {"Aggregate": 6, "Ranked": 6, "InContext": 3, "LetIn": 3}


class Formulas:
    """The measures of a catalog, each resolved once.

    Parameters
    ----------
    catalog : Catalog
        Columns and routes.
    known : mapping of str to Expression, optional
        Measures that were resolved before and still say the same.

    Raises
    ------
    FormulaError
        From every method: a name that is not there, an argument of the wrong type, no row table, measures that use
        each other in a circle or nest too deeply.
    """

    def __init__(self, catalog: Catalog, known: Mapping[str, Expression] | None = None) -> None:
        self.catalog = catalog
        self.resolved: dict[str, Expression] = dict(known or {})
        self._nesting: dict[int, tuple[Expression, int]] = {}

    def measure(self, name: str) -> Expression:
        """A measure's formula, resolved; those that it names before it, so that no chain of them runs deep."""
        if name not in self.resolved:
            for each in self._pending(name):
                measure = self.catalog.declaration.measures[each]
                owner = f"measure {quoted(each)}"
                reader = FormulaReader(self, measure.formula, owner, repeat=measure.unrelated == "repeat")
                self.resolved[each] = reader.formula(Scope("cell"))
        return self.resolved[name]

    def _pending(self, name: str) -> list[str]:
        """The measures that a measure needs and that are not resolved yet, each after those it names; itself last."""
        measures = self.catalog.declaration.measures
        ordered: dict[str, None] = {}
        path: dict[str, list[Name]] = {name: self._names_of(name)}
        while path:
            here = next(reversed(path))
            left = path[here]
            if not left:
                ordered[here] = None
                del path[here]
                continue
            node = left.pop(0)
            (other,) = node.parts
            if other in path:
                chain = [*path]
                circle = " -> ".join(map(quoted, [*chain[chain.index(other) :], other]))
                raise FormulaError(
                    f"Measures refer to each other in a circle: {circle}.",
                    text=measures[here].formula,
                    span=node.span,
                    fix="Rewrite one of them without the others.",
                    owner=f"measure {quoted(here)}",
                )
            if other not in self.resolved and other not in ordered:
                path[other] = self._names_of(other)
        return list(ordered)

    def _names_of(self, name: str) -> list[Name]:
        measures = self.catalog.declaration.measures
        root = parse_formula(measures[name].formula, f"measure {quoted(name)}")
        return list(bare_names(root, measures))

    def nesting(self, expression: Expression) -> int:
        """How deep an expression nests, measures that it names included."""
        pending = [expression]
        while pending:
            part = pending[-1]
            if id(part) in self._nesting:
                pending.pop()
                continue
            inner = inner_of(part)
            waiting = [each for each in inner if id(each) not in self._nesting]
            if waiting:
                pending.extend(waiting)
                continue
            own = _NESTING.get(type(part).__name__, 1)
            deepest = max((self._nesting[id(each)][1] for each in inner), default=0)
            self._nesting[id(part)] = part, own + deepest
            pending.pop()
        return self._nesting[id(expression)][1]

    def formula(self, text: str, owner: str = "") -> Expression:
        """A formula that has a value in a cell: a measure's name, aggregates and arithmetic on them."""
        return FormulaReader(self, text, owner).formula(Scope("cell"))

    def condition(self, text: str, owner: str = "where") -> tuple[FilterPart, ...]:
        """A condition on rows, split at its outer ``and``s; each part with the table whose rows it judges."""
        return FormulaReader(self, text, owner).parts(parse_condition(text, owner), Scope("condition"))

    def derived(self, table: str, text: str, owner: str) -> Expression:
        """A derived column's formula: it has a value for each row of ``table``."""
        reader = FormulaReader(self, text, owner)
        scope = Scope("row", home=table, rows=(table,))
        expression = reader.formula(scope)
        reader.check_home(table, expression, scope.opened)
        return expression
