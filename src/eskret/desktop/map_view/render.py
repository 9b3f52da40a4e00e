"""Paint features into an image, off the window's thread.

What is out of view is left out by its box; what is under a pixel is set as a pixel; vertices that fall on the same
half pixel as the one before are dropped; what is left of a style becomes paths of a hundred pieces each. Hundreds of
thousands of polygons take a fraction of a second that way.
"""

from __future__ import annotations

from collections.abc import Generator, Sequence
from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QByteArray, QDataStream, QIODevice, Qt
from PySide6.QtGui import QBrush, QColor, QImage, QPainter, QPainterPath, QPen, QPolygonF, QTransform

from eskret.desktop.map_view.viewport import Viewport
from eskret.workflow.cache.results import LINE, POINT, RING
from eskret.workflow.cache.stored import Shapes

TINY = 2.5  # pixels: smaller features are set as dots
MANY_POINTS = 6_000
MANY_PIECES = 5_000  # from here on lines are drawn without smoothing, which takes a tenth of the time
CHUNK = 100  # pieces a path: Qt's cost grows faster than a path's length


@dataclass(frozen=True)
class Symbol:
    """How features are drawn. ``hatch`` puts strokes over the fill, so that colour alone says nothing; ``width`` is of
    lines and outlines, ``point`` the diameter of points, in pixels."""

    fill: str
    line: str
    alpha: int = 255
    hatch: bool = False
    width: float = 1.2
    point: float = 7.0
    case: str = ""
    """What lines are drawn upon, a little wider, so that pale ones are seen on a pale ground."""


@dataclass(frozen=True)
class PaintItem:
    """Features to draw: all of a layer, or the rows given (int64)."""

    shapes: Shapes
    look: Symbol
    rows: np.ndarray | None = None


def visible_rows(item: PaintItem, view: Viewport) -> np.ndarray:
    """Rows whose box meets the view."""
    x0, y0, x1, y1 = view.box
    boxes = item.shapes.boxes if item.rows is None else item.shapes.boxes[item.rows]
    hit = (boxes[:, 0] <= x1) & (boxes[:, 2] >= x0) & (boxes[:, 1] <= y1) & (boxes[:, 3] >= y0)
    found = np.flatnonzero(hit)
    return found if item.rows is None else item.rows[found]


def render(items: Sequence[PaintItem], view: Viewport, ratio: float) -> QImage:
    """Paint items over each other on nothing.

    Parameters
    ----------
    view : what to show, in pixels at 100 %.
    ratio : device pixels a pixel.
    """
    image = QImage(round(view.width * ratio), round(view.height * ratio), QImage.Format.Format_ARGB32_Premultiplied)
    image.setDevicePixelRatio(ratio)
    image.fill(Qt.GlobalColor.transparent)
    for item in items:
        rows = visible_rows(item, view)
        if len(rows):
            _paint(_Onto(image, None, ratio), item, rows, view)
    return image


def paint(painter: QPainter, items: Sequence[PaintItem], view: Viewport) -> None:
    """Paint items with a painter of any device, as strokes and fills that stay sharp at every size."""
    for item in items:
        rows = visible_rows(item, view)
        if len(rows):
            painter.save()
            _paint(_Onto(None, painter, 1.0), item, rows, view)
            painter.restore()


@dataclass(frozen=True)
class _Onto:
    """What is painted on: an image, in whose memory dots are set straight, or whatever a painter has."""

    image: QImage | None
    painter: QPainter | None
    ratio: float

    def begin(self) -> QPainter:
        if self.painter is not None:
            return self.painter
        assert self.image is not None
        return QPainter(self.image)

    def end(self, painter: QPainter) -> None:
        if self.painter is None:
            painter.end()

    def dots(self, at: np.ndarray, look: Symbol, size: int) -> None:
        if self.image is not None:
            _dots(self.image, at * self.ratio, look, size)
            return
        assert self.painter is not None
        colour = QColor(look.line)
        colour.setAlpha(look.alpha)
        self.painter.setPen(QPen(colour, size, Qt.PenStyle.SolidLine, Qt.PenCapStyle.SquareCap))
        self.painter.drawPoints(_polygon(at))


def _paint(onto: _Onto, item: PaintItem, rows: np.ndarray, view: Viewport) -> None:
    shapes, look, ratio = item.shapes, item.look, onto.ratio
    boxes = shapes.boxes[rows]
    size = np.maximum(boxes[:, 2] - boxes[:, 0], boxes[:, 3] - boxes[:, 1]) * view.scale
    whole_points = shapes.kinds[np.minimum(shapes.first[rows], len(shapes.kinds) - 1)] == POINT
    tiny = (size < TINY) & ~whole_points
    if tiny.any():
        centre = np.column_stack([boxes[tiny, 0] + boxes[tiny, 2], boxes[tiny, 1] + boxes[tiny, 3]]) / 2
        dot = float(np.median(size[tiny])) * 0.8
        if shapes.kinds[shapes.first[rows[tiny][0]]] == LINE:
            dot = max(dot, look.width)  # a short leg is as wide as a long one
        onto.dots(view.to_screen(centre), look, max(1, round(dot * ratio)))
    pieces, counts = pieces_for(shapes, rows[~tiny])
    if not len(pieces):
        return
    xy, lengths = gather(shapes, pieces, counts)
    screen = view.to_screen(xy)
    kinds = shapes.kinds[pieces]
    painter = onto.begin()
    many = onto.image is not None and len(pieces) > MANY_PIECES
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, not many)
    points = np.repeat(kinds == POINT, lengths)
    if not points.all():
        for kind in (RING, LINE):
            chosen = kinds == kind
            if chosen.any():
                own = np.repeat(chosen, lengths)
                vertices, kept = thin(screen[own], lengths[chosen])
                for path in paths_of(vertices, kept):
                    _draw(painter, path, look, filled=kind == RING, plain=many)
    if points.any():
        at = screen[points]
        if len(at) > MANY_POINTS:
            onto.end(painter)
            onto.dots(at, look, max(2, round(3 * ratio)))
            return
        _points(painter, at, look)
    onto.end(painter)


def paint_sample(painter: QPainter, look: Symbol, at: np.ndarray, kind: str) -> None:
    """One feature of screen coordinates (n, 2) in a look: a point, a line or an area."""
    if kind == "point":
        _points(painter, at, look)
    else:
        _draw(painter, path_of(at, np.array([len(at)])), look, filled=kind == "area", plain=False)


def pieces_for(shapes: Shapes, rows: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Numbers of all pieces of these rows, in order, and the count of vertices of each."""
    begin, end = shapes.first[rows], shapes.first[rows + 1]
    pieces = _ranges(begin, end - begin)
    return pieces, shapes.starts[pieces + 1] - shapes.starts[pieces]


def gather(shapes: Shapes, pieces: np.ndarray, counts: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Vertices of these pieces one after the other, and how many each has."""
    return shapes.xy[_ranges(shapes.starts[pieces], counts)], counts


def _ranges(begin: np.ndarray, count: np.ndarray) -> np.ndarray:
    """``begin[0] .. begin[0] + count[0] - 1, begin[1] ..`` as one array."""
    total = int(count.sum())
    if not total:
        return np.empty(0, np.int64)
    offset = np.repeat(begin - np.concatenate([[0], np.cumsum(count)[:-1]]), count)
    return offset + np.arange(total)


def thin(screen: np.ndarray, lengths: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Drop vertices that fall on the same half pixel as the one before; the ends of a piece stay.

    Returns
    -------
    The vertices left (n, 2), and how many each piece has.
    """
    grid = np.rint(screen * 2)
    keep = np.ones(len(screen), bool)
    keep[1:] = (grid[1:] != grid[:-1]).any(axis=1)
    ends = np.cumsum(lengths)
    keep[ends - lengths] = True
    keep[ends - 1] = True
    kept = np.add.reduceat(keep, ends - lengths)
    return screen[keep], kept


def paths_of(vertices: np.ndarray, lengths: np.ndarray) -> Generator[QPainterPath, None, None]:
    """Paths of a limited number of pieces."""
    ends = np.concatenate([[0], np.cumsum(lengths)])
    for begin in range(0, len(lengths), CHUNK):
        end = min(begin + CHUNK, len(lengths))
        yield path_of(vertices[ends[begin] : ends[end]], lengths[begin:end])


_ELEMENT = np.dtype([("kind", ">i4"), ("x", ">f8"), ("y", ">f8")])


def path_of(vertices: np.ndarray, lengths: np.ndarray) -> QPainterPath:
    """One path of many pieces, put together at once: Qt reads it in the form in which it writes paths to streams."""
    path = QPainterPath()
    if not len(vertices):
        return path
    elements = np.empty(len(vertices), _ELEMENT)
    elements["kind"] = 1  # line to
    elements["kind"][np.concatenate([[0], np.cumsum(lengths)[:-1]])] = 0  # move to
    elements["x"], elements["y"] = vertices[:, 0], vertices[:, 1]
    raw = len(elements).to_bytes(4, "big") + elements.tobytes() + (0).to_bytes(4, "big") + (1).to_bytes(4, "big")
    _read_into(path, raw)
    return path


def _draw(painter: QPainter, path: QPainterPath, look: Symbol, filled: bool, plain: bool) -> None:
    line = QColor(look.line)
    line.setAlpha(look.alpha)
    if filled:
        fill = QColor(look.fill)
        fill.setAlpha(min(look.alpha, 90) if look.hatch else look.alpha)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(fill)
        painter.drawPath(path)
        if look.hatch:
            brush = QBrush(line, Qt.BrushStyle.BDiagPattern)
            brush.setTransform(QTransform().scale(0.75, 0.75))
            painter.setBrush(brush)
            painter.drawPath(path)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(line, 0 if plain else look.width))
    else:
        painter.setBrush(Qt.BrushStyle.NoBrush)
        pen = QPen(line, 0 if plain else look.width + 0.6)
        if look.hatch:
            pen.setDashPattern([4, 2])
        if look.case and not plain:
            case = QColor(look.case)
            case.setAlpha(look.alpha)
            painter.setPen(QPen(case, look.width + 2.0))
            painter.drawPath(path)
        painter.setPen(pen)
    painter.drawPath(path)


def _points(painter: QPainter, at: np.ndarray, look: Symbol) -> None:
    """Points as discs with an outline; as crosses where a hatch would mark an area."""
    line, fill = QColor(look.line), QColor(look.fill)
    line.setAlpha(look.alpha)
    fill.setAlpha(look.alpha)
    if look.hatch:
        r = look.point / 2
        corners = np.array([(-r, -r), (r, r), (-r, r), (r, -r)])
        strokes = (at[:, None, :] + corners[None, :, :]).reshape(-1, 2)
        painter.setPen(QPen(line, 1.6))
        painter.drawPath(path_of(strokes, np.full(len(at) * 2, 2)))
        return
    polygon = _polygon(at)
    for size, colour in ((look.point + 1.6, line), (look.point - 0.8, fill)):
        painter.setPen(QPen(colour, size, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap))
        painter.drawPoints(polygon)


_POINT = np.dtype([("x", ">f8"), ("y", ">f8")])


def _polygon(at: np.ndarray) -> QPolygonF:
    pairs = np.empty(len(at), _POINT)
    pairs["x"], pairs["y"] = at[:, 0], at[:, 1]
    polygon = QPolygonF()
    _read_into(polygon, len(pairs).to_bytes(4, "big") + pairs.tobytes())
    return polygon


def _read_into(thing: QPainterPath | QPolygonF, raw: bytes) -> None:
    # the stream reads from the array by address: it must live as long as the stream
    memory = QByteArray(raw)
    stream = QDataStream(memory, QIODevice.OpenModeFlag.ReadOnly)
    stream >> thing


def _dots(image: QImage, at: np.ndarray, look: Symbol, size: int) -> None:
    """Set squares of ``size`` device pixels at device positions (n, 2), straight in the image's memory."""
    width, height = image.width(), image.height()
    pixels = np.frombuffer(image.bits(), np.uint32).reshape(height, image.bytesPerLine() // 4)
    colour = QColor(look.line)
    a = look.alpha
    value = (a << 24) | (colour.red() * a // 255 << 16) | (colour.green() * a // 255 << 8) | (colour.blue() * a // 255)
    cell = np.floor(at - (size - 1) / 2).astype(np.int64)
    for dy in range(size):
        for dx in range(size):
            x, y = cell[:, 0] + dx, cell[:, 1] + dy
            there = (x >= 0) & (x < width) & (y >= 0) & (y < height)
            pixels[y[there], x[there]] = value
