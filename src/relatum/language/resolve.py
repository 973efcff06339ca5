"""From syntax tree to resolved formula: names, row tables and types, all before anything runs."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Protocol, assert_never

from msgspec.structs import replace

from relatum.data.types import BOOLEAN, INTEGER, NULL, an
from relatum.errors import FormulaError, Span
from relatum.language.advice import comparison, example_grain, written_with
from relatum.language.catalog import Catalog
from relatum.language.expression import (
    Aggregate,
    Apply,
    Choices,
    ColumnValue,
    Constant,
    Expression,
    FilterPart,
    Grain,
    InContext,
    LetIn,
    LetValue,
    MemberOrder,
    Narrowed,
    NoMatch,
    Ranked,
    columns_in,
)
from relatum.language.numbers import never_holds, read_band
from relatum.language.parse import parse_formula
from relatum.language.reader import Reader, Scope
from relatum.language.register import (
    BAND,
    NARROWED,
    OTHER_NAMES,
    PERIOD,
    PERIOD_KERNELS,
    RANKINGS,
    SCALARS,
    SHORTHAND_NAMES,
    AggregateFunction,
    Form,
    Ranking,
    aggregates_called,
    is_callable,
    known_functions,
)
from relatum.language.resolve_changes import ChangeReader
from relatum.language.rules import TypeProblem
from relatum.language.shorthand import expanded, is_whole, ways_of
from relatum.language.tree import (
    Call,
    Case,
    Changed,
    Condition,
    Let,
    Literal,
    Name,
    Operation,
    Over,
    Syntax,
    ViaClause,
    bare_names,
    conjuncts,
    walk,
)
from relatum.model.names import column_name, quoted
from relatum.wording import counted, listed, nearest

#: Formulas nest through the measures that they name: deeper ones are refused before any pass over them runs too deep.
MAX_NESTING = 160


class Measures(Protocol):
    """What reading a formula needs to know of the measures that it names."""

    catalog: Catalog

    def measure(self, name: str) -> Expression:
        """A measure's formula, resolved."""
        ...

    def nesting(self, expression: Expression) -> int:
        """How deep an expression nests, measures that it names included."""
        ...


class FormulaReader(Reader):
    """Resolves one formula text."""

    def __init__(self, formulas: Measures, text: str, owner: str, *, repeat: bool = False) -> None:
        super().__init__(formulas.catalog, text, owner)
        self.formulas = formulas
        self.repeat = repeat

    def formula(self, scope: Scope) -> Expression:
        """The whole text."""
        return self.whole(parse_formula(self.text, self.owner), scope)

    def whole(self, root: Syntax, scope: Scope) -> Expression:
        """A formula of the text with all below it; the measures that it names first."""
        own = self.catalog.columns(scope.home) if scope.home else {}
        for name in bare_names(root, self.catalog.declaration.measures):
            if name.parts[0] not in own:
                self.formulas.measure(name.parts[0])
        expression = self.resolve(root, scope)
        nesting = self.formulas.nesting(expression)
        if nesting > MAX_NESTING:
            raise self.error(
                f"The formula nests {nesting} deep, including the measures it uses; the limit is {MAX_NESTING}.",
                root.span,
                "Use fewer steps, or store one of them in a derived column or derived table.",
            )
        return expression

    def parts(self, condition: Condition, scope: Scope) -> tuple[FilterPart, ...]:
        """A condition's parts, each with its row table."""
        return tuple(self._part(node, scope.within("condition")) for node in conjuncts(condition.formula))

    def _part(self, node: Syntax, scope: Scope) -> FilterPart:
        over = ""
        if isinstance(node, Over):
            over, node = self.table(node.table), node.part
        expression = self.resolve(node, scope)
        if expression.type not in (BOOLEAN, NULL):
            raise self.error(
                f"This is {an(expression.type)}, but a condition is needed.",
                node.span,
                f"Compare it: {comparison(expression.type, self.written(node.span))}.",
            )
        table = self.row_table([expression], node.span, over, scope.opened)
        mentioned = list(columns_in(expression))
        own = all(value.table == table and isinstance(value, ColumnValue) for value in mentioned)
        columns = frozenset(value.column for value in mentioned if isinstance(value, ColumnValue)) if own else None
        return FilterPart(table, columns, expression, self.written(node.span))

    # -- every node ---------------------------------------------------------------------------------------------------

    def resolve(self, node: Syntax, scope: Scope) -> Expression:
        """One node and all below it."""
        match node:
            case Literal(value, type_, span):
                return Constant(value, type_, span)
            case Operation("plus_sign", (operand,), span):
                return self.apply("-", [self.resolve(operand, scope), Constant(0, INTEGER, span)], span)
            case Operation("negate", (Literal(value, type_),), span) if type_.numeric:
                return Constant(-value, type_, span)  # type: ignore[operator]
            case Operation("is_no_match", (operand,), span):
                return self._no_match(operand, span, scope)
            case Operation("in", operands, span):
                return self.among([self.resolve(operand, scope) for operand in operands], span)
            case Operation(operator, operands, span):
                return self.apply(operator, [self.resolve(operand, scope) for operand in operands], span)
            case Over():
                raise self.error(
                    "over gives the table of a whole part of a condition, but here it is inside one.",
                    node.table.span,
                    f"Put the part in brackets: where (…) over {self.written(node.table.span)}. "
                    f"An aggregate has its own: sum(… over {self.written(node.table.span)}).",
                )
            case Case(branches, otherwise, span):
                flat = [self.resolve(part, scope) for branch in branches for part in branch]
                flat.append(self.resolve(otherwise, scope) if otherwise else Constant(None, NULL, span))
                return self.apply("case", flat, span)
            case Let():
                return self._let(node, scope)
            case Changed():
                return self._changed(node, scope)
            case Call():
                return self._call(node, scope)
            case Name():
                return self._name(node, scope)
            case _:
                assert_never(node)

    def apply(self, function: str, arguments: list[Expression], span: Span) -> Expression:
        """A function of the register on arguments, its types checked."""
        record = SCALARS[function]
        if len(arguments) < record.least or (record.most is not None and len(arguments) > record.most):
            raise self.error(
                f"{function} has {counted(len(arguments), 'argument')} here.", span, f"Write {record.signature}."
            )
        count = never_holds(function, arguments)
        if count is not None:
            text = count.text if isinstance(count, Aggregate) else self.written(count.span)
            raise self.error(
                f"{text} is null where there are no rows, so this never holds.", span, f"Write {text} is null."
            )
        try:
            return Apply(function, tuple(arguments), record.infer(arguments), span)
        except TypeProblem as problem:
            fix = problem.fix.replace("{x}", self.written(arguments[problem.about].span))
            raise self.error(problem.reason, arguments[problem.position].span, fix) from None

    def among(self, arguments: list[Expression], span: Span) -> Expression:
        """A value and a list of others: constants of its type become one record."""
        applied = self.apply("in", arguments, span)
        subject, *others = arguments
        alike = [
            each
            for each in others
            if isinstance(each, Constant) and each.type == subject.type and each.value is not None
        ]
        if len(alike) < 2 or len(alike) < len(others):
            return applied
        values = tuple(each.value for each in alike if each.value is not None)
        return Apply("in", (subject, Choices(values, subject.type)), applied.type, span)

    def _shorthand(self, node: Call, scope: Scope) -> Expression:
        if not is_whole(node):
            raise self.error(
                f"{node.function} cannot be written like this.", node.span, self._write(ways_of(node.function), node)
            )
        return self.resolve(expanded(node), scope)

    def _call(self, node: Call, scope: Scope) -> Expression:
        if node.function == BAND:
            return read_band(self, node, scope)
        if node.function == PERIOD:
            if not node.word:
                raise self.error(
                    "period cannot be written like this.", node.span, self._write("period(x by month)", node)
                )
            return self.apply(PERIOD_KERNELS[node.word], [self.resolve(node.arguments[0], scope)], node.span)
        if node.function in SHORTHAND_NAMES:
            return self._shorthand(node, scope)
        if is_callable(node.function):
            extra = node.of or node.by or node.weight or node.over or node.among or next(iter(node.per), None)
            if node.distinct or extra is not None:
                raise self.error(
                    f"{node.function} takes only its arguments.",
                    extra.span if extra is not None else node.span,
                    f"Write {SCALARS[node.function].signature}.",
                )
            return self.apply(node.function, [self.resolve(part, scope) for part in node.arguments], node.span)
        records = aggregates_called(node.function)
        if not records and node.function not in RANKINGS and node.function != NARROWED.name:
            raise self._unknown_function(node)
        if scope.kind == "condition":
            raise self.error(
                "A condition is evaluated for each row, so it cannot contain an aggregate.",
                node.span,
                self._as_it_is(node) + self._keeping(self.written(node.span)),
            )
        if node.function == NARROWED.name:
            value = self._column_argument(node, NARROWED.signature)
            return Narrowed(value.table, value.column, span=node.span)
        if node.function in RANKINGS:
            return self._ranked(node, RANKINGS[node.function], scope)
        record = self._record(node, records)
        match record.form:
            case "column":
                value = self._column_argument(node, record.signature)
                text = self.written(node.span)
                return Aggregate(
                    function=record.name,
                    arguments=(value,),
                    row_table=value.table,
                    type=value.type,
                    fraction=0.0,
                    repeat=True,
                    grain=None,
                    text=text,
                    span=node.span,
                )
            case "table":
                return self._count_rows(node, record)
            case "plain" | "fraction" if node.per:
                return self._per(node, record, scope)
            case "plain" | "distinct" | "weighted" | "by" | "fraction":
                return self._aggregate(node, record, scope)
            case "internal":
                raise AssertionError(f"{record.name} cannot be written")
            case _:
                assert_never(record.form)

    def _record(self, node: Call, records: list[AggregateFunction]) -> AggregateFunction:
        """The record of an aggregate in the form in which it is written."""
        given: dict[Form, bool] = {
            "distinct": node.distinct,
            "weighted": node.weight is not None,
            "by": node.by is not None,
            "fraction": node.of is not None,
        }
        forms = [form for form, present in given.items() if present]
        by_form = {record.form: record for record in records}
        if not forms:
            table = any(map(self._is_table, node.arguments)) and not node.per
            forms = ["table"] if table and "table" in by_form else ["column"] if "column" in by_form else ["plain"]
        record = by_form.get(forms[0]) if len(forms) == 1 else None
        misplaced = (
            record is None
            or node.among is not None
            or len(node.arguments) != 1
            or (bool(node.per) and record.form not in ("plain", "fraction"))
            or (node.over is not None and record.form == "column")
        )
        if misplaced or record is None:
            signatures = ", ".join(each.signature for each in records)
            raise self.error(f"{node.function} cannot be written like this.", node.span, self._write(signatures, node))
        return record

    def _is_table(self, node: Syntax) -> bool:
        return isinstance(node, Name) and len(node.parts) == 1 and node.parts[0] in self.catalog.declaration.tables

    def _count_rows(self, node: Call, record: AggregateFunction) -> Expression:
        (first,) = node.arguments
        assert isinstance(first, Name)
        if node.over and self.table(node.over) != first.parts[0]:
            raise self.error("count counts the rows of the table in its brackets, but over names another.", node.span)
        text = self.written(node.span)
        return Aggregate(
            function=record.name,
            arguments=(),
            row_table=first.parts[0],
            type=INTEGER,
            fraction=0.0,
            repeat=self.repeat,
            grain=None,
            text=text,
            span=node.span,
        )

    def _unknown_function(self, node: Call) -> FormulaError:
        if node.function in OTHER_NAMES:
            fix = f"Here it is called {OTHER_NAMES[node.function]}."
        else:
            known = known_functions()
            close = nearest(node.function, known)
            fix = f"Did you mean {close}?" if close else f"Known: {listed(sorted(known), 60)}."
        return self.error(f"Unknown function {node.function}.", node.name_span, fix)

    # -- names --------------------------------------------------------------------------------------------------------

    def _name(self, node: Name, scope: Scope) -> Expression:
        if len(node.parts) == 2:
            return self._column_in(node, scope)
        (name,) = node.parts
        declaration = self.catalog.declaration
        if name in scope.lets:
            return replace(scope.lets[name], span=node.span)
        if scope.home and name in self.catalog.columns(scope.home):
            return ColumnValue(scope.home, name, self.catalog.columns(scope.home)[name], node.span)
        if name in declaration.measures:
            if scope.kind == "condition":
                raise self.error(
                    f"{quoted(name)} is a measure, but a condition is evaluated for each row.",
                    node.span,
                    self._keeping(quoted(name)),
                )
            return self.formulas.measure(name)
        if name in declaration.tables and scope.kind != "condition":
            raise self.error(
                f"{quoted(name)} is a table, but a value is needed.",
                node.span,
                f"count({quoted(name)}) counts its rows, count({quoted(name)})[where …] some of them; "
                f"a column is written {quoted(name)}.column.",
            )
        if scope.kind == "condition" and not self.catalog.tables_with(name):
            raise self._nothing_in_condition(node)
        known: Mapping[str, object] = self.catalog.columns(scope.home) if scope.home else declaration.measures
        noun = "column" if scope.home else "measure"
        raise self.unknown_name(node, {**known, **scope.lets}, noun)

    def _keeping(self, formula: str) -> str:
        """How members are kept by a value, for an example that the model has."""
        return (
            "To keep members by a value, put the keep in the formula's brackets: "
            f"{formula}[keep {example_grain(self.catalog)} where {formula} > …]."
        )

    def _write(self, signatures: str, node: Call) -> str:
        """How a function is written, with what it was given."""
        value = self.written(node.arguments[0].span) if node.arguments else ""
        return f"Write {written_with(signatures, value, self.catalog)}."

    def _as_it_is(self, node: Call) -> str:
        """How the first column in an aggregate would be in a condition."""
        name = next((each for each in walk(node) if isinstance(each, Name) and len(each.parts) == 2), None)
        if name is None:
            return ""
        shown = comparison(self.column_value(name).type, self.written(name.span))
        return f"Only plain columns can be used here: {shown}. "

    def _nothing_in_condition(self, node: Name) -> FormulaError:
        (name,) = node.parts
        if self.written(node.span).startswith('"'):
            return self.unknown_name(node, {}, "column")
        tables = self.catalog.declaration.tables
        columns = [column_name(table, column) for table in tables for column in self.catalog.columns(table)]
        close = nearest(name, columns) or next((each for each in columns if nearest(name, [each.split(".")[-1]])), "")
        fix = f"Did you mean {close}?" if close else f"If it is a text, put it in single quotes: '{name}'."
        return self.error(f"There is no column {name}.", node.span, f"A column is written table.column. {fix}")

    def _column_in(self, node: Name, scope: Scope) -> Expression:
        value = self.column_value(node)
        if scope.kind != "cell" or (value.table, value.column) in scope.columns:
            return value
        catalog = self.catalog.opening(scope.opened)
        if any(catalog.finds(table, value.table, [value.column]) for table in scope.rows):
            return value
        raise self.bare_column(node)

    def _no_match(self, operand: Syntax, span: Span, scope: Scope) -> Expression:
        if scope.kind == "cell" or not isinstance(operand, Name):
            raise self.error(
                "is no match applies to a row.",
                span,
                f"Use it in a condition: where {self.written(operand.span)} is no match.",
            )
        table = self.table(operand) if len(operand.parts) == 1 else self.column(operand)[0]
        return NoMatch(table, BOOLEAN, span)

    # -- aggregates ---------------------------------------------------------------------------------------------------

    def _aggregate(self, node: Call, record: AggregateFunction, scope: Scope) -> Expression:
        over = self.table(node.over) if node.over else ""
        (first,) = node.arguments
        text = self.written(node.span)
        inner = scope.within("row")
        arguments = [self.resolve(part, inner) for part in (first, node.by, node.weight) if part is not None]
        if node.by is not None:
            arguments[1] = self.ordering(arguments[1])
        try:
            type_ = record.infer(arguments[:1])
            if node.weight is not None:
                record.infer(arguments[1:])
        except TypeProblem as problem:
            position = problem.position if node.weight is None or not arguments[0].type.numeric else 1
            wrong = arguments[position]
            fix = problem.fix or (f"count({self.written(wrong.span)}) counts values." if record.name == "sum" else "")
            raise self.error(problem.reason, wrong.span, fix) from None
        table = self.row_table(arguments, node.span, over, scope.opened)
        fraction = self._fraction(node)
        return Aggregate(
            function=record.name,
            arguments=tuple(arguments),
            row_table=table,
            type=type_,
            fraction=fraction,
            repeat=self.repeat,
            grain=None,
            text=text,
            span=node.span,
        )

    def _per(self, node: Call, record: AggregateFunction, scope: Scope) -> Expression:
        grain = self.grain(node.per)
        rows = (*scope.rows, grain.table) if grain.table else scope.rows
        inner = replace(scope.within("cell"), rows=rows, columns=(*scope.columns, *grain.columns))
        formula = self.resolve(node.arguments[0], inner)
        try:
            type_ = record.infer([formula])
        except TypeProblem as problem:
            raise self.error(problem.reason, formula.span, problem.fix) from None
        text = self.written(node.span)
        return Aggregate(
            function=record.name,
            arguments=(formula,),
            row_table="",
            type=type_,
            fraction=self._fraction(node),
            repeat=self.repeat,
            grain=grain,
            text=text,
            span=node.span,
        )

    def grain(self, names: tuple[Name, ...]) -> Grain:
        """The grain that one table, or one or more columns, stand for."""
        if len(names) == 1 and len(names[0].parts) == 1:
            table = self.table(names[0])
            if not self.catalog.declaration.tables[self.catalog.declaration.rows_of(table)].key:
                raise self.error(
                    f"The table {quoted(table)} has no key to identify its rows.",
                    names[0].span,
                    "Give it a key, or name a column.",
                )
            return Grain(table)
        columns = tuple(self.column(name) for name in names)
        if len(set(columns)) < len(columns):
            raise self.error("A column is in the grain twice.", names[0].span.to(names[-1].span))
        return Grain("", columns)

    def _ranked(self, node: Call, record: Ranking, scope: Scope) -> Expression:
        extras = node.distinct or node.weight or node.of or node.per or node.over
        misplaced = node.among is None or len(node.arguments) != 1 or (node.by is not None and record.by == "never")
        if extras or misplaced or node.among is None:
            raise self.error(
                f"{record.name} cannot be written like this.", node.span, self._write(record.signature, node)
            )
        grain = self.grain((node.among,))
        rows = (*scope.rows, grain.table) if grain.table else scope.rows
        inner = replace(scope.within("cell"), rows=rows, columns=(*scope.columns, *grain.columns))
        formula = self.resolve(node.arguments[0], inner)
        by = None if node.by is None else self.ordering(self.resolve(node.by, inner))
        try:
            type_ = record.infer([formula])
        except TypeProblem as problem:
            raise self.error(problem.reason, formula.span, problem.fix) from None
        if record.by == "always" and by is None:
            raise self.error(f"{record.name} needs an order.", node.span, self._write(record.signature, node))
        own = self.catalog.order(*grain.columns[0]) if grain.columns else MemberOrder()
        order = own if record.by == "maybe" else MemberOrder()
        text = self.written(node.span)
        return Ranked(
            function=record.name,
            formula=formula,
            grain=grain,
            by=by,
            descending=node.descending,
            type=type_,
            order=order,
            text=text,
            span=node.span,
        )

    def _fraction(self, node: Call) -> float:
        if node.of is None:
            return 0.0
        fraction = self.resolve(node.of, Scope("row"))
        if isinstance(fraction, Constant) and fraction.type.numeric:
            value: float = float(fraction.value or 0) / 10**fraction.type.scale
            if 0 <= value <= 1:
                return value
        fix = self._write("percentile(0.9 of x)", node)
        raise self.error("The part of a percentile must be a number from 0 to 1.", node.of.span, fix)

    def _column_argument(self, node: Call, signature: str) -> ColumnValue:
        plain = len(node.arguments) == 1 and not (
            node.distinct or node.of or node.by or node.weight or node.over or node.among or node.per
        )
        name = node.arguments[0] if plain else node
        if not isinstance(name, Name) or len(name.parts) != 2:
            raise self.error(f"{node.function} takes a column.", name.span, f"Write {signature}.")
        return self.column_value(name)

    # -- let and brackets ---------------------------------------------------------------------------------------------

    def _let(self, node: Let, scope: Scope) -> Expression:
        lets = dict(scope.lets)
        numbers: list[int] = []
        values: list[Expression] = []
        for name, formula in node.bindings:
            (word,) = name.parts
            value = self.resolve(formula, replace(scope, lets=dict(lets), depth=scope.depth + len(numbers)))
            number = scope.depth + len(numbers)
            lets[word] = LetValue(number, value.type, name.span)
            numbers.append(number)
            values.append(value)
        body = self.resolve(node.body, replace(scope, lets=lets, depth=scope.depth + len(numbers)))
        return LetIn(tuple(numbers), tuple(values), body, body.type, node.span)

    def _changed(self, node: Changed, scope: Scope) -> Expression:
        if scope.kind == "condition" and not all(isinstance(change, ViaClause) for change in node.changes):
            raise self.error("The context of a condition cannot be changed.", node.span, "Only via can be used here.")
        opened, changes = ChangeReader(self).read(node.changes, scope)
        formula = self.resolve(node.formula, replace(scope, opened=opened))
        return InContext(formula, changes, formula.type, node.span)
