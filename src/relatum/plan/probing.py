"""Formulas in one cell of a request: its context, and the plan by which an engine looks into it."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec.structs import replace

from relatum.data.types import INTEGER
from relatum.language.catalog import Catalog
from relatum.language.expression import Aggregate, Expression
from relatum.plan.compile import Derivations, PlanMaker, Wanted
from relatum.plan.context import Context, Filter
from relatum.plan.formulas import Findings
from relatum.plan.nodes import Formula, Plan


class Probe:
    """Compiles formulas in the context of one cell, as the plan of the whole grid does.

    Parameters
    ----------
    catalog : Catalog
        Columns and routes.
    wanted : Wanted
        The request that the cell is of.
    derivations : mapping of (table, column) to Derivation
        The model's derived columns.
    keys : sequence of int
        The fields that the cell has members of.
    others : frozenset of int
        Those of them of which it has the members that a top leaves out.
    """

    def __init__(
        self,
        catalog: Catalog,
        wanted: Wanted,
        derivations: Derivations,
        keys: Sequence[int],
        others: frozenset[int],
    ) -> None:
        self.catalog = catalog
        self._maker = PlanMaker(catalog, wanted)
        self._derivations = derivations
        self._plan, _ = self._maker.plan(derivations)
        self.axes = tuple(self._maker.axis_filter(key, key in others) for key in keys)
        self.keys = tuple(self._maker.others[key] if key in others else key for key in keys)
        self.context: Context = self._maker.context(self.axes)
        self._compiler = self._maker.compiler.at_grain(self.axes)

    def formula(self, expression: Expression, context: Context) -> tuple[Formula, Findings]:
        """A formula in a context that is the cell's, or made of it."""
        return self._compiler.formula(expression, context)

    def after(self, expression: Expression, context: Context) -> Context:
        """The context inside a formula's square brackets."""
        return self._compiler.inside(expression, context)

    def rows(self, table: str, filters: Sequence[Filter], context: Context, *, whole: bool = False) -> Formula:
        """How many rows of a table some filters of a context leave; with ``whole`` all of it, calendar changes too."""
        count = Aggregate("count_rows", (), table, INTEGER, repeat=True)
        some = context if whole else Context(tuple(filters), context.opened, names=context.names)
        return self.formula(count, some)[0]

    def plan(self) -> Plan:
        """The plan of the request with every key that the formulas so far have added."""
        return replace(self._plan, fields=tuple(self._compiler.fields))
