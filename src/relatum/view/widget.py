"""The live page as a notebook's widget: the same page, over the messages of its kernel."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from typing import Any

import anywidget
import msgspec

from relatum.errors import RequestError
from relatum.present.grid import Grid
from relatum.present.page.write import widget_files
from relatum.view.host import Host
from relatum.view.live import Live
from relatum.view.protocol import Call, Parts, Progress, Stop, call_of, plain
from relatum.view.sentence import text_of

_SCRIPT, _STYLE = widget_files()
#: How many questions are answered at once; the kernel stays free for others, and for what stops them.
_AT_ONCE = 4


class LiveWidget(anywidget.AnyWidget):
    """A model's live page in a notebook.

    Parameters
    ----------
    live : Live
        The model.
    start : Parts
        The request to begin with.
    """

    _esm = _SCRIPT
    _css = _STYLE

    def __init__(self, live: Live, start: Parts) -> None:
        super().__init__()
        self._start = start
        self._shown: tuple[Parts, Grid] | None = None
        self._host = Host(live, start, self._note)
        self._workers = ThreadPoolExecutor(_AT_ONCE, "relatum-view")
        self.on_msg(self._hear)

    @property
    def request(self) -> str:
        """The current request of the page, as lines of text."""
        return text_of(self._start if self._shown is None else self._shown[0])

    @property
    def grid(self) -> Grid:
        """The answer that the page shows.

        Raises
        ------
        RequestError
            The page has not asked anything yet.
        """
        if self._shown is None:
            raise RequestError("The page has not asked anything yet.", fix="Show the widget first.")
        return self._shown[1]

    def close(self) -> None:
        """Stop what is being asked, and take the page away."""
        self._host.stop_all()
        self._workers.shutdown(wait=False, cancel_futures=True)
        super().close()

    def _note(self, parts: Parts, grid: Grid) -> None:
        self._shown = parts, grid

    def _hear(self, widget: object, content: Any, buffers: object) -> None:
        try:
            call = call_of(content)
        except msgspec.ValidationError:
            return  # no page of ours sends it
        if isinstance(call.message, Stop | Progress):
            self._answer(call)
        else:
            self._workers.submit(self._answer, call)

    def _answer(self, call: Call) -> None:
        self.send(plain(self._host.answer(call)))
