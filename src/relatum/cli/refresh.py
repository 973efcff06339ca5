"""``relatum refresh``."""

from __future__ import annotations

from decimal import Decimal, InvalidOperation
from pathlib import Path
from typing import TYPE_CHECKING

import click

from relatum.cli.commands import Format, format_option, model_file, opening_command
from relatum.cli.output import CLEAN, PROBLEMS, console, print_json
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
    from relatum import markup
    from relatum.present.printed import print_blocks

    blocks: list[markup.Block] = [
        markup.line(markup.Text(each, tone="bad" if each.startswith(("problem", "breaks")) else "", prose=True))
        for each in found.lines(values=False)
    ]
    if found.values:
        heads: markup.Row = ["measure", markup.Text("before", number=True), markup.Text("after", number=True)]
        rows: list[markup.Row] = []
        for each in found.values:
            numbers = (_number(value, each.format, model) for value in (each.before, each.after))
            rows.append([each.name, *(markup.Text(text, number=True) for text in numbers)])
        blocks.append(markup.Table([heads], rows, apart=True))
    print_blocks(blocks, console())


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
