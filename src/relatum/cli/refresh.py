"""``relatum refresh``."""

from __future__ import annotations

from decimal import Decimal, InvalidOperation
from pathlib import Path
from typing import TYPE_CHECKING

import click

from relatum.cli.commands import Format, format_option, model_file, opening_command
from relatum.cli.output import CLEAN, PROBLEMS, console, listing, print_json
from relatum.wording import value_text

if TYPE_CHECKING:
    from relatum.change.refresh import Refreshed
    from relatum.model.declaration import Declaration


@opening_command
@model_file
@click.option("--verify", is_flag=True, help="Read every source in full to see whether it has changed.")
@format_option
def refresh(file: Path, verify: bool, format: Format) -> None:
    """Read the sources again and show what changed.

    If a file has only grown, just its new lines are read. If the new data cannot be used, it shows what broke and keeps
    the previous state. Exit code: 0 the new data is in use, 1 it cannot be used, 2 nothing can be read.

    Example: relatum refresh hollowmere/nursery.toml
    """
    import relatum

    found = relatum.refresh(file, verify=verify)
    if format == "json":
        print_json(found)
    else:
        from relatum.model.file import read_model

        _print(found, read_model(file))
    raise click.exceptions.Exit(CLEAN if found.ok else PROBLEMS)


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
