"""The form that asks for the values of the parameters before a run."""

from __future__ import annotations

from PySide6.QtCore import QSettings, Qt, Signal
from PySide6.QtGui import QFont
from PySide6.QtWidgets import QCheckBox, QDialog, QFrame, QLabel, QPushButton, QScrollArea, QVBoxLayout, QWidget

from eskret.desktop.forms.parameter_form import ValuesForm
from eskret.desktop.state.session import Session
from eskret.desktop.theme.style import font
from eskret.desktop.views.parts import in_row

_ASK = "ask_before_a_run"


def asks(memory: QSettings | None) -> bool:
    """Whether a run asks for values first."""
    return memory is not None and memory.value(_ASK, "yes") != "no"


class RunBox(QDialog):
    """Values to run with. ``run_asked`` and ``rounds_asked`` come after they were taken."""

    run_asked = Signal()
    rounds_asked = Signal()

    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__(parent)
        self._session = session
        document = session.document
        self.setWindowTitle(document.title or "Run")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setFixedWidth(470)
        head = QLabel(document.title or "This workflow")
        head.setFont(font(15, QFont.Weight.DemiBold))
        head.setStyleSheet("font-size: 15px; font-weight: 600;")
        head.setWordWrap(True)
        summary = QLabel(document.summary)
        summary.setObjectName("faint")
        summary.setWordWrap(True)
        summary.setVisible(bool(document.summary))
        self.form = ValuesForm(session)
        body = QWidget()
        body.setObjectName("formBody")
        inner = QVBoxLayout(body)
        inner.setContentsMargins(0, 4, 8, 4)
        inner.addWidget(self.form)
        inner.addStretch()
        scroll = QScrollArea()
        scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        scroll.setWidgetResizable(True)
        scroll.setFrameShape(QFrame.Shape.NoFrame)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setWidget(body)
        self.again = QCheckBox("Ask before every run")
        self.again.setChecked(asks(session.memory))
        self.again.setToolTip("Without it, Run takes the values that stand in the bar at the top")
        self.run_button = QPushButton("Run")
        self.run_button.setObjectName("primary")
        self.run_button.setDefault(True)
        self.run_button.clicked.connect(self._run)
        self.rounds_button = QPushButton("In rounds …")
        self.rounds_button.setToolTip("Run it once for each of several values, or once a row of a table")
        self.rounds_button.clicked.connect(self._rounds)
        leave = QPushButton("Cancel")
        leave.clicked.connect(self.reject)
        column = QVBoxLayout(self)
        column.setContentsMargins(18, 16, 18, 14)
        column.setSpacing(8)
        for widget in (head, summary):
            column.addWidget(widget)
        column.addWidget(scroll, 1)
        column.addWidget(self.again)
        column.addSpacing(4)
        column.addLayout(in_row(self.rounds_button, None, leave, self.run_button))
        self.form.settled.connect(self.run_button.setEnabled)
        self.form.entered.connect(self._run)
        self.form.show_parameters(document, {p.name: session.value(p.name) for p in document.parameters})
        self.form.focus_first()
        self.resize(470, min(150 + 78 * len(document.parameters) + summary.sizeHint().height(), 640))

    def _take(self) -> bool:
        if self.form.wrong():
            return False
        if self._session.memory is not None:
            self._session.memory.setValue(_ASK, "yes" if self.again.isChecked() else "no")
        self._session.set_values(self.form.values())
        self.accept()
        return True

    def _run(self) -> None:
        if self._take():
            self.run_asked.emit()

    def _rounds(self) -> None:
        if self._take():
            self.rounds_asked.emit()
