"""Looking at the map: colours, classes, labels, layers beside each other, measuring, corners, lines, saving."""

from __future__ import annotations

import xml.etree.ElementTree as ET
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from pyproj import Transformer
from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QAction, QColor, QImage
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QComboBox, QFileDialog

from eskret.core.style.style import CLASSES, VALUES, Style
from eskret.desktop.map_view.graticule import degree_lines
from eskret.workflow.model.document import read
from eskret.workflow.model.map_spec import OnMap
from tests.desktop.conftest import Hand
from tests.desktop.test_looking import choose_layer, open_and_run


def choose(hand: Hand, box: QComboBox, text: str) -> None:
    """Choose a line of a box by keys: typing its first letters would do the same."""
    row = box.findText(text)
    assert row >= 0, f"{text!r} is not among {[box.itemText(n) for n in range(box.count())]}"
    box.setFocus()
    QTest.keyClick(box, Qt.Key.Key_Home)
    for _ in range(row):
        QTest.keyClick(box, Qt.Key.Key_Down)
    # the keys above change the line without opening the list, which activates each on the way
    hand.until(lambda: box.currentText() == text)


def on_screen(hand: Hand, row: int) -> QPoint:
    """The middle of a feature on the canvas."""
    canvas = hand.bench.viewer.canvas
    assert canvas.scene.pick is not None
    box = canvas.scene.pick.shapes.boxes[row]
    x, y = canvas.view.to_screen(np.array([((box[0] + box[2]) / 2, (box[1] + box[3]) / 2)]))[0]
    return QPoint(round(x), round(y))


@pytest.fixture
def beds(hand: Hand, demo: Path) -> Hand:
    """The lesson of the returns, nothing kept on its map, run; the beds of its register in hand, the pane about the map open."""
    text = (demo / "returns.toml").read_text()
    (demo / "returns.toml").write_text(text[: text.index("\n[map]")])
    open_and_run(hand, demo / "returns.toml")
    hand.click_step("register")
    choose_layer(hand, "lease_beds")
    hand.keys("F5", hand.bench)
    assert hand.bench.map_pane.isVisible() and not hand.bench.form_pane.isVisible()
    hand.until(hand.bench.viewer.canvas.idle)
    return hand


def test_classes_with_legend_and_histogram_go_with_the_layer_and_into_its_file(beds: Hand, demo: Path) -> None:
    bench = beds.bench
    session, viewer, form = bench.session, bench.viewer, bench.map_pane.form
    choose(beds, form.by, "In classes")
    choose(beds, form.field, "tonnes")
    beds.until(lambda: viewer.canvas.scene.legend)
    block = viewer.canvas.scene.legend[0]
    layer = viewer.subject.layers["leaving"]["lease_beds"]
    tonnes = layer.table.column("tonnes").to_numpy()
    counts = [k.count for k in block.keys]
    assert sum(c or 0 for c in counts) == 412 and len(counts) == 6 and block.keys[-1].text == "no value"
    assert counts[-1] == int(np.isnan(tonnes).sum())
    assert max(counts[:5]) - min(counts[:5]) < 30, "quantiles hold about as many each"  # type: ignore[type-var]
    # own breaks, typed: the classes are those
    form.breaks.setFocus()
    beds.keys("Ctrl+A", form.breaks)
    beds.type("10, 40", form.breaks)
    beds.keys("Return", form.breaks)
    said = Style(CLASSES, field="tonnes", method="own", breaks=(10, 40))
    assert session.document.step("register").style["lease_beds"].to_table() == said.to_table()
    known = tonnes[~np.isnan(tonnes)]
    expected = [int((known <= 10).sum()), int(((known > 10) & (known <= 40)).sum()), int((known > 40).sum())]
    assert [k.count for k in viewer.canvas.scene.legend[0].keys][:3] == expected
    # the picture has the colours: the middle of a bed is painted in that of its class
    beds.until(viewer.canvas.idle)
    # of those far from legend and buttons, the one that nothing lies over
    image = viewer.canvas.grab().toImage()
    places = {row: on_screen(beds, row) for row in range(412)}
    free = [row for row, at in places.items() if 180 < at.x() < 300 and at.y() > 60]
    fills = np.array([QColor(k.look.fill).getRgb() for k in viewer.canvas.scene.legend[0].keys])
    seen = np.array([QColor(image.pixelColor(places[row])).getRgb() for row in free])
    nearest = np.abs(seen[:, None] - fills[None]).sum(axis=2).argmin(axis=1)
    of = np.where(np.isnan(tonnes), 3, np.digitize(tonnes, [10, 40], right=True))[free]
    assert len(free) > 40 and (nearest == of).mean() > 0.9, "but for those whose neighbours' outlines cross them"
    # a break is dragged in the histogram
    bars = form.histogram
    bench.map_pane.area.ensureWidgetVisible(bars)
    x = round(bars._x(40.0))
    QTest.mousePress(bars, Qt.MouseButton.LeftButton, pos=QPoint(x, 30))
    QTest.mouseMove(bars, QPoint(x - 12, 30))
    QTest.mouseRelease(bars, Qt.MouseButton.LeftButton, pos=QPoint(x - 12, 30))
    dragged = session.document.step("register").style["lease_beds"].breaks
    assert dragged[0] == 10 and 10 < dragged[1] < 40
    # bad breaks change nothing and say why
    beds.keys("Ctrl+A", form.breaks)
    beds.type("40, 10", form.breaks)
    beds.keys("Return", form.breaks)
    assert "ascending" in form.wrong.text() and form.wrong.isVisible()
    assert session.document.step("register").style["lease_beds"].breaks == dragged
    # it holds from here on: two steps later the layer is drawn so, and nothing had to be run again
    beds.click_step("landed")
    beds.until(lambda: viewer.canvas.scene.legend and viewer.key == "lease_beds")
    assert len(viewer.canvas.scene.legend[0].keys) == 4 and session.view("landed") is not None
    assert "Said at step 1, register" in bench.map_pane.from_step.text()
    # saved with the workflow, and there again when it is opened
    beds.keys("Ctrl+S", bench)
    assert read(demo / "returns.toml").step("register").style["lease_beds"].breaks == dragged
    beds.keys("Ctrl+Z", bench)
    assert session.document.step("register").style["lease_beds"].breaks == (10, 40)


def test_values_labels_and_the_step_a_style_holds_from(beds: Hand) -> None:
    bench = beds.bench
    session, viewer, pane = bench.session, bench.viewer, bench.map_pane
    beds.click_step("landed")
    choose(beds, pane.form.by, "By value")
    choose(beds, pane.form.field, "district")
    style = session.document.step("landed").style["lease_beds"]
    assert style.by == VALUES and list(style.colours) == ["Basin", "East", "North", "South", "West"]
    assert [k.text for k in viewer.canvas.scene.legend[0].keys] == list(style.colours)
    assert sum(k.count or 0 for k in viewer.canvas.scene.legend[0].keys) == 412
    choose(beds, pane.form.label, "lease")
    beds.until(lambda: viewer.canvas.idle() and viewer.canvas.labels_placed()[0] > 10)
    beds.until(lambda: "labels in view have room" in pane.form.room.text())
    # the colour of one value
    line = pane.form.values.itemWidget(pane.form.values.item(2))
    line.button.chosen.emit("#010203")  # type: ignore[attr-defined]
    assert session.document.step("landed").style["lease_beds"].colours["North"] == "#010203"
    # from where it comes in, then as usual again
    beds.click(pane.wider)
    assert not session.document.step("landed").style
    assert session.document.step("register").style["lease_beds"].label == "lease"
    beds.click_step("register")
    choose_layer(beds, "lease_beds")
    beds.click(pane.all)
    assert list(session.document.step("register").style) == ["*"]
    choose_layer(beds, "moorings")
    assert "no field 'district' here" in pane.form.note.text() and not viewer.canvas.scene.legend
    beds.click(pane.usual)
    assert not session.document.step("register").style and not viewer.canvas.scene.legend


def test_layers_kept_on_the_map_in_their_order(beds: Hand, demo: Path) -> None:
    bench = beds.bench
    session, viewer, pane = bench.session, bench.viewer, bench.map_pane
    kept = pane.kept

    def add(text: str) -> None:
        kept.menu.aboutToShow.emit()
        actions: list[QAction] = [*kept.menu.actions()]
        actions += [a for m in actions if m.menu() is not None for a in m.menu().actions()]  # type: ignore[attr-defined]
        next(a for a in actions if a.text().startswith(text)).trigger()

    add("districts · register")
    add("islands · islands.geojson")
    assert [x.layer for x in session.document.map.layers] == ["islands", "districts"]
    beds.until(lambda: len(viewer.canvas.scene.under) == 2)
    # the file's layer is in degrees and is brought to the map's coordinates
    islands = viewer.canvas.scene.under[-1].shapes
    assert (islands.boxes[:, 0] > 500_000).all() and (islands.boxes[:, 3] > 5_000_000).all()
    assert [b.title for b in viewer.canvas.scene.legend] == ["lease_beds", "islands", "districts · register"]
    # hidden, moved over the layer in hand, taken off; each can be undone
    kept.list.setCurrentRow(1)
    item = kept.list.item(1)
    assert item.text() == "islands"
    item.setCheckState(Qt.CheckState.Unchecked)
    assert len(viewer.canvas.scene.under) == 1 and session.document.map.layers[0].off
    kept.list.item(1).setCheckState(Qt.CheckState.Checked)
    kept.list.setCurrentRow(1)
    beds.click(kept.up)
    assert session.document.map.layers[0].over and len(viewer.canvas.scene.over) == 1
    assert kept.list.currentRow() == 0
    # the layer in hand can still be chosen from, whatever lies over it
    beds.until(viewer.canvas.idle)
    QTest.mouseClick(viewer.canvas, Qt.MouseButton.LeftButton, pos=on_screen(beds, 5))
    assert len(viewer.chosen) == 1
    # another step: they stay
    beds.click_step("areas")
    assert len(viewer.canvas.scene.over) == 1 and len(viewer.canvas.scene.under) == 1
    beds.click_step("by_district")
    assert viewer.canvas.scene.pick is None and viewer.canvas.scene.drawn, "a table leaves them alone on the map"
    beds.keys("Ctrl+S", bench)
    saved = read(demo / "returns.toml").map.layers
    assert saved == (OnMap(file="chart/islands.geojson", layer="islands", over=True), OnMap(step="register", layer="districts"))
    kept.list.setCurrentRow(0)
    beds.keys("Delete", kept.list)
    assert [x.layer for x in session.document.map.layers] == ["districts"]
    session.undo()
    assert len(session.document.map.layers) == 2
    # what cannot be drawn says so in the list
    (demo / "chart" / "islands.geojson").unlink()
    bench.files.open_path(demo / "returns.toml")
    pane.refresh()
    beds.until(lambda: any("no such file" in kept.list.item(n).text() for n in range(kept.list.count())))
    tips = [kept.list.item(n).toolTip() for n in range(kept.list.count())]
    assert "There is no chart/islands.geojson in the workflow's folder." in tips
    assert any("not run yet" in kept.list.item(n).text() for n in range(kept.list.count()))


def test_a_source_is_drawn_so_before_and_after_it_is_loaded(hand: Hand, demo: Path) -> None:
    hand.bench.files.open_path(demo / "piles.toml")
    hand.settled()
    session, viewer, pane = hand.bench.session, hand.bench.viewer, hand.bench.map_pane
    hand.click_source("chart", "soundings.fgb")
    hand.until(lambda: viewer.subject.source and viewer.canvas.scene.pick is not None)
    hand.keys("F5", hand.bench)
    choose(hand, pane.form.by, "In classes")
    choose(hand, pane.form.field, "depth_m" if pane.form.field.findText("depth_m") >= 0 else pane.form.field.itemText(0))
    hand.until(lambda: viewer.canvas.scene.legend)
    assert "No step loads this layer yet" in pane.from_step.text()
    hand.click(viewer.load_button)
    loaded = session.document.step("soundings")
    assert loaded.style["*"].by == CLASSES
    hand.settled()
    hand.run()
    hand.until(lambda: viewer.canvas.scene.legend and viewer.subject.source is None)


def test_measuring_in_a_unit_of_choice(beds: Hand) -> None:
    bench = beds.bench
    viewer = bench.viewer
    canvas, bar = viewer.canvas, viewer.handbar
    canvas.setFocus()
    beds.keys("M", canvas)
    assert canvas.mode == "distance" and bar.unit.isVisible() and bar.unit.currentText() == "m"
    for x in (100, 200):
        QTest.mouseClick(canvas, Qt.MouseButton.LeftButton, pos=QPoint(x, 120))
    beds.keys("Return", canvas)
    metres = 100 / canvas.view.scale
    assert bar.words.text().startswith(f"{metres:,.1f} m in the plane · ") and "along the ellipsoid" in bar.words.text()
    # the plane of a UTM zone is off by up to 4 in 10,000 about its middle
    along = float(bar.words.text().split(" · ")[1].split(" m")[0].replace(",", ""))
    assert abs(along / metres - 1) < 6e-4 and along != metres
    bar.unit.setCurrentText("nmi")
    bar.unit.activated.emit(bar.unit.currentIndex())
    assert bar.words.text().startswith(f"{metres / 1852:.2f} nmi")
    assert viewer.ruler.unit("distance") == "nmi", "it is remembered"
    beds.keys("Shift+M", canvas)
    for x, y in ((100, 100), (150, 100), (150, 140), (100, 140)):
        QTest.mouseClick(canvas, Qt.MouseButton.LeftButton, pos=QPoint(x, y))
    QTest.mouseMove(canvas, QPoint(100, 120))
    assert "so far" in bar.words.text() and canvas.figure.endswith("ha")
    beds.keys("Return", canvas)
    assert canvas.figure == bar.words.text().split(" in the plane")[0]
    size = float(canvas.figure.split()[0].replace(",", ""))
    assert size == pytest.approx(50 * 40 / canvas.view.scale**2 / 10_000, rel=1e-3)
    beds.keys("Esc", canvas)
    assert canvas.mode == "look" and not bar.unit.isVisible() and "Click features" in bar.words.text()


def test_corners_of_the_chosen_feature(beds: Hand) -> None:
    viewer = beds.bench.viewer
    canvas, card = viewer.canvas, viewer.card
    QTest.mouseClick(canvas, Qt.MouseButton.LeftButton, pos=on_screen(beds, 7))
    row = int(viewer.chosen[0])
    pieces = canvas.scene.pick.shapes.pieces(row)  # type: ignore[union-attr]
    assert card.corners_button.text() == f"{sum(map(len, pieces))} corners"
    assert canvas.vertices is None
    beds.click(card.corners_button)
    assert canvas.vertices is not None and np.array_equal(canvas.vertices, np.concatenate(pieces))
    card.corners.setFocus()
    card.corners.selectRow(1)
    assert canvas.vertex == 1
    model = card.corners.model_
    shown = [model.index(1, c).data() for c in range(5)]
    leg = float(np.hypot(*(pieces[0][1] - pieces[0][0])))
    assert shown[2:] == [f"{pieces[0][1, 0]:.3f}", f"{pieces[0][1, 1]:.3f}", f"{leg:.3f}"]
    beds.keys("Esc", canvas)
    assert canvas.vertices is None and not card.isVisible()


def test_lines_of_degrees_lie_where_they_say(beds: Hand) -> None:
    pane, canvas = beds.bench.map_pane, beds.bench.viewer.canvas
    choose(beds, pane.lines, "Degrees")
    assert beds.bench.session.document.map.lines == "degrees" and canvas.scene.lines == "degrees"
    back = Transformer.from_crs("EPSG:32626", "EPSG:4326", always_xy=True)
    assert canvas.scene.crs is not None
    lines = degree_lines(canvas.view, canvas.scene.crs)
    assert len(lines) > 5 and {text[-1] for text, _ in lines} == {"N", "W"}
    for text, course in lines:
        lon, lat = back.transform(course[:, 0], course[:, 1])
        degrees, minutes = text[:-1].split("°")
        value = int(degrees) + (int(minutes.strip("'")) / 60 if minutes else 0)
        assert np.allclose(lat if text[-1] == "N" else -np.asarray(lon), value, atol=1e-7)


def test_the_map_is_saved_as_it_is_drawn(beds: Hand, demo: Path) -> None:
    bench = beds.bench
    pane, canvas = bench.map_pane, bench.viewer.canvas
    choose(beds, pane.form.by, "By value")
    choose(beds, pane.form.field, "district")
    choose(beds, pane.form.label, "lease")
    beds.until(canvas.idle)
    for ending in ("png", "svg", "pdf"):
        box = bench.saving.save_map()
        box.format.setCurrentIndex(box.format.findData(ending))
        box.title.setText("Beds by district")
        assert box.file.text() == f"lease_beds.{ending}"
        beds.click(box.save)
        beds.until(lambda e=ending: beds.banner() == f"The map is saved as {demo / f'lease_beds.{e}'}.")
    image = QImage(str(demo / "lease_beds.png"))
    assert (image.width(), image.height()) == (canvas.width() * 2, canvas.height() * 2)
    keys = canvas.scene.legend[0].keys
    there = {image.pixelColor(x, y).name() for x in range(0, image.width(), 3) for y in range(0, image.height(), 3)}
    assert {k.look.fill.lower() for k in keys} <= there
    svg = ET.parse(demo / "lease_beds.svg").getroot()
    text = (demo / "lease_beds.svg").read_text()
    assert svg.tag.endswith("svg") and all(k.look.fill.lower() in text.lower() for k in keys)
    assert "<text" not in text, "its reader may not have the letters"
    assert (demo / "lease_beds.pdf").read_bytes().startswith(b"%PDF-1.")
    # what is there already is not replaced without a word
    box = bench.saving.save_map()
    assert box.save.text() == "Replace it"
    box.file.setText("another.png")
    assert box.save.text() == "Save it"
    beds.keys("Esc", box)
    # a place that cannot be written is told, and nothing is left there
    box = bench.saving.save_map()
    box.file.setText("no/such/folder/map.svg")
    beds.click(box.save)
    beds.until(lambda: "cannot be written" in beds.banner())
    box = bench.saving.save_map()
    box.file.setText("map.tiff")
    beds.click(box.save)
    beds.until(lambda: "cannot be saved as '.tiff'" in beds.banner())


def test_the_style_is_written_beside_the_data(beds: Hand, demo: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    pane = beds.bench.map_pane
    choose(beds, pane.form.by, "In classes")
    beds.until(lambda: beds.bench.viewer.canvas.scene.legend)
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a: (str(demo / "beds"), ""))
    beds.click(pane.write)
    assert beds.banner() == f"The style of lease_beds is written as {demo / 'beds.sld'}."
    written = (demo / "beds.sld").read_bytes()
    beds.click(pane.write)
    assert "There is a beds.sld already" in beds.banner() and (demo / "beds.sld").read_bytes() == written
    rules = ET.parse(demo / "beds.sld").getroot().findall(".//{http://www.opengis.net/se}Rule")
    assert len(rules) == len(beds.bench.viewer.canvas.scene.legend[0].keys)


def test_gaps_and_legs_are_drawn_as_their_operations_propose(hand: Hand, demo: Path) -> None:
    open_and_run(hand, demo / "breakwater.toml")
    viewer = hand.bench.viewer
    hand.click_step("gaps")
    hand.until(lambda: viewer.canvas.scene.labels)
    labels = viewer.canvas.scene.labels[0]
    assert labels.show(labels.column[0].as_py()) == "0.47 m"
    hand.until(lambda: viewer.canvas.idle() and viewer.canvas.labels_placed() == (1, 1))
    open_and_run(hand, demo / "tracks.toml")
    hand.click_step("legs")
    hand.until(lambda: len(viewer.canvas.scene.items) > 1)
    assert viewer.canvas.scene.legend[0].about == "speed_kn"
    hand.keys("F5", hand.bench)
    assert hand.bench.map_pane.from_step.text() == "Drawn as its operation proposes."


def test_a_kept_layer_is_there_again_when_its_workflow_is(make_hand: Callable[..., Hand], demo: Path) -> None:
    hand = make_hand(demo / "publish.toml")
    stage = hand.bench.viewer.stage
    hand.until(lambda: stage.beside() and stage.beside()[0].layer is not None)
    for name in ("piles.toml", "tracks.toml", "publish.toml"):
        hand.bench.files.open_path(demo / name)
        hand.settled()
    hand.until(lambda: (kept := stage.beside()[0].layer) is not None and kept.home.is_dir())
    kept = stage.beside()[0].layer
    assert kept is not None and kept.rows == 5 and kept.shapes is not None
