"""Add a step: type what you want in everyday words, choose, and it is in the ledger."""

from __future__ import annotations

from pathlib import Path
from typing import Protocol

from PySide6.QtCore import QEvent, QModelIndex, QObject, QPersistentModelIndex, QRect, QSize, Qt, Signal
from PySide6.QtGui import QFont, QFontMetrics, QKeyEvent, QPainter
from PySide6.QtWidgets import QFrame, QLabel, QLineEdit, QListView, QStyle, QStyledItemDelegate, QStyleOptionViewItem, QVBoxLayout, QWidget

from eskret.desktop.state.list_model import Role, Row, RowsModel
from eskret.desktop.theme.style import NARROW, font, theme
from eskret.operations.finding import Findings
from eskret.workflow.faces.catalogue import find


class _Delegate(QStyledItemDelegate):
    def sizeHint(self, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex) -> QSize:
        return QSize(200, 46)

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex) -> None:
        rect: QRect = option.rect
        entry: Found = index.data(Role)
        painter.save()
        if option.state & QStyle.StateFlag.State_Selected:
            painter.fillRect(rect, theme.colour("hand_row"))
            painter.fillRect(QRect(rect.left(), rect.top(), 3, rect.height()), theme.colour("ring"))
        area = rect.adjusted(14, 5, -12, -5)
        painter.setFont(font(14, QFont.Weight.DemiBold))
        painter.setPen(theme.colour("ink"))
        painter.drawText(area, Qt.AlignmentFlag.AlignTop, entry.title)
        painter.setFont(font(12, QFont.Weight.DemiBold, NARROW))
        painter.setPen(theme.colour("good"))
        painter.drawText(area, Qt.AlignmentFlag.AlignTop | Qt.AlignmentFlag.AlignRight, entry.kind)
        painter.setFont(font(12))
        painter.setPen(theme.colour("faint"))
        text = QFontMetrics(painter.font()).elidedText(entry.summary.replace("\n", " "), Qt.TextElideMode.ElideRight, area.width())
        painter.drawText(area, Qt.AlignmentFlag.AlignBottom, text)
        painter.restore()


class Found(Protocol):
    """What can be chosen: a title, a line on it, and what it is."""

    @property
    def title(self) -> str: ...
    @property
    def summary(self) -> str: ...
    @property
    def kind(self) -> str: ...


class SearchBox(QFrame):
    """A box over the window that finds something by a few words. Arrow keys move, Enter takes, Escape leaves."""

    taken = Signal(object)  # what was found

    def __init__(self, parent: QWidget, name: str, hint: str, nothing: str) -> None:
        super().__init__(parent)
        self._over = parent
        self.setObjectName("finder")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.line = QLineEdit()
        self.line.setAccessibleName(name)
        self.line.setPlaceholderText(hint)
        self.line.textChanged.connect(self._search)
        self.line.installEventFilter(self)
        self.model = RowsModel(self)
        self.list = QListView()
        self.list.setAccessibleName("What was found")
        self.list.setModel(self.model)
        self.list.setItemDelegate(_Delegate(self.list))
        self.list.setEditTriggers(QListView.EditTrigger.NoEditTriggers)
        self.list.clicked.connect(lambda _: self._take())
        self._nothing = nothing
        self.nothing = QLabel(nothing)
        self.nothing.setWordWrap(True)
        self.nothing.setObjectName("faint")
        column = QVBoxLayout(self)
        column.setContentsMargins(10, 10, 10, 10)
        column.addWidget(self.line)
        column.addWidget(self.nothing)
        column.addWidget(self.list)
        self._width = 560
        self.hide()

    def found_for(self, words: str) -> Findings[Found]:
        """What fits these words, best first, and what there is to say of it."""
        raise NotImplementedError

    def open_over(self, top: int) -> None:
        """Show it, empty, at a height of the window."""
        parent = self._over
        width = min(560, parent.width() - 40)
        self._width = width
        self.move((parent.width() - width) // 2, top)
        self.line.clear()
        self._search("")
        self.show()
        self.raise_()
        self.line.setFocus()

    def _search(self, words: str) -> None:
        findings = self.found_for(words)
        found = findings.things
        self.nothing.setText(findings.note or self._nothing)
        self.model.fill([Row(entry.title, entry, entry.summary) for entry in found])
        self.nothing.setVisible(bool(findings.note or not found))
        rows = min(len(found), 7)
        self.list.setVisible(bool(found))
        self.list.setFixedHeight(rows * 46 + 4)
        self.adjustSize()
        self.resize(self._width, self.sizeHint().height())
        if found:
            self.list.setCurrentIndex(self.model.index(0, 0))

    def _take(self) -> None:
        index = self.list.currentIndex()
        if index.isValid():
            self.hide()
            self.taken.emit(index.data(Role))

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            if event.key() in (Qt.Key.Key_Down, Qt.Key.Key_Up):
                step = 1 if event.key() == Qt.Key.Key_Down else -1
                row = min(max(self.list.currentIndex().row() + step, 0), self.model.rowCount() - 1)
                self.list.setCurrentIndex(self.model.index(row, 0))
                return True
            if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
                self._take()
                return True
            if event.key() == Qt.Key.Key_Escape:
                self.hide()
                return True
        if event.type() == QEvent.Type.FocusOut and not self.list.hasFocus() and not self.underMouse():
            self.hide()
        return super().eventFilter(watched, event)


class Finder(SearchBox):
    """What a step should do: operations, and workflows of the folder."""

    def __init__(self, parent: QWidget) -> None:
        hint = "What should the step do? Try: gpx, only some, export …"
        super().__init__(parent, "What should the step do?", hint, "No operation does that under this name. Try another word.")
        self._layers = True
        self._folder = Path()
        self._workflow: Path | None = None

    def found_for(self, words: str) -> Findings[Found]:
        return find(words, self._layers, self._folder, self._workflow)

    def open_at(self, top: int, with_layers: bool, folder: Path, workflow: Path | None) -> None:
        """Show it; where there are no layers yet, what brings some comes first. Workflows of the folder are offered too, but
        the one that is open."""
        self._layers, self._folder, self._workflow = with_layers, folder, workflow
        self.open_over(top)
