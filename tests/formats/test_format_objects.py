"""Formats as objects: what is listed can be written and read, what one says it holds it holds, and layers go into a GeoPackage each in
its way."""

from __future__ import annotations

from collections.abc import Generator
from pathlib import Path

import numpy as np
import pyarrow as pa
import pytest
import shapely

from eskret.core.layer import Field, GeometryKind, Layer
from eskret.errors import DeliveryError
from eskret.formats import geopackage, library_write, sources
from eskret.formats.fitting import Choices
from eskret.formats.format import Capacity, Format, Writing
from eskret.formats.geopackage import bulk
from eskret.formats.geopackage.layers import put_layers, section_crs
from eskret.formats.known import FORMATS, READ, WRITTEN, format_to_write
from tests.conftest import points, squares

PLACES = Layer(
    "places", pa.table({"name": ["a", "b"], "n": [1, 2]}), np.array([shapely.Point(-27, 47), shapely.Point(-27.5, 47.5)]), "EPSG:4326"
)

SHAPES = {".csv": (False, False), ".xlsx": (True, False)}
"""Whether a layer has shapes as it is to be stored, and as it is read again, where not both; a workbook keeps them as cells."""


@pytest.mark.parametrize("ending", WRITTEN)
def test_what_is_written_is_counted_and_read_again(tmp_path: Path, ending: str) -> None:
    one, path = WRITTEN[ending], tmp_path / f"places{ending}"
    one.write_one(path, PLACES, "places")
    assert one.count(path) == 2 and one is format_to_write(path)
    names = sources.layer_names(path)
    back = sources.read(path, names[0], "k")
    assert back.found == 2 and len(back.layer) == 2 and back.layer.key == "k"
    facts = sources.facts(path, names[0], "k")
    assert (facts.count, facts.kind) == (2, back.layer.kind) and facts.names() == [f.name for f in back.layer.fields]
    stored = one.as_stored(PLACES)
    assert (stored.has_geometry, back.layer.has_geometry) == SHAPES.get(ending, (True, True))
    assert one.changes <= (one.capacity is not Capacity.SET), "a file of a whole step's layers is not appended to"


def test_each_ending_has_one_format_and_each_format_its_words() -> None:
    assert set(READ) >= set(WRITTEN) and len({f.title for f in FORMATS}) == len(FORMATS)
    for one in FORMATS:
        assert one.read_endings and one.words <= {"title", "description", "licence"}
        assert not one.written_endings or one.values.title
        assert one.many == (one.capacity is Capacity.ANY) and (not one.native or one.crs)
    with pytest.raises(DeliveryError, match=r"files ending in '\.xyz' cannot be written"):
        format_to_write(Path("a.xyz"))
    bare = Format()
    assert bare.losses([Field("n", pa.int64())]) == []
    with pytest.raises(NotImplementedError):
        bare.write(Path("x"), [], Writing())


@pytest.mark.parametrize(
    ("ending", "field", "says"),
    [
        (".shp", Field("a_rather_long_name", pa.string()), "shortened"),
        (".shp", Field("when", pa.timestamp("us", "UTC")), "when"),
        (".fgb", Field("n", pa.int64()), "another order"),
        (".gpkg", Field("l", pa.list_(pa.int64())), "is a list and becomes text"),
        (".gpkg", Field("t", pa.timestamp("us")), "without a zone"),
        (".gpkg", Field("t", pa.time64("us")), "time of day"),
        (".xlsx", Field("t", pa.timestamp("us", "UTC")), "'t' is written in UTC"),
    ],
)
def test_what_a_format_cannot_hold_is_said_of_the_field(ending: str, field: Field, says: str) -> None:
    told = WRITTEN[ending].losses([field], Choices(), GeometryKind.POINT)
    assert any(says in t for t in told), told
    plain = WRITTEN[ending].losses([Field("n", pa.int64())], Choices(), GeometryKind.POINT)
    of_all = {".fgb": ["another order"], ".xlsx": ["has no shapes"]}.get(ending, [])
    assert len(plain) == len(of_all) and all(words in t for words, t in zip(of_all, plain, strict=True)), "a whole number is no loss"


def test_small_and_large_layers_go_in_each_in_its_way(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(bulk, "LARGE", 50)
    written: list[str] = []
    whole = bulk.write_large
    monkeypatch.setattr(bulk, "write_large", lambda path, layer, name, *more: [written.append(name), whole(path, layer, name, *more)][1])
    path = tmp_path / "all.gpkg"
    pairs = [(squares(3), "small"), (squares(80), "large"), (points({"n": [1, 2]}), "after")]
    put_layers(path, pairs, {"title": "All", "description": "Of them"}, "Sea", "EPSG:32626")
    assert written == ["large"] and geopackage.layer_list(path) == ["small", "large", "after"]
    assert [e.rows for e in geopackage.entries(path)] == [3, 80, 2] and {e.section for e in geopackage.entries(path)} == {"Sea"}
    assert section_crs(path, path, "Sea") == "EPSG:32626" and section_crs(path, path, "Land") is None
    for layer, name in pairs:
        back = sources.read(path, name, name).layer
        assert back.table.num_rows == len(layer) and shapely.equals_exact(back.geometry, layer.geometry, 1e-9).all()
    put_layers(path, [], {})
    assert geopackage.layer_list(path) == ["small", "large", "after"]


@pytest.mark.parametrize("how", ["by the library", "by columns"])
def test_a_fault_while_a_batch_is_made_is_no_fault_of_the_file(how: str, tmp_path: Path) -> None:
    """It is raised as it is, and not told as a file that cannot be written."""

    def chunks() -> Generator[Layer, None, None]:
        yield squares(3)
        raise ZeroDivisionError("of our own")

    path = tmp_path / ("a.gpkg" if how == "by columns" else "a.fgb")
    with pytest.raises(ZeroDivisionError, match="of our own"):
        if how == "by columns":
            bulk.LargeLayer(path, "a", frozenset({3}), GeometryKind.POLYGON).write(chunks(), 6)
        else:
            tables = (c.table for c in chunks())
            batches = (b for t in tables for b in t.to_batches())
            schema = squares(1).table.schema
            library_write.write_batches(path, schema, batches, 6, "a", geom=None, kind=None, crs=None, options={"SPATIAL_INDEX": "NO"})
