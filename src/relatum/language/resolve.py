"""From syntax tree to resolved formula: names, row tables and types, all before anything runs."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

from relatum.data.types import BOOLEAN, INTEGER, NULL
from relatum.errors import FormulaError, Span, listed, nearest, suggestion
from relatum.language.catalog import Catalog
from relatum.language.expression import (
    Aggregate,
    Apply,
    ColumnValue,
    Constant,
    Expression,
    Filtered,
    FilterPart,
    columns_in,
)
from relatum.language.functions import AGGREGATES, CALLABLE, OTHER_NAMES, SCALARS, AggregateFunction, TypeProblem
from relatum.language.parse import parse_condition, parse_formula
from relatum.language.tree import Call, Case, Literal, Name, Node, Operation, conjuncts
from relatum.model.names import column_name, quoted

#: Reads a name or an aggregate in one kind of place: a cell, or a row.
Leaf = Callable[[Name | Call], Expression]


class Formulas:
    """The measures of a catalog, each resolved once.

    Raises
    ------
    FormulaError
        From every method: a name that is not there, an argument of the wrong type, no row table, measures that use
        each other in a circle.
    """

    def __init__(self, catalog: Catalog) -> None:
        self.catalog = catalog
        self._resolved: dict[str, Expression] = {}
        self._under_way: list[str] = []

    def measure(self, name: str) -> Expression:
        """A measure's formula, resolved."""
        if name not in self._resolved:
            measure = self.catalog.declaration.measures[name]
            self._under_way.append(name)
            try:
                self._resolved[name] = _Reader(
                    self, measure.formula, f"measure {quoted(name)}", repeat=measure.unrelated == "repeat"
                ).cell()
            finally:
                self._under_way.pop()
        return self._resolved[name]

    def circle(self, name: str) -> list[str]:
        """The measures under way from ``name`` back to itself; empty when it is not under way."""
        return [*self._under_way[self._under_way.index(name) :], name] if name in self._under_way else []

    def formula(self, text: str, owner: str = "") -> Expression:
        """A formula that has a value in a cell: a measure's name, aggregates and arithmetic on them."""
        return _Reader(self, text, owner).cell()

    def condition(self, text: str, owner: str = "where") -> tuple[FilterPart, ...]:
        """A condition on rows, split at its outer ``and``s; each part with the table whose rows it judges."""
        return _Reader(self, text, owner).parts()

    def derived(self, table: str, text: str, owner: str) -> Expression:
        """A derived column's formula: it has a value for each row of ``table``."""
        return _Reader(self, text, owner, home=table).row()


class _Reader:
    """Resolves one formula text."""

    def __init__(self, formulas: Formulas, text: str, owner: str, *, repeat: bool = False, home: str = "") -> None:
        self.formulas = formulas
        self.catalog = formulas.catalog
        self.text = text
        self.owner = owner
        self.repeat = repeat
        self.home = home

    def cell(self) -> Expression:
        return self._resolve(parse_formula(self.text, self.owner), self._cell_leaf)

    def row(self) -> Expression:
        expression = self._resolve(parse_formula(self.text, self.owner), self._row_leaf)
        for column in columns_in(expression):
            if self.catalog.lookup(self.home, column.table, column.column) is None:
                raise self._error(
                    f"A row of {quoted(self.home)} does not find a row of {quoted(column.table)}: "
                    f"no relationship leads there.",
                    column.span,
                    f"Add a relationship that leads from {quoted(self.home)} to {quoted(column.table)}.",
                )
        return expression

    def parts(self) -> tuple[FilterPart, ...]:
        condition = parse_condition(self.text, self.owner)
        over = self._table(condition.over) if condition.over else ""
        return tuple(self._part(node, over) for node in conjuncts(condition.formula))

    # -- conditions ---------------------------------------------------------------------------------------------------

    def _part(self, node: Node, over: str) -> FilterPart:
        expression = self._resolve(node, self._row_leaf)
        if expression.type not in (BOOLEAN, NULL):
            raise self._error(
                f"This is {expression.type}, and a condition is needed.", node.span, "Compare it: sales.quantity > 10."
            )
        table = self._row_table([expression], node.span, over)
        mentioned = list(columns_in(expression))
        own = all(column.table == table for column in mentioned)
        columns = frozenset(column.column for column in mentioned) if own else None
        return FilterPart(table, columns, expression, self.text[node.span.start : node.span.stop])

    def _row_table(self, expressions: Sequence[Expression], span: Span, over: str) -> str:
        mentioned: dict[str, set[str]] = {}
        for expression in expressions:
            for column in columns_in(expression):
                mentioned.setdefault(column.table, set()).add(column.column)
                if over and self.catalog.lookup(over, column.table, column.column) is None:
                    raise self._error(
                        f"A row of {quoted(over)} does not find a row of {quoted(column.table)}.",
                        column.span,
                        f"Add a relationship that leads from {quoted(over)} to {quoted(column.table)}, "
                        "or name another table after over.",
                    )
        if over:
            return over
        if not mentioned:
            raise self._error(
                "No column is mentioned here, so it is not clear whose rows are meant.",
                span,
                f"State the table: … over {quoted(next(iter(self.catalog.declaration.tables), 'sales'))}.",
            )
        found = list(self.catalog.row_tables(mentioned))
        if len(found) == 1:
            return found[0]
        reason, fix = self.catalog.row_table_problem(mentioned)
        raise self._error(reason, span, fix)

    # -- every node ---------------------------------------------------------------------------------------------------

    def _resolve(self, node: Node, leaf: Leaf) -> Expression:
        match node:
            case Literal(value, type_, span):
                return Constant(value, type_, span)
            case Operation("plus_sign", (operand,), span):
                return self._apply("-", [self._resolve(operand, leaf), Constant(0, INTEGER, span)], span)
            case Operation("negate", (Literal(value, type_),), span) if type_.numeric:
                return Constant(-value, type_, span)  # type: ignore[operator]
            case Operation(operator, operands, span):
                return self._apply(operator, [self._resolve(operand, leaf) for operand in operands], span)
            case Case(branches, otherwise, span):
                flat = [self._resolve(part, leaf) for branch in branches for part in branch]
                flat.append(self._resolve(otherwise, leaf) if otherwise else Constant(None, NULL, span))
                return self._apply("case", flat, span)
            case Call() if node.function in CALLABLE:
                extra = node.of or node.by or node.weight or node.over
                if node.distinct or extra is not None:
                    raise self._error(
                        f"{node.function} takes its arguments and nothing else.",
                        extra.span if extra is not None else node.span,
                        f"Write {SCALARS[node.function].signature}.",
                    )
                return self._apply(node.function, [self._resolve(part, leaf) for part in node.arguments], node.span)
            case Call() if node.function not in AGGREGATES:
                raise self._unknown_function(node)
        return leaf(node)

    def _apply(self, function: str, arguments: list[Expression], span: Span) -> Expression:
        record = SCALARS[function]
        if len(arguments) < record.least or (record.most is not None and len(arguments) > record.most):
            raise self._error(f"{function} has {len(arguments)} argument(s) here.", span, f"Write {record.signature}.")
        try:
            return Apply(function, tuple(arguments), record.infer(arguments), span)
        except TypeProblem as problem:
            raise self._error(problem.reason, arguments[problem.position].span, problem.fix) from None

    def _unknown_function(self, node: Call) -> FormulaError:
        if node.function in OTHER_NAMES:
            fix = f"Here that is {OTHER_NAMES[node.function]}."
        else:
            known = [*CALLABLE, *AGGREGATES]
            close = nearest(node.function, known)
            fix = f"Did you mean {close}?" if close else f"Known: {listed(sorted(known), 60)}."
        return self._error(f"There is no function {node.function}.", node.name_span, fix)

    # -- in a cell ----------------------------------------------------------------------------------------------------

    def _cell_leaf(self, node: Name | Call) -> Expression:
        if isinstance(node, Call):
            return self._aggregate(node)
        if len(node.parts) == 2:
            return self._bare_column(node)
        (name,) = node.parts
        declaration = self.catalog.declaration
        if name in declaration.measures:
            circle = self.formulas.circle(name)
            if circle:
                raise self._error(
                    f"Measures use each other in a circle: {' -> '.join(map(quoted, circle))}.",
                    node.span,
                    "One of them has to be written without the others.",
                )
            return self.formulas.measure(name)
        if name in declaration.tables:
            raise self._error(
                f"{quoted(name)} is a table, and a value is needed.",
                node.span,
                f"count({quoted(name)}) counts its rows; a column is written {quoted(name)}.column.",
            )
        raise self._unknown_name(node, declaration.measures)

    def _bare_column(self, node: Name) -> Expression:
        table, column = self._column(node)
        name = column_name(table, column)
        type_ = self.catalog.columns(table)[column]
        ways = f"sum({name}), avg({name}) or max({name})" if type_.numeric else f"max({name}) or count(distinct {name})"
        lookers = [
            start
            for start in self.catalog.declaration.tables
            if start != table and self.catalog.lookup(start, table, column) is not None
        ]
        fix = f"Say how the values become one: {ways}; sole({name}) is the value where there is just one."
        if lookers:
            fix += (
                f"\nTo use the value that belongs to each row of {quoted(lookers[0])}, put the column inside an "
                f"aggregate: sum({quoted(lookers[0])}.… * {name})."
            )
        raise self._error(
            f"{name} has a value for each row of {quoted(table)}, and here one value is needed.", node.span, fix
        )

    def _aggregate(self, node: Call) -> Expression:
        record = AGGREGATES[node.function]
        self._refuse_form(node, record)
        text = self.text[node.span.start : node.span.stop]
        if record.form == "column":
            return self._column_function(node, record, text)
        over = self._table(node.over) if node.over else ""
        (first,) = node.arguments
        if (
            record.form == "rows"
            and not node.distinct
            and isinstance(first, Name)
            and len(first.parts) == 1
            and (first.parts[0] in self.catalog.declaration.tables)
        ):
            if over and over != first.parts[0]:
                raise self._error("The rows counted are those of the table named; over says another.", node.span)
            return Aggregate("rows", (), first.parts[0], INTEGER, 0.0, self.repeat, text, node.span)
        arguments = [self._resolve(part, self._row_leaf) for part in (first, node.by, node.weight) if part is not None]
        try:
            type_ = record.infer(arguments[:1])
            if node.weight is not None:
                record.infer(arguments[1:])
        except TypeProblem as problem:
            position = problem.position if node.weight is None or not arguments[0].type.numeric else 1
            wrong = arguments[position]
            fix = problem.fix or (
                f"count({self.text[wrong.span.start : wrong.span.stop]}) counts values." if record.name == "sum" else ""
            )
            raise self._error(problem.reason, wrong.span, fix) from None
        name = "distinct" if node.distinct else "weighted" if node.weight is not None else record.name
        table = self._row_table(arguments, node.span, over)
        return Aggregate(name, tuple(arguments), table, type_, self._fraction(node), self.repeat, text, node.span)

    def _refuse_form(self, node: Call, record: AggregateFunction) -> None:
        allowed = {
            "plain": (),
            "rows": ("distinct",),
            "weighted": ("weight",),
            "by": ("by",),
            "fraction": ("of",),
            "column": (),
        }[record.form]
        given = {"distinct": node.distinct, "weight": node.weight, "by": node.by, "of": node.of}
        wrong = [word for word, present in given.items() if present and word not in allowed]
        needed = {"by": node.by is None, "fraction": node.of is None}.get(record.form, False)
        if wrong or needed or len(node.arguments) != 1 or (record.form == "column" and node.over):
            raise self._error(f"{record.name} is not written like this.", node.span, f"Write {record.signature}.")

    def _fraction(self, node: Call) -> float:
        if node.of is None:
            return 0.0
        fraction = self._resolve(node.of, self._row_leaf)
        if isinstance(fraction, Constant) and fraction.type.numeric:
            value: float = float(fraction.value or 0) / 10**fraction.type.scale
            if 0 <= value <= 1:
                return value
        raise self._error("A percentile's part is a number from 0 to 1.", node.of.span, "Write percentile(0.9 of x).")

    def _column_function(self, node: Call, record: AggregateFunction, text: str) -> Expression:
        (name,) = node.arguments
        if not isinstance(name, Name) or len(name.parts) != 2:
            raise self._error(f"{record.name} takes a column.", name.span, f"Write {record.signature}.")
        table, column = self._column(name)
        type_ = self.catalog.columns(table)[column]
        if record.name == "filtered":
            return Filtered(table, column, span=node.span)
        value = ColumnValue(table, column, type_, name.span)
        return Aggregate("sole", (value,), table, type_, 0.0, True, text, node.span)

    # -- in a row -----------------------------------------------------------------------------------------------------

    def _row_leaf(self, node: Name | Call) -> Expression:
        if isinstance(node, Call):
            where = "A condition is asked of each row, so it" if self.owner == "where" else "A formula for one row"
            raise self._error(
                f"{where} cannot hold an aggregate.",
                node.span,
                "Here columns are used as they are, without sum, avg or count.",
            )
        if len(node.parts) == 1:
            (name,) = node.parts
            if self.home and name in self.catalog.columns(self.home):
                return ColumnValue(self.home, name, self.catalog.columns(self.home)[name], node.span)
            if name in self.catalog.declaration.measures:
                raise self._error(
                    f"{quoted(name)} is a measure, and here a value of one row is needed.",
                    node.span,
                    "A measure aggregates already; name the columns it is made of instead.",
                )
            raise self._unknown_name(node, self.catalog.columns(self.home) if self.home else {})
        table, column = self._column(node)
        return ColumnValue(table, column, self.catalog.columns(table)[column], node.span)

    # -- names --------------------------------------------------------------------------------------------------------

    def _table(self, node: Name) -> str:
        (name,) = node.parts
        tables = self.catalog.declaration.tables
        if name not in tables:
            raise self._error(f"There is no table {name}.", node.span, suggestion(name, tables, noun="table"))
        return name

    def _column(self, node: Name) -> tuple[str, str]:
        table, column = node.parts
        tables = self.catalog.declaration.tables
        if table not in tables:
            raise self._error(f"There is no table {table}.", node.span, suggestion(table, tables, noun="table"))
        columns = self.catalog.columns(table)
        if column not in columns:
            elsewhere = self.catalog.tables_with(column)
            close = nearest(column, columns)
            fix = (
                f"Did you mean {column_name(table, close)}?"
                if close
                else f"Did you mean {column_name(elsewhere[0], column)}?"
                if elsewhere
                else suggestion(column, columns, noun="column")
            )
            raise self._error(f"The table {quoted(table)} has no column {column}.", node.span, fix)
        return table, column

    def _unknown_name(self, node: Name, known: Mapping[str, object]) -> FormulaError:
        (name,) = node.parts
        owners = self.catalog.tables_with(name)
        written_as_text = self.text[node.span.start : node.span.start + 1] == '"'
        if owners:
            columns = " or ".join(column_name(table, name) for table in owners)
            return self._error(f"A column is named with its table: {columns}.", node.span)
        if written_as_text and nearest(name, known) is None:
            return self._error(
                f"There is nothing named {name}.", node.span, f"If it is a text, write it in single quotes: '{name}'."
            )
        noun = "column" if self.home else "measure"
        return self._error(f"There is no {noun} {name}.", node.span, suggestion(name, known, noun=noun))

    def _error(self, reason: str, span: Span, fix: str = "") -> FormulaError:
        return FormulaError(reason, text=self.text, span=span, fix=fix, owner=self.owner)
