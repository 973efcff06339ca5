"""``relatum edit``."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Optional

import typer

from relatum.cli.limits import with_limits
from relatum.cli.output import ModelFile, console, tell

if TYPE_CHECKING:
    from relatum.api import Model

edit = typer.Typer(
    no_args_is_help=True,
    help="Change a model file: what depends on a thing is told first, comments and order are kept, and the file is "
    "written in one step or left as it was.",
    epilog="Example: relatum edit hollowmere/nursery.toml rename sales.quantity pieces",
)

DryRun = Annotated[bool, typer.Option("--dry-run", help="Say what would change, and leave the file as it is.")]
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
    force: Annotated[bool, typer.Option("--force", help="Remove all that needs it too.")] = False,
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
    level: Annotated[bool, typer.Option("--level", help="To a level of the table, not to its key.")] = False,
    standby: Annotated[bool, typer.Option("--standby", help="Used only where a formula says via.")] = False,
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
    format: Annotated[Optional[str], typer.Option(help="A number pattern, as '#,##0.00'.", show_default=False)] = None,  # noqa: UP045
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


def _carry_out(file: Path, name: str, change: Callable[[Model], object], dry_run: bool, word: str) -> None:
    """Tell what depends on a thing, change the model, say what changed, and write the file."""
    import relatum
    from relatum.change.compare import compare_declarations

    model = relatum.open(file)
    _tell_dependants(model, name, word)
    before = model.declaration
    change(model)
    changes = compare_declarations(before, model.declaration)
    out = console()
    for each in changes:
        out.print(str(each), soft_wrap=True)
    if not changes:
        out.print("nothing changes")
    elif dry_run:
        tell(f"{file} is left as it is")
    else:
        model.save(file)
        tell(f"wrote {file}")


def _tell_dependants(model: Model, name: str, word: str) -> None:
    from relatum.errors import ModelError

    try:
        found = model.impact(name)
    except ModelError:
        return  # it is new, or the change says that it is not there
    for each in found.breaks:
        tell(f"{word} {each.name if each.name.startswith(each.kind) else f'{each.kind} {each.name}'}")
