"""``relatum check``."""

from __future__ import annotations

from typing import TYPE_CHECKING

import typer

from relatum.cli.output import (
    CLEAN,
    PROBLEMS,
    Format,
    FormatOption,
    ModelFile,
    console,
    errors_as_sentences,
    print_json,
)

if TYPE_CHECKING:
    from relatum.insight.check import Report


def check(file: ModelFile, format: FormatOption = Format.TEXT) -> None:
    """Audit a model, its data and its control totals.

    Problems come first: keys that are not unique, rows that find nothing, controls that do not agree. Facts follow.
    Leaves with 0 when there is no problem, 1 when there is one, 2 when the model cannot be read.

    Example: relatum check hollowmere/nursery.toml
    """
    with errors_as_sentences():
        import relatum

        report = relatum.open(file).check()
        if format is Format.JSON:
            print_json(report)
        else:
            _print(report)
    raise typer.Exit(CLEAN if report.ok else PROBLEMS)


def _print(report: Report) -> None:
    from rich.padding import Padding
    from rich.text import Text

    out = console()
    out.print(Text(report.model, style="bold"))
    for finding in report.findings:
        style = "bold red" if finding.severity == "problem" else "cyan"
        out.print(Text.assemble((f"{finding.severity:<8}", style), (finding.subject, "bold")))
        out.print(Padding(Text(finding.text), (0, 0, 0, 8)))
        if finding.fix:
            out.print(Padding(Text(finding.fix, style="dim"), (0, 0, 0, 8)))
    out.print(Text(report.summary, style="bold green" if report.ok else "bold red"))
