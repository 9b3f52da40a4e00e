"""What views are put together of: rows of widgets, buttons with a tip."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QApplication, QFrame, QHBoxLayout, QLabel, QLineEdit, QPlainTextEdit, QPushButton, QWidget
from shiboken6 import isValid

from eskret.desktop.state.session import Session


class View(QWidget):
    """A view over the whole window: with a title, and the way back to the ledger."""

    closed = Signal()

    def __init__(self, session: Session, title: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("pane")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._session = session
        self.title = QLabel(title)
        self.title.setObjectName("title")
        self.back = QPushButton("Back to the ledger")
        self.back.clicked.connect(self.closed)


def in_row(*widgets: QWidget | None, spacing: int = 8) -> QHBoxLayout:
    """Widgets in a row; None stands for room."""
    made = QHBoxLayout()
    made.setSpacing(spacing)
    for widget in widgets:
        if widget is None:
            made.addStretch()
        else:
            made.addWidget(widget)
    return made


def push_button(text: str, tip: str, do: Callable[[], object]) -> QPushButton:
    """A button that does something."""
    made = QPushButton(text)
    made.setToolTip(tip)
    made.clicked.connect(lambda _=False: do())
    return made


def rule(upright: bool = False) -> QFrame:
    """A thin line between parts."""
    made = QFrame()
    made.setObjectName("upright" if upright else "rule")
    if upright:
        made.setFixedWidth(1)
    else:
        made.setFixedHeight(1)
    return made


def show_text(line: QLineEdit, text: str) -> None:
    """Show a text in a line, unless somebody is typing another there, which ``done_typing`` hears the end of."""
    if line.text() != text and not line.isModified():
        line.setText(text)


def done_typing(line: QLineEdit, do: Callable[[], object]) -> None:
    """Do something whenever somebody is done typing in a line."""

    def done() -> None:
        line.setModified(False)
        do()

    line.editingFinished.connect(done)


def finish_typing() -> None:
    """Take what somebody is typing for done, so that what comes next goes by it: keys leave the cursor where it is."""
    widget = QApplication.focusWidget()
    if isinstance(widget, QLineEdit | QPlainTextEdit):
        widget.clearFocus()
        if isValid(widget):  # a form may have made its lines anew by what was typed
            widget.setFocus()
