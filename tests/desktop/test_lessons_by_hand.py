"""Lessons of the demo done again from nothing, by mouse and keyboard: what comes out is what the lesson's file makes."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pyarrow.compute as pc
import pytest
from PySide6.QtCore import QPoint
from PySide6.QtWidgets import QApplication

from eskret import Layer, Workflow, read
from tests.desktop.conftest import Hand
from tests.desktop.test_second_lesson import add, choose, load, tick


@pytest.fixture
def blank(make_hand: Callable[..., Hand], demo: Path) -> Hand:
    """The window on the demo's folder with a new workflow in the CRS of its lessons."""
    lessons = demo / "lessons"
    lessons.mkdir()
    for workflow in demo.glob("*.toml"):
        workflow.rename(lessons / workflow.name)
    hand = make_hand(demo)
    hand.bench.boxes.edit_heads()
    box = next(w for w in QApplication.topLevelWidgets() if type(w).__name__ == "HeadsBox" and w.isVisible())
    hand.type("EPSG:32626", box.lines["crs"])
    hand.click(box.ok)
    return hand


def check(hand: Hand, name: str, value: str = "") -> None:
    """Click a box of the form: a setting's own, or that of one of its values."""
    editor = hand.bench.form.blocks[name].editor
    box = editor.boxes[value] if value else editor.box  # type: ignore[attr-defined]
    before = hand.bench.session.document
    hand.click(box, QPoint(8, box.height() // 2))
    hand.until(lambda: hand.bench.session.document != before)


def field_of(hand: Hand, name: str, text: str) -> None:
    """Type the name of a field, whether the box offers it or not."""
    editor = hand.bench.form.blocks[name].editor
    line = editor.box.lineEdit() if hasattr(editor, "box") else editor.line  # type: ignore[attr-defined]
    before = hand.bench.session.document
    line.setFocus()
    hand.keys("Ctrl+A", line)
    hand.type(text, line)
    hand.keys("Return", line)
    hand.until(lambda: hand.bench.session.document != before)


def lesson(demo: Path, name: str) -> dict[str, dict[str, Layer]]:
    """What a lesson's own file makes, by step and key."""
    (demo / "lessons" / name).rename(demo / name)
    result = Workflow.read(demo / name).run(hold=True)
    return {id: {layer.key: layer for layer in layers} for id, layers in result.layers.items()}


def sums(layer: Layer, field: str) -> float:
    return float(pc.sum(layer.table.column(field)).as_py())


def test_close_the_breakwater(blank: Hand, demo: Path) -> None:
    hand, session = blank, blank.bench.session
    register = load(hand, ("register", "breakwater.shp"), ("chart", "soundings.fgb"))
    gaps = add(hand, "loose ends")
    tick(hand, f"{register}: all", "breakwater")
    hand.run()
    assert hand.row(gaps)["out"] == "1" and hand.row(gaps)["state"] == "look"
    remarks = [r["text"] for r in session.results[gaps]["remarks"]]
    assert "a tolerance of 1.0 m would close 1 of 1" in remarks
    closed = add(hand, "outline into area", tolerance="1 m")
    tick(hand, f"{gaps}: all", "breakwater")
    valid = add(hand, "all valid")
    choose(hand, "that", "valid")
    behind = add(hand, "in the area")
    tick(hand, f"{valid}: all", "soundings")
    tick(hand, f"{closed}: ", field="to")
    choose(hand, "relation", "within")
    cells = add(hand, "hexagons", size="4 km")
    tick(hand, f"{behind}: all", f"{valid}: all")
    choose(hand, "shape", "hexagon")
    depths = add(hand, "how many lie in each", figures="mean_depth = mean depth_m\ndeepest = max depth_m")
    field_of(hand, "field", "soundings")
    tick(hand, f"{behind}: ", field="other")
    add(hand, "export", to="out/mine.gpkg", name="{step}")
    tick(hand, f"{gaps}: all", f"{valid}: all")
    hand.settled()
    hand.run()
    assert all(hand.row(id)["state"] in ("balanced", "look") for id in hand.steps()), hand.banner()
    theirs = lesson(demo, "breakwater.toml")
    assert int(hand.row(behind)["out"].replace(",", "")) == len(theirs["sheltered"]["soundings"])
    assert int(hand.row(cells)["out"]) == len(theirs["cells"]["breakwater"])
    mine = read(demo / "out" / "mine.gpkg", depths)
    of = theirs["depths"]["breakwater"]
    assert sums(mine, "soundings") == sums(of, "soundings") and sums(mine, "deepest") == sums(of, "deepest")
    assert read(demo / "out" / "mine.gpkg", valid).extent() == theirs["valid"]["breakwater"].extent()
    assert read(demo / "out" / "mine.gpkg", gaps).table.column("gap_m")[0].as_py() == pytest.approx(0.47, abs=0.005)


def test_beds_of_the_harbour(blank: Hand, demo: Path) -> None:
    hand, session = blank, blank.bench.session
    register = load(hand, ("register", "register.gpkg"), ("chart", "harbour.gpkg"), ("chart", "islands.geojson"))
    basin = add(hand, "erase", sliver="100 m2")
    tick(hand, f"{register}: all", "harbour_limit_2031")
    tick(hand, "harbour_limit_2029", field="by")
    inside = add(hand, "cut out", sliver="10 m2")
    tick(hand, f"{basin}: all", "lease_beds", "moorings")
    tick(hand, "harbour_limit_2031", field="to")
    licences = add(hand, "one feature per value", figures="beds = count\ntonnes = sum tonnes")
    tick(hand, f"{inside}: all", "lease_beds")
    tick(hand, "licence", field="by")
    areas = add(hand, "hectares")
    check(hand, "what", "area")
    districts = add(hand, "one layer per district")
    tick(hand, f"{areas}: all", "lease_beds")
    tick(hand, "district", field="by")
    whole = add(hand, "how many")
    hand.settled()
    assert not session.forecast.errors, [f.text for f in session.forecast.errors]
    hand.run()
    theirs = lesson(demo, "harbour.toml")
    assert hand.row(basin)["out"] == "1"
    assert int(hand.row(inside)["out"]) == sum(len(x) for x in theirs["inside"].values())
    made = hand.bench.session.leaving_stored(licences)[0]
    assert made.rows == len(theirs["by_licence"]["lease_beds"])
    assert pc.sum(made.table.column("tonnes")).as_py() == sums(theirs["by_licence"]["lease_beds"], "tonnes")
    measured = hand.bench.session.leaving_stored(areas)[0]
    assert pc.sum(measured.table.column("area_ha")).as_py() == pytest.approx(sums(theirs["areas"]["lease_beds"], "area_ha"))
    # a split is one row of the ledger that opens into its layers, and the set goes on through later steps
    assert [x.key for x in session.leaving_stored(districts)] == list(theirs["split"])
    assert hand.row(districts)["out"] == "412" and len(session.results[whole]["inputs"]) == 5
    hand.click_step(districts)
    hand.keys("Return", hand.bench.ledger)
    hand.until(lambda: hand.bench.ledger.isExpanded(hand.bench.ledger.model().index_of(districts)))  # type: ignore[attr-defined]
    index = hand.bench.ledger.model().index_of(districts)  # type: ignore[attr-defined]
    assert hand.bench.ledger.model().rowCount(index) == 1 + len(theirs["split"]) == 6, "what enters, and what is made of it"


def test_how_fast_the_boats_were(blank: Hand, demo: Path) -> None:
    hand, session = blank, blank.bench.session
    field = load(hand, ("field / 2031-09", "boat-a.gpx"), ("field / 2031-09", "boat-b.gpx"))
    hand.fill("zone", "Atlantic/Azores")
    check(hand, "together")
    lines = add(hand, "points into lines", gap_time="5 min")
    field_of(hand, "order", "time")
    tick(hand, f"{field}: all", "track_points")
    tick(hand, "file ", "track ", field="by")
    legs = add(hand, "speed", pause="1 kn")
    field_of(hand, "time", "time")
    tick(hand, f"{lines}: all", "track_points")
    tick(hand, "file ", "track ", field="by")
    choose(hand, "unit", "kn")
    strip = add(hand, "buffer", distance="150 m")
    tick(hand, f"{legs}: all", f"{lines}: all")
    hand.settled()
    assert not session.forecast.errors, [f.text for f in session.forecast.errors]
    hand.run()
    theirs = lesson(demo, "tracks.toml")
    mine = {id: session.leaving_stored(id)[0] for id in (lines, legs, strip)}
    assert mine[lines].rows == len(theirs["lines"]["track_points"])
    assert mine[legs].rows == len(theirs["legs"]["track_points"])
    for name in ("leg_m", "leg_s"):
        assert pc.sum(mine[legs].table.column(name)).as_py() == pytest.approx(sums(theirs["legs"]["track_points"], name))
    assert mine[strip].rows == len(theirs["strip"]["track_points"])
    hand.click_step(legs)
    hand.until(lambda: hand.bench.viewer.canvas.scene.legend)
    assert hand.bench.viewer.canvas.scene.legend[0].about == "speed_kn"


def test_quarterly_returns(blank: Hand, demo: Path) -> None:
    hand, session = blank, blank.bench.session
    register = load(hand, ("register", "register.gpkg"), ("register", "landings_2031.csv"))
    unique = add(hand, "must be unique")
    choose(hand, "that", "unique")
    tick(hand, f"{register}: all", "lease_beds")
    tick(hand, "lease ", field="fields")
    landed = add(hand, "join table")
    field_of(hand, "key", "lease")
    tick(hand, "landings_2031", field="table")
    tick(hand, "tonnes", field="fields")
    for name in ("blanks", "case"):
        check(hand, "alike", name)
    choose(hand, "several", "sum")
    named = add(hand, "rename", rename="tonnes = quota\ntonnes_2 = landed")
    areas = add(hand, "hectares")
    check(hand, "what", "area")
    rate = add(hand, "compute", value="round(landed / area_ha, 2)")
    field_of(hand, "field", "landed_per_ha")
    totals = add(hand, "summarise", figures="beds = count\nlanded = sum landed")
    tick(hand, "district", field="by")
    hand.settled()
    assert not session.forecast.errors, [f.text for f in session.forecast.errors]
    hand.run()
    assert all(hand.row(id)["state"] in ("balanced", "look") for id in (unique, landed, named, areas, rate, totals))
    theirs = lesson(demo, "returns.toml")
    mine = {id: session.leaving_stored(id)[0].table for id in (rate, totals)}
    assert mine[rate].column("landed_per_ha").to_pylist() == theirs["yield"]["lease_beds"].table.column("landed_per_ha").to_pylist()
    of = next(iter(theirs["by_district"].values())).table
    assert dict(zip(*mine[totals].select(["district", "landed"]).to_pydict().values(), strict=True)) == dict(
        zip(*of.select(["district", "landed"]).to_pydict().values(), strict=True)
    )
