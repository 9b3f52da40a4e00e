"""Pages over the whole window, each with a name: where one begins, the ledger, and views that are opened and closed again."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QStackedWidget, QWidget

START, WORK = "start", "work"


@dataclass
class _Page:
    make: Callable[[], QWidget]
    focus: Callable[[], QWidget]
    opened: Callable[[], object]
    widget: QWidget | None = None


class PageStack(QStackedWidget):
    """``turned`` carries the name of the page that is shown now."""

    turned = Signal(str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._pages: dict[str, _Page] = {}
        self.currentChanged.connect(lambda _: self.turned.emit(self.page))

    def register(
        self, name: str, make: Callable[[], QWidget], focus: Callable[[], QWidget], opened: Callable[[], object] = lambda: None
    ) -> None:
        """Add a page. It is made when it is first asked for: most are not opened most of the time.

        Parameters
        ----------
        focus : which widget takes the keys when the page is turned to.
        opened : what the page does when it is opened as a view.
        """
        self._pages[name] = _Page(make, focus, opened)

    def view(self, name: str) -> QWidget:
        """A page's widget, made where it is not there yet."""
        page = self._pages[name]
        if page.widget is None:
            page.widget = page.make()
            self.addWidget(page.widget)
        return page.widget

    def made(self, name: str) -> QWidget | None:
        """A page's widget, where it was asked for before."""
        return self._pages[name].widget

    @property
    def page(self) -> str:
        """The name of the page that is shown."""
        return next((name for name, p in self._pages.items() if p.widget is not None and p.widget is self.currentWidget()), START)

    @property
    def at_work(self) -> bool:
        """Whether a workflow is open: any page but the one where one begins."""
        return self.page != START

    def turn_to(self, name: str) -> None:
        """Show a page as it stands."""
        self.setCurrentWidget(self.view(name))

    def open_view(self, name: str, on: bool, opened: Callable[[], object] | None = None) -> None:
        """Open a view, or close it and be at the ledger again; nothing happens where no workflow is open.

        Parameters
        ----------
        opened : what it does then, instead of what it does by itself.
        """
        if not self.at_work:
            return
        page = self._pages[name if on else WORK]
        self.turn_to(name if on else WORK)
        if on:
            (opened or page.opened)()
        page.focus().setFocus()
