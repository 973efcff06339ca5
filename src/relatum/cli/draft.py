"""``relatum draft``."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from relatum.cli.commands import PATH, Format, command, format_option
from relatum.cli.output import console, listing, print_json, refuse_over_data, tell

if TYPE_CHECKING:
    from relatum.face.drafting import Draft


@command
@click.argument(
    "data",
    nargs=-1,
    required=True,
    metavar="DATA...",
    help="Files, folders, workbooks, a datapackage.json, the address of a database.",
)
@click.option("--out", "-o", default=Path("model.toml"), metavar="FILE", type=PATH, help="The model file to write.")
@click.option("--name", default="", help="The model's name (default: the file's name).")
@click.option(
    "--timezone", default="UTC", metavar="ZONE", help="The time zone for timestamps that carry one: Europe/Berlin."
)
@click.option("--replace", is_flag=True, help="Replace an existing file.")
@click.option(
    "--all", "everything", is_flag=True, help="Also show what was considered and left out, with the evidence."
)
@format_option
def draft(
    data: tuple[str, ...], out: Path, name: str, timezone: str, replace: bool, everything: bool, format: Format
) -> None:
    """Propose a model from raw data, with the evidence.

    It proposes column types, keys, relationships, a calendar, measures, hierarchies and pivots. Likely proposals go
    into the model file; unlikely ones are comments there, with the reason against them.

    Example: relatum draft hollowmere -o draft.toml
    """
    import relatum

    refuse_over_data(out, data)
    found = relatum.draft(*data, name=name or out.stem, timezone=timezone)
    found.save(out, replace=replace)
    if format == "json":
        print_json(_document(found, everything))
    else:
        _print(found, everything)
    tell(f"wrote {out}; next: relatum check {out}, relatum show {out}")


def _document(found: Draft, everything: bool) -> dict[str, Any]:
    return {
        "tables": [{"name": name, "kind": kind, "rows": found.rows.get(name)} for name, kind in found.kinds.items()],
        "proposals": [
            {
                "kind": each.kind,
                "subject": each.subject,
                "statement": each.statement,
                "confidence": each.confidence,
                "active": each.active,
                "evidence": each.evidence,
                "doubt": each.doubt,
            }
            for each in (*found.proposals, *(found.aside if everything else ()))
        ],
        "left_out": [{"what": each.what, "why": each.why} for each in found.left_out],
    }


def _print(found: Draft, everything: bool) -> None:
    from rich.text import Text

    from relatum.wording import counted

    out = console()
    sizes = {name: f", {counted(rows, 'row')}" for name, rows in found.rows.items()}
    tables = ", ".join(f"{name} ({kind}{sizes.get(name, '')})" for name, kind in found.kinds.items())
    out.print(Text(f"{counted(len(found.kinds), 'table')}: ", style="bold").append(tables, style="not bold"))
    plural = {"hierarchy": "hierarchies"}
    for kind in ("relationship", "measure", "hierarchy", "pivot"):
        heading = plural.get(kind, f"{kind}s")
        rows = [each for each in found.proposals if each.kind == kind]
        if rows:
            out.print()
            table = listing("", heading, "evidence")
            for each in sorted(rows, key=lambda one: -one.confidence):
                said = Text(each.evidence, style="dim")
                if each.doubt:
                    said.append(f"\nbut {each.doubt}", style="not dim yellow")
                shown = f"{each.subject} = {each.statement}" if kind in ("measure", "pivot") else each.statement
                table.add_row(Text(each.word, style=_STYLES[each.word]), shown, said)
            out.print(table)
    out.print()
    for each in found.proposals:
        if each.kind in ("type", "null", "key", "note", "calendar") and (each.word in ("unsure", "note") or each.doubt):
            text = Text(f"{each.word}  ", style=_STYLES[each.word]).append(each.statement, style="default")
            text.append(f" ({each.evidence})" if each.evidence else "", style="dim")
            text.append(f" {each.doubt}" if each.doubt else "", style="yellow")
            out.print(text)
    for each in found.aside if everything else ():
        text = Text("considered and left out  ", style="dim").append(each.statement, style="default")
        out.print(text.append(f" ({each.evidence})", style="dim"))
    for thing in found.left_out:
        out.print(Text("left out  ", style="yellow").append(f"{thing.what}: {thing.why}"))


_STYLES = {"sure": "green", "likely": "cyan", "unsure": "yellow", "note": "dim"}
