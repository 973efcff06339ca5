"""``relatum show``."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from relatum.cli.commands import Format, format_option, model_file, opening_command
from relatum.cli.output import console, listing, print_json
from relatum.wording import counted, value_text, visible

if TYPE_CHECKING:
    from relatum.audit.overview import Overview, RelationshipOverview, TableOverview


@opening_command
@model_file
@click.argument("name", default="", metavar="[NAME]", help="A table, table.column, measure, hierarchy or saved pivot.")
@format_option
def show(file: Path, name: str, format: Format) -> None:
    """List tables with their sizes, relationships and measures.

    Example: relatum show hollowmere/nursery.toml product
    """
    import relatum
    from relatum.audit.overview import overview

    found = overview(relatum.open(file).session, name)
    if format == "json":
        print_json(found)
    else:
        _print(found, bool(name))


def _print(found: Overview, one: bool) -> None:
    from rich.text import Text

    out = console()
    if not one:
        out.print(Text(visible(found.model), style="bold"))
        _print_tables(out, found.tables)
    for table in found.tables if one else ():
        _print_columns(out, table)
    if found.relationships:
        _print_relationships(out, found)
    if found.measures:
        _print_measures(out, found)
    _print_rest(out, found)


def _print_tables(out: Any, tables: tuple[TableOverview, ...]) -> None:
    lines = listing("table", "kind", "rows", "columns", "memory", "about", numbers=("rows", "columns", "memory"))
    for table in tables:
        away = [column.stored for column in table.columns if column.stored.startswith("on ")]
        held = away[0] if len(away) == len(table.columns) and away else size_text(table.bytes)
        lines.add_row(table.name, table.kind, f"{table.rows:,}", str(len(table.columns)), held, table.about)
    total = sum(table.bytes for table in tables)
    lines.add_row("total", "", f"{sum(table.rows for table in tables):,}", "", size_text(total), "", style="bold")
    out.print(lines)
    derived = [(table, column) for table in tables for column in table.columns if column.derived and column.bytes]
    if derived:
        shown = ", ".join(f"{table.name}.{column.name} {size_text(column.bytes)}" for table, column in derived)
        stored = size_text(sum(table.derived_bytes for table in tables))
        out.print(f"of which {stored} in stored derived columns: {shown}")


def _print_columns(out: Any, table: TableOverview) -> None:
    from rich.text import Text

    key = visible(f", key {', '.join(table.key)}") if table.key else ""
    source = f", from {table.source}" if table.source else ""
    out.print(
        Text.assemble((visible(table.name), "bold"), f"  {table.kind}, {counted(table.rows, 'row')}{key}{source}")
    )
    if table.about:
        out.print(Text(table.about, style="dim"))
    lines = listing("column", "type", "members", "nulls", "stored as", "memory", "formula",
                     numbers=("members", "nulls", "memory"))  # fmt: skip
    one = len(table.columns) == 1
    for column in table.columns:
        if column.hidden and not one:
            continue
        formula = Text(column.formula)
        if column.about:
            formula.append(f"\n{column.about}" if column.formula else column.about, style="dim")
        lines.add_row(
            Text(visible(column.name), style="bold" if column.formula else ""),
            column.type,
            f"{column.members:,}",
            f"{column.nulls:,}" if column.nulls else "",
            column.stored,
            "–" if column.stored.startswith("on ") else size_text(column.bytes),
            formula,
        )
    out.print(lines)
    hidden = [column.name for column in table.columns if column.hidden and not one]
    if hidden:
        out.print(Text(f"hidden: {', '.join(hidden)}", style="dim"))


def _print_relationships(out: Any, found: Overview) -> None:
    from rich.text import Text

    sided = [each for each in found.relationships if each.cardinality != "n : n"]
    for heads, relationships in (
        (("one side", "many side"), sided),
        (("one table", "the other"), [each for each in found.relationships if each not in sided]),
    ):
        if relationships:
            out.print()
            _print_sides(out, heads, relationships)
    for each in found.relationships:
        if each.problem:
            out.print(Text(each.problem, style="red"))


def _print_sides(out: Any, heads: tuple[str, str], relationships: list[RelationshipOverview]) -> None:
    from rich.text import Text

    from relatum.wording import percent

    lines = listing(*heads, "", "filters", "coverage", "rows", numbers=("coverage", "rows"))
    lines.padding = (0, 1, 0, 0)
    ends_of = zip(*((each.one, each.many) for each in relationships), strict=True)
    for column, ends in zip(lines.columns[:2], ends_of, strict=True):
        # Ends of several columns may be broken between them, never inside a name.
        column.min_width = max(len(word) for end in ends for word in end.split(" "))
    for each in relationships:
        share = "" if each.coverage is None else percent(each.matched, each.rows, 2)
        shade = "yellow" if each.matched < each.rows else ""
        lines.add_row(
            each.one,
            each.many,
            " ".join(filter(None, [each.cardinality, each.match])),
            each.filters,
            Text("refused", style="bold red") if each.problem else Text(share, style=shade),
            f"{each.rows:,}",
        )
    out.print(lines)


def _print_rest(out: Any, found: Overview) -> None:
    from rich.text import Text

    if found.hierarchies:
        out.print()
        lines = listing("hierarchy", "levels")
        for hierarchy in found.hierarchies:
            lines.add_row(hierarchy.name, " > ".join(hierarchy.levels))
        out.print(lines)
    if found.pivots:
        out.print()
        lines = listing("pivot", "", "request")
        for pivot in found.pivots:
            axes = [("rows", pivot.rows), ("columns", pivot.columns), ("values", pivot.values)]
            texts = [(word, ", ".join(part)) for word, part in axes] + [("where", pivot.where), ("keep", pivot.keep)]
            texts += [("values on", pivot.values_on), ("totals", "" if pivot.totals else "none")]
            texts += [("empty", "shown" if pivot.show_empty else "")]
            asked = [(word, Text(text)) for word, text in texts if text]
            asked += [("", Text(pivot.about, style="dim"))] if pivot.about else []
            for place, (word, words) in enumerate(asked):
                lines.add_row(Text("" if place else visible(pivot.name), style="bold"), Text(word, style="dim"), words)
        out.print(lines)
    if found.reports:
        out.print()
        lines = listing("report", "what it shows")
        for report in found.reports:
            for place, part in enumerate(report.parts):
                lines.add_row(Text("" if place else visible(report.name), style="bold"), part)
        out.print(lines)
    if found.controls:
        out.print()
        lines = listing("", "measure", "at", "equals", numbers=("equals",))
        for number, control in enumerate(found.controls, 1):
            at = ", ".join(f"{column} = {value}" for column, value in control.at.items())
            lines.add_row(f"control {number}", control.measure, at, value_text(control.equals))
        out.print(lines)


def _print_measures(out: Any, found: Overview) -> None:
    from rich.text import Text

    out.print()
    lines = listing("measure", "formula", "format")
    for measure in found.measures:
        formula = Text(measure.formula)
        if measure.about:
            formula.append(f"\n{measure.about}", style="dim")
        lines.add_row(Text(visible(measure.name), style="bold"), formula, measure.format)
        for part in measure.parts:
            name = Text("  " * part.depth + part.name, style="" if part.formula else "dim")
            shown = "shown above" if part.again and part.formula else part.formula or part.what
            lines.add_row(name, Text(shown, style="" if part.formula and not part.again else "dim"), "")
    out.print(lines)


def size_text(size: float) -> str:
    """Bytes in a unit that a person reads: ``1.4 MB``."""
    for unit in ("B", "kB", "MB"):
        if size < 1000:
            return f"{size:,.0f} {unit}" if unit == "B" or size >= 100 else f"{size:.1f} {unit}"
        size /= 1000
    return f"{size:,.1f} GB"
