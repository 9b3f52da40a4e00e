"""GPX against the GPX 1.1 schema's rules and against gpxpy and GDAL as second and third readers."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path

import gpxpy
import numpy as np
import pyogrio
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st

from eskret.errors import InputError
from eskret.formats import gpx, sources


def test_every_part_that_holds_something(marks_file: Path) -> None:
    parts = gpx.read_parts(marks_file)
    assert {name: len(r.layer) for name, r in parts.items()} == {
        "waypoints": 3,
        "routes": 1,
        "route_points": 2,
        "tracks": 1,
        "track_points": 5,
    }
    assert all(r.layer.crs == "EPSG:4326" for r in parts.values())  # GPX: WGS 84, always


def test_fields_of_waypoints(marks_file: Path) -> None:
    table = gpx.read_parts(marks_file)["waypoints"].layer.table
    row = table.slice(0, 1).to_pylist()[0]
    assert row["desc"] == 'Pile 1, "oak" & O\'Brien' and row["ele"] == 3.5 and row["sym"] == "pile"
    assert row["time"] == datetime(2031, 9, 3, 10, 0, 0, 250_000, UTC)
    assert row["link"] == "http://example.org/a1"
    assert row["depth"] == 4.5  # an extension under its local name, as a number where all are
    # a zone is understood, and a time without one is UTC by the standard
    assert table.column("time")[1].as_py() == datetime(2031, 9, 3, 10, 0, tzinfo=UTC)
    assert gpx.parse_time("2031-09-03T10:00:00") == datetime(2031, 9, 3, 10, 0, tzinfo=UTC)
    assert table.column("desc")[2].as_py() is None


def test_a_point_off_the_earth_is_set_aside_with_its_line(marks_file: Path) -> None:
    reading = gpx.read_parts(marks_file)["waypoints"]
    assert reading.found == 4
    reason, rows = reading.set_aside[0]
    assert reason == "has no valid latitude and longitude" and rows.tolist() == [3]
    assert any("in line 8" in r.text and r.look for r in reading.remarks)


def test_segments_points_and_times_of_tracks(marks_file: Path) -> None:
    parts = gpx.read_parts(marks_file)
    track = parts["tracks"].layer
    assert track.geometry is not None
    assert shapely.get_num_geometries(track.geometry[0]) == 2  # the empty segment draws nothing
    assert any("1 empty track segment left out" in r.text for r in parts["waypoints"].remarks)
    row = track.table.to_pylist()[0]
    assert (row["segments"], row["points"]) == (3, 5)
    assert row["started"] == datetime(2031, 9, 3, 10, 0, tzinfo=UTC) and row["ended"].second == 5
    points = parts["track_points"].layer.table
    assert points.column("segment").to_pylist() == [1, 1, 3, 3, 3]
    assert points.column("point").to_pylist() == [1, 2, 1, 2, 3]
    assert points.column("ele").to_pylist() == [0.0, None, None, None, None]


@pytest.mark.parametrize("file", ["marks.gpx", "boat-a.gpx", "boat-b.gpx"])
def test_gpxpy_and_gdal_read_the_same(demo_master: Path, file: str) -> None:
    path = demo_master / "field" / "2031-09" / file
    other = gpxpy.parse(path.read_text(encoding="utf-8"))
    theirs = {
        "waypoints": other.waypoints,
        "route_points": [p for r in other.routes for p in r.points],
        "track_points": [p for t in other.tracks for s in t.segments for p in s.points],
    }
    parts = gpx.read_parts(path)
    for name, points in theirs.items():
        if not points:
            assert name not in parts
            continue
        layer = parts[name].layer
        assert layer.geometry is not None and len(layer) == len(points)
        np.testing.assert_array_equal(shapely.get_coordinates(layer.geometry), [(p.longitude, p.latitude) for p in points])
        assert layer.table.column("time").to_pylist() == [p.time for p in points]
        assert layer.table.column("ele").to_pylist() == [p.elevation for p in points]
        assert layer.table.column("desc").to_pylist() == [p.description for p in points]
        assert len(layer) == pyogrio.read_info(path, layer=name, force_feature_count=True)["features"]
    assert len(parts["tracks"].layer if "tracks" in parts else ()) == len(other.tracks)
    if other.tracks:
        _, wkb = pyogrio.read_arrow(path, layer="tracks")[1].select(["name", "wkb_geometry"]).columns
        lines = shapely.from_wkb(wkb.to_numpy(zero_copy_only=False))
        assert parts["tracks"].layer.geometry is not None
        assert shapely.equals_exact(parts["tracks"].layer.geometry, lines, 0.0).all()


coordinates = st.tuples(st.floats(-180, 180), st.floats(-90, 90))
text = st.text(st.characters(codec="utf-8", exclude_categories=("Cc", "Cs")), max_size=20)


@given(st.lists(st.tuples(coordinates, text), max_size=15))
def test_any_waypoints_come_back_as_written(tmp_path_factory: pytest.TempPathFactory, marks: list) -> None:
    document = gpxpy.gpx.GPX()
    for (lon, lat), desc in marks:
        document.waypoints.append(gpxpy.gpx.GPXWaypoint(lat, lon, description=desc or None))
    path = tmp_path_factory.mktemp("gpx") / "a.gpx"
    path.write_text(document.to_xml(), encoding="utf-8")
    parts = gpx.read_parts(path)
    if not marks:
        assert parts == {}
        return
    layer = parts["waypoints"].layer
    assert layer.geometry is not None
    np.testing.assert_allclose(shapely.get_coordinates(layer.geometry), [p for p, _ in marks], atol=1e-9)
    assert layer.table.column("desc").to_pylist() == [d if d.strip() else None for _, d in marks]


@pytest.mark.parametrize(
    ("content", "says"),
    [
        (b"", "the file is empty"),
        (b'<gpx version="1.1"><wpt lat="1" lon="2">', "not well-formed in line 1"),
        (b"<kml></kml>", "no GPX recording: it begins with <kml>"),
        (b"\x00\x01binary", "it is no text"),
        (
            b'<!DOCTYPE gpx [<!ENTITY a "aaaa"><!ENTITY b "&a;&a;&a;">]><gpx><wpt lat="1" lon="2"><name>&b;</name></wpt></gpx>',
            "declares a document type",
        ),
        (
            b'<!DOCTYPE gpx [<!ENTITY x SYSTEM "file:///etc/passwd">]><gpx><wpt lat="1" lon="2"><name>&x;</name></wpt></gpx>',
            "declares a document type",
        ),
    ],
)
def test_bad_recordings_are_told_in_a_sentence(tmp_path: Path, content: bytes, says: str) -> None:
    path = tmp_path / "bad.gpx"
    path.write_bytes(content)
    with pytest.raises(InputError) as caught:
        sources.look(path)
    assert says in caught.value.sentence() and str(path) in caught.value.sentence()


def test_odd_values_are_left_empty_and_told(tmp_path: Path) -> None:
    path = tmp_path / "odd.gpx"
    path.write_text(
        '<gpx><wpt lat="nan" lon="1"/><wpt lat="1"/><wpt lat="1" lon="2"><ele>deep</ele><time>yesterday</time></wpt>'
        '<wpt lat="1" lon="3"><ele>inf</ele></wpt><trk><trkseg><trkpt lat="1" lon="1"/></trkseg></trk></gpx>'
    )
    parts = gpx.read_parts(path)
    points = parts["waypoints"]
    assert points.found == 4 and points.set_aside[0][1].tolist() == [0, 1]
    assert points.layer.table.column("ele").to_pylist() == [None, None]
    assert any("2 values could not be read" in r.text and "'deep' in line 1" in r.text for r in points.remarks)
    assert parts["tracks"].layer.geometry is not None and parts["tracks"].layer.geometry[0] is None
    assert any("without a line to draw" in r.text for r in parts["tracks"].remarks)
