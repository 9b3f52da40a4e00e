"""The map widget: pan, zoom, fit, hover, click. What it shows is painted by ``render`` in another thread."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from PySide6.QtCore import QPoint, QPointF, QRect, QRectF, Qt, QTimer, Signal
from PySide6.QtGui import (
    QFontMetrics,
    QImage,
    QKeyEvent,
    QKeySequence,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPolygonF,
    QResizeEvent,
    QWheelEvent,
)
from PySide6.QtWidgets import QToolTip, QWidget

from eskret.desktop.background import Background
from eskret.desktop.map.pick import feature_at
from eskret.desktop.map.render import Item, Look, path_of, render
from eskret.desktop.map.viewport import Box, Viewport
from eskret.desktop.theme.style import NARROW, font, theme

REACH = 6.0
TINY = 6  # pixels
MANY = 400
"""More chosen features than this are painted with the rest, off the window's thread."""
LOOK, BOX, LASSO = "look", "box", "lasso"
SKETCHES = ("points", "line", "area")
ONLY, MORE, LESS, OTHER = "only", "more", "less", "other"
"""What a hand act does to what is chosen: is all of it, adds to it, takes away from it, turns it over."""


@dataclass(frozen=True)
class Scene:
    """What is on the map. ``items`` are drawn in their order; the last can be picked."""

    items: tuple[Item, ...] = ()
    crs: Mapping[str, Any] | None = None
    hint: str = ""
    context: tuple[Item, ...] = field(default_factory=tuple)

    def extent(self) -> Box | None:
        boxes = [i.shapes.boxes if i.rows is None else i.shapes.boxes[i.rows] for i in self.items if len(i.shapes)]
        boxes = [b for b in boxes if len(b) and not np.isnan(b).all()]
        if not boxes:
            return None
        low = np.min([np.nanmin(b[:, :2], axis=0) for b in boxes], axis=0)
        high = np.max([np.nanmax(b[:, 2:], axis=0) for b in boxes], axis=0)
        return float(low[0]), float(low[1]), float(high[0]), float(high[1])


class MapCanvas(QWidget):
    """The map. Arrow keys pan, plus and minus zoom, 0 shows everything."""

    pointed = Signal(float, float)  # ground under the pointer
    left = Signal()
    view_changed = Signal(object)
    clicked = Signal(int, str)  # row, or -1 for nothing; what it does to what is chosen
    caught = Signal(object, str)  # outline on the ground (n, 2); what it does to what is chosen
    sketched = Signal(str, object)  # points, line or area; vertices (n, 2)
    mode_changed = Signal(str)
    all_asked = Signal()
    hovered = Signal(int)
    drawn = Signal()
    resized = Signal()

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setAccessibleName("Map")
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumSize(160, 120)
        self.view = Viewport()
        self.scene = Scene()
        self.chosen: np.ndarray = np.empty(0, np.int64)
        self._under = -1
        self._image: QImage | None = None
        self._image_view = Viewport()
        self._painting = False
        self._again = False
        self.mode = LOOK
        self._outline: list[tuple[float, float]] = []  # screen, of a box or lasso
        self._vertices: list[tuple[float, float]] = []  # ground, of a sketch
        self._pointer = QPointF()
        self._drag: QPoint | None = None
        self._moved = False
        self._fit_when_sized = True
        self._background = Background(self)
        self._soon = QTimer(self, singleShot=True, interval=12)
        self._soon.timeout.connect(self._paint_soon)
        theme.changed.connect(self.refresh)

    def close_down(self) -> None:
        """Wait for the picture being painted, so that nothing outlives the window."""
        self._background.close()

    def show_scene(self, scene: Scene, keep_view: bool = False, first: Box | None = None) -> None:
        """Show something else.

        Parameters
        ----------
        keep_view : look where it looked, if the CRS is the same.
        first : what to look at otherwise; by default all of the scene.
        """
        same = keep_view and (self.scene.crs or {}).get("code") == (scene.crs or {}).get("code") and self.scene.items
        self.scene = scene
        self.chosen = np.empty(0, np.int64)
        self._under = -1
        if not same:
            self._image = None
            self.fit(first)
        self.refresh()

    def choose(self, rows: np.ndarray, show: bool = False) -> None:
        """Mark rows of the pickable layer; bring them into view, if asked and if they are out of it."""
        many = max(len(rows), len(self.chosen)) > MANY
        self.chosen = rows
        if many:
            self.refresh()
        if show and len(rows) and self.scene.items:
            boxes = self.scene.items[-1].shapes.boxes[rows]
            if not np.isnan(boxes).all():
                low, high = np.nanmin(boxes[:, :2], axis=0), np.nanmax(boxes[:, 2:], axis=0)
                x0, y0, x1, y1 = self.view.box
                size = float((high - low).max()) * self.view.scale
                if 0 < size < TINY:
                    # a gap of half a metre in an outline of kilometres cannot be seen where it is
                    box = (float(low[0]), float(low[1]), float(high[0]), float(high[1]))
                    self._look(self.view.fitted(box, min(self.width(), self.height()) / 3))
                elif low[0] < x0 or low[1] < y0 or high[0] > x1 or high[1] > y1:
                    middle = (low + high) / 2
                    self._look(
                        Viewport(float(middle[0]), float(middle[1]), self.view.scale, self.width(), self.height())
                    )
        self.update()

    def use(self, mode: str) -> None:
        """Take another tool in hand; what was begun with the last one is dropped."""
        self._outline, self._vertices = [], []
        self.setCursor(Qt.CursorShape.ArrowCursor if mode == LOOK else Qt.CursorShape.CrossCursor)
        if mode != self.mode:
            self.mode = mode
            self.mode_changed.emit(mode)
        self.update()

    def idle(self) -> bool:
        """Whether what is on screen is the scene as it should be."""
        return not self._painting and not self._again

    def fit(self, box: Box | None = None) -> None:
        """Show everything, or a box."""
        box = box or self.scene.extent()
        self._fit_when_sized = self.width() < 50
        if box is not None:
            self._look(self.view.sized(self.width(), self.height()).fitted(box))

    def refresh(self) -> None:
        """Paint anew."""
        self._again = True
        self._soon.start()
        self.update()

    def _look(self, view: Viewport) -> None:
        self.view = view
        self.view_changed.emit(view)
        self.refresh()

    def _paint_soon(self) -> None:
        if self._painting or not self._again:
            return
        self._again = False
        self._painting = True
        scene, view, ratio = self.scene, self.view, self.devicePixelRatioF()
        items = [*scene.context, *scene.items]
        if scene.items and len(self.chosen) > MANY:
            items.append(Item(scene.items[-1].shapes, looks()["chosen"], np.sort(self.chosen)))
        self._background.run(lambda: render(items, view, ratio), lambda image: self._painted(scene, view, image))

    def _painted(self, scene: Scene, view: Viewport, image: QImage) -> None:
        self._painting = False
        if scene is self.scene:
            self._image, self._image_view = image, view
        self.update()
        if self._again:
            self._soon.start()
        else:
            self.drawn.emit()

    # -- painting

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.colour("sea"))
        self._grid(painter)
        if self._image is not None and self.scene.items:
            painter.drawImage(self._image_place(), self._image)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if self.scene.items:
            if self._under >= 0:
                self._mark(painter, np.array([self._under]), 2.0, False)
            if len(self.chosen):
                self._mark(painter, self.chosen[:MANY], 2.6, True)
            self._scale_bar(painter)
        self._paint_hand(painter)
        if self.scene.hint:
            painter.setPen(theme.colour("faint"))
            painter.setFont(font(14))
            area = self.rect().adjusted(24, 24, -24, -24)
            painter.drawText(area, Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, self.scene.hint)
        if self.hasFocus():
            painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
            painter.setPen(QPen(theme.colour("hand"), 2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(self.rect().adjusted(1, 1, -1, -1))
        painter.end()

    def _image_place(self) -> QRectF:
        """Where the last picture belongs in the view of now: while a new one is painted, the old one moves along."""
        x0, y0, x1, y1 = self._image_view.box
        corners = self.view.to_screen(np.array([(x0, y1), (x1, y0)]))
        return QRectF(QPointF(*corners[0]), QPointF(*corners[1]))

    def _mark(self, painter: QPainter, rows: np.ndarray, width: float, filled: bool) -> None:
        shapes = self.scene.items[-1].shapes
        vertices, lengths, points = [], [], []
        for row in rows:
            if row >= len(shapes):
                continue
            for xy in shapes.pieces(int(row)):
                at = self.view.to_screen(np.asarray(xy))
                if len(at) == 1:
                    points.append(at[0])
                else:
                    vertices.append(at)
                    lengths.append(len(at))
        ink, hand = theme.colour("ink"), theme.colour("hand")
        if vertices:
            path = path_of(np.concatenate(vertices), np.array(lengths))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            for colour, size in ((ink, width + 2.0), (hand, width)):
                painter.setPen(QPen(colour, size))
                painter.drawPath(path)
        painter.setBrush(hand)
        painter.setPen(QPen(ink, 1.6))
        for at in points:
            painter.drawEllipse(QPointF(*at), 6.0, 6.0)

    def _paint_hand(self, painter: QPainter) -> None:
        """What is being drawn: the box or loop, or the sketch with a line to the pointer."""
        painter.setBrush(theme.colour("hand", 40))
        if len(self._outline) > 1:
            painter.setPen(QPen(theme.colour("ink"), 1.4, Qt.PenStyle.DashLine))
            painter.drawPolygon(QPolygonF([QPointF(*p) for p in _corners(self.mode, self._outline)]))
        if self.mode in SKETCHES and self._vertices:
            at = [QPointF(*p) for p in self.view.to_screen(np.array(self._vertices))]
            painter.setPen(QPen(theme.colour("ink"), 1.8))
            if self.mode == "area":
                painter.drawPolygon(QPolygonF([*at, self._pointer]))
            elif self.mode == "line":
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.drawPolyline(QPolygonF([*at, self._pointer]))
            painter.setBrush(theme.colour("hand"))
            for point in at:
                painter.drawEllipse(point, 4.0, 4.0)

    def _unit(self) -> tuple[float, str, bool]:
        crs = self.scene.crs
        if not crs:
            return 1.0, "units", False
        if crs["geographic"]:
            return 1.0, "°", True
        return float(crs["unit_metres"] or 1.0), "m", False

    def _grid(self, painter: QPainter) -> None:
        """Lines of round coordinates, with figures at the left and lower edge."""
        if not self.scene.items or not self.scene.crs:
            return
        step = nice(110.0 / self.view.scale)
        x0, y0, x1, y1 = self.view.box
        if (x1 - x0) / step > 60:
            return
        metres, _, degrees = self._unit()
        painter.setFont(font(10, family=NARROW))
        metrics = QFontMetrics(painter.font())
        for n in range(math.ceil(x0 / step), math.floor(x1 / step) + 1):
            px = (n * step - self.view.x) * self.view.scale + self.view.width / 2
            painter.setPen(QPen(theme.colour("grid"), 1))
            painter.drawLine(QPointF(px, 0), QPointF(px, self.height()))
            painter.setPen(theme.colour("faint"))
            text = grid_text(n * step, step, metres, degrees)
            if px + metrics.horizontalAdvance(text) + 6 < self.width() - 120:
                painter.drawText(QPointF(px + 3, self.height() - 5), text)
        for n in range(math.ceil(y0 / step), math.floor(y1 / step) + 1):
            py = (self.view.y - n * step) * self.view.scale + self.view.height / 2
            painter.setPen(QPen(theme.colour("grid"), 1))
            painter.drawLine(QPointF(0, py), QPointF(self.width(), py))
            if py < self.height() - 24:
                painter.setPen(theme.colour("faint"))
                painter.drawText(QPointF(3, py - 3), grid_text(n * step, step, metres, degrees))

    def _scale_bar(self, painter: QPainter) -> None:
        metres, unit, degrees = self._unit()
        if degrees:
            # a degree is no length: the bar is for the middle of the view, along the parallel
            metres = 111_320.0 * max(0.01, math.cos(math.radians(min(89.0, abs(self.view.y)))))
            unit = "m"
        if not self.scene.crs:
            return
        pixels = self.view.scale / metres
        length = nice(90.0 / pixels)
        words = f"{length / 1000:g} km" if length >= 1000 and unit == "m" else f"{length:g} {unit}"
        width = length * pixels
        painter.setFont(font(11))
        text = QFontMetrics(painter.font()).horizontalAdvance(words)
        box = QRect(self.width() - int(width) - text - 34, self.height() - 27, int(width) + text + 28, 21)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        painter.fillRect(box, theme.colour("paper", 225))
        painter.setPen(QPen(theme.colour("ink"), 2))
        y = box.center().y()
        painter.drawLine(box.left() + 8, y, box.left() + 8 + int(width), y)
        painter.setPen(theme.colour("ink"))
        painter.drawText(box.adjusted(int(width) + 16, 0, 0, 0), Qt.AlignmentFlag.AlignVCenter, words)

    # -- hands

    def resizeEvent(self, event: QResizeEvent) -> None:
        self.view = self.view.sized(self.width(), self.height())
        if self._fit_when_sized:
            self.fit()
        self.view_changed.emit(self.view)
        self.refresh()
        self.resized.emit()

    def wheelEvent(self, event: QWheelEvent) -> None:
        at = event.position()
        self._look(self.view.zoomed(1.0016 ** event.angleDelta().y(), at.x(), at.y()))
        event.accept()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() in (Qt.MouseButton.LeftButton, Qt.MouseButton.MiddleButton):
            self._drag = event.position().toPoint()
            self._moved = False
            quick = self.mode == LOOK and event.modifiers() & Qt.KeyboardModifier.ShiftModifier
            left = event.button() == Qt.MouseButton.LeftButton
            if left and (self.mode in (BOX, LASSO) or quick) and self.scene.items:
                self._outline = [(event.position().x(), event.position().y())]

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        at = event.position()
        self._pointer = at
        if self._outline:
            self._outline.append((at.x(), at.y()))
            self.update()
            return
        if self._drag is not None:
            by = at.toPoint() - self._drag
            if self._moved or by.manhattanLength() > 4:
                self._moved = True
                self._drag = at.toPoint()
                self.setCursor(Qt.CursorShape.ClosedHandCursor)
                self._look(self.view.moved(by.x(), by.y()))
            return
        self.pointed.emit(*self.view.to_ground(at.x(), at.y()))
        if self.mode in SKETCHES:
            self.update()
            return
        row = self._row_at(at)
        if row != self._under:
            self._under = row
            self.hovered.emit(row)
            if row < 0:
                QToolTip.hideText()
            self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._drag is None:
            return
        self._drag = None
        self.setCursor(Qt.CursorShape.ArrowCursor if self.mode == LOOK else Qt.CursorShape.CrossCursor)
        outline, self._outline = self._outline, []
        if event.button() != Qt.MouseButton.LeftButton:
            return
        at = event.position()
        wide = len(outline) > 1 and (abs(outline[0][0] - at.x()) > 3 or abs(outline[0][1] - at.y()) > 3)
        if wide or len(outline) > 8:
            corners = np.array([self.view.to_ground(*p) for p in _corners(self.mode, [*outline, (at.x(), at.y())])])
            self.caught.emit(corners, _does(event, LESS))
            self.update()
        elif self._moved:
            return
        elif self.mode in SKETCHES:
            self._vertices.append(self.view.to_ground(at.x(), at.y()))
            self.update()
        else:
            self.clicked.emit(self._row_at(at), _does(event, OTHER))

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        if self.mode in SKETCHES:
            # its first press has set the last vertex already
            self.finish_sketch()
        else:
            super().mouseDoubleClickEvent(event)

    def finish_sketch(self) -> None:
        """Hand over what was drawn, if it is enough for its kind."""
        fewest = {"points": 1, "line": 2, "area": 3}[self.mode]
        if len(set(self._vertices)) >= fewest:
            mode, vertices = self.mode, np.array(self._vertices)
            self.use(LOOK)
            self.sketched.emit(mode, vertices)

    def leaveEvent(self, event: Any) -> None:
        self._under = -1
        self.left.emit()
        self.update()

    def _row_at(self, at: QPointF) -> int:
        if not self.scene.items:
            return -1
        x, y = self.view.to_ground(at.x(), at.y())
        return feature_at(self.scene.items[-1], x, y, REACH / self.view.scale)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key, middle = event.key(), (self.width() / 2, self.height() / 2)
        moves = {
            Qt.Key.Key_Left: (60, 0),
            Qt.Key.Key_Right: (-60, 0),
            Qt.Key.Key_Up: (0, 60),
            Qt.Key.Key_Down: (0, -60),
        }
        if key in moves:
            self._look(self.view.moved(*moves[Qt.Key(key)]))
        elif key in (Qt.Key.Key_Plus, Qt.Key.Key_Equal):
            self._look(self.view.zoomed(1.5, *middle))
        elif key == Qt.Key.Key_Minus:
            self._look(self.view.zoomed(1 / 1.5, *middle))
        elif key == Qt.Key.Key_0:
            self.fit()
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.mode in SKETCHES:
            self.finish_sketch()
        elif key == Qt.Key.Key_Backspace and self._vertices:
            self._vertices.pop()
            self.update()
        elif event.matches(QKeySequence.StandardKey.SelectAll):
            self.all_asked.emit()
        elif key == Qt.Key.Key_Escape and self.mode != LOOK:
            self.use(LOOK)
        elif key == Qt.Key.Key_Escape:
            self.clicked.emit(-1, ONLY)
        elif key == Qt.Key.Key_B and not event.modifiers():
            self.use(LOOK if self.mode == BOX else BOX)
        elif key == Qt.Key.Key_L and not event.modifiers():
            self.use(LOOK if self.mode == LASSO else LASSO)
        else:
            super().keyPressEvent(event)


def _does(event: QMouseEvent, with_control: str) -> str:
    """What a hand act does to what is chosen: Shift adds, Control takes away or turns over."""
    if event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
        return MORE
    return with_control if event.modifiers() & Qt.KeyboardModifier.ControlModifier else ONLY


def _corners(mode: str, outline: list[tuple[float, float]]) -> list[tuple[float, float]]:
    """The outline of a lasso, or of the box between the first and the last place."""
    if mode == LASSO:
        return outline
    (ax, ay), (bx, by) = outline[0], outline[-1]
    return [(ax, ay), (bx, ay), (bx, by), (ax, by)]


def nice(size: float) -> float:
    """The nearest of 1, 2, 5 times a power of ten below a size."""
    power = 10.0 ** math.floor(math.log10(size)) if size > 0 and math.isfinite(size) else 1.0
    return next((m * power for m in (5.0, 2.0, 1.0) if m * power <= size), power)


def grid_text(value: float, step: float, metres: float, degrees: bool) -> str:
    """A coordinate as the grid's edge has it."""
    if degrees:
        return f"{value:.{max(0, -math.floor(math.log10(step)))}f}°"
    if metres == 1.0 and step >= 1000:
        return f"{value / 1000:,.0f} km"
    return f"{value:,.{max(0, -math.floor(math.log10(step)))}f}"


def looks() -> dict[str, Look]:
    """How each kind of feature is drawn in the theme in force."""
    p = theme.palette
    return {
        "plain": Look(p.plain_fill, p.plain_line),
        "leaving": Look(p.mark_fill, p.mark_line),
        "aside": Look(p.bad, p.bad, hatch=True),
        "altered": Look(p.look, p.look, hatch=True),
        "behind": Look(p.mark_fill, p.mark_line, alpha=110),
        "chosen": Look(p.hand, p.ink, width=2.0),
        "other": Look(p.hand, p.ink, alpha=70, width=2.0, point=9.0),
    }
