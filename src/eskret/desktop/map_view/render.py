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
FADES = (3.0, 14.0)
"""Sizes in pixels between which the outlines of areas come up: of smaller ones they would be all that is seen."""
FEW_TINY = 500  # so few are set in the colour of their outline, to be found at all
MANY_POINTS = 6_000
THIN = 0.3
"""How strongly a single point is set where there are many; the densest place is set in full."""
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

    def dots(self, at: np.ndarray, named: str, alpha: int, size: int) -> None:
        colour = QColor(named)
        colour.setAlpha(alpha)
        if self.image is not None:
            _dots(self.image, at * self.ratio, colour, size)
            return
        assert self.painter is not None
        self.painter.setPen(QPen(colour, size, Qt.PenStyle.SolidLine, Qt.PenCapStyle.SquareCap))
        self.painter.drawPoints(_polygon(at))

    def density(self, at: np.ndarray, look: Symbol, size: int) -> None:
        """Many points: where they lie closer together the colour is stronger."""
        if self.image is not None:
            _density(self.image, at * self.ratio, look, size)
        else:
            self.dots(at, look.line, look.alpha, size)


def _outline(size: float, pieces: int) -> float:
    """How strongly areas are outlined, from 0 to 1: those of a few pixels not at all, where there are many."""
    if pieces <= FEW_TINY:
        return 1.0
    return float(np.clip((size - FADES[0]) / (FADES[1] - FADES[0]), 0.0, 1.0))


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
        lines = shapes.kinds[shapes.first[rows[tiny][0]]] == LINE
        colour = look.line if lines or len(centre) <= FEW_TINY else look.fill
        onto.dots(view.to_screen(centre), colour, look.alpha, max(1, round(dot * ratio)))
    pieces, counts = pieces_for(shapes, rows[~tiny])
    if not len(pieces):
        return
    xy, lengths = gather(shapes, pieces, counts)
    screen = view.to_screen(xy)
    drawn = ~tiny & ~whole_points
    outline = _outline(float(np.median(size[drawn])) if drawn.any() else FADES[1], len(pieces))
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
                    _draw(painter, path, look, filled=kind == RING, plain=many, outline=outline)
    if points.any():
        at = screen[points]
        if len(at) > MANY_POINTS:
            onto.end(painter)
            onto.density(at, look, max(2, round(3 * ratio)))
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


def _draw(painter: QPainter, path: QPainterPath, look: Symbol, filled: bool, plain: bool, outline: float = 1.0) -> None:
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
        if not outline:
            return
        line.setAlpha(round(look.alpha * outline))
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


def _pixels(image: QImage) -> np.ndarray:
    """An image's memory (rows, columns) of premultiplied colours."""
    return np.frombuffer(image.bits(), np.uint32).reshape(image.height(), image.bytesPerLine() // 4)


def _premultiplied(colour: QColor, alpha: np.ndarray) -> np.ndarray:
    """A colour at these opacities (0 to 255) as an image holds it (uint32)."""
    a = alpha.astype(np.uint32)
    red, green, blue = (np.uint32(part) for part in (colour.red(), colour.green(), colour.blue()))
    return np.asarray((a << 24) | (red * a // 255 << 16) | (green * a // 255 << 8) | (blue * a // 255), np.uint32)


def _dots(image: QImage, at: np.ndarray, colour: QColor, size: int) -> None:
    """Set squares of ``size`` device pixels at device positions (n, 2), straight in the image's memory."""
    width, height = image.width(), image.height()
    pixels = _pixels(image)
    value = _premultiplied(colour, np.array([colour.alpha()]))[0]
    cell = np.floor(at - (size - 1) / 2).astype(np.int64)
    for dy in range(size):
        for dx in range(size):
            x, y = cell[:, 0] + dx, cell[:, 1] + dy
            there = (x >= 0) & (x < width) & (y >= 0) & (y < height)
            pixels[y[there], x[there]] = value


def _density(image: QImage, at: np.ndarray, look: Symbol, size: int) -> None:
    """Set squares of ``size`` device pixels, the more opaque the more points lie in them, by the logarithm of how many."""
    columns, rows = -(-image.width() // size), -(-image.height() // size)
    cell = np.floor(at / size).astype(np.int64)
    there = ((cell >= 0) & (cell < (columns, rows))).all(axis=1)
    counts = np.bincount(cell[there, 1] * columns + cell[there, 0], minlength=columns * rows).reshape(rows, columns)
    most = int(counts.max(initial=0))
    if not most:
        return
    strength = np.where(counts > 0, THIN + (1 - THIN) * np.log1p(counts) / np.log1p(most), 0.0)
    alpha = np.rint(strength * look.alpha).astype(np.uint32)
    large = np.repeat(np.repeat(alpha, size, axis=0), size, axis=1)[: image.height(), : image.width()]
    pixels = _pixels(image)[:, : image.width()]
    over = _premultiplied(QColor(look.line), large)
    # what lies below shows through where there are few: each part of a colour by itself, as premultiplied ones are put over each other
    mixed = np.zeros_like(over)
    for shift in (0, 8, 16, 24):
        mixed |= (((over >> shift) & 255) + ((pixels >> shift) & 255) * (255 - large) // 255) << shift
    pixels[large > 0] = mixed[large > 0]
