"""One editor for each kind of setting: it shows a value and tells when the analyst settled on another."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any, cast

from PySide6.QtCore import QEvent, QObject, Qt, QTimer, Signal
from PySide6.QtGui import QFocusEvent
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFileDialog,
    QHBoxLayout,
    QLineEdit,
    QPlainTextEdit,
    QPushButton,
    QSpinBox,
    QVBoxLayout,
    QWidget,
)

from eskret.desktop.state.paths import relative
from eskret.formats.coordinates_text import ENDINGS as TEXT_ENDINGS
from eskret.formats.sources import ENDINGS
from eskret.operations.settings import SettingInfo

_NOT_LEFT = (Qt.FocusReason.PopupFocusReason, Qt.FocusReason.ActiveWindowFocusReason, Qt.FocusReason.MenuBarFocusReason)


class SettingEditor(QWidget):
    """Base: ``settled`` carries the new value, ``focused`` says that the analyst is at it, ``left`` that no more."""

    settled = Signal(object)
    focused = Signal()
    left = Signal()

    def show_value(self, value: Any) -> None:
        """Show a value without telling."""
        raise NotImplementedError

    def target(self) -> QWidget:
        """The widget that takes the keys and wears the mark of a mistake."""
        raise NotImplementedError

    def watch(self, *widgets: QWidget) -> None:
        """Hear when one of these takes the focus."""
        for widget in widgets:
            widget.installEventFilter(self)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if event.type() == QEvent.Type.FocusIn:
            self.focused.emit()
        elif event.type() == QEvent.Type.FocusOut and isinstance(event, QFocusEvent) and event.reason() not in _NOT_LEFT:
            self.left.emit()
        return super().eventFilter(watched, event)

    def mark_wrong(self, wrong: bool) -> None:
        """Wear the mark of a mistake, or take it off."""
        widget = self.target()
        if bool(widget.property("wrong")) != wrong:
            widget.setProperty("wrong", wrong)
            widget.style().unpolish(widget)
            widget.style().polish(widget)


class TextEditor(SettingEditor):
    """A line of text."""

    def __init__(self, info: SettingInfo, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.line = QLineEdit()
        self.line.setPlaceholderText(f"for example {info.example}" if info.example else "")
        self.line.setAccessibleName(info.label)
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(6)
        row.addWidget(self.line)
        self.line.editingFinished.connect(self._settle)
        self.watch(self.line)
        self._shown = ""

    def _settle(self) -> None:
        if self.line.text() != self._shown:
            self._shown = self.line.text()
            self.settled.emit(self.value())

    def value(self) -> object:
        return self.line.text()

    def show_value(self, value: object) -> None:
        text = self.to_text(value)
        if text == self._shown and self.line.hasFocus():
            return  # nothing new: what is being typed stays
        self._shown = text
        if self.line.text() != text:
            self.line.setText(text)

    def to_text(self, value: object) -> str:
        return "" if value is None else str(value)

    def target(self) -> QWidget:
        return self.line


class PatternsEditor(TextEditor):
    """A list of names or patterns, with commas between."""

    def value(self) -> list[str]:
        return [p.strip() for p in self.line.text().split(",") if p.strip()]

    def to_text(self, value: Any) -> str:
        return ", ".join(map(str, value or []))


class _PathEditor(TextEditor):
    """A path, relative to the workflow's folder where it lies within, and a button that finds it."""

    def __init__(self, info: SettingInfo, folder: Path, parent: QWidget | None = None) -> None:
        super().__init__(info, parent)
        self.folder, self.title = folder, info.label
        button = QPushButton("…")
        button.setToolTip("Choose a file")
        button.setFixedWidth(34)
        button.clicked.connect(self._choose)
        self.layout().addWidget(button)  # type: ignore[union-attr]
        self.watch(button)

    def asked(self) -> str:
        """Ask for a path; an empty text for none."""
        raise NotImplementedError

    def _choose(self) -> None:
        path = self.asked()
        if path:
            self.line.setText(relative(path, self.folder))
            self._settle()


class TargetEditor(_PathEditor):
    """A file to write."""

    def asked(self) -> str:
        begin = str(self.folder / (self.line.text() or "out"))
        kinds, option = "GeoPackage (*.gpkg);;GeoJSON (*.geojson)", QFileDialog.Option.DontConfirmOverwrite
        return QFileDialog.getSaveFileName(self, "Save to", begin, kinds, options=option)[0]


class FileEditor(_PathEditor):
    """A file that is there."""

    kinds = "All (*)"

    def asked(self) -> str:
        there = self.folder / self.line.text()
        begin = there if self.line.text() and there.exists() else self.folder
        return QFileDialog.getOpenFileName(self, self.title, str(begin), self.kinds)[0]


class WordListEditor(FileEditor):
    """A word list: a CSV file that is there, or one to be made."""

    kinds = "Word lists (*.csv)"


class LinesEditor(SettingEditor):
    """Text over several lines; settles when the analyst leaves it or pauses."""

    def __init__(self, info: SettingInfo, lines: int, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.text = self.make_text()
        self.text.setAccessibleName(info.label)
        self.text.setTabChangesFocus(True)
        self.text.setPlaceholderText(f"for example {info.example}" if info.example else "")
        self.text.setFixedHeight(self.text.fontMetrics().lineSpacing() * lines + 18)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        column.addWidget(self.text)
        self._shown = ""
        self._pause = QTimer(self, singleShot=True, interval=900)
        self._pause.timeout.connect(self._settle)
        self.text.textChanged.connect(self._pause.start)
        self.watch(self.text)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        left = event.type() == QEvent.Type.FocusOut and watched is self.text and isinstance(event, QFocusEvent)
        # a list of completions takes the focus for a moment; the analyst is still typing
        if left and cast(QFocusEvent, event).reason() != Qt.FocusReason.PopupFocusReason:
            self._settle()
        return super().eventFilter(watched, event)

    def make_text(self) -> QPlainTextEdit:
        """The widget the text is typed in."""
        return QPlainTextEdit()

    def _settle(self) -> None:
        self._pause.stop()
        if self.text.toPlainText() != self._shown:
            self._shown = self.text.toPlainText()
            self.settled.emit(self.value())

    def value(self) -> object:
        return self.text.toPlainText()

    def show_value(self, value: object) -> None:
        text = self.to_text(value)
        if text == self._shown and self._pause.isActive():
            return  # nothing new: what is being typed stays
        self._shown = text
        if self.text.toPlainText() != text:
            self.text.setPlainText(text)
            self._pause.stop()

    def to_text(self, value: object) -> str:
        return "" if value is None else str(value)

    def target(self) -> QWidget:
        return self.text


class FilesEditor(LinesEditor):
    """Files, folders and patterns, one a line."""

    def __init__(self, info: SettingInfo, folder: Path, parent: QWidget | None = None) -> None:
        super().__init__(info, 3, parent)
        self._folder = folder
        files, whole = QPushButton("Files …"), QPushButton("Folder …")
        files.clicked.connect(self._choose_files)
        whole.clicked.connect(self._choose_folder)
        row = QHBoxLayout()
        row.addWidget(files)
        row.addWidget(whole)
        row.addStretch()
        self.layout().addLayout(row)  # type: ignore[union-attr]
        self.watch(files, whole)

    def value(self) -> list[str]:
        return [line.strip() for line in self.text.toPlainText().splitlines() if line.strip()]

    def to_text(self, value: Any) -> str:
        return "\n".join([value] if isinstance(value, str) else map(str, value or []))

    def _add(self, paths: list[str]) -> None:
        lines = self.value() + [relative(p, self._folder) for p in paths]
        self.text.setPlainText("\n".join(dict.fromkeys(lines)))
        self._settle()

    def _choose_files(self) -> None:
        known = " ".join(f"*{e}" for e in dict.fromkeys([*ENDINGS, *TEXT_ENDINGS]))
        paths, _ = QFileDialog.getOpenFileNames(self, "Files to load", str(self._folder), f"Data ({known});;All (*)")
        if paths:
            self._add(paths)

    def _choose_folder(self) -> None:
        path = QFileDialog.getExistingDirectory(self, "Folder to load from", str(self._folder))
        if path:
            self._add([path])


class ChoiceEditor(SettingEditor):
    """One of several values."""

    def __init__(self, info: SettingInfo, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._value: object = None
        self.box = QComboBox()
        self.box.setAccessibleName(info.label)
        self.box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.box.setMinimumContentsLength(10)
        for value, words in info.choices.items():
            self.box.addItem(words, value)
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.addWidget(self.box)
        self.box.activated.connect(lambda i: self.settled.emit(self.box.itemData(i)))
        # a wheel over a closed box must scroll the form, not change a setting unseen
        self.box.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.watch(self.box)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if event.type() == QEvent.Type.Wheel:
            event.ignore()
            return True
        return super().eventFilter(watched, event)

    def show_value(self, value: object) -> None:
        self._value = value
        self.box.setCurrentIndex(self.box.findData(value))

    def offer(self, choices: Mapping[str, str]) -> None:
        """Offer other values; the one that stands is shown though it may be none of them any more."""
        self.box.clear()
        for value, words in choices.items():
            self.box.addItem(words, value)
        if self._value not in choices and self._value not in (None, ""):
            self.box.addItem(f"{self._value} (no choice any more)", self._value)
        self.box.setCurrentIndex(self.box.findData(self._value))

    def target(self) -> QWidget:
        return self.box


class ChoicesEditor(SettingEditor):
    """Any of several values."""

    def __init__(self, info: SettingInfo, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.boxes: dict[str, QCheckBox] = {}
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(3)
        for value, words in info.choices.items():
            box = QCheckBox(words)
            box.clicked.connect(self._settle)
            self.boxes[value] = box
            column.addWidget(box)
        self.watch(*self.boxes.values())

    def _settle(self) -> None:
        self.settled.emit([v for v, box in self.boxes.items() if box.isChecked()])

    def show_value(self, value: Any) -> None:
        for name, box in self.boxes.items():
            box.setChecked(name in (value or []))

    def target(self) -> QWidget:
        return next(iter(self.boxes.values()))


class FlagEditor(SettingEditor):
    """Yes or no."""

    def __init__(self, info: SettingInfo, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.box = QCheckBox(info.label)
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.addWidget(self.box)
        self.box.clicked.connect(lambda on: self.settled.emit(bool(on)))
        self.watch(self.box)

    def show_value(self, value: object) -> None:
        self.box.setChecked(bool(value))

    def target(self) -> QWidget:
        return self.box


class WholeEditor(SettingEditor):
    """A whole number."""

    def __init__(self, info: SettingInfo, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.box = QSpinBox()
        self.box.setRange(-1_000_000_000, 1_000_000_000)
        self.box.setAccessibleName(info.label)
        self.box.lineEdit().setTextMargins(6, 0, 0, 0)  # the style sheet has no say inside
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.addWidget(self.box)
        self.box.editingFinished.connect(self._settle)
        self.watch(self.box)
        self._shown = 0

    def _settle(self) -> None:
        if self.box.value() != self._shown:
            self._shown = self.box.value()
            self.settled.emit(self.box.value())

    def show_value(self, value: object) -> None:
        self._shown = int(value) if isinstance(value, int | float) else 0
        self.box.setValue(self._shown)

    def target(self) -> QWidget:
        return self.box
