"""The views over the whole window, each made when it is first asked for: most are not opened most of the time."""

from __future__ import annotations

from collections.abc import Callable
from functools import cached_property, partial
from typing import TypeVar

from PySide6.QtCore import QObject, Signal
from PySide6.QtWidgets import QWidget

from eskret.desktop.forms.parameter_view import ParametersView
from eskret.desktop.frame.page_stack import PageStack
from eskret.desktop.publish.publish_view import PublishView
from eskret.desktop.state.publisher import Publisher
from eskret.desktop.state.session import Session
from eskret.desktop.views.layers import LayersView
from eskret.desktop.views.rounds import RoundsView
from eskret.desktop.views.runs import RunsView
from eskret.desktop.views.words import WordsView

V = TypeVar("V", WordsView, PublishView, ParametersView, RoundsView, RunsView, LayersView)


class FullViews(QObject):
    """Word lists, published data, parameters, rounds, runs and layers, as pages of a stack."""

    added = Signal(str)  # a step, from published data
    open_asked = Signal(object, bool)  # a run of earlier, and whether to run it again
    report_asked = Signal(object)

    def __init__(self, session: Session, publisher: Publisher, pages: PageStack) -> None:
        super().__init__(pages)
        self._session, self._publisher, self._pages = session, publisher, pages
        focus: dict[str, Callable[[], QWidget]] = {
            "words": lambda: self.words.table,
            "publish": lambda: self.publish.tree,
            "parameters": lambda: self.parameters.list,
            "rounds": lambda: self.rounds.grid,
            "runs": lambda: self.runs.list,
            "layers": lambda: self.layers.grid,
        }
        for name, first in focus.items():
            pages.register(name, partial(getattr, self, name), first, partial(self._open, name))

    def _open(self, name: str) -> None:
        getattr(self, name).open_view()

    def _closing(self, name: str, view: V) -> V:
        view.closed.connect(partial(self._pages.open_view, name, False))
        return view

    @cached_property
    def words(self) -> WordsView:
        return self._closing("words", WordsView(self._session))

    @cached_property
    def publish(self) -> PublishView:
        view = PublishView(self._session, self._publisher)
        view.added.connect(self.added)
        return self._closing("publish", view)

    @cached_property
    def parameters(self) -> ParametersView:
        return self._closing("parameters", ParametersView(self._session))

    @cached_property
    def rounds(self) -> RoundsView:
        return self._closing("rounds", RoundsView(self._session))

    @cached_property
    def runs(self) -> RunsView:
        view = RunsView(self._session)
        view.open_asked.connect(self.open_asked)
        view.report_asked.connect(self.report_asked)
        return self._closing("runs", view)

    @cached_property
    def layers(self) -> LayersView:
        return self._closing("layers", LayersView(self._session))

    def may_leave(self) -> bool:
        """Whether nothing unsaved in a view would be lost; the analyst is asked where it would."""
        return self._pages.made("words") is None or self.words.may_leave()

    def close_down(self) -> None:
        """End what those that were made have under way."""
        for name in ("publish", "runs"):
            if self._pages.made(name) is not None:
                getattr(self, name).close_down()
