"""An explanation, as a person reads it."""

from __future__ import annotations

import functools
from collections.abc import Callable, Mapping
from decimal import Decimal
from typing import Any

from msgspec import Struct

from relatum import markup
from relatum.arguments import checked
from relatum.audit.cell.filters import member_text
from relatum.audit.cell.location import OTHERS
from relatum.audit.cell.records import CellStory, Difference, Evidence, PartStep
from relatum.data.types import FLOAT, INTEGER, Type, decimal
from relatum.errors import RequestError
from relatum.immutable import as_plain
from relatum.language.parse import parse_condition
from relatum.language.tree import Literal, Name, Operation, conjuncts
from relatum.model.looks import PLAIN, Format
from relatum.model.names import column_name
from relatum.pivot.turning import NO_MATCH
from relatum.present.numbers import BLANK, formatter, plain
from relatum.present.printed import print_blocks, printed
from relatum.wording import agreeing, counted

#: How many members of a difference are shown.
_MOVED = 10


#: How many steps of a change are drawn by name.
_STEPS = 10


@checked
class Explanation:
    """Why a cell is what it is: the filters in force, the formula part by part, the rows behind it.

    Printing it shows everything. ``value`` is the cell's value, ``reason`` why it has none, ``filters``, ``parts`` and
    ``evidence`` are what is shown, ``difference`` what moved between two cells.

    Parameters
    ----------
    story : CellStory
        What was found.
    whole : callable
        Finds it again with all rows listed.
    evaluate : callable
        A measure's value under a condition.
    """

    def __init__(self, story: CellStory, whole: Callable[[], CellStory], evaluate: Callable[[str, str], Any]) -> None:
        self.story = story
        self._whole = functools.cache(whole)
        self._evaluate = evaluate

    @property
    def value(self) -> Any:
        """The cell's value; None where it has none."""
        return self.story.result

    @property
    def reason(self) -> str:
        """Why the cell has no value, in a few words; empty where it has one."""
        return self.story.reason

    @property
    def filters(self) -> tuple[Any, ...]:
        """The filters on the rows of the first aggregate, with the rows that each leaves."""
        return self.story.filters

    @property
    def parts(self) -> tuple[PartStep, ...]:
        """The parts of the formula, outer ones first, each with its value in the cell."""
        return self.story.parts

    @property
    def evidence(self) -> tuple[Evidence, ...]:
        """What is behind each aggregate, in the order of the formula; the first few rows of each are listed."""
        return self.story.evidence

    @property
    def difference(self) -> Difference | None:
        """The difference to the cell that this one is compared with."""
        return self.story.difference

    @property
    def rows(self) -> Any:
        """All rows (or members) behind the first aggregate, as a ``pyarrow.Table``.

        Raises
        ------
        RequestError
            The formula has no aggregate.
        """
        return self.rows_of(0)

    def rows_of(self, number: int) -> Any:
        """All rows, members or distinct values behind an aggregate, by its number in :attr:`evidence`.

        Raises
        ------
        RequestError
            There is no such aggregate.
        """
        whole = self._whole().evidence
        if not 0 <= number < len(whole):
            raise RequestError(f"The formula has {len(whole)} aggregates with rows; there is no number {number}.")
        return whole[number].table

    def as_control(self) -> dict[str, Any]:
        """The cell as a control total: what ``model.control(**explanation.as_control())`` adds.

        Raises
        ------
        RequestError
            The value is not a measure or is null; the cell is not described by columns that equal values; or the value
            depends on the axes.
        """
        story = self.story
        measure = story.parts[0]
        if measure.kind != "measure" and measure.text != story.formula:
            raise RequestError("A control needs a measure.", fix="Name the formula first: relatum edit FILE measure.")
        if story.result is None:
            raise RequestError("A control needs a value, and this cell has none.")
        at = {**_equalities(story.where), **dict(story.cell)}
        if story.keep or any(value is None or value is NO_MATCH or value is OTHERS for value in at.values()):
            raise RequestError(
                "A control needs a value for each column, and this cell cannot be described that way.",
                fix="Choose a cell of plain members, without keep, null, no match or others.",
            )
        # A file keeps fifteen digits of a number with a fraction.
        value = story.result
        inexact = isinstance(value, float) or (isinstance(value, Decimal) and Decimal(repr(float(value))) != value)
        tolerance = abs(float(value)) * 1e-12 if inexact else 0
        pinned = {"measure": story.value, "equals": story.result, "at": at, "tolerance": tolerance}
        condition = " and ".join(f"{column} {member_text(value)}" for column, value in at.items())
        if self._evaluate(story.formula, condition) != story.result:
            raise RequestError(
                f"{story.value} depends on the axes, but a control has no axes.",
                fix="Choose a measure that does not refer to axes.",
            )
        return pinned

    # -- drawn --------------------------------------------------------------------------------------------------------

    def steps(self, write: Callable[[Any], str] | None = None) -> Any:
        """The difference as steps from one value to the other, as a chart draws them: the largest ones by name.

        Parameters
        ----------
        write : callable, optional
            Writes a value; as the explanation does unless given.

        Raises
        ------
        RequestError
            Two cells were not compared, or their difference has no parts.
        """
        from relatum.present.charts.plan import Steps

        story = self.story
        difference = story.difference
        if difference is None or not difference.parts or difference.before is None or difference.after is None:
            raise RequestError(
                "There are no steps to draw.", fix="Compare with another cell that has a value: against."
            )
        parts = [each for each in difference.parts if each.part]
        largest = sorted(parts, key=lambda each: -abs(each.part))[:_STEPS]
        named = [each for each in parts if each in largest]
        rest = difference.total - sum((each.part for each in named), type(difference.total)(0))

        def usual(value: Any) -> str:
            return self.written(value, story.type, story.format)

        written = write or usual

        def signed(value: Any) -> str:
            return _signed(written, value)

        cells = difference.other, story.cell
        ends = [", ".join(plain(member) for _, member in cell) or "total" for cell in cells]
        lines = [(ends[0], difference.before, written(difference.before))]
        lines += [(each.name, each.part, signed(each.part)) for each in named]
        if len(parts) > len(named):
            lines.append((f"{len(parts) - len(named)} others", rest, signed(rest)))
        lines.append((ends[1], difference.after, written(difference.after)))
        names, numbers, texts = zip(*lines, strict=True)
        return Steps(names, tuple(map(float, numbers)), texts)

    # -- shown --------------------------------------------------------------------------------------------------------

    def __str__(self) -> str:
        return printed(lambda console: print_blocks(self.blocks().every, console), 110)

    __repr__ = __str__

    def _repr_html_(self) -> str:
        return markup.html(self.blocks().every)

    def blocks(self) -> Blocks:
        """The explanation in blocks, for whatever draws them."""
        return _blocks(self)

    def written(self, value: Any, type_: Type, format: Format = PLAIN) -> str:
        """A value as it is shown."""
        if value is None:
            return format.blank or BLANK
        return formatter(type_, format, [value], self.story.locale, self.story.currency)(value)

    def cell_text(self, cell: tuple[tuple[str, Any], ...]) -> str:
        """Where a cell is: its fields and members."""
        return ", ".join(f"{name} {member_text(member)}" for name, member in cell) or "the grand total"


def _equalities(where: str) -> dict[str, Any]:
    """A condition as columns and the values that they equal."""
    found: dict[str, Any] = {}
    if not where:
        return found
    for part in conjuncts(parse_condition(where).formula):
        match part:
            case Operation("=", (Name((table, column)), Literal(value, type_))) if not type_.scale:
                found[column_name(table, column)] = value
            case _:
                raise RequestError(
                    "A control needs a value for each column, and this condition cannot be described that way.",
                    fix="Choose a cell whose condition is made of parts like table.column = 'member', joined by and.",
                )
    return found


# -- printing ---------------------------------------------------------------------------------------------------------


def _come_to(explanation: Explanation, evidence: Evidence) -> str:
    """How many more rows there are than those listed, and what the listed ones come to, to the last digit."""
    listed = evidence.table.num_rows
    more = [counted(evidence.count - listed, f"more {evidence.kind[:-1]}")] if evidence.count > listed else []
    if evidence.shown is None or evidence.kind == "values":
        return "".join(more)
    shown, value = (_exactly(explanation, each) for each in (evidence.shown, evidence.value))
    sum_of = f"the {listed:,} listed {agreeing(listed, 'comes', 'come')} to {shown}"
    return "; ".join([*more, f"{sum_of}, all to {value}" if more else sum_of])


def _what(evidence: Evidence) -> str:
    source = f" of {evidence.source}" if evidence.source else ""
    if evidence.kind == "values":
        return f"{counted(evidence.count, 'distinct value')}{source}"
    return f"{counted(evidence.count, 'row')}{source}"


def _exactly(explanation: Explanation, value: Any) -> str:
    """A value with all its digits."""
    match value:
        case bool():
            return plain(value)
        case int():
            return explanation.written(value, INTEGER)
        case Decimal():
            return explanation.written(value, decimal(max(0, -int(value.as_tuple().exponent))))
        case float():
            return explanation.written(value, FLOAT, Format(pattern="#,##0.##############"))
        case _:
            return plain(value)


def _all_numbers(values: list[Any]) -> bool:
    return all(isinstance(each, int | float | Decimal) for each in values if each is not None)


def _signed(written: Callable[[Any], str], value: Any) -> str:
    return f"+{written(value)}" if value > 0 else written(value)


def as_mapping(explanation: Explanation) -> Mapping[str, Any]:
    """An explanation as plain values, for programs."""
    story: dict[str, Any] = as_plain(explanation.story)
    for record, each in zip(story["evidence"], explanation.story.evidence, strict=True):
        record["table"] = each.table.to_pylist()
    return story


class Blocks(Struct, frozen=True):
    """An explanation in blocks: the cell and its formula, what is behind each aggregate, the difference, the notes."""

    title: markup.Block
    head: list[markup.Block]
    evidence: list[list[markup.Block]]
    difference: list[markup.Block]
    notes: list[markup.Block]

    @property
    def every(self) -> list[markup.Block]:
        """All of them in their order."""
        evidence = (block for blocks in self.evidence for block in blocks)
        return [self.title, *self.head, *evidence, *self.difference, *self.notes]


def _blocks(explanation: Explanation) -> Blocks:
    story = explanation.story
    shown = explanation.written(story.result, story.type, story.format)
    value = markup.Text(shown, bold=True, tone="" if story.result is None else "good")
    head: list[markup.Block] = [
        markup.line(f"{story.value} ", value, bold=True),
        markup.line(f"at {explanation.cell_text(story.cell)}", tone="context"),
    ]
    for word, text in (("where", story.where), ("keep", story.keep), ("short for", story.expansion)):
        head += [markup.line(f"{word} {text}", tone="faint" if word == "short for" else "context")] if text else []
    head += [markup.line(f"no value, {story.reason}: {story.because}", tone="notable")] if story.reason else []
    head.append(_formula_block(explanation))
    evidence = [_evidence_blocks(explanation, each, number) for number, each in enumerate(story.evidence, 1)]
    difference = [] if story.difference is None else _difference_blocks(explanation, story.difference)
    notes = [markup.line(f"note: {each}", tone="notable") for each in story.notes if not story.reason]
    return Blocks(markup.line(story.model, bold=True), head, evidence, difference, list(notes))


def _formula_block(explanation: Explanation) -> markup.Block:
    rows: list[markup.Row] = []
    for part in explanation.parts:
        number = "" if part.evidence is None else f"[{part.evidence + 1}]"
        value = explanation.written(part.value, part.type, part.format if part.depth else explanation.story.format)
        text = markup.Text("  " * part.depth + part.text, bold=part.kind == "measure", prose=True)
        note = markup.Text(" ".join([number, *part.note]).strip(), tone="faint", prose=True)
        rows.append([text, markup.Text(value, number=True), note])
    return markup.Table([["formula", markup.Text("value", number=True), ""]], rows, apart=True)


def _evidence_blocks(explanation: Explanation, evidence: Evidence, number: int) -> list[markup.Block]:
    head = markup.Text(f"[{number}] {evidence.text}", bold=True)
    blocks: list[markup.Block] = [markup.line(head, f" over {_what(evidence)}", apart=True)]
    filters: list[markup.Row] = []
    for each in evidence.filters:
        route = "does not reach it" if each.route is None else " -> ".join(each.route)
        filters.append([each.text, each.origin, route, markup.Text(counted(each.after, "row"), number=True)])
    if filters:
        before = markup.Text(counted(evidence.filters[0].before, "row"), number=True)
        blocks.append(markup.Table([], [[f"all of {evidence.source}", "", "", before], *filters]))
    blocks += [markup.line(f"{name}: {_exactly(explanation, value)}") for name, value in evidence.parts]
    blocks += [markup.line(loss, tone="notable") for loss in evidence.losses]
    frame = evidence.table
    columns = [column.to_pylist() for column in frame.columns]
    numbers = [_all_numbers(values) for values in columns]
    lines: list[markup.Row] = [
        [markup.Text(plain(each), number) for each, number in zip(line, numbers, strict=True)]
        for line in zip(*columns, strict=True)
    ]
    if lines:
        heads = [markup.Text(name, number) for name, number in zip(frame.column_names, numbers, strict=True)]
        blocks.append(markup.Table([heads], lines))
        come_to = _come_to(explanation, evidence)
        blocks += [markup.line(come_to, tone="faint")] if come_to else []
    return blocks


def _difference_blocks(explanation: Explanation, difference: Difference) -> list[markup.Block]:
    story = explanation.story

    def written(value: Any) -> markup.Text:
        return markup.Text(explanation.written(value, story.type, story.format), number=True)

    def moved(value: Any) -> markup.Text:
        return markup.Text(_signed(lambda each: written(each).text, value), number=True)

    head = markup.Text("difference", bold=True)
    ends = f"{written(difference.before).text} before, {written(difference.after).text} now"
    lines: list[markup.Row] = [
        [each.name, written(each.before), written(each.after), moved(each.part)]
        for each in difference.shortened(_MOVED)
    ]
    heads: markup.Row = [f"by {difference.by}", *(markup.Text(each, number=True) for each in ("before", "now", "part"))]
    blocks: list[markup.Block] = [
        markup.line(head, f" to {explanation.cell_text(difference.other)}", apart=True),
        markup.line(f"{ends}: {moved(difference.total).text}"),
        *([markup.Table([heads], lines)] if lines else []),
    ]
    if difference.factors:
        factors: list[markup.Row] = [[each.name, moved(each.part)] for each in difference.factors]
        blocks.append(markup.Table([["by what moved", markup.Text("part", number=True)]], factors))
    return blocks
