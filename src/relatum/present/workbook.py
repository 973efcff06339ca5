"""A grid as a workbook: numbers with their formats, levels that fold, and what the reader should know beside them."""

from __future__ import annotations

import io
from collections.abc import Iterator, Sequence
from datetime import date, datetime
from decimal import Decimal
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from relatum.data.arrow import python_values
from relatum.data.digits import is_number
from relatum.model.looks import said_of
from relatum.pivot.behind import RowsBehind, TableBehind
from relatum.pivot.result import OTHERS, TOTAL, Recipe, Result
from relatum.present.looks import PLAIN_LOOK, Look
from relatum.present.numbers import member_text
from relatum.present.paint import SIZE, Paint, colours_of
from relatum.present.shapes import SHEET_DIGITS, sheet_number
from relatum.present.sheet import Cell, Label, Line, Sheet, code_names, headed, sheet_of

_WIDEST, _LEVELS = 60, 7


class _Style(Struct, frozen=True):
    """What a cell's format is made of; each is made once in a workbook."""

    code: str = ""
    bold: bool = False
    italic: bool = False
    colour: str = ""
    fill: str = ""
    right: bool = False
    indent: int = 0
    top: bool = False
    wrap: bool = False


class _Book:
    """A workbook in the making, with its formats by what they look like."""

    def __init__(self, result: Result) -> None:
        import xlsxwriter  # noqa: PLC0415 - needed where a workbook is written

        self.buffer = io.BytesIO()
        options = {"in_memory": True, "strings_to_formulas": False, "strings_to_urls": False, "nan_inf_to_errors": True}
        self.book = xlsxwriter.Workbook(self.buffer, options)
        # The same grid gives the same file.
        self.book.set_properties({"title": result.model, "created": datetime(2000, 1, 1)})
        self.theme = result.theme
        self.colours = colours_of(result.theme, "light")
        named = result.theme.font.split(",")[0].strip(" '\"")
        self.font, self.size = named or "Calibri", result.theme.size or SIZE
        self._formats: dict[_Style, Any] = {}

    def format(self, style: _Style) -> Any:
        """The format of a style."""
        if style not in self._formats:
            said: dict[str, Any] = {"font_name": self.font, "font_size": self.size, "valign": "top"}
            said["font_color"] = style.colour or self.colours.text
            said |= {"bold": True} if style.bold else {}
            said |= {"italic": True} if style.italic else {}
            said |= {"num_format": style.code} if style.code else {}
            said |= {"bg_color": style.fill} if style.fill else {}
            said |= {"align": "right" if style.right else "left"}
            said |= {"indent": style.indent} if style.indent else {}
            said |= {"top": 1, "top_color": self.colours.line} if style.top else {}
            said |= {"text_wrap": True} if style.wrap else {}
            self._formats[style] = self.book.add_format(said)
        return self._formats[style]

    def close(self) -> bytes:
        """The whole file."""
        self.book.close()
        return self.buffer.getvalue()


def workbook_bytes(result: Result, behind: RowsBehind | None = None) -> bytes:
    """A grid as an Office Open XML workbook (ISO/IEC 29500).

    Parameters
    ----------
    result : Result
        The grid; all of it is written.
    behind : RowsBehind, optional
        The rows behind it: they get sheets of their own, and cells become formulas over these.
    """
    sheet = sheet_of(result)
    book = _Book(result)
    grid, about = book.book.add_worksheet("Grid"), book.book.add_worksheet("About")
    pages = [] if behind is None else [book.book.add_worksheet(name) for name in _sheet_names(behind)]
    writer = _GridSheet(book, grid, result, sheet)
    if behind is not None:
        lists = [_RowsSheet(book, page, result, each, behind, at) for at, (page, each) in
                 enumerate(zip(pages, behind.tables, strict=True))]  # fmt: skip
        for each in lists:
            each.write()
        writer.formulas = _Formulas(result, behind, lists)
    writer.write()
    _about(book, about, result, sheet)
    return book.close()


def _sheet_names(behind: RowsBehind) -> list[str]:
    names: list[str] = []
    for each in behind.tables:
        name = "".join(" " if sign in "[]:*?/\\'" else sign for sign in f"Rows of {each.table}")[:31].strip()
        while name.lower() in (other.lower() for other in names):
            name = f"{name[:28]} {len(names) + 1}"
        names.append(name)
    return names


# -- the grid ---------------------------------------------------------------------------------------------------------


class _GridSheet:
    def __init__(self, book: _Book, page: Any, result: Result, sheet: Sheet) -> None:
        self.book, self.page, self.result, self.sheet = book, page, result, sheet
        self.depth = sheet.depth
        self.first_row, self.first_column = 2 + self.depth, len(sheet.headings) or 1
        self.formulas: _Formulas | None = None

    def write(self) -> None:
        page, sheet, book = self.page, self.sheet, self.book
        colours = book.colours
        values = ", ".join(map(headed, self.result.values, sheet.writers))
        page.write_string(0, 0, f"{self.result.model}  {values}", book.format(_Style(bold=True)))
        page.write_string(
            1, 0, "; ".join(self.result.request.filters) or "no filters", book.format(_Style(colour=colours.faint))
        )
        self._heads()
        for number, (line, cells) in enumerate(zip(sheet.rows, sheet.cells, strict=True)):
            row = self.first_row + number
            for at, label in enumerate(line.labels):
                self._label(row, at, label, line.total)
            for at, cell in enumerate(cells):
                self._cell(row, self.first_column + at, cell, line, sheet.columns[at])
        self._fold()
        page.freeze_panes(self.first_row, self.first_column)
        self._widths()
        self._bars()
        page.set_landscape()
        page.fit_to_pages(1, 0)
        page.repeat_rows(2, self.first_row - 1)

    def _heads(self) -> None:
        head = _Style(bold=True, colour=self.book.colours.head_text, fill=self.book.colours.head)
        bottom = self.first_row - 1
        for level in range(self.depth):
            for at in range(self.first_column):
                text = self.sheet.headings[at] if level == self.depth - 1 and at < len(self.sheet.headings) else ""
                self.page.write_string(2 + level, at, text, self.book.format(head))
        before: tuple[Label, ...] = ()
        for at, line in enumerate(self.sheet.columns):
            labels = (*line.labels,) or (Label("", "value"),)
            for level, label in enumerate(labels):
                again = label.text == (before[level].text if level < len(before) else None) and level < self.depth - 1
                again = again and labels[:level] == before[:level]
                style = self._looked(_Style(bold=True, colour=head.colour, fill=head.fill, right=True), label.look)
                row = bottom - len(labels) + 1 + level
                self.page.write_string(row, self.first_column + at, "" if again else label.look.marked(label.text),
                                       self.book.format(style))  # fmt: skip
            before = labels

    def _label(self, row: int, at: int, label: Label, total: bool) -> None:
        colours = self.book.colours
        faint = label.kind in ("null", "no match", "others")
        style = _Style(bold=total, italic=faint, colour=colours.faint if faint else "", fill=colours.total * total)
        text = "" if label.again else label.look.marked(label.text)
        self.page.write_string(row, at, text, self.book.format(self._looked(style, label.look)))

    def _cell(self, row: int, column: int, cell: Cell, line: Line, top: Line) -> None:
        colours = self.book.colours
        total = line.total or top.total
        style = _Style(bold=total, fill=colours.total * total, right=True)
        if not cell.there:
            self.page.write_blank(row, column, None, self.book.format(style))
            return
        if cell.null:
            style = _Style(bold=total, fill=style.fill, right=True, colour=colours.null)
        elif cell.negative:
            style = _Style(bold=total, fill=style.fill, right=True, colour=colours.negative)
        style = self._looked(style, cell.look)
        write = self.sheet.writers[cell.number]
        value = cell.value
        if is_number(value):
            number = sheet_number(write, value, cell.look.mark)
            if number is not None:
                style = replace(style, code=number.code)
                formula = None if self.formulas is None else self.formulas.of(cell, line, top, number.divided)
                if formula is not None and number.places is not None:
                    formula = f"=ROUND({formula[1:]},{number.places})"
                if formula is None:
                    self.page.write_number(row, column, number.number, self.book.format(style))
                else:
                    self.page.write_formula(row, column, formula, self.book.format(style), number.number)
                return
        if isinstance(value, date) and not write.format.pattern:
            code = "yyyy-mm-dd hh:mm:ss" if isinstance(value, datetime) else "yyyy-mm-dd"
            if value.year >= 1900 and not cell.look.mark:
                self.page.write_datetime(row, column, value, self.book.format(replace(style, code=code)))
                return
        self.page.write_string(row, column, cell.look.marked(cell.text), self.book.format(style))

    def _looked(self, style: _Style, look: Look) -> _Style:
        """A style with a look put on it."""
        if look == PLAIN_LOOK:
            return style
        fill = look.fill.of("light") if look.fill is not None else style.fill
        colour = look.text_colour("light") or style.colour
        bold = style.bold if look.bold is None else look.bold
        return replace(style, bold=bold, colour=colour, fill=fill)

    def _fold(self) -> None:
        """Levels as outline groups: deeper lines fold into the total above or below them."""
        rows = [_depth(line, self.result.axes[: self.result.row_count]) for line in self.sheet.rows]
        tops = [_depth(line, self.result.axes[self.result.row_count :]) for line in self.sheet.columns]
        for number, depth in enumerate(rows):
            if depth:
                self.page.set_row(self.first_row + number, None, None, {"level": min(depth, _LEVELS)})
        for number, depth in enumerate(tops):
            if depth:
                at = self.first_column + number
                self.page.set_column(at, at, None, None, {"level": min(depth, _LEVELS)})
        before = any(axis.total == "before" for axis in self.result.axes)
        self.page.outline_settings(True, not before, not before, False)

    def _widths(self) -> None:
        widths = self.result.theme.widths
        axes = self.result.axes[: self.result.row_count]
        for at in range(self.first_column):
            texts = [line.labels[at].text for line in self.sheet.rows if at < len(line.labels)]
            heading = self.sheet.headings[at] if at < len(self.sheet.headings) else ""
            own = widths.get(axes[at].name, 0) if at < len(axes) else 0
            self.page.set_column(at, at, own or min(max(map(len, [heading, *texts]), default=8) + 2, _WIDEST))
        tops = [_depth(line, self.result.axes[self.result.row_count :]) for line in self.sheet.columns]
        for at, line in enumerate(self.sheet.columns):
            cells = [row[at] for row in self.sheet.cells]
            number = next((cell.number for cell in cells if cell.there), 0)
            texts = [cell.text for cell in cells] + [label.text for label in line.labels[-1:]]
            own = widths.get(self.result.values[number].label, 0)
            width = own or min(max(map(len, texts), default=8) + 3, _WIDEST)
            options = {"level": min(tops[at], _LEVELS)} if tops[at] else {}
            self.page.set_column(self.first_column + at, self.first_column + at, width, None, options)

    def _bars(self) -> None:
        """Bars in cells, all of a value between the same ends."""
        ranges: dict[tuple[int, Paint], list[tuple[int, int]]] = {}
        for number, cells in enumerate(self.sheet.cells):
            for at, cell in enumerate(cells):
                if cell.look.bar is not None and cell.look.bar_paint is not None:
                    key = cell.number, cell.look.bar_paint
                    ranges.setdefault(key, []).append((self.first_row + number, self.first_column + at))
        for (_, paint), places in ranges.items():
            numbers = [self._stored(row, column) for row, column in places]
            top, left = min(row for row, _ in places), min(column for _, column in places)
            bottom, right = max(row for row, _ in places), max(column for _, column in places)
            self.page.conditional_format(
                top, left, bottom, right,
                {
                    "type": "data_bar", "bar_color": paint.of("light"), "bar_solid": True,
                    "min_type": "num", "min_value": min(0.0, *numbers), "max_type": "num", "max_value": max(numbers),
                    "multi_range": " ".join(_name(row, column) for row, column in places),
                },
            )  # fmt: skip

    def _stored(self, row: int, column: int) -> float:
        cell = self.sheet.cells[row - self.first_row][column - self.first_column]
        number = sheet_number(self.sheet.writers[cell.number], cell.value)
        return 0.0 if number is None else number.number


def _depth(line: Line, axes: Sequence[Any]) -> int:
    """How many levels a line lies below the coarsest: members of fields that are not attributes, less one."""
    kinds = [label.kind for label, axis in zip(line.labels, axes, strict=False) if axis.attribute is None]
    return max(sum(kind not in ("total", "below") for kind in kinds) - 1, 0)


def _name(row: int, column: int, fixed: str = "") -> str:
    """A cell's name: B7, or $B$7."""
    letters, left = "", column + 1
    while left:
        left, digit = divmod(left - 1, 26)
        letters = chr(ord("A") + digit) + letters
    return f"{fixed}{letters}{fixed}{row + 1}"


# -- rows behind ------------------------------------------------------------------------------------------------------


class _RowsSheet:
    """The rows of one table, with the codes of their members and what each sum takes of them."""

    def __init__(
        self, book: _Book, page: Any, result: Result, behind: TableBehind, whole: RowsBehind, number: int
    ) -> None:
        self.book, self.page, self.result, self.behind = book, page, result, behind
        self.parts = {at: part for at, part in enumerate(whole.parts) if part.table == number}
        self.name = page.get_name()
        self.columns: dict[tuple[str, int], int] = {}

    def write(self) -> None:
        head = self.book.format(
            _Style(bold=True, colour=self.book.colours.head_text, fill=self.book.colours.head, wrap=True)
        )
        plain = self.book.format(_Style())
        at = 0

        def column(heading: str, values: Sequence[Any]) -> None:
            nonlocal at
            self.page.write_string(0, at, heading, head)
            for row, value in enumerate(values, 1):
                _write(self.page, row, at, value, plain)
            self.page.set_column(at, at, min(max(len(heading) + 2, 12), 30))
            at += 1

        column("row", (self.behind.rows + 1).tolist())
        for heading, values in self.behind.columns.items():
            column(heading, python_values(values))
        for position, codes in self.behind.members.items():
            axis = self.result.axes[position]
            names = code_names(axis, codes, self.result.locale)
            column(axis.label, [names[code] for code in codes.tolist()])
            self.columns["member", position] = at
            column(f"{axis.label} (number)", codes.tolist())
        for number, part in self.parts.items():
            self.columns["part", number] = at
            worth = [1] * len(self.behind.rows) if part.worth is None else python_values(part.worth)
            column("counted" if part.worth is None else f"value {number + 1}", worth)
        self.page.freeze_panes(1, 1)
        self.page.autofilter(0, 0, len(self.behind.rows), at - 1)

    def range(self, kind: str, number: int) -> str:
        """The range of a column, as formulas of other sheets name it."""
        at = self.columns[kind, number]
        last = max(len(self.behind.rows), 1)
        return f"'{self.name}'!{_name(1, at, '$')}:{_name(last, at, '$')}"


def _write(page: Any, row: int, column: int, value: Any, plain: Any) -> None:
    match value:
        case None:
            page.write_blank(row, column, None, plain)
        case bool():
            page.write_boolean(row, column, value, plain)
        case int() if len(str(abs(value))) > SHEET_DIGITS:
            page.write_string(row, column, str(value), plain)
        case int() | float() | Decimal():
            page.write_number(row, column, float(value), plain)
        case _:
            page.write_string(row, column, member_text(value), plain)


class _Formulas:
    """Cells as formulas over the rows behind them."""

    def __init__(self, result: Result, behind: RowsBehind, lists: Sequence[_RowsSheet]) -> None:
        self.result, self.behind, self.lists = result, behind, lists

    def of(self, cell: Cell, line: Line, top: Line, divided: int) -> str | None:
        """A cell's formula; None where rows do not tell it."""
        recipe = self.behind.recipes[cell.number]
        if recipe is None:
            return None
        labels = [*line.labels[: self.result.row_count], *top.labels[: len(self.result.axes) - self.result.row_count]]
        codes = [label.code for label in labels]
        if OTHERS in codes:
            return None
        members = {
            at: code
            for at, code in enumerate(codes)
            if code >= 0 and code != TOTAL and self.result.axes[at].attribute is None
        }
        text = self._text(recipe, recipe.steps, members)
        if text is None:
            return None
        return f"=({text})/{divided}" if divided > 1 else f"={text}"

    def _text(self, recipe: Recipe, steps: list[Any], members: dict[int, int]) -> str | None:
        match steps:
            case ["part", number]:
                return self._sum(number, members)
            case ["number", value]:
                return repr(value)
            case ["negate", inner]:
                text = self._text(recipe, inner, members)
                return None if text is None else f"-({text})"
            case [("+" | "-" | "*" | "/") as sign, left, right]:
                sides = [self._text(recipe, each, members) for each in (left, right)]
                return None if None in sides else f"({sides[0]}){sign}({sides[1]})"
        raise AssertionError(f"no recipe has {steps[0]!r}")

    def _sum(self, number: int, members: dict[int, int]) -> str | None:
        place = self.behind.parts[number].table
        listed, own = self.lists[place], self.behind.tables[place].members
        if any(at not in own for at in members):
            return None
        total = listed.range("part", number)
        if not members:
            return f"SUM({total})"
        # A product with booleans sums the rows of the members, which are named by number: no text is compared.
        criteria = "*".join(f"({listed.range('member', at)}={code})" for at, code in members.items())
        return f"SUMPRODUCT({criteria}*{total})"


# -- about ------------------------------------------------------------------------------------------------------------


def _about(book: _Book, page: Any, result: Result, sheet: Sheet) -> None:
    """A sheet that says what was asked, what each value means, what looks mean, and what to know."""
    head, plain = book.format(_Style(bold=True)), book.format(_Style(wrap=True))
    page.set_column(0, 0, 18)
    page.set_column(1, 2, 70)
    page.set_landscape()
    page.fit_to_pages(1, 0)
    for row, (what, text, more) in enumerate(_remark_rows(result, sheet)):
        page.write_string(row, 0, what, head)
        page.write_string(row, 1, text, plain)
        page.write_string(row, 2, more, plain)


def _remark_rows(result: Result, sheet: Sheet) -> Iterator[tuple[str, str, str]]:
    yield "model", result.model, ""
    yield "where", result.where or "no filters", ""
    if result.request.keep:
        yield "keep", result.request.keep, ""
    for axis, fields in (("rows", result.request.rows), ("columns", result.request.columns)):
        if fields:
            yield axis, ", ".join(fields), ""
    for value, write in zip(result.values, sheet.writers, strict=True):
        yield headed(value, write), "\n".join(value.formulas), value.about
        words = ", ".join(f"{word} {text}" for word, text in said_of(value.format).items())
        if words:
            yield "", words, ""
    for entry in sheet.legend:
        yield "legend", entry.look.marked(entry.line), ""
    for note in result.notes:
        yield "note", note.text, ""
