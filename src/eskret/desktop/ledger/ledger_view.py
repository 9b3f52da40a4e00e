"""The ledger on screen: a tree of steps and layers, painted like ruled paper, with threads in its gutter."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import QModelIndex, QPersistentModelIndex, QPointF, QRect, QSize, Qt, Signal
from PySide6.QtGui import (
    QColor,
    QFont,
    QFontMetrics,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPainterPath,
    QPaintEvent,
    QPen,
    QPolygonF,
    QResizeEvent,
)
from PySide6.QtWidgets import QHeaderView, QStyle, QStyledItemDelegate, QStyleOptionViewItem, QTreeView, QWidget

from eskret.core.words import pieces
from eskret.desktop.ledger.ledger_model import ASIDE, IN, LAYERS, NUMBER, OUT, STATE, STEP, THREAD, TIME, TOTAL, LedgerModel, Node
from eskret.desktop.ledger.threads import between, width
from eskret.desktop.state.session import Session
from eskret.desktop.theme.icons import STATE_COLOURS, paint_state
from eskret.desktop.theme.style import NARROW, font, theme
from eskret.workflow.model import edits

ROW, LANE = 26, 18
_RIGHT = {NUMBER, LAYERS, IN, OUT, ASIDE, TOTAL, TIME}
_PAD = 10


class LedgerDelegate(QStyledItemDelegate):
    """Paints every cell; knows nothing but the node it paints."""

    def __init__(self, model: LedgerModel, view: QTreeView) -> None:
        super().__init__(view)
        self._model = model
        self._view = view

    def sizeHint(self, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex) -> QSize:
        return QSize(40, ROW)  # one for all, since of other heights every row would be asked

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex) -> None:
        node = self._model.node(index)
        rect: QRect = option.rect
        chosen = bool(option.state & QStyle.StateFlag.State_Selected)
        column = index.column()
        painter.save()
        ground = theme.palette.paper
        if node.kind == "step" and node.step is not None and node.step.number % 2:
            ground = theme.palette.band
        if chosen:
            ground = theme.palette.hand_row
        painter.fillRect(rect, QColor(ground))
        painter.setPen(QPen(theme.colour("ring" if chosen else "line"), 1))
        painter.drawLine(rect.bottomLeft(), rect.bottomRight())
        if chosen and self._view.hasFocus():
            # whoever works with keys must see where they are
            painter.setPen(QPen(theme.colour("ring"), 2))
            painter.drawLine(rect.left(), rect.top() + 1, rect.right() + 1, rect.top() + 1)
            painter.drawLine(rect.left(), rect.bottom(), rect.right() + 1, rect.bottom())
        if column == THREAD:
            self.threads(painter, rect, node)
        elif node.kind == "heading":
            self._heading(painter, rect, node, column)
        else:
            self._cell(painter, rect, node, column)
        if chosen and column == NUMBER:
            painter.fillRect(QRect(rect.left(), rect.top(), 4, rect.height()), theme.colour("ring"))
        painter.restore()

    def _heading(self, painter: QPainter, rect: QRect, node: Node, column: int) -> None:
        if column == STEP:
            painter.setFont(font(12, QFont.Weight.DemiBold, NARROW))
            painter.setPen(theme.colour("good"))
            area = rect.adjusted(_PAD, 6, 0, 0)
            painter.drawText(area, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, node.text)

    def _cell(self, painter: QPainter, rect: QRect, node: Node, column: int) -> None:
        text = self._model.text(node, column)
        row = node.step
        assert row is not None
        area = rect.adjusted(_PAD, 0, -_PAD, -1)
        colour = theme.colour("ink")
        weight = QFont.Weight.Normal
        if column in (NUMBER, TIME) or node.state == "off" or (row.planned and column in (LAYERS, IN, OUT)):
            colour = theme.colour("faint")
        elif column == OUT and node.kind == "step":
            weight = QFont.Weight.DemiBold
        elif column == ASIDE:
            colour, weight = theme.colour("bad"), QFont.Weight.DemiBold
        if node.kind == "layer" and column not in (ASIDE,):
            colour = theme.colour("faint") if column != OUT else theme.colour("ink")
        if column == STEP and node.kind == "step":
            self._sentence(painter, area, node)
            return
        if column == STATE and node.kind == "step":
            self._state(painter, area, node)
            return
        if column == STEP:
            area = area.adjusted(16, 0, 0, 0)
        if column == NUMBER and node.kind == "step" and (node.children or node.notes):
            self._opener(painter, rect, node)
        made = font(13, weight)
        if row.planned and column in (IN, OUT):
            made.setItalic(True)
        painter.setFont(made)
        painter.setPen(colour)
        align = Qt.AlignmentFlag.AlignRight if column in _RIGHT else Qt.AlignmentFlag.AlignLeft
        shown = QFontMetrics(made).elidedText(text, Qt.TextElideMode.ElideRight, area.width())
        painter.drawText(area, align | Qt.AlignmentFlag.AlignVCenter, shown)

    def _opener(self, painter: QPainter, rect: QRect, node: Node) -> None:
        """A small wedge that points right where a step can be opened, down where it is."""
        x, y = rect.left() + 11.0, rect.center().y() + 0.5
        assert node.step is not None
        open_ = self._view.isExpanded(self._model.index(node.position, 0)) or self._model.notes_open(node.step.id)
        points = [(-3, -2), (3, -2), (0, 3)] if open_ else [(-2, -3.5), (3, 0), (-2, 3.5)]
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.colour("faint"))
        painter.drawPolygon(QPolygonF([QPointF(x + dx, y + dy) for dx, dy in points]))

    def _sentence(self, painter: QPainter, area: QRect, node: Node) -> None:
        row = node.step
        assert row is not None
        colour = theme.colour("faint" if node.state == "off" else "ink")
        parts = pieces(row.sentence)
        x = area.left()
        for text, strong in parts:
            made = font(13, QFont.Weight.DemiBold if strong else QFont.Weight.Normal)
            made.setStrikeOut(node.state == "off")
            metrics = QFontMetrics(made)
            left = area.right() - x
            if left <= 8:
                break
            shown = metrics.elidedText(text, Qt.TextElideMode.ElideRight, left)
            painter.setFont(made)
            painter.setPen(colour)
            painter.drawText(QRect(x, area.top(), left, area.height()), Qt.AlignmentFlag.AlignVCenter, shown)
            x += metrics.horizontalAdvance(shown)
            if shown != text:
                return

    def _state(self, painter: QPainter, area: QRect, node: Node) -> None:
        """A shape and a word: a disc balances, a triangle asks for a look, a square failed, a ring is under way."""
        state = node.state
        if not state:
            return
        paint_state(painter, state, QPointF(area.left() + 5.0, area.center().y() + 1.0))
        painter.setFont(font())
        painter.setPen(theme.colour(STATE_COLOURS.get(state, "faint")))
        words = {"error": "cannot run"}
        painter.drawText(area.adjusted(15, 0, 0, 0), Qt.AlignmentFlag.AlignVCenter, words.get(state, state))

    def note(self, painter: QPainter, line: QRect, left: int, node: Node, chosen: bool) -> None:
        """A note over all columns from ``left`` on: its mark, its words, and where it can be gone to, that it can."""
        assert node.note is not None
        painter.fillRect(line, theme.colour("hand_row" if chosen else "note"))
        painter.setPen(QPen(theme.colour("line"), 1))
        painter.drawLine(line.bottomLeft(), line.bottomRight())
        if chosen and self._view.hasFocus():
            painter.setPen(QPen(theme.colour("ring"), 2))
            painter.drawRect(line.adjusted(1, 1, -1, -1))
        tone = node.note.tone
        area = QRect(left + _PAD, line.top(), line.right() - left - 2 * _PAD, line.height())
        if tone in ("look", "bad"):
            paint_state(painter, tone, QPointF(area.left() + 5.0, area.center().y() + 1.0))
        elif tone == "aside":
            # out of the row: a stroke that leaves it downwards
            painter.setPen(QPen(theme.colour("bad"), 1.8))
            x, y = area.left() + 5.0, area.center().y() + 1.0
            painter.drawLine(QPointF(x - 4, y - 3), QPointF(x + 3, y + 3))
            painter.drawLine(QPointF(x + 3, y + 3), QPointF(x + 3, y - 1.5))
        area = area.adjusted(16, 0, 0, 0)
        way = "Show them" if node.note.reason else ""
        made = font(13)
        metrics = QFontMetrics(made)
        room = metrics.horizontalAdvance(way) + 18 if way else 0
        painter.setFont(made)
        painter.setPen(theme.colour({"bad": "bad", "look": "ink", "aside": "ink"}.get(tone, "faint")))
        text = metrics.elidedText(node.note.text, Qt.TextElideMode.ElideRight, max(0, area.width() - room))
        painter.drawText(area, Qt.AlignmentFlag.AlignVCenter, text)
        if way:
            made.setUnderline(True)
            painter.setFont(made)
            painter.setPen(theme.colour("good"))
            painter.drawText(area.adjusted(metrics.horizontalAdvance(text) + 14, 0, 0, 0), Qt.AlignmentFlag.AlignVCenter, way)

    def threads(self, painter: QPainter, rect: QRect, node: Node) -> None:
        rows = self._model.threads
        if not rows:
            return
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        top, bottom, mid = rect.top(), rect.bottom() + 1, rect.center().y() + 0.5

        step = lane_width(width(rows))

        def x(lane: int) -> float:
            return rect.left() + 14.0 + lane * step

        def pen(colour: int) -> QPen:
            threads = theme.palette.threads
            return QPen(QColor(threads[colour % len(threads)]), 2.0)

        if node.kind != "step":
            if node.thread >= 0:
                for lane, colour in between(rows, node.thread).items():
                    painter.setPen(pen(colour))
                    painter.drawLine(QPointF(x(lane), top), QPointF(x(lane), bottom))
            return
        row = rows[node.thread]
        for lane in row.through:
            painter.setPen(pen(row.colours[lane]))
            painter.drawLine(QPointF(x(lane), top), QPointF(x(lane), bottom))
        for lane, goes_on in row.joins:
            painter.setPen(pen(row.colours[lane]))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            if goes_on:
                painter.drawLine(QPointF(x(lane), top), QPointF(x(lane), bottom))
            if lane == row.knot:
                painter.drawLine(QPointF(x(lane), top), QPointF(x(lane), mid))
            else:
                bend = 5.0 if row.knot > lane else -5.0
                path = QPainterPath(QPointF(x(lane), mid - 5.0 if goes_on else top))
                path.lineTo(x(lane), mid - 5.0)
                path.quadTo(x(lane), mid, x(lane) + bend, mid)
                path.lineTo(x(row.knot), mid)
                painter.drawPath(path)
        if row.starts:
            painter.setPen(pen(row.colour))
            painter.drawLine(QPointF(x(row.knot), mid), QPointF(x(row.knot), bottom))
        painter.setPen(pen(row.colour))
        hollow = node.state == "off"
        painter.setBrush(theme.colour("paper") if hollow else painter.pen().color())
        painter.drawEllipse(QPointF(x(row.knot), mid), 3.6, 3.6)


_SIZES = {NUMBER: 42, LAYERS: 62, IN: 72, OUT: 72, ASIDE: 80, TOTAL: 108, TIME: 60, STATE: 102}
_SENTENCE = 190
"""What the sentence of a step wants at least."""


EMPTY = (
    "No steps yet.\n\nDrop files here, choose sources at the left and press Enter, "
    "or press Insert and say in your own words what the first step should do."
)


class LedgerView(QTreeView):
    """The ledger. Keys: Insert adds, Delete removes, Alt with arrows moves, F2 renames, Space switches off and on."""

    add_asked = Signal()
    layer_chosen = Signal(str)
    rename_asked = Signal()
    reason_asked = Signal(str)  # why features were set aside, of the step in hand

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("ledger")
        self.setAccessibleName("Ledger of steps")
        self._session = session
        self._model = LedgerModel(session, self)
        self.setModel(self._model)
        self._delegate = LedgerDelegate(self._model, self)
        self.setItemDelegate(self._delegate)
        self.setRootIsDecorated(False)
        self.setIndentation(0)
        self.setUniformRowHeights(True)
        self.setMouseTracking(True)
        self.setVerticalScrollMode(QTreeView.ScrollMode.ScrollPerPixel)
        self.setExpandsOnDoubleClick(False)
        self._header()
        self._scrolled = 0
        self._model.modelAboutToBeReset.connect(self._remember)
        self._model.modelReset.connect(self._settle)
        self._model.dataChanged.connect(lambda *_: self._fit())
        session.selected_changed.connect(self._show_selected)
        self.selectionModel().currentChanged.connect(self._current_changed)
        theme.changed.connect(self.viewport().update)
        self._open: set[str] = set()
        self.expanded.connect(lambda i: self._open.add(self._id(i)))
        self.collapsed.connect(lambda i: self._open.discard(self._id(i)))
        self._settle()

    def _header(self) -> None:
        header = self.header()
        header.setStretchLastSection(False)
        header.setMinimumSectionSize(34)
        header.setSectionsMovable(False)
        header.setSectionResizeMode(QHeaderView.ResizeMode.Interactive)
        header.setSectionResizeMode(STEP, QHeaderView.ResizeMode.Stretch)
        for column, size in _SIZES.items():
            self.setColumnWidth(column, size)

    def _id(self, index: QModelIndex) -> str:
        row = self._model.node(index).step
        return row.id if row else ""

    def _remember(self) -> None:
        self._scrolled = self.verticalScrollBar().value()

    def _settle(self) -> None:
        """After a rebuild: open what was open, choose what was chosen, look where it looked."""
        for node in self._model.nodes:
            if node.children and node.step is not None and node.step.id in self._open:
                self.expand(self._model.index(node.position, 0))
        self._fit()
        self.verticalScrollBar().setValue(self._scrolled)
        self._show_selected(self._session.selected)

    def _fit(self) -> None:
        lanes = max(1, width(self._model.threads))
        self.setColumnWidth(THREAD, max(58, 28 + round(lanes * lane_width(lanes))))
        self._fit_columns()

    def _show_selected(self, id: str) -> None:
        index = self._model.index_of(id)
        current = self.currentIndex()
        if index.isValid() and (not current.isValid() or self._id(current) != id):
            self.setCurrentIndex(index)
            self.scrollTo(index)

    def _current_changed(self, current: QModelIndex, _before: QModelIndex) -> None:
        if not current.isValid():
            return
        node = self._model.node(current)
        if node.kind == "heading":
            return
        assert node.step is not None
        self._session.select(node.step.id)
        if node.kind == "layer" and node.layer is not None:
            self.layer_chosen.emit(node.layer.key)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        index = self.indexAt(event.position().toPoint())
        if not index.isValid() or self._model.node(index).kind == "heading":
            return  # a step stays in hand: Qt would let go of it
        if index.column() == NUMBER and self._model.node(index).kind == "step":
            self._toggle(index)
            index = self.indexAt(event.position().toPoint())
        super().mousePressEvent(event)
        self._follow(index)

    def _follow(self, index: QModelIndex) -> bool:
        """Go to what a note is about; False where it is about nothing that can be gone to."""
        node = self._model.node(index) if index.isValid() else None
        if node is None or node.note is None or not node.note.reason:
            return False
        self.reason_asked.emit(node.note.reason)
        return True

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        index = self.indexAt(event.position().toPoint())
        if index.isValid() and index.column() != NUMBER:
            self._toggle(index)

    def _toggle(self, index: QModelIndex) -> None:
        node = self._model.node(index)
        if node.kind != "step" or node.step is None or not (node.children or node.notes):
            return
        id = node.step.id
        on = not (self.isExpanded(self._model.index(node.position, 0)) or (not node.children and self._model.notes_open(id)))
        self._model.open_notes(id, on)
        self.setExpanded(self._model.index_of(id), on)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key = event.key()
        alt = event.modifiers() & Qt.KeyboardModifier.AltModifier
        if key == Qt.Key.Key_Insert:
            self.add_asked.emit()
        elif key == Qt.Key.Key_Delete:
            self._remove()
        elif key == Qt.Key.Key_F2:
            self.rename_asked.emit()
        elif key == Qt.Key.Key_Space:
            self.switch()
        elif alt and key in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            self.move_step(-1 if key == Qt.Key.Key_Up else 1)
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.currentIndex().isValid():
            if not self._follow(self.currentIndex()):
                self._toggle(self.currentIndex())
        else:
            super().keyPressEvent(event)

    def _remove(self) -> None:
        if self._session.selected:
            id = self._session.selected
            self._session.edit(edits.remove_step(self._session.document, id), f"remove {id}")

    def remove_selected(self) -> None:
        """Take the step in hand out."""
        self._remove()

    def switch(self) -> None:
        """Switch the step in hand off, or on again."""
        step = self._session.step()
        if step is not None:
            self._session.change_step(replace(step, off=not step.off), "switch on" if step.off else "switch off")

    def move_step(self, by: int) -> None:
        """Move the step in hand up (-1) or down (1)."""
        if self._session.selected:
            id = self._session.selected
            self._session.edit(edits.move_step(self._session.document, id, by), f"move {id}")
            self._show_selected(id)

    def drawRow(self, painter: QPainter, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex) -> None:
        node = self._model.node(index)
        if node.kind != "note":
            super().drawRow(painter, option, index)
            return
        line = QRect(0, option.rect.top(), self.viewport().width(), option.rect.height())
        left = self.columnViewportPosition(STEP)
        painter.save()
        self._delegate.note(painter, line, left, node, self.selectionModel().isSelected(index))
        gutter = QRect(self.columnViewportPosition(THREAD), line.top(), self.columnWidth(THREAD), line.height())
        self._delegate.threads(painter, gutter, node)
        painter.restore()

    def paintEvent(self, event: QPaintEvent) -> None:
        super().paintEvent(event)
        if not self._model.nodes:
            painter = QPainter(self.viewport())
            painter.setFont(font(14))
            painter.setPen(theme.colour("faint"))
            area = self.viewport().rect().adjusted(40, 16, -40, -16)
            painter.drawText(area, Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, EMPTY)
            painter.end()

    def resizeEvent(self, event: QResizeEvent) -> None:
        self._fit_columns()
        super().resizeEvent(event)

    def _fit_columns(self) -> None:
        """At narrow widths figures give way, the time first, so that the sentence keeps its room."""
        room = self.viewport().width() - self.columnWidth(THREAD)
        room -= sum(_SIZES[c] for c in (NUMBER, OUT, STATE))
        for column in (ASIDE, IN, TOTAL, LAYERS, TIME):
            room -= _SIZES[column]
            self.setColumnHidden(column, room < _SENTENCE)


def lane_width(lanes: int) -> float:
    """Room for each thread in the gutter: many threads stand closer, so that the sentences keep theirs."""
    return min(float(LANE), max(7.0, 92.0 / max(1, lanes)))
