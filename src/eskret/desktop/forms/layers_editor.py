"""Editors that offer what is there: layers of earlier steps, fields of the layers that enter."""

from __future__ import annotations

from functools import partial
from typing import Any

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QWidget

from eskret.desktop.forms.entering import MenuEditor
from eskret.desktop.forms.setting_editors import SettingEditor
from eskret.desktop.state.session import Session
from eskret.operations.sentences import join_words
from eskret.operations.settings import SettingInfo
from eskret.workflow.model.references import Reference


class LayerEditor(MenuEditor):
    """One reference to layers of another step, chosen from a menu."""

    def __init__(self, info: SettingInfo, session: Session, step: str, parent: QWidget | None = None) -> None:
        super().__init__(info.label, parent)
        self._session, self._step, self._value, self._tables = session, step, "", info.tables

    def show_value(self, value: object) -> None:
        self._value = str(value or "")
        reference = Reference.parse(self._value)
        name = reference.step if reference.pattern == "*" else f"{reference.step} · {reference.pattern}"
        self.say(name if self._value else "choose a layer", self._value)

    def fill(self) -> None:
        self.menu.clear()
        session = self._session
        if self._value:
            self._offer("", "None")
            self.menu.addSeparator()
        for step in session.document.steps:
            if step.id == self._step:
                continue
            found = session.forecast.steps.get(step.id)
            leaving = [f for f in (found.leaving if found else []) if self._tables or f.kind != "table"]
            if len(leaving) == 1:
                self._offer(step.id, f"{step.id}: {_facts(leaving[0])}")
            elif leaving:
                self._offer(step.id, f"{step.id}: all {len(leaving)} layers")
                for facts in leaving:
                    self._offer(f"{step.id}:{facts.key}", f"      {_facts(facts)}")
        if self.menu.isEmpty():
            self.word("No other step leaves a layer")

    def _offer(self, reference: str, words: str) -> None:
        chosen = bool(reference) and reference == self._value
        self.tick(words, chosen, lambda _: self.settled.emit(reference))


def _facts(facts: Any) -> str:
    count = "" if facts.count is None else f"   {facts.count:,} {facts.kind}"
    return f"{facts.key}{count}"


class FieldEditor(SettingEditor):
    """A field of the layers that enter; one that is not there can be typed."""

    def __init__(self, info: SettingInfo, session: Session, step: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session, self._step, self._of, self._shown = session, step, info.of, ""
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

    def show_value(self, value: object) -> None:
        names = [name for name, _ in self._session.fields_for(self._step, self._of)]
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


class FieldsEditor(MenuEditor):
    """Several fields of the layers that enter, ticked in a menu."""

    def __init__(self, info: SettingInfo, session: Session, step: str, parent: QWidget | None = None) -> None:
        super().__init__(info.label, parent)
        self._session, self._step, self._of = session, step, info.of
        self._value: list[str] = []

    def show_value(self, value: Any) -> None:
        self._value = [str(v) for v in value or []]
        self.say(join_words(self._value, 3) if self._value else "choose fields", "\n".join(self._value))

    def fill(self) -> None:
        self.menu.clear()
        there = self._session.fields_for(self._step, self._of)
        names = [*there, *((v, "not there") for v in self._value if all(v != n for n, _ in there))]
        for name, word in names:
            self.tick(f"{name}   {word}", name in self._value, partial(self._change, name))
        if not names:
            self.word("Name the layer first" if self._of else "No layer enters yet")

    def _change(self, name: str, on: bool) -> None:
        self.settled.emit([v for v in self._value if v != name] + ([name] if on else []))
