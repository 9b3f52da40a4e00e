"""Retake the pictures in docs/screenshots from the demo; run it with ``make shots``."""

from __future__ import annotations

import os
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PySide6.QtCore import QSettings
from PySide6.QtTest import QTest

from eskret.demo.generate import make
from eskret.desktop.app import make_application
from eskret.desktop.theme.style import theme
from eskret.desktop.window import Window
from eskret.desktop.workbench import Workbench

OUT = Path(__file__).parent / "screenshots"


class Camera:
    """A window on a fresh demo, and the way to wait for it."""

    def __init__(self, home: Path) -> None:
        self.window = Window(QSettings(str(home / "window.ini"), QSettings.Format.IniFormat))
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
            return next((i for i in tree._items() if i.text() == name), None)

        self.until(find)
        tree.tree.setCurrentIndex(find().index())  # type: ignore[attr-defined]
        self.until(lambda: self.bench.viewer.subject.source and self.bench.viewer.canvas._image is not None)


def main() -> int:
    """Take them all."""
    OUT.mkdir(exist_ok=True)
    make_application()
    theme.use("light")
    with tempfile.TemporaryDirectory() as folder:
        home = make(Path(folder) / "orrel-sound")
        camera = Camera(Path(folder))
        bench = camera.bench
        session = bench.session
        camera.take("start")
        bench.files.open_path(home / "piles.toml")
        camera.until(lambda: session.forecast.steps and not bench.sources._busy and not bench.sources._waiting)
        camera.look_at("lease_beds")
        bench.viewer._clicked(40)
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
        camera.until(lambda: not bench.sources._busy and not bench.sources._waiting)
        session.select("chosen")
        bench.viewer.choose_view("aside")
        camera.take("set-aside")
        bench.ledger.setExpanded(bench.ledger.model().index_of("recordings"), True)  # type: ignore[attr-defined]
        session.select("archive")
        bench.viewer.choose_layer("boat_a_tracks")
        bench.viewer.choose_view("leaving")
        camera.take("layers-of-a-step")
        theme.use("dark")
        session.select("chosen")
        bench.viewer.choose_view("aside")
        camera.take("dark")
        theme.use("light")
        session._saved = session.document
        camera.window.close()
    return 0


if __name__ == "__main__":
    sys.exit(main())
