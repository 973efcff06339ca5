"""``relatum export``."""

from __future__ import annotations

from pathlib import Path

import click

from relatum.cli.commands import PATH, model_file, opening_command
from relatum.cli.output import refuse_over, tell


@opening_command
@model_file
@click.option(
    "--out", "-o", required=True, metavar="FILE", type=PATH, help="datapackage.json, or a file ending in .sql."
)
def export(file: Path, out: Path) -> None:
    """Describe the tables as a Data Package or as SQL.

    Example: relatum export hollowmere/nursery.toml -o hollowmere/datapackage.json
    """
    import relatum

    model = relatum.open(file)
    refuse_over(out, file, model.declaration)
    left_out = model.export(out)
    tell(f"wrote {out}" + (f"; left out because they are not files: {', '.join(left_out)}" if left_out else ""))
