"""A setting in a form: its label, its editor, help while it is in focus, and what is wrong with it."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFrame, QLabel, QVBoxLayout, QWidget

from eskret.desktop.forms.binding import BindButton
from eskret.desktop.forms.setting_editors import SettingEditor
from eskret.desktop.views.parts import in_row
from eskret.operations.settings import SQL_KINDS, SettingInfo

WIDE = (*SQL_KINDS, "files", "cells", "features", "shapes", "pairs", "values", "each", "from")
"""Kinds of settings that want the whole width of a form in two columns."""


def note(kind: str, text: str) -> QFrame:
    """A framed text: ``note``, ``noteMakes`` or ``noteWrong``."""
    frame = QFrame()
    frame.setObjectName(kind)
    label = QLabel(text)
    label.setWordWrap(True)
    label.setTextFormat(Qt.TextFormat.PlainText)
    column = QVBoxLayout(frame)
    column.setContentsMargins(10, 7, 8, 7)
    column.addWidget(label)
    return frame


def retext(frame: QFrame, text: str) -> None:
    """Change the text of a note; without any it is not there."""
    label = frame.findChild(QLabel)
    assert isinstance(label, QLabel)
    label.setText(text)
    frame.setVisible(bool(text))


LABEL = 21


class FieldBlock(QWidget):
    """Help and mistakes are widgets of their own only once there is something to say: a form has many settings."""

    def __init__(self, info: SettingInfo, editor: SettingEditor, bind: BindButton | None = None, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.info = info
        self.editor = editor
        self.bind = bind
        self._column = QVBoxLayout(self)
        self._column.setContentsMargins(0, 0, 0, 0)
        self._column.setSpacing(4)
        if info.kind != "flag":
            label = QLabel(info.label)
            label.setObjectName("faint")
            label.setBuddy(editor.target())
            label.setMinimumHeight(LABEL)  # beside each other in two columns, with a button behind it or not
            self._column.addLayout(in_row(label, None, bind) if bind is not None else in_row(label))
            self._column.addWidget(editor)
        elif bind is not None:
            self._column.addLayout(in_row(editor, None, bind))
        else:
            self._column.addWidget(editor)
        self._help: QFrame | None = None
        self._wrong: QLabel | None = None

    @property
    def help(self) -> QFrame:
        """What the setting is for."""
        if self._help is None:
            self._help = note("note", self.info.help)
            self._help.hide()
            self._column.insertWidget(2 if self.info.kind != "flag" else 1, self._help)
        return self._help

    def show_help(self, on: bool) -> None:
        """Say what the setting is for, or no more."""
        if on or self._help is not None:
            self.help.setVisible(on and bool(self.info.help))

    @property
    def wrong(self) -> QLabel:
        """What is wrong with it."""
        if self._wrong is None:
            self._wrong = QLabel()
            self._wrong.setObjectName("wrong")
            self._wrong.setWordWrap(True)
            self._wrong.setTextFormat(Qt.TextFormat.PlainText)
            self._wrong.hide()
            self._column.addWidget(self._wrong)
        return self._wrong

    def show_wrong(self, text: str) -> None:
        """Say what is wrong; nothing for no text."""
        if text or self._wrong is not None:
            self.wrong.setText(text)
            self.wrong.setVisible(bool(text))
        self.editor.mark_wrong(bool(text))
