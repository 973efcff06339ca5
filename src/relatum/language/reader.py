"""What every reader of a formula needs: finding tables and columns, reporting errors at their place."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from msgspec import Struct, field
from msgspec.structs import replace

from relatum.data.types import FLOAT
from relatum.errors import FormulaError, ModelError, Span
from relatum.language.catalog import Catalog
from relatum.language.expression import Apply, ColumnValue, Expression, LetValue, NoMatch, columns_in, is_plain
from relatum.language.register import BAND_EDGE
from relatum.language.tree import Name
from relatum.model.names import cannot_be_used, column_name, quoted
from relatum.model.routes import Opened
from relatum.wording import nearest, suggestion


class Scope(Struct, frozen=True):
    """Where a part of a formula is.

    ``kind`` is ``cell`` (one value is needed), ``row`` (a value for each row) or ``condition`` (a row, and nothing
    may aggregate). ``home`` is the table whose columns need no table's name. ``rows`` are the tables that have a
    current row there, ``columns`` the columns that a grain holds fast. ``lets`` are the names that ``let`` gives.
    """

    kind: str
    home: str = ""
    rows: tuple[str, ...] = ()
    columns: tuple[tuple[str, str], ...] = ()
    lets: Mapping[str, LetValue] = field(default_factory=dict)
    #: How many names are in scope, those of the same word counted each.
    depth: int = 0
    opened: Opened = field(default_factory=Opened)

    def within(self, kind: str) -> Scope:
        """The scope of a part that is of another kind; its own rows are others."""
        return replace(self, kind=kind, home="")


class Reader:
    """A formula's text with its catalog: names to columns, faults to sentences."""

    def __init__(self, catalog: Catalog, text: str, owner: str) -> None:
        self.catalog = catalog
        self.text = text
        self.owner = owner

    def error(self, reason: str, span: Span, fix: str = "") -> FormulaError:
        """An error that points at a stretch of the formula."""
        return FormulaError(reason, text=self.text, span=span, fix=fix, owner=self.owner)

    def written(self, span: Span) -> str:
        """A stretch of the text."""
        return self.text[span.start : span.stop]

    # -- names --------------------------------------------------------------------------------------------------------

    def table(self, node: Name) -> str:
        """The table that a name of one part refers to."""
        name = node.parts[0]
        tables = self.catalog.declaration.tables
        if name not in tables or len(node.parts) > 1:
            shown = ".".join(node.parts)
            raise self.error(f"There is no table {shown}.", node.span, suggestion(name, tables, noun="table"))
        return name

    def column(self, node: Name) -> tuple[str, str]:
        """The table and column that a name of two parts refers to."""
        if len(node.parts) != 2:
            raise self.error("Expected a column.", node.span, "Write table.column.")
        table, column = node.parts
        tables = self.catalog.declaration.tables
        if table not in tables:
            raise self.error(f"There is no table {table}.", node.span, suggestion(table, tables, noun="table"))
        columns = self.catalog.columns(table)
        unread = self.catalog.unread.get((self.catalog.declaration.rows_of(table), column))
        if unread is not None and column not in columns:
            raise self.error(cannot_be_used(table, column, unread), node.span)
        if column not in columns:
            elsewhere = self.catalog.tables_with(column)
            close = nearest(column, columns)
            fix = (
                f"Did you mean {column_name(table, close)}?"
                if close
                else f"Did you mean {column_name(elsewhere[0], column)}?"
                if elsewhere
                else suggestion(column, self.catalog.shown(table), noun="column")
            )
            raise self.error(f"The table {quoted(table)} has no column {column}.", node.span, fix)
        return table, column

    def column_value(self, node: Name) -> ColumnValue:
        """A column as a value of the current row."""
        table, column = self.column(node)
        return ColumnValue(table, column, self.catalog.columns(table)[column], node.span)

    def unknown_name(self, node: Name, known: Mapping[str, object], noun: str) -> FormulaError:
        """The error for a name of one part that is nothing."""
        (name,) = node.parts
        owners = self.catalog.tables_with(name)
        written_as_text = self.text[node.span.start : node.span.start + 1] == '"'
        if owners:
            columns = " or ".join(column_name(table, name) for table in owners)
            return self.error(f"Write a column with its table: {columns}.", node.span)
        if written_as_text and nearest(name, known) is None:
            return self.error(
                f"Unknown name {name}.", node.span, f"If it is a text, put it in single quotes: '{name}'."
            )
        return self.error(f"There is no {noun} {name}.", node.span, suggestion(name, known, noun=noun))

    def bare_column(self, node: Name) -> FormulaError:
        """The error for a column where one value is needed."""
        table, column = self.column(node)
        name = column_name(table, column)
        type_ = self.catalog.columns(table)[column]
        ways = f"sum({name}), avg({name}) or max({name})" if type_.numeric else f"max({name}) or count(distinct {name})"
        lookers = [
            start
            for start in self.catalog.declaration.tables
            if start != table and self.catalog.lookup(start, table, column) is not None
        ]
        fix = f"Combine the values: {ways}; sole({name}) gives the value where there is only one."
        if lookers:
            inside = (
                f"sum({quoted(lookers[0])}.… * {name})"
                if type_.numeric
                else f"count(distinct {name} over {quoted(lookers[0])})"
            )
            fix += (
                f"\nTo use the value that belongs to each row of {quoted(lookers[0])}, put the column inside an "
                f"aggregate: {inside}."
            )
        return self.error(
            f"{name} has a value for each row of {quoted(table)}, but one value is needed here.", node.span, fix
        )

    def ordering(self, expression: Expression) -> Expression:
        """What a value is ordered by: of a band its lower edge, of all others the value itself."""
        if not self.catalog.is_band(expression):
            return expression
        return Apply(BAND_EDGE, (expression,), FLOAT, expression.span)

    # -- row tables ---------------------------------------------------------------------------------------------------

    def row_table(self, expressions: Sequence[Expression], span: Span, over: str, opened: Opened) -> str:
        """The one table among those mentioned whose rows find everything mentioned; ``over`` states it."""
        catalog = self.catalog.opening(opened)
        mentioned: dict[str, set[str]] = {}
        for expression in expressions:
            for value in columns_in(expression):
                columns = mentioned.setdefault(value.table, set())
                columns.update([value.column] if isinstance(value, ColumnValue) else [])
                if over and not self._finds(catalog, over, value.table, columns):
                    raise self.error(
                        f"A row of {quoted(over)} does not match a row of {quoted(value.table)}.",
                        value.span,
                        f"Add a relationship that leads from {quoted(over)} to {quoted(value.table)}, "
                        "or name another table after over.",
                    )
        if over:
            return over
        if not mentioned:
            example = quoted(next(iter(self.catalog.declaration.tables), "sales"))
            nested = not all(map(is_plain, expressions))
            raise self.error(
                "No column is mentioned here, so the table is unclear.",
                span,
                f"Name the members: … per {example}, or the rows: … over {example}."
                if nested
                else f"Name the table: … over {example}.",
            )
        found = [
            start
            for start in mentioned
            if all(self._finds(catalog, start, table, columns) for table, columns in mentioned.items())
        ]
        if found:
            # In a one-to-one pair either would do: the left side is the row table.
            return min(found, key=lambda table: catalog.rank(table, found))
        reason, fix = catalog.row_table_problem(mentioned)
        raise self.error(reason, span, fix)

    def _finds(self, catalog: Catalog, start: str, table: str, columns: set[str]) -> bool:
        try:
            return catalog.finds(start, table, columns)
        except ModelError as error:
            raise self.error(error.reason, Span(0, len(self.text)), error.fix) from None

    def check_home(self, home: str, expression: Expression, opened: Opened) -> None:
        """Raise an error unless a row of ``home`` finds every column that an expression reads."""
        catalog = self.catalog.opening(opened)
        for value in columns_in(expression):
            columns = set() if isinstance(value, NoMatch) else {value.column}
            if not self._finds(catalog, home, value.table, columns):
                raise self.error(
                    f"A row of {quoted(home)} does not match a row of {quoted(value.table)}: "
                    f"no relationship leads there.",
                    value.span,
                    f"Add a relationship that leads from {quoted(home)} to {quoted(value.table)}.",
                )
