"""``relatum refresh``."""

from __future__ import annotations

from decimal import Decimal, InvalidOperation
from typing import TYPE_CHECKING, Annotated

import typer

from relatum.cli.output import (
    CLEAN,
    PROBLEMS,
    Format,
    FormatOption,
    ModelFile,
    console,
    listing,
    print_json,
    value_text,
)

if TYPE_CHECKING:
    from relatum.change.refresh import Refreshed
    from relatum.model.declaration import Declaration


def refresh(
    file: ModelFile,
    verify: Annotated[
        bool, typer.Option("--verify", help="Read every source in full to see whether it has changed.")
    ] = False,
    format: FormatOption = Format.TEXT,
) -> None:
    """Read a model's sources again and say what changed since the last time: files, rows, columns, members, totals.

    Of a file that has grown only the new lines are read. Where the data as it is now cannot be used, it says what broke
    and the former record stays. Leaves with 0 when the data is in force, 1 when it cannot be used, 2 when nothing can
    be read.

    Example: relatum refresh hollowmere/nursery.toml
    """
    import relatum

    found = relatum.refresh(file, verify=verify)
    if format is Format.JSON:
        print_json(found)
    else:
        from relatum.model.file import read_model

        _print(found, read_model(file))
    raise typer.Exit(CLEAN if found.ok else PROBLEMS)


def _print(found: Refreshed, model: Declaration) -> None:
    from rich.text import Text

    out = console()
    for line in found.lines(values=False):
        style = "bold red" if line.startswith(("problem", "breaks")) else ""
        out.print(Text(line, style=style))
    if found.values:
        out.print()
        lines = listing("measure", "before", "after", numbers=("before", "after"))
        for each in found.values:
            lines.add_row(each.name, *(_number(value, each.format, model) for value in (each.before, each.after)))
        out.print(lines)


def _number(text: str | None, pattern: str, model: Declaration) -> str:
    """A recorded value: a number in its measure's format, anything else as it is."""
    from relatum.data.types import decimal
    from relatum.model.looks import Format
    from relatum.present.numbers import formatter

    try:
        value = None if text is None else Decimal(text)
    except InvalidOperation:
        return text or ""
    if not pattern or value is None:
        return value_text(value)
    return formatter(decimal(2), Format(pattern=pattern), [value], model.locale, model.currency)(value)
