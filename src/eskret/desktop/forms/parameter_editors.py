"""One editor for the value of a parameter, by its type; it tells of every keystroke."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QCheckBox, QComboBox, QFileDialog, QHBoxLayout, QLineEdit, QPushButton, QWidget

from eskret.desktop.forms.crs_editor import CrsBox, remember_crs
from eskret.desktop.state.paths import relative
from eskret.desktop.state.session import Session
from eskret.workflow.model.choices import Offer
from eskret.workflow.model.parameters import Parameter, among

_EXAMPLES = {"date": "2031-09-30", "measure": "200 m", "crs": "EPSG:32626", "number": "a number"}


class ValueEditor(QWidget):
    """``typed`` is sent at every change, ``entered`` when Enter is pressed in a line."""

    typed = Signal()
    entered = Signal()

    def __init__(self, session: Session, parameter: Parameter, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self.parameter = parameter
        self.line: QLineEdit | None = None
        self.box: QComboBox | None = None
        self.flag: QCheckBox | None = None
        self._wanted: object = ""  # what is to be chosen, though it may not be among the choices (yet)
        self._row = QHBoxLayout(self)
        self._row.setContentsMargins(0, 0, 0, 0)
        self._row.setSpacing(6)
        if parameter.type == "flag":
            self.flag = QCheckBox(parameter.title)
            self.flag.toggled.connect(lambda _: self.typed.emit())
            self._row.addWidget(self.flag)
        elif parameter.choices or parameter.choices_from is not None or parameter.type == "layer":
            self._make_box()
        else:
            self._make_line()

    def _make_box(self) -> None:
        self.box = QComboBox()
        self.box.setAccessibleName(self.parameter.title)
        self.box.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.box.setMinimumContentsLength(14)
        self.box.setMaxVisibleItems(16)
        self._row.addWidget(self.box, 1)
        for choice in self.parameter.choices or self._references():
            self.box.addItem(str(choice), choice)
        self.box.currentIndexChanged.connect(lambda _: self.typed.emit())

    def _references(self) -> list[str]:
        """What a layer can be: the layers that steps leave, as references."""
        if self.parameter.type != "layer":
            return []
        out = []
        for step in self._session.document.steps:
            found = self._session.forecast.steps.get(step.id)
            leaving = found.leaving if found else []
            out += [step.id] if len(leaving) == 1 else [f"{step.id}:{f.key}" for f in leaving]
        return out

    def _make_line(self) -> None:
        kind = self.parameter.type
        self.line = QLineEdit()
        self.line.setAccessibleName(self.parameter.title)
        self.line.setPlaceholderText(_EXAMPLES.get(kind, ""))
        self.line.textChanged.connect(lambda _: self.typed.emit())
        self.line.returnPressed.connect(self.entered)
        self._row.addWidget(self.line, 1)
        if kind in ("file", "folder"):
            self._add_button("…", "Choose it", self._choose_path)
        elif kind == "crs":
            self._add_button("Find …", "Find a coordinate system by name, code or area", self._find_crs)

    def _add_button(self, text: str, tip: str, do: Any) -> None:
        button = QPushButton(text)
        button.setToolTip(tip)
        button.clicked.connect(lambda _=False: do())
        self._row.addWidget(button)

    def _choose_path(self) -> None:
        assert self.line is not None
        start = str(self._session.folder)
        if self.parameter.type == "folder":
            path = QFileDialog.getExistingDirectory(self, self.parameter.title, start)
        else:
            path, _ = QFileDialog.getOpenFileName(self, self.parameter.title, start)
        if path:
            self.line.setText(relative(str(Path(path)), self._session.folder))

    def _find_crs(self) -> None:
        box = CrsBox(self._session, self.parameter.title, self)

        def take(code: str) -> None:
            assert self.line is not None
            remember_crs(self._session.memory, code)
            self.line.setText(code)

        box.taken.connect(take)
        box.open()

    def value(self) -> object:
        """What stands there, not checked."""
        if self.flag is not None:
            return self.flag.isChecked()
        if self.box is not None:
            return self.box.currentData() if self.box.currentIndex() >= 0 else self._wanted
        assert self.line is not None
        return self.line.text()

    def show_value(self, value: object) -> None:
        """Show a value without telling."""
        for widget in (self.flag, self.box, self.line):
            if widget is not None:
                widget.blockSignals(True)
        if self.flag is not None:
            self.flag.setChecked(value is True or str(value).lower() in ("true", "yes", "1"))
        elif self.box is not None:
            self._choose(value)
        elif self.line is not None and self.line.text() != str(value):
            self.line.setText(str(value))
        for widget in (self.flag, self.box, self.line):
            if widget is not None:
                widget.blockSignals(False)

    def _choose(self, value: object) -> None:
        assert self.box is not None
        self._wanted = value
        here = [self.box.itemData(n) for n in range(self.box.count())]
        found = among(value, here)
        if found is None and value != "" and self.parameter.type == "layer":
            self.box.addItem(str(value), value)
            here.append(found := value)
        self.box.setCurrentIndex(here.index(found) if found is not None else -1)

    def show_offer(self, offer: Offer) -> None:
        """Show the choices there are now; what was chosen stays chosen if it is still among them."""
        if self.box is None or self.parameter.choices_from is None or offer.choices is None:
            return
        here = tuple(self.box.itemData(n) for n in range(self.box.count()))
        if here != offer.choices:
            now = self.value()
            self.box.blockSignals(True)
            self.box.clear()
            for choice in offer.choices:
                self.box.addItem(str(choice), choice)
            self._choose(now)
            self.box.blockSignals(False)

    def target(self) -> QWidget:
        """The widget that takes the keys."""
        found = self.flag or self.box or self.line
        assert found is not None
        return found

    def select(self) -> None:
        """Take the focus, the text chosen so that typing puts another in its place."""
        self.target().setFocus()
        if self.line is not None:
            self.line.selectAll()

    def mark_wrong(self, wrong: bool) -> None:
        """Wear the mark of a mistake, or take it off."""
        widget = self.target()
        if bool(widget.property("wrong")) != wrong:
            widget.setProperty("wrong", wrong)
            widget.style().unpolish(widget)
            widget.style().polish(widget)
