"""Editors that offer what is there: layers of earlier steps, fields of the layers that enter."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QMenu, QSizePolicy, QWidget

from eskret.desktop.session import Session
from eskret.desktop.settings.editors import Editor
from eskret.desktop.settings.entering import Opener
from eskret.operations.base import in_words
from eskret.operations.settings import SettingInfo
from eskret.workflow.references import Reference


class LayerEditor(Editor):
    """One reference to layers of another step, chosen from a menu."""

    def __init__(self, info: SettingInfo, session: Session, step: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session, self._step, self._value = session, step, ""
        self.button = Opener()
        self.button.setObjectName("entering")
        self.button.setAccessibleName(info.label)
        self.button.setMinimumWidth(60)
        self.button.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.menu = QMenu(self.button)
        self.menu.aboutToShow.connect(self._fill)
        self.button.clicked.connect(lambda: self.menu.popup(self.button.mapToGlobal(QPoint(0, self.button.height()))))
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.addWidget(self.button, 1)
        self.watch(self.button)

    def target(self) -> QWidget:
        return self.button

    def show_value(self, value: Any) -> None:
        self._value = str(value or "")
        reference = Reference.parse(self._value)
        name = reference.step if reference.pattern == "*" else f"{reference.step} · {reference.pattern}"
        text = name if self._value else "choose a layer"
        self.button.setText(self.button.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, 236))
        self.button.setToolTip(self._value)

    def _fill(self) -> None:
        self.menu.clear()
        session = self._session
        if self._value:
            self._offer("", "None")
            self.menu.addSeparator()
        for step in session.document.steps:
            if step.id == self._step:
                continue
            found = session.forecast.steps.get(step.id)
            leaving = [f for f in (found.leaving if found else []) if f.kind != "table"]
            if len(leaving) == 1:
                self._offer(step.id, f"{step.id}: {_facts(leaving[0])}")
            elif leaving:
                self._offer(step.id, f"{step.id}: all {len(leaving)} layers")
                for facts in leaving:
                    self._offer(f"{step.id}:{facts.key}", f"      {_facts(facts)}")
        if self.menu.isEmpty():
            nothing = QAction("No other step leaves a layer", self.menu)
            nothing.setEnabled(False)
            self.menu.addAction(nothing)

    def _offer(self, reference: str, words: str) -> None:
        action = QAction(words, self.menu)
        action.setCheckable(True)
        action.setChecked(bool(reference) and reference == self._value)
        action.triggered.connect(lambda _=False: self.settled.emit(reference))
        self.menu.addAction(action)


def _facts(facts: Any) -> str:
    count = "" if facts.count is None else f"   {facts.count:,} {facts.kind}"
    return f"{facts.key}{count}"


class FieldEditor(Editor):
    """A field of the layers that enter; one that is not there can be typed."""

    def __init__(self, info: SettingInfo, session: Session, step: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session, self._step, self._shown = session, step, ""
        self.box = QComboBox()
        self.box.setEditable(True)
        self.box.setInsertPolicy(QComboBox.InsertPolicy.NoInsert)
        self.box.setAccessibleName(info.label)
        self.box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.box.setMinimumContentsLength(10)
        self.box.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        line = self.box.lineEdit()
        assert line is not None
        line.setPlaceholderText(f"for example {info.example}" if info.example else "")
        line.editingFinished.connect(self._settle)
        self.box.activated.connect(lambda _: self._settle())
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.addWidget(self.box)
        self.watch(self.box, line)

    def target(self) -> QWidget:
        return self.box

    def _settle(self) -> None:
        if self.box.currentText() != self._shown:
            self._shown = self.box.currentText()
            self.settled.emit(self._shown)

    def show_value(self, value: Any) -> None:
        names = [name for name, _ in self._session.fields_entering(self._step)]
        if [self.box.itemText(n) for n in range(self.box.count())] != names:
            self.box.blockSignals(True)
            self.box.clear()
            self.box.addItems(names)
            self.box.blockSignals(False)
            self._shown = "\0"
        text = str(value or "")
        if text != self._shown:
            self._shown = text
            self.box.setCurrentIndex(self.box.findText(text))
            self.box.setEditText(text)


class FieldsEditor(Editor):
    """Several fields of the layers that enter, ticked in a menu."""

    def __init__(self, info: SettingInfo, session: Session, step: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session, self._step = session, step
        self._value: list[str] = []
        self.button = Opener()
        self.button.setObjectName("entering")
        self.button.setAccessibleName(info.label)
        self.button.setMinimumWidth(60)
        self.button.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.menu = QMenu(self.button)
        self.menu.aboutToShow.connect(self._fill)
        self.button.clicked.connect(lambda: self.menu.popup(self.button.mapToGlobal(QPoint(0, self.button.height()))))
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.addWidget(self.button, 1)
        self.watch(self.button)

    def target(self) -> QWidget:
        return self.button

    def show_value(self, value: Any) -> None:
        self._value = [str(v) for v in value or []]
        text = in_words(self._value, 3) if self._value else "choose fields"
        self.button.setText(self.button.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, 236))
        self.button.setToolTip("\n".join(self._value))

    def _fill(self) -> None:
        self.menu.clear()
        there = self._session.fields_entering(self._step)
        names = [*there, *((v, "not there") for v in self._value if all(v != n for n, _ in there))]
        for name, word in names:
            action = QAction(f"{name}   {word}", self.menu)
            action.setCheckable(True)
            action.setChecked(name in self._value)
            action.triggered.connect(lambda on, n=name: self._change(n, on))
            self.menu.addAction(action)
        if not names:
            nothing = QAction("No layer enters yet", self.menu)
            nothing.setEnabled(False)
            self.menu.addAction(nothing)

    def _change(self, name: str, on: bool) -> None:
        self.settled.emit([v for v in self._value if v != name] + ([name] if on else []))
