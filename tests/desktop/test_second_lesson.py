"""The demo's second lesson done again from nothing in the window: gather, two sections, choose in three ways, a percentage."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QFileDialog

from eskret import read
from eskret.formats import geopackage
from eskret.workflow.model import document
from tests.desktop.conftest import Hand


def load(hand: Hand, *files: tuple[str, ...]) -> str:
    """Choose files in the sources and press Enter; the step that loads them."""
    tree = hand.bench.sources.tree
    for number, path in enumerate(files):
        index = hand.source(*path)
        tree.scrollTo(index)
        modifier = Qt.KeyboardModifier.ControlModifier if number else Qt.KeyboardModifier.NoModifier
        QTest.mouseClick(tree.viewport(), Qt.MouseButton.LeftButton, modifier, tree.visualRect(index).center())
    hand.keys("Return", tree)
    hand.settled()
    return hand.bench.session.selected


def add(hand: Hand, words: str, **texts: str) -> str:
    """Add a step by everyday words and fill in its form."""
    hand.keys("Insert", hand.bench.ledger)
    hand.type(words, hand.bench.finder.line)
    hand.keys("Return", hand.bench.finder.line)
    hand.settled()
    for name, text in texts.items():
        hand.fill(name, text)
    return hand.bench.session.selected


def tick(hand: Hand, *words: str, field: str = "from") -> None:
    """Tick entries of a list by how they begin."""
    editor = hand.bench.form.blocks[field].editor
    for word in words:
        hand.settled()
        hand.click(editor.button)
        action = next(a for a in editor.menu.actions() if a.text().strip().startswith(word) and a.isCheckable())
        hand.click(editor.menu, editor.menu.actionGeometry(action).center())
        editor.menu.close()


def choose(hand: Hand, field: str, value: str) -> None:
    box = hand.bench.form.blocks[field].editor.box
    box.setCurrentIndex(box.findData(value))
    box.activated.emit(box.currentIndex())


def test_the_second_lesson_from_nothing(make_hand: Callable[..., Hand], demo: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    for workflow in demo.glob("*.toml"):
        workflow.unlink()
    hand = make_hand(demo)
    bench, session = hand.bench, hand.bench.session
    bench.boxes.edit_heads()
    box = next(w for w in QApplication.topLevelWidgets() if type(w).__name__ == "HeadsBox" and w.isVisible())
    hand.type("EPSG:32626", box.lines["crs"])
    hand.click(box.ok)

    # what a workflow wrote is remembered beside its file: it needs one before it runs for the second time
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(demo / "mine.toml"), ""))
    hand.keys("Ctrl+S", bench)
    assert (demo / "mine.toml").exists()

    # nine files of six formats in two coordinate systems, by five steps
    field = load(hand, *(("field / 2031-09", f) for f in ("boat-a.gpx", "boat-b.gpx", "marks.gpx")))
    register = load(hand, ("register", "register.gpkg"), ("register", "breakwater.shp"))
    chart = load(hand, ("chart", "islands.geojson"), ("chart", "soundings.fgb"))
    shore = load(hand, ("text", "shoreline.txt"))
    hand.fill("crs", "EPSG:32626")
    choose(hand, "shape", "areas")
    hand.fill("group", "island")
    stations = load(hand, ("text", "stations.txt"))
    hand.fill("names", "station, latitude, longitude, depth_m")
    hand.fill("crs", "EPSG:4326")
    hand.settled()
    assert hand.row(field)["out"] == "1,634" and hand.row(shore)["out"] == "5" and hand.row(stations)["out"] == "34"

    # into two sections, one in each coordinate system
    survey = add(hand, "export", to="out/sound.gpkg", section="Field work", crs="EPSG:4326")
    tick(hand, f"{field}: all")
    chart_section = add(hand, "export", to="out/sound.gpkg", section="Sea chart", measures="area_ha")
    tick(hand, f"{survey}: all", f"{register}: all", f"{chart}: all", f"{shore}: all")
    assert session.step().source == (register, chart, shore)

    # by attribute: the value is clicked, once a run has read the values
    hand.run()
    assert hand.row(chart_section)["state"] == "balanced"
    hand.click_step(register)
    district = add(hand, "only")
    tick(hand, f"{register}: all", "districts")
    hand.settled()
    editor = bench.form.blocks["where"].editor
    hand.until(lambda: editor.values.isVisible() and editor.values.box.currentText() == "name" and editor.values.list.count() == 5)
    north = next(editor.values.list.item(n) for n in range(5) if editor.values.list.item(n).text().startswith("North"))
    hand.click(editor.values.list.viewport(), editor.values.list.visualItemRect(north).center())
    assert session.step().settings == {"where": "name = 'North'"}

    # by place
    beds = add(hand, "in the area")
    tick(hand, f"{district}: all", "lease_beds")
    tick(hand, f"{district}: ", field="to")
    choose(hand, "relation", "within")
    hand.settled()
    hand.run()
    assert hand.row(beds)["in"] == "412" and hand.row(beds)["out"] == "95"

    # by hand: a box around some of them, and one key
    canvas = bench.viewer.canvas
    hand.until(lambda: canvas.scene.items and canvas.idle() and bench.viewer.view == "leaving")
    canvas.setFocus()
    hand.keys("B", canvas)
    low, high = canvas.view.to_screen(np.array([(545_000, 5_218_000), (556_000, 5_229_000)]))
    QTest.mousePress(canvas, Qt.MouseButton.LeftButton, pos=QPoint(*low.astype(int)))
    QTest.mouseMove(canvas, QPoint(*high.astype(int)))
    QTest.mouseRelease(canvas, Qt.MouseButton.LeftButton, pos=QPoint(*high.astype(int)))
    hand.until(lambda: 0 < len(bench.viewer.chosen) < 95)
    number = len(bench.viewer.chosen)
    hand.keys("Ctrl+K", bench)
    picked = session.selected
    assert session.step().use == "pick" and len(session.step().settings["features"]) == number

    # a percentage, a tally of everything, and on to disk
    hand.click_step(chart_section)
    flagged = add(hand, "percentage", where="depth_m < 10", field="shallow")
    tick(hand, f"{chart_section}: all", "soundings")
    tally = add(hand, "how many")
    tick(hand, f"{flagged}: ", f"{field}: all", f"{register}: all")
    add(hand, "export", to="out/what_there_is.csv")
    hand.click_step(picked)
    add(hand, "export", to="out/north.gpkg")
    hand.settled()
    hand.run()
    assert hand.row(picked)["out"] == f"{number:,}" and hand.row(tally)["out"] == "11"
    assert all(hand.row(id)["state"] in ("balanced", "look") for id in hand.steps())
    share = next(r["text"] for r in session.results[flagged]["remarks"])
    assert share.startswith("it holds for ") and share.endswith("%") and " of 1,158, " in share
    sections = geopackage.sections_of(demo / "out" / "sound.gpkg")
    assert {s.name: (s.crs, len(s.layers)) for s in sections.values()} == {"Field work": ("EPSG:4326", 8), "Sea chart": ("EPSG:32626", 7)}
    assert len(read(demo / "out" / "north.gpkg")) == number and len(read(demo / "out" / "what_there_is.csv")) == 11
    hand.keys("Ctrl+S", bench)
    assert document.read(demo / "mine.toml") == session.document
