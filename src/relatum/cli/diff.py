"""``relatum diff``."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from relatum.cli.commands import PATH, Format, format_option, model_file, opening_command
from relatum.cli.output import CLEAN, PROBLEMS, console, listing, print_json, value_text, whole_words

if TYPE_CHECKING:
    from relatum.change.compare import Comparison


@opening_command
@model_file
@click.argument("other", metavar="OTHER", type=PATH, help="The later model.")
@click.option(
    "--values",
    multiple=True,
    metavar="VALUES",
    help="Measures or formulas to compare (default: every measure both models have).",
)
@format_option
def diff(file: Path, other: Path, values: tuple[str, ...], format: Format) -> None:
    """Compare two models, in meaning and in numbers.

    Exit code: 0 no difference, 1 differences, 2 a model cannot be read.

    Example: relatum diff hollowmere/nursery.toml hollowmere/nursery.toml --values revenue
    """
    import relatum

    found = relatum.open(file).compare(relatum.open(other), ", ".join(values))
    if format == "json":
        print_json({"changes": found.changes, "moved": found.moved, "compared": found.compared})
    else:
        _print(found)
    raise click.exceptions.Exit(CLEAN if found.same else PROBLEMS)


_STYLES = {"added": "green", "removed": "red", "renamed": "cyan", "changed": "yellow"}


def _print(found: Comparison) -> None:
    from rich.text import Text

    out = console()
    if found.changes:
        lines = listing("", "what", "setting", "before", "after")
        for each in found.changes:
            what = f"{each.kind} {each.name}"
            lines.add_row(Text(each.what, style=_STYLES[each.what]), what, each.setting, each.before, each.after)
        out.print(whole_words(lines))
    else:
        out.print("the models mean the same")
    if found.moved:
        out.print()
        lines = listing("value", "before", "after", "difference", numbers=("before", "after", "difference"))
        for moved in found.moved:
            lines.add_row(moved.name, value_text(moved.before), value_text(moved.after), value_text(moved.difference))
        out.print(lines)
    out.print(f"{len(found.moved)} of {found.compared} values moved")
