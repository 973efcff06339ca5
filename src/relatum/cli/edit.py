"""``relatum edit``."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from relatum.cli.commands import command, model_file
from relatum.cli.output import say, tell
from relatum.wording import one_line

if TYPE_CHECKING:
    from relatum.face.model import Model

about_option = click.option("--about", metavar="TEXT", help="What it means.")
label_option = click.option("--label", metavar="TEXT", help="The heading in grids.")
pattern_option = click.option("--format", metavar="PATTERN", help="How its members are formatted.")
order_by_option = click.option("--order-by", metavar="COLUMN", help="The column its members are sorted by.")
null_option = click.option("--null", multiple=True, metavar="TEXT", help="A text that means null; repeat for several.")
column_argument = click.argument("name", metavar="TABLE.COLUMN")
dry_run_option = click.option("--dry-run", is_flag=True, help="Show what would change and leave the file unchanged.")
name_argument = click.argument("name", metavar="NAME")


@click.group(
    short_help="Change a model file.",
    epilog="Example: relatum edit hollowmere/nursery.toml rename sales.quantity pieces",
)
@model_file
@click.pass_context
def edit(context: click.Context, file: Path) -> None:
    """Change a model file.

    Dependants are shown first. Comments and order are kept. The file is changed in one step or not at all.
    """
    context.obj = file


def _edits(function: Callable[..., None]) -> click.Command:
    made = command(click.pass_obj(function))
    edit.add_command(made)
    return made


@_edits
@click.argument("name", help="A table, table.column, measure or hierarchy.")
@click.argument("new", metavar="NEW", help="Its new name, without the table's.")
@dry_run_option
def rename(file: Path, name: str, new: str, dry_run: bool) -> None:
    """Rename something, and every reference to it."""
    _carry_out(file, name, lambda model: model.rename(name, new), dry_run, "rewrites")


@_edits
@click.argument("name", help="A table, derived column, measure, hierarchy, relationship ('a.x -> b.x') or 'control 1'.")
@click.option("--force", is_flag=True, help="Also remove everything that needs it.")
@dry_run_option
def remove(file: Path, name: str, force: bool, dry_run: bool) -> None:
    """Remove something that nothing else needs."""
    _carry_out(file, name, lambda model: model.remove(name, force=force), dry_run, "breaks")


@_edits
@click.argument("link", metavar="LINK", help="'sales.product_id -> product.product_id'.")
@click.option("--direction", default="", help="down, both or off; of many to many left, right or both.")
@click.option("--match", default="equal", help="equal, or as_of: the latest that is not after it.")
@click.option("--level", is_flag=True, help="Relate to a level of the table, not to its key.")
@click.option("--standby", is_flag=True, help="Use it only where a formula says via.")
@dry_run_option
def relate(file: Path, link: str, direction: str, match: str, level: bool, standby: bool, dry_run: bool) -> None:
    """Add or replace a relationship."""

    def change(model: Model) -> object:
        return model.relate(link, direction=direction, match=match, level=level, standby=standby, replace=True)

    _carry_out(file, link, change, dry_run, "concerns")


@_edits
@name_argument
@click.argument("formula", metavar="FORMULA")
@click.option("--format", help="A number pattern: '#,##0.00'.")
@click.option("--about", help="What it means.")
@dry_run_option
def measure(file: Path, name: str, formula: str, format: str | None, about: str | None, dry_run: bool) -> None:
    """Add a measure, or change its formula."""

    def change(model: Model) -> None:
        from relatum.face.editing import write_measure

        write_measure(model, name, formula, format=format, about=about)

    _carry_out(file, name, change, dry_run, "concerns")


@_edits
@column_argument
@click.option("--type", metavar="TYPE", help="The type to read it as: integer, decimal(2), text, date …")
@label_option
@order_by_option
@about_option
@click.option("--pattern", metavar="PATTERN", help="The pattern of its dates: dd/MM/yyyy.")
@null_option
@pattern_option
@click.option("--hidden/--shown", default=None, help="Hide it from lists.")
@dry_run_option
def column(
    file: Path,
    name: str,
    type: str | None,
    label: str | None,
    order_by: str | None,
    about: str | None,
    pattern: str | None,
    null: tuple[str, ...],
    format: str | None,
    hidden: bool | None,
    dry_run: bool,
) -> None:
    """Set a column's type, label, order or format.

    An empty text clears a setting.
    """
    said: dict[str, Any] = {"type": type, "label": label, "order_by": order_by, "about": about, "pattern": pattern,
                            "null": _several(null), "format": format, "hidden": hidden}  # fmt: skip
    _refuse_nothing(said)
    _carry_out(file, name, lambda model: model.column(name, **said), dry_run, "concerns")


@_edits
@name_argument
@click.option("--key", multiple=True, metavar="COLUMN", help="A key column; repeat for several.")
@click.option("--about", metavar="TEXT", help="What one row is.")
@click.option("--label", metavar="TEXT", help="For a role: the prefix of its columns' headings.")
@null_option
@click.option("--footer", metavar="N", type=int, help="The number of lines at the end of its file that are not rows.")
@click.option("--calendar/--no-calendar", default=None, help="Its key is a date that formulas can move along.")
@dry_run_option
def table(
    file: Path,
    name: str,
    key: tuple[str, ...],
    about: str | None,
    label: str | None,
    null: tuple[str, ...],
    footer: int | None,
    calendar: bool | None,
    dry_run: bool,
) -> None:
    """Set a table's key, description or null texts.

    An empty text clears a setting.
    """
    said: dict[str, Any] = {"key": _several(key), "about": about, "label": label, "null": _several(null),
                            "footer": footer, "calendar": calendar}  # fmt: skip
    _refuse_nothing(said)
    _carry_out(file, name, lambda model: model.table(name, **said), dry_run, "concerns")


@_edits
@name_argument
@click.argument("columns", nargs=-1, required=True, metavar="'COLUMN: FORMULA'…")
@click.option(
    "--per", required=True, multiple=True, metavar="COLUMN", help="A column of its grain; repeat for several."
)
@click.option("--about", default="", metavar="TEXT", help="What one row is.")
@dry_run_option
def derived_table(
    file: Path, name: str, columns: tuple[str, ...], per: tuple[str, ...], about: str, dry_run: bool
) -> None:
    """Add or replace a derived table.

    It has one row per member of its grain.
    """
    from relatum.pivot.request import ask

    def change(model: Model) -> object:
        formulas = {each.label: each.formula for text in columns for each in ask(values=text).values}
        return model.add_table(name, per=per, columns=formulas, about=about, replace=name in model.declaration.tables)

    _carry_out(file, name, change, dry_run, "concerns")


@_edits
@column_argument
@click.argument("formula", metavar="FORMULA")
@label_option
@pattern_option
@order_by_option
@about_option
@dry_run_option
def derive(
    file: Path,
    name: str,
    formula: str,
    label: str | None,
    format: str | None,
    order_by: str | None,
    about: str | None,
    dry_run: bool,
) -> None:
    """Add or change a derived column."""
    from relatum.errors import ModelError
    from relatum.model.names import split_name

    parts = split_name(name)
    if len(parts) != 2:
        raise ModelError(f"{name} is not a column.", fix="Write table.column.")

    def change(model: Model) -> object:
        described = model.declaration.table(parts[0])
        former = described.derived.get(parts[1])
        kept = {each: getattr(described.columns[parts[1]], each) for each in former.stated} if former else {}
        said = {
            **kept,
            **{
                word: value
                for word, value in (("label", label), ("format", format), ("order_by", order_by))
                if value is not None
            },
        }
        return model.derive(
            *parts, formula, about=_or_former(about, former, "about"), **said, replace=former is not None
        )

    _carry_out(file, name, change, dry_run, "concerns")


@_edits
@name_argument
@click.argument("of", metavar="TABLE", help="The table whose rows it uses.")
@click.option("--label", metavar="TEXT", help="The prefix of its columns' headings.")
@dry_run_option
def role(file: Path, name: str, of: str, label: str | None, dry_run: bool) -> None:
    """Add a role: the rows of a table under another name."""

    def change(model: Model) -> object:
        former = model.declaration.tables.get(name)
        return model.add_role(name, of, label=_or_former(label, former, "label"), replace=former is not None)

    _carry_out(file, name, change, dry_run, "concerns")


@_edits
@name_argument
@click.option("--from", "first", metavar="DATE", help="Its first day: 2022-01-01.")
@click.option("--to", "last", metavar="DATE", help="Its last day.")
@click.option(
    "--fiscal-year-starts", metavar="MONTH", type=int, help="The month in which the fiscal year starts, 1 to 12."
)
@click.option("--week-starts", metavar="DAY", help="The day on which weeks start.")
@click.option("--through", metavar="DATE|COLUMN", help="Where the data ends: a date, or a date column.")
@dry_run_option
def calendar(
    file: Path,
    name: str,
    first: str | None,
    last: str | None,
    fiscal_year_starts: int | None,
    week_starts: str | None,
    through: str | None,
    dry_run: bool,
) -> None:
    """Add or change a generated calendar."""
    _refuse_nothing({"from": first, "to": last, "fiscal_year_starts": fiscal_year_starts, "week_starts": week_starts,
                     "through": through})  # fmt: skip

    def change(model: Model) -> object:
        from msgspec.structs import asdict

        from relatum.errors import ModelError

        table = model.declaration.tables.get(name)
        former = asdict(table.calendar) if table is not None and table.calendar is not None else {}
        days = {"first": first, "last": last, "through": through}
        given: dict[str, Any] = {word: _day(text) for word, text in days.items() if text is not None}
        others = {"fiscal_year_starts": fiscal_year_starts, "week_starts": week_starts}
        given |= {word: value for word, value in others.items() if value is not None}
        settings = {**former, **given}
        for word in ("first", "last"):
            if isinstance(settings.get(word), str):
                raise ModelError(
                    f"The {word} day of the calendar is {settings[word]!r}, which is not a date.",
                    fix="Write 2024-01-31.",
                )
        if not {"first", "last"} <= settings.keys():
            raise ModelError(f"The calendar {name} has no range.", fix="Give --from and --to.")
        return model.add_calendar(
            name, settings.pop("first"), settings.pop("last"), **settings, replace=table is not None
        )

    _carry_out(file, name, change, dry_run, "concerns")


@_edits
@name_argument
@click.argument("levels", nargs=-1, required=True, metavar="COLUMN…", help="Its levels, coarse to fine.")
@about_option
@dry_run_option
def hierarchy(file: Path, name: str, levels: tuple[str, ...], about: str | None, dry_run: bool) -> None:
    """Add or replace a hierarchy."""

    def change(model: Model) -> object:
        former = model.declaration.hierarchies.get(name)
        return model.hierarchy(name, levels, about=_or_former(about, former, "about"), replace=former is not None)

    _carry_out(file, name, change, dry_run, "concerns")


@_edits
@click.argument("measure", metavar="MEASURE")
@click.argument("equals", metavar="VALUE", help="A number, a date, or a text in quotes as in the file.")
@click.option(
    "--at", default="", metavar="CELL", help="The cell: \"calendar.year = 2024, category.category = 'Ferns'\"."
)
@click.option("--tolerance", default=0, type=float, help="How much it may differ.")
@dry_run_option
def control(file: Path, measure: str, equals: str, at: str, tolerance: float, dry_run: bool) -> None:
    """Add or replace a control total."""
    from relatum.audit.cell.location import values_in

    def change(model: Model) -> object:
        where = values_in(at)
        there = any(each.measure == measure and dict(each.at) == where for each in model.declaration.controls)
        return model.control(measure, _value(equals), at=where, tolerance=tolerance, replace=there)

    _carry_out(file, "", change, dry_run, "concerns")


@_edits
@name_argument
@click.option("--rows", metavar="FIELDS", help="What the rows are.")
@click.option("--columns", metavar="FIELDS", help="What the columns are.")
@click.option("--values", metavar="VALUES", help="Measures and formulas.")
@click.option("--where", metavar="CONDITION", help="Only rows that meet this condition.")
@click.option("--keep", metavar="KEEP", help="Which members to keep, by their values.")
@click.option("--totals/--no-totals", default=None, help="Show totals.")
@click.option("--show-empty/--hide-empty", default=None, help="Show members without values.")
@about_option
@dry_run_option
def pivot(
    file: Path,
    name: str,
    rows: str | None,
    columns: str | None,
    values: str | None,
    where: str | None,
    keep: str | None,
    totals: bool | None,
    show_empty: bool | None,
    about: str | None,
    dry_run: bool,
) -> None:
    """Save a pivot, or change a saved one."""
    said = {"rows": rows, "columns": columns, "values": values, "where": where, "keep": keep, "totals": totals,
            "show_empty": show_empty}  # fmt: skip
    _refuse_nothing({**said, "about": about})

    def change(model: Model) -> object:
        former = model.declaration.pivots.get(name)
        parts: dict[str, Any] = {word: value for word, value in said.items() if value is not None}
        grid = model.pivot(saved=name, **parts) if former else model.pivot(**parts)
        return model.keep_pivot(name, grid, about=_or_former(about, former, "about"), replace=former is not None)

    _carry_out(file, name, change, dry_run, "concerns")


def _or_former(said: str | None, former: object, setting: str) -> str:
    """A text that was given; without one, what the thing that is replaced has."""
    return said if said is not None else getattr(former, setting, "")


def _several(texts: tuple[str, ...]) -> list[str] | None:
    """Texts given one by one; an empty one alone takes them back."""
    return None if not texts else [each for each in texts if each]


def _refuse_nothing(said: dict[str, Any]) -> None:
    from relatum.errors import ModelError

    if all(value is None for value in said.values()):
        options = ", ".join(f"--{word.replace('_', '-')}" for word in said)
        raise ModelError("Nothing to set.", fix=f"Give one of {options}.")


def _day(text: str) -> object:
    """A day as it is written in the model file; any other text is a column."""
    from datetime import date

    try:
        return date.fromisoformat(text)
    except ValueError:
        return text


def _value(text: str) -> object:
    """A value as the model file would hold it."""
    import tomllib

    from relatum.errors import ModelError

    try:
        return tomllib.loads(f"value = {text}")["value"]
    except tomllib.TOMLDecodeError:
        raise ModelError(
            f"{text!r} is not a value.", fix="Write a number, a date as 2024-05-31, or a text in double quotes."
        ) from None


def _carry_out(file: Path, name: str, change: Callable[[Model], object], dry_run: bool, word: str) -> None:
    """Tell what depends on a thing, change the model, say what changed, and write the file."""
    import relatum
    from relatum.change.differences import compare_declarations

    model = relatum.open(file)
    _tell_dependants(model, name, word)
    before = model.declaration
    change(model)
    changes = compare_declarations(before, model.declaration)
    written = bool(changes) and not dry_run
    if written:
        model.save(file)
    for each in changes:
        say(one_line(str(each)))
    if not changes:
        say("nothing changes")
    else:
        tell(f"wrote {file}" if written else f"{file} is unchanged")


def _tell_dependants(model: Model, name: str, word: str) -> None:
    from relatum.errors import ModelError

    try:
        found = model.impact(name)
    except ModelError:
        return  # it is new, or the change says that it is not there
    for each in found.breaks:
        tell(f"{word} {each.called}")
