"""A grid: a pivot's result, as a person or a program wants it."""

from __future__ import annotations

import functools
import os
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from relatum.arguments import checked
from relatum.data.arrow import python_values
from relatum.data.columns import Array
from relatum.data.digits import is_number
from relatum.data.types import Kind
from relatum.errors import RelatumError, RequestError
from relatum.pivot.behind import RowsBehind
from relatum.pivot.members import Found
from relatum.pivot.request import Names, Request
from relatum.pivot.result import BELOW, OTHERS, TOTAL, Axis, Result
from relatum.pivot.turning import changed, turned, with_closed, with_open
from relatum.plan.notes import Note
from relatum.present.extent import SCREEN, WHOLE, Extent, TextLayout
from relatum.present.markdown import grid_markdown
from relatum.present.pictures import PICTURES, picture_bytes
from relatum.present.sheet import writers_of
from relatum.present.tables import TABLE_FILES, csv_text, json_text, write_as
from relatum.runtime.atomic import write_atomically
from relatum.wording import suggestion

#: Endings of files that hold the tidy table, and of those that have no place for notes.
TIDY = tuple(TABLE_FILES)
NOTELESS = tuple(ending for ending in (*TIDY, *PICTURES) if ending != ".json")


class Questions(Struct, frozen=True):
    """What a grid can ask its model: another request, with its parts too; why a cell is; the rows behind; members."""

    asked: Callable[[Request], Result]
    with_parts: Callable[[Request], Result]
    explained: Callable[..., Any]
    behind: Callable[[Request], RowsBehind]
    members: Callable[[str, str], Found]
    viewed: Callable[[Request], Any]


@checked
class Grid:
    """The answer to a pivot.

    Printing it shows the filters in force, the values with subtotals and totals, and the notes. It hands itself to
    other libraries through the Arrow C stream interface: ``polars.DataFrame(grid)``.

    Parameters
    ----------
    result : Result
        What the engine found.
    questions : Questions
        What else the same model can be asked.
    """

    def __init__(self, result: Result, questions: Questions) -> None:
        self.result = result
        self._questions = questions

    # -- the same request, turned -------------------------------------------------------------------------------------

    def again(self, **parts: Any) -> Grid:
        """Ask the same request with some parts changed; the rest stay.

        Parameters
        ----------
        **parts
            ``rows``, ``columns``, ``values``, ``where``, ``keep``, ``totals``, ``show_empty``,
            ``values_on``, ``cell_limit`` or ``style``, as :meth:`relatum.Model.pivot` takes them.

        Raises
        ------
        RequestError, FormulaError
            Unknown part, or one that cannot be understood.

        Examples
        --------
        >>> import pyarrow as pa, relatum
        >>> model = relatum.Model("stall")
        >>> model.add_table("sales", pa.table({"product": ["fig", "fig", "ivy"], "quantity": [2, 3, 4]}))
        >>> grid = model.pivot(rows="sales.product", values="units: sum(sales.quantity)")
        >>> grid.again(rows="sales.product by count(sales) desc top 1").to_arrow().to_pylist()
        [{'sales.product': 'fig', 'units': 5}]
        """
        return self._with(changed(self.result.request, parts))

    def open(self, *members: Any) -> Grid:
        """Open members that are closed.

        Parameters
        ----------
        *members
            Members of fields that are ``closed`` or ``open (…)``: each is opened in the outermost that has it. None is
            the member null, ``relatum.NO_MATCH`` the rows whose lookup found nothing.

        Raises
        ------
        RequestError
            A member is not closed, or does not exist.
        """
        return self._with(with_open(self.result, members))

    def close(self, *members: Any, depth: int | None = None) -> Grid:
        """Close members.

        Parameters
        ----------
        *members
            The members to close. Without any, all but the first row field are closed.
        depth : int
            How many row fields stay open, instead of one.

        Raises
        ------
        RequestError
            A member is not open, or there are fewer row fields.
        """
        return self._with(with_closed(self.result, members, depth))

    def turn(self) -> Grid:
        """Swap rows and columns; the values' labels go with them."""
        return self._with(turned(self.result.request))

    def explain(
        self,
        at: Mapping[str, Any] | None = None,
        value: str = "",
        *,
        against: Mapping[str, Any] | None = None,
        along: str = "",
        listed: int = 5,
    ) -> Any:
        """Explain why a cell of this grid has its value.

        Parameters
        ----------
        at : mapping, optional
            Fields of the grid and members of the cell; the cell is the total over fields not named.
        value : str, optional
            The label of the value (default: the first one).
        against, along, listed : optional
            As of :meth:`relatum.Model.explain`.

        Returns
        -------
        Explanation
            Printing it shows everything.

        Raises
        ------
        RequestError
            The value, a field or a member does not exist.
        """
        labels = [each.label for each in self.result.values]
        if value and value not in labels:
            raise RequestError(f"The grid has no value {value}.", fix=suggestion(value, labels, noun="value"))
        number = labels.index(value) if value else 0
        return self._questions.explained(self.request, number, dict(at or {}), against, along, listed)

    @property
    def request(self) -> Request:
        """What was asked."""
        return self.result.request

    def _with(self, request: Request) -> Grid:
        return Grid(self._questions.asked(request), self._questions)

    @property
    def notes(self) -> tuple[Note, ...]:
        """What the reader should know about the values; each has a ``kind`` and a ``text``."""
        return self.result.notes

    def __str__(self) -> str:
        return self._text(None, SCREEN)

    __repr__ = __str__

    def _repr_html_(self) -> str:
        from relatum.present.html import grid_html  # noqa: PLC0415 - needed in a notebook alone

        return grid_html(self.result)

    def view(self) -> Any:
        """Show the grid as a live page in a notebook, where it can be turned, charted and explained.

        Returns
        -------
        LiveWidget
            The widget: see :meth:`relatum.Model.view`.

        Raises
        ------
        RelatumError
            The extra ``notebook`` is not installed.
        """
        return self._questions.viewed(self.request)

    def _text(self, width: int | None, extent: Extent) -> str:
        from relatum.present.text import grid_text  # noqa: PLC0415 - rich is not needed to ask a model

        return grid_text(self.result, width, extent)

    def to_text(self, width: int = 100, *, layout: TextLayout = "columns") -> str:
        """The grid as plain text, at most ``width`` characters wide where its columns allow.

        Parameters
        ----------
        width : int
            Characters.
        layout : str
            ``columns`` (a column for each row field) or ``nested`` (one for all, deeper members further in).
        """
        return self._text(width, replace(SCREEN, layout=layout))

    # -- drawn --------------------------------------------------------------------------------------------------------

    def chart(self, kind: str | None = None, **options: Any) -> Any:
        """The grid as a chart; totals are left out.

        Parameters
        ----------
        kind : str, optional
            ``bars``, ``stacked``, ``shares`` (to 100 %), ``lines``, ``areas``, ``points`` (two values), ``heat``,
            ``panels`` (a small chart for each), ``ranked`` (bars in order with their cumulative share), ``steps`` (of
            a change between two members of a column field), ``table`` (a small line in each row). By default one that
            fits is chosen; :meth:`chart_choice` says which, and why.
        **options
            ``value``, ``labels``, ``colour``, ``target``, ``title``, ``mode``, ``size``: see
            :class:`relatum.present.charts.options.ChartOptions`.

        Returns
        -------
        matplotlib.figure.Figure
            What is drawn; ``figure.savefig`` writes it.

        Raises
        ------
        RequestError
            There are too many marks, the grid lacks what the chart needs, or an option is invalid.
        """
        return self.drawn(kind, options)[0]

    def chart_choice(self) -> Any:
        """Which chart fits the grid, and why; printing it shows both."""
        from relatum.present.charts.choose import choose  # noqa: PLC0415 - as below

        return choose(self.result)

    def drawing(self, kind: str | None, options: Mapping[str, Any]) -> Any:
        """What the chart will show, to be drawn; see :meth:`chart`."""
        from relatum.present.charts.choose import checked  # noqa: PLC0415 - needed where a chart is drawn
        from relatum.present.charts.options import ChartOptions  # noqa: PLC0415 - as above
        from relatum.present.charts.plan import drawing_of  # noqa: PLC0415 - as above

        known = set(ChartOptions.__struct_fields__)
        for name in options:
            if name not in known:
                raise RequestError(f"Unknown chart option {name}.", fix=suggestion(name, known, noun="option"))
        chosen = None if kind is None else checked(kind)
        return drawing_of(self.result, chosen, ChartOptions(**options), _ChartAsker(self.result, self._questions))

    def drawn(self, kind: str | None, options: Mapping[str, Any]) -> Any:
        """The chart, the choice of its kind, and notes about it; see :meth:`chart`."""
        from relatum.present.charts.draw import draw  # noqa: PLC0415 - matplotlib is heavy

        drawing = self.drawing(kind, options)
        figure, notes = draw(drawing)
        return figure, drawing.choice, notes

    def to_arrow(self, totals: bool = False) -> Any:
        """A tidy ``pyarrow.Table``: one row for each combination shown, values exact.

        Parameters
        ----------
        totals : bool
            Add subtotals and totals, marked by a boolean column ``table.column:total`` for each field.
        """
        return self.result.to_arrow(totals)

    def __arrow_c_stream__(self, requested_schema: object = None) -> object:
        return self.result.__arrow_c_stream__(requested_schema)

    def to_pandas(self) -> Any:
        """The grid as shown, as a ``pandas.DataFrame``: row fields as its index, column fields as its columns.

        Totals are rows and columns named ``total``; decimals become floats (``to_arrow`` keeps them exact).

        Raises
        ------
        RelatumError
            pandas is not installed.
        """
        try:
            import pandas as pd  # noqa: PLC0415 - an optional package, loaded when a frame is asked for
        except ImportError:
            raise RelatumError("pandas is not installed.", fix="pip install 'relatum[frames]'") from None
        result = self.result
        layout = result.layout()
        rows = _index(pd, result.axes[: result.row_count], layout.rows)
        several = len(result.values) > 1 or not result.axes[result.row_count :]
        frames = {}
        for number, value in enumerate(result.values):
            column = result.column_of(number)
            array = pd.array(
                python_values(column),
                dtype="datetime64[ns]"
                if column.type.scale == 3 and column.type.kind is Kind.TIMESTAMP
                else _PANDAS[column.type.kind],
            )
            flat = array.take(layout.cells.reshape(-1), allow_fill=True)
            data = {at: flat[at :: len(layout.columns)] for at in range(len(layout.columns))}
            frames[value.label] = pd.DataFrame(data, index=rows)
        names = _index(pd, result.axes[result.row_count :], layout.columns)
        parts = []
        for at in range(len(layout.columns)):
            for label, frame in frames.items():
                parts.append((at, label, frame[at]))
        frame = pd.concat([part for _, _, part in parts], axis=1) if parts else pd.DataFrame(index=rows)
        keys = [
            _key(names[at] if len(result.axes) > result.row_count else (), label, several) for at, label, _ in parts
        ]
        depth_names = [axis.label for axis in result.axes[result.row_count :]] + (["value"] if several else [])
        frame.columns = (
            pd.MultiIndex.from_tuples(keys, names=depth_names)
            if len(depth_names) > 1
            else pd.Index([key[0] for key in keys], name=depth_names[0] if not several else None)
        )
        return frame

    def save(
        self,
        path: str | os.PathLike[str],
        *,
        totals: bool = False,
        rows_behind: bool = False,
        chart: str | None = None,
        prepare: Names = (),
        **options: Any,
    ) -> str:
        """Write the whole grid to a file in the format of its ending. The file is replaced in one step.

        Parameters
        ----------
        path : path
            Ending in ``.csv``, ``.json``, ``.parquet`` or ``.arrow``: the tidy table. In ``.txt``, ``.md``,
            ``.xlsx`` or ``.html``: the grid as shown.
        totals : bool
            Include subtotals and totals; the grid as shown always has them.
        rows_behind : bool
            In a workbook, add the rows behind sums, and make the sums formulas over them.
        prepare : str or list of str
            For ``.html``: as :meth:`to_html` takes it.
        chart, **options
            For ``.png``, ``.svg`` and ``.pdf``: the kind of chart and its options, as :meth:`chart` takes them.

        Returns
        -------
        str
            Which chart was drawn and why, with its notes; empty for other files.

        Raises
        ------
        RequestError
            Another file ending.
        """
        target = Path(path)
        remarks: list[str] = []

        def draws(ending: str) -> bytes:
            figure, choice, notes = self.drawn(chart, options)
            remarks.extend([f"chart {choice}", *notes])
            return picture_bytes(figure, ending)

        def tidy(write: Callable[[Any], str | bytes]) -> str | bytes:
            return write(self.to_arrow(totals))

        if rows_behind and target.suffix.lower() != ".xlsx":
            raise RequestError(
                "rows_behind works only with .xlsx files.", path=target, fix="Name a file ending in .xlsx."
            )
        write_as(
            target,
            "A grid is",
            {
                **{ending: functools.partial(tidy, write) for ending, write in TABLE_FILES.items()},
                ".json": lambda: self.to_json(totals=totals) + "\n",
                ".txt": lambda: self._text(200, WHOLE) + "\n",
                ".md": self.to_markdown,
                ".xlsx": lambda: self._workbook(rows_behind),
                ".html": lambda: self.to_html(prepare=prepare),
                **{ending: functools.partial(draws, ending) for ending in PICTURES},
            },
        )
        return "; ".join(remarks)

    def _workbook(self, rows_behind: bool) -> bytes:
        from relatum.present.workbook import workbook_bytes  # noqa: PLC0415 - needed where a workbook is written

        return workbook_bytes(self.result, self._questions.behind(self.request) if rows_behind else None)

    def to_markdown(self) -> str:
        """The grid as shown, as a table in Markdown with the filters above and the notes below it."""
        return grid_markdown(self.result)

    def to_html(self, path: str | os.PathLike[str] | None = None, *, prepare: Names = ()) -> str:
        """The grid as a page: one file for a browser that loads nothing from the network.

        Members open and close, lines can be sorted by any column, and members can be chosen from lists; a
        chart follows. Totals over chosen members are computed from parts that add up, or are struck out
        with the reason.

        Parameters
        ----------
        path : path, optional
            Also write it to this file.
        prepare : str or list of str
            Columns for whose members the grid is computed in advance, so that one can be chosen in the page.

        Raises
        ------
        RequestError
            The prepared grids would have too many cells, or a column is on an axis.
        """
        from relatum.present.page.document import Asker, document  # noqa: PLC0415 - needed where a page is written
        from relatum.present.page.write import page_html  # noqa: PLC0415 - as above

        names = [prepare] if isinstance(prepare, str) else prepare
        columns = [name.strip() for text in names for name in text.split(",") if name.strip()]
        asker = Asker(self._questions.with_parts, self._questions.members)
        text = page_html(document(self.request, asker, columns), self.result.theme)
        if path is not None:
            write_atomically(Path(path), text)
        return text

    def to_csv(self, path: str | os.PathLike[str] | None = None, *, totals: bool = False, guarded: bool = True) -> str:
        """The tidy table as CSV text, with full numbers without grouping; a ``path`` also writes it to a file.

        A text that looks like a formula (``=``, ``+``, ``-``, ``@``) gets an apostrophe in front, so that no program
        that opens the file evaluates it; ``guarded=False`` leaves it out.
        """
        text = csv_text(self.to_arrow(totals), guarded)
        if path is not None:
            write_atomically(Path(path), text)
        return text

    def to_json(self, path: str | os.PathLike[str] | None = None, *, totals: bool = False) -> str:
        """The tidy table as JSON: filters, notes and a list of records; decimals are numbers, written in full.

        A ``path`` also writes it to a file.
        """
        text = self._json(totals)
        if path is not None:
            write_atomically(Path(path), text + "\n")
        return text

    def _json(self, totals: bool) -> str:
        document = {
            "model": self.result.model,
            "where": self.result.where,
            "keep": self.result.request.keep,
            "notes": [{"kind": note.kind, "text": note.text} for note in self.notes],
            "records": self.to_arrow(totals).to_pylist(),
        }
        return json_text(document)


class _ChartAsker(Struct, frozen=True):
    """What a chart of a grid may ask."""

    result: Result
    questions: Questions

    def total(self, value: int) -> Any:
        """A value's total as the grid would show it, and whether members of the rows add up to it."""
        from relatum.present.charts.plan import Total  # noqa: PLC0415 - needed where a chart is drawn

        asked = replace(self.result.request, values=(self.result.request.values[value],), style=())
        (recipe,) = self.questions.with_parts(asked).recipes
        total = self.questions.asked(replace(asked, rows=(), columns=())).scalar()
        fields = frozenset(at for at in range(self.result.row_count) if self.result.axes[at].attribute is None)
        return Total(float(total) if is_number(total) else None, recipe.linear and fields <= recipe.fields)

    def steps(self) -> Any:
        """The steps from the first to the last member of the columns' one field, as an explanation takes them apart."""
        columns, rows = self.result.axes[self.result.row_count :], self.result.axes[: self.result.row_count]
        lines = [line for line in self.result.layout().columns.tolist() if TOTAL not in line]
        if len(columns) != 1 or len(lines) < 2 or not rows:
            raise RequestError(
                "steps compares two members of a column field, by the rows.",
                fix="Use rows, and one column field with two members, such as two years.",
            )
        (first,), (last,) = lines[0], lines[-1]
        name = columns[0].name
        values = columns[0].member_values(np.array([first, last]))
        if first not in values or last not in values:
            raise RequestError("steps works between plain members, not null or no match.")
        asked = replace(self.result.request, rows=())
        found = self.questions.explained(asked, 0, {name: values[last]}, {name: values[first]}, rows[0].name, 5)
        return found.steps(writers_of(self.result)[0])


_PANDAS = {
    Kind.INTEGER: "Int64",
    Kind.DECIMAL: "Float64",
    Kind.FLOAT: "Float64",
    Kind.TEXT: "string",
    Kind.BOOLEAN: "boolean",
    Kind.DATE: "object",
    Kind.TIMESTAMP: "datetime64[us]",
    Kind.NULL: "object",
}


def _index(pd: Any, axes: tuple[Axis, ...], codes: Array) -> Any:
    if not axes:
        return pd.Index([""] * len(codes))
    levels = []
    for number, axis in enumerate(axes):
        own = codes[:, number]
        names = {
            **axis.member_values(own),
            axis.members.null: None,
            axis.members.no_match: "(no match)",
            TOTAL: "total",
            OTHERS: "others",
            BELOW: "",
        }
        level = np.empty(len(own), dtype=object)
        level[:] = [names[code] for code in own.tolist()]
        levels.append(level)
    labels = [axis.label for axis in axes]
    if len(axes) == 1:
        return pd.Index(levels[0], name=labels[0])
    return pd.MultiIndex.from_arrays(levels, names=labels)


def _key(names: Any, label: str, several: bool) -> tuple[Any, ...]:
    parts = names if isinstance(names, tuple) else (names,)
    return (*parts, label) if several else tuple(parts)
