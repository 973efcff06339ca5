"""The host of a live page: it answers messages, whichever way they come, and keeps the grids that a page looks at."""

from __future__ import annotations

import functools
import threading
from collections import OrderedDict
from collections.abc import Callable
from contextlib import ExitStack
from typing import Any, assert_never

import msgspec

from relatum.errors import FormulaError, LimitError, ModelError, RelatumError, RequestError, StoppedError
from relatum.immutable import as_plain
from relatum.model.declaration import SavedPivot
from relatum.model.names import column_name, quoted
from relatum.pivot.turning import request_of as saved_request
from relatum.present.grid import Grid
from relatum.present.page.write import theme_css
from relatum.present.tables import write_table
from relatum.runtime.limits import in_force, stoppable
from relatum.runtime.progress import listening
from relatum.session.session import Session
from relatum.view import answers
from relatum.view.live import Live
from relatum.view.protocol import (
    MOST_LISTED,
    MOST_ROWS,
    MOST_TEXT,
    Ask,
    Behind,
    BehindFile,
    Block,
    Call,
    Change,
    Chart,
    Check,
    Choose,
    Explain,
    Export,
    Fault,
    Impact,
    KeepPivot,
    Members,
    Messages,
    Model,
    Open,
    Parts,
    Progress,
    Read,
    Refresh,
    Relationship,
    Reply,
    Save,
    Stop,
    TakeBack,
    Try,
    Turn,
    Understand,
    Unsaved,
)
from relatum.view.sentence import (
    Choice,
    parts_of,
    place_in,
    read_text,
    request_of,
    text_of,
    with_choice,
    words_of,
)
from relatum.view.shown import Shown
from relatum.wording import suggestion

#: How many grids are kept for the blocks, pictures and explanations that a page asks of them.
_MOST_GRIDS = 8
#: How many lists of members are kept.
_MOST_LISTINGS = 3
#: What the page of a notebook is in, which its colours are stated for.
WIDGET = ".relatum-live"


class _Question:
    """A call that is being answered: how far it has come, and whether it is still wanted."""

    def __init__(self) -> None:
        self.stopped = threading.Event()
        self.step = ("", 0, 0)

    def hear(self, what: str, done: int, total: int) -> None:
        """Note how far it has come."""
        self.step = (what, done, total)


class Host:
    """Answers the messages of one page.

    Calls may come from several threads at once. A new grid, edit or save waits for none of them.

    Parameters
    ----------
    live : Live
        The model.
    start : Parts, optional
        The request to begin with; the model's first saved pivot, or its first measure, unless given.
    asked : callable, optional
        Called with each request that was answered, and its grid.
    """

    def __init__(
        self, live: Live, start: Parts | None = None, asked: Callable[[Parts, Grid], object] | None = None
    ) -> None:
        self.live = live
        self.start = first_request(live) if start is None else start
        self._asked = asked
        self._grids: OrderedDict[int, Shown] = OrderedDict()
        self._listings: list[tuple[tuple[str, str, Session], answers.Listing]] = []
        self._numbers = 0
        self._questions: dict[int, _Question] = {}
        self._lock = threading.Lock()
        # Matplotlib's drawing is not made for several threads.
        self._drawing = threading.Lock()

    def stop_all(self) -> None:
        """Stop every question."""
        for each in list(self._questions.values()):
            each.stopped.set()

    def stop(self, number: int) -> None:
        """Stop a question, if it is still being answered."""
        question = self._questions.get(number)
        if question is not None:
            question.stopped.set()

    def answer(self, call: Call) -> Reply:
        """The reply to a call: its answer, or why there is none. Nothing is raised."""
        question = _Question()
        watched = not isinstance(call.message, Progress | Stop)
        if watched:
            self._questions[call.number] = question
        try:
            with ExitStack() as stack:
                stack.enter_context(in_force(self.live.declaration.bounds))
                stack.enter_context(stoppable(question.stopped.is_set))
                stack.enter_context(listening(question.hear))
                return Reply(call.number, self._answered(call.message))
        except StoppedError as error:
            return Reply(call.number, fault=Fault(error.reason, stopped=True))
        except FormulaError as error:
            text = f"{error.owner}: {error.reason}" if error.owner else error.reason
            return Reply(call.number, fault=Fault(text, error.fix, error.text, error.span.start, error.span.stop))
        except LimitError as error:
            return Reply(
                call.number, fault=Fault(error.reason, error.fix.replace(", or --limit-", ", or start with --limit-"))
            )
        except RelatumError as error:
            return Reply(call.number, fault=Fault(str(error.reason), error.fix))
        except MemoryError:
            return Reply(call.number, fault=Fault("There is not enough memory for this.", "Ask for less."))
        except Exception as error:
            return Reply(call.number, fault=Fault(f"This is a bug in Relatum: {type(error).__name__}: {error}"))
        finally:
            if watched:
                self._questions.pop(call.number, None)

    # -- messages -----------------------------------------------------------------------------------------------------

    def _answered(self, message: Messages) -> Any:
        live = self.live
        match message:
            case Open():
                return self._opened()
            case Ask():
                return self._ask(message.request)
            case Understand():
                return self._said(parts_of(request_of(message.request)))
            case Block():
                return self._grid(message.grid).block(message.rows, message.columns)
            case Read():
                return self._read(message.text)
            case Members():
                return self._members(message)
            case Turn():
                return self._turned(message)
            case Choose():
                choice = Choice(message.rest, message.members)
                return self._filtered(message.request, message.column, choice, also=False)
            case Explain():
                return answers.explanation_answer(self._explained(message), message.against is not None)
            case Behind():
                rows = self._rows(message.grid, message.cell, message.evidence)
                return answers.rows_answer(rows, max(message.first, 0), min(message.count, MOST_ROWS))
            case BehindFile():
                ending = _one_of(message.ending, answers.ROW_ENDINGS, "kind of file")
                rows = self._rows(message.grid, message.cell, message.evidence)
                return answers.file_answer(f"rows{ending}", functools.partial(write_table, rows))
            case Chart():
                return answers.chart_answer(self._grid(message.grid).grid, message.chart, message.mode, message.size)
            case Export():
                return self._exported(message)
            case Model():
                with self._drawing:
                    return answers.model_answer(live.session, live.diagram())
            case Relationship():
                return answers.relationship_answer(live.session, message.link)
            case Impact():
                return answers.impact_answer(live.impact(message.name))
            case Try():
                return self._tried(message)
            case Change():
                return {"changes": list(live.edit(message.edit)), "names": answers.names_answer(live.session)}
            case TakeBack():
                return {"taken": live.take_back(), "names": answers.names_answer(live.session)}
            case Check():
                report = live.check()
                return {"findings": [as_plain(each) for each in report.findings], "summary": report.summary}
            case Refresh():
                return {"text": str(live.refresh()), "names": answers.names_answer(live.session)}
            case Unsaved():
                return {"lines": answers.difference_answer(*live.texts())}
            case Save():
                live.save()
                return {"file": live.file}
            case Progress():
                question = self._questions.get(message.number)
                what, done, total = ("", 0, 0) if question is None else question.step
                return {"what": what, "done": done, "total": total}
            case Stop():
                self.stop(message.number)
                return {}
            case _:
                assert_never(message)

    def _opened(self) -> dict[str, Any]:
        live, declaration = self.live, self.live.declaration
        return {
            "model": declaration.name,
            "locale": declaration.locale.replace("_", "-"),
            "file": live.file,
            "can": {"edit": live.editable, "save": live.editable and bool(live.file)},
            "start": self.start,
            "names": answers.names_answer(live.session),
            "theme": theme_css(declaration.theme, WIDGET),
            "charts": list(answers.CHARTS),
            "endings": list(answers.ENDINGS),
        }

    def _ask(self, parts: Parts) -> dict[str, Any]:
        _refuse_long(parts)
        grid = self.live.ask(parts)
        number, shown = self._keep(grid)
        if self._asked is not None:
            self._asked(parts, grid)
        return {**self._said(parts_of(grid.request)), "grid": number, **shown.first()}

    def _said(self, parts: Parts) -> dict[str, Any]:
        """A request's words, and the same request in other forms."""
        return {
            "request": parts,
            "words": words_of(parts),
            "text": text_of(parts),
            "forms": answers.forms_of(parts, self.live.file),
        }

    def _keep(self, grid: Grid) -> tuple[int, Shown]:
        shown = Shown(grid)
        with self._lock:
            self._numbers += 1
            self._grids[self._numbers] = shown
            while len(self._grids) > _MOST_GRIDS:
                self._grids.popitem(last=False)
            return self._numbers, shown

    def _grid(self, number: int) -> Shown:
        with self._lock:
            found = self._grids.get(number)
            if found is None:
                raise RequestError("This grid is no longer kept.", fix="Ask for it again.")
            self._grids.move_to_end(number)
            return found

    def _read(self, text: str) -> dict[str, Any]:
        if len(text) > MOST_TEXT:
            raise RequestError(f"A request has at most {MOST_TEXT:,} characters.")
        try:
            parts = read_text(text, [])
            self.live.ask(parts)
        except FormulaError as error:
            place = place_in(text, error)
            found = {"start": place.start, "stop": place.stop} if place is not None else {}
            return {"reason": error.reason, "fix": error.fix, **found}
        except StoppedError:
            raise
        except RelatumError as error:
            return {"reason": error.reason, "fix": error.fix}
        return {"request": parts}

    def _members(self, message: Members) -> dict[str, Any]:
        count = min(max(message.count, 1), MOST_LISTED)
        return self._listing(message.column, message.where).page(message.like, max(message.first, 0), count)

    def _listing(self, column: str, where: str) -> answers.Listing:
        """The members of a column under a condition; the last few lists are kept as long as the data is the same."""
        key = (column, where, self.live.session)
        with self._lock:
            known = next((listing for other, listing in self._listings if other == key), None)
        if known is None:
            known = answers.Listing(self.live.members(column, where).found)
            with self._lock:
                self._listings = [*self._listings, (key, known)][-_MOST_LISTINGS:]
        return known

    def _turned(self, message: Turn) -> Parts:
        shown = self._grid(message.grid)
        axis, member, code = shown.member(message.axis == "rows", message.line)
        parts = parts_of(shown.grid.request)
        match message.how:
            case "open":
                return parts_of(shown.grid.open(member).request)
            case "close":
                return parts_of(shown.grid.close(member).request)
            case "only" | "without":
                fields = words_of(parts).rows if axis.side == "rows" else words_of(parts).columns
                plain = axis.name == column_name(axis.table, axis.column)
                column = axis.name if plain else fields[axis.source].field
                choice = Choice(message.how == "without", [answers.key_of(axis, code, member)])
                return self._filtered(parts, column, choice, also=True)
            case _:
                assert_never(message.how)

    def _filtered(self, parts: Parts, column: str, choice: Choice, *, also: bool) -> Parts:
        """A request with a choice of a column's members, beside the one that it has or instead of it."""
        without = answers.without_value(self._listing(column, "").whole)
        return msgspec.structs.replace(parts, where=with_choice(parts.where, column, choice, without, also=also))

    def _explained(self, message: Explain) -> Any:
        shown = self._grid(message.grid)
        if message.against is None:
            return shown.explanation(message.cell)
        at, value = shown.cell(message.cell)
        against, other = shown.cell(message.against)
        if other != value:
            raise RequestError(f"These cells hold two values, {value} and {other}.", fix="Choose two of one value.")
        return shown.grid.explain(at, value, against=against, along=message.along)

    def _rows(self, number: int, cell: tuple[int, int], evidence: int) -> Any:
        return self._grid(number).rows_behind(cell, evidence)

    def _exported(self, message: Export) -> dict[str, str]:
        ending = _one_of(message.ending, answers.ENDINGS, "kind of file")
        grid = self._grid(message.grid).grid
        chart = None if message.chart == "auto" else message.chart
        with self._drawing:
            return answers.file_answer(
                f"{self.live.declaration.name}{ending}", lambda path: grid.save(path, chart=chart)
            )

    def _tried(self, message: Try) -> dict[str, Any]:
        twin = self.live.twin()
        impact = answers.impact_of_edit(self.live, message.edit)
        changes = list(twin.edit(message.edit))
        found: dict[str, Any] = {"changes": changes, "impact": impact}
        if isinstance(message.edit, KeepPivot):
            return found
        after = twin.ask(message.request)
        number, shown = self._keep(after)
        found |= {"grid": number, **shown.first()}
        try:
            found["moved"] = answers.moved_answer(self.live.ask(message.request), after)
        except StoppedError:
            raise
        except RelatumError:
            found["moved"] = ""  # the request names what the edit adds
        return found


def first_request(live: Live, name: str = "") -> Parts:
    """The request that a page begins with: a saved pivot, the first one unless it is named, or the first measure.

    Raises
    ------
    ModelError
        There is no such pivot.
    """
    declaration = live.declaration
    saved: SavedPivot | None = declaration.pivot(name) if name else next(iter(declaration.pivots.values()), None)
    if saved is not None:
        return parts_of(saved_request(saved, {}))
    if declaration.measures:
        return Parts(values=[quoted(next(iter(declaration.measures)))])
    if not declaration.tables:
        raise ModelError("The model has no tables, so there is nothing to show.", fix="Add one: model.add_table(…).")
    return Parts(values=[f"count({quoted(next(iter(declaration.tables)))})"])


def _refuse_long(parts: Parts) -> None:
    texts = [*parts.rows, *parts.columns, *parts.values, parts.where, parts.keep]
    if sum(map(len, texts)) > MOST_TEXT:
        raise RequestError(f"A request has at most {MOST_TEXT:,} characters.")


def _one_of(word: str, known: tuple[str, ...], noun: str) -> str:
    if word not in known:
        raise RequestError(f"Unknown {noun} {word}.", fix=suggestion(word, known, noun=noun))
    return word
