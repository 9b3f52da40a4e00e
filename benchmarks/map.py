"""How smooth the map is: time to the first picture of a layer, and frames a second while it is dragged.

Usage: python benchmarks/map.py FILE LAYER
"""

from __future__ import annotations

import os
import sys
import tempfile
import time
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PySide6.QtCore import QEventLoop, QTimer

from eskret.desktop.app import make_application
from eskret.desktop.map.canvas import MapCanvas, looks
from eskret.desktop.map.render import Item
from eskret.desktop.map.scene import Scene
from eskret.formats import sources
from eskret.workflow.results import ResultStore
from eskret.workflow.stored import StoredLayer


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
        canvas.show_scene(Scene((Item(shapes, looks()["leaving"]),), None, info["crs"]))
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
        canvas.close_down()


if __name__ == "__main__":
    main()
