"""What stands at the right of the ledger where it is wanted: the workflow as Python, and the Python pane."""

from __future__ import annotations

from functools import cached_property

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QSplitter, QWidget

from eskret.desktop.python_console.console import ConsolePane
from eskret.desktop.python_console.script_pane import ScriptPane
from eskret.desktop.state.session import Session

WIDEST = 520  # pixels


class SidePanes(QSplitter):
    """Two panes over each other, each made when it is first shown; as wide as is needed while one is there."""

    save_asked = Signal()
    shown = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__(Qt.Orientation.Vertical)
        self._session = session
        self._shown: dict[str, bool] = {"script": False, "console": False}
        self.setHandleWidth(1)
        self.hide()

    @cached_property
    def script(self) -> ScriptPane:
        pane = ScriptPane(self._session)
        pane.closed.connect(lambda: self.show_pane("script", False))
        pane.save_asked.connect(self.save_asked)
        self.insertWidget(0, pane)
        return pane

    @cached_property
    def console(self) -> ConsolePane:
        pane = ConsolePane(self._session)
        pane.closed.connect(lambda: self.show_pane("console", False))
        self.addWidget(pane)
        return pane

    def shows(self, name: str) -> bool:
        """Whether a pane is there."""
        return self._shown[name]

    def show_pane(self, name: str, on: bool) -> None:
        """Show ``script`` or ``console``, or take it away."""
        if not on and not self._shown[name]:
            return
        self._shown[name] = on
        pane: QWidget = self.script if name == "script" else self.console
        pane.setVisible(on)
        row = self.parentWidget()
        if on and self.isHidden() and isinstance(row, QSplitter):
            whole = row.width()
            wide = min(WIDEST, whole * 45 // 100)
            self.show()
            row.setSizes([whole - wide, wide])
        self.setVisible(any(self._shown.values()))
        if on and name == "console":
            self.console.begin()
        self.shown.emit()

    def close_down(self) -> None:
        """Let nothing outlive the window."""
        if "console" in self.__dict__:
            self.console.close_down()
