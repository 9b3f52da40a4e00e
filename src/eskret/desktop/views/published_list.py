"""Lists of the Publish view: services with their datasets, and pushes."""

from __future__ import annotations

from collections.abc import Generator, Mapping, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime
from typing import Any

from PySide6.QtCore import QModelIndex, QPersistentModelIndex, QPointF, QRect, QSize, Qt, Signal
from PySide6.QtGui import QFocusEvent, QFont, QFontMetrics, QPainter, QPen
from PySide6.QtWidgets import (
    QAbstractItemView,
    QListWidget,
    QListWidgetItem,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTreeWidget,
    QTreeWidgetItem,
    QWidget,
)

from eskret.desktop.state.publisher import KnownService
from eskret.desktop.theme.icons import paint_state
from eskret.desktop.theme.style import font, theme

ADDED, CHANGED, REMOVED, CONFLICT = "added", "changed", "removed", "conflict"
_STATES = {
    "prepared": ("not sent yet", "look"),
    "sending": ("being sent", "look"),
    "part": ("sent in part", "look"),
    "pushed": ("sent", "good"),
    "undoing": ("taken back in part", "look"),
    "undone": ("taken back", ""),
}
_Role = Qt.ItemDataRole.UserRole
Index = Any


def state_words(state: str) -> str:
    """What became of a push."""
    return _STATES.get(state, (state, ""))[0]


def mark_of(state: str) -> str:
    """The shape that stands for it."""
    return _STATES.get(state, ("", ""))[1]


def figures_of(push: Mapping[str, object]) -> str:
    """``12 added, 37 changed, 9 removed``, as what is to be or what was."""
    ahead = push["state"] in ("prepared", "sending", "part")
    words = ("to add", "to change", "to remove") if ahead else ("added", "changed", "removed")
    found = [f"{push[n]:,} {w}" for n, w in zip((ADDED, CHANGED, REMOVED), words, strict=True) if push[n]]
    return ", ".join(found) or "no change"


def moment(text: str) -> str:
    """A time as a person here reads it: the hour alone today, else the day too."""
    try:
        when = datetime.fromisoformat(text)
    except ValueError:
        return text
    here = (when if when.tzinfo else when.replace(tzinfo=UTC)).astimezone()
    now = datetime.now().astimezone()
    if here.date() == now.date():
        return here.strftime("today at %H:%M")
    return here.strftime("on %-d %B at %H:%M" if here.year == now.year else "on %-d %B %Y")


class _Lines(QStyledItemDelegate):
    """Two lines, a figure at the right, and a state's shape."""

    def sizeHint(self, option: QStyleOptionViewItem, index: Index | QPersistentModelIndex) -> QSize:
        return QSize(60, 42 if (index.data(_Role) or {}).get("below") else 25)

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: Index | QPersistentModelIndex) -> None:
        told: dict[str, Any] = index.data(_Role) or {}
        rect: QRect = option.rect
        painter.save()
        whole = QRect(0, rect.top(), option.widget.width(), rect.height())
        if option.state & QStyle.StateFlag.State_Selected:
            painter.fillRect(whole, theme.colour("shelf_chosen"))
            painter.fillRect(QRect(0, rect.top(), 3, rect.height()), theme.colour("ring"))
            if option.state & QStyle.StateFlag.State_HasFocus:
                painter.setPen(QPen(theme.colour("ink"), 1, Qt.PenStyle.DotLine))
                painter.drawRect(whole.adjusted(0, 0, -1, -1))
        left, right = (26 if told.get("inner") else 12), whole.right() - 10
        head = QRect(left, rect.top() + (4 if told.get("below") else 0), right - left, 18 if told.get("below") else rect.height())
        middle = Qt.AlignmentFlag.AlignVCenter
        figures = str(told.get("figures", ""))
        painter.setFont(font(12))
        room = QFontMetrics(painter.font()).horizontalAdvance(figures)
        painter.setPen(theme.colour("bad" if told.get("bad") else "faint"))
        painter.drawText(head, middle | Qt.AlignmentFlag.AlignRight, figures)
        if told.get("mark"):
            paint_state(painter, told["mark"], QPointF(right - room - 9.0, head.center().y() + 1.0))
            room += 16
        bold = QFont.Weight.DemiBold if told.get("bold") else QFont.Weight.Normal
        painter.setFont(font(13, bold))
        painter.setPen(theme.colour("ink"))
        narrow = head.adjusted(0, 0, -(room + 8), 0)
        _write(painter, narrow, str(told.get("text", "")))
        if told.get("below"):
            painter.setFont(font(12))
            painter.setPen(theme.colour("faint"))
            _write(painter, QRect(left, rect.top() + 21, right - left, 17), str(told["below"]))
        painter.restore()


def _write(painter: QPainter, room: QRect, text: str) -> None:
    """A line of text, cut where there is no more room."""
    short = QFontMetrics(painter.font()).elidedText(text, Qt.TextElideMode.ElideRight, room.width())
    painter.drawText(room, Qt.AlignmentFlag.AlignVCenter, short)


@contextmanager
def _quietly(view: QAbstractItemView) -> Generator[None, None, None]:
    """While this lasts, nothing that happens to the list is told: only what somebody chooses is."""
    before = view.blockSignals(True)
    try:
        yield
    finally:
        view.blockSignals(before)
        view.viewport().update()


def _let_go(view: QAbstractItemView) -> None:
    with _quietly(view):
        view.setCurrentIndex(QModelIndex())
        view.clearSelection()


class ServiceTree(QTreeWidget):
    """Services with their datasets. ``chosen`` gives the address and the dataset's id, which is empty for the service itself."""

    chosen = Signal(str, str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setAccessibleName("Services and datasets")
        self.setHeaderHidden(True)
        self.setRootIsDecorated(False)
        self.setIndentation(0)
        self.setItemDelegate(_Lines(self))
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.currentItemChanged.connect(self._changed)
        theme.changed.connect(self.viewport().update)

    def show_services(self, services: Mapping[str, KnownService]) -> None:
        """Show these; what was chosen stays chosen."""
        at = self.currentItem()
        before = (at.data(0, _Role)["address"], at.data(0, _Role)["id"]) if at is not None else None
        self.blockSignals(True)
        self.clear()
        for address, service in services.items():
            name = "Practice server" if service.practice else address.split("//")[-1]
            state = "asking …" if service.asking and service.datasets is None else "no answer" if service.problem else ""
            top = self._item(text=name, figures=state, bad=bool(service.problem), bold=True, address=address, id="")
            top.setToolTip(0, f"{address}\n{service.problem}".strip())
            self.addTopLevelItem(top)
            for one in service.datasets or ():
                count = f"{one['count']:,}" if one["count"] is not None else "?"
                item = self._item(text=one["title"], figures=count, inner=True, address=address, id=one["id"])
                item.setToolTip(0, f"{one['id']}, changed {moment(one['updated'])}" if one["updated"] else one["id"])
                top.addChild(item)
            if service.datasets == [] and not service.problem:
                top.addChild(self._item(text="publishes nothing yet", inner=True, address=address, id=""))
        self.expandAll()
        lines = sum(1 + (t.childCount() if (t := self.topLevelItem(n)) is not None else 0) for n in range(self.topLevelItemCount()))
        self.setFixedHeight(min(max(lines, 2) * 25 + 6, 330))
        if before is not None:
            self.choose(*before)
        self.blockSignals(False)

    @staticmethod
    def _item(**told: object) -> QTreeWidgetItem:
        item = QTreeWidgetItem([str(told["text"])])
        item.setData(0, _Role, told)
        return item

    def _find(self, address: str, id: str) -> QTreeWidgetItem | None:
        for n in range(self.topLevelItemCount()):
            top = self.topLevelItem(n)
            for item in (top, *(top.child(k) for k in range(top.childCount()))) if top is not None else ():
                told = item.data(0, _Role) if item is not None else {"address": "", "id": ""}
                if (told["address"], told["id"]) == (address, id):
                    return item
        return None

    def choose(self, address: str, id: str) -> None:
        """Choose a dataset, if it is there."""
        found = self._find(address, id)
        if found is not None:
            self.setCurrentItem(found)

    def release(self) -> None:
        """Have nothing chosen."""
        _let_go(self)

    def focusInEvent(self, event: QFocusEvent) -> None:
        """Coming here chooses nothing: what is shown beside stays."""
        with _quietly(self):
            super().focusInEvent(event)

    def _changed(self, item: QTreeWidgetItem | None, _before: QTreeWidgetItem | None) -> None:
        if item is not None:
            told = item.data(0, _Role)
            self.chosen.emit(told["address"], told["id"])


class PushList(QListWidget):
    """Pushes, the latest first. ``chosen`` gives the id."""

    chosen = Signal(str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setAccessibleName("Pushes")
        self.setObjectName("shelfList")
        self.setItemDelegate(_Lines(self))
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.currentItemChanged.connect(self._changed)
        theme.changed.connect(self.viewport().update)

    def show_pushes(self, pushes: Sequence[Mapping[str, Any]]) -> None:
        """Show these; the one chosen stays so."""
        at = self.currentItem()
        before = at.data(_Role)["id"] if at is not None else ""
        self.blockSignals(True)
        self.clear()
        for push in pushes:
            told = {
                "text": push["dataset"],
                "figures": state_words(push["state"]),
                "mark": mark_of(push["state"]),
                "below": f"{moment(push['sent'] or push['taken'])}: {figures_of(push)}",
                "id": push["id"],
            }
            item = QListWidgetItem(f"{push['dataset']}, {state_words(push['state'])}")
            item.setData(_Role, told)
            item.setToolTip(f"{push['id']}\n{push['service']}\n{push['title']}".strip())
            self.addItem(item)
        self.blockSignals(False)
        if before:
            self.mark(before)

    def mark(self, id: str) -> None:
        """Have this one chosen without telling."""
        with _quietly(self):
            for n in range(self.count()):
                item = self.item(n)
                if item is not None and item.data(_Role)["id"] == id:
                    self.setCurrentItem(item)

    def release(self) -> None:
        """Have nothing chosen."""
        _let_go(self)

    def focusInEvent(self, event: QFocusEvent) -> None:
        """Coming here chooses nothing: what is shown beside stays."""
        with _quietly(self):
            super().focusInEvent(event)

    def _changed(self, item: QListWidgetItem | None, _before: QListWidgetItem | None) -> None:
        if item is not None:
            self.chosen.emit(item.data(_Role)["id"])
