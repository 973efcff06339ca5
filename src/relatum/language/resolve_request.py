"""Resolving a request: the formulas of axes and their order, and the request's own keeps."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from msgspec.structs import replace

from relatum.errors import FormulaError
from relatum.language.expression import (
    Change,
    Expression,
    Grain,
    Ignoring,
    InContext,
    KeepBest,
    KeepWhere,
    OfSet,
    formulas_of,
    inner_of,
)
from relatum.language.formulas import Formulas
from relatum.language.parse import parse_keeps
from relatum.language.reader import Scope
from relatum.language.register import BAND
from relatum.language.resolve import FormulaReader
from relatum.language.resolve_changes import ChangeReader
from relatum.language.tree import Call, Name, Ordering, Syntax
from relatum.model.names import ColumnKey, column_name, quoted

_AXES = ("axes", "rows", "columns", "innermost")


class RequestReader(FormulaReader):
    """Reads the parts of one text of a request, in which fields go by their labels too.

    ``values`` are the formulas of the request's values by their labels: what names one is told what to write.
    """

    def __init__(
        self,
        formulas: Formulas,
        text: str,
        owner: str,
        labelled: Mapping[str, ColumnKey] | None = None,
        values: Mapping[str, str] | None = None,
    ) -> None:
        super().__init__(formulas, text, owner)
        self.labelled = labelled or {}
        self.values = values or {}

    def unknown_name(self, node: Name, known: Mapping[str, object], noun: str) -> FormulaError:
        """The error for a name of one part that is nothing, or just the label of a value."""
        error = super().unknown_name(node, known, noun)
        (name,) = node.parts
        if name in self.values:
            error.fix = f"{quoted(name)} is the label of a value: write its formula, {self.values[name]}."
        return error

    def value(self, node: Syntax) -> Expression:
        """A formula that has a value in a cell."""
        return self.whole(node, Scope("cell"))

    def ordered_by(self, ordering: Ordering) -> Expression:
        """What members are ordered by: a formula's value in a cell, or a bare column, which they must determine."""
        node = ordering.formula
        if isinstance(node, Name) and len(node.parts) == 2:
            return self.column_value(node)
        return self.ordering(self.value(node))

    def row_expression(self, node: Syntax, over: Name | None) -> tuple[str, Expression]:
        """A field by formula: the table that it has a value for each row of, and the formula."""
        if over is None and isinstance(node, Call) and node.function == BAND and node.over is not None:
            over = replace(node.over, parts=node.over.parts[:1])
        table = self.table(over) if over is not None else ""
        if not table:
            # Its columns say whose rows are meant; known, these rows are current ones for what nests inside.
            table = self.row_table([self.whole(node, Scope("row"))], node.span, "", Scope("row").opened)
        scope = Scope("row", rows=(table,))
        expression = self.whole(node, scope)
        self.check_home(table, expression, scope.opened)
        return table, expression

    def grain(self, names: tuple[Name, ...]) -> Grain:
        """A grain, which in a request may be a field by its label."""
        (name, *_) = names
        field = self.labelled.get(name.parts[0]) if len(name.parts) == len(names) == 1 else None
        if field is None or name.parts[0] in self.catalog.declaration.tables:
            return super().grain(names)
        return Grain("", (field,))

    def keeps(self) -> tuple[KeepWhere | KeepBest, ...]:
        """The keeps of a request; none may speak of axes, which it has not."""
        reader, scope = ChangeReader(self), Scope("cell")
        found: list[KeepWhere | KeepBest] = []
        for clause in parse_keeps(self.text, self.owner):
            _, changes = reader.read((clause,), scope)
            (one,) = changes
            assert isinstance(one, KeepWhere | KeepBest), "a keep is one"
            word = next(_axis_words(one), None)
            if word is not None:
                grain = one.grain.table or column_name(*one.grain.columns[0])
                raise self.error(
                    f"A keep of a request has no axes, so 'ignoring {word}' has no meaning there.",
                    clause.span,
                    f"For a share, divide by the value over all members: x / x[ignoring {grain}].",
                )
            found.append(one)
        return tuple(found)


def request_keeps(
    formulas: Formulas,
    text: str,
    labelled: Mapping[str, ColumnKey] | None = None,
    values: Mapping[str, str] | None = None,
) -> tuple[KeepWhere | KeepBest, ...]:
    """The keeps of a request, resolved.

    Parameters
    ----------
    formulas : Formulas
        The model's formulas.
    text : str
        The keeps.
    labelled : mapping of str to pair of str, optional
        The columns of the request's fields by their labels.
    values : mapping of str to str, optional
        The formulas of the request's values by their labels.

    Raises
    ------
    FormulaError
        The text is not a formula, or refers to axes.
    """
    return RequestReader(formulas, text, "keep", labelled, values).keeps()


def _axis_words(change: Change) -> Iterator[str]:
    """The words for axes that a change of context ignores somewhere inside, measures that it names with it."""
    pending: list[Expression] = list(formulas_of(change))
    seen: set[int] = set()
    while pending:
        part = pending.pop()
        if id(part) in seen:
            continue
        seen.add(id(part))
        if isinstance(part, InContext):
            for each in part.changes:
                if isinstance(each, Ignoring):
                    yield from (t.word for t in each.targets if isinstance(t, OfSet) and t.word in _AXES)
        pending += inner_of(part)
