"""How a text with coordinates is read, as far as it goes: what was found, and the first lines cut into values."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QLabel, QTableWidget, QTableWidgetItem, QVBoxLayout, QWidget

from eskret.desktop.state.session import Session
from eskret.desktop.theme.style import theme
from eskret.operations.gather.load_coordinates import SIGNS


class TextPreview(QWidget):
    """Asked anew whenever the settings change; what is wrong is said in place of the lines."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self._asked: object = None
        self.words = QLabel()
        self.words.setObjectName("faint")
        self.words.setWordWrap(True)
        self.table = QTableWidget()
        self.table.setAccessibleName("First lines of the text, cut into values")
        self.table.verticalHeader().hide()
        self.table.verticalHeader().setDefaultSectionSize(22)
        self.table.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        self.table.setSelectionMode(QTableWidget.SelectionMode.NoSelection)
        self.table.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.table.setShowGrid(False)
        self.table.setHorizontalScrollMode(QTableWidget.ScrollMode.ScrollPerPixel)
        self.table.horizontalHeader().setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        column.addWidget(self.words)
        column.addWidget(self.table)
        self.hide()

    def show_settings(self, settings: dict[str, object]) -> None:
        """Ask how the first file is read with these settings."""
        files = settings.get("files")
        if not files:
            self._asked = None
            self.hide()
            return
        # how a text is cut into values does not hang on its CRS, which may be still to be chosen
        settings = {**settings, "crs": "EPSG:4326"}
        if settings == self._asked:
            return
        self._asked = settings

        def take(event: dict[str, object]) -> None:
            if settings is self._asked:
                self._fill(event)

        self._session.ask("layout", take, self, settings=settings, values=self._session.values(), folder=str(self._session.folder))

    def _fill(self, event: dict[str, Any]) -> None:
        self.setVisible(True)
        done = event["event"] == "done"
        self.table.setVisible(done)
        if not done:
            self.words.setText("" if event["event"] == "crashed" else str(event["text"]))
            return
        names = event["columns"]
        axes = {event["x"]: "x", event["y"]: "y", event["z"]: "height"}
        axes.pop(-1, None)
        self.words.setText(_found_words(event))
        self.table.setColumnCount(len(names))
        self.table.setHorizontalHeaderLabels([f"{n + 1} · {name}" + (f" = {axes[n]}" if n in axes else "") for n, name in enumerate(names)])
        self.table.setRowCount(len(event["rows"]))
        for row, values in enumerate(event["rows"]):
            for column in range(len(names)):
                item = QTableWidgetItem(values[column] if column < len(values) else "")
                if column in axes:
                    item.setForeground(theme.colour("good"))
                self.table.setItem(row, column, item)
        self.table.resizeColumnsToContents()
        self.table.setFixedHeight(30 + 22 * max(1, len(event["rows"])) + 14)


def _found_words(event: dict[str, Any]) -> str:
    more = f" and {event['files'] - 1} more" if event["files"] > 1 else ""
    between = SIGNS.get(event["delimiter"], event["delimiter"])
    header = "the first line names the columns" if event["header"] else "no header"
    decimal = "decimal comma" if event["decimal"] == "," else "decimal point"
    missing = "" if min(event["x"], event["y"]) >= 0 else " Columns of x and y are not found: name them above."
    return f"{Path(event['file']).name}{more}: {between} between values, {header}, {decimal}, {event['encoding']}.{missing}"
