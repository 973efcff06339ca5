"""``relatum diagram``."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Optional

import typer

from relatum.cli.output import Format, FormatOption, ModelFile, print_json, refuse_over, say, tell


def diagram(
    file: ModelFile,
    out: Annotated[
        Optional[Path],  # noqa: UP045 - typer reads this at run time
        typer.Option(
            "--out",
            "-o",
            metavar="PICTURE",
            help="The file to draw: .svg, .png, or .mmd or .md for Mermaid text (default: print the text).",
            show_default=False,
        ),
    ] = None,
    format: FormatOption = Format.TEXT,
) -> None:
    """Draw the star: facts in the middle, lookups around, how they belong together.

    Example: relatum diagram hollowmere/nursery.toml -o star.svg
    """
    import relatum

    model = relatum.open(file)
    drawn = model.diagram()
    if format is Format.JSON:
        print_json(drawn.graph)
    elif out is None:
        say(drawn.mermaid())
    else:
        refuse_over(out, file, model.declaration)
        drawn.save(out)
        tell(f"wrote {out}")
