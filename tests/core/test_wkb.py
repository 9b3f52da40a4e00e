"""Geometry kept as binary: the same answers as from the shapes, which are made only when somebody asks."""

from __future__ import annotations

import pickle
import subprocess
import sys
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyogrio
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st

from eskret import read, write
from eskret.core.accounts.account import Relation
from eskret.core.geometry.predicates import Predicate as Place
from eskret.core.geometry.predicates import matches_predicate, points_match
from eskret.core.layer import GeometryColumn, GeometryKind, Layer
from eskret.core.layer.wkb import WkbArray, decode
from eskret.core.measure.totals import measured_total
from eskret.errors import InputError
from eskret.formats import vector
from tests.conftest import squares

SHAPES = [shapely.Point(1, 2), None, shapely.LineString([(0, 0), (1, 1)]), shapely.box(0, 0, 2, 2).buffer(1), shapely.Point()]


BINARY = pa.binary()


def binary(shapes: list, kind: pa.DataType = BINARY) -> pa.ChunkedArray:
    values = [None if s is None else shapely.to_wkb(s, byte_order=1) for s in shapes]
    half = len(values) // 2
    return pa.chunked_array([pa.array(values[:half], kind), pa.array(values[half:], kind)])


@pytest.mark.parametrize("kind", [pa.binary(), pa.large_binary()])
def test_decoding_is_the_librarys(kind: pa.DataType) -> None:
    column = binary(SHAPES, kind).combine_chunks()
    column = column.chunk(0) if isinstance(column, pa.ChunkedArray) else column
    for part, expected in ((column, SHAPES), (column.slice(1, 3), SHAPES[1:4]), (column.slice(5), [])):
        found = decode(part)
        assert len(found) == len(expected) and all(a is b or a.equals(b) for a, b in zip(found, expected, strict=True))


number = st.floats(-1e6, 1e6).map(lambda v: round(v, 3))
lines = st.lists(st.tuples(number, number), min_size=2, max_size=9).map(shapely.LineString)
boxes = st.builds(lambda x, y, w, h: shapely.box(x, y, x + 1 + abs(w), y + 1 + abs(h)), number, number, number, number)
holed = boxes.map(lambda b: b.difference(shapely.affinity.scale(b, 0.5, 0.5)) if b.area > 0 else b)
spots = st.builds(shapely.Point, number, number)


@given(st.one_of(st.lists(lines, max_size=8), st.lists(st.one_of(boxes, holed), max_size=8), st.lists(spots, max_size=8)), st.randoms())
def test_bounds_sizes_and_kinds_are_those_of_the_shapes(shapes: list, random) -> None:
    encoded = WkbArray.from_arrow(binary(shapes))
    assert encoded is not None and len(encoded) == len(shapes)
    array = np.array([*shapes, None], object)[:-1]
    layer, other = (
        Layer("l", pa.table({"n": range(len(shapes))}), crs="EPSG:32626", **more) for more in ({"geometry": encoded}, {"geometry": array})
    )
    assert not shapes or layer.kind == other.kind
    assert (layer.extent() or ()) == pytest.approx(other.extent() or ())
    a, b = measured_total(layer), measured_total(other)
    assert (a is None) == (b is None) or not shapes
    if a and b:
        assert a[0] == b[0] and a[1] == pytest.approx(b[1], rel=1e-9, abs=1e-9)
    if shapes:
        assert layer.undecoded is encoded, "nobody asked for a shape yet"
        rows = np.array([random.randrange(len(shapes)) for _ in range(5)])
        taken = layer.take(rows)
        assert taken.wkb is not None and shapely.equals_identical(taken.geometry, array[rows]).all()
        assert encoded.bounds() == pytest.approx(shapely.bounds(array))
    assert shapely.equals_identical(layer.geometry, array).all() and layer.geometry is layer.geometry


def test_a_layer_lets_go_of_the_binary_when_its_shapes_are_others() -> None:
    encoded = WkbArray.from_arrow(binary([shapely.Point(0, 0), shapely.Point(1, 1)]))
    layer = Layer("l", pa.table({"n": [1, 2]}), geometry=encoded, crs="EPSG:32626")
    from dataclasses import replace

    assert layer.has_geometry and layer.with_key("k").undecoded is encoded
    assert replace(layer, name="other").undecoded is encoded, "nothing was made by changing something else"
    moved = replace(layer, geometry=shapely.transform(layer.geometry, lambda c: c + 1))
    assert moved.wkb is None and shapely.get_x(moved.geometry).tolist() == [1, 2]
    with pytest.raises(ValueError, match="2 geometries for 1 rows"):
        Layer("l", pa.table({"n": [1]}), geometry=encoded)
    with pytest.raises(ValueError, match="read-only"):
        layer.geometry[0] = None


@pytest.mark.parametrize("shape", [shapely.Point(1, 2, 3), None, shapely.GeometryCollection([shapely.Point(0, 0)])])
def test_other_binary_is_decoded_at_once(shape: shapely.Geometry | None) -> None:
    assert WkbArray.from_arrow(binary([shape, shapely.Point(0, 0)])) is None
    assert WkbArray.from_arrow(pa.chunked_array([pa.array([shapely.to_wkb(shapely.Point(0, 0), byte_order=0)])])) is None
    assert WkbArray.from_arrow(pa.chunked_array([pa.array([b"\x01"])])) is None


def test_damage_is_found_when_the_shapes_or_their_sizes_are_asked_for(tmp_path: Path) -> None:
    good = shapely.to_wkb(shapely.box(0, 0, 1, 1), byte_order=1)
    for bad in (good[:-8], good[:9] + b"\xff\xff\xff\x0f" + good[13:], good + b"more"):
        encoded = WkbArray.from_arrow(pa.chunked_array([pa.array([good, bad])]))
        assert encoded is not None and encoded.sizes is None and encoded.bounds() is None
    layer = Layer("beds", pa.table({"n": [1]}), geometry=WkbArray.from_arrow(pa.chunked_array([pa.array([good[:-8]])])), origin="a.gpkg")
    with pytest.raises(InputError, match="a.gpkg: a geometry of 'beds' is damaged"):
        layer.geometry  # noqa: B018


@given(
    st.lists(st.tuples(st.integers(-1, 11), st.integers(-1, 11)), max_size=30),
    st.sampled_from(["intersects", "within", "disjoint"]),
    st.booleans(),
)
def test_points_are_told_by_their_coordinates(xy: list, relation: str, edge: bool) -> None:
    """As by the shapes, edges and corners included."""
    areas = np.array([shapely.box(0, 0, 5, 10), shapely.box(5, 0, 10, 10).difference(shapely.box(6, 6, 8, 8)), None], object)
    at = np.array(xy, float).reshape(-1, 2)
    expected = matches_predicate(shapely.points(at), areas, Place(relation), edge=edge)
    assert points_match(at, areas, Place(relation), edge=edge).tolist() == expected.tolist()
    assert points_match(at, np.array([shapely.Point(0, 0)], object), Place(relation)) is None
    assert points_match(at, areas, Place.TOUCHES) is None and Relation.KEPT == "kept"


def test_nothing_is_decoded_between_reading_and_writing(tmp_path: Path) -> None:
    path = tmp_path / "a.gpkg"
    write(squares(25_000), path)
    layer = vector.read(path, "squares", "squares").layer
    assert layer.wkb is not None and measured_total(layer) == ("area", pytest.approx(250), "ha")
    write(layer, tmp_path / "b.gpkg")
    assert layer.undecoded is not None
    back = vector.read(tmp_path / "b.gpkg", "squares", "squares").layer
    assert shapely.equals_identical(back.geometry, squares(25_000).geometry).all()


def test_features_keep_the_numbers_of_their_source(tmp_path: Path) -> None:
    path = tmp_path / "a.gpkg"
    pyogrio.write_dataframe(pyogrio.read_dataframe(_three(tmp_path)), path, layer="a")
    layer = vector.read(path, "a", "a").layer
    assert layer.ids is not None and layer.ids.tolist() == [1, 2, 3]
    assert layer.take(np.array([2, 0])).ids.tolist() == [3, 1]
    assert vector.read(_three(tmp_path), "three", "three").layer.ids.tolist() == [0, 1, 2]


def _three(folder: Path) -> Path:
    import geopandas

    path = folder / "three.shp"
    geopandas.GeoDataFrame({"n": [1, 2, 3]}, geometry=shapely.points([[0, 0], [1, 1], [2, 2]]), crs=32626).to_file(path)
    return path


def test_a_lean_process_does_without_frames_and_can_have_them_later() -> None:
    code = (
        "import sys, numpy as np, pyarrow as pa; from eskret.formats import gdal; gdal.be_lean(); gdal.library();"
        "assert np.asarray(pa.array(np.arange(3)).fill_null(0)).sum() == 3; assert not sys.modules['pandas'];"
        "gdal.with_frames(); import pandas, geopandas; print(pandas.DataFrame({'a': [1, 2]}).a.sum())"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True)
    assert done.stdout.strip() == "3", done.stderr


def test_rows_are_taken_while_another_thread_makes_the_shapes(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Two steps work on one layer at a time: the one takes rows of it between which the other asks for its shapes."""
    write(squares(6), tmp_path / "a.gpkg", "a")
    layer = read(tmp_path / "a.gpkg", "a")
    assert layer.undecoded is not None
    taking = WkbArray.take

    def meanwhile(self: WkbArray, rows: np.ndarray) -> WkbArray:
        self.decode()
        return taking(self, rows)

    monkeypatch.setattr(WkbArray, "take", meanwhile)
    none, two = layer.take(np.empty(0, np.int64)), layer.take(np.array([4, 1]))
    assert len(none) == 0 and len(none.geometry) == 0
    assert two.table.column("id").to_pylist() == [4, 1] and two.geometry[0].equals(layer.geometry[4])
    assert len(layer.with_table(layer.table.select(["id"])).geometry) == 6


def test_a_column_is_taken_in_chunks_without_making_the_rest() -> None:
    shapes = np.array([shapely.box(i, 0, i + 1, 1) for i in range(7)], object)
    for source in (WkbArray.from_arrow(binary(list(shapes))), shapes):
        column = GeometryColumn(source)
        parts = list(column.chunks(3))
        assert [len(p) for p in parts] == [3, 3, 1] and shapely.equals_identical(np.concatenate(parts), shapes).all()
        assert (column.undecoded is None) == (column.wkb is None), "chunks are not kept"
        assert shapely.equals_identical(column.at(np.array([5, 0])), shapes[[5, 0]]).all()
        assert column.total_bounds().tolist() == [0, 0, 7, 1] and column.kind() is GeometryKind.POLYGON
        again = pickle.loads(pickle.dumps(column))
        assert (again.wkb is None) == (column.wkb is None) and shapely.equals_identical(again.array, shapes).all()
        changed = column.with_shapes(np.array([2]), np.array([shapely.box(50, 0, 51, 1)], object))
        assert changed.bounds()[2].tolist() == [50, 0, 51, 1] and column.bounds()[2].tolist() == [2, 0, 3, 1]


def test_to_change_one_thing_of_a_layer_keeps_the_others() -> None:
    """As it is asked for with the library's own function: nothing is decoded, nothing forgotten."""
    from dataclasses import replace

    layer = Layer("l", pa.table({"n": [1, 2]}), WkbArray.from_arrow(binary([shapely.Point(0, 0), shapely.Point(1, 1)])), "EPSG:32626")
    layer = layer.with_provenance("first").with_provenance("second", layer.with_provenance("first"))
    changes: list[dict] = [{"key": "k"}, {"crs": None}, {"name": "n"}, {"titles": {"n": "N"}}, {"table": pa.table({"m": [3, 4]})}]
    for change in changes:
        other = replace(layer, **change)
        assert other.undecoded is layer.undecoded is not None and other.provenance == layer.provenance and other.kind is layer.kind
    bare = replace(layer, geometry=None)
    assert not bare.has_geometry and bare.kind is GeometryKind.TABLE and bare.provenance == layer.provenance
    shapes = layer.geometry
    assert layer.with_geometry(shapes).column is layer.column, "the same shapes are the same column"
