"""``relatum check``."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from relatum.cli.commands import Format, format_option, model_file, opening_command
from relatum.cli.output import CLEAN, PROBLEMS, console, print_json
from relatum.wording import visible

if TYPE_CHECKING:
    from relatum.audit.check import Report


@opening_command
@model_file
@click.option(
    "--value",
    default="",
    metavar="MEASURE",
    help="The measure that shows what rows are worth (default: the first one in a currency).",
)
@format_option
def check(file: Path, value: str, format: Format) -> None:
    """Check a model, its data and its control totals.

    Problems come first: wrong control totals, duplicate keys, rows without a match and what they hold, members with
    several spellings. Remarks follow. Each finding says how it affects numbers and how to fix it.
    Exit code: 0 no problems, 1 problems, 2 the model cannot be read.

    Example: relatum check hollowmere/nursery.toml
    """
    import relatum

    report = relatum.open(file).check(value)
    if format == "json":
        print_json(report)
    else:
        _print(report)
    raise click.exceptions.Exit(CLEAN if report.ok else PROBLEMS)


def _print(report: Report) -> None:
    from rich.padding import Padding
    from rich.text import Text

    out = console()
    out.print(Text(visible(report.model), style="bold"))
    for finding in report.findings:
        style = {"problem": "bold red", "doubt": "yellow", "remark": "cyan"}[finding.severity]
        out.print(Text.assemble((f"{finding.severity:<8}", style), (visible(finding.subject), "bold")))
        said = Text(finding.text)
        if finding.effect:
            said.append(f" {finding.effect}", style="yellow" if finding.severity == "problem" else "")
        out.print(Padding(said, (0, 0, 0, 8)))
        if finding.fix:
            out.print(Padding(Text(finding.fix, style="dim"), (0, 0, 0, 8)))
    out.print(Text(report.summary, style="bold green" if report.ok else "bold red"))
