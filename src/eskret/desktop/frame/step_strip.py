"""Below the ledger: what can be done with steps, and how far the run is."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHBoxLayout, QLabel, QProgressBar, QPushButton, QWidget

from eskret.desktop.ledger.ledger_view import LedgerView
from eskret.desktop.panes.pane import QuietButton
from eskret.workflow.model.document import Step


class StepStrip(QWidget):
    """Buttons for the step in hand at the left, the run's progress at the right."""

    def __init__(self, ledger: LedgerView, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("pane")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedHeight(34)
        self.add = QPushButton("Add a step")
        self.add.setToolTip("Say what the step should do (Insert)")
        self.up = QuietButton("Move up", "Move the selected step up (Alt+Up)")
        self.down = QuietButton("Move down", "Move the selected step down (Alt+Down)")
        self.switch = QuietButton("Switch off", "What enters goes on unchanged (Space)")
        self.remove = QuietButton("Remove", "Remove the selected step (Delete)")
        self.progress = QProgressBar()
        self.progress.setTextVisible(False)
        self.progress.setFixedWidth(150)
        self.progress_text = QLabel()
        self.progress_text.setObjectName("faint")
        row = QHBoxLayout(self)
        row.setContentsMargins(8, 2, 12, 2)
        row.setSpacing(4)
        for widget in (self.add, self.up, self.down, self.switch, self.remove):
            row.addWidget(widget)
        row.addStretch()
        row.addWidget(self.progress_text)
        row.addWidget(self.progress)
        self.progress.hide()
        self.up.clicked.connect(lambda: ledger.move_step(-1))
        self.down.clicked.connect(lambda: ledger.move_step(1))
        self.switch.clicked.connect(ledger.switch)
        self.remove.clicked.connect(ledger.remove_selected)

    def show_step(self, step: Step | None) -> None:
        """Say what can be done with a step, or that there is none."""
        for button in (self.up, self.down, self.switch, self.remove):
            button.setEnabled(step is not None)
        self.switch.setText("Switch on" if step is not None and step.off else "Switch off")
