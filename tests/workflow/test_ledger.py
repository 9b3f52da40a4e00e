"""The ledger's rows, the report and stored results: what every face shows is one and the same."""

from __future__ import annotations

import re
from html import unescape
from pathlib import Path

import numpy as np
import pyarrow as pa
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st

from eskret import Workflow
from eskret.core.accounts.account import SetAside
from eskret.core.layer import Layer
from eskret.core.words import strip_markup
from eskret.errors import DeliveryError
from eskret.operations.base import Outcome
from eskret.workflow.cache.results import LINE, POINT, RING, ResultStore, pieces_of
from eskret.workflow.cache.stored import StoredAside, StoredLayer
from eskret.workflow.faces import ledger
from eskret.workflow.faces.report import to_html, write_report
from eskret.workflow.model.document import Document, Step
from tests.conftest import points, squares


def test_rows_before_between_and_after(project: Path) -> None:
    workflow = Workflow.read(project)
    document = workflow.document
    bare = ledger.rows(document, {})
    assert [strip_markup(r.sentence) for r in bare] == [
        "Load *.gpx",
        "Keep *_waypoints where desc LIKE $kind || '%'",
        "Save chosen and *_tracks to survey.gpkg as {kind}_{layer}",
        "Save chosen to {layer}.geojson",
    ]
    assert all(r.layers is r.rows_in is r.rows_out is None and not r.state for r in bare)
    foretold = ledger.rows(document, {}, workflow.rehearse().steps)
    assert [(r.layers, r.rows_in, r.rows_out, r.planned) for r in foretold] == [
        (5, None, 12, True),
        (1, 3, 3, True),
        (2, 4, 4, True),
        (1, 3, 3, True),
    ]
    result = workflow.run()
    ran = ledger.rows(document, {s.id: s.to_json() for s in result.steps})
    assert [(r.layers, r.rows_in, r.rows_out, r.aside, r.state) for r in ran] == [
        (5, 13, 12, 1, "look"),
        (1, 3, 1, 2, "balanced"),
        (2, 2, 2, 0, "balanced"),
        (1, 1, 1, 0, "balanced"),
    ]
    assert all(r.rows_in == r.rows_out + r.aside for r in ran), "in = used + set aside, on every line"
    assert ran[1].children[0].reasons == (("does not meet the condition", 1), ("a field the condition asks for is empty", 1))
    # routes and tracks are not alike: their lengths stand with each, and are not added up
    lengths = [c.total for c in ran[0].children if c.total]
    assert ran[0].total == "" and len(lengths) == 2 and all(t.endswith(" km") for t in lengths) and len(ran[0].children) == 5
    assert strip_markup(ran[1].sentence).startswith("Keep marks_waypoints where")
    assert ledger.summary(ran) == "3 balanced, 1 to look at"
    mixed = ledger.rows(document, {"recordings": result.steps[0].to_json()}, workflow.rehearse().steps)
    assert [r.planned for r in mixed] == [False, True, True, True]


def test_unknown_operations_and_switched_off_steps_have_rows_too() -> None:
    document = Document(steps=(Step("a", "fly"), Step("b", "keep", ("a",), off=True, heading="H")))
    rows = ledger.rows(document, {})
    assert strip_markup(rows[0].sentence) == "fly, which is no operation known here"
    assert rows[1].off and rows[1].heading == "H" and strip_markup(rows[1].sentence) == "Keep a where …"


def test_totals_and_remarks_in_words() -> None:
    assert ledger.totals_text([{"name": "area", "unit": "ha", "value": 1867.2}]) == "1,867.2 ha"
    totals = [{"name": "length", "unit": "km", "value": 12.0}, {"name": "tonnes", "unit": "", "value": 4310.6}]
    assert ledger.totals_text(totals) == "12.0 km · tonnes 4,310.6"
    remarks = [{"text": "moved", "layer": k, "look": False} for k in ("a", "b")] + [{"text": "odd", "layer": "a", "look": True}]
    assert ledger.grouped_remarks([*remarks, {"text": "all", "layer": "", "look": False}]) == [
        ("2 layers: moved", False),
        ("a: odd", True),
        ("all", False),
    ]


def test_chosen_fields_are_control_totals(tmp_path: Path) -> None:
    from eskret import write

    write(squares(10), tmp_path / "a.gpkg", "beds")
    workflow = Workflow()
    workflow.path = tmp_path / "w.toml"
    workflow.keep("some", workflow.load("beds", files=["a.gpkg"], totals=["id"]), where="kind = 'a'", totals=["id"])
    result = workflow.run()
    assert result.state == "balanced", result.error
    assert ("id", 45.0, "") in result.steps[0].outputs[0].totals
    control = next(c for c in result.steps[1].outputs[0].controls if c.name == "id")
    assert (control.expected, control.found) == (20.0, 20.0)
    rows = ledger.rows(workflow.document, {s.id: s.to_json() for s in result.steps})
    assert rows[1].total == "0.05 ha · id 20"


def test_the_report_says_what_the_ledger_says(project: Path, tmp_path: Path) -> None:
    workflow = Workflow.read(project)
    result = workflow.run()
    page = to_html(workflow.document, result.to_json())
    text = unescape(re.sub(r"<[^>]+>", " ", page))
    for row in ledger.rows(workflow.document, {s.id: s.to_json() for s in result.steps}, values=result.values):
        assert " ".join(strip_markup(row.sentence).split()) in " ".join(text.split())
    for output in result.outputs:
        assert output.sha256 in page and str(output.path) in page
    assert "1 · does not meet the condition 1 · a field the condition asks for is empty" in " ".join(text.split())
    assert text.count("brought to WGS 84 / UTM zone 26N") == 1, "what five layers share is said once"
    assert "without a valid place, in line 8" in text
    assert not re.search(r"(src|href)\s*=|url\(|@import", page), "it needs nothing from elsewhere"
    with pytest.raises(DeliveryError, match="ends in .json or .html"):
        write_report(workflow.document, result.to_json(), tmp_path / "a.pdf", tmp_path)
    (tmp_path / "file").write_text("")
    with pytest.raises(DeliveryError, match="cannot be written"):
        write_report(workflow.document, result.to_json(), tmp_path / "file" / "a.html", tmp_path)


# -- results as arrays to draw from

coordinate = st.integers(-50, 50).map(float)
place = st.tuples(coordinate, coordinate)
line = st.lists(place, min_size=2, max_size=5).map(shapely.LineString)
area = st.tuples(place, st.floats(1, 9), st.floats(0.1, 0.8)).map(
    lambda t: shapely.Point(t[0]).buffer(t[1], 2).difference(shapely.Point(t[0]).buffer(t[1] * t[2], 2))
)
single = st.one_of(place.map(shapely.Point), line, area)
geometry = st.one_of(
    st.none(),
    single,
    st.lists(single, max_size=3).map(shapely.GeometryCollection),
    st.lists(area, max_size=3).map(shapely.union_all),
    st.lists(line, max_size=3).map(shapely.MultiLineString),
    st.lists(place, max_size=3).map(shapely.MultiPoint),
)


@given(st.lists(geometry, max_size=8))
def test_pieces_hold_every_vertex_and_their_areas_add_up(geometries: list) -> None:
    array = np.array([*geometries, None], dtype=object)[:-1]
    xy, starts, kinds, first = pieces_of(array)
    assert len(first) == len(array) + 1 and first[-1] == len(kinds) == len(starts) - 1
    assert len(xy) == shapely.get_num_coordinates(array).sum()
    for row, one in enumerate(array):
        pieces = range(first[row], first[row + 1])
        rings = [xy[starts[p] : starts[p + 1]] for p in pieces if kinds[p] == RING]
        # shells run one way and holes the other, so that signed areas add up to the area
        signed = sum(((r[:-1, 0] * r[1:, 1] - r[1:, 0] * r[:-1, 1]).sum() / 2) for r in rings)
        assert signed == pytest.approx(shapely.area(one) if one is not None else 0.0, abs=1e-6)
        length = sum(np.hypot(*np.diff(xy[starts[p] : starts[p + 1]], axis=0).T).sum() for p in pieces if kinds[p] == LINE)
        outline = sum(np.hypot(*np.diff(r, axis=0).T).sum() for r in rings)
        assert length + outline == pytest.approx(shapely.length(one) if one is not None else 0.0, abs=1e-6)
        assert all(starts[p + 1] - starts[p] == 1 for p in pieces if kinds[p] == POINT)


def test_rows_set_aside_are_stored_with_their_reasons(tmp_path: Path) -> None:
    from eskret.core.accounts.account import InputAccount

    store = ResultStore(tmp_path)
    layer = points({"a": [1, 2, 3]})
    aside = SetAside.from_reasons([("far", np.array([2])), ("near", np.array([0]))])
    outcome = Outcome((layer.take(np.array([1])),), (InputAccount("from", "points", 3, aside),))
    view = store.keep("step", [layer], [outcome])["view"]
    stored = StoredAside.open(view["aside"]["points"])
    assert stored.rows.tolist() == [0, 2] and [stored.reasons[c] for c in stored.codes] == ["near", "far"]
    assert StoredLayer(view["leaving"][0]).table.column("a").to_pylist() == [2]
    assert StoredLayer(view["entering"][0]).info["extent"] == layer.extent()


def test_a_layer_without_rows_or_with_nulls_only_can_be_stored(tmp_path: Path) -> None:
    store = ResultStore(tmp_path)
    for layer in (
        squares(1).take(np.empty(0, np.int64)),
        Layer("n", pa.table({"a": [1]}), np.array([None], dtype=object), "EPSG:32626"),
        Layer("w", pa.table({"a": [1]}), np.array([shapely.Point(1, 2)]), None),
    ):
        stored = StoredLayer(store.put(layer))
        assert stored.rows == len(layer) and stored.shapes is not None and len(stored.shapes) == len(layer)
        assert len(stored.table) == len(layer)
