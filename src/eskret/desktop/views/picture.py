"""The box that saves the map, and the one question of a style's file."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDialog,
    QFileDialog,
    QFormLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from eskret.desktop.map_view.picture import PictureOptions

FORMATS = {"png": "PNG, an image", "svg": "SVG, to edit further", "pdf": "PDF, to print"}
_DOTS = {96: "as on screen", 192: "twice as fine", 288: "three times as fine"}


class MapBox(QDialog):
    """Asks where and how; says it with ``asked``."""

    asked = Signal(object, object)  # Path, Wanted

    def __init__(self, folder: Path, name: str, title: str, size: tuple[int, int], parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Save the map")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self._folder, self._size = folder, size
        self.format = QComboBox()
        for ending, text in FORMATS.items():
            self.format.addItem(text, ending)
        self.file = QLineEdit(f"{name}.png")
        self.file.setAccessibleName("File")
        choose = QPushButton("Choose …")
        choose.clicked.connect(self._choose)
        self.title = QLineEdit(title)
        self.title.setAccessibleName("Title")
        self.title.setPlaceholderText("none")
        self.dots = QComboBox()
        for dots, text in _DOTS.items():
            self.dots.addItem(f"{text}: {size[0] * dots // 96:,} x {size[1] * dots // 96:,} pixels", dots)
        self.dots.setCurrentIndex(1)
        self.legend, self.scale_bar, self.lines = QCheckBox("Legend"), QCheckBox("Scale bar"), QCheckBox("Lines behind")
        for box in (self.legend, self.scale_bar, self.lines):
            box.setChecked(True)
        form = QFormLayout()
        form.setVerticalSpacing(8)
        form.addRow("As", self.format)
        file = QHBoxLayout()
        file.addWidget(self.file, 1)
        file.addWidget(choose)
        form.addRow("File", file)
        form.addRow("Title", self.title)
        self._dots_row = self.dots
        form.addRow("Fineness", self.dots)
        ticks = QHBoxLayout()
        ticks.setSpacing(18)
        for box in (self.legend, self.scale_bar, self.lines):
            ticks.addWidget(box)
        ticks.addStretch()
        form.addRow("With", ticks)
        self._form = form
        about = QLabel("What is in view is saved, as it is drawn.")
        about.setObjectName("faint")
        self.save, leave = QPushButton("Save"), QPushButton("Cancel")
        self.save.setObjectName("primary")
        self.save.setDefault(True)
        self.save.clicked.connect(self._save)
        leave.clicked.connect(self.reject)
        row = QHBoxLayout()
        row.addWidget(about, 1)
        row.addWidget(self.save)
        row.addWidget(leave)
        column = QVBoxLayout(self)
        column.setContentsMargins(18, 16, 18, 14)
        column.setSpacing(14)
        column.addLayout(form)
        column.addLayout(row)
        self.setMinimumWidth(520)
        self.format.currentIndexChanged.connect(lambda _: self._format_chosen())
        self.file.textChanged.connect(lambda _: self._named())
        self._named()

    def _format_chosen(self) -> None:
        ending = self.format.currentData()
        self.file.setText(str(Path(self.file.text() or "map").with_suffix(f".{ending}")))
        self._form.setRowVisible(self._dots_row, ending == "png")

    def _named(self) -> None:
        """A file that is there is not replaced by a button that says nothing of it."""
        self.save.setEnabled(bool(self.file.text().strip()))
        self.save.setText("Replace it" if self.file.text().strip() and self._path().exists() else "Save it")

    def _choose(self) -> None:
        path = ask_file(self, "Save the map", self._path(), f"Maps (*.{self.format.currentData()})")
        if path is not None:
            self.file.setText(str(path))

    def _path(self) -> Path:
        path = Path(self.file.text().strip()).expanduser()
        path = path if path.is_absolute() else self._folder / path
        return path if path.suffix else path.with_suffix(f".{self.format.currentData()}")

    def _save(self) -> None:
        wanted = PictureOptions(
            self.title.text().strip(),
            self.legend.isChecked(),
            self.scale_bar.isChecked(),
            self.lines.isChecked(),
            int(self.dots.currentData()),
        )
        path = self._path()
        self.accept()
        self.asked.emit(path, wanted)


def ask_file(parent: QWidget, title: str, path: Path, kinds: str) -> Path | None:
    """A file to write; None where there is none after all."""
    found: Any = QFileDialog.getSaveFileName(parent, title, str(path), kinds)
    return Path(found[0]) if found[0] else None
