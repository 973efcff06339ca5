"""Where a table's rows are, as a model states it, and how that place is read.

What reads databases and workbooks is loaded where there is one: it takes longer than opening a small model.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path

from msgspec import Struct
from msgspec.structs import replace

from relatum.data.table import TableData
from relatum.data.types import Type
from relatum.errors import MissingSourceError, SourceError
from relatum.runtime.limits import refuse_above
from relatum.runtime.paths import is_named_by, kind_of, leads_outside
from relatum.sources.content import PACKED, ending, member_of
from relatum.sources.database.kinds import is_database
from relatum.sources.delimited import read_csv, read_csv_tail
from relatum.sources.files import PARQUET, plain_file, read_ipc, read_parquet, sentences
from relatum.sources.held import held, led_away
from relatum.sources.json_lines import read_lines, read_lines_tail
from relatum.sources.stacked import stacked
from relatum.sources.stated import Stated
from relatum.wording import counted, listed

ReadFile = Callable[[Path, Stated], TableData]
ReadTail = Callable[[Path, int, Stated, Mapping[str, Type]], TableData | None]


class FileFormat(Struct, frozen=True):
    """How files with an ending are read.

    ``by_column`` says that each column is read when it is first needed. ``tail`` reads the lines that a file has
    gained; only formats of lines have one.
    """

    read: ReadFile
    by_column: bool = False
    tail: ReadTail | None = None


#: How a file is read, by its ending.
FORMATS: dict[str, FileFormat] = {
    **dict.fromkeys((".csv", ".tsv", ".txt"), FileFormat(read_csv, tail=read_csv_tail)),
    **dict.fromkeys((".jsonl", ".ndjson"), FileFormat(read_lines, tail=read_lines_tail)),
    **dict.fromkeys(PARQUET, FileFormat(read_parquet, by_column=True)),
    **dict.fromkeys((".arrow", ".ipc", ".feather"), FileFormat(read_ipc, by_column=True)),
}
WORKBOOKS = (".xlsx", ".xlsm")
#: Files whose columns are read one by one, when each is first needed.
BY_COLUMN = tuple(ending for ending, each in FORMATS.items() if each.by_column)
#: Files that grow by lines at their end.
GROWING = tuple(ending for ending, each in FORMATS.items() if each.tail is not None)
#: Files of text that may be a table, and in a folder of data are often none.
_ANY_TEXT = ".txt"


class Source(Struct, frozen=True):
    """Where rows are.

    ``address`` is a file, a folder or pattern of files of one shape, or a database; ``part`` the sheet, named table,
    file of an archive or database table in it, ``query`` what to ask the database instead.
    """

    address: str
    part: str = ""
    query: str = ""


def read_source(source: Source, folder: Path, stated: Stated, within: Path | None = None) -> TableData:
    """The rows and columns of a source.

    Parameters
    ----------
    source : Source
        Where they are.
    folder : Path
        What a relative path is relative to.
    stated : Stated
        How its columns are read where the model says so.
    within : Path, optional
        The folder that no file of it may lie outside of, links followed.

    Raises
    ------
    SourceError
        The source is not there, is not what its ending says, or lies outside.
    """
    if is_database(source.address):
        from relatum.sources.database.ask import read_database  # noqa: PLC0415 - see above

        return read_database(source.address, source.part, source.query, folder, stated)
    path = folder / source.address
    if source.query:
        raise SourceError("Only a database can take a query.", path=path, fix="Leave query out.")
    if path.suffix.lower() in WORKBOOKS and kind_of(path) == "file":
        path = held(path, within)
        refuse_large(plain_file(path))
        from relatum.sources.workbook import read_workbook  # noqa: PLC0415 - see above

        with sentences(path):
            return read_workbook(path, source.part, stated)
    if source.part and path.suffix.lower() == ".zip":
        return read_file(_here(path, within), replace(stated, member=source.part))
    if source.part:
        raise SourceError(f"A file of this kind has no part {source.part!r}.", path=path, fix="Leave part out.")
    if is_folder(source.address, folder):
        return _read_folder(path, stated, within)
    return read_file(_here(path, within), stated)


def _here(path: Path, within: Path | None) -> Path:
    """A plain file, held open; anything else raises where it is read."""
    return held(path, within) if kind_of(path) == "file" else path


def is_folder(address: str, folder: Path) -> bool:
    """Whether an address is a folder, or a pattern of file names.

    Raises
    ------
    SourceError
        It is a pattern of folders, or a path that cannot be followed.
    """
    if "*" in address and ("**" in address or "*" not in Path(address).name or "*" in str(Path(address).parent)):
        raise SourceError(
            "A pattern can match only the files of one folder.",
            path=address,
            fix="* matches any characters of a file name: parts/*-2024.csv.",
        )
    return "*" in address or kind_of(folder / address) == "folder"


def read_file(path: Path, stated: Stated) -> TableData:
    """The rows and columns of one file. Parquet is read column by column, when one is first needed.

    Raises
    ------
    SourceError
        The file is not there, is empty, or is not what its ending says.
    """
    plain_file(path)
    refuse_large(path)
    if path.stat().st_size == 0:
        raise SourceError("The file is empty.", path=path, fix="A CSV file needs at least a heading row.")
    if path.suffix.lower() == ".zip":
        member_of(path, stated.member)
    found = FORMATS.get(ending(path, stated.member)) if readable(path, stated.member) else None
    if found is None:
        raise SourceError(
            f"Files ending in {ending(path, stated.member) or 'nothing'} are not read.",
            path=path,
            fix=f"Known endings: {listed(sorted([*FORMATS, *WORKBOOKS]))}, and databases in files.",
        )
    with sentences(path):
        return found.read(path, stated)


def readable(path: Path, member: str = "") -> bool:
    """Whether a file is data by its ending, or a file of an archive is: packed, it must be text."""
    last = path.suffix.lower()
    return ending(path, member) in GROWING if last in PACKED else last in FORMATS


def refuse_large(path: Path) -> None:
    """Raise a LimitError for a file larger than files may be."""
    size = path.stat().st_size
    refuse_above("file", size, f"{path} has {counted(size, 'byte')}")


def files_in(path: Path, within: Path | None = None) -> list[Path]:
    """The data files of a folder, or those that a pattern of names matches, in the order of their names.

    ``within`` is the folder that none may lie outside of, links followed.

    Raises
    ------
    SourceError
        There is no file, one lies outside, or the pattern is invalid.
    """
    parent, pattern = (path.parent, path.name) if "*" in path.name else (path, "*")
    found = sorted(
        each
        for each in (parent.iterdir() if kind_of(parent) == "folder" else ())
        if is_named_by(each.name, pattern)
        and not each.name.startswith(".")
        and readable(each)
        and kind_of(each) == "file"
    )
    # Beside files of data a text is more often said to people than data, unless it is what the pattern names.
    found = [each for each in found if ending(each) != _ANY_TEXT] or found
    if within is not None:
        for each in found:
            if leads_outside(each, within):
                raise led_away(each)
    if not found:
        raise MissingSourceError(
            "No data files found here.", path=path, fix=f"Files ending in {listed(sorted(FORMATS))} are read."
        )
    return found


def read_tail(path: Path, start: int, stated: Stated, former: Mapping[str, Type]) -> TableData | None:
    """The lines that a file has gained, as the types of those before; None where they have others."""
    read = FORMATS[path.suffix.lower()].tail
    return None if read is None else read(path, start, stated, former)


def _read_folder(path: Path, stated: Stated, within: Path | None) -> TableData:
    files = files_in(path, within)
    return stacked({str(file): read_file(held(file, within), stated) for file in files})
