"""How long the window's thread is at work at a stretch while one works with large layers and many files.

Usage: python benchmarks/window.py [--rows 202500] [--points 1000000] [--files 5000] [--layers 300] [--stacks] [ACT …]

Prints, act by act, the longest stretch in milliseconds of processor time of that thread, and how many were above 50; the time until
all was shown stands beside it. ``--stacks`` prints where the thread was in the longest.
"""

from __future__ import annotations

import argparse
import collections
import os
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
sys.path.insert(0, str(Path(__file__).parent))

import data
import numpy as np
import shapely
from PySide6.QtCore import QEventLoop, QPoint, QSettings, Qt, QTimer
from PySide6.QtTest import QTest
from stretches import watched

from eskret.core.style.style import CLASSES, Style
from eskret.desktop.app import make_application
from eskret.desktop.theme.style import theme
from eskret.desktop.window import Window
from eskret.workflow.model.document import Document, Step
from eskret.workflow.model.styles import with_style


class Acts:
    """A window in a folder of its own, and what is done in it."""

    def __init__(self, home: Path, options: argparse.Namespace) -> None:
        self.home, self.options = home, options
        memory = QSettings(str(home / "window.ini"), QSettings.Format.IniFormat)
        memory.setValue("ask_before_a_run", "no")
        self.window = Window(memory)
        self.window.resize(1280, 800)
        self.window.show()
        self.bench = self.window.furnish()
        self.session, self.viewer = self.bench.session, self.bench.viewer

    def until(self, condition: Callable[[], object], seconds: float = 120) -> None:
        ends = time.perf_counter() + seconds
        while not condition():
            if time.perf_counter() > ends:
                raise TimeoutError
            loop = QEventLoop()
            QTimer.singleShot(10, loop.quit)
            loop.exec()

    def rest(self, seconds: float = 0.7) -> None:
        ends = time.perf_counter() + seconds
        self.until(lambda: time.perf_counter() > ends)

    def drawn(self) -> None:
        self.rest(0.2)
        self.until(self.viewer.canvas.idle)
        self.rest(0.3)

    def sources_seen(self) -> bool:
        return self.bench.sources.settled

    def open(self, steps: list[Step]) -> None:
        document = Document(title="Large", steps=tuple(steps))
        self.session._saved = self.session.document
        self.session.take_built(document, self.home / "empty")
        self.bench.files.opened.emit()

    # -- the acts

    def folder(self) -> None:
        self.session.new(self.home / "many")
        self.bench.files.opened.emit()
        self.rest(1.5)
        self.until(self.sources_seen, 600)

    def a_file_arrives(self) -> None:
        (self.home / "many" / "arrived.geojson").write_bytes((self.home / "many" / "f0000.geojson").read_bytes())
        self.rest(2.0)
        self.until(self.sources_seen, 60)

    def points_shown(self) -> None:
        self.open([Step("marks", "load", (), {"files": [str(self.home / "marks.gpkg")]})])
        self.until(lambda: self.session.results.get("marks"))
        self.drawn()

    def areas_shown(self) -> None:
        self.open(
            [
                Step("beds", "load", (), {"files": [str(self.home / "beds.gpkg")]}),
                Step("some", "keep", ("beds",), {"where": "tonnes > 100"}),
            ]
        )
        self.until(lambda: self.session.results.get("some"))
        self.drawn()
        self.session.select("some")
        self.viewer.choose_view("leaving")
        self.drawn()

    def choose_all(self) -> None:
        table = self.viewer.table
        table.setFocus()
        QTest.keyClick(table, Qt.Key.Key_A, Qt.KeyboardModifier.ControlModifier)
        self.drawn()

    def choose_all_on_map(self) -> None:
        self.viewer.choose_none()
        QTest.keyClick(self.viewer.canvas, Qt.Key.Key_A, Qt.KeyboardModifier.ControlModifier)
        self.drawn()

    def every_second(self) -> None:
        self.viewer.choose_rows(self.viewer.shown_rows()[::2])
        self.drawn()

    def the_others(self) -> None:
        self.viewer.invert()
        self.drawn()

    def sort(self) -> None:
        self.viewer.choose_none()
        table = self.viewer.table
        head = table.horizontalHeader()
        QTest.mouseClick(head.viewport(), Qt.MouseButton.LeftButton, pos=QPoint(head.sectionViewportPosition(3) + 20, 8))
        self.rest(2.0)

    def one_row(self) -> None:
        table = self.viewer.table
        QTest.mouseClick(table.viewport(), Qt.MouseButton.LeftButton, pos=QPoint(40, 60))
        self.drawn()

    def type_a_condition(self) -> None:
        self.bench.form.focus_field("where")
        target = self.bench.form.blocks["where"].editor.target()
        QTest.keySequence(target, "Ctrl+A")
        for letter in "tonnes > 500 AND licence LIKE 'L0%'":
            QTest.keyClicks(target, letter)
            self.rest(0.06)
        self.bench.ledger.setFocus()
        self.rest(1.0)
        self.until(lambda: not self.session.current.working and self.session.results.get("some"))
        self.drawn()

    def by_classes(self) -> None:
        step = self.session.document.step("some")
        key = next(iter(self.viewer.subject.layers["leaving"]))
        changed = with_style(step, key, Style(by=CLASSES, field="tonnes"))
        self.session.change_step(changed, "classes")
        self.drawn()

    def other_theme(self) -> None:
        theme.use("dark")
        self.drawn()
        theme.use("light")
        self.drawn()

    def back_and_forth(self) -> None:
        for view in ("entering", "leaving", "aside"):
            self.viewer.choose_view(view)
            self.drawn()

    def fields(self) -> None:
        self.viewer.choose_view("leaving")
        self.viewer.toggle_fields(True)
        self.rest(3.0)
        self.viewer.toggle_fields(False)

    def run_layers(self) -> None:
        self.open(
            [
                Step("all", "load", (), {"files": [str(self.home / "layers.gpkg")]}),
                Step("some", "keep", ("all",), {"where": "id > 100"}),
                Step("out", "save", ("some",), {"to": "out.gpkg", "if_exists": "replace"}),
            ]
        )
        self.until(lambda: self.session.results.get("some"))
        self.bench.run()
        self.until(lambda: not self.session.running)
        self.drawn()

    def open_the_step(self) -> None:
        self.bench.ledger.expandAll()
        self.drawn()
        self.bench.ledger.collapseAll()

    def runs(self) -> None:
        self.bench.show_runs(True)
        self.rest(1.5)
        self.bench.show_runs(False)


def make_data(home: Path, options: argparse.Namespace) -> None:
    rng = np.random.default_rng(1)
    (home / "empty").mkdir(parents=True)
    shapes, group, _area = data.coverage(options.rows, data.SIDE)
    each = np.arange(len(shapes))
    table = {"id": each, "licence": [f"L{g:03d}" for g in group], "tonnes": rng.integers(1, 1000, len(each))}
    data.write(home / "beds.gpkg", shapes, table, "beds")
    marks = shapely.points(rng.uniform(0, data.SIDE, (options.points, 2)))
    data.write(
        home / "marks.gpkg", marks, {"id": np.arange(options.points), "kind": data.KINDS[rng.integers(0, 4, options.points)]}, "marks"
    )
    data.make_layers(home / "layers.gpkg", options.layers)
    many = home / "many"
    many.mkdir()
    one = '{"type":"Feature","properties":{"n":%d},"geometry":{"type":"Point","coordinates":[%f,40]}}'
    for n in range(options.files):
        home_of = many if n < 1000 else many / f"part{n % 20:02d}"
        home_of.mkdir(exist_ok=True)
        (home_of / f"f{n:04d}.geojson").write_text(one % (n, n / 1000))


ORDER = [
    "folder",
    "a_file_arrives",
    "points_shown",
    "areas_shown",
    "choose_all",
    "choose_all_on_map",
    "every_second",
    "the_others",
    "sort",
    "one_row",
    "type_a_condition",
    "by_classes",
    "back_and_forth",
    "fields",
    "other_theme",
    "run_layers",
    "open_the_step",
    "runs",
]


def main() -> None:
    """Measure and print a row an act."""
    parser = argparse.ArgumentParser(description=__doc__)
    for name, default in (("rows", 202_500), ("points", 1_000_000), ("files", 5_000), ("layers", 300)):
        parser.add_argument(f"--{name}", type=int, default=default)
    parser.add_argument("--stacks", action="store_true")
    parser.add_argument("acts", nargs="*", default=ORDER)
    options = parser.parse_args()
    make_application()
    with tempfile.TemporaryDirectory() as folder:
        home = Path(folder)
        make_data(home, options)
        acts = Acts(home, options)
        acts.rest(2.0)
        print("| act | longest stretch, ms | above 50 ms | longest wait, ms | until shown, s |\n|---|---|---|---|---|", flush=True)
        for name in options.acts:
            begun = time.perf_counter()
            with watched() as seen:
                getattr(acts, name)()
            took = time.perf_counter() - begun
            print(
                f"| {name.replace('_', ' ')} | {seen.longest * 1000:.0f} | {len(seen.long)} | {seen.wait * 1000:.0f} | {took:.1f} |",
                flush=True,
            )
            if options.stacks and seen.longest > 0.05:
                for place, times in collections.Counter(seen.seen).most_common(4):
                    print(f"    {times:4d}  {place}", flush=True)
        acts.session._saved = acts.session.document
        acts.window.close()


if __name__ == "__main__":
    main()
