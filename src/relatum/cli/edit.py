"""``relatum edit``."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, Optional

import typer

from relatum.cli.limits import with_limits
from relatum.cli.output import ModelFile, console, tell

if TYPE_CHECKING:
    from relatum.api import Model

edit = typer.Typer(
    no_args_is_help=True,
    help="Change a model file. Dependants are shown first, comments and order are kept, and the file is changed in "
    "one step or not at all.",
    epilog="Example: relatum edit hollowmere/nursery.toml rename sales.quantity pieces",
)

# typer reads these at run time.
Text = Optional[str]  # noqa: UP045
Texts = Optional[list[str]]  # noqa: UP045
Number = Optional[int]  # noqa: UP045
Either = Optional[bool]  # noqa: UP045


def _said(metavar: str, help: str, *names: str) -> Any:
    """An option that states something where it is given."""
    return typer.Option(*names, metavar=metavar, help=help, show_default=False)


def _either(names: str, help: str) -> Any:
    return typer.Option(names, help=help, show_default=False)


About = Annotated[Text, _said("TEXT", "What it means.")]
Label = Annotated[Text, _said("TEXT", "The heading in grids.")]
Pattern = Annotated[Text, _said("PATTERN", "How its members are formatted.")]
OrderBy = Annotated[Text, _said("COLUMN", "The column its members are sorted by.")]
Null = Annotated[Texts, _said("TEXT", "A text that means null; repeat for several.")]
Column = Annotated[str, typer.Argument(metavar="TABLE.COLUMN", show_default=False)]
DryRun = Annotated[bool, typer.Option("--dry-run", help="Show what would change and leave the file unchanged.")]
Name = Annotated[str, typer.Argument(metavar="NAME", show_default=False)]


@edit.callback()
def _file(context: typer.Context, file: ModelFile) -> None:
    context.obj = file


@edit.command()
@with_limits
def rename(
    context: typer.Context,
    name: Annotated[str, typer.Argument(help="A table, table.column, measure or hierarchy.", show_default=False)],
    new: Annotated[str, typer.Argument(metavar="NEW", help="Its new name, without the table's.", show_default=False)],
    dry_run: DryRun = False,
) -> None:
    """Give a thing another name; all that names it follows, and a column keeps its heading in the source."""
    _carry_out(context.obj, name, lambda model: model.rename(name, new), dry_run, "rewrites")


@edit.command()
@with_limits
def remove(
    context: typer.Context,
    name: Annotated[
        str,
        typer.Argument(
            help="A table, derived column, measure, hierarchy, relationship ('a.x -> b.x') or 'control 1'.",
            show_default=False,
        ),
    ],
    force: Annotated[bool, typer.Option("--force", help="Also remove everything that needs it.")] = False,
    dry_run: DryRun = False,
) -> None:
    """Remove a thing; refused where others need it, unless they go with it."""
    _carry_out(context.obj, name, lambda model: model.remove(name, force=force), dry_run, "breaks")


@edit.command()
@with_limits
def relate(
    context: typer.Context,
    link: Annotated[
        str, typer.Argument(metavar="LINK", help="'sales.product_id -> product.product_id'.", show_default=False)
    ],
    direction: Annotated[str, typer.Option(help="down, both or off; of many to many left, right or both.")] = "",
    match: Annotated[str, typer.Option(help="equal, or as_of: the latest that is not after it.")] = "equal",
    level: Annotated[bool, typer.Option("--level", help="Relate to a level of the table, not to its key.")] = False,
    standby: Annotated[bool, typer.Option("--standby", help="Use it only where a formula says via.")] = False,
    dry_run: DryRun = False,
) -> None:
    """Relate two tables, or give a relationship that is there other settings: those that are not stated are default."""

    def change(model: Model) -> object:
        return model.relate(link, direction=direction, match=match, level=level, standby=standby, replace=True)

    _carry_out(context.obj, link, change, dry_run, "concerns")


@edit.command()
@with_limits
def measure(
    context: typer.Context,
    name: Name,
    formula: Annotated[str, typer.Argument(metavar="FORMULA", show_default=False)],
    format: Annotated[Optional[str], typer.Option(help="A number pattern: '#,##0.00'.", show_default=False)] = None,  # noqa: UP045
    about: Annotated[Optional[str], typer.Option(help="What it means.", show_default=False)] = None,  # noqa: UP045
    dry_run: DryRun = False,
) -> None:
    """Set a measure: a new one, or another formula for one that is there, which keeps its format and description."""

    def change(model: Model) -> object:
        from relatum.model.looks import said_of

        former = model.declaration.measures.get(name)
        said = said_of(former.written) if former else {}
        return model.measure(
            name,
            formula,
            format={**said, "format": format} if format is not None else said,
            about=about if about is not None else former.about if former else "",
            unrelated=former.unrelated if former else "blank",
            label=former.label if former else "",
            style=former.style if former else (),
            replace=True,
        )

    _carry_out(context.obj, name, change, dry_run, "concerns")


@edit.command()
@with_limits
def column(
    context: typer.Context,
    name: Column,
    type: Annotated[
        Text,
        _said("TYPE", "The type to read it as: integer, decimal(2), text, date …"),
    ] = None,
    label: Label = None,
    order_by: OrderBy = None,
    about: About = None,
    pattern: Annotated[Text, _said("PATTERN", "The pattern of its dates: dd/MM/yyyy.")] = None,
    null: Null = None,
    format: Pattern = None,
    hidden: Annotated[
        Either,
        _either("--hidden/--shown", "Hide it from lists."),
    ] = None,
    dry_run: DryRun = False,
) -> None:
    """State something of a column: its type, label, order, what is null in it; an empty text takes it back."""
    said: dict[str, Any] = {"type": type, "label": label, "order_by": order_by, "about": about, "pattern": pattern,
                            "null": _several(null), "format": format, "hidden": hidden}  # fmt: skip
    _refuse_nothing(said)
    _carry_out(context.obj, name, lambda model: model.column(name, **said), dry_run, "concerns")


@edit.command()
@with_limits
def table(
    context: typer.Context,
    name: Name,
    key: Annotated[Texts, _said("COLUMN", "A key column; repeat for several.")] = None,
    about: Annotated[Text, _said("TEXT", "What one row is.")] = None,
    label: Annotated[
        Text,
        _said("TEXT", "For a role: the prefix of its columns' headings."),
    ] = None,
    null: Null = None,
    footer: Annotated[
        Number,
        _said("N", "The number of lines at the end of its file that are not rows."),
    ] = None,
    calendar: Annotated[
        Either,
        _either("--calendar/--no-calendar", "Its key is a date that formulas can move along."),
    ] = None,
    dry_run: DryRun = False,
) -> None:
    """State something of a table that is there: its key, what a row is, what is null; an empty text takes it back."""
    said: dict[str, Any] = {"key": _several(key), "about": about, "label": label, "null": _several(null),
                            "footer": footer, "calendar": calendar}  # fmt: skip
    _refuse_nothing(said)
    _carry_out(context.obj, name, lambda model: model.table(name, **said), dry_run, "concerns")


@edit.command("derived-table")
@with_limits
def derived_table(
    context: typer.Context,
    name: Name,
    columns: Annotated[list[str], typer.Argument(metavar="'COLUMN: FORMULA'…", show_default=False)],
    per: Annotated[
        list[str],
        _said("COLUMN", "A column of its grain; repeat for several."),
    ],
    about: Annotated[str, _said("TEXT", "What one row is.")] = "",
    dry_run: DryRun = False,
) -> None:
    """Add a table worked out from the model, one row per member of its grain, or put it in the place of its name."""
    from relatum.pivot.request import ask

    def change(model: Model) -> object:
        formulas = {each.label: each.formula for text in columns for each in ask(values=text).values}
        return model.add_table(name, per=per, columns=formulas, about=about, replace=name in model.declaration.tables)

    _carry_out(context.obj, name, change, dry_run, "concerns")


@edit.command()
@with_limits
def derive(
    context: typer.Context,
    name: Column,
    formula: Annotated[str, typer.Argument(metavar="FORMULA", show_default=False)],
    label: Label = None,
    format: Pattern = None,
    order_by: OrderBy = None,
    about: About = None,
    dry_run: DryRun = False,
) -> None:
    """Set a derived column: a new one, or another formula for one that is there, which keeps what is not stated."""
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
        told = about if about is not None else former.about if former else ""
        return model.derive(*parts, formula, about=told, **said, replace=former is not None)

    _carry_out(context.obj, name, change, dry_run, "concerns")


@edit.command()
@with_limits
def role(
    context: typer.Context,
    name: Name,
    of: Annotated[str, typer.Argument(metavar="TABLE", help="The table whose rows it uses.", show_default=False)],
    label: Annotated[Text, _said("TEXT", "The prefix of its columns' headings.")] = None,
    dry_run: DryRun = False,
) -> None:
    """Add the rows of a table under another name, for relationships of their own."""

    def change(model: Model) -> object:
        former = model.declaration.tables.get(name)
        told = label if label is not None else former.label if former else ""
        return model.add_role(name, of, label=told, replace=former is not None)

    _carry_out(context.obj, name, change, dry_run, "concerns")


@edit.command()
@with_limits
def calendar(
    context: typer.Context,
    name: Name,
    first: Annotated[Text, _said("DATE", "Its first day: 2022-01-01.", "--from")] = None,
    last: Annotated[Text, _said("DATE", "Its last day.", "--to")] = None,
    fiscal_year_starts: Annotated[
        Number,
        _said("MONTH", "The month in which the fiscal year starts, 1 to 12."),
    ] = None,
    week_starts: Annotated[Text, _said("DAY", "The day on which weeks start.")] = None,
    through: Annotated[
        Text,
        _said("DATE|COLUMN", "Where the data ends: a date, or a date column."),
    ] = None,
    dry_run: DryRun = False,
) -> None:
    """Set a generated calendar: a new one, or other settings for one that is there, which keeps what is not stated."""
    _refuse_nothing({"from": first, "to": last, "fiscal_year_starts": fiscal_year_starts, "week_starts": week_starts,
                     "through": through})  # fmt: skip

    def change(model: Model) -> object:
        from dataclasses import asdict

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

    _carry_out(context.obj, name, change, dry_run, "concerns")


@edit.command()
@with_limits
def hierarchy(
    context: typer.Context,
    name: Name,
    levels: Annotated[
        list[str], typer.Argument(metavar="COLUMN…", help="Its levels, coarse to fine.", show_default=False)
    ],
    about: About = None,
    dry_run: DryRun = False,
) -> None:
    """Set a hierarchy: a new one, or other levels for one that is there."""

    def change(model: Model) -> object:
        former = model.declaration.hierarchies.get(name)
        told = about if about is not None else former.about if former else ""
        return model.hierarchy(name, levels, about=told, replace=former is not None)

    _carry_out(context.obj, name, change, dry_run, "concerns")


@edit.command()
@with_limits
def control(
    context: typer.Context,
    measure: Annotated[str, typer.Argument(metavar="MEASURE", show_default=False)],
    equals: Annotated[
        str,
        typer.Argument(
            metavar="VALUE", help="A number, a date, or a text in quotes as in the file.", show_default=False
        ),
    ],
    at: Annotated[
        str, typer.Option(metavar="CELL", help="The cell: \"calendar.year = 2024, category.category = 'Ferns'\".")
    ] = "",
    tolerance: Annotated[float, typer.Option(help="How much it may differ.")] = 0,
    dry_run: DryRun = False,
) -> None:
    """Set a control total: the value that a measure must have, everywhere or at one cell."""
    from relatum.audit.cell.place import values_in

    def change(model: Model) -> object:
        where = values_in(at)
        there = any(each.measure == measure and dict(each.at) == where for each in model.declaration.controls)
        return model.control(measure, _value(equals), at=where, tolerance=tolerance, replace=there)

    _carry_out(context.obj, "", change, dry_run, "concerns")


@edit.command()
@with_limits
def pivot(
    context: typer.Context,
    name: Name,
    rows: Annotated[Text, _said("FIELDS", "What the rows are.")] = None,
    columns: Annotated[Text, _said("FIELDS", "What the columns are.")] = None,
    values: Annotated[Text, _said("VALUES", "Measures and formulas.")] = None,
    where: Annotated[Text, _said("CONDITION", "Only rows that meet this condition.")] = None,
    keep: Annotated[Text, _said("KEEP", "Which members to keep, by their values.")] = None,
    totals: Annotated[Either, _either("--totals/--no-totals", "Show totals.")] = None,
    show_empty: Annotated[Either, _either("--show-empty/--hide-empty", "Show members without values.")] = None,
    about: About = None,
    dry_run: DryRun = False,
) -> None:
    """Set a saved pivot: a new one, or other parts for one that is there, which keeps what is not stated."""
    said = {"rows": rows, "columns": columns, "values": values, "where": where, "keep": keep, "totals": totals,
            "show_empty": show_empty}  # fmt: skip
    _refuse_nothing({**said, "about": about})

    def change(model: Model) -> object:
        former = model.declaration.pivots.get(name)
        parts: dict[str, Any] = {word: value for word, value in said.items() if value is not None}
        grid = model.pivot(saved=name, **parts) if former else model.pivot(**parts)
        told = about if about is not None else former.about if former else ""
        return model.keep_pivot(name, grid, about=told, replace=former is not None)

    _carry_out(context.obj, name, change, dry_run, "concerns")


def _several(texts: list[str] | None) -> list[str] | None:
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
    from relatum.change.compare import compare_declarations

    model = relatum.open(file)
    _tell_dependants(model, name, word)
    before = model.declaration
    change(model)
    changes = compare_declarations(before, model.declaration)
    written = bool(changes) and not dry_run
    if written:
        model.save(file)
    out = console()
    for each in changes:
        out.print(str(each), soft_wrap=True)
    if not changes:
        out.print("nothing changes")
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
