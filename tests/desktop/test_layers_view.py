"""A step layer by layer: settings of single layers in a sheet, and all names at once as they will be."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest
from PySide6.QtGui import QGuiApplication

from eskret.formats import geopackage
from tests.desktop.conftest import Hand


@pytest.fixture
def hand(make_hand: Callable[..., Hand], demo: Path) -> Hand:
    made = make_hand(demo / "harbour.toml")
    made.settled()
    return made


def cells(hand: Hand, key: str) -> list[str]:
    model = hand.bench.views.layers.model
    column = [c.key for c in model.columns].index(key)
    return [model.index(r, column).data() or "" for r in range(model.rowCount())]


def cell(hand: Hand, row: int, key: str) -> None:
    view = hand.bench.views.layers
    view.grid.setCurrentIndex(view.model.index(row, [c.key for c in view.model.columns].index(key)))
    view.grid.setFocus()


def test_names_are_seen_as_they_are_typed_and_single_ones_set(hand: Hand, demo: Path) -> None:
    hand.click_step("deliver")
    assert hand.bench.form.by_layer is not None
    hand.click(hand.bench.form.by_layer)
    view, session = hand.bench.views.layers, hand.bench.session
    assert view.isVisible() and cells(hand, " name")[0] == "inside_lease_beds" and view.names_say.text() == "All names are good."
    view.template.setFocus()
    hand.keys("Ctrl+A", view.template)
    hand.type("Beds of {step}", view.template)
    assert cells(hand, " filled")[0] == "Beds of inside" and [c.removeprefix("■ ") for c in cells(hand, " name")[:2]] == [
        "beds_of_inside",
        "beds_of_inside_2",
    ]
    assert "2 come out the same" in view.names_say.text() and "numbered" in cells(hand, " note")[1]
    hand.type("{what}", view.template)
    assert "stands for nothing here" in view.names_say.text()
    for _ in "{what}":
        hand.keys("Backspace", view.template)
    hand.keys("Return", view.template)
    assert session.document.step("deliver").settings["name"] == "Beds of {step}"
    cell(hand, 1, "name")
    QGuiApplication.clipboard().setText("Moorings {limit}\nWater")
    hand.keys("Ctrl+V", view.grid)
    assert session.document.step("deliver").layer == {"moorings": {"name": "Moorings {limit}"}, "limits": {"name": "Water"}}
    assert cells(hand, " name")[:3] == ["beds_of_inside", "moorings_2031", "water"]
    assert view.names_say.text() == "All names are good."
    hand.keys("Down", view.grid)
    hand.keys("Delete", view.grid)
    assert list(session.document.step("deliver").layer) == ["moorings"]
    hand.keys("Ctrl+Z", hand.bench)
    hand.until(lambda: list(session.document.step("deliver").layer) == ["moorings", "limits"])
    hand.keys("Ctrl+L", hand.bench)
    assert hand.bench.form.by_layer is not None and "2 layers with settings of their own" in hand.bench.form.by_layer.text()
    hand.settled()
    hand.run()
    names = geopackage.layer_list(demo / "out" / "harbour.gpkg")
    assert {"beds_of_inside", "moorings_2031", "water"} <= set(names)


def test_settings_of_single_layers_are_checked_in_their_cell(hand: Hand) -> None:
    hand.click_step("inside")
    hand.keys("Ctrl+L", hand.bench)
    view, session = hand.bench.views.layers, hand.bench.session
    assert cells(hand, " layer") == ["lease_beds", "moorings"] and cells(hand, "sliver") == ["10 m2", "10 m2"]
    cell(hand, 0, "sliver")
    QGuiApplication.clipboard().setText("many")
    hand.keys("Ctrl+V", view.grid)
    assert session.document.step("inside").layer == {"lease_beds": {"sliver": "many"}}
    hand.until(lambda: cells(hand, "sliver")[0].startswith("■"))
    view.grid.clearSelection()
    cell(hand, 0, "sliver")
    QGuiApplication.clipboard().setText("1 ha")
    hand.keys("Ctrl+V", view.grid)
    hand.settled()
    hand.until(lambda: cells(hand, "sliver")[0] == "1 ha")
    hand.type("moor", view.search)
    assert cells(hand, " layer") == ["moorings"]
    hand.keys("Ctrl+L", hand.bench)
    hand.run()
    # beds of less than a hectare after the cut are set aside now, moorings as before
    assert int(hand.row("inside")["out"]) < 33
    hand.click_step("limits")
    hand.keys("Ctrl+L", hand.bench)
    assert "sees the whole set at once" in hand.banner() and not view.isVisible()
