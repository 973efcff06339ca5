"""The live face of a model: build it, open it, edit it, ask it."""

from __future__ import annotations

import functools
import json
import os
from collections.abc import Callable
from contextlib import AbstractContextManager
from pathlib import Path
from typing import TYPE_CHECKING, Any

import msgspec
from msgspec.structs import replace

from relatum import markup
from relatum.arguments import checked, checked_call
from relatum.data.moments import check_zone
from relatum.errors import ModelError, RelatumError
from relatum.face import asking, dressing, editing, renaming, stating, viewing
from relatum.face.changing import ModelState
from relatum.model.declaration import Declaration, EngineChoice
from relatum.model.file import read_model
from relatum.model.key_lines import key_lines, line_of
from relatum.model.names import quoted
from relatum.pivot.request import Values, ValueText, ask
from relatum.present.patterns import check_locale, check_patterns
from relatum.runtime.atomic import write_atomically
from relatum.session.cache import Cache
from relatum.session.engine_choice import chosen_engine, engine_of_model, said_address, with_engine
from relatum.session.reading import Whereabouts, load_tables, relative_source, source_path
from relatum.session.session import Session

if TYPE_CHECKING:
    from relatum.audit.check import Report
    from relatum.change.compare import Comparison
    from relatum.change.refresh import Refreshed
    from relatum.present.diagram import Diagram
    from relatum.present.report.build import ReportPage

# What looks into a model is imported where it is asked for: a pivot starts without it.


@checked
class Model:
    """Tables, relationships, derived columns and measures, with their data.

    Each edit is checked immediately against the model and the data. A refused edit raises an error and leaves the
    model unchanged.

    Parameters
    ----------
    name : str
        The model's name in results.
    locale : str
        Language and country for numbers, such as ``en_GB``.
    currency : str
        The currency code for ``¤`` in a number format, such as ``EUR``.
    timezone : str
        The time zone, such as ``Europe/Berlin``, that timestamps with a zone are converted to.

    Examples
    --------
    >>> import pyarrow as pa, relatum
    >>> model = relatum.Model("stall")
    >>> model.add_table("sales", pa.table({"product": ["fig", "fig", "ivy"], "quantity": [2, 3, 4]}))
    >>> model.add_table("product", pa.table({"product": ["fig", "ivy"], "price": [5, 7]}), key="product")
    >>> model.relate("sales.product -> product.product")
    >>> model.measure("revenue", "sum(sales.quantity * product.price)")
    >>> model.evaluate("revenue")
    53
    """

    def __init__(
        self,
        name: str = "model",
        *,
        locale: str = "en",
        currency: str = "EUR",
        timezone: str = "UTC",
        engine: str | EngineChoice = "memory",
    ) -> None:
        check_locale(locale)
        check_zone(timezone)
        choice = chosen_engine(engine)
        declaration = Declaration(name=name, locale=locale, currency=currency, timezone=timezone, engine=choice)
        whereabouts = with_engine(Whereabouts(allow_outside=True), declaration)
        self._state = ModelState(Session.of(declaration, {}, place=whereabouts.engine), whereabouts)

    @classmethod
    def of(cls, declaration: Declaration, whereabouts: Whereabouts) -> Model:
        """The model of a declaration, with its data read from the sources it names.

        Raises
        ------
        ModelError, FormulaError, SourceError
            The declaration does not hold together, or a table's data cannot be read.
        """
        check_locale(declaration.locale)
        check_zone(declaration.timezone)
        check_patterns(declaration)
        model = cls.__new__(cls)
        whereabouts = with_engine(whereabouts, declaration)
        sources = load_tables(declaration, whereabouts)
        session = Session.of(declaration, sources, joins=whereabouts.cache, place=whereabouts.engine)
        model._state = ModelState(session, whereabouts)
        if whereabouts.cache is not None:
            whereabouts.cache.close()
        return model

    # -- its parts: each is a function of a model, in the file of its subject -----------------------------------------

    pivot = asking.pivot
    evaluate = asking.evaluate
    members = asking.members
    explain = asking.explain
    formula = asking.formula
    sql = asking.sql
    view = viewing.view
    _view_request = viewing.view_request
    keep_pivot = asking.keep_pivot

    add_table = editing.add_table
    add_calendar = editing.add_calendar
    add_role = editing.add_role
    add_derived_table = editing.add_derived_table
    relate = editing.relate
    derive = editing.derive
    measure = editing.measure
    hierarchy = editing.hierarchy
    control = editing.control

    column = stating.column
    table = stating.table
    rename = renaming.rename
    remove = renaming.remove
    impact = renaming.impact

    dress = dressing.dress
    limit = dressing.limit
    look = dressing.look
    add_report = dressing.add_report

    # -- itself -------------------------------------------------------------------------------------------------------

    @property
    def declaration(self) -> Declaration:
        """Everything that is stated about the model, as immutable records."""
        return self._state.declaration

    @property
    def session(self) -> Session:
        """The declaration with its data: for tools that look inside."""
        return self._state.session

    def edits(self) -> AbstractContextManager[None]:
        """Carry out several edits as one: they are checked once, at the end, and all of them take effect or none.

        Questions inside the block are answered from the state before it. Renaming and removing depend on what comes
        before them, and so check that first.

        Raises
        ------
        RelatumError
            The model that the edits lead to does not hold together; it stays as it was.

        Examples
        --------
        >>> import pyarrow as pa, relatum
        >>> model = relatum.Model("stall")
        >>> with model.edits():
        ...     model.add_table("sales", pa.table({"quantity": [2, 3]}))
        ...     model.measure("double", "2 * quantity")
        ...     model.measure("quantity", "sum(sales.quantity)")
        >>> model.evaluate("double")
        10
        """
        return self._state.edits()

    def _carry_out(self, name: str, work: Callable[[], Any]) -> Any:
        """Carry out a public call: see :class:`relatum.arguments.checked`."""
        return self._state.carry_out(name, work)

    def close(self) -> None:
        """Close the connection to the engine, if there is one. Tables sent to it are dropped.

        A ``with`` block closes the model at its end.

        Examples
        --------
        >>> import relatum
        >>> with relatum.Model("stall") as model:
        ...     model.evaluate("1 + 1")
        2
        """
        engine = self._state.whereabouts.engine
        if engine is not None:
            engine.close()

    def __enter__(self) -> Model:
        return self

    def __exit__(self, *exception: object) -> None:
        self.close()

    def __repr__(self) -> str:
        declaration = self.declaration
        return (
            f"<Model {declaration.name}: tables {', '.join(declaration.tables) or 'none'}; "
            f"measures {', '.join(declaration.measures) or 'none'}>"
        )

    def _repr_html_(self) -> str:
        declaration, data = self.declaration, self._state.session.data
        tables: list[markup.Row] = [
            [name, markup.Text(f"{data[name].rows:,}", number=True), markup.Text(each.about, prose=True)]
            for name, each in declaration.tables.items()
        ]
        related: list[markup.Row] = [[str(each)] for each in declaration.relationships]
        measures: list[markup.Row] = [
            [name, markup.Text(each.formula, prose=True), markup.Text(each.about, prose=True)]
            for name, each in declaration.measures.items()
        ]
        pivots: list[markup.Row] = [
            [name, *(markup.Text(", ".join(part), prose=True) for part in (each.rows, each.columns, each.values))]
            for name, each in declaration.pivots.items()
        ]
        parts: list[tuple[markup.Row, list[markup.Row]]] = [
            (["table", markup.Text("rows", number=True), ""], tables),
            (["relationship"], related),
            (["measure", "formula", ""], measures),
            (["pivot", "rows", "columns", "values"], pivots),
        ]
        shown = [markup.Table([heading], rows) for heading, rows in parts if rows]
        return markup.html([markup.line(declaration.name, bold=True), *shown])

    # -- looking into it ----------------------------------------------------------------------------------------------

    def check(self, value: str = "") -> Report:
        """Check the model, its data and its control totals.

        Parameters
        ----------
        value : str, optional
            The measure that shows what unmatched rows hold (default: the first one in a currency).

        Raises
        ------
        ModelError
            There is no such measure.

        Examples
        --------
        >>> import pyarrow as pa, relatum
        >>> model = relatum.Model("stall")
        >>> model.add_table("sales", pa.table({"product": ["fig", "fig", "ivy"], "quantity": [2, 3, 4]}))
        >>> model.check().ok
        True
        """
        from relatum.audit.check import check_session

        return check_session(self._state.session, value)

    def refresh(self) -> Refreshed:
        """Read the sources again: only the new lines of a file that has grown, nothing of one that is unchanged.

        Where the data as it is now cannot be used (a file or a column that the model needs is gone), the model stays as
        it was, and the result says what broke.

        Returns
        -------
        Refreshed
            What changed: files, rows, columns, members, and the old and new value of each measure.
        """
        from relatum.change.refresh import refresh, state_of

        with self._state.turn:
            before = state_of(self.session)
            found, session, _ = refresh(
                self._state.session.declaration, self._state.whereabouts, before, self._state.session.sources
            )
            if session is not None:
                self._state.session = session
        return found

    def report(self, name: str | os.PathLike[str]) -> ReportPage:
        """Build a report: key figures, charts, tables and text on one page.

        Parameters
        ----------
        name : str or path
            The name of a report in the model, or the path of a TOML file with just a report.

        Raises
        ------
        ModelError
            Unknown report, or the file cannot be read.
        RelatumError
            A part cannot be evaluated; the error says which.

        Examples
        --------
        >>> import relatum
        >>> model = relatum.Model("stall")
        >>> model.add_report("week", [{"heading": "This week", "text": "A **good** one."}])
        >>> "<strong>good</strong>" in model.report("week").text
        True
        """
        from relatum.model.file import read_report
        from relatum.pivot.answer import answer
        from relatum.present.report.build import report_page

        if isinstance(name, str):
            found, called = self.declaration.report(name), name
        else:
            path = Path(name)
            found, called = read_report(path, self.declaration), path.stem
        asked = functools.partial(answer, self._state.session)
        return report_page(called, found, self.declaration, self.pivot, asked, self.diagram)

    def diagram(self) -> Diagram:
        """Draw the tables and relationships.

        ``save("star.svg")`` writes SVG, PNG or Mermaid text; a notebook shows it.
        """
        from relatum.model.graph import graph_of
        from relatum.present.diagram import Diagram

        rows = {name: data.rows for name, data in self._state.session.data.items()}
        return Diagram(graph_of(self.declaration, rows))

    # -- files --------------------------------------------------------------------------------------------------------

    def save(self, path: str | os.PathLike[str], *, allow_outside: bool = False) -> None:
        """Write the model as a TOML file. Comments and order of an existing file are kept.

        Parameters
        ----------
        path : path
            The file. It is replaced in one step or not at all.
        allow_outside : bool
            Allow sources outside the file's folder.

        Raises
        ------
        ModelError
            A table is a frame in memory, or its source is outside the file's folder.
        """
        target = Path(path)
        write_atomically(target, self.text_for(target, allow_outside=allow_outside))

    def text_for(self, path: str | os.PathLike[str], *, allow_outside: bool = False) -> str:
        """The text that :meth:`save` would write to a file, comments and order of an existing one kept.

        Parameters
        ----------
        path, allow_outside
            As for :meth:`save`.

        Raises
        ------
        ModelError
            As for :meth:`save`.
        """
        from relatum.model.file import read_text
        from relatum.model.save import model_text

        target = Path(path)
        for name, table in self.declaration.tables.items():
            if table.frame:
                raise ModelError(
                    f"The table {name} is a frame in memory, which a file cannot refer to.",
                    fix="Write the frame to a Parquet file and add the table from there.",
                )
        former = read_text(target) if target.exists() else None
        return model_text(self.declaration, former, self._sources(target, allow_outside))

    def export(self, path: str | os.PathLike[str]) -> tuple[str, ...]:
        """Describe the tables for other programs.

        Parameters
        ----------
        path : path
            A file ending in ``.json`` becomes the descriptor of a Data Package (https://datapackage.org), with keys and
            foreign keys; one ending in ``.sql`` the statements that create the tables in a database.

        Returns
        -------
        tuple of str
            The tables left out: a Data Package describes only files.

        Raises
        ------
        ModelError
            Another file ending; no table comes from a file; or one is outside the descriptor's folder.
        """
        from relatum.sources.export import create_tables, datapackage

        target = Path(path)
        if target.suffix == ".json":
            described = datapackage(self.declaration, self._state.session.data, self._sources(target, False))
            write_atomically(target, json.dumps(described, indent=2, ensure_ascii=False) + "\n")
            there = {each["name"] for each in described["resources"]}
            return tuple(name for name in self.declaration.tables if name not in there)
        if target.suffix == ".sql":
            write_atomically(target, create_tables(self.declaration, self._state.session.data))
            return ()
        raise ModelError(
            f"Cannot export to files ending in {target.suffix or 'nothing'}.",
            path=target,
            fix="Name datapackage.json, or a file ending in .sql.",
        )

    def compare(self, other: Model, values: Values = ()) -> Comparison:
        """Compare with another model: what is defined differently, and which numbers differ.

        Parameters
        ----------
        other : Model
            The later one.
        values : str, list of str, or mapping
            Measures or formulas to compare, along with the controls of both (default: every measure both have).

        Raises
        ------
        RequestError
            A value is named twice.

        Examples
        --------
        >>> import pyarrow as pa, relatum
        >>> model = relatum.Model("stall")
        >>> model.add_table("sales", pa.table({"product": ["fig", "fig", "ivy"], "quantity": [2, 3, 4]}))
        >>> other = relatum.Model("stall")
        >>> other.add_table("sales", pa.table({"product": ["fig"], "quantity": [2]}))
        >>> model.compare(other, "sum(sales.quantity)").same
        False
        """
        from relatum.change.compare import Comparison, compare_values
        from relatum.change.differences import compare_declarations

        mine, theirs = self.declaration, other.declaration
        chosen = (
            ask(values=values).values
            if values
            else tuple(ValueText(name, quoted(name)) for name in mine.measures if name in theirs.measures)
        )
        moved, compared = compare_values(self._state.session, other._state.session, chosen)
        return Comparison(compare_declarations(mine, theirs), moved, compared)

    def _sources(self, target: Path, allow_outside: bool) -> dict[str, str]:
        """Each table's source as a file at ``target`` names it."""
        if not target.parent.is_dir():
            raise ModelError(f"There is no folder {target.parent}.", path=target)
        sources = {}
        for name, table in self.declaration.tables.items():
            if table.source:
                file = source_path(table, self._state.whereabouts)
                sources[name] = table.source if file is None else relative_source(file, target, name, allow_outside)
        return sources


@checked_call("refresh")
def refresh(path: str | os.PathLike[str], *, verify: bool = False) -> Refreshed:
    """Read a model file's sources again, compare them with what was recorded the last time, and record them.

    The record and what was read of large files are kept in the folder ``.relatum`` beside the model. Where the data as
    it is now cannot be used, the former record stays.

    Parameters
    ----------
    path : path
        The model's file.
    verify : bool
        Read every source in full to see whether it has changed. Without it, one that the system says is as it was,
        and of which samples are as they were, is taken to be the same.

    Raises
    ------
    ModelError, FormulaError
        The file cannot be understood; the error has the line.
    SourceError
        A source cannot be read, and nothing was recorded before.
    """
    from relatum.change.refresh import State, refresh

    file = Path(path)
    declaration = read_model(file)
    declaration = replace(declaration, engine=engine_of_model(declaration, None))
    folder = file.resolve().parent
    cache = Cache(folder, verify)
    stored = cache.state(file.name)
    try:
        before = None if stored is None else msgspec.json.decode(stored, type=State)
    except msgspec.MsgspecError:
        before = None  # recorded by another version: nothing to compare with
    try:
        whereabouts = with_engine(Whereabouts(folder, {}, False, cache, None, said_address(None)), declaration)
        found, _, after = refresh(declaration, whereabouts, before, {})
    except RelatumError as error:
        error.locate(file, line_of(key_lines(file.read_text(encoding="utf-8")), error.place))
        raise
    if after is not None:
        cache.record(file.name, msgspec.json.encode(after))
        cache.tidy()
    cache.close()
    return found


@checked_call("open")
def open(
    path: str | os.PathLike[str],
    *,
    allow_outside: bool = False,
    cache: bool = True,
    verify: bool = False,
    engine: str | EngineChoice | None = None,
) -> Model:
    """Open a model file and read what its tables need.

    Parameters
    ----------
    path : path
        A TOML file.
    allow_outside : bool
        Allow sources outside the file's folder.
    cache : bool
        Cache large files in the folder ``.relatum`` beside the model, so that it opens quickly the next time. The
        folder can be deleted at any time.
    verify : bool
        Read every source in full to see whether it has changed, instead of trusting file metadata.
    engine : str or EngineChoice, optional
        Where the tables live and requests are answered: ``"memory"``, ``"duckdb"``, ``"postgresql"`` or ``"spark"``,
        or an address of one of these (``"shop.duckdb"``, ``"postgresql://localhost/shop"``); what the file says unless
        given.

    Raises
    ------
    ModelError, FormulaError
        The file cannot be understood; the error has the line.
    SourceError
        A table's data cannot be read, or the engine cannot be reached.
    """
    file = Path(path)
    declaration = read_model(file)
    declaration = replace(declaration, engine=engine_of_model(declaration, engine))
    folder = file.resolve().parent
    kept = Cache(folder, verify) if cache else None
    whereabouts = Whereabouts(folder, {}, allow_outside, kept, engine_said=said_address(engine), verify=verify)
    try:
        return Model.of(declaration, whereabouts)
    except RelatumError as error:
        error.locate(file, line_of(key_lines(file.read_text(encoding="utf-8")), error.place))
        raise
