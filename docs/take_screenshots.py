"""Retake the pictures in docs/screenshots from the demo; run it with ``make shots``."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import numpy as np
import pyarrow as pa
import shapely
from PySide6.QtCore import QPoint, QSettings, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QWidget

from eskret import write
from eskret.core.layer import Layer
from eskret.demo.generate import make
from eskret.desktop.app import make_application
from eskret.desktop.frame.workbench import Workbench
from eskret.desktop.theme.style import theme
from eskret.desktop.window import Window
from eskret.practice_server import PracticeServer
from eskret.services import practice
from eskret.workflow.faces.catalogue import find

OUT = Path(__file__).parent / "screenshots"


class Camera:
    """A window on a fresh demo, and the way to wait for it."""

    def __init__(self, home: Path) -> None:
        memory = QSettings(str(home / "window.ini"), QSettings.Format.IniFormat)
        memory.setValue("ask_before_a_run", "no")  # but for its own picture
        self.window = Window(memory)
        self.window.resize(1280, 800)
        self.window.show()
        self.bench: Workbench = self.window.furnish()
        self.window.resize(1280, 800)

    def until(self, condition: Callable[[], object], seconds: float = 60) -> None:
        for _ in range(int(seconds / 0.02)):
            if condition():
                QTest.qWait(350)
                return
            QTest.qWait(20)
        raise TimeoutError

    def take(self, name: str) -> None:
        canvas = self.bench.viewer.canvas
        self.until(lambda: canvas.idle())
        self.window.grab().save(str(OUT / f"{name}.png"))

    def look_at(self, name: str) -> None:
        """Choose a layer in the sources by its name."""
        tree = self.bench.sources

        def find() -> object:
            return next((r for r in tree.model.rows() if r.text == name), None)

        self.until(find)
        tree.tree.setCurrentIndex(tree.model.index_of(find()))  # type: ignore[arg-type]
        self.until(lambda: self.bench.viewer.subject.source and self.bench.viewer.canvas._image is not None)


def gathering(camera: Camera, home: Path) -> None:
    """The second lesson: by place, by hand; a sketch, a text, fields, sections, a tally."""
    bench = camera.bench
    session, viewer = bench.session, bench.viewer
    session._saved = session.document
    bench.files.open_path(home / "gather.toml")
    camera.until(lambda: session.forecast.steps and bench.sources.settled)
    bench.run()
    camera.until(lambda: not session.running and session.last_run)
    camera.until(lambda: bench.sources.settled)
    session.select("stations")
    camera.until(lambda: bench.form._preview is not None and bench.form._preview.isVisible())
    camera.take("text")
    session.select("register")
    viewer.choose_layer("lease_beds")
    bench.banner.hide()
    camera.until(viewer.canvas.idle)
    viewer.canvas.use("lasso")
    ring = [(110, 60), (190, 40), (260, 90), (240, 180), (150, 190), (100, 130)]
    drag(viewer.canvas, ring)
    camera.until(lambda: len(viewer.chosen) > 1)
    camera.take("by-hand")
    viewer.canvas.use("look")
    viewer.choose_none()
    bench._insert(next(e for e in find("keep by place", True, session.folder).things if e.use == "keep_by_place"))
    camera.until(lambda: viewer.canvas.idle())
    viewer.choose_layer("lease_beds")
    viewer.canvas.use("area")
    for x, y in ring[:-1]:
        QTest.mouseClick(viewer.canvas, Qt.MouseButton.LeftButton, pos=QPoint(x, y))
        QTest.qWait(450)
    QTest.mouseMove(viewer.canvas, QPoint(*ring[-1]))
    camera.take("sketch")
    QTest.keyClick(viewer.canvas, Qt.Key.Key_Return)
    session.undo()
    session.undo()
    session.select("beds")


def run_lesson(camera: Camera, path: Path) -> None:
    """Open a lesson and run it."""
    bench = camera.bench
    session = bench.session
    session._saved = session.document
    bench.files.open_path(path)
    camera.until(lambda: session.forecast.steps and bench.sources.settled)
    bench.run()
    camera.until(lambda: not session.running and session.last_run)


def shaping(camera: Camera, home: Path) -> None:
    """What was cut, a gap that cannot be seen, a table's leftovers, a word list."""
    bench = camera.bench
    session, viewer = bench.session, bench.viewer
    run_lesson(camera, home / "harbour.toml")
    session.select("inside")
    run_lesson(camera, home / "returns.toml")
    session.select("yield")
    viewer.choose_view("leaving")
    bench.banner.hide()
    bench.show_map_pane(True)
    viewer.map_full.click()
    camera.until(lambda: len(viewer.canvas.scene.items) > 3)
    viewer.canvas.fit()
    bench.map_pane.area.verticalScrollBar().setValue(150)
    camera.take("classed-map")
    viewer.map_full.click()
    bench.show_map_pane(False)
    bench.show_words(True)
    bench.views.words.take_in()
    bench.views.words.table.selectRow(6)
    QTest.qWait(300)
    camera.window.grab().save(str(OUT / "words.png"))
    bench.views.words.undo()
    bench.show_words(False)


REACH = """
eskret = 1
title = "Reach of the relays"

[[steps]]
id = "relays"
use = "load"
files = ["relays.gpkg"]

[[steps]]
id = "reach"
use = "buffer"
from = "relays"
distance = "90 nmi"

[[steps]]
id = "polar"
use = "reproject"
from = "reach"
crs = "EPSG:3995"
tolerance = "10 m"
"""
RELAYS = {
    "Tern": (179.2, 70.5),
    "Skua": (-172.6, 72.8),
    "Fulmar": (166.8, 71.9),
    "Auk": (-177.5, 75.1),
    "Gannet": (-179.99, 80.2),
    "North": (30, 88.6),
}


def globe(camera: Camera, home: Path) -> None:
    """Relays on both sides of 180 degrees and by the pole, and how far they reach."""
    table = pa.table({"relay": list(RELAYS), "watts": [5, 8, 5, 12, 8, 20]})
    write(Layer("relays", table, shapely.points(list(RELAYS.values())), "EPSG:4326"), home / "relays.gpkg", "relays")
    (home / "reach.toml").write_text(REACH)
    run_lesson(camera, home / "reach.toml")
    camera.bench.session.select("polar")
    camera.bench.banner.hide()
    camera.until(lambda: len(camera.bench.viewer.canvas.scene.items) > 0)
    QTest.qWait(600)
    camera.take("globe")


def publishing(camera: Camera, home: Path) -> None:
    """Two quarters on a practice server; the second one's difference."""
    bench = camera.bench
    publisher, view = bench.publisher, bench.views.publish
    with PracticeServer(home / "practice", token="open-sesame") as server:
        practice.note(server.address, "open-sesame")
        path = home / "publish.toml"
        path.write_text(path.read_text().replace("http://127.0.0.1:8731", server.address))
        run_lesson(camera, path)
        camera.until(publisher.waiting)
        bench.show_publish(True)
        camera.until(lambda: view.changes.layer is not None and view.send.isVisible())
        view.send.click()
        camera.until(lambda: publisher.sending is None and publisher.pushes[0]["state"] == "pushed")
        bench.show_publish(False)
        bench.session.set_value("quarter", "2031-Q4")
        camera.until(lambda: bench.session._rehearse_job is None and not bench.session._quiet.isActive())
        bench.run()
        camera.until(lambda: not bench.session.running and publisher.waiting())
        bench.show_publish(True)
        camera.until(lambda: view.changes.layer is not None and view.changes.layer.rows == 58)
        camera.until(view.changes.canvas.idle)
        camera.window.grab().save(str(OUT / "publish.png"))
        bench.show_publish(False)
        practice.forget(server.address)


def repeating(camera: Camera, home: Path) -> None:
    """A workflow in rounds, its layers one by one, two runs side by side, and as Python."""
    bench = camera.bench
    session = bench.session
    session._saved = session.document
    bench.files.open_path(home / "district.toml")
    camera.until(lambda: session.forecast.steps and bench.sources.settled)
    bench.show_rounds(True)
    view = bench.views.rounds
    camera.until(lambda: view.fill_box.count() > 2)
    view.fill_box.activated.emit(1)
    view.run()
    camera.until(lambda: not session.running and view.says.text())
    view.grid.setCurrentIndex(view.model.index(1, 0))
    QTest.qWait(500)
    camera.window.grab().save(str(OUT / "rounds.png"))
    bench.show_rounds(False)
    run_lesson(camera, home / "harbour.toml")
    session.select("deliver")
    bench.show_layers(True)
    bench.views.layers.template.setFocus()
    bench.views.layers.template.selectAll()
    QTest.keyClicks(bench.views.layers.template, "beds {step}")
    QTest.qWait(400)
    camera.window.grab().save(str(OUT / "layer-by-layer.png"))
    bench.views.layers._typed = None
    bench.show_layers(False)
    session.set_value("limit", "2029")
    camera.until(lambda: session._rehearse_job is None and not session._quiet.isActive())
    bench.run()
    camera.until(lambda: not session.running and session.last_run)
    bench.show_runs(True)
    camera.until(lambda: len(bench.views.runs.found) > 1)
    bench.views.runs.list.choose([0, 1])
    changes = bench.views.runs.compared.changes
    camera.until(lambda: changes.layer is not None and changes.canvas.idle())
    QTest.qWait(600)
    camera.window.grab().save(str(OUT / "runs.png"))
    bench.show_runs(False)
    session.select("inside")
    bench.banner.hide()
    bench.show_script(True)
    camera.take("python")
    bench.show_script(False)


def report(home: Path) -> None:
    """The report of a run as a browser shows it; left as it is where no browser is at hand."""
    browser = next((b for b in map(shutil.which, ("chromium", "chromium-browser")) if b), None)
    if browser is None:
        print("no browser is at hand: the picture of the report stays as it is")
        return
    page = home / "report.html"
    subprocess.run([sys.executable, "-m", "eskret", "run", str(home / "returns.toml"), "--report", str(page), "--quiet"], check=True)
    shown = [f"--screenshot={OUT / 'report.png'}", "--window-size=1180,2150", "--hide-scrollbars", "--headless", "--no-sandbox"]
    subprocess.run([browser, *shown, "--disable-gpu", page.as_uri()], check=True, capture_output=True)


def drag(widget: QWidget, corners: list[tuple[int, int]]) -> None:
    """Drag the pointer along corners with the left button held."""
    QTest.mousePress(widget, Qt.MouseButton.LeftButton, pos=QPoint(*corners[0]))
    for corner in corners[1:]:
        QTest.mouseMove(widget, QPoint(*corner))
    QTest.mouseRelease(widget, Qt.MouseButton.LeftButton, pos=QPoint(*corners[-1]))


def main() -> int:
    """Take them all."""
    OUT.mkdir(exist_ok=True)
    make_application()
    theme.use("light")
    with tempfile.TemporaryDirectory() as folder:
        os.environ["XDG_DATA_HOME"] = str(Path(folder) / "data")  # pushes and runs of whoever takes the pictures stay out of them
        os.environ["XDG_CACHE_HOME"] = str(Path(folder) / "cache")
        home = make(Path(folder) / "orrel-sound")
        camera = Camera(Path(folder))
        bench = camera.bench
        session = bench.session
        camera.take("start")
        bench.files.open_path(home / "piles.toml")
        camera.until(lambda: session.forecast.steps and bench.sources.settled)
        camera.look_at("lease_beds")
        bench.viewer.choose_rows(np.array([40]))
        camera.take("look-at-a-source")
        session.select("chosen")
        bench.viewer.show_step()
        bench.add_step()
        QTest.keyClicks(bench.finder.line, "export")
        camera.take("add-a-step")
        bench.finder.hide()
        session.rehearse()
        camera.until(lambda: bench.banner.isVisible())
        session.select("archive")
        camera.take("rehearsed")
        session.select("chosen")
        right = session.step()
        assert right is not None
        session.change_step(right.with_setting("where", "dsc LIKE $kind || '%'"), "try")
        camera.until(lambda: session.findings("chosen"))
        bench.form.focus_field("where")
        bench.banner.hide()
        camera.take("a-mistake")
        session.undo()
        bench.run()
        camera.until(lambda: not session.running)
        camera.until(lambda: bench.sources.settled)
        session.select("chosen")
        bench.viewer.choose_view("aside")
        camera.take("set-aside")
        shaping(camera, home)
        gathering(camera, home)
        report(home)
        globe(camera, home)
        publishing(camera, home)
        repeating(camera, home)
        theme.use("dark")
        run_lesson(camera, home / "tracks.toml")
        session.select("legs")
        bench.banner.hide()
        canvas = bench.viewer.canvas
        camera.until(lambda: len(canvas.scene.items) > 3)
        canvas.use("distance")
        for at in ((60, 120), (160, 170), (250, 110)):
            QTest.mouseClick(canvas, Qt.MouseButton.LeftButton, pos=QPoint(*at))
            QTest.qWait(450)
        canvas.finish_sketch()
        camera.take("dark")
        theme.use("light")
        session._saved = session.document
        camera.window.close()
    return 0


if __name__ == "__main__":
    sys.exit(main())
