"""The map widget: pan, zoom, fit, hover, click, draw, measure. What it shows is painted by ``picture`` in another thread."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPoint, QPointF, QRectF, Qt, QTimer, Signal
from PySide6.QtGui import QFont, QKeyEvent, QKeySequence, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF, QResizeEvent, QWheelEvent
from PySide6.QtWidgets import QToolTip, QWidget

from eskret.desktop.map_view.graticule import paint_lines, paint_scale_bar
from eskret.desktop.map_view.hit_test import feature_at
from eskret.desktop.map_view.legend import paint_legend
from eskret.desktop.map_view.picture import LEGEND_ROOM, Picture, legend_corner, picture
from eskret.desktop.map_view.render import PaintItem, Symbol, path_of
from eskret.desktop.map_view.scene import Scene
from eskret.desktop.map_view.viewport import Box, Viewport
from eskret.desktop.state.background import Background
from eskret.desktop.state.waits import Waits
from eskret.desktop.theme.style import font, theme

REACH = 6.0
TINY = 6  # pixels
MANY = 400
"""More chosen features than this are painted with the rest, off the window's thread."""
PAN, BOX, LASSO = "look", "box", "lasso"
SKETCHES = ("points", "line", "area")
DISTANCE, SIZE = "distance", "size"
MEASURES = (DISTANCE, SIZE)
DRAWING = (*SKETCHES, *MEASURES)
_CLOSED = ("area", SIZE)
ONLY, MORE, LESS, OTHER = "only", "more", "less", "other"
"""What a hand act does to what is chosen: is all of it, adds to it, takes away from it, turns it over."""


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
    measured = Signal(str, object, bool)  # distance or size; corners on the ground so far (n, 2); whether that is all

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
        self._image: Picture | None = None
        self.legend = True
        self.vertices: np.ndarray | None = None  # on the ground (n, 2), of the feature whose corners are shown
        self.vertex = -1
        self.figure = ""  # what the ruler says, written beside what it measures
        self._image_view = Viewport()
        self._painting = False
        self._again = False
        self.mode = PAN
        self._outline: list[tuple[float, float]] = []  # screen, of a box or lasso
        self._vertices: list[tuple[float, float]] = []  # ground, of a sketch
        self._held = False  # whether what was measured is done and stays to be seen
        self._pointer = QPointF()
        self._drag: QPoint | None = None
        self._moved = False
        self._fit_when_sized = True
        self._fitted: Box | None = None  # what was brought into view whole, until somebody moves the map
        self._background = Background(self)
        self._wait = ""
        self._spot: Box | None = None  # what is ringed in the feature that was gone to
        self.waits = Waits(self)
        self._soon = QTimer(self, singleShot=True, interval=12)
        self._soon.timeout.connect(self._paint_soon)
        self.waits.changed.connect(self.show_wait)
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
        same = keep_view and (self.scene.crs or {}).get("code") == (scene.crs or {}).get("code") and self.scene.drawn
        self.scene = scene
        self.chosen = np.empty(0, np.int64)
        self._under = -1
        self.vertices = None
        if not same:
            self._image = None
            self.fit(first)
        self.refresh()

    def restyle(self, scene: Scene) -> None:
        """Show the same features drawn otherwise; what is chosen and where it looks stay, unless there was nothing to look at."""
        before, self.scene = self.scene, scene
        if before.extent() is None and scene.extent() is not None:
            self._image = None
            self.fit()
        self.refresh()

    def choose(self, rows: np.ndarray, show: bool = False) -> None:
        """Mark rows of the pickable layer; bring them into view, if asked and if they are out of it."""
        many = max(len(rows), len(self.chosen)) > MANY
        self.chosen = rows
        if many:
            self.refresh()
        self.vertices, self._spot = None, None
        if show and len(rows) and self.scene.pick is not None:
            boxes = self.scene.pick.shapes.boxes[rows]
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
                    self._look(Viewport(float(middle[0]), float(middle[1]), self.view.scale, self.width(), self.height()))
        self.update()

    def go_to(self, row: int, spot: Box | None = None) -> None:
        """Look at one feature from near, with some ground around it; of a point as near as it is looked at now.

        Parameters
        ----------
        spot : the box in the feature that it is about, which is then gone to instead, and ringed.
        """
        if self.scene.pick is None:
            return
        box = self.scene.pick.shapes.boxes[row]
        if np.isnan(box).any():
            return
        x0, y0, x1, y1 = (float(v) for v in box)
        if spot is not None:
            self._spot = spot
            least = max(x1 - x0, y1 - y0) / 16  # of a mere point so much of the feature is seen
            x0, y0, x1, y1 = spot
            if x0 == x1 and y0 == y1:
                x0, y0, x1, y1 = x0 - least, y0 - least, x1 + least, y1 + least
        near = self.view.fitted((x0, y0, x1, y1), min(self.width(), self.height()) / 3)
        if x0 == x1 and y0 == y1:
            whole = self.view.fitted(self.scene.extent() or (x0, y0, x1, y1))
            near = Viewport(x0, y0, max(self.view.scale, whole.scale * 4), self.width(), self.height())
        self._look(near)

    def use(self, mode: str) -> None:
        """Take another tool in hand; what was begun with the last one is dropped."""
        self._outline, self._vertices, self._held, self.figure = [], [], False, ""
        self.setCursor(Qt.CursorShape.ArrowCursor if mode == PAN else Qt.CursorShape.CrossCursor)
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
            self._fitted = box

    def refresh(self) -> None:
        """Paint anew."""
        self._again = True
        self._soon.start()
        self.update()

    def _look(self, view: Viewport) -> None:
        self._fitted = None
        self.view = view
        self.view_changed.emit(view)
        self.refresh()

    def show_vertices(self, xy: np.ndarray | None, vertex: int = -1) -> None:
        """Mark corners on the ground (n, 2), one of them as the one in hand; None for none."""
        self.vertices, self.vertex = xy, vertex
        if xy is not None and 0 <= vertex < len(xy):
            at = self.view.to_screen(xy[[vertex]])[0]
            if not (0 <= at[0] < self.width() and 0 <= at[1] < self.height()):
                x, y = float(xy[vertex, 0]), float(xy[vertex, 1])
                self._look(Viewport(x, y, self.view.scale, self.width(), self.height()))
        self.update()

    def show_legend(self, on: bool) -> None:
        """Whether the legend lies on the map."""
        self.legend = on
        self.refresh()

    def _paint_soon(self) -> None:
        if self._painting or not self._again:
            return
        self._again = False
        self._painting = True
        scene, view, ratio, palette, legend = (self.scene, self.view, self.devicePixelRatioF(), theme.palette, self.legend)
        marked: tuple[PaintItem, ...] = ()
        if scene.pick is not None and len(self.chosen) > MANY:
            marked = (PaintItem(scene.pick.shapes, symbols()["chosen"], np.sort(self.chosen)),)
        work: Callable[[], Picture] = lambda: picture(scene, marked, view, ratio, palette, legend)  # noqa: E731
        self.waits.begin("picture", "Drawing …")
        self._background.run(work, lambda made: self._painted(scene, view, made))

    def _painted(self, scene: Scene, view: Viewport, made: Picture) -> None:
        self._painting = False
        self.waits.end("picture")
        if scene is self.scene:
            self._image, self._image_view = made, view
        self.update()
        if self._again:
            self._soon.start()
        else:
            self.drawn.emit()

    # -- painting

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        scene = self.scene
        painter.fillRect(self.rect(), theme.colour("sea"))
        if scene.drawn:
            paint_lines(painter, self.view, scene.crs, scene.lines, theme.palette)
            if self._image is not None:
                painter.drawImage(self._image_place(), self._image.image)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if scene.pick is not None:
            if self._under >= 0:
                self._mark(painter, np.array([self._under]), 2.0, False)
            if len(self.chosen):
                self._mark(painter, self.chosen[:MANY], 2.6, True)
        self._paint_vertices(painter)
        self._paint_spot(painter)
        if scene.drawn:
            if self.legend:
                paint_legend(painter, scene.legend, legend_corner(self.view), self.height() * LEGEND_ROOM, theme.palette)
            paint_scale_bar(painter, self.view, scene.crs, theme.palette)
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self._paint_hand(painter)
        if self._wait:
            self._paint_wait(painter)
        if scene.hint:
            painter.setPen(theme.colour("faint"))
            painter.setFont(font(14))
            area = self.rect().adjusted(24, 24, -24, -24)
            painter.drawText(area, Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, scene.hint)
        if self.hasFocus():
            painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
            painter.setPen(QPen(theme.colour("ring"), 2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(self.rect().adjusted(1, 1, -1, -1))
        painter.end()

    def _paint_spot(self, painter: QPainter) -> None:
        """A ring around the spot that is gone to: never so small that it is not seen."""
        if self._spot is None:
            return
        x0, y0, x1, y1 = self._spot
        (left, top), (right, bottom) = self.view.to_screen(np.array([(x0, y1), (x1, y0)])).tolist()
        wide, high = max(right - left + 16, 28), max(bottom - top + 16, 28)
        ring = QRectF((left + right - wide) / 2, (top + bottom - high) / 2, wide, high)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for colour, width in (("paper", 5.0), ("bad", 2.2)):
            painter.setPen(QPen(theme.colour(colour), width))
            painter.drawRoundedRect(ring, 14, 14)

    def _paint_wait(self, painter: QPainter) -> None:
        """What is waited for, over the middle of the lower edge: it hides nothing for long."""
        painter.setFont(font(13))
        room = painter.fontMetrics().horizontalAdvance(self._wait) + 28
        box = QRectF((self.width() - room) / 2, self.height() - 66, room, 28)
        _paint_words(painter, box, self._wait, "field_line", "field", "ink")

    def show_wait(self, text: str) -> None:
        """Say what is waited for; nothing for no text."""
        self._wait = text
        self.update()

    def labels_placed(self) -> tuple[int, int]:
        """How many labels had room in the last picture, of how many features in view."""
        return (self._image.placed, self._image.asked) if self._image is not None else (0, 0)

    def _image_place(self) -> QRectF:
        """Where the last picture belongs in the view of now: while a new one is painted, the old one moves along."""
        x0, y0, x1, y1 = self._image_view.box
        corners = self.view.to_screen(np.array([(x0, y1), (x1, y0)]))
        return QRectF(QPointF(*corners[0]), QPointF(*corners[1]))

    def _mark(self, painter: QPainter, rows: np.ndarray, width: float, filled: bool) -> None:
        assert self.scene.pick is not None
        shapes = self.scene.pick.shapes
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
        if self.mode in DRAWING and self._vertices:
            at = [QPointF(*p) for p in self.view.to_screen(np.array(self._vertices))]
            ends = at if self._held else [*at, self._pointer]
            painter.setPen(QPen(theme.colour("ink"), 1.8))
            if self.mode in _CLOSED:
                painter.drawPolygon(QPolygonF(ends))
            elif self.mode != "points":
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.drawPolyline(QPolygonF(ends))
            painter.setBrush(theme.colour("hand"))
            for point in at:
                painter.drawEllipse(point, 4.0, 4.0)
            if self.figure and self.mode in MEASURES:
                self._paint_figure(painter, ends[-1])

    def _paint_figure(self, painter: QPainter, at: QPointF) -> None:
        painter.setFont(font(12, QFont.Weight.DemiBold))
        width = painter.fontMetrics().horizontalAdvance(self.figure) + 14
        x = min(max(4.0, at.x() + 12), self.width() - width - 4.0)
        y = min(max(4.0, at.y() - 30), self.height() - 26.0)
        box = QRectF(x, y, width, 22)
        _paint_words(painter, box, self.figure, "ink", "hand", "hand_ink")

    def _paint_vertices(self, painter: QPainter) -> None:
        if self.vertices is None:
            return
        at = self.view.to_screen(self.vertices)
        seen = (at[:, 0] > -4) & (at[:, 0] < self.width() + 4) & (at[:, 1] > -4) & (at[:, 1] < self.height() + 4)
        painter.setPen(QPen(theme.colour("ink"), 1.2))
        painter.setBrush(theme.colour("field"))
        for x, y in at[seen][:4000].tolist():
            painter.drawRect(QRectF(x - 2.5, y - 2.5, 5, 5))
        if 0 <= self.vertex < len(at):
            painter.setBrush(theme.colour("hand"))
            x, y = at[self.vertex].tolist()
            painter.drawRect(QRectF(x - 5, y - 5, 10, 10))

    # -- hands

    def resizeEvent(self, event: QResizeEvent) -> None:
        self.view = self.view.sized(self.width(), self.height())
        if self._fit_when_sized:
            self.fit()
        elif self._fitted is not None:
            self.fit(self._fitted)  # nobody has moved it since: what was shown whole stays so
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
            quick = self.mode == PAN and event.modifiers() & Qt.KeyboardModifier.ShiftModifier
            left = event.button() == Qt.MouseButton.LeftButton
            if left and (self.mode in (BOX, LASSO) or quick) and self.scene.pick is not None:
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
        if self.mode in DRAWING:
            self._tell_measure()
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
        self.setCursor(Qt.CursorShape.ArrowCursor if self.mode == PAN else Qt.CursorShape.CrossCursor)
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
        elif self.mode in DRAWING:
            if self._held:
                self._vertices, self._held = [], False
            self._vertices.append(self.view.to_ground(at.x(), at.y()))
            self._tell_measure()
            self.update()
        else:
            self.clicked.emit(self._row_at(at), _does(event, OTHER))

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        if self.mode in DRAWING:
            # its first press has set the last vertex already
            self.finish_sketch()
        else:
            super().mouseDoubleClickEvent(event)

    def finish_sketch(self) -> None:
        """Hand over what was drawn, if it is enough for its kind."""
        fewest = {"points": 1, "area": 3, SIZE: 3}.get(self.mode, 2)
        if len(set(self._vertices)) >= fewest and self.mode in MEASURES:
            self._held = True
            self._tell_measure()
            self.update()
        elif len(set(self._vertices)) >= fewest:
            mode, vertices = self.mode, np.array(self._vertices)
            self.use(PAN)
            self.sketched.emit(mode, vertices)

    def _tell_measure(self) -> None:
        if self.mode in MEASURES and self._vertices:
            here = [] if self._held else [self.view.to_ground(self._pointer.x(), self._pointer.y())]
            self.measured.emit(self.mode, np.array([*self._vertices, *here]), self._held)

    def leaveEvent(self, event: object) -> None:
        self._under = -1
        self.left.emit()
        self.update()

    def _row_at(self, at: QPointF) -> int:
        if self.scene.pick is None:
            return -1
        x, y = self.view.to_ground(at.x(), at.y())
        return feature_at(self.scene.pick, x, y, REACH / self.view.scale)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key, middle = event.key(), (self.width() / 2, self.height() / 2)
        moves = {Qt.Key.Key_Left: (60, 0), Qt.Key.Key_Right: (-60, 0), Qt.Key.Key_Up: (0, 60), Qt.Key.Key_Down: (0, -60)}
        if key in moves:
            self._look(self.view.moved(*moves[Qt.Key(key)]))
        elif key in (Qt.Key.Key_Plus, Qt.Key.Key_Equal):
            self._look(self.view.zoomed(1.5, *middle))
        elif key == Qt.Key.Key_Minus:
            self._look(self.view.zoomed(1 / 1.5, *middle))
        elif key == Qt.Key.Key_0:
            self.fit()
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.mode in DRAWING:
            self.finish_sketch()
        elif key == Qt.Key.Key_Backspace and self._vertices:
            self._vertices.pop()
            self._held = False
            self._tell_measure()
            self.update()
        elif event.matches(QKeySequence.StandardKey.SelectAll):
            self.all_asked.emit()
        elif key == Qt.Key.Key_Escape and self.mode != PAN:
            self.use(PAN)
        elif key == Qt.Key.Key_Escape:
            self.clicked.emit(-1, ONLY)
        elif key == Qt.Key.Key_B and not event.modifiers():
            self.use(PAN if self.mode == BOX else BOX)
        elif key == Qt.Key.Key_L and not event.modifiers():
            self.use(PAN if self.mode == LASSO else LASSO)
        elif key == Qt.Key.Key_M and not event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            mode = SIZE if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else DISTANCE
            self.use(PAN if self.mode == mode else mode)
        else:
            super().keyPressEvent(event)


def _paint_words(painter: QPainter, box: QRectF, text: str, edge: str, ground: str, ink: str) -> None:
    """Words in a box, its colours by their names."""
    painter.setPen(QPen(theme.colour(edge), 1))
    painter.setBrush(theme.colour(ground))
    painter.drawRoundedRect(box, 3, 3)
    painter.setPen(theme.colour(ink))
    painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)


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


def symbols() -> dict[str, Symbol]:
    """How each kind of feature is drawn in the theme in force."""
    p = theme.palette
    return {
        "plain": Symbol(p.plain_fill, p.plain_line),
        "leaving": Symbol(p.mark_fill, p.mark_line),
        "aside": Symbol(p.bad, p.bad, hatch=True),
        "altered": Symbol(p.look, p.look, hatch=True),
        "behind": Symbol(p.mark_fill, p.mark_line, alpha=110),
        "kept": Symbol(p.plain_fill, p.plain_line, alpha=200),
        "chosen": Symbol(p.hand, p.ink, width=2.0),
        "other": Symbol(p.hand, p.ink, alpha=70, width=2.0, point=9.0),
    }
