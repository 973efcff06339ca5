"""A cache beside the model: columns and join indexes as Arrow files, found by what the sources hold.

Everything in it can be made again: it is safe to delete. Files are written aside and moved into place, so that two
processes never see half of one; they are named by a digest of what they were made of, so that none is ever stale.
"""

from __future__ import annotations

import functools
import logging
import os
import tempfile
import time
from collections.abc import Callable
from contextlib import suppress
from hashlib import blake2b
from pathlib import Path
from typing import Any

import msgspec
import pyarrow as pa

from relatum.data.columns import Column
from relatum.data.joins import JoinIndex
from relatum.data.stored import column_batch, column_of, map_batch, numbers_batch, numbers_of, write_batch
from relatum.data.table import TableData
from relatum.data.types import parse_type
from relatum.errors import SourceError
from relatum.model.atomic import write_bytes_atomically
from relatum.sources.fingerprint import Digests, FileState, refuse_changed
from relatum.version import __version__

#: What another release of the program kept is not looked at: it may have read the same file otherwise.
_VERSION = f"1 {__version__}"
#: Sources smaller than this are read as fast as they would be found here.
WORTH_BYTES = 2_000_000
_WORTH_ROWS = 200_000
#: What was not used for so long is taken out when the model is refreshed.
_STALE_DAYS = 30
_TAG = "Signature: 8a477f597d28d172789f06886806bc55\n# A cache of the models in this folder. It can be deleted.\n"
_log = logging.getLogger("relatum")


class NotKeptError(SourceError):
    """A column that nobody has asked for so far, of rows that were read before: the source must be read again."""


class _Known(msgspec.Struct):
    """A table as its source was read: enough to know its columns without looking at the source."""

    types: dict[str, str]
    rows: int
    left_out: dict[str, str]
    remarks: list[str]


class _Latest(msgspec.Struct):
    """Where a table's rows were last found, and under which name they are kept."""

    identity: str
    files: list[tuple[str, int, int, str]]


class Cache:
    """The cache of the models in one folder.

    Parameters
    ----------
    folder : Path
        Where the models are; the cache is the folder ``.relatum`` in it.
    """

    def __init__(self, folder: Path) -> None:
        self.folder = folder / ".relatum"
        self.digests = Digests(self._decoded("digests.json", dict[str, tuple[int, int, int, str]]) or {})
        self._latest: dict[str, _Latest] = self._decoded("latest.json", dict[str, _Latest]) or {}
        self._usable = True

    # -- tables -------------------------------------------------------------------------------------------------------

    def table(self, identity: str, files: tuple[FileState, ...]) -> TableData | None:
        """A table read before from the same content; None where there is none."""
        known = self._decoded(f"{identity}.json", _Known)
        if known is None:
            return None

        def lost(name: str) -> Column:
            raise NotKeptError(f"The cache does not hold the column {name}.")

        types = {name: parse_type(word) for name, word in known.types.items()}
        data = TableData(types, known.rows, lost, known.left_out, None, known.remarks)
        return data.identified(identity, files)

    def kept(self, data: TableData, source: str, again: Callable[[], TableData]) -> TableData:
        """The same table, its columns kept here once they are read, and found here later.

        ``source`` names where its rows come from, whatever they are; ``again`` reads them anew.
        """
        if not (self.folder / f"{data.identity}.json").exists():
            types = {name: str(type_) for name, type_ in data.types.items()}
            known = _Known(types, data.rows, data.left_out, list(data.remarks))
            self._write(f"{data.identity}.json", msgspec.json.encode(known))
        latest = _Latest(data.identity, [(each.path, each.size, each.modified, each.digest) for each in data.files])
        if self._latest.get(source) != latest:
            self._latest[source] = latest
            self._write("latest.json", msgspec.json.encode(self._latest))

        whole = functools.cache(again)

        def fetch(name: str) -> Column:
            key = f"{data.identity}-{_digest(name)[:16]}"
            found = self._mapped(key)
            if found is not None:
                return column_of(found)
            data.files = kept.files
            try:
                column = data.column(name)
            except NotKeptError:
                column = whole().column(name)
                refuse_changed(kept.files)
            self._write(f"{key}.arrow", column_batch(column))
            return column

        kept = data.fetched_by(fetch).identified(data.identity, data.files)
        return kept

    def latest(self, source: str) -> tuple[str, tuple[FileState, ...]] | None:
        """Under which name a source's rows were last kept, and of which files."""
        found = self._latest.get(source)
        return None if found is None else (found.identity, tuple(FileState(*each) for each in found.files))

    # -- joins --------------------------------------------------------------------------------------------------------

    def join(self, key: str, rows: int, make: Callable[[], JoinIndex]) -> JoinIndex:
        """A join index made before from the same columns, or made now and kept."""
        if rows < _WORTH_ROWS:
            return make()
        name = _digest(f"{_VERSION} {key}")
        found = self._mapped(name)
        if found is not None:
            positions, facts = numbers_of(found)
            return JoinIndex(positions, facts["size"], facts["null_keys"], facts["orphans"])
        index = make()
        batch = numbers_batch(index.positions, size=index.size, null_keys=index.null_keys, orphans=index.orphans)
        self._write(f"{name}.arrow", batch)
        return index

    # -- state --------------------------------------------------------------------------------------------------------

    def state(self, model: str) -> bytes | None:
        """What was recorded when a model was last refreshed."""
        path = self.folder / f"state-{_digest(model)[:16]}.json"
        return path.read_bytes() if path.is_file() else None

    def record(self, model: str, state: bytes) -> None:
        """Record a model's state in one step.

        Raises
        ------
        SourceError
            It cannot be written; the former state stays.
        """
        path = self.folder / f"state-{_digest(model)[:16]}.json"
        try:
            self._prepare()
        except OSError as error:
            raise SourceError(f"The state cannot be recorded: {error.strerror}.", path=self.folder) from None
        write_bytes_atomically(path, state)

    def tidy(self) -> None:
        """Take out what was not used for a month, and what a process that was killed left half-written."""
        limit = time.time() - _STALE_DAYS * 86_400
        for path in [*self.folder.glob("*.arrow"), *self.folder.glob(".new-*")]:
            with suppress(OSError):  # another process may have been quicker
                if path.stat().st_mtime < limit:
                    path.unlink()

    def close(self) -> None:
        """Remember the digests of the files that were looked at."""
        if self.digests.changed and self.folder.is_dir():
            self._write("digests.json", msgspec.json.encode(self.digests.known))

    # -- files --------------------------------------------------------------------------------------------------------

    def _mapped(self, name: str) -> Any:
        path = self.folder / f"{name}.arrow"
        try:
            batch = map_batch(path)
            os.utime(path)
        except FileNotFoundError:
            return None
        except (OSError, pa.ArrowException, IndexError):
            # Damaged, or written by another layout: it is made again.
            with suppress(OSError):
                path.unlink()
            return None
        return batch

    def _decoded(self, name: str, kind: Any) -> Any:
        try:
            return msgspec.json.decode((self.folder / name).read_bytes(), type=kind)
        except (OSError, msgspec.MsgspecError):
            return None

    def _prepare(self) -> None:
        self.folder.mkdir(exist_ok=True)
        for name, text in (("CACHEDIR.TAG", _TAG), (".gitignore", "*\n")):
            if not (self.folder / name).exists():
                (self.folder / name).write_text(text)

    def _write(self, name: str, content: Any) -> None:
        """Write a file aside and move it into place. Where that fails, the work goes on without the cache."""
        if not self._usable:
            return
        temporary = ""
        try:
            self._prepare()
            handle, temporary = tempfile.mkstemp(dir=self.folder, prefix=".new-")
            os.close(handle)
            if isinstance(content, bytes):
                Path(temporary).write_bytes(content)
            else:
                write_batch(Path(temporary), content)
            Path(temporary).replace(self.folder / name)
        except OSError as error:
            self._usable = False
            if temporary:
                Path(temporary).unlink(missing_ok=True)
            _log.warning("the cache %s cannot be written: %s", self.folder, error.strerror or error)


def _digest(text: str) -> str:
    return blake2b(text.encode(), digest_size=20).hexdigest()


def identity_of(source: str, files: tuple[FileState, ...]) -> str:
    """The name of a table's content: what its source says, and what the files hold."""
    return _digest(" ".join([_VERSION, source, *(each.digest for each in files)]))
