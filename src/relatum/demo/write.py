"""Writing the demo into a folder."""

from __future__ import annotations

import re
from datetime import date
from decimal import Decimal
from importlib import resources
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.csv as pacsv
import pyarrow.parquet as pq

from relatum.demo.generate import DEFAULT_LINES, generate
from relatum.errors import SourceError
from relatum.runtime.atomic import write_atomically, written_aside
from relatum.runtime.progress import report_step, reported
from relatum.sources.fingerprint import digest_of, text_digest

MODEL_FILE = "nursery.toml"
_FACTS = ("sales", "quota", "stock")
_WRITTEN = re.compile(r"^# ([0-9a-f]{40}) ([\w.]+)$", re.MULTILINE)


def write_demo(folder: Path, lines: int = DEFAULT_LINES, *, force: bool = False) -> Path:
    """Write the nursery's model and data.

    Parameters
    ----------
    folder : Path
        Made when it is not there. A demo that is in it unchanged is rewritten.
    lines : int
        How many order lines.
    force : bool
        Write it over what somebody has changed, and beside other files.

    Returns
    -------
    Path
        The model file.

    Raises
    ------
    SourceError
        The folder holds something else, or cannot be written.
    """
    if lines < 1:
        raise SourceError(f"A demo needs at least one order line, not {lines}.", fix="Ask for one line or more.")
    if not force:
        _refuse_other(folder)
    try:
        folder.mkdir(parents=True, exist_ok=True)
        report_step(f"making {lines:,} order lines")
        tables = generate(lines)
        files = []
        for name, table in reported(tables.items(), lambda each: f"writing {each[0]}"):
            files.append(folder / _file_of(name))
            _write_table(table, files[-1])
        write_atomically(folder / MODEL_FILE, _model_text(tables, files))
    except OSError as error:
        raise SourceError(f"The demo cannot be written: {error.strerror}.", path=folder) from None
    return folder / MODEL_FILE


def _file_of(table: str) -> str:
    return f"{table}.parquet" if table in _FACTS else f"{table}.csv"


def _template() -> str:
    return resources.files("relatum.demo").joinpath(MODEL_FILE).read_text(encoding="utf-8")


def _refuse_other(folder: Path) -> None:
    if folder.exists() and not folder.is_dir():
        raise SourceError("This is a file, and the demo needs a folder.", path=folder)
    if not folder.exists() or not any(folder.iterdir()):
        return
    changed = _changed(folder)
    if changed:
        raise SourceError(
            f"The folder holds {changed}: nothing was written.",
            path=folder,
            fix="Name a new folder, or overwrite this one with --force.",
        )


def _changed(folder: Path) -> str:
    """The files a demo would overwrite that have changed since a demo was written."""
    model = folder / MODEL_FILE
    if not model.exists():
        return "other files"
    text = model.read_text("utf-8", "replace") if model.is_file() else ""
    written = {name: digest for digest, name in _WRITTEN.findall(text)}
    if text_digest(text[: text.rfind("#")]) != written.pop(MODEL_FILE, ""):
        return f"a {MODEL_FILE} that was changed"
    for name, digest in written.items():
        if (folder / name).exists() and digest_of(folder / name) != digest:
            return f"a {name} that was changed"
    return ""


def _write_table(table: pa.Table, path: Path) -> None:
    with written_aside(path) as temporary:
        if path.suffix == ".parquet":
            pq.write_table(table, temporary, compression="zstd")
        else:
            pacsv.write_csv(table, temporary, pacsv.WriteOptions(quoting_style="needed"))


def _model_text(tables: dict[str, pa.Table], files: list[Path]) -> str:
    # Control totals from the raw columns, by another way than the engine's: a sum over the Parquet file itself.
    sales = tables["sales"]
    sold_on = sales["sold_on"].to_numpy()
    inside = (sold_on >= np.datetime64(date(2023, 1, 1))) & (sold_on <= np.datetime64(date(2023, 12, 31)))
    controls: list[tuple[str, str, Any]] = [
        ("quantity", "", int(sales["quantity"].to_numpy().sum(dtype=np.int64))),
        ("quantity", 'at = { "calendar.year" = 2023 }', int(sales["quantity"].to_numpy()[inside].sum(dtype=np.int64))),
        ("target", "", sum(tables["quota"]["target"].to_pylist(), Decimal(0))),
    ]
    text = _template() + "\n# ---- control totals, taken from the files themselves ----\n"
    for measure, at, equals in controls:
        text += f'\n[[control]]\nmeasure = "{measure}"\n' + (f"{at}\n" if at else "") + f"equals = {equals}\n"
    text += "\n# ---- what was written, so that nothing is written over what somebody has changed since ----\n\n"
    text += "".join(f"# {digest_of(path)} {path.name}\n" for path in files)
    return text + f"# {text_digest(text)} {MODEL_FILE}\n"
