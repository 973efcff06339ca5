"""The tables that raw data holds: files, folders, workbooks, packages, databases, frames."""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Iterable, Iterator, Mapping
from functools import partial
from pathlib import Path

from msgspec import Struct, field
from msgspec.structs import replace

from relatum.data.table import TableData
from relatum.data.types import parse_type
from relatum.errors import HeadingError, SourceError
from relatum.model.words import plain_name
from relatum.sources.arrow import read_frame, with_numbers
from relatum.sources.content import members
from relatum.sources.content import stem as bare_stem
from relatum.sources.database.ask import database_tables
from relatum.sources.database.base import DatabaseTable, ForeignKey
from relatum.sources.database.kinds import is_database, is_server
from relatum.sources.datapackage import read_datapackage
from relatum.sources.read import FORMATS, WORKBOOKS, Source, files_in, read_source, readable
from relatum.sources.stated import PLAIN, Stated
from relatum.sources.workbook import workbook_parts
from relatum.wording import listed, suggestion

#: What a file's name may have that tells its part of a table: a date, a number.
_NUMBERED = re.compile(r"[-_ .]*\d[\d_.-]*")


Reread = Callable[[Stated], TableData]
_Reading = tuple[str, Callable[[], Iterable["Raw"]]]


class Raw(Struct, frozen=True, eq=False):
    """A table as found: where it is, its rows, and what its source declares.

    ``headings`` are those of the columns that have another name here; ``reread`` reads the source otherwise;
    ``numbered`` says that headings were equal or missing, and got a number.
    """

    name: str
    source: Source
    data: TableData
    frame: object = None
    key: tuple[str, ...] = ()
    foreign_keys: tuple[ForeignKey, ...] = ()
    types: Mapping[str, str] = field(default_factory=dict)
    labels: Mapping[str, str] = field(default_factory=dict)
    about: str = ""
    headings: Mapping[str, str] = field(default_factory=dict)
    reread: Reread | None = None
    numbered: bool = False

    def plain(self) -> Raw:
        """This table with names for its columns that need no quotes."""
        names = [plain_name(heading, at, self.name) for at, heading in enumerate(self.data.types, 1)]
        new = dict(zip(self.data.types, with_numbers(names), strict=True))
        headings = {name: heading for heading, name in new.items() if name != heading}
        return replace(
            self,
            data=self.data.renamed(headings) if headings else self.data,
            key=tuple(new.get(each, each) for each in self.key),
            foreign_keys=tuple(
                replace(each, columns=tuple(new.get(one, one) for one in each.columns)) for each in self.foreign_keys
            ),
            types={new.get(name, name): type_ for name, type_ in self.types.items()},
            labels={new.get(name, name): label for name, label in self.labels.items()},
            headings=headings,
        )

    def read(self, nulls: Mapping[str, tuple[str, ...]]) -> TableData:
        """The rows with some texts taken for null in some columns."""
        assert self.reread is not None, "only text sources have texts to examine"
        old = {name: self.headings.get(name, name) for name in self.data.types}
        markers = {old[name]: found for name, found in nulls.items()}
        data = self.reread(Stated(nulls=markers, numbered=self.numbered))
        return data.renamed(self.headings) if self.headings else data


class LeftOut(Struct, frozen=True):
    """Something that was found and not made a table, and why."""

    what: str
    why: str


class _Site(Struct, frozen=True):
    """The folder that sources are relative to, the time zone in which they are read, and what is left out there."""

    folder: Path
    zone: str
    left_out: list[LeftOut] = field(default_factory=list)

    def read(self, source: Source, stated: Stated = PLAIN) -> TableData:
        return read_source(source, self.folder, replace(stated, zone=self.zone))

    def table(self, name: str, source: Source) -> Raw:
        """A table whose headings are a person's: some may be equal, or missing."""
        again = partial(self.read, source)
        try:
            return Raw(name, source, self.read(source), reread=again)
        except HeadingError:
            return Raw(name, source, self.read(source, Stated(numbered=True)), reread=again, numbered=True)


def collect(
    data: Iterable[object], frames: Mapping[str, object], folder: Path, zone: str = "UTC"
) -> tuple[list[Raw], list[LeftOut]]:
    """Every table that the data holds.

    Parameters
    ----------
    data : iterable of path or str
        Files, folders, workbooks, package descriptors, addresses of databases.
    frames : mapping of str to frame
        Frames by table name.
    folder : Path
        What the sources that are found are written relative to.
    zone : str
        The time zone on whose clocks moments that know their zone are read.

    Raises
    ------
    SourceError
        Something cannot be read, or holds no table at all.
    """
    site = _Site(folder, zone)
    found: list[Raw] = []
    for each in data:
        if not isinstance(each, str | os.PathLike):
            raise SourceError(
                f"A {type(each).__name__} is not a path, and a frame needs a name.",
                fix="Pass frames by name: relatum.draft(name=frame).",
            )
        found += _found(os.fspath(each), site)
    for name, frame in frames.items():
        found.append(Raw(name, Source(""), read_frame(frame, Stated(zone=zone), name), frame))
    if not found:
        raise SourceError("This data contains no tables.", fix="Name files, folders, a workbook or a database.")
    plain = [raw.plain() for raw in _apart(found)]
    return [_pointing_plainly(raw, plain) for raw in plain], site.left_out


def _pointing_plainly(raw: Raw, tables: list[Raw]) -> Raw:
    """A table whose foreign keys name columns as the tables that they point to do."""
    named = {each.name: {heading: name for name, heading in each.headings.items()} for each in tables}
    return replace(raw, foreign_keys=tuple(
        replace(key, target_columns=tuple(named.get(key.target, {}).get(each, each) for each in key.target_columns))
        for key in raw.foreign_keys
    ))  # fmt: skip


def _found(address: str, site: _Site) -> Iterator[Raw]:
    if is_server(address):
        yield from _database(address, site)
        return
    path = Path(address)
    if path.is_dir():
        yield from _folder(path, site)
    elif path.suffix == ".json" and path.is_file():
        yield from _package(path, site)
    elif "*" in path.name:
        yield _file(path, site, _stem(path.name.replace("*", "")))
    else:
        yield from _one(path, site)


def _one(path: Path, site: _Site) -> Iterator[Raw]:
    relative = _relative(path, site.folder)
    if is_database(str(path)):
        yield from _database(relative, site)
    elif _holds_several(path):
        yield from _archive(path, site)
    elif path.suffix.lower() in WORKBOOKS and path.is_file():
        for part in workbook_parts(path):
            yield site.table(_word(part), Source(relative, part))
    else:
        yield _file(path, site, _word(path.name) if path.is_dir() else _stem(path.name))


def _holds_several(path: Path) -> bool:
    return path.suffix.lower() == ".zip" and path.is_file() and len(members(path)) > 1


def _archive(path: Path, site: _Site) -> Iterator[Raw]:
    """The tables of an archive, each by its own file's name."""
    reads: list[_Reading] = []
    relative = _relative(path, site.folder)
    for member in members(path):
        if readable(path, member):
            found = partial(site.table, _stem(Path(member).name), Source(relative, member))
            reads.append((f"{path}: {member}", lambda found=found: [found()]))  # type: ignore[misc]
        else:
            said = f"files ending in {Path(member).suffix or 'nothing'} are not data files"
            site.left_out.append(LeftOut(f"{path}: {member}", said))
    yield from _readings(reads, site)


def _file(path: Path, site: _Site, name: str) -> Raw:
    return site.table(name, Source(_relative(path, site.folder)))


def _folder(path: Path, site: _Site) -> Iterator[Raw]:
    descriptor = path / "datapackage.json"
    if descriptor.is_file():
        yield from _package(descriptor, site)
        return
    groups: dict[tuple[str, str], list[Path]] = {}
    reads: list[_Reading] = []
    for each in sorted(path.iterdir()):
        kind = each.suffix.lower()
        if each.name.startswith("."):
            continue
        if each.is_dir():
            if any(readable(inner) for inner in each.iterdir()):
                reads.append((str(each), partial(_one, each, site)))
            else:
                site.left_out.append(LeftOut(str(each), "a folder without data files"))
        elif readable(each):
            groups.setdefault((_NUMBERED.sub("", bare_stem(each)) or bare_stem(each), _endings(each)), []).append(each)
        elif kind in WORKBOOKS or is_database(each.name) or kind == ".zip":
            reads.append((str(each), partial(_one, each, site)))
        else:
            site.left_out.append(LeftOut(str(each), f"files ending in {kind or 'nothing'} are not data files"))
    for (stem, kind), files in groups.items():
        reads += _grouped(stem, kind, files, site)
    yield from _readings(reads, site)
    if not reads:
        raise SourceError("No data files found here.", path=path, fix=f"Known endings: {listed(sorted(FORMATS))}.")


def _grouped(stem: str, kind: str, files: list[Path], site: _Site) -> list[_Reading]:
    """Files whose names differ by a number alone are one table if they have the same columns; else one each."""
    if len(files) > 1:
        pattern = files[0].with_name(f"{stem}*{kind}")
        if files_in(pattern) == files:
            try:
                whole = _file(pattern, site, _word(stem))
                return [(str(pattern), lambda: [whole])]
            except SourceError:
                pass  # of different shape: tables of their own
    return [(str(each), partial(_one, each, site)) for each in files]


def _readings(readings: list[_Reading], site: _Site) -> Iterator[Raw]:
    """The tables of a folder or database that can be read: a faulty one keeps no one from the rest."""
    errors = []
    for what, reading in readings:
        try:
            yield from reading()
        except SourceError as error:
            errors.append(error)
            line = f"line {error.line}: " if error.line is not None else ""
            site.left_out.append(LeftOut(what, line + " ".join(error.sentence().split())))
    if errors and len(errors) == len(readings):
        raise errors[0]


def _package(path: Path, site: _Site) -> Iterator[Raw]:
    _, resources = read_datapackage(path)
    for each in resources:
        source = Source(_relative(path.parent / each.path, site.folder))
        types = {name: parse_type(type_) for name, type_ in each.types.items()}
        data = site.read(source, Stated(types))
        keys = [(each.key, "primary key"), *((key.columns, "foreign key") for key in each.foreign_keys)]
        wrong = next(((name, what) for names, what in keys for name in names if name not in data.types), None)
        if wrong is not None:
            raise SourceError(
                f"The {wrong[1]} of {each.name} names {wrong[0]}, which is not a field.",
                path=path,
                fix=suggestion(wrong[0], data.types, noun="field"),
            )
        foreign = _pointing(each.foreign_keys)
        yield Raw(
            name=_word(each.name),
            source=source,
            data=data,
            frame=None,
            key=each.key,
            foreign_keys=foreign,
            types=each.types,
            labels=each.labels,
            about=each.about,
        )


def _database(address: str, site: _Site) -> Iterator[Raw]:
    def table(each: DatabaseTable) -> Iterator[Raw]:
        source = Source(address, each.name)
        yield Raw(_word(each.name), source, site.read(source), None, each.key, _pointing(each.foreign_keys))

    tables = database_tables(address, site.folder)
    yield from _readings([(each.name, partial(table, each)) for each in tables], site)


def _pointing(keys: Iterable[ForeignKey]) -> tuple[ForeignKey, ...]:
    return tuple(ForeignKey(each.columns, _word(each.target), each.target_columns) for each in keys)


def _relative(path: Path, folder: Path) -> str:
    return Path(os.path.relpath(path.resolve(), folder.resolve())).as_posix()


def _endings(path: Path) -> str:
    """A file's ending, and the one before it where it is packed."""
    return path.name[len(bare_stem(path)) :]


def _stem(name: str) -> str:
    return _word(bare_stem(Path(name)) or name)


def _word(text: str) -> str:
    """A name as formulas like it: lower case, words joined by underscores."""
    text = re.sub(r"(?<=[a-z0-9])(?=[A-Z])", "_", text.rpartition(".")[2] if text.count(".") == 1 else text)
    word = re.sub(r"\W+", "_", text.lower()).strip("_")
    return word if word and not word[0].isdigit() else f"table_{word}"


def _apart(found: list[Raw]) -> list[Raw]:
    """Two tables of one name get a number each."""
    names: dict[str, int] = {}
    apart = []
    for each in found:
        names[each.name] = names.get(each.name, 0) + 1
        number = names[each.name]
        apart.append(replace(each, name=each.name if number == 1 else f"{each.name}_{number}"))
    return apart
