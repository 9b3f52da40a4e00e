"""Text with coordinates: the layout found in many hands' files, angles in every writing, bad lines told by number."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pyarrow as pa
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st

from eskret import Workflow
from eskret.core.accounts.account import Relation
from eskret.errors import InputError
from eskret.formats import coordinates_text as texts
from eskret.operations.base import Context
from eskret.operations.gather.load_coordinates import LoadCoordinates
from eskret.workflow.run.step import prove


def layout(tmp_path: Path, body: str, encoding: str = "utf-8", **wish) -> texts.Layout:
    path = tmp_path / "t.txt"
    path.write_bytes(body.encode(encoding))
    return texts.layout_of(path, texts.Wish(**wish))


@pytest.mark.parametrize(
    ("body", "expected"),
    [
        ("id,x,y\n1,500,600\n2,501,601\n", (",", True, ".", "x", "y")),
        ("name\teasting\tnorthing\na\t500,5\t600,5\nb\t501,5\t1,5\n", ("\t", True, ",", "easting", "northing")),
        ("a;500,5;600,5\nb;501,5;601,5\n", (";", False, ",", "column_2", "column_3")),
        ("500.5 600.5 3\n501.5 601.5 4\n", (" ", False, ".", "column_1", "column_2")),
        ("47,23 -26,13\n47,24 -26,14\n", (" ", False, ",", "column_1", "column_2")),
        ("1 500.5 600.5\n2 501.5 601.5\n3 502.5 602.5\n", (" ", False, ".", "column_2", "column_3")),
        ("ST01, 47.2, -26.1, 14.2\nST02, 47.3, -26.2, 3\n", (",", False, ".", "column_2", "column_3")),
        ("Latitude,Longitude [deg],n\n47,-26,1\n48,-27,2\n", (",", True, ".", "Longitude [deg]", "Latitude")),
        ("x|y\n1|2\n", ("|", True, ".", "x", "y")),
        ("lat;lon\n47°14'14.8\"N;26°08'23\"W\n47 14 20 N;26 08 30 W\n", (";", True, ".", "lon", "lat")),
    ],
)
def test_the_layout_is_found(tmp_path: Path, body: str, expected: tuple) -> None:
    found = layout(tmp_path, body)
    assert (found.delimiter, found.header, found.decimal, found.columns[found.x], found.columns[found.y]) == expected


def test_what_is_said_overrules_what_is_found(tmp_path: Path) -> None:
    body = "a,1,2,3\nb,4,5,6\n"
    found = layout(tmp_path, body, x="3", y="column_2", z="4", header="no")
    assert (found.x, found.y, found.z) == (2, 1, 3)
    named = layout(tmp_path, body, names=("station", "lat", "lon"))
    assert named.columns == ("station", "lat", "lon", "column_4") and (named.x, named.y) == (2, 1)
    assert layout(tmp_path, body, header="yes").columns == ("a", "1", "2", "3")
    assert layout(tmp_path, "n\n1\n", header="").x == -1
    with pytest.raises(InputError, match="there is no column 'depth'. It has column_1"):
        layout(tmp_path, body, x="depth")
    assert layout(tmp_path, "x,y\n1,Ø\n", "cp1252").spelling.codec == "cp1252"


@pytest.mark.parametrize(
    ("text", "decimal", "degrees"),
    [
        ("47.5", ".", 47.5),
        ("-26,5", ",", -26.5),
        ("+3", ".", 3),
        ("1e3", ".", 1000),
        (" .5 ", ".", 0.5),
        ("47°30'N", ".", 47.5),
        ("26°30'36\"W", ".", -26.51),
        ("47 30 36 S", ".", -47.51),
        ("-26:30:36", ".", -26.51),
        ("N47 30.6", ".", 47.51),
        ("47d30'36\"", ".", 47.51),
        ("W 26.5", ".", -26.5),
        ("26.5°E", ".", 26.5),
        ("47° 30′ 36″ N", ".", 47.51),
        ("47 30,6 N", ",", 47.51),
    ],
)
def test_angles_in_every_writing(text: str, decimal: str, degrees: float) -> None:
    """36 seconds are a hundredth of a degree (common practice)."""
    assert texts.number(text, decimal) == pytest.approx(degrees, abs=1e-12)


@pytest.mark.parametrize("text", ["", "n/a", "47°75'N", "47 30 99", "N 47 S", "12 monkeys", "1,5", "--3", "nan", "inf"])
def test_what_is_no_coordinate(text: str) -> None:
    assert texts.number(text) is None


@given(st.floats(-180, 180), st.sampled_from(["{d}°{m}'{s}\"{h}", "{h}{d} {m} {s}", "{d}:{m}:{s}{h}"]))
def test_degrees_minutes_seconds_come_back(value: float, form: str) -> None:
    size = abs(value)
    degrees = int(size)
    minutes = int((size - degrees) * 60)
    seconds = max(0.0, (size - degrees - minutes / 60) * 3600)
    written = form.format(d=degrees, m=minutes, s=f"{min(seconds, 59.9999999999):.10f}", h="W" if value < 0 else "E")
    assert texts.number(written) == pytest.approx(value, abs=1e-8)


# -- the operation


def run(tmp_path: Path, body: str, workflow_crs: str | None = None, **settings):
    path = tmp_path / "t.txt"
    path.write_text(body, encoding="utf-8")
    operation = LoadCoordinates()
    given_ = operation.Settings(files=["t.txt"], **{"crs": "EPSG:32626", **settings})
    context = Context(tmp_path, "pts", crs=workflow_crs)
    outcome = operation.read(operation.parts(given_, context)[0], given_, context)[0]
    prove(outcome, Relation.NEW)
    forecast = operation.forecast(given_, context)
    assert [(f.key, f.count, f.kind) for f in forecast.layers] == [(x.key, len(x), x.kind) for x in outcome.layers]
    assert [f.schema() for f in forecast.layers] == [x.table.schema for x in outcome.layers]
    return outcome


def test_points_with_their_fields_and_bad_lines_set_aside(tmp_path: Path) -> None:
    body = "code,x,y,depth\n007,500000,5200000,3\n\n008,n/a,5200001,4\n009,500002,5200002\n010,500003,5200003,\n011,,1,2\n"
    outcome = run(tmp_path, body, z="depth", constants={"survey": "autumn", "code": "odd"})
    layer, account = outcome.layers[0], outcome.inputs[0]
    assert layer.table.to_pylist() == [
        {"code": "007", "depth": 3, "survey": "autumn", "code_2": "odd"},
        {"code": "010", "depth": None, "survey": "autumn", "code_2": "odd"},
    ]
    assert shapely.has_z(layer.geometry).tolist() == [True, False] and shapely.get_x(layer.geometry).tolist() == [500000, 500003]
    assert (account.rows, account.used, account.set_aside.rows.tolist()) == (5, 2, [1, 2, 4])
    said = next(r.text for r in outcome.remarks if "could not be read" in r.text)
    assert "line 4 'n/a' is no coordinate" in said and "line 5 has 3 values instead of 4" in said and "line 7 a coord" in said


RING = "name,no,x,y\nA,1,0,0\nA,3,10,10\nA,2,10,0\nB,1,0,0\nB,2,5,5\n,1,7,7\nA,,1,1\nA,4,0,10\nA,5,0,0\n"


def test_areas_by_group_in_their_order(tmp_path: Path) -> None:
    outcome = run(tmp_path, RING, shape="areas", group="name", order="no")
    layer, account = outcome.layers[0], outcome.inputs[0]
    assert shapely.area(layer.geometry).tolist() == [100] and layer.table.to_pylist() == [{"name": "A", "points": 5}]
    assert dict(account.set_aside.counts()) == {"has no name": 1, "has no no": 1, "too few different points for an area": 2}
    assert not any("closed" in r.text for r in outcome.remarks)
    open_ = run(tmp_path, "x,y\n0,0\n10,0\n10,10\n", shape="areas")
    assert any("1 ring closed" in r.text for r in open_.remarks) and shapely.area(open_.layers[0].geometry)[0] == 50


def test_lines_and_an_area_that_crosses_itself(tmp_path: Path) -> None:
    lines = run(tmp_path, RING, shape="lines", group="name", order="no")
    assert [round(v, 3) for v in shapely.length(lines.layers[0].geometry)] == [40, 7.071]
    bow = run(tmp_path, "x,y\n0,0\n10,10\n10,0\n0,10\n", shape="areas")
    assert any("not valid" in r.text and r.look for r in bow.remarks) and len(bow.layers[0]) == 1


@pytest.mark.parametrize(
    ("body", "crs", "workflow_crs", "says"),
    [
        ("x,y\n-26.1,47.2\n", "EPSG:32626", None, "the numbers look like degrees, and WGS 84 / UTM zone 26N is in m"),
        ("x,y\n560000,5200000\n", "EPSG:4326", None, "the numbers cannot be degrees"),
        ("x,y\n47.2,126.1\n", "EPSG:4326", None, "x and y seem to have changed places: latitude cannot be more than 90"),
        ("x,y\n47.2,-26.1\n47.3,-26.2\n", "EPSG:4326", "EPSG:32626", "x and y seem to have changed places"),
        ("x,y\n10,50\n", "EPSG:4326", "EPSG:32626", "outside the area where WGS 84 / UTM zone 26N is used"),
    ],
)
def test_numbers_that_cannot_be_what_they_should(tmp_path: Path, body: str, crs: str, workflow_crs: str | None, says: str) -> None:
    outcome = run(tmp_path, body, workflow_crs, crs=crs)
    assert any(says in r.text and r.look for r in outcome.remarks), [r.text for r in outcome.remarks]


def test_points_come_in_with_the_workflows_crs(tmp_path: Path) -> None:
    outcome = run(tmp_path, "lon,lat\n-27,47\n", "EPSG:32626", crs="EPSG:4326")
    # on the central meridian of zone 26 the easting is the false easting (EPSG Guidance Note 7-2, transverse Mercator)
    assert outcome.layers[0].crs == "EPSG:32626" and shapely.get_x(outcome.layers[0].geometry)[0] == pytest.approx(500_000)
    assert [r.text for r in outcome.remarks] == ["brought to WGS 84 / UTM zone 26N: UTM zone 26N; exact"]


@pytest.mark.parametrize(
    ("settings", "says"),
    [
        ({"crs": ""}, "'CRS of the coordinates' cannot be ''"),
        ({"x": "q"}, "there is no column 'q'"),
        ({"group": "isle", "shape": "lines"}, "there is no column 'isle'"),
        ({"files": ["gone.txt"]}, "no such file"),
    ],
)
def test_what_is_wrong_is_told_at_rehearsal(tmp_path: Path, settings: dict, says: str) -> None:
    (tmp_path / "t.txt").write_text("x,y\n1,2\n")
    workflow = Workflow()
    workflow.step("load_coordinates", "pts", **{"files": [str(tmp_path / "t.txt")], "crs": "EPSG:32626", **settings})
    assert says in workflow.rehearse().errors[0].text


def test_a_large_text_keeps_every_row(tmp_path: Path) -> None:
    xy = np.random.default_rng(3).uniform(0, 1e6, (20_000, 2)).round(3)
    body = "x;y;n\n" + "".join(f"{x:.3f};{y:.3f};{n}\n".replace(".", ",") for n, (x, y) in enumerate(xy))
    layer = run(tmp_path, body).layers[0]
    assert np.array_equal(shapely.get_coordinates(layer.geometry), xy) and layer.table.column("n").type == pa.int64()
