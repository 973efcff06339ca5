"""``relatum explain``."""

from __future__ import annotations

from pathlib import Path

import click

from relatum.cli.commands import PATH, Format, format_option, model_file, opening_command
from relatum.cli.output import console, paged, print_json, tell


@opening_command
@model_file
@click.argument("value", metavar="VALUE", help="A measure or formula.")
@click.option(
    "--at",
    default="",
    metavar="MEMBERS",
    help="The cell: \"category.category = 'Ferns', calendar.year = 2024\"; is null, is no match, = others.",
)
@click.option("--where", default="", metavar="CONDITION", help="Only rows that meet this condition.")
@click.option("--keep", multiple=True, metavar="KEEP", help="Which members to keep, as for pivot.")
@click.option("--fields", multiple=True, metavar="FIELDS", help="The row fields with their options: top 5 with others.")
@click.option("--columns", multiple=True, metavar="FIELDS", help="The column fields.")
@click.option("--against", default="", metavar="MEMBERS", help="Another cell, to explain the difference.")
@click.option(
    "--along",
    default="",
    metavar="COLUMN",
    help="The column to divide the difference by (default: the one that explains most).",
)
@click.option(
    "--rows", default=5, metavar="N", type=click.IntRange(min=0), help="The number of rows behind it to show."
)
@click.option(
    "--rows-out", metavar="FILE", type=PATH, help="Write all rows behind it to a file: csv, json, parquet or arrow."
)
@click.option(
    "--as-control", is_flag=True, help="Add the cell to the model's controls, so that check notices any change."
)
@format_option
def explain(
    file: Path,
    value: str,
    at: str,
    where: str,
    keep: tuple[str, ...],
    fields: tuple[str, ...],
    columns: tuple[str, ...],
    against: str,
    along: str,
    rows: int,
    rows_out: Path | None,
    as_control: bool,
    format: Format,
) -> None:
    """Explain why a cell has its value.

    Example: relatum explain hollowmere/nursery.toml revenue --at "category.category = 'Ferns', calendar.year = 2024"
    --against "calendar.year = 2023"
    """
    import relatum
    from relatum.audit.cell.location import members_in
    from relatum.face.explaining import as_mapping
    from relatum.present.printed import print_blocks
    from relatum.present.tables import write_table

    model = relatum.open(file)
    found = model.explain(
        value,
        members_in(at),
        where or None,
        keep=keep,
        fields=fields,
        columns=columns,
        against=members_in(against) if against else None,
        along=along,
        listed=rows,
    )
    if format == "json":
        print_json(as_mapping(found))
    else:
        paged(console(), lambda shown: print_blocks(found.blocks().every, shown))
    if rows_out is not None:
        write_table(found.rows, rows_out)
        tell(f"wrote {rows_out}")
    if as_control:
        model.control(**found.as_control(), replace=True)
        model.save(file)
        tell(f"wrote {file}: a control of {value}")
