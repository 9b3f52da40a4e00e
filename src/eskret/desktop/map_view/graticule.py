"""What lies behind and beside the features: lines of round coordinates, figures at the edge, the scale bar."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Any

import numpy as np
from PySide6.QtCore import QPointF, QRect, QRectF, Qt
from PySide6.QtGui import QColor, QFontMetrics, QPainter, QPen, QPolygonF

from eskret.core.crs import WGS84, move
from eskret.desktop.map_view.lettering import write_at, write_in
from eskret.desktop.map_view.viewport import Viewport
from eskret.desktop.theme.palette import Palette
from eskret.desktop.theme.style import NARROW, font
from eskret.errors import CrsError
from eskret.workflow.model.map_spec import DEGREES, NONE

Crs = Mapping[str, Any]
_EVERY = 110.0  # pixels between lines, about
_SAMPLES = 33


def paint_lines(painter: QPainter, view: Viewport, crs: Crs | None, which: str, palette: Palette) -> None:
    """The lines that a map has: its grid, degrees, or none."""
    if crs is None or which == NONE:
        return
    painter.setFont(font(10, family=NARROW))
    if which == DEGREES and not crs["geographic"]:
        _graticule(painter, view, crs, palette)
    else:
        _grid(painter, view, crs, palette)


def unit_of(crs: Crs) -> tuple[float, str, bool]:
    """Metres in one unit of a CRS, what its lengths are told in, and whether it is one of degrees."""
    if crs["geographic"]:
        return 1.0, "°", True
    return float(crs["unit_metres"] or 1.0), "m", False


def _grid(painter: QPainter, view: Viewport, crs: Crs, palette: Palette) -> None:
    step = nice(_EVERY / view.scale)
    x0, y0, x1, y1 = view.box
    if (x1 - x0) / step > 60:
        return
    metres, _, degrees = unit_of(crs)
    if degrees:
        # beyond the poles, and a turn, there is nothing to be found
        step = degree_step(_EVERY / view.scale) if step >= 1 else step
        most = 180.0 if abs(view.x) <= 180.0 else 540.0
        x0, x1, y0, y1 = max(x0, -most), min(x1, most), max(y0, -90.0), min(y1, 90.0)
    metrics = QFontMetrics(painter.font())
    grid, faint = QPen(QColor(palette.grid), 1), QColor(palette.faint)
    left, right = ((x - view.x) * view.scale + view.width / 2 for x in (x0, x1))
    bottom, top = ((view.y - y) * view.scale + view.height / 2 for y in (y0, y1))
    for n in range(math.ceil(x0 / step), math.floor(x1 / step) + 1):
        px = (n * step - view.x) * view.scale + view.width / 2
        painter.setPen(grid)
        painter.drawLine(QPointF(px, top), QPointF(px, bottom))
        painter.setPen(faint)
        text = grid_text(n * step, step, metres, degrees)
        if px + metrics.horizontalAdvance(text) + 6 < view.width - 120:
            write_at(painter, QPointF(px + 3, view.height - 5), text)
    for n in range(math.ceil(y0 / step), math.floor(y1 / step) + 1):
        py = (view.y - n * step) * view.scale + view.height / 2
        painter.setPen(grid)
        painter.drawLine(QPointF(left, py), QPointF(right, py))
        if 12 < py < view.height - 24:
            painter.setPen(faint)
            write_at(painter, QPointF(3, py - 3), grid_text(n * step, step, metres, degrees))


def degree_lines(view: Viewport, crs: Crs) -> list[tuple[str, np.ndarray]]:
    """Meridians and parallels in view: what each is called, and its course on the ground (n, 2) in the CRS."""
    x0, y0, x1, y1 = view.box
    edge = np.array([(x, y) for x in np.linspace(x0, x1, 9) for y in np.linspace(y0, y1, 9)])
    try:
        lonlat = move(edge, crs["code"], WGS84)
    except CrsError:
        return []
    lonlat = lonlat[np.isfinite(lonlat).all(axis=1)]
    if not len(lonlat):
        return []
    (west, south), (east, north) = lonlat.min(axis=0), lonlat.max(axis=0)
    if east - west > 300:
        west, east = -180.0, 180.0
    south, north = max(south, -85.0), min(north, 85.0)
    lines = []
    for low, high, screen, other, across in (
        (west, east, view.width, (south, north), False),
        (south, north, view.height, (west, east), True),
    ):
        step = degree_step((high - low) * _EVERY / max(screen, 1))
        if not step or (high - low) / step > 80:
            continue
        along = np.linspace(*other, _SAMPLES)
        for n in range(math.ceil(low / step), math.floor(high / step) + 1):
            at = np.full(_SAMPLES, n * step)
            course = move(np.column_stack([along, at] if across else [at, along]), WGS84, crs["code"])
            lines.append((degree_text(n * step, step, "NS" if across else "EW"), course))
    return lines


def _graticule(painter: QPainter, view: Viewport, crs: Crs, palette: Palette) -> None:
    grid, faint = QPen(QColor(palette.grid), 1), QColor(palette.faint)
    metrics = QFontMetrics(painter.font())
    for text, course in degree_lines(view, crs):
        good = np.isfinite(course).all(axis=1)
        at = view.to_screen(course[good])
        if len(at) < 2:
            continue
        painter.setPen(grid)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPolyline(QPolygonF([QPointF(*p) for p in at.tolist()]))
        painter.setPen(faint)
        if text[-1] in "NS":
            where = _crossing(at, 1, 0.0)
            if where is not None and 14 < where < view.height - 24:
                write_at(painter, QPointF(3, where - 3), text)
        else:
            where = _crossing(at[:, ::-1], 1, float(view.height))
            if where is not None and where > 0 and where + metrics.horizontalAdvance(text) + 6 < view.width - 120:
                write_at(painter, QPointF(where + 3, view.height - 5), text)


def _crossing(at: np.ndarray, value: int, level: float) -> float | None:
    """Where a course crosses a level of its first coordinate: its other one there."""
    order = np.argsort(at[:, 0])
    first = at[order, 0]
    if not first[0] <= level <= first[-1]:
        return None
    return float(np.interp(level, first, at[order, value]))


_DEGREE_STEPS = (
    30,
    20,
    10,
    5,
    2,
    1,
    0.5,
    20 / 60,
    10 / 60,
    5 / 60,
    2 / 60,
    1 / 60,
    30 / 3600,
    20 / 3600,
    10 / 3600,
    5 / 3600,
    2 / 3600,
    1 / 3600,
)


def degree_step(size: float) -> float:
    """The round step of degrees, minutes or seconds, or of a part of a second, next below a size."""
    return next((s for s in _DEGREE_STEPS if s <= size * 1.4), nice(max(size, 1e-12) * 3600) / 3600)


def degree_text(value: float, step: float, ends: str) -> str:
    """Degrees, with minutes and seconds where the step has them: ``47°15'N``."""
    digits = max(0, -math.floor(math.log10(step * 3600) + 1e-9))
    seconds = round(abs(value) * 3600, digits)
    d, m, s = int(seconds // 3600), int(seconds // 60 % 60), seconds % 60
    text = f"{d}°"
    if step < 1:
        text += f"{m:02}'"
    if step < 1 / 60:
        text += f'{s:0{digits + 3 if digits else 2}.{digits}f}"'
    return text + (ends[0] if value >= 0 else ends[1])


def paint_scale_bar(painter: QPainter, view: Viewport, crs: Crs | None, palette: Palette) -> None:
    """A bar of a round length in the lower right corner."""
    if not crs:
        return
    metres, unit, degrees = unit_of(crs)
    if degrees:
        # a degree is no length: the bar is for the middle of the view, along the parallel
        metres = 111_320.0 * max(0.01, math.cos(math.radians(min(89.0, abs(view.y)))))
        unit = "m"
    pixels = view.scale / metres
    length = nice(90.0 / pixels)
    words = f"{length / 1000:g} km" if length >= 1000 and unit == "m" else f"{length:g} {unit}"
    width = length * pixels
    painter.setFont(font(11))
    text = QFontMetrics(painter.font()).horizontalAdvance(words)
    box = QRect(view.width - int(width) - text - 34, view.height - 27, int(width) + text + 28, 21)
    ground = QColor(palette.paper)
    ground.setAlpha(225)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
    painter.fillRect(box, ground)
    painter.setPen(QPen(QColor(palette.ink), 2))
    y = box.center().y()
    painter.drawLine(box.left() + 8, y, box.left() + 8 + int(width), y)
    painter.setPen(QColor(palette.ink))
    write_in(painter, QRectF(box.adjusted(int(width) + 16, 0, 0, 0)), words)


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
