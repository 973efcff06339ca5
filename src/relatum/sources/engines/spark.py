"""Spark: tables of its catalogue, Parquet files, and small relations sent to it as temporary views."""

from __future__ import annotations

import logging
import os
import re
import sys
import threading
import time
import uuid
from collections.abc import Callable, Hashable, Sequence
from contextlib import suppress
from contextvars import copy_context
from pathlib import Path
from typing import Any, TypeVar

import numpy as np
import pyarrow as pa

from relatum.errors import RelatumError, SourceError, StoppedError
from relatum.runtime.garbage import look_as_usual
from relatum.runtime.limits import refuse_above, refuse_memory, refuse_stopped, time_left, too_late
from relatum.sources.database.calls import refuse_unknown
from relatum.sources.database.drivers import driver
from relatum.sources.database.query import one_select, own_names, written
from relatum.sources.engines.base import ROW, Connection, Relation, Source
from relatum.sources.files import parquet_columns
from relatum.sources.fingerprint import states_of

_Made = TypeVar("_Made")
#: How many seconds Spark has to cancel a query.
_PATIENCE = 15.0
#: Seconds after which the cancellation is sent again.
_AGAIN = 0.5
#: Where Spark runs unless a model says so: in processes of this machine, with two workers.
_HERE = "local[2]"
#: Settings that make Spark answer as the language asks: errors for what does not fit, moments on one clock, and no
#: table that is a path to a file.
_SETTINGS = {
    "spark.sql.ansi.enabled": "true",
    "spark.sql.session.timeZone": "UTC",
    "spark.sql.execution.arrow.pyspark.enabled": "true",
    "spark.sql.runSQLOnFiles": "false",
}
#: How Spark is started on this machine alone: no page, no port that other machines reach. A cluster has settings of
#: its own, in its spark-defaults.conf.
_STARTED = {
    "spark.ui.enabled": "false",
    "spark.ui.showConsoleProgress": "false",
    "spark.driver.bindAddress": "127.0.0.1",
    "spark.driver.host": "127.0.0.1",
    "spark.sql.shuffle.partitions": "4",
    "spark.log.level": "OFF",
    "spark.sql.catalogImplementation": "in-memory",
}
_TOO_LARGE = ("ARITHMETIC_OVERFLOW", "CAST_OVERFLOW", "NUMERIC_VALUE_OUT_OF_RANGE", "BINARY_ARITHMETIC_OVERFLOW")


class SparkConnection(Connection):
    """A session of Spark; ``address`` is its master, ``schema`` the database of its catalogue."""

    kind = dialect = "spark"

    def __init__(self, address: str, schema: str) -> None:
        super().__init__(address or _HERE)
        look_as_usual()  # Java keeps what Python has not let go of, and works ever more slowly
        builder = _package().SparkSession.builder.appName("relatum").master(address or _HERE)
        started = _STARTED if (address or _HERE).startswith("local") else {}
        for name, value in {**started, **_SETTINGS}.items():
            builder = builder.config(name, value)
        try:
            self._session = builder.getOrCreate().newSession()
            for name, value in _SETTINGS.items():
                self._session.conf.set(name, value)
            if schema:
                self._session.catalog.setCurrentDatabase(schema)
        except Exception as error:
            raise SourceError(
                f"Spark cannot be reached: {_said(error)}",
                path=self.shown,
                fix="It needs Java 17 or later; the address is that of its master, or local[2] for this machine.",
            ) from None
        # What it refuses is raised as an error, not written to the terminal as well.
        logging.getLogger("SQLQueryContextLogger").setLevel(logging.CRITICAL)
        self._views: list[str] = []
        self._files: dict[Path, None] = {}
        self._seen = self.state()
        self._group = f"relatum-{uuid.uuid4().hex[:12]}"

    def state(self) -> Hashable:
        """The system entries of the files that tables name; nothing about tables of its catalogue."""
        return states_of(self._files)

    def answered(self, statement: str) -> Any:
        """The answer to a SELECT."""
        table = self._waited_for(lambda: self._answered(statement))
        refuse_above("rows", table.num_rows, f"{self.shown}: {table.num_rows:,} rows")
        refuse_memory(table.nbytes, self.shown)
        return table

    def _answered(self, statement: str) -> Any:
        self._begin()
        try:
            return self._session.sql(statement).toArrow()
        except Exception as error:
            raise self._refusal(error) from None

    def answered_after(self, kept: Sequence[tuple[str, str]], statement: str) -> Any:
        """The answer to a SELECT that reads others: these are computed and kept by the workers while it runs.

        Spark puts a part of a query in wherever it is read: it would read the facts as often, and plan for longer than
        it works.
        """
        return self._waited_for(lambda: self._answered_after(kept, statement))

    def _answered_after(self, kept: Sequence[tuple[str, str]], statement: str) -> Any:
        self._begin()
        try:
            for name, select in kept:
                self._session.sql(select).localCheckpoint().createOrReplaceTempView(name)
            return self._answered(statement)
        except RelatumError:
            raise
        except Exception as error:
            raise self._refusal(error) from None
        finally:
            with suppress(Exception):
                for name, _ in kept:
                    self._session.catalog.dropTempView(name)

    def _waited_for(self, work: Callable[[], _Made]) -> _Made:
        """What work gives, waited for so long as it may take; what Spark does is cancelled after that, and where Ctrl-C
        is heard.
        """
        found: list[_Made] = []
        failed: list[BaseException] = []
        context = copy_context()

        def carried_out() -> None:
            try:
                found.append(context.run(work))
            except BaseException as error:
                failed.append(error)

        worker = threading.Thread(target=carried_out, daemon=True)
        ends = time.monotonic() + time_left()
        worker.start()
        try:
            while worker.is_alive() and time.monotonic() < ends:
                worker.join(min(1.0, max(ends - time.monotonic(), 0.0)))
                refuse_stopped()
        except (KeyboardInterrupt, StoppedError):
            self._give_up(worker)
            raise
        if not found and not failed:
            self._give_up(worker)
            raise too_late(f"{self.shown}: the engine")
        if failed:
            raise failed[0] from None
        return found[0]

    def _give_up(self, worker: threading.Thread) -> None:
        """Cancel what a thread waits for, and wait until it has ended: a process that ends before it is aborted."""
        ends = time.monotonic() + _PATIENCE
        while worker.is_alive() and time.monotonic() < ends:
            # Between two steps Spark may miss it, so it is sent again.
            self._session.sparkContext.cancelJobGroup(self._group)
            worker.join(_AGAIN)

    def _begin(self) -> None:
        """Put this thread's queries into the group that is cancelled together."""
        self._session.sparkContext.setJobGroup(self._group, "relatum", True)

    def _refusal(self, error: Exception) -> RelatumError:
        return self._failure(error, _TOO_LARGE, _said(error))

    def table(self, part: str) -> Relation:
        """A table or view of the catalogue."""
        source = self._named(*part.split("."))
        return Relation(part, self._schema(source, part), source)

    def query(self, text: str, shown: str) -> Relation:
        """A query: one SELECT."""
        tree = one_select(text, self.dialect, shown)
        refuse_unknown(written(tree, self.dialect), self._functions(), own_names(tree), shown)
        source = self._selected(text, shown)
        return Relation(shown, self._schema(source, shown), source)

    def _functions(self) -> set[str]:
        """The functions that Spark brings itself: none that somebody has added."""
        try:
            return {each[0].lower() for each in self._session.sql("show system functions").collect()}
        except Exception as error:
            raise self._refusal(error) from None

    def reads_files(self) -> bool:
        """Parquet files are read by Spark itself."""
        return True

    def files(self, paths: Sequence[Path], shown: str) -> Relation:
        """Parquet files, as a view that numbers their rows."""
        parquet_columns(paths)
        name = self._view_name("files")
        self._files.update(dict.fromkeys(paths))
        self._seen = self.state()
        try:
            # Folders named like q=100 make no columns, and the signs of patterns are escaped.
            reader = self._session.read.option("recursiveFileLookup", "true")
            frame = reader.parquet(*(re.sub(r"[\\*?{}\[\]]", r"\\\g<0>", str(path)) for path in paths))
            schema = self._arrow_schema(frame)
            numbered = frame.selectExpr(
                "*", f"concat(_metadata.file_path, lpad(_metadata.row_index, 18, '0')) as {ROW}"
            )
            numbered.createOrReplaceTempView(name)
        except Exception as error:
            raise SourceError(f"{shown} cannot be read: {_said(error)}", path=self.shown) from None
        return Relation(shown, schema, self._named(name), lambda alias: self._column(alias, ROW), row_is_text=True)

    def take(self, name: str, rows: Any) -> Relation:
        """Rows as a temporary view, which goes with the session."""
        numbered = rows.append_column(ROW, pa.array(np.arange(rows.num_rows)))
        view = self._view_name(name)
        try:
            frame = self._session.createDataFrame(numbered)
            for field in rows.schema:
                if pa.types.is_timestamp(field.type):
                    frame = frame.withColumn(field.name, frame[_quoted(field.name)].cast("timestamp_ntz"))
            frame.createOrReplaceTempView(view)
        except Exception as error:
            raise self._refusal(error) from None
        return Relation(view, rows.schema, self._named(view), lambda alias: self._column(alias, ROW))

    def _view_name(self, hint: str) -> str:
        name = f"{hint}_{len(self._views)}"
        self._views.append(name)
        return name

    def _schema(self, source: Source, shown: str) -> Any:
        try:
            return self._waited_for(lambda: self._arrow_schema(self._session.sql(self._no_rows_of(source))))
        except RelatumError:
            raise
        except Exception as error:
            raise SourceError(f"{shown} cannot be read: {_said(error)}", path=self.shown) from None

    def _arrow_schema(self, frame: Any) -> Any:
        from pyspark.sql.pandas.types import to_arrow_schema  # noqa: PLC0415

        return to_arrow_schema(frame.schema, timezone="UTC")

    def close(self) -> None:
        """Drop sent tables; Spark itself runs on for as long as this process does."""
        self.closed = True
        with suppress(Exception):
            for name in self._views:
                self._session.catalog.dropTempView(name)
        self._views.clear()


def _package() -> Any:
    """Spark's package for Python."""
    if not os.environ.get("PYSPARK_PYTHON"):
        os.environ["PYSPARK_PYTHON"] = sys.executable
    return driver("pyspark.sql.session", "spark")


def _quoted(name: str) -> str:
    return "`" + name.replace("`", "``") + "`"


def _said(error: Exception) -> str:
    """What Spark says, without what it says to programmers."""
    text = str(error).strip().splitlines() or [type(error).__name__]
    return text[0].partition(" SQLSTATE")[0][:300]
