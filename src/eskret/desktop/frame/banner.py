"""A strip above the ledger that says what just happened, with what can be done about it."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QWidget

from eskret.desktop.panes.pane import QuietButton
from eskret.desktop.theme.icons import StateMark
from eskret.desktop.views.parts import push_button
from eskret.errors import Action

SHOW = "show"
"""What can be done about a message of steps that ask for a look: go to them."""


def _nothing() -> None:
    """The button is wired by whoever puts the banner up."""


class Banner(QWidget):
    """It stays until it is closed or outdone."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("banner")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.mark = StateMark()
        self.text = QLabel()
        self.text.setWordWrap(True)
        self.text.setTextFormat(Qt.TextFormat.PlainText)
        self.text.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.allow: QPushButton = push_button(
            "Allow it", "Let this workflow save outside its own folder and reach its services, from now on", _nothing
        )
        self.look: QPushButton = push_button(
            "Look and send", "What would change, on the map and in the table; it is sent from there (F11)", _nothing
        )
        self.code: QPushButton = push_button("Read the code …", "Code that came with the project, and what is wrong in it", _nothing)
        self.show_step: QPushButton = push_button("Show it", "Go to the next step that asks for a look", _nothing)
        close = QuietButton("Close", "Dismiss this message")
        close.clicked.connect(self.hide)
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 5, 8, 5)
        row.addWidget(self.mark)
        row.addWidget(self.text, 1)
        for button in (self.allow, self.look, self.code, self.show_step):
            button.hide()
            row.addWidget(button)
        row.addWidget(close)
        self.hide()

    def tell(self, tone: str, text: str, action: str = "") -> None:
        """Say something in a tone: good, look or bad; with what can be done about it at once, if anything."""
        self.mark.show_state(tone)
        self.allow.setVisible(action == Action.ALLOW)
        self.look.hide()
        self.show_step.setVisible(action == SHOW)
        self.code.setVisible(action == Action.READ_CODE)
        self.text.setText(text)
        self.setProperty("tone", tone)
        self.style().unpolish(self)
        self.style().polish(self)
        self.show()
