"""The workflow as Python beside the ledger, always in step."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QObject, Signal
from PySide6.QtGui import QGuiApplication, QMouseEvent
from PySide6.QtWidgets import QLabel

from eskret.desktop.panes.pane import Pane, QuietButton
from eskret.desktop.python_console.python_text import PythonText
from eskret.desktop.state.session import Session
from eskret.errors import EskretError
from eskret.workflow.faces.script import scripted


class ScriptPane(Pane):
    """A click on a line takes its step in hand; the lines of the step in hand are marked."""

    closed = Signal()
    save_asked = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self._places: dict[str, tuple[int, int]] = {}
        self._shown: object = None
        title = QLabel("As Python")
        title.setObjectName("title")
        self.copy = QuietButton("Copy", "Put the script on the clipboard")
        self.copy.clicked.connect(self._copy)
        self.save = QuietButton("Save …", "Save the script: run, it builds this workflow again")
        self.save.clicked.connect(self.save_asked)
        close = QuietButton("Close", "Close the script (Ctrl+P)")
        close.clicked.connect(self.closed)
        self.row.addWidget(title)
        self.row.addStretch()
        for button in (self.copy, self.save, close):
            self.row.addWidget(button)
        self.code = PythonText("The workflow as Python")
        self.code.viewport().installEventFilter(self)
        self.column.addWidget(self.code, 1)
        session.changed.connect(self.refresh)
        session.selected_changed.connect(lambda _: self._mark())

    def _copy(self) -> None:
        QGuiApplication.clipboard().setText(self.code.toPlainText())

    def refresh(self) -> None:
        """Show the document as it stands."""
        session = self._session
        if not self.isVisible() or session.document is self._shown:
            return
        self._shown = session.document
        file = session.path.name if session.path is not None else "workflow.toml"
        try:
            told = scripted(session.document, file)
        except EskretError as error:
            self._places = {}
            self.code.show_code(f"# It can be told once this is mended:\n# {error.sentence()}\n")
        else:
            self._places = dict(told.places)
            self.code.show_code(told.text)
        self._mark()

    def showEvent(self, event: object) -> None:
        self.refresh()

    def _mark(self) -> None:
        first, last = self._places.get(self._session.selected, (0, -1))
        self.code.mark(dict.fromkeys(range(first, last + 1), "hand_row"))
        if first and self.isVisible():
            self.code.ensure_shown(first)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if isinstance(event, QMouseEvent) and event.type() == QEvent.Type.MouseButtonRelease:
            line = self.code.line_at(event.position().toPoint())
            for id, (first, last) in self._places.items():
                if first <= line <= last and not self.code.textCursor().hasSelection():
                    self._session.select(id)
        return super().eventFilter(watched, event)
