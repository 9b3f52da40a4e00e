"""The editor of a coordinate system: a code, and a box to find one by name, code or area."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import QEvent, QObject, QSettings, Qt, QTimer, Signal
from PySide6.QtGui import QFont, QKeyEvent
from PySide6.QtWidgets import QDialog, QHBoxLayout, QLabel, QLineEdit, QListWidget, QListWidgetItem, QPushButton, QVBoxLayout, QWidget

from eskret.desktop.forms.setting_editors import TextEditor
from eskret.desktop.state.session import Session
from eskret.desktop.theme.style import font
from eskret.operations.settings import SettingInfo

_RECENT = "recent_crs"
_MOST_RECENT = 12
_ASK_AFTER = 150


def recent_crs(memory: QSettings | None) -> list[str]:
    """Codes chosen lately, the latest first."""
    value = memory.value(_RECENT, []) if memory is not None else []
    return [value] if isinstance(value, str) else [str(v) for v in value] if isinstance(value, list) else []


def remember_crs(memory: QSettings | None, code: str) -> None:
    """Put a code first among those chosen lately."""
    if memory is not None:
        known = [c for c in recent_crs(memory) if c != code]
        memory.setValue(_RECENT, [code, *known][:_MOST_RECENT])


class CrsEditor(TextEditor):
    """A code in a line, what it is below, and a button to find another."""

    def __init__(self, info: SettingInfo, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(info, parent)
        self._session = session
        self._label = info.label
        self.find_button = QPushButton("Find …")
        self.find_button.setToolTip("Find a coordinate system by name, code or area")
        self.find_button.clicked.connect(self._find)
        self.layout().addWidget(self.find_button)  # type: ignore[union-attr]
        self.watch(self.find_button)

    def _find(self) -> None:
        box = CrsBox(self._session, self._label, self)
        box.taken.connect(self._take)
        box.open()

    def _take(self, code: str) -> None:
        self.line.setText(code)
        self._settle()


class CrsBox(QDialog):
    """Type words, choose from what fits: the latest first, with unit and area of use."""

    taken = Signal(str)

    def __init__(self, session: Session, title: str, parent: QWidget) -> None:
        super().__init__(parent)
        self._session = session
        self._asked = 0
        self.setWindowTitle(title)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.resize(560, 460)
        head = QLabel("Find a coordinate system")
        head.setFont(font(15, QFont.Weight.DemiBold))
        head.setStyleSheet("font-size: 15px; font-weight: 600;")
        self.line = QLineEdit()
        self.line.setAccessibleName("Name, code or area")
        self.line.setPlaceholderText("name, code or area: utm 26n, 4326, iceland")
        self.list = QListWidget()
        self.list.setAccessibleName("Coordinate systems that fit")
        self.list.setAlternatingRowColors(True)
        self.list.setWordWrap(True)
        self.about = QLabel()
        self.about.setObjectName("faint")
        self.about.setWordWrap(True)
        self.about.setMinimumHeight(52)
        self.about.setAlignment(Qt.AlignmentFlag.AlignTop)
        self.ok = QPushButton("OK")
        self.ok.setObjectName("primary")
        self.ok.setDefault(True)
        self.ok.setEnabled(False)
        self.ok.clicked.connect(self._take)
        leave = QPushButton("Cancel")
        leave.clicked.connect(self.reject)
        row = QHBoxLayout()
        row.addStretch()
        row.addWidget(leave)
        row.addWidget(self.ok)
        column = QVBoxLayout(self)
        column.setContentsMargins(18, 16, 18, 14)
        column.setSpacing(8)
        for widget in (head, self.line, self.list, self.about):
            column.addWidget(widget, 1 if widget is self.list else 0)
        column.addLayout(row)
        self._soon = QTimer(self, singleShot=True, interval=_ASK_AFTER)
        self._soon.timeout.connect(self._ask)
        self.line.textChanged.connect(lambda _: self._soon.start())
        self.line.installEventFilter(self)
        self.list.currentItemChanged.connect(lambda item, _: self._show(item))
        self.list.itemDoubleClicked.connect(lambda _: self._take())
        self._ask()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Up and down in the line move through the list."""
        if event.type() == QEvent.Type.KeyPress and isinstance(event, QKeyEvent):
            step = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1}.get(Qt.Key(event.key()))
            if step and self.list.count():
                self.list.setCurrentRow(max(0, min(self.list.count() - 1, self.list.currentRow() + step)))
                return True
        return super().eventFilter(watched, event)

    def _ask(self) -> None:
        self._asked += 1
        asked = self._asked

        def take(event: dict[str, Any]) -> None:
            if asked == self._asked and event["event"] == "done":
                self._fill(event["found"])

        own = [self._session.document.crs] if self._session.document.crs else []
        recent = list(dict.fromkeys([*own, *recent_crs(self._session.memory), "EPSG:4326"]))
        self._session.ask("find_crs", take, self, words=self.line.text(), recent=recent, most=40)

    def _fill(self, found: list[dict[str, object]]) -> None:
        self.list.clear()
        for known in found:
            item = QListWidgetItem(f"{known['name']}   {known['code']}, {known['unit']}")
            item.setData(Qt.ItemDataRole.UserRole, known)
            self.list.addItem(item)
        if found:
            self.list.setCurrentRow(0)
        else:
            self._show(None)

    def _show(self, item: QListWidgetItem | None) -> None:
        known = item.data(Qt.ItemDataRole.UserRole) if item else None
        self.ok.setEnabled(known is not None)
        if known is None:
            self.about.setText("Nothing fits these words." if self.line.text().strip() else "")
            return
        lines = [f"{known['code']}, in {known['unit']}", f"Used in: {known['area']}" if known["area"] else ""]
        if known["bounds"]:
            west, south, east, north = known["bounds"]
            lines.append(f"{_side(west, 'E', 'W')} to {_side(east, 'E', 'W')}, {_side(south, 'N', 'S')} to {_side(north, 'N', 'S')}")
        self.about.setText("\n".join(filter(None, lines)))

    def _take(self) -> None:
        item = self.list.currentItem()
        if item is not None:
            code = str(item.data(Qt.ItemDataRole.UserRole)["code"])
            remember_crs(self._session.memory, code)
            self.taken.emit(code)
            self.accept()


def _side(value: float, positive: str, negative: str) -> str:
    return f"{abs(value):g}° {positive if value >= 0 else negative}"
