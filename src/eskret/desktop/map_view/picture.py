"""The whole map as a picture: on screen as an image, or saved as PNG, SVG or PDF."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from PySide6.QtCore import QMarginsF, QPointF, QRect, QRectF, QSizeF
from PySide6.QtGui import QColor, QFont, QFontMetricsF, QImage, QPageSize, QPainter, QPdfWriter, QPen
from PySide6.QtSvg import QSvgGenerator

from eskret.desktop.map_view import labels as labelling
from eskret.desktop.map_view.graticule import paint_lines, paint_scale_bar
from eskret.desktop.map_view.legend import legend_size, paint_legend
from eskret.desktop.map_view.lettering import write_in
from eskret.desktop.map_view.render import PaintItem, paint, render, visible_rows
from eskret.desktop.map_view.scene import Scene
from eskret.desktop.map_view.viewport import Viewport
from eskret.desktop.theme.palette import Palette
from eskret.desktop.theme.style import font
from eskret.errors import DeliveryError
from eskret.workflow.model.map_spec import NONE

LABEL = 12
LEGEND_ROOM = 0.6
"""The share of the map's height that the legend may take."""


@dataclass(frozen=True)
class Picture:
    """What is seen of a scene: the features with their labels, and how many of those asked for had room."""

    image: QImage
    placed: int = 0
    asked: int = 0


def picture(scene: Scene, marked: tuple[PaintItem, ...], view: Viewport, ratio: float, palette: Palette, legend: bool = True) -> Picture:
    """Features and labels on nothing.

    Parameters
    ----------
    marked : features to paint over all others.
    legend : whether the legend will lie upon it, so that no label stands where it does.
    """
    image = render([*scene.drawn, *marked], view, ratio)
    if not scene.labels:
        return Picture(image)
    painter = QPainter(image)
    placed = _labels(painter, scene, view, palette, legend)
    painter.end()
    return Picture(image, placed, sum(len(visible_rows(x.item, view)) for x in scene.labels))


def legend_corner(view: Viewport) -> QPointF:
    """Where the lower left corner of the legend is: over the figures at the edge."""
    return QPointF(8, view.height - 24)


def _labels(painter: QPainter, scene: Scene, view: Viewport, palette: Palette, legend: bool) -> int:
    face = font(LABEL, QFont.Weight.Medium)
    metrics, taken, count = QFontMetricsF(face), labelling.cells(view), 0
    if legend:
        width, height = legend_size(scene.legend, view.height * LEGEND_ROOM)
        corner = legend_corner(view)
        labelling.reserve(taken, QRectF(corner.x(), corner.y() - height, width, height))
    for labels in scene.labels:
        placed = labelling.place(labels, view, metrics, taken)
        labelling.write(painter, placed, face, QColor(palette.ink), QColor(palette.paper))
        count += len(placed)
    return count


@dataclass(frozen=True)
class PictureOptions:
    """How a map is saved: ``title`` over it or none, what lies on it, ``dots`` an inch of a PNG."""

    title: str = ""
    legend: bool = True
    scale_bar: bool = True
    lines: bool = True
    dots: int = 192


ENDINGS = (".png", ".svg", ".pdf")


def save(scene: Scene, view: Viewport, path: Path, wanted: PictureOptions, palette: Palette) -> None:
    """Write the map as it is in view; the file's ending says as what.

    Raises
    ------
    DeliveryError : no such format, or it cannot be written.
    """
    ending = path.suffix.lower()
    if ending not in ENDINGS:
        raise DeliveryError(f"a map cannot be saved as '{ending or path.name}'", place=str(path), way_out=f"Use {', '.join(ENDINGS)}")
    try:
        if ending == ".png":
            done = _png(scene, view, path, wanted, palette)
        else:
            done = _strokes(_svg(view, path, wanted) if ending == ".svg" else _pdf(view, path, wanted), scene, view, wanted, palette)
    except OSError as error:
        raise DeliveryError(f"it cannot be written ({error.strerror})", place=str(path)) from error
    if not done or not path.is_file() or not path.stat().st_size:
        raise DeliveryError("it cannot be written", place=str(path), way_out="Choose another folder")


def _png(scene: Scene, view: Viewport, path: Path, wanted: PictureOptions, palette: Palette) -> bool:
    ratio = wanted.dots / 96
    image = QImage(round(view.width * ratio), round(view.height * ratio), QImage.Format.Format_RGB32)
    image.setDevicePixelRatio(ratio)
    image.setDotsPerMeterX(round(wanted.dots / 0.0254))
    image.setDotsPerMeterY(round(wanted.dots / 0.0254))
    painter = QPainter(image)
    _ground(painter, scene, view, wanted, palette)
    painter.drawImage(QRectF(0, 0, view.width, view.height), render(scene.drawn, view, ratio))
    _upon(painter, scene, view, wanted, palette)
    painter.end()
    return image.save(str(path), "PNG")  # type: ignore[call-overload]


def _svg(view: Viewport, path: Path, wanted: PictureOptions) -> QSvgGenerator:
    device = QSvgGenerator()
    device.setFileName(str(path))
    device.setResolution(96)
    device.setSize(QRect(0, 0, view.width, view.height).size())
    device.setViewBox(QRect(0, 0, view.width, view.height))
    device.setTitle(wanted.title or path.stem)
    return device


def _pdf(view: Viewport, path: Path, wanted: PictureOptions) -> QPdfWriter:
    device = QPdfWriter(str(path))
    device.setResolution(96)
    size = QSizeF(view.width * 0.75, view.height * 0.75)
    device.setPageSize(QPageSize(size, QPageSize.Unit.Point, "map", QPageSize.SizeMatchPolicy.ExactMatch))
    device.setPageMargins(QMarginsF(0, 0, 0, 0))
    device.setTitle(wanted.title or path.stem)
    device.setCreator("Eskret")
    return device


def _strokes(device: QSvgGenerator | QPdfWriter, scene: Scene, view: Viewport, wanted: PictureOptions, palette: Palette) -> bool:
    painter = QPainter()
    if not painter.begin(device):
        return False
    painter.setClipRect(0, 0, view.width, view.height)
    _ground(painter, scene, view, wanted, palette)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    paint(painter, scene.drawn, view)
    _upon(painter, scene, view, wanted, palette)
    return painter.end()


def _ground(painter: QPainter, scene: Scene, view: Viewport, wanted: PictureOptions, palette: Palette) -> None:
    painter.fillRect(QRectF(0, 0, view.width, view.height), QColor(palette.sea))
    paint_lines(painter, view, scene.crs, scene.lines if wanted.lines else NONE, palette)


def _upon(painter: QPainter, scene: Scene, view: Viewport, wanted: PictureOptions, palette: Palette) -> None:
    _labels(painter, scene, view, palette, wanted.legend)
    if wanted.legend:
        paint_legend(painter, scene.legend, legend_corner(view), view.height * LEGEND_ROOM, palette)
    if wanted.scale_bar:
        paint_scale_bar(painter, view, scene.crs, palette)
    if wanted.title:
        painter.setFont(font(17, QFont.Weight.DemiBold))
        width = painter.fontMetrics().horizontalAdvance(wanted.title) + 24
        box = QRectF(0, 0, min(width, view.width), 34)
        painter.fillRect(box, QColor(palette.paper))
        painter.setPen(QPen(QColor(palette.ink)))
        write_in(painter, box.adjusted(12, 0, -4, 0), wanted.title)
