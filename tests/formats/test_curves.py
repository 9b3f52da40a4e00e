"""Curves of well-known binary (OGC 06-103r4, ISO/IEC 13249-3) made straight, against the circles they are of."""

from __future__ import annotations

import math
import sqlite3
import struct
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st

from eskret import read, write
from eskret.core.geometry.curves import curved_rows, straight
from eskret.core.layer import Layer
from tests.test_cli import call

Position = tuple[float, ...]


def wkb(kind: int, *parts: bytes, order: str = "<") -> bytes:
    return (b"\x01" if order == "<" else b"\x00") + struct.pack(f"{order}I", kind) + b"".join(parts)


def positions(*found: Position, order: str = "<") -> bytes:
    return struct.pack(f"{order}I", len(found)) + b"".join(struct.pack(f"{order}{len(p)}d", *p) for p in found)


def several(*parts: bytes, order: str = "<") -> bytes:
    return struct.pack(f"{order}I", len(parts)) + b"".join(parts)


HALF = wkb(8, positions((0, 0), (1, 1), (2, 0)))
CHAIN = wkb(9, several(HALF, wkb(2, positions((2, 0), (5, 0)))))
RING = wkb(8, positions((0, 0), (1, 1), (2, 0), (1, -1), (0, 0)))
ROUND = wkb(10, several(RING))
CIRCLE = wkb(10, several(wkb(8, positions((0, 0), (2, 0), (0, 0)))))
SHAPES = {
    "arc": (HALF, "LineString", math.pi, 0),
    "chain": (CHAIN, "LineString", math.pi + 3, 0),
    "arcs": (wkb(11, several(HALF, CHAIN)), "MultiLineString", 2 * math.pi + 3, 0),
    "ring": (ROUND, "Polygon", 2 * math.pi, math.pi),
    "circle": (CIRCLE, "Polygon", 2 * math.pi, math.pi),
    "rings": (
        wkb(12, several(ROUND, wkb(3, several(positions((5, 5), (6, 5), (6, 6), (5, 5)))))),
        "MultiPolygon",
        2 * math.pi + 2 + math.sqrt(2),
        math.pi + 0.5,
    ),
    "collection": (wkb(7, several(HALF, wkb(1, struct.pack("<2d", 1, 2)))), "GeometryCollection", math.pi, 0),
    "from the other end": (wkb(8, positions((0, 0), (1, 1), (2, 0), order=">"), order=">"), "LineString", math.pi, 0),
}


@pytest.mark.parametrize("name", SHAPES)
def test_lengths_and_areas_are_those_of_circles(name: str) -> None:
    value, kind, length, area = SHAPES[name]
    made, had = straight(value, 0.001)
    shape = shapely.from_wkb(made)
    assert had and shape.geom_type == kind and shape.is_valid
    assert shape.length == pytest.approx(length, rel=5e-5) and shape.area == pytest.approx(area, rel=1e-4)
    with pytest.raises(ValueError, match=r"ends too early|more than it does"):
        straight(value[:-5], 0.001)


@given(
    st.floats(-1e6, 1e6),
    st.floats(-1e7, 1e7),
    st.floats(0.01, 1e5),
    st.floats(0, 6.28),
    st.floats(0.01, 3.1),
    st.floats(0.01, 3.1),
    st.booleans(),
    st.sampled_from([1e-3, 1e-2, 1.0]),
)
def test_chords_stay_near_their_arc_and_its_positions_stay(
    x: float, y: float, radius: float, begin: float, first: float, second: float, back: bool, tolerance: float
) -> None:
    turn = -1 if back else 1
    at = [begin, begin + turn * first, begin + turn * (first + second)]
    three = [(x + radius * math.cos(a), y + radius * math.sin(a), float(n), 10.0 * n) for n, a in enumerate(at)]
    made, _ = straight(wkb(3008, positions(*three)), tolerance)
    line = shapely.get_coordinates(shapely.from_wkb(made), include_z=True, include_m=True)
    kept = {tuple(p) for p in line.tolist()}
    assert all(p in kept for p in three)
    middles = (line[1:, :2] + line[:-1, :2]) / 2
    off = np.abs(np.hypot(middles[:, 0] - x, middles[:, 1] - y) - radius)
    slack = 1e-7 * (radius + abs(x) + abs(y)) * (1 + 1 / min(first, second) ** 2)  # a centre found of three positions
    assert off.max() <= tolerance + slack
    assert (np.diff(line[:, 2]) > 0).all() and (np.diff(line[:, 3]) > 0).all() and line[-1, 2] == 2


def test_what_is_straight_is_found_to_be_so() -> None:
    flat = wkb(8, positions((0, 0), (1, 0), (2, 0)))
    assert shapely.from_wkb(straight(flat, 0.001)[0]).equals(shapely.LineString([(0, 0), (2, 0)]))
    plain = shapely.to_wkb(shapely.GeometryCollection([shapely.Point(8, 9)]))
    assert straight(plain, 0.001) == (plain, False)
    column = pa.chunked_array([pa.array([None, shapely.to_wkb(shapely.Point(1, 2)), HALF, b"", plain, SHAPES["from the other end"][0]])])
    assert curved_rows(column).tolist() == [2, 4, 5]


def file_with(path: Path, values: list[bytes], kind: str) -> None:
    shapes: Any = np.array([shapely.LineString([(0, 0), (2, 1)])] * len(values), object)
    write(Layer("l", pa.table({"n": list(range(len(values)))}), shapes, "EPSG:32631"), path, "l")
    with sqlite3.connect(path) as db:
        for (trigger,) in db.execute("SELECT name FROM sqlite_master WHERE type = 'trigger'").fetchall():
            db.execute(f'DROP TRIGGER "{trigger}"')
        (column,) = db.execute("SELECT column_name FROM gpkg_geometry_columns").fetchone()
        for n, value in enumerate(values):
            db.execute(f'UPDATE l SET "{column}" = ? WHERE n = ?', (b"GP\x00\x01" + struct.pack("<i", 32631) + value, n))
        db.execute("UPDATE gpkg_geometry_columns SET geometry_type_name = ?", (kind,))


@pytest.mark.parametrize(
    ("kind", "values"), [("CIRCULARSTRING", [HALF, HALF]), ("GEOMETRY", [HALF, CHAIN, ROUND]), ("CURVEPOLYGON", [ROUND, CIRCLE])]
)
def test_a_file_with_curves_is_read_and_says_so(tmp_path: Path, kind: str, values: list[bytes]) -> None:
    file_with(tmp_path / "in.gpkg", values, kind)
    code, out, err = call("do", "keep", tmp_path / "in.gpkg", "--where", "true", "--out", tmp_path / "out.gpkg")
    assert code == 0, err
    assert f"{len(values)} shapes with curves made straight, to within 1 mm" in " ".join(out.split())
    back = read(tmp_path / "out.gpkg")
    assert back.geometry is not None and shapely.length(back.geometry[0]) > 3.1
    (tmp_path / "w.toml").write_text(
        'eskret = 1\ntitle = "T"\n\n[[steps]]\nid = "in"\nuse = "load"\nfiles = ["in.gpkg"]\n', encoding="utf-8"
    )
    _, foretold, _ = call("rehearse", tmp_path / "w.toml")
    assert ("curves are made straight, to within 1 mm" in " ".join(foretold.split())) is (kind != "GEOMETRY")
