"""Exploring is scripting: what is chosen, drawn and changed by hand becomes steps, and the steps do the same again."""

from __future__ import annotations

from collections.abc import Callable
from itertools import pairwise
from pathlib import Path

import numpy as np
import pyarrow as pa
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QLineEdit

from eskret import read, write
from eskret.desktop.forms.values_list import with_value
from eskret.desktop.map_view.canvas import LESS, MORE, ONLY, OTHER
from eskret.desktop.map_view.render import PaintItem, Symbol
from eskret.desktop.map_view.select_by_shape import rows_in
from eskret.desktop.panes.edit_actions import condition_for
from eskret.desktop.panes.viewer import changed
from eskret.desktop.views.isolate import IsolateBox
from eskret.formats import geopackage
from eskret.workflow.cache.results import pieces_of
from eskret.workflow.cache.stored import Shapes
from tests.conftest import points, squares
from tests.desktop.conftest import Hand

NONE, SHIFT, CONTROL = (Qt.KeyboardModifier.NoModifier, Qt.KeyboardModifier.ShiftModifier, Qt.KeyboardModifier.ControlModifier)
WORKFLOW = """eskret = 1
title = "Beds"

[[steps]]
id = "load"
use = "load"
files = ["in.gpkg"]
"""


@pytest.fixture
def beds(make_hand: Callable[..., Hand], tmp_path: Path) -> Hand:
    """The window on ten squares (keys B-00 ...), run."""
    layer = squares(10, key="beds")
    table = pa.table({"bed": [f"B-{n:02d}" for n in range(10)], "kind": ["ab"[n % 2] for n in range(10)], "n": list(range(10))})
    write(type(layer)("beds", table, layer.geometry, layer.crs), tmp_path / "in.gpkg")
    (tmp_path / "beds.toml").write_text(WORKFLOW)
    hand = make_hand(tmp_path / "beds.toml")
    hand.settled()
    hand.run()
    hand.until(lambda: hand.bench.viewer.canvas.idle() and hand.bench.viewer.canvas._image is not None)
    return hand


def place(hand: Hand, row: int) -> QPoint:
    """Where a square's middle is on the map."""
    canvas = hand.bench.viewer.canvas
    at = canvas.view.to_screen(np.array([(500_005 + 10 * row, 5_200_005)]))[0]
    return QPoint(round(at[0]), round(at[1]))


def map_click(hand: Hand, row: int, modifier: Qt.KeyboardModifier = NONE) -> None:
    QTest.mouseClick(hand.bench.viewer.canvas, Qt.MouseButton.LeftButton, modifier, place(hand, row))


def drag(hand: Hand, corners: list[QPoint], modifier: Qt.KeyboardModifier = NONE) -> None:
    canvas = hand.bench.viewer.canvas
    QTest.mousePress(canvas, Qt.MouseButton.LeftButton, modifier, corners[0])
    for before, after in pairwise(corners):
        for part in range(1, 7):
            QTest.mouseMove(canvas, before + (after - before) * part / 6)
    QTest.mouseRelease(canvas, Qt.MouseButton.LeftButton, modifier, corners[-1])


def chosen(hand: Hand) -> list[int]:
    return hand.bench.viewer.chosen.tolist()


def bar(hand: Hand, name: str) -> None:
    button = hand.bench.viewer.handbar.buttons[name]
    assert button.isVisible() and button.isEnabled(), name
    hand.click(button, button.rect().center())


@pytest.mark.screen
def test_click_add_take_away_all_none_invert(beds: Hand) -> None:
    viewer = beds.bench.viewer
    map_click(beds, 2)
    assert chosen(beds) == [2] and viewer.card.isVisible()
    map_click(beds, 5, SHIFT)
    map_click(beds, 7, CONTROL)
    assert chosen(beds) == [2, 5, 7] and not viewer.card.isVisible()
    map_click(beds, 5, CONTROL)
    assert chosen(beds) == [2, 7]
    assert "2 of 10 chosen in beds" in viewer.handbar.words.text()
    assert [i.row() for i in viewer.table.selectionModel().selectedRows()] == [2, 7]
    bar(beds, "invert")
    assert chosen(beds) == [0, 1, 3, 4, 5, 6, 8, 9]
    beds.keys("Ctrl+A", viewer.canvas)
    assert len(chosen(beds)) == 10
    bar(beds, "none")
    assert chosen(beds) == [] and not viewer.handbar.buttons["pick"].isVisible()
    # the other way round: rows of the table
    table = viewer.table
    for line, modifier in ((1, NONE), (4, CONTROL)):
        at = table.visualRect(table.model_.index(line, 1)).center()
        QTest.mouseClick(table.viewport(), Qt.MouseButton.LeftButton, modifier, at)
    assert chosen(beds) == [1, 4] and viewer.canvas.chosen.tolist() == [1, 4]


def test_box_and_lasso(beds: Hand) -> None:
    viewer, canvas = beds.bench.viewer, beds.bench.viewer.canvas
    up, down = QPoint(0, -30), QPoint(0, 30)
    drag(beds, [place(beds, 1) + up, place(beds, 3) + down], SHIFT)  # at any time, with Shift held
    beds.until(lambda: chosen(beds) == [1, 2, 3])
    bar(beds, "box")
    assert canvas.mode == "box"
    drag(beds, [place(beds, 6) + up, place(beds, 7) + down])
    beds.until(lambda: chosen(beds) == [6, 7])
    drag(beds, [place(beds, 0) + up, place(beds, 1) + down], SHIFT)
    beds.until(lambda: chosen(beds) == [0, 1, 6, 7])
    drag(beds, [place(beds, 7) + up, place(beds, 9) + down], CONTROL)
    beds.until(lambda: chosen(beds) == [0, 1, 6])
    beds.keys("L", canvas)
    assert canvas.mode == "lasso" and viewer.handbar.buttons["lasso"].isChecked()
    loop = [place(beds, 3) + up, place(beds, 5) + up, place(beds, 5) + down, place(beds, 3) + down, place(beds, 3) + up]
    drag(beds, loop)
    beds.until(lambda: chosen(beds) == [3, 4, 5])
    beds.keys("Esc", canvas)
    assert canvas.mode == "look" and chosen(beds) == [3, 4, 5]
    beds.keys("Esc", canvas)
    assert chosen(beds) == []


@pytest.mark.parametrize(
    ("keys", "use", "settings"),
    [
        ("Ctrl+K", "pick", {"features": ["B-02", "B-05"], "key": "bed"}),
        ("Ctrl+Shift+K", "keep", {"where": "bed IN ('B-02', 'B-05')"}),
        ("leave_out", "pick", {"features": ["B-02", "B-05"], "key": "bed", "take": "all but these"}),
    ],
)
def test_what_is_chosen_becomes_a_step_with_one_key(beds: Hand, keys: str, use: str, settings: dict) -> None:
    session = beds.bench.session
    map_click(beds, 2)
    map_click(beds, 5, SHIFT)
    if "+" in keys:
        beds.keys(keys, beds.bench)
    else:
        bar(beds, keys)
    step = session.document.steps[1]
    assert (step.use, step.source, dict(step.settings)) == (use, ("load",), settings) and session.selected == step.id
    assert f"Step 2, {step.id}, holds it now" in beds.banner()
    beds.run()
    assert beds.row(step.id)["out"] == ("8" if keys == "leave_out" else "2") and beds.row(step.id)["state"] == "balanced"
    beds.keys("Ctrl+Z", beds.bench)
    assert beds.steps() == ["load"]


def test_an_isolated_feature_goes_into_the_container_it_came_from(beds: Hand, tmp_path: Path) -> None:
    map_click(beds, 4)
    beds.keys("Ctrl+I", beds.bench)
    (box,) = beds.window.findChildren(IsolateBox)
    assert box.place.currentText() == "in.gpkg, the container they came from"
    beds.type("beds", box.lines["name"])
    beds.click(box.ok)
    assert box.isVisible() and "has a layer 'beds' already" in box.wrong.text()
    beds.keys("Ctrl+A", box.lines["name"])
    beds.type("The fourth", box.lines["name"])
    beds.keys("Return", box.lines["name"])
    assert beds.steps() == ["load", "the_fourth", "save_the_fourth"]
    before = read(tmp_path / "in.gpkg", "beds").table
    for _ in range(2):  # a second time the layer is the workflow's own, and not loaded with the others
        beds.run()
        found = read(tmp_path / "in.gpkg", "The fourth")
        assert found.table.column("bed").to_pylist() == ["B-04"] and beds.row("load")["out"] == "10"
    assert read(tmp_path / "in.gpkg", "beds").table == before


def test_a_feature_goes_into_a_file_of_its_own_where_that_is_wanted(beds: Hand, tmp_path: Path) -> None:
    map_click(beds, 4)
    beds.keys("Ctrl+I", beds.bench)
    (box,) = beds.window.findChildren(IsolateBox)
    box.place.setFocus()
    beds.keys("Down", box.place)
    beds.click(box.ok)
    assert beds.steps() == ["load", "beds_b_04", "save_beds_b_04"]
    beds.run()
    found = read(tmp_path / "out" / "beds_isolated.gpkg")
    assert found.name == "beds_b_04" and found.table.column("bed").to_pylist() == ["B-04"]


def test_rows_set_aside_are_picked_from_what_entered(beds: Hand) -> None:
    session = beds.bench.session
    session.add_step(type(session.document.steps[0])("few", "keep", ("load",), {"where": "n < 3"}))
    beds.settled()
    beds.run()
    beds.keys("Alt+3", beds.bench)
    beds.until(lambda: beds.bench.viewer.table_count.text() == "7 of 10 rows" and beds.bench.viewer.canvas.idle())
    map_click(beds, 8)
    beds.keys("Ctrl+K", beds.bench)
    # right after the step that made the layer, before the one it was set aside by
    assert beds.steps() == ["load", "picked", "few"] and session.document.step("picked").source == ("load",)
    assert session.document.step("picked").settings["features"] == ["B-08"]


def test_a_source_is_loaded_first_when_something_is_picked_from_it(beds: Hand, tmp_path: Path) -> None:
    write(points({"name": ["a", "b", "c"]}, key="marks"), tmp_path / "marks.gpkg")
    beds.click_source("marks.gpkg")
    beds.until(lambda: beds.bench.viewer.subject.source is not None)
    beds.bench.viewer.choose_rows(np.array([1]))
    beds.keys("Ctrl+K", beds.bench)
    assert beds.steps() == ["load", "marks", "picked"]
    step = beds.bench.session.document.step("picked")
    assert step.source == ("marks",) and step.settings == {"features": ["b"], "key": "name"}


def test_without_a_key_the_sources_numbers_are_used_and_without_any_it_is_said(beds: Hand, tmp_path: Path) -> None:
    write(points({"kind": ["a", "a"]}, key="twins"), tmp_path / "twins.gpkg")
    beds.click_source("twins.gpkg")
    beds.until(lambda: beds.bench.viewer.subject.source is not None)
    beds.bench.viewer.choose_rows(np.array([1]))
    beds.keys("Ctrl+Shift+K", beds.bench)
    assert "a condition cannot name these. Pick them instead" in beds.banner() and beds.steps() == ["load"]
    beds.keys("Ctrl+K", beds.bench)
    assert beds.bench.session.document.step("picked").settings == {"features": [2]}
    beds.run()
    assert beds.row("picked")["out"] == "1" and beds.row("picked")["state"] == "look"


@pytest.mark.screen
def test_an_area_drawn_on_the_map_becomes_a_step_to_choose_by(beds: Hand) -> None:
    session, canvas = beds.bench.session, beds.bench.viewer.canvas
    beds.keys("Insert", beds.bench.ledger)
    beds.type("in the area", beds.bench.finder.line)
    beds.keys("Return", beds.bench.finder.line)
    beds.settled()
    assert beds.row("keep_by_place")["state"] == ""  # nobody says what a step lacks before its first setting was left
    beds.keys("Tab")
    assert beds.row("keep_by_place")["state"] == "cannot run"
    assert session.step() is not None
    beds.until(lambda: canvas.scene.items and canvas.idle())
    beds.bench.viewer.handbar.sketch.menu().actions()[2].trigger()
    assert canvas.mode == "area" and "closes it" in beds.bench.viewer.handbar.words.text()
    up, down = QPoint(0, -25), QPoint(0, 25)
    for at in (place(beds, 2) + up, place(beds, 6) + up, place(beds, 9) + up, place(beds, 6) + down, place(beds, 2) + down):
        QTest.mouseClick(canvas, Qt.MouseButton.LeftButton, NONE, at)
        QTest.qWait(1)
        if at == place(beds, 9) + up:
            beds.keys("Backspace", canvas)
    beds.keys("Return", canvas)
    assert beds.steps() == ["load", "sketch", "keep_by_place"] and canvas.mode == "look"
    assert session.document.step("keep_by_place").settings == {"to": "sketch"} and session.selected == "keep_by_place"
    assert session.document.step("sketch").settings["crs"] == "EPSG:32626"
    beds.until(lambda: canvas.scene.under)  # drawn before anything is run
    beds.run()
    assert beds.row("keep_by_place")["out"] == "5"
    kept = session.view("keep_by_place")["leaving"][0]
    assert kept["rows"] == 5


@pytest.mark.parametrize(("kind", "clicks", "expected"), [("points", 2, "MULTIPOINT"), ("line", 2, "LINESTRING"), ("area", 2, "")])
def test_a_sketch_needs_enough_for_its_kind(beds: Hand, kind: str, clicks: int, expected: str) -> None:
    canvas = beds.bench.viewer.canvas
    canvas.use(kind)
    for row in range(clicks):
        map_click(beds, row * 3)
        QTest.qWait(1)
    beds.keys("Return", canvas)
    if not expected:
        assert canvas.mode == "area" and beds.steps() == ["load"]
        beds.keys("Esc", canvas)
        assert canvas.mode == "look"
        return
    # in front of the step in hand, and seen at once
    beds.until(lambda: beds.bench.viewer.subject.layers["leaving"])
    layer = beds.bench.viewer.subject.layers["leaving"]["sketch"]
    assert layer.info["kind"] == {"MULTIPOINT": "point", "LINESTRING": "line"}[expected] and layer.rows == 1


def edit_cell(hand: Hand, line: int, field: str, text: str) -> None:
    table = hand.bench.viewer.table
    index = table.model_.index(line, table.model_.titles.index(field))
    table.scrollTo(index)
    QTest.mouseClick(table.viewport(), Qt.MouseButton.LeftButton, NONE, table.visualRect(index).center())
    QTest.mouseDClick(table.viewport(), Qt.MouseButton.LeftButton, NONE, table.visualRect(index).center())
    before = (hand.bench.session.document, hand.banner())
    editor = next(e for e in table.findChildren(QLineEdit) if e.isVisible())
    hand.keys("Ctrl+A", editor)
    if text:
        hand.type(text, editor)
    else:
        hand.keys("Delete", editor)
    hand.keys("Return", editor)
    hand.until(lambda: (hand.bench.session.document, hand.banner()) != before)


def test_cells_changed_in_the_table_become_a_step(beds: Hand) -> None:
    session, model = beds.bench.session, beds.bench.viewer.table.model_
    edit_cell(beds, 3, "kind", "Mud")
    assert beds.steps() == ["load", "corrected"]
    change = {"key": "B-03", "field": "kind", "old": "b", "new": "Mud"}
    assert session.document.step("corrected").settings == {"key": "bed", "changes": [change]}
    # it stands in the table before it is run, and a second change joins the first
    beds.until(lambda: model.index(3, model.titles.index("kind")).data() == "Mud")
    edit_cell(beds, 5, "n", "")
    assert session.document.step("corrected").settings["changes"] == [change, {"key": "B-05", "field": "n", "old": 5}]
    edit_cell(beds, 6, "n", "many")
    assert "'n' is a whole number and cannot hold 'many'" in beds.banner()
    beds.run()
    assert beds.row("corrected")["state"] == "balanced"
    table = beds.bench.viewer.subject.layers["leaving"]["beds"].table
    assert table.column("kind")[3].as_py() == "Mud" and table.column("n")[5].as_py() is None
    # changed back in what leaves: nothing is left to correct there
    edit_cell(beds, 3, "kind", "b")
    assert session.document.step("corrected").settings["changes"] == [{"key": "B-05", "field": "n", "old": 5}]
    edit_cell(beds, 1, "bed", "B-77")
    assert "'bed' is the key itself" in beds.banner()


def test_the_fields_of_a_layer_are_told(beds: Hand) -> None:
    viewer = beds.bench.viewer
    beds.keys("F4", beds.bench)
    beds.until(lambda: viewer.fields.table.rowCount() == 3)
    rows = [[viewer.fields.table.item(r, c).text() for c in range(7)] for r in range(3)]
    assert rows[1] == ["kind", "text", "0", "2", "a", "b", "a, b"] and rows[2][:6] == ["n", "whole number", "0", "10", "0", "9"]
    about = viewer.fields.about.text()
    assert "beds: 10 rows, areas" in about and "WGS 84 / UTM zone 26N (EPSG:32626), in m" in about and "Used in: Between" in about
    assert "in.gpkg" in about and "kB, changed 20" in about
    beds.keys("F4", beds.bench)
    assert viewer.table.isVisible() and not viewer.fields.isVisible()


# -- arithmetic behind it


rings = st.lists(st.tuples(st.integers(-2, 12), st.integers(-2, 12)), min_size=3, max_size=8)


@given(rings)
def test_what_a_loop_catches_is_what_meets_it(ring: list[tuple[int, int]]) -> None:
    """Against asking each shape: points, lines and areas with holes; a loop within an area catches it, in a hole it does not."""
    hole = shapely.box(0, 0, 10, 10).difference(shapely.box(2, 2, 8, 8))
    shapes = np.array(
        [
            hole,
            shapely.box(3, 3, 5, 5),
            shapely.Point(4, 9),
            shapely.LineString([(0, 11), (11, 0)]),
            None,
            shapely.MultiPoint([[1, 1], [9, 9]]),
        ],
        object,
    )
    xy, starts, kinds, first = pieces_of(shapes)
    item = PaintItem(Shapes(xy, starts, kinds, first, shapely.bounds(shapes)), Symbol("#000000", "#000000"))
    area = shapely.make_valid(shapely.Polygon(ring))
    expected = [n for n, s in enumerate(shapes) if s is not None and s.intersects(area)]
    assert rows_in(item, np.array(ring, float)).tolist() == expected
    some = PaintItem(item.shapes, item.look, np.array([1, 3]))
    assert rows_in(some, np.array(ring, float)).tolist() == [n for n in expected if n in (1, 3)]


@given(st.sets(st.integers(0, 9)), st.sets(st.integers(0, 9)))
def test_what_is_chosen_after_a_hand_act(before: set[int], rows: set[int]) -> None:
    old, new = np.array(sorted(before), np.int64), np.array(sorted(rows), np.int64)
    for does, expected in ((ONLY, rows), (MORE, before | rows), (LESS, before - rows), (OTHER, before ^ rows)):
        assert changed(old, new, does).tolist() == sorted(expected)


@pytest.mark.parametrize(
    ("text", "value", "expected"),
    [
        ("", "a", "kind = 'a'"),
        ("kind = 'a'", "b", "kind IN ('a', 'b')"),
        ("kind IN ('a', 'b')", "a", "kind = 'b'"),
        ("kind = 'a'", "a", ""),
        ("n > 3", "a", "n > 3 AND kind = 'a'"),
        ("kind <>", "O'Neil", "kind <> 'O''Neil'"),
        ("kind IN ('a',", "b", "kind IN ('a', 'b'"),
        ("kind =", 7, "kind = 7"),
        ("", True, "kind = true"),
        ("n > 3", None, "n > 3 AND kind IS NULL"),
        ("kind = 7", 8, "kind IN (7, 8)"),
        ("n = 1 AND kind = 'a'", "b", "n = 1 AND kind IN ('a', 'b')"),
    ],
)
def test_a_value_that_is_clicked_goes_into_the_condition(text: str, value: object, expected: str) -> None:
    assert with_value(text, len(text), "kind", value) == expected


@given(st.lists(st.one_of(st.integers(-9, 9), st.text(max_size=5)), min_size=1, max_size=4, unique_by=str))
def test_a_condition_for_values_holds_for_them_and_no_others(values: list) -> None:
    from eskret.core.expression import parse_condition, truth

    texts = [str(v) for v in values]
    table = pa.table({"select": pa.array([*texts, "something else", None])})
    holds, _ = truth(parse_condition(condition_for("select", texts), table.schema, {}), table, {})
    assert holds.tolist() == [True] * len(values) + [False, False]


# -- the new fields of the form


def test_a_condition_is_written_by_clicking_values(beds: Hand) -> None:
    beds.keys("Insert", beds.bench.ledger)
    beds.type("only", beds.bench.finder.line)
    beds.keys("Return", beds.bench.finder.line)
    beds.settled()
    editor = beds.bench.form.blocks["where"].editor
    beds.until(lambda: editor.values.isVisible() and editor.values.list.count())
    editor.values.box.setCurrentText("kind")
    editor.values.box.activated.emit(editor.values.box.currentIndex())
    beds.until(lambda: [editor.values.list.item(n).text() for n in range(editor.values.list.count())] == ["a   5", "b   5"])
    values = editor.values.list
    beds.click(values.viewport(), values.visualItemRect(values.item(1)).center())
    assert beds.bench.session.step().settings == {"where": "kind = 'b'"}
    beds.until(lambda: editor.count.text() == "Keeps 5 of 10 features, 50.0 %")


def test_lists_of_a_step_can_be_read_and_typed(beds: Hand) -> None:
    session = beds.bench.session
    make = type(session.document.steps[0])
    session.add_step(make("picked", "pick", ("load",), {"features": ["B-01", "07", 7], "key": "bed"}))
    editor = beds.bench.form.blocks["features"].editor
    assert editor.text.toPlainText() == 'B-01\n"07"\n7'.replace('"07"', "07")
    beds.fill("features", "B-02\n12\n007")
    assert session.step().settings["features"] == ["B-02", 12, "007"]
    session.add_step(
        make(
            "corrected",
            "correct",
            ("load",),
            {
                "key": "bed",
                "changes": [{"key": "B-01", "field": "kind", "old": "b", "new": "Mud"}, {"key": "B-02", "field": "n", "old": 2}],
            },
        )
    )
    cells = beds.bench.form.blocks["changes"].editor
    assert cells.text.toPlainText() == "B-01, kind: b -> Mud\nB-02, n: 2 -> (empty)"
    beds.fill("changes", "B-01, kind: b -> Mud\nB-03, kind: (empty) -> Sand")
    assert session.step().settings["changes"] == [
        {"key": "B-01", "field": "kind", "old": "b", "new": "Mud"},
        {"key": "B-03", "field": "kind", "new": "Sand"},
    ]
    session.add_step(make("saved", "save", ("load",), {"to": "out/a.gpkg"}))
    beds.fill("titles", "n = Number\nnonsense\nkind = Kind of bed")
    assert session.step().settings["titles"] == {"n": "Number", "kind": "Kind of bed"}


def test_fields_and_layers_are_offered(beds: Hand) -> None:
    session = beds.bench.session
    make = type(session.document.steps[0])
    session.add_step(make("few", "keep", ("load",), {"where": "n < 3"}))
    session.add_step(make("near", "keep_by_place", ("load",), {}))
    beds.settled()
    other = beds.bench.form.blocks["to"].editor
    beds.click(other.button)
    offered = [a.text() for a in other.menu.actions()]
    assert offered == ["load: beds   10 area", "few: beds   10 area"]
    beds.click(other.menu, other.menu.actionGeometry(other.menu.actions()[1]).center())
    assert session.step().settings == {"to": "few"}
    beds.settled()
    assert not beds.bench.form.blocks["distance"].isVisible()
    relation = beds.bench.form.blocks["relation"].editor.box
    relation.setCurrentIndex(relation.findData("near"))
    relation.activated.emit(relation.currentIndex())
    assert beds.bench.form.blocks["distance"].isVisible() and not beds.bench.form.blocks["edge"].isVisible()
    beds.fill("distance", "5")
    beds.settled()
    assert "names no unit" in beds.bench.form.blocks["distance"].wrong.text()
    session.add_step(make("first", "drop_repeats", ("load",), {}))
    beds.settled()
    fields = beds.bench.form.blocks["fields"].editor
    beds.click(fields.button)
    tick = next(a for a in fields.menu.actions() if a.text().startswith("kind"))
    beds.click(fields.menu, fields.menu.actionGeometry(tick).center())
    assert session.step().settings == {"fields": ["kind"]}


def test_a_coordinate_system_is_found_by_words(beds: Hand) -> None:
    session = beds.bench.session
    session.add_step(type(session.document.steps[0])("saved", "save", ("load",), {"to": "out/a.gpkg"}))
    beds.settled()
    beds.bench.form.focus_field("crs")
    editor = beds.bench.form.blocks["crs"].editor
    beds.click(editor.find_button)
    box = next(w for w in QApplication.topLevelWidgets() if type(w).__name__ == "CrsBox" and w.isVisible())
    beds.type("etrs89 laea", box.line)
    beds.until(lambda: box.list.count() and "EPSG:3035" in box.list.item(0).text())
    assert "EPSG:3035, in m" in box.about.text() and "Used in: Europe" in box.about.text() and "° N" in box.about.text()
    beds.keys("Return", box.line)
    assert session.step().settings["crs"] == "EPSG:3035"
    beds.click(editor.find_button)
    again = next(w for w in QApplication.topLevelWidgets() if type(w).__name__ == "CrsBox" and w.isVisible() and w is not box)
    beds.until(lambda: again.list.count())
    assert "EPSG:3035" in again.list.item(0).text()  # used lately
    beds.type("nowhere at all", again.line)
    beds.until(lambda: again.about.text() == "Nothing fits these words.")
    assert not again.ok.isEnabled()
    beds.keys("Esc", again)


def test_a_text_is_previewed_and_corrected_before_it_is_read(beds: Hand, tmp_path: Path) -> None:
    (tmp_path / "stations.txt").write_text("ST01; 47,2; -26,1\nST02; 47,3; -26,2\n")
    beds.click_source("stations.txt")
    beds.keys("Return", beds.bench.sources.tree)
    assert beds.steps() == ["load", "stations"] and beds.bench.session.step().use == "load_coordinates"
    preview = beds.bench.form._preview
    beds.until(lambda: preview.isVisible() and preview.table.columnCount() == 3)
    assert preview.words.text() == "stations.txt: semicolon between values, no header, decimal comma, utf-8."
    heads = [preview.table.horizontalHeaderItem(n).text() for n in range(3)]
    assert heads == ["1 · column_1", "2 · column_2 = x", "3 · column_3 = y"]
    beds.fill("names", "station, lat, lon")
    beds.until(lambda: preview.table.horizontalHeaderItem(2).text() == "3 · lon = x")
    beds.fill("crs", "EPSG:4326")
    beds.fill("x", "depth")
    beds.until(lambda: "there is no column 'depth'" in preview.words.text())
    beds.fill("x", "3")
    beds.settled()
    beds.run()
    assert beds.row("stations")["out"] == "2"


def test_several_sources_are_loaded_by_one_step(beds: Hand, tmp_path: Path) -> None:
    write(points({"n": [1]}, key="a"), tmp_path / "a.gpkg")
    write(points({"n": [1, 2]}, key="b"), tmp_path / "b.gpkg")
    tree = beds.bench.sources.tree
    beds.click_source("a.gpkg")
    QTest.mouseClick(tree.viewport(), Qt.MouseButton.LeftButton, CONTROL, tree.visualRect(beds.source("b.gpkg")).center())
    beds.keys("Return", tree)
    assert beds.bench.session.step().settings == {"files": ["a.gpkg", "b.gpkg"]}
    beds.settled()
    assert beds.row("load_2")["out"] == "3"


def test_a_geopackage_is_tidied_up(beds: Hand, tmp_path: Path) -> None:
    path = tmp_path / "store.gpkg"
    for name in ("a", "b", "c"):
        write(points({"n": [1]}, key=name), path)
    tree = beds.bench.sources.tree
    at = tree.visualRect(beds.source("store.gpkg")).center()
    tree.customContextMenuRequested.emit(at)
    action = next(a for a in beds.bench.sources.menu.actions() if "sections" in a.text())
    beds.click(beds.bench.sources.menu, beds.bench.sources.menu.actionGeometry(action).center())
    box = next(w for w in QApplication.topLevelWidgets() if type(w).__name__ == "StoreBox" and w.isVisible())
    beds.until(lambda: box.table.rowCount() == 3)
    box.table.item(0, 0).setText("b")
    beds.click(box.ok)
    beds.until(lambda: "there is a layer 'b' already" in box.wrong.text())
    box.table.item(0, 0).setText("marks")
    box.table.item(0, 1).setText("Field work")
    box.table.item(2, 3).setCheckState(Qt.CheckState.Checked)
    beds.click(box.ok)
    beds.until(lambda: [(e.name, e.section) for e in geopackage.entries(path)] == [("marks", "Field work"), ("b", "")])
    beds.source("store.gpkg", "marks")
