"""``relatum draft``."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from relatum.cli.commands import PATH, Format, command, format_option
from relatum.cli.output import console, print_json, refuse_over_data, tell

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
        from relatum.present.printed import print_blocks

        print_blocks(found.blocks(everything), console())
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
