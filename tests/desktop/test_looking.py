"""Looking at what steps did: altered features, leftovers of a table, a gap too small to be seen, first values."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pyarrow as pa
import shapely
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from eskret import write
from eskret.core.layer import Layer
from eskret.desktop.ledger.ledger_model import STEP
from tests.desktop.conftest import Hand


def open_and_run(hand: Hand, path: Path) -> None:
    hand.bench.files.open_path(path)
    hand.settled()
    hand.run()


def choose_layer(hand: Hand, key: str) -> None:
    box = hand.bench.viewer.layer_box
    box.setFocus()
    box.setCurrentIndex(box.findData(key))
    box.activated.emit(box.currentIndex())


def test_both_sides_of_a_join_and_the_fields_of_its_table(hand: Hand, demo: Path) -> None:
    open_and_run(hand, demo / "returns.toml")
    viewer = hand.bench.viewer
    hand.click_step("landed")
    hand.until(lambda: viewer.key == "lease_beds")
    hand.keys("Alt+4", hand.bench)
    model = viewer.table.model_
    assert viewer.view == "altered" and model.rowCount() == 200 and model.value(0, 1) == "no row of the table has its key"
    assert viewer.buttons["altered"].isVisible() and viewer.buttons["altered"].text() == "Altered 200"
    choose_layer(hand, "landings_2031")
    hand.keys("Alt+3", hand.bench)
    assert model.rowCount() == 24 and {model.value(r, 1) for r in range(24)} == {"no feature has its key"}
    # both sides stand in one list: from the rows without a bed to the beds without a row, and back
    reasons = viewer.asidebar.box
    assert [reasons.itemText(n) for n in range(reasons.count())] == [
        "all 24",
        "24 · no feature has its key",
        "lease_beds: 200 · no row of the table has its key",
    ]
    reasons.setFocus()
    hand.keys("End", reasons)
    hand.until(lambda: (viewer.view, viewer.key, model.rowCount()) == ("altered", "lease_beds", 200))
    # the form offers the fields of the table, not those of the layer that enters
    editor = hand.bench.form.blocks["fields"].editor
    editor.fill()  # type: ignore[attr-defined]
    assert [a.text().split()[0] for a in editor.menu.actions()] == ["lease", "tonnes", "quarter"]  # type: ignore[attr-defined]
    # an expression shows what it gives for the first rows
    hand.click_step("yield")
    value = hand.bench.form.blocks["value"].editor
    hand.until(lambda: value.count.text().startswith("Gives number: "))  # type: ignore[attr-defined]
    hand.fill("value", "landed / area_ha + nothing")
    hand.until(lambda: "there is no field 'nothing'" in hand.bench.form.blocks["value"].wrong.text())


def test_a_gap_of_half_a_metre_is_shown_when_its_row_is_chosen(hand: Hand, demo: Path) -> None:
    open_and_run(hand, demo / "breakwater.toml")
    viewer = hand.bench.viewer
    hand.click_step("gaps")
    hand.until(lambda: viewer.canvas.idle() and viewer.view == "leaving")
    before = viewer.canvas.view.scale
    table = viewer.table
    QTest.mouseClick(table.viewport(), Qt.MouseButton.LeftButton, pos=table.visualRect(table.model_.index(0, 1)).center())
    hand.until(lambda: viewer.canvas.view.scale > 1000 * before)
    (west, south, east, north) = viewer.canvas.view.box
    assert east - west < 10 and north - south < 10, "some metres are in view"
    hand.click_step("closed")
    hand.keys("Alt+4", hand.bench)
    assert viewer.table.model_.value(0, 1) == "moved to close a gap: 0.235 m"


def test_where_it_matters_is_gone_to_one_after_another(make_hand: Callable[..., Hand], tmp_path: Path) -> None:
    """From the ledger's note to the overlap of each area, far smaller than the area, and to the fault of an invalid one."""
    shapes = [shapely.box(1000 * n, 0, 1000 * n + 1000 + 2 * (n % 2), 1000) for n in range(6)]
    bow = shapely.Polygon([(0, 3000), (900, 3900), (900, 3000), (0, 3900)])
    write(Layer("beds", pa.table({"bed": range(7)}), np.array([*shapes, bow]), "EPSG:32626"), tmp_path / "beds.gpkg", "beds")
    (tmp_path / "w.toml").write_text(
        'eskret = 1\n[[steps]]\nid = "a"\nuse = "load"\nfiles = ["beds.gpkg"]\n'
        '[[steps]]\nid = "sure"\nuse = "check"\nfrom = "a"\nthat = "overlaps"\notherwise = "look"\n'
        '[[steps]]\nid = "sound"\nuse = "make_valid"\nfrom = "sure"\n'
    )
    hand = make_hand(tmp_path)
    open_and_run(hand, tmp_path / "w.toml")
    viewer, ledger = hand.bench.viewer, hand.bench.ledger
    hand.click_step("sure")
    hand.until(lambda: viewer.canvas.idle())
    model = ledger.model()
    note = next(i for r in range(model.rowCount()) if "2 pairs of areas lie" in str((i := model.index(r, STEP)).data()))
    ledger.scrollTo(note)
    QTest.mouseClick(ledger.viewport(), Qt.MouseButton.LeftButton, pos=ledger.visualRect(note).center())
    assert viewer.view == "altered" and viewer.table.model_.rowCount() == 4
    seen = []
    for _ in range(4):
        (west, south, east, north) = viewer.canvas.view.box
        (row,) = viewer.chosen.tolist()
        assert west < 1000 * (row + row % 2) + 1 < east and south < 500 < north, "the overlap is in the middle of the map"
        seen.append(row)
        hand.keys("Alt+Right", hand.bench)
    assert seen == [1, 2, 3, 4] and viewer.chosen.tolist() == [1]
    hand.click_step("sound")
    hand.keys("Alt+4", hand.bench)
    hand.keys("Alt+Right", hand.bench)
    (west, south, east, north) = viewer.canvas.view.box
    assert viewer.chosen.tolist() == [6] and west < 450 < east and south < 3450 < north and north - south < 900
    # what is chosen otherwise has no ring
    ringed = viewer.canvas.grab().toImage()
    hand.keys("Escape", viewer.canvas)
    hand.until(lambda: viewer.canvas.idle() and viewer.canvas.grab().toImage() != ringed)
