"""``relatum check``."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from relatum.cli.output import (
    CLEAN,
    PROBLEMS,
    Format,
    FormatOption,
    ModelFile,
    console,
    print_json,
)
from relatum.wording import visible

if TYPE_CHECKING:
    from relatum.audit.check import Report


def check(
    file: ModelFile,
    value: Annotated[
        str,
        typer.Option(
            metavar="MEASURE", help="The measure that shows what rows are worth (default: the first one in a currency)."
        ),
    ] = "",
    format: FormatOption = Format.TEXT,
) -> None:
    """Audit a model, its data and its control totals.

    Problems come first: controls that do not agree, keys that are not unique, rows that find nothing with the money
    that stands on them, members written in two ways. Facts follow. Each says what it does to numbers and what to do.
    Leaves with 0 when there is no problem, 1 when there is one, 2 when the model cannot be read.

    Example: relatum check hollowmere/nursery.toml
    """
    import relatum

    report = relatum.open(file).check(value)
    if format is Format.JSON:
        print_json(report)
    else:
        _print(report)
    raise typer.Exit(CLEAN if report.ok else PROBLEMS)


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
