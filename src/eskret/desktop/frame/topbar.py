"""The bar at the top: the workflow and its file, its parameters as chips, Rehearse, Run, Stop."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import QPoint, Qt, Signal
from PySide6.QtGui import QKeyEvent, QResizeEvent
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QMenu, QPushButton, QSizePolicy, QToolButton, QVBoxLayout, QWidget

from eskret.desktop.forms.parameter_editors import ValueEditor
from eskret.desktop.forms.parameter_form import offers_of
from eskret.desktop.state.session import Session
from eskret.desktop.theme.icons import icon
from eskret.desktop.theme.style import theme
from eskret.errors import DocumentError
from eskret.workflow.model.edits import set_parameter
from eskret.workflow.model.parameters import Parameter, value_words


class ParameterBox(QFrame):
    """What opens below a chip: the value to use, and the help."""

    def __init__(self, session: Session, parameter: Parameter, parent: QWidget) -> None:
        super().__init__(parent, Qt.WindowType.Popup)
        self.setObjectName("finder")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self._session, self._parameter = session, parameter
        title = QLabel(parameter.title)
        title.setObjectName("title")
        self.field = ValueEditor(session, parameter)
        self.field.show_value(session.value(parameter.name))
        self.field.entered.connect(self.use)
        self.field.typed.connect(self._check)
        self.wrong = QLabel()
        self.wrong.setObjectName("wrong")
        self.wrong.setWordWrap(True)
        self.wrong.hide()
        self._choices: tuple[object, ...] | None = None
        help_ = QLabel(parameter.help or "Steps use this value wherever they name the parameter.")
        help_.setObjectName("faint")
        help_.setWordWrap(True)
        standard = QLabel(f"In the file: {value_words(parameter.default)}")
        standard.setObjectName("faint")
        use, keep = QPushButton("Use it"), QPushButton("Use and keep in the file")
        use.setObjectName("primary")
        use.clicked.connect(self.use)
        keep.clicked.connect(self.keep)
        row = QHBoxLayout()
        row.addWidget(use)
        row.addWidget(keep)
        row.addStretch()
        column = QVBoxLayout(self)
        column.setContentsMargins(14, 12, 14, 12)
        column.setSpacing(8)
        for widget in (title, self.field, self.wrong, help_, standard):
            column.addWidget(widget)
        column.addLayout(row)
        self.setFixedWidth(330)
        self.use_button, self.keep_button = use, keep

        if parameter.choices_from is not None:
            session.ask(
                "offers",
                self._offered,
                self,
                text=session.document.to_text(),
                values={n: v if isinstance(v, bool | int | float) else str(v) for n, v in session.values().items()},
                folder=str(session.folder),
            )

    def _offered(self, event: dict[str, Any]) -> None:
        """Show the choices that were read."""
        if event["event"] == "done":
            offer = offers_of(event["offers"])[self._parameter.name]
            self._choices = offer.choices
            self.field.show_offer(offer)
            self._say(offer.problem)

    def _say(self, text: str) -> None:
        self.wrong.setText(text)
        self.wrong.setVisible(bool(text))
        self.adjustSize()

    def _check(self) -> None:
        try:
            self._accepted()
        except DocumentError as error:
            self._say(error.sentence())
        else:
            self._say("")

    def _accepted(self) -> object:
        value = self._parameter.accept(self.field.value())
        return value if self._choices is None else self._parameter.accept_among(value, self._choices)

    def _value(self) -> object:
        """The value, if the parameter can have it; else the mistake is shown and nothing comes."""
        try:
            return self._accepted()
        except DocumentError as error:
            self._say(error.sentence())
            return None

    def use(self) -> None:
        """Take the value for this session."""
        value = self._value()
        if value is not None:
            self.close()
            self._session.set_value(self._parameter.name, value)

    def keep(self) -> None:
        """Take the value and make it the file's."""
        value = self._value()
        if value is not None:
            self.close()
            session, name = self._session, self._parameter.name
            values = {n: v for n, v in session.state.values.items() if n != name}
            session.edit(set_parameter(session.document, name, default=value), f"keep {self._parameter.title}", values)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Escape:
            self.close()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.use()
        else:
            super().keyPressEvent(event)


_FILE = 130
"""Pixels from which on a file's name is told, if only in part."""


class TopBar(QWidget):
    """Signals out, the session in."""

    rehearse_asked = Signal()
    run_asked = Signal()
    stop_asked = Signal()
    words_asked = Signal(bool)
    publish_asked = Signal(bool)
    runs_asked = Signal(bool)
    edit_asked = Signal()
    values_asked = Signal()

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("topBar")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedHeight(46)
        self._session = session
        self.title = QToolButton()
        self.title.setObjectName("workflowMenu")
        self.title.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self.title.setAccessibleName("Workflow menu")
        self.title.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextBesideIcon)
        self.title.setLayoutDirection(Qt.LayoutDirection.RightToLeft)  # the wedge stands behind the words
        self.title.setIcon(icon("wedge", theme.colour("bar_ink")))
        self.menu = QMenu(self.title)
        self.menu.setLayoutDirection(Qt.LayoutDirection.LeftToRight)
        self.title.setMenu(self.menu)
        self.file = QLabel()
        self.file.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self._chips = QHBoxLayout()
        self._chips.setSpacing(8)
        self.more = QPushButton()
        self.more.setObjectName("chip")
        self.more.setToolTip("All parameters, and their values")
        self.more.clicked.connect(self.values_asked)
        self.more.hide()
        self.edit = QPushButton("Edit")
        self.edit.setObjectName("chip")
        self.edit.setToolTip("Add, order and describe the parameters (F12)")
        self.edit.clicked.connect(self.edit_asked)
        self.rehearse = QPushButton("Rehearse")
        self.rehearse.setToolTip("Check everything and foretell the outputs; nothing is written (Ctrl+E)")
        self.run = QPushButton("Run")
        self.run.setObjectName("run")
        self.run.setToolTip("Run all steps and save the outputs together (Ctrl+R)")
        self.stop = QPushButton("Stop")
        self.stop.setToolTip("Stop the run; outputs stay as they were (Ctrl+.)")
        self.words = QPushButton("Words")
        self.words.setCheckable(True)
        self.words.setToolTip("The word lists of this workflow: spellings met, and the words to use (F10)")
        self.words.clicked.connect(self.words_asked)
        self.publish = QPushButton("Publish")
        self.publish.setCheckable(True)
        self.publish.setToolTip("Published datasets: what is there, what would change, what was sent (F11)")
        self.publish.clicked.connect(self.publish_asked)
        self.runs = QPushButton("Runs")
        self.runs.setCheckable(True)
        self.runs.setToolTip("All earlier runs: their values, outputs and ledgers; compare two side by side (F3)")
        self.runs.clicked.connect(self.runs_asked)
        self.rehearse.clicked.connect(self.rehearse_asked)
        self.run.clicked.connect(self.run_asked)
        self.stop.clicked.connect(self.stop_asked)
        row = QHBoxLayout(self)
        row.setContentsMargins(8, 0, 12, 0)
        row.setSpacing(10)
        row.addWidget(self.title)
        row.addWidget(self.file, 1)
        row.addStretch()
        row.addLayout(self._chips)
        row.addWidget(self.more)
        row.addWidget(self.edit)
        row.addSpacing(4)
        for button in (self.words, self.runs, self.publish, self.rehearse, self.stop, self.run):
            row.addWidget(button)
        self.chips: dict[str, QPushButton] = {}
        self._made: tuple[object, ...] = ()
        self._working = False
        self._title = ""
        session.changed.connect(self.refresh)
        session.run_changed.connect(self.refresh)
        theme.changed.connect(self.update)
        self.refresh()

    def refresh(self) -> None:
        """Show the session as it is."""
        session = self._session
        document = session.document
        self._title = document.title or "Eskret"
        where = f"{session.folder.name} / {session.path.name}" if session.path else f"{session.folder.name} / no file yet"
        state = "not saved" if session.dirty or session.path is None else "saved"
        self._file_text = f"{where} · {state}"
        self._elide()
        running = session.running
        self.file.setVisible(self._working)
        self.rehearse.setVisible(self._working)
        uses = any(s.use in ("draft_words", "apply_words") for s in document.steps)
        self.words.setVisible(self._working and (uses or self.words.isChecked()))
        self.publish.setVisible(self._working)
        self.runs.setVisible(self._working)
        self.run.setVisible(self._working and not running)
        self.stop.setVisible(running)
        able = bool(document.steps) and not running
        self.run.setEnabled(able)
        self.rehearse.setEnabled(able)
        made = tuple((p.name, p.title) for p in document.parameters)
        if made != self._made:
            self._made = made
            self._make_chips(document.parameters)
        for parameter in document.parameters:
            value = value_words(session.value(parameter.name))
            own = parameter.name in session.state.values
            self.chips[parameter.name].setText(f"{parameter.title}:  {_short(value)}{'  ·  changed' if own else ''}")
        self.edit.setVisible(self._working and bool(document.parameters))
        self._fit_chips()

    def _fit_chips(self) -> None:
        """Show as many chips as there is room for; the rest are behind one that says how many."""
        self.title.setText(self._title)
        words, most = self.title.fontMetrics(), max(140, self.width() // 4)
        if words.horizontalAdvance(self._title) > most:
            self.title.setText(words.elidedText(self._title, Qt.TextElideMode.ElideRight, most))
        self.title.setToolTip(self._title)
        buttons = (self.words, self.runs, self.publish, self.rehearse, self.stop, self.run, self.edit)
        taken = (
            self.title.sizeHint().width()
            + min(150, self.width() // 10)
            + sum(b.sizeHint().width() + 10 for b in buttons if not b.isHidden())
        )
        room = self.width() - taken - 90
        hidden = 0
        for chip in self.chips.values():
            room -= chip.sizeHint().width() + 8
            fits = room >= 0 and self._working and not hidden
            chip.setVisible(fits)
            hidden += not fits
        self.more.setVisible(self._working and hidden > 0)
        self.more.setText(f"{hidden} more" if hidden < len(self.chips) else f"{hidden} parameters")

    def show_work(self, working: bool) -> None:
        """Whether a workflow is open; before, there is nothing to rehearse or run."""
        self._working = working
        self.refresh()

    def _elide(self) -> None:
        metrics, room = self.file.fontMetrics(), self.file.width()
        last = self._file_text.rpartition(" · ")[2]  # whether it is saved is worth more than a few letters of its name
        text = metrics.elidedText(self._file_text, Qt.TextElideMode.ElideMiddle, room)
        self.file.setText(text if room >= _FILE or text == self._file_text else last if metrics.horizontalAdvance(last) <= room else "")
        self.file.setToolTip(str(self._session.path or self._session.folder))

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._fit_chips()
        self._elide()

    def _make_chips(self, parameters: tuple[Parameter, ...]) -> None:
        for chip in self.chips.values():
            chip.deleteLater()
        self.chips = {}
        for parameter in parameters:
            chip = QPushButton()
            chip.setObjectName("chip")
            chip.setToolTip(parameter.help)
            chip.clicked.connect(lambda _=False, n=parameter.name: self.open_parameter(n))
            self.chips[parameter.name] = chip
            self._chips.addWidget(chip)

    def open_parameter(self, name: str) -> ParameterBox:
        """Open the box of a parameter below its chip."""
        parameter = next(p for p in self._session.document.parameters if p.name == name)
        box = ParameterBox(self._session, parameter, self.window())
        chip = self.chips[name]
        box.adjustSize()
        corner = chip.mapToGlobal(QPoint(0, chip.height() + 4))
        window = self.window().geometry()
        box.move(min(corner.x(), window.right() - box.width() - 8), corner.y())
        box.show()
        box.field.select()
        return box


def _short(value: object) -> str:
    text = str(value)
    return text if len(text) <= 24 else text[:23] + "…"
