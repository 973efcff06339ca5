"""``relatum members``."""

from __future__ import annotations

from typing import Annotated

import typer

from relatum.cli.output import Format, FormatOption, ModelFile, console, paged, print_json


def members(
    file: ModelFile,
    column: Annotated[
        str, typer.Argument(metavar="COLUMN", help="table.column, or a formula as on an axis.", show_default=False)
    ],
    where: Annotated[str, typer.Option(metavar="CONDITION", help="Only rows that meet this condition.")] = "",
    value: Annotated[
        str, typer.Option(metavar="VALUE", help="A measure or formula to show instead of row counts.")
    ] = "",
    like: Annotated[
        str,
        typer.Option(metavar="TEXT", help="Only members that contain this, or that match a pattern with % and _."),
    ] = "",
    limit: Annotated[int, typer.Option(metavar="N", min=1, help="The number of members to show.")] = 200,
    format: FormatOption = Format.TEXT,
) -> None:
    """Show a column's members: the rows that each has, and which have none under a condition.

    Example: relatum members hollowmere/nursery.toml customer.town --where "calendar.year = 2024" --like ford
    """
    import relatum
    from relatum.present.members import print_members

    found = relatum.open(file).members(column, where or None, value=value, like=like)
    if format is Format.JSON:
        print_json({"model": found.found.model, "where": where, "members": found.to_arrow().to_pylist()})
    else:
        paged(console(), lambda shown: print_members(found, shown, limit))
