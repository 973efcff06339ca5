"""A model shown as a live page in a notebook."""

from __future__ import annotations

from typing import TYPE_CHECKING

from relatum.errors import RelatumError

if TYPE_CHECKING:
    from relatum.face.live_model import LiveModel, Viewed
    from relatum.pivot.request import Request
    from relatum.view.protocol import Parts
    from relatum.view.widget import LiveWidget

# What a page is made of is imported where one is asked for: a pivot starts without it.


def view(model: Viewed, pivot: str = "", *, read_only: bool = False) -> LiveWidget:
    """Show the model as a live page in a notebook: turn grids, chart, explain and edit.

    Parameters
    ----------
    pivot : str
        The saved pivot to begin with (default: the first one).
    read_only : bool
        Ask only: nothing of the model can be changed.

    Returns
    -------
    LiveWidget
        The widget. Its ``request`` is the current request of the page, its ``grid`` the answer, so that what was
        found by hand goes on in code.

    Raises
    ------
    ModelError
        Unknown saved pivot.
    RelatumError
        The extra ``notebook`` is not installed.
    """
    from relatum.face.live_model import LiveModel
    from relatum.view.host import first_request

    live = LiveModel(model, editable=not read_only)
    return _widget(live, first_request(live, pivot))


def view_request(model: Viewed, request: Request) -> LiveWidget:
    """A live page that begins with a request."""
    from relatum.face.live_model import LiveModel
    from relatum.view.sentence import parts_of

    return _widget(LiveModel(model), parts_of(request))


def _widget(live: LiveModel, start: Parts) -> LiveWidget:
    try:
        from relatum.view.widget import LiveWidget
    except ModuleNotFoundError as error:
        raise RelatumError(f"{error.name} is not installed.", fix="pip install 'relatum[notebook]'") from None
    return LiveWidget(live, start)
