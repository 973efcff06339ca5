"""``relatum explain``."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Optional

import typer

from relatum.cli.output import Format, FormatOption, ModelFile, console, paged, print_json, tell


def explain(
    file: ModelFile,
    value: Annotated[str, typer.Argument(metavar="VALUE", help="A measure or formula.", show_default=False)],
    at: Annotated[
        str,
        typer.Option(
            metavar="MEMBERS",
            help="The cell: \"category.category = 'Ferns', calendar.year = 2024\"; is null, is no match, = others.",
        ),
    ] = "",
    where: Annotated[str, typer.Option(metavar="CONDITION", help="Only rows that meet this condition.")] = "",
    keep: Annotated[list[str], typer.Option(metavar="KEEP", help="Which members to keep, as for pivot.")] = [],  # noqa: B006
    fields: Annotated[
        list[str], typer.Option(metavar="FIELDS", help="The row fields with their options: top 5 with others.")
    ] = [],  # noqa: B006
    columns: Annotated[list[str], typer.Option(metavar="FIELDS", help="The column fields.")] = [],  # noqa: B006
    against: Annotated[str, typer.Option(metavar="MEMBERS", help="Another cell, to explain the difference.")] = "",
    along: Annotated[
        str,
        typer.Option(
            metavar="COLUMN", help="The column to divide the difference by (default: the one that explains most)."
        ),
    ] = "",
    rows: Annotated[int, typer.Option(metavar="N", min=0, help="The number of rows behind it to show.")] = 5,
    rows_out: Annotated[
        Optional[Path],  # noqa: UP045 - typer reads this at run time
        typer.Option(
            metavar="FILE", help="Write all rows behind it to a file: csv, json, parquet or arrow.", show_default=False
        ),
    ] = None,
    as_control: Annotated[
        bool,
        typer.Option("--as-control", help="Add the cell to the model's controls, so that check notices any change."),
    ] = False,
    format: FormatOption = Format.TEXT,
) -> None:
    """Explain a cell: the filters in force, the formula part by part, the rows behind it, why it has no value.

    Example: relatum explain hollowmere/nursery.toml revenue --at "category.category = 'Ferns', calendar.year = 2024"
    --against "calendar.year = 2023"
    """
    import relatum
    from relatum.audit.cell.place import members_in
    from relatum.explaining import as_mapping, print_explanation
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
    if format is Format.JSON:
        print_json(as_mapping(found))
    else:
        paged(console(), lambda shown: print_explanation(found, shown))
    if rows_out is not None:
        write_table(found.rows, rows_out)
        tell(f"wrote {rows_out}")
    if as_control:
        model.control(**found.as_control(), replace=True)
        model.save(file)
        tell(f"wrote {file}: a control of {value}")
