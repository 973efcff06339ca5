"""From request to result: resolve, plan, run, put members in order, say what the reader should know."""

from __future__ import annotations

import functools

from msgspec import Struct
from msgspec.structs import replace

from relatum.language.expression import Aggregate, ColumnValue, Expression, FilterPart
from relatum.model.declaration import ColumnSettings
from relatum.model.names import column_name
from relatum.pivot.absent import absent_notes
from relatum.pivot.axes import Resolved, resolve_request
from relatum.pivot.formats import format_of, measure_of, share_notes
from relatum.pivot.grains import ordering_of, wanted_of, with_all_others
from relatum.pivot.line_notes import line_notes
from relatum.pivot.made_of import FormulaPart
from relatum.pivot.recipes import RecipeMaker
from relatum.pivot.request import Request, ValueText
from relatum.pivot.result import Axis, HiddenMembers, PartColumn, Recipe, Result, Value
from relatum.pivot.styling import NO_RULES, CellRules, cell_rules, member_rules, style_notes
from relatum.plan.compile import Wanted
from relatum.plan.engine import Answer
from relatum.plan.nodes import Plan
from relatum.plan.notes import Note, loss_notes, worst_first
from relatum.plan.slots import row_tables
from relatum.runtime.limits import in_force, limit
from relatum.runtime.progress import report_step
from relatum.session.session import Session
from relatum.wording import visible

#: Columns of a calendar that come round every year, and the column that tells the years apart.
_RECURRING = {"month_of_year": "month", "quarter_of_year": "quarter"}
_YEARLY = frozenset({"year", "quarter", "month", "date", "week", "fiscal_year", "fiscal_quarter"})


def answer(session: Session, request: Request, *, with_parts: bool = False, styled: bool = True) -> Result:
    """Ask a session a request.

    Parameters
    ----------
    session : Session
        The model with its data.
    request : Request
        The question.
    with_parts : bool
        Work out the parts that totals over some members may be put together from, too.
    styled : bool
        Work out where style rules hold; conditions of rules are asked without.

    Raises
    ------
    RequestError, FormulaError
        The request names something that is not there, or has too many cells.
    DataError
        A relationship that it needs contradicts the data.
    ValueOverflowError
        A value does not fit in 64 bits.
    """
    with in_force(session.declaration.bounds):
        return _answer(session, request, with_parts, styled)


def query_of(session: Session, request: Request) -> str:
    """The query that answers a request on the engine of a session.

    Raises
    ------
    RequestError
        The engine is asked no queries.
    """
    with in_force(session.declaration.bounds):
        resolved = resolve_request(session, request)
        wanted = wanted_of(resolved, request.show_empty, request.cell_limit or limit("cells"))
        plan, _ = resolved.session.plan(wanted)
        return _comment(resolved, request) + resolved.session.engine.query(plan)


def _comment(resolved: Resolved, request: Request) -> str:
    """What the columns of a query hold, as comments before it."""
    keys = [resolved.fields[at].name for at in resolved.heads]
    lines = [f"k{number}: {name}" for number, name in enumerate(keys)]
    for number, value in enumerate(request.values):
        lines.append(f"v{number}: {value.label}" + (f" = {value.formula}" if value.formula != value.label else ""))
    # A name or formula with a line's end in it would leave its comment.
    return "".join(f"-- {visible(line)}\n" for line in [*lines, *request.filters])


class _Meaning(Struct, frozen=True, eq=False):
    """What a request means in a session, and what is to be noted of it whatever the answer is."""

    resolved: Resolved
    values: tuple[Value, ...]
    notes: tuple[Note, ...]
    facts: tuple[str, ...]


def _meaning(session: Session, request: Request) -> _Meaning:
    resolved = resolve_request(session, request)
    session = resolved.session
    compared = [*(part.expression for part in resolved.filters), *resolved.formulas]
    return _Meaning(
        resolved,
        tuple(_value(session, *each) for each in zip(request.values, resolved.formulas, resolved.made_of, strict=True)),
        (
            *share_notes(session, request, resolved),
            *_recurring_notes(session, resolved),
            *absent_notes(session, compared),
        ),
        row_tables(resolved.formulas),
    )


class _Asked(Struct, frozen=True):
    """All that decides what is carried out for a request."""

    request: Request
    with_parts: bool
    styled: bool
    cell_limit: int


class _Prepared(Struct, frozen=True, eq=False):
    """What is to be carried out for a request, and what its result says whatever the answer is."""

    meaning: _Meaning
    rules: CellRules
    recipes: tuple[Recipe, ...]
    parts: tuple[PartColumn, ...]
    wanted: Wanted
    plan: Plan
    notes: tuple[Note, ...]


def _prepared(session: Session, asked: _Asked) -> _Prepared:
    request = asked.request
    meaning = session.remembered(_meaning, request)
    resolved = meaning.resolved
    session = resolved.session
    rules = cell_rules(session, request, resolved.formulas) if asked.styled else NO_RULES
    maker = RecipeMaker(session, resolved.fields)
    recipes = tuple(map(maker.recipe, resolved.formulas)) if asked.with_parts else ()
    first = len(resolved.formulas) + len(rules.conditions)
    wanted = replace(
        wanted_of(with_all_others(resolved) if asked.with_parts else resolved, request.show_empty, asked.cell_limit),
        beside=(*rules.conditions, *(part.expression for part in maker.parts)),
        tells_hidden=asked.with_parts,
    )
    plan, notes = session.plan(wanted)
    return _Prepared(
        meaning=meaning,
        rules=rules,
        recipes=recipes,
        parts=tuple(PartColumn(first + number, part.merge) for number, part in enumerate(maker.parts)),
        wanted=wanted,
        plan=plan,
        notes=tuple(notes),
    )


def _answer(session: Session, request: Request, with_parts: bool, styled: bool) -> Result:
    asked = _Asked(request, with_parts, styled, request.cell_limit or limit("cells"))
    prepared = session.remembered(_prepared, asked)
    resolved, rules, plan, wanted = prepared.meaning.resolved, prepared.rules, prepared.plan, prepared.wanted
    session = resolved.session
    report_step("computing the answer")
    found = session.engine.run(plan)
    notes = [*prepared.notes, *loss_notes(found.losses), *line_notes(resolved, wanted, found), *prepared.meaning.notes]
    declaration = session.declaration
    valued = [each for each, grain in zip(found.cells, wanted.grains, strict=True) if grain.values]
    others = frozenset(at for at in range(len(resolved.heads)) if resolved.head(at).others)
    shown = [each for each in valued if each.others <= others]
    orders = {each.keys[-1]: each for each in found.cells if each.orders}
    axes = tuple(_axis(resolved, position, found) for position in range(len(resolved.fields)))
    notes += style_notes(request, axes)
    return Result(
        request=request,
        model=declaration.name,
        locale=declaration.locale,
        currency=declaration.currency,
        axes=axes,
        row_count=sum(field.axis == "rows" for field in resolved.fields),
        fields=resolved.heads,
        values=prepared.meaning.values,
        cells=tuple(shown),
        orders=orders,
        notes=worst_first(notes),
        rules=rules.rules,
        member_rules=member_rules(session, request, resolved, axes, functools.partial(answer, styled=False))
        if styled
        else (),
        theme=declaration.theme,
        facts=prepared.meaning.facts,
        recipes=prepared.recipes,
        parts=prepared.parts,
        hidden=tuple(
            HiddenMembers(top.key, top.outer, each.codes)
            for top, each in zip(plan.tops, found.left_out, strict=True)
            if each.codes is not None
        ),
        unseen=tuple(each for each in valued if not each.others <= others),
    )


def _value(session: Session, value: ValueText, expression: Expression, parts: tuple[FormulaPart, ...]) -> Value:
    measure = measure_of(session, value.formula)
    own = measure is not None and value.label == " ".join(value.formula.split())
    heading = measure.label if own and measure is not None and measure.label else value.label
    about = measure.about if measure is not None else ""
    return Value(
        label=value.label,
        formula=value.formula,
        type=expression.type,
        format=format_of(session, value),
        heading=heading,
        about=about,
        parts=parts,
    )


def _axis(resolved: Resolved, position: int, found: Answer) -> Axis:
    field = resolved.fields[position]
    session = resolved.session
    table, column = field.field.table, field.field.column
    order = session.catalog.order(table, column)
    head = resolved.fields[position if field.attribute_of is None else field.attribute_of]
    attribute = None
    if field.attribute_of is not None:
        route = session.catalog.lookup(head.field.table, table, column)
        assert route is not None, "a field looks up what it determines"
        codes = session.store.attribute(head.field.table, head.field.column, route, table, column).codes
        attribute = field.attribute_of, codes
    number = resolved.heads.index(position) if attribute is None else -1
    declaration = session.declaration
    calendar = declaration.tables[declaration.rows_of(table)].calendar
    settings = ColumnSettings() if field.formula else declaration.settings(table, column)
    period = column if calendar is not None and not field.formula else ""
    return Axis(
        table=table,
        column=column,
        label=field.label,
        name=field.name,
        members=session.store.members(table, column),
        rank=session.store.order(table, column, order),
        attribute=attribute,
        opened=found.opened.get(number),
        total=head.total,
        descending=tuple(each.descending for each in (ordering_of(resolved, number) if attribute is None else ())),
        banded=order.banded,
        side=field.axis,
        source=field.source,
        format=settings.format,
        period=period,
        colours=settings.colours,
    )


# -- notes ------------------------------------------------------------------------------------------------------------


def _recurring_notes(session: Session, resolved: Resolved) -> list[Note]:
    notes = []
    fields = [each.field for each in resolved.fields]
    for field in fields:
        owner = session.declaration.rows_of(field.table)
        apart = _RECURRING.get(field.column)
        on_axes = {other.column for other in fields if other.table == field.table}
        if session.declaration.tables[owner].calendar is None or apart is None or on_axes & _YEARLY:
            continue
        years = _years(session, field.table, resolved.filters)
        if years > 1:
            notes.append(
                Note(
                    "recurring",
                    f"{column_name(field.table, field.column)} combines {years} years: "
                    f"{column_name(field.table, apart)} keeps them separate.",
                )
            )
    return notes


def _years(session: Session, table: str, filters: tuple[FilterPart, ...]) -> int:
    type_ = session.catalog.columns(table)["year"]
    years = Aggregate("count_distinct", (ColumnValue(table, "year", type_),), table, type_, repeat=True)
    plan, _ = session.plan(Wanted((), (years,), filters))
    return int(session.engine.run(plan).cells[0].values[0].values[0])
