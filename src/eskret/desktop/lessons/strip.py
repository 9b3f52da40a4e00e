"""The strip that leads through a lesson: what to do now, how far one is, and a way to have it done."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QHBoxLayout, QLabel, QProgressBar, QVBoxLayout, QWidget

from eskret.desktop.panes.pane import QuietButton
from eskret.desktop.views.parts import push_button


class GuideStrip(QWidget):
    """Shown above the ledger while a lesson is on."""

    done_for_me = Signal()
    left = Signal()

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("guide")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.title = QLabel()
        self.title.setObjectName("eyebrow")
        self.text = QLabel()
        self.text.setWordWrap(True)
        self.text.setTextFormat(Qt.TextFormat.PlainText)
        self.text.setMinimumWidth(200)
        self.bar = QProgressBar()
        self.bar.setTextVisible(False)
        self.bar.setFixedWidth(110)
        self.count = QLabel()
        self.count.setObjectName("faint")
        self.do = push_button("Do it for me", "Do this one thing and go on to the next", self.done_for_me.emit)
        leave = QuietButton("End the lesson", "Keep the workflow as it is, without further guidance")
        leave.clicked.connect(self.left)
        words = QVBoxLayout()
        words.setSpacing(1)
        words.addWidget(self.title)
        words.addWidget(self.text)
        row = QHBoxLayout(self)
        row.setContentsMargins(14, 7, 8, 8)
        row.setSpacing(12)
        row.addLayout(words, 1)
        row.addWidget(self.count)
        row.addWidget(self.bar)
        row.addWidget(self.do)
        row.addWidget(leave)
        self.hide()

    def show_task(self, title: str, text: str, done: int, of: int, able: bool) -> None:
        """Say what is to be done now.

        Parameters
        ----------
        done, of : how many things are done, of how many.
        able : whether it can be done for whoever is at it.
        """
        self.title.setText(f"Lesson: {title}")
        self.text.setText(text)
        self.bar.setRange(0, max(1, of))
        self.bar.setValue(done)
        self.count.setText(f"{done} of {of}")
        self.do.setVisible(able)
        self.show()
