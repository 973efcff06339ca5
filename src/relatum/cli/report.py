"""``relatum report``."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from relatum.cli.output import ModelFile, refuse_over, tell


def report(
    file: ModelFile,
    name: Annotated[
        str,
        typer.Argument(
            metavar="NAME", help="A report of the model, or a TOML file with just a report.", show_default=False
        ),
    ],
    out: Annotated[
        Path, typer.Option("--out", "-o", metavar="FILE", help="The page to write.", show_default="NAME.html")
    ] = Path(),
) -> None:
    """Write a report: key figures, charts, tables and text, on one page to be read or printed.

    Example: relatum report hollowmere/nursery.toml year --out year.html
    """
    import relatum

    target = out if out != Path() else Path(f"{Path(name).stem}.html")
    model = relatum.open(file)
    refuse_over(target, file, model.declaration)
    made = model.report(Path(name) if name.endswith(".toml") else name)
    made.save(target)
    tell(f"wrote {target}")
