"""``relatum report``."""

from __future__ import annotations

from pathlib import Path

import click

from relatum.cli.commands import PATH, model_file, opening_command
from relatum.cli.output import refuse_over, tell


@opening_command
@model_file
@click.argument("name", metavar="NAME", help="A report of the model, or a TOML file with just a report.")
@click.option("--out", "-o", default=Path(), metavar="FILE", type=PATH, help="The page to write.")
def report(file: Path, name: str, out: Path) -> None:
    """Write a report as one HTML page.

    Example: relatum report hollowmere/nursery.toml year --out year.html
    """
    import relatum

    target = out if out != Path() else Path(f"{Path(name).stem}.html")
    model = relatum.open(file)
    refuse_over(target, file, model.declaration)
    made = model.report(Path(name) if name.endswith(".toml") else name)
    made.save(target)
    tell(f"wrote {target}")
