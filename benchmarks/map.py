"""How smooth the map is: time to the first picture of a layer, frames a second while it is dragged, and what styles cost.

Usage: python benchmarks/map.py FILE LAYER [FIELD]
"""

from __future__ import annotations

import os
import sys
import tempfile
import time
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PySide6.QtCore import QEventLoop, QTimer

from eskret.core.style.classes import breaks_of
from eskret.core.style.legend import legend_of, numbers_of
from eskret.core.style.style import CLASSES, Style
from eskret.desktop.app import make_application
from eskret.desktop.map_view.canvas import MapCanvas, symbols
from eskret.desktop.map_view.render import PaintItem
from eskret.desktop.map_view.scene import Scene
from eskret.desktop.map_view.style_items import items_of, labels_of
from eskret.desktop.theme.style import theme
from eskret.formats import sources
from eskret.workflow.cache.results import ResultStore
from eskret.workflow.cache.stored import StoredLayer


def until_drawn(canvas: MapCanvas) -> float:
    """Seconds until the canvas shows its scene as it should be."""
    begun = time.perf_counter()
    while not canvas.idle():
        loop = QEventLoop()
        QTimer.singleShot(2, loop.quit)
        loop.exec()
    return time.perf_counter() - begun


def main() -> None:
    """Measure and print a row a zoom."""
    app = make_application()
    layer = sources.read(Path(sys.argv[1]), sys.argv[2], "layer").layer
    with tempfile.TemporaryDirectory() as folder:
        begun = time.perf_counter()
        info = ResultStore(Path(folder)).put(layer)
        print(f"{len(layer):,} features stored for the window in {time.perf_counter() - begun:.1f} s")
        shapes = StoredLayer(info).shapes
        assert shapes is not None
        canvas = MapCanvas()
        canvas.resize(800, 600)
        canvas.show()
        app.processEvents()
        canvas.show_scene(Scene((PaintItem(shapes, symbols()["leaving"]),), None, info["crs"]))
        print("| zoom | picture after | frames a second while dragged |\n|---|---|---|")
        first = until_drawn(canvas)
        for factor in (1.0, 1.5, 2.0, 4.0, 16.0):
            if factor != 1.0:
                canvas.fit()
                until_drawn(canvas)
                canvas._look(canvas.view.zoomed(factor, 400, 300))
                first = until_drawn(canvas)
            begun, frames = time.perf_counter(), 0
            while time.perf_counter() - begun < 1.5:
                canvas._look(canvas.view.moved(3 if frames % 40 < 20 else -3, 1))
                canvas.repaint()
                app.processEvents()
                frames += 1
            print(f"| {factor:g}x | {first:.2f} s | {frames / (time.perf_counter() - begun):.0f} |")
            until_drawn(canvas)
        if len(sys.argv) > 3:
            styled(canvas, StoredLayer(info), sys.argv[3])
        canvas.close_down()


def styled(canvas: MapCanvas, layer: StoredLayer, field: str) -> None:
    """A row a style: finding its groups, and the picture at twice the whole."""
    shapes, usual = layer.shapes, symbols()["leaving"]
    assert shapes is not None
    canvas.fit()
    canvas._look(canvas.view.zoomed(2.0, 400, 300))
    numbers = numbers_of(layer.table.column(field))
    assert numbers is not None
    print("\n| drawn | breaks | groups | picture |\n|---|---|---|---|")
    for words, style in (
        ("in one colour", Style()),
        ("in 5 quantiles", Style(CLASSES, field=field)),
        ("in 7 natural breaks", Style(CLASSES, field=field, method="natural", count=7)),
        ("in 5 quantiles, labelled", Style(CLASSES, field=field, label=field)),
    ):
        begun = time.perf_counter()
        breaks = breaks_of(numbers, style.method, style.count) if style.by == CLASSES else ()
        found = time.perf_counter()
        legend = legend_of(style, layer.table, breaks)
        items = items_of(layer, shapes, style, legend, usual, theme.palette)
        grouped = time.perf_counter()
        labels = labels_of(layer, shapes, style, str)
        canvas.show_scene(Scene(items, None, layer.crs, labels=labels), keep_view=True)
        print(f"| {words} | {found - begun:.2f} s | {grouped - found:.2f} s | {until_drawn(canvas):.2f} s |")


if __name__ == "__main__":
    main()
