"""Parts of the pane about the map by themselves: the form of a style, the histogram, the list of layers, colours; and large
layers, whose groups are made beside the window's thread."""

from __future__ import annotations

from pathlib import Path

import geopandas as gpd
import numpy as np
import pyarrow as pa
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QColor
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QColorDialog
from pytestqt.qtbot import QtBot

from eskret.core.style.legend import legend_of
from eskret.core.style.style import CLASSES, ONE, VALUES, Style
from eskret.desktop.panes.scene_builder import FEW, Beside
from eskret.desktop.style_panel.histogram import Histogram
from eskret.desktop.style_panel.kept_list import KeptList
from eskret.desktop.style_panel.style_form import StyleForm
from eskret.desktop.style_panel.swatches import ColourButton, ramp_icon
from eskret.workflow.model.map_spec import OnMap
from tests.desktop.conftest import Hand
from tests.desktop.test_on_the_map import choose

TABLE = pa.table({"n": pa.array([1.0, 5.0, None, 9.0]), "d": ["a", "b", None, "c"], "t": ["x"] * 4})


@pytest.fixture
def form(qtbot: QtBot) -> StyleForm:
    made = StyleForm()
    qtbot.addWidget(made)
    made.resize(280, 600)
    made.show()
    return made


def shown(form: StyleForm, style: Style, breaks: tuple[float, ...] | None = (), kind: str = "area") -> list[Style]:
    """Show a style; what is said from there on goes into the list, each shown in its turn."""
    said: list[Style] = []

    def take(new: Style, what: str) -> None:
        assert what
        said.append(new)
        show(new)

    def show(style: Style) -> None:
        legend = legend_of(style, TABLE, style.breaks or breaks or ())
        form.show_style(style, TABLE, kind, legend, breaks, "#7DB6A3")

    form.changed.connect(take)
    show(style)
    return said


def visible(form: StyleForm) -> set[str]:
    return {name for name, (widget, _) in form._rows.items() if form._layout.isRowVisible(widget)}


def test_the_form_offers_what_fits_the_style_and_the_layer(form: StyleForm) -> None:
    said = shown(form, Style())
    assert visible(form) == {"by", "colour", "label", "width", "opacity"} and not said
    form.by.setCurrentIndex(form.by.findData(CLASSES))
    form.by.activated.emit(form.by.currentIndex())
    assert said[-1].by == CLASSES and said[-1].field == "n", "the first field of numbers"
    assert visible(form) >= {"field", "method", "count", "breaks", "ramp", "turned", "histogram"}
    assert [form.field.itemText(i) for i in range(form.field.count())] == ["n"], "only fields of numbers make classes"
    form.by.setCurrentIndex(form.by.findData(VALUES))
    form.by.activated.emit(form.by.currentIndex())
    assert said[-1].colours and [form.field.itemText(i) for i in range(form.field.count())] == ["n", "d", "t"]
    choose_data(form, "field", "d")
    assert list(said[-1].colours) == ["a", "b", "c"] and "values" in visible(form) and "histogram" not in visible(form)
    assert form.values.count() == 4, "and one line for those without a value"


def choose_data(form: StyleForm, name: str, value: str) -> None:
    box = getattr(form, name)
    box.setCurrentIndex(box.findData(value))
    box.activated.emit(box.currentIndex())


def test_points_have_a_size_and_what_is_not_here_is_said(form: StyleForm) -> None:
    said = shown(form, Style(CLASSES, field="gone"), kind="point")
    assert "size" in visible(form) and "no field 'gone' here" in form.note.text()
    assert form.field.currentText() == "gone (not here)"
    form.show_room(3, 40)
    assert form.room.text() == "3 of 40 labels in view have room. Come closer for more." and "room" in visible(form)
    form.show_room(40, 40)
    assert "room" not in visible(form)
    form.points.setFocus()
    for _ in range(3):
        QTest.keyClick(form.points, Qt.Key.Key_Up)
    assert said[-1].size == 3
    form.opacity.setValue(40)
    assert said[-1].opacity == 40 and form.opacity.text() == "40 %" and form.width_.text() == "as usual"


def test_classes_that_are_being_found_and_those_that_cannot_be(form: StyleForm) -> None:
    shown(form, Style(CLASSES, field="n"), None)
    assert form.note.text() == "Finding classes …"
    shown(form, Style(CLASSES, field="n", count=5), (1.0, 5.0))
    assert form.note.text() == "The values give 3 classes, not 5."
    said = shown(form, Style(CLASSES, field="n"), (5.0,))
    form.method.setCurrentIndex(form.method.findData("own"))
    form.method.activated.emit(form.method.currentIndex())
    assert said[-1].method == "own" and said[-1].breaks == (5,), "own breaks begin with those that are shown"
    for text, problem in (("5, x", "commas between them"), ("", "own breaks are not given")):
        form.breaks.setText(text)
        form.breaks.editingFinished.emit()
        assert problem in form.wrong.text() and said[-1].breaks == (5,)
    # what is being typed stays while the layer is drawn anew, and does not come along to another
    form.breaks.clear()
    QTest.keyClicks(form.breaks, "2, 4")
    again = (said[-1], TABLE, "area", legend_of(said[-1], TABLE, (5.0,)), (5.0,), "#7DB6A3")
    form.show_style(*again)
    assert form.breaks.text() == "2, 4"
    QTest.keyClick(form.breaks, Qt.Key.Key_Return)
    assert said[-1].breaks == (2, 4)
    QTest.keyClicks(form.breaks, ", 9")
    form.show_style(said[-1], TABLE.slice(0), "area", legend_of(said[-1], TABLE, (2.0, 4.0)), (2.0, 4.0), "#7DB6A3")
    assert form.breaks.text() == "2, 4, 9", "the same layer after a run"
    other = TABLE.append_column("more", TABLE.column("n"))
    form.show_style(said[-1], other, "area", legend_of(said[-1], other, (2.0, 4.0)), (2.0, 4.0), "#7DB6A3")
    assert form.breaks.text() == "2, 4"


@pytest.mark.parametrize("by", [ONE, VALUES, CLASSES])
def test_what_is_shown_says_nothing_by_itself(form: StyleForm, by: str) -> None:
    for field in ("", "n", "d", "gone"):
        for turned in (False, True):
            style = Style(by, field=field, turned=turned, label=field, size=4, width=2, opacity=70, count=4, ramp="slate")
            assert shown(form, style, (5.0,)) == []


def test_a_break_stays_between_its_neighbours_when_it_is_dragged(qtbot: QtBot) -> None:
    bars = Histogram()
    qtbot.addWidget(bars)
    bars.resize(300, 92)
    bars.show()
    bars.show_values(np.linspace(0, 100, 500), (20.0, 50.0), "tide", False)
    with qtbot.waitSignal(bars.breaks_dragged) as told:
        at = QPoint(round(bars._x(20.0)), 40)
        QTest.mousePress(bars, Qt.MouseButton.LeftButton, pos=at)
        QTest.mouseMove(bars, QPoint(290, 40))
        QTest.mouseRelease(bars, Qt.MouseButton.LeftButton, pos=QPoint(290, 40))
    low, high = told.args[0]
    assert 45 < low < high == 50
    QTest.mouseClick(bars, Qt.MouseButton.LeftButton, pos=QPoint(round(bars._x(80.0)), 40))
    assert bars.breaks == [pytest.approx(low, abs=0.3), 50.0], "where there is no break, nothing is dragged"
    bars.show_values(np.array([np.nan]), (), "tide", True)
    bars.grab()


def test_the_list_of_layers_by_keys(qtbot: QtBot) -> None:
    kept = KeptList()
    qtbot.addWidget(kept)
    kept.show()
    layers = [Beside(OnMap(step="s", layer=x, over=x == "a"), f"{x} · s") for x in "abc"]
    kept.show_layers([*layers, Beside(OnMap(file="f.gpkg"), "f", missing="no such file")], "hand")
    texts = [kept.list.item(n).text() for n in range(5)]
    assert texts == ["a · s", "hand · in hand", "b · s", "c · s", "f (no such file)"]
    told: list[list[OnMap]] = []
    kept.changed.connect(lambda entries, what: told.append(entries))
    kept.list.setCurrentRow(3)
    QTest.keyClick(kept, Qt.Key.Key_Up, Qt.KeyboardModifier.ControlModifier)
    assert [x.layer for x in told[-1]] == ["a", "c", "b", ""] and [x.over for x in told[-1]] == [True, False, False, False]
    kept.list.setCurrentRow(1)
    assert not kept.off.isEnabled(), "the layer in hand stays"
    QTest.keyClick(kept, Qt.Key.Key_Down, Qt.KeyboardModifier.ControlModifier)
    assert [x.over for x in told[-1]] == [True, True, False, False], "what comes to lie above it is over it"
    kept.list.setCurrentRow(0)
    kept.list.item(0).setCheckState(Qt.CheckState.Unchecked)
    assert told[-1][0].off
    QTest.keyClick(kept, Qt.Key.Key_Delete)
    assert len(told[-1]) == 3


def test_a_colour_is_asked_for(qtbot: QtBot) -> None:
    button = ColourButton("Colour of North")
    qtbot.addWidget(button)
    button.show_colour("", "#112233")
    assert "as usual" in button.toolTip()
    button.show()
    QTest.mouseClick(button, Qt.MouseButton.LeftButton)
    box = next(w for w in button.findChildren(QColorDialog) if w.isVisible())
    with qtbot.waitSignal(button.chosen) as told:
        box.setCurrentColor(QColor("#abcdef"))
        box.accept()
    assert told.args == ["#ABCDEF"]
    assert not ramp_icon("kelp", True).isNull()


def test_a_large_layer_is_put_into_groups_beside_the_windows_thread(hand: Hand, tmp_path: Path) -> None:
    rng = np.random.default_rng(3)
    count = FEW + 5_000
    points = gpd.points_from_xy(*rng.uniform(0, 10_000, (2, count)))
    frame = gpd.GeoDataFrame({"size": rng.gamma(2, 3, count), "kind": rng.choice(list("abc"), count)}, geometry=points, crs="EPSG:32626")
    frame.to_file(hand.bench.session.folder / "many.gpkg", layer="many")
    hand.bench.sources.refresh()
    hand.click_source("many.gpkg")
    viewer = hand.bench.viewer
    hand.until(lambda: viewer.subject.source and viewer.canvas.scene.pick is not None)
    hand.keys("F5", hand.bench)
    form = hand.bench.map_pane.form
    choose(hand, form.by, "By value")
    choose(hand, form.field, "kind")
    hand.until(lambda: len(viewer.canvas.scene.items) == 3)
    assert [k.count for k in viewer.canvas.scene.legend[0].keys] == frame.kind.value_counts().sort_index().tolist()
    choose(hand, form.by, "In classes")
    hand.until(lambda: len(viewer.canvas.scene.items) == 5)
    counts = [k.count for k in viewer.canvas.scene.legend[0].keys]
    assert counts == [count // 5] * 5, "five quantiles of different values hold as many each"
    hand.until(viewer.canvas.idle)
