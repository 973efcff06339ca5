"""``relatum export``."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from relatum.cli.output import ModelFile, refuse_over, tell


def export(
    file: ModelFile,
    out: Annotated[
        Path,
        typer.Option(
            "--out", "-o", metavar="FILE", help="datapackage.json, or a file ending in .sql.", show_default=False
        ),
    ],
) -> None:
    """Describe the tables for other programs: as a Data Package, or as SQL that creates them.

    Example: relatum export hollowmere/nursery.toml -o hollowmere/datapackage.json
    """
    import relatum

    model = relatum.open(file)
    refuse_over(out, file, model.declaration)
    left_out = model.export(out)
    tell(f"wrote {out}" + (f"; left out because they are not files: {', '.join(left_out)}" if left_out else ""))
