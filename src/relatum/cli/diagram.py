"""``relatum diagram``."""

from __future__ import annotations

from pathlib import Path

import click

from relatum.cli.commands import PATH, Format, format_option, model_file, opening_command
from relatum.cli.output import print_json, refuse_over, say, tell


@opening_command
@model_file
@click.option(
    "--out",
    "-o",
    metavar="PICTURE",
    type=PATH,
    help="The file to draw: .svg, .png, or .mmd or .md for Mermaid text (default: print the text).",
)
@format_option
def diagram(file: Path, out: Path | None, format: Format) -> None:
    """Draw the tables and their relationships.

    Example: relatum diagram hollowmere/nursery.toml -o star.svg
    """
    import relatum

    model = relatum.open(file)
    drawn = model.diagram()
    if format == "json":
        print_json(drawn.graph)
    elif out is None:
        say(drawn.mermaid())
    else:
        refuse_over(out, file, model.declaration)
        drawn.save(out)
        tell(f"wrote {out}")
