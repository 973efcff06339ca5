"""An overview as a person reads it: tables or the columns of one, relationships, measures and the rest."""

from __future__ import annotations

from msgspec.structs import replace

from relatum.audit.overview import Overview, RelationshipOverview, TableOverview
from relatum.markup import Block, Row, Table, Text, Tone, line
from relatum.model.declaration import SavedPivot
from relatum.wording import counted, percent, value_text


def overview_blocks(found: Overview, one: bool) -> list[Block]:
    """What is listed, each list apart: all tables, or the columns of the ``one`` thing that was named."""
    blocks = [] if one else [line(found.model, bold=True), *_tables(found.tables)]
    for table in found.tables if one else ():
        blocks += _columns(table)
    lists = [*_relationships(found), *_measures(found), *_rest(found)]
    return [*blocks, *lists] if blocks else [replace(each, apart=each is not lists[0] and each.apart) for each in lists]


def _number(text: str) -> Text:
    return Text(text, number=True)


def _tables(tables: tuple[TableOverview, ...]) -> list[Block]:
    rows: list[Row] = []
    for table in tables:
        away = [column.stored for column in table.columns if column.stored.startswith("on ")]
        held = away[0] if len(away) == len(table.columns) and away else size_text(table.bytes)
        numbers = map(_number, (f"{table.rows:,}", str(len(table.columns)), held))
        rows.append([table.name, table.kind, *numbers, Text(table.about, prose=True)])
    total = sum(table.bytes for table in tables)
    sums = ("total", ""), (f"{sum(table.rows for table in tables):,}", "", size_text(total))
    rows.append([*(Text(text, bold=True) for text in sums[0]), *(Text(text, True, bold=True) for text in sums[1]), ""])
    blocks: list[Block] = [Table([["table", "kind", "rows", "columns", "memory", "about"]], rows)]
    derived = [(table, column) for table in tables for column in table.columns if column.derived and column.bytes]
    if derived:
        shown = ", ".join(f"{table.name}.{column.name} {size_text(column.bytes)}" for table, column in derived)
        stored = size_text(sum(table.derived_bytes for table in tables))
        blocks.append(line(f"of which {stored} in stored derived columns: {shown}"))
    return blocks


def _columns(table: TableOverview) -> list[Block]:
    key = f", key {', '.join(table.key)}" if table.key else ""
    source = f", from {table.source}" if table.source else ""
    said = f"  {table.kind}, {counted(table.rows, 'row')}{key}{source}"
    blocks: list[Block] = [line(Text(table.name, bold=True), said)]
    blocks += [line(Text(table.about, tone="faint", prose=True))] if table.about else []
    one = len(table.columns) == 1
    rows: list[Row] = []
    for column in table.columns:
        if column.hidden and not one:
            continue
        memory = "–" if column.stored.startswith("on ") else size_text(column.bytes)
        rows.append(
            [
                Text(column.name, bold=bool(column.formula)),
                column.type,
                _number(f"{column.members:,}"),
                _number(f"{column.nulls:,}" if column.nulls else ""),
                column.stored,
                _number(memory),
                _described(column.formula, column.about),
            ]
        )
    blocks.append(Table([["column", "type", "members", "nulls", "stored as", "memory", "formula"]], rows))
    hidden = [column.name for column in table.columns if column.hidden and not one]
    return [*blocks, line(f"hidden: {', '.join(hidden)}", tone="faint")] if hidden else blocks


def _described(formula: str, about: str) -> tuple[Text, ...]:
    """A formula, and below it what it is about."""
    below = f"\n{about}" if formula and about else about
    return Text(formula, prose=True), Text(below, tone="faint", prose=True)


def _relationships(found: Overview) -> list[Block]:
    sided = [each for each in found.relationships if each.cardinality != "n : n"]
    others = [each for each in found.relationships if each not in sided]
    parts = ((("one side", "many side"), sided), (("one table", "the other"), others))
    blocks: list[Block] = [_sides(heads, relationships) for heads, relationships in parts if relationships]
    return blocks + [line(Text(each.problem, tone="bad", prose=True)) for each in found.relationships if each.problem]


def _sides(heads: tuple[str, str], relationships: list[RelationshipOverview]) -> Table:
    rows: list[Row] = []
    for each in relationships:
        share = "" if each.coverage is None else percent(each.matched, each.rows, 2)
        tone: Tone = "notable" if each.matched < each.rows else ""
        rows.append(
            [
                Text(each.one, prose=True),
                Text(each.many, prose=True),
                " ".join(filter(None, [each.cardinality, each.match])),
                each.filters,
                Text("refused", True, tone="bad") if each.problem else Text(share, True, tone=tone),
                _number(f"{each.rows:,}"),
            ]
        )
    return Table([[*heads, "", "filters", "coverage", "rows"]], rows, apart=True)


def _measures(found: Overview) -> list[Block]:
    rows: list[Row] = []
    for measure in found.measures:
        rows.append([Text(measure.name, bold=True), _described(measure.formula, measure.about), measure.format])
        for part in measure.parts:
            shown = "shown above" if part.again and part.formula else part.formula or part.what
            name = Text("  " * part.depth + part.name, tone="" if part.formula else "faint")
            rows.append([name, Text(shown, tone="" if part.formula and not part.again else "faint", prose=True), ""])
    return [Table([["measure", "formula", "format"]], rows, apart=True)] if rows else []


def _rest(found: Overview) -> list[Block]:
    hierarchies: list[Row] = [[each.name, Text(" > ".join(each.levels), prose=True)] for each in found.hierarchies]
    reports: list[Row] = [
        [Text("" if place else report.name, bold=True), Text(part, prose=True)]
        for report in found.reports
        for place, part in enumerate(report.parts)
    ]
    controls: list[Row] = []
    for number, control in enumerate(found.controls, 1):
        at = ", ".join(f"{column} = {value}" for column, value in control.at.items())
        equals = _number(value_text(control.equals))
        controls.append([f"control {number}", control.measure, Text(at, prose=True), equals])
    parts = (
        (["hierarchy", "levels"], hierarchies),
        (["pivot", "", "request"], [row for pivot in found.pivots for row in _pivot(pivot)]),
        (["report", "what it shows"], reports),
        (["", "measure", "at", "equals"], controls),
    )
    return [Table([heads], rows, apart=True) for heads, rows in parts if rows]


def _pivot(pivot: SavedPivot) -> list[Row]:
    axes = [("rows", pivot.rows), ("columns", pivot.columns), ("values", pivot.values)]
    texts = [(word, ", ".join(part)) for word, part in axes] + [("where", pivot.where), ("keep", pivot.keep)]
    texts += [("values on", pivot.values_on), ("totals", "" if pivot.totals else "none")]
    texts += [("empty", "shown" if pivot.show_empty else "")]
    asked = [(word, Text(text, prose=True)) for word, text in texts if text]
    asked += [("", Text(pivot.about, tone="faint", prose=True))] if pivot.about else []
    return [
        [Text("" if place else pivot.name, bold=True), Text(word, tone="faint"), said]
        for place, (word, said) in enumerate(asked)
    ]


def size_text(size: float) -> str:
    """Bytes in a unit that a person reads: ``1.4 MB``."""
    for unit in ("B", "kB", "MB"):
        if size < 1000:
            return f"{size:,.0f} {unit}" if unit == "B" or size >= 100 else f"{size:.1f} {unit}"
        size /= 1000
    return f"{size:,.1f} GB"
