"""Retake the small pictures of the lessons that the start view shows, from the demo; run it with ``make shots``."""

from __future__ import annotations

import os
import sys
import tempfile
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PySide6.QtCore import QRect, Qt
from PySide6.QtTest import QTest
from take_screenshots import Camera, run_lesson

from eskret.demo.generate import make
from eskret.desktop.app import make_application
from eskret.desktop.theme.style import theme
from eskret.desktop.views.offered import LESSONS, PICTURES

SHOWS = {
    "piles.toml": "chosen",
    "gather.toml": "register",
    "harbour.toml": "inside",
    "breakwater.toml": "cells",
    "tracks.toml": "legs",
    "returns.toml": "yield",
    "publish.toml": "register",
    "district.toml": "figures",
    "districts.toml": "whole",
    "closure.toml": "affected",
}
"""The step of each lesson that is drawn; the first that leaves something to draw where none is named."""
WIDE, HIGH = 360, 164  # at 200 %


def main() -> int:
    """Take them all."""
    PICTURES.mkdir(exist_ok=True)
    make_application()
    theme.use("light")
    with tempfile.TemporaryDirectory() as folder:
        os.environ["XDG_DATA_HOME"] = str(Path(folder) / "data")
        os.environ["XDG_CACHE_HOME"] = str(Path(folder) / "cache")
        home = make(Path(folder) / "orrel-sound")
        camera = Camera(Path(folder))
        bench, canvas = camera.bench, camera.bench.viewer.canvas
        for lesson in LESSONS:
            run_lesson(camera, home / lesson.file)
            steps = [SHOWS[lesson.file]] if SHOWS[lesson.file] else [s.id for s in bench.session.document.steps]
            for step in steps:
                bench.session.select(step)
                bench.viewer.choose_view("leaving")
                QTest.qWait(200)
                if canvas.scene.items:
                    break
            if not bench.viewer.map_full.isChecked():
                bench.viewer.map_full.click()
            canvas.show_legend(False)
            QTest.qWait(200)
            canvas.fit()
            camera.until(canvas.idle)
            grabbed = canvas.grab()
            width = min(grabbed.width(), round(grabbed.height() * WIDE / HIGH))
            middle = QRect((grabbed.width() - width) // 2, 0, width, grabbed.height())
            smooth = Qt.TransformationMode.SmoothTransformation
            small = grabbed.copy(middle).scaled(WIDE, HIGH, Qt.AspectRatioMode.KeepAspectRatioByExpanding, smooth)
            small.save(str(PICTURES / f"{Path(lesson.file).stem}.png"))
        bench.session._saved = bench.session.document
        camera.window.close()
    return 0


if __name__ == "__main__":
    sys.exit(main())
