"""``relatum impact``."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from relatum.cli.commands import Format, format_option, model_file, opening_command
from relatum.cli.output import console, listing, print_json

if TYPE_CHECKING:
    from relatum.change.impact import Impact


@opening_command
@model_file
@click.argument(
    "name",
    metavar="NAME",
    help="A table, table.column, measure, hierarchy, relationship ('a.x -> b.x') or 'control 1'.",
)
@format_option
def impact(file: Path, name: str, format: Format) -> None:
    """Show what depends on something.

    Example: relatum impact hollowmere/nursery.toml price.unit_price
    """
    import relatum

    found = relatum.open(file).impact(name)
    if format == "json":
        print_json(found)
    else:
        _print(found)


def _print(found: Impact) -> None:
    from rich.text import Text

    out = console()
    out.print(Text(f"{found.kind} {found.thing}", style="bold"))
    if not found.breaks and not found.changes:
        out.print("nothing depends on it")
        return
    lines = listing("", "kind", "name", "because of")
    for each in found.breaks:
        path = " <- ".join(each.path[1:])
        lines.add_row(Text("breaks", style="bold red"), each.kind, each.name, Text(path, style="dim"))
    # Many measures lose the same filter: they are reported together.
    together: dict[tuple[str, str], list[str]] = {}
    for each in found.changes:
        together.setdefault((each.kind, each.effect), []).append(each.name)
    for (kind, effect), names in together.items():
        lines.add_row(Text("changes", style="yellow"), kind, ", ".join(dict.fromkeys(names)), Text(effect, style="dim"))
    out.print(lines)
