"""Binary geometry in batches: the same as the library's own, and remembered only while nothing changed."""

from __future__ import annotations

import gc
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyogrio
import pytest
import shapely

from eskret.core.layer import Layer
from eskret.formats import gdal, vector, wkb
from tests.conftest import squares

SHAPES = [
    shapely.Point(1, 2),
    None,
    shapely.LineString([(0, 0), (1, 1)]),
    shapely.box(0, 0, 2, 2).buffer(1),
    shapely.Point(),
]


@pytest.mark.parametrize("kind", [pa.binary(), pa.large_binary()])
def test_decoding_is_the_librarys(kind: pa.DataType) -> None:
    binary = pa.array([None if s is None else shapely.to_wkb(s) for s in SHAPES], kind)
    for column, expected in ((binary, SHAPES), (binary.slice(1, 3), SHAPES[1:4]), (binary.slice(5), [])):
        found = wkb.decode(column)
        assert len(found) == len(expected) and all(a is b or a.equals(b) for a, b in zip(found, expected, strict=True))


def test_what_was_read_is_not_encoded_again(tmp_path: Path) -> None:
    path = tmp_path / "a.gpkg"
    layer = squares(25_000)
    from eskret import write

    write(layer, path)
    read = vector.read(path, "squares", "squares").layer
    assert read.geometry is not None and wkb.recall(read.geometry) is not None
    expected = shapely.to_wkb(layer.geometry, byte_order=1, flavor="iso").tolist()
    assert wkb.encode(read.geometry, 9_990, 10_020) == expected[9_990:10_020]  # over the border of two batches
    part = read.take(np.arange(10))
    assert wkb.recall(part.geometry) is None and wkb.encode(part.geometry, 0, 10) == expected[:10]
    moved = Layer("m", read.table, shapely.transform(read.geometry, lambda c: c + 1), read.crs)
    assert wkb.recall(moved.geometry) is None and wkb.encode(moved.geometry, 0, 1) != expected[:1]
    number = len(wkb._kept)
    del read, moved, part
    gc.collect()
    assert len(wkb._kept) == number - 1, "nothing is remembered of what is gone"


@pytest.mark.parametrize("shape", [shapely.Point(1, 2, 3), shapely.LineString([(0, 0, 1), (1, 1, 1)]), None])
def test_only_plain_binary_is_remembered(shape: shapely.Geometry | None) -> None:
    array = np.array([shape, shapely.Point(0, 0)], object)
    wkb.remember(array, pa.chunked_array([pa.array(shapely.to_wkb(array).tolist(), pa.binary())]))
    assert wkb.recall(array) is None


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


def test_the_library_is_there_with_and_without_frames() -> None:
    assert gdal.library().errors.DataSourceError is not None and gdal.library() is pyogrio
