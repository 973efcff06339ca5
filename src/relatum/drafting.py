"""Drafts: a model proposed from raw data."""

from __future__ import annotations

import os
from pathlib import Path

from relatum.api import Model
from relatum.drafts.collect import LeftOut, collect
from relatum.drafts.draft import Drafted, draft_model
from relatum.drafts.proposals import Proposal
from relatum.drafts.text import draft_text
from relatum.errors import ModelError
from relatum.model.atomic import write_atomically
from relatum.model.declaration import Declaration
from relatum.session.reading import Whereabouts, relative_source, source_path


class Draft:
    """A model proposed from raw data: each part with its evidence, and a confidence from 0 to 1.

    What is likely (0.8 and up) is part of the model; what is not stands in its file as a comment.
    """

    def __init__(self, drafted: Drafted, whereabouts: Whereabouts) -> None:
        self._drafted = drafted
        self._whereabouts = whereabouts

    @property
    def declaration(self) -> Declaration:
        """The model that is proposed, as immutable records."""
        return self._drafted.declaration

    @property
    def proposals(self) -> tuple[Proposal, ...]:
        """Everything proposed, doubted or noted, with its evidence."""
        return self._drafted.proposals

    @property
    def left_out(self) -> tuple[LeftOut, ...]:
        """What was found and is no table, and why."""
        return self._drafted.left_out

    @property
    def kinds(self) -> dict[str, str]:
        """What each table is: a fact, a lookup, a calendar, or alone."""
        return dict(self._drafted.kinds)

    @property
    def rows(self) -> dict[str, int]:
        """How many rows each table has that came from data."""
        return dict(self._drafted.rows)

    def __str__(self) -> str:
        return self.text()

    def text(self, target: str | os.PathLike[str] = "model.toml", *, allow_outside: bool = True) -> str:
        """The model file as it would be written to ``target``."""
        sources = {}
        for name, table in self.declaration.tables.items():
            if table.source:
                file = source_path(table, self._whereabouts)
                path = Path(target)
                sources[name] = table.source if file is None else relative_source(file, path, name, allow_outside)
        return draft_text(self._drafted, sources)

    def model(self) -> Model:
        """The model itself, ready to be asked."""
        return Model.of(self.declaration, self._whereabouts)

    def save(self, path: str | os.PathLike[str], *, replace: bool = False) -> None:
        """Write the model file with all its comments.

        Parameters
        ----------
        path : path
            The file, in the folder of its data or above it.
        replace : bool
            Replace a file that is there.

        Raises
        ------
        ModelError
            There is such a file, a table came as a frame, or its source lies outside the file's folder.
        """
        target = Path(path)
        if target.exists() and not replace:
            raise ModelError(
                "There is such a file already.", path=target, fix="Name another, or say that it is replaced."
            )
        if not target.parent.is_dir():
            raise ModelError(f"There is no folder {target.parent}.", path=target)
        frames = [name for name, table in self.declaration.tables.items() if table.frame]
        if frames:
            raise ModelError(
                f"The table {frames[0]} came as a frame, which a file cannot name.",
                fix="Write the frame to a Parquet file and draft from there.",
            )
        write_atomically(target, self.text(target, allow_outside=False))


def draft(*data: str | os.PathLike[str], name: str = "model", **frames: object) -> Draft:
    """Propose a model of raw data.

    Parameters
    ----------
    *data : path
        Files (CSV, JSON lines, Parquet, Arrow IPC), folders, workbooks, a Data Package's descriptor, addresses of
        databases.
    name : str
        What the model is called.
    **frames : frame
        Frames by table name.

    Returns
    -------
    Draft
        Column types, keys, relationships, a calendar, measures and hierarchies, each with its evidence.

    Raises
    ------
    SourceError
        Something cannot be read, or holds no table.

    Examples
    --------
    >>> import pyarrow as pa, relatum
    >>> draft = relatum.draft(
    ...     sales=pa.table({"product_id": ["P1", "P2", "P1"], "quantity": [1, 2, 3]}),
    ...     product=pa.table({"product_id": ["P1", "P2"], "plant": ["Ivy", "Fern"]}),
    ... )
    >>> [str(each) for each in draft.declaration.relationships]
    ['sales.product_id -> product.product_id']
    >>> draft.model().evaluate("quantity")
    6
    """
    folder = Path.cwd()
    raws, left_out = collect(data, frames, folder)
    return Draft(draft_model(raws, left_out, name), Whereabouts(folder, dict(frames), True))
