"""Tiny layers to show operations on: some beds of an invented bay, what lies around them, and tables about them."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from functools import cache

import numpy as np
import pyarrow as pa
import shapely
import shapely.affinity

from eskret.core.layer import Layer

CRS = "EPSG:32626"
WIDE, HIGH = 300, 180
"""The extent of the scene, in units of 10 m."""
_ORIGIN, _UNIT = (560_000.0, 5_200_000.0), 10.0


def _placed(shapes: Sequence[shapely.Geometry | None]) -> np.ndarray:
    """Shapes of the scene where they lie in the CRS."""
    out = np.empty(len(shapes), object)
    out[:] = list(shapes)
    return shapely.transform(out, lambda xy: xy * _UNIT + _ORIGIN)


def in_scene(shapes: np.ndarray) -> np.ndarray:
    """The other way: shapes in the scene's own units."""
    return shapely.transform(shapes, lambda xy: (xy - _ORIGIN) / _UNIT)


def _layer(key: str, shapes: Sequence[shapely.Geometry | None], **fields: Sequence[object] | pa.Array) -> Layer:
    return Layer(key, pa.table(fields), _placed(shapes), CRS)


def _slanted(x: float, y: float, wide: float = 66, high: float = 58) -> shapely.Polygon:
    corners = [(x, y), (x + wide, y + 3), (x + wide + 6, y + high), (x + 5, y + high - 4)]
    return shapely.Polygon(corners)


def _bed_shapes() -> list[shapely.Geometry]:
    sizes = ((66, 58), (58, 52), (62, 55), (70, 50), (60, 58), (52, 46))
    return [_slanted(22 + 84 * (n % 3), 108 - 78 * (n // 3), *size) for n, size in enumerate(sizes)]


@cache
def layers() -> dict[str, Layer]:
    """All of them, by name."""
    names = ["A1", "A2", "A3", "B1", "B2", "B3"]
    beds = _layer(
        "beds",
        _bed_shapes(),
        bed=names,
        bay=["North"] * 3 + ["South"] * 3,
        bottom=["sand", "sannd", "mud", "Sand", "mud", None],
        tonnes=[12.0, 7.5, 4.0, 9.0, 0.0, 3.5],
    )
    begun = datetime(2031, 9, 3, 6, 0, tzinfo=UTC)
    course = [(30, 30), (62, 58), (96, 66), (98, 68), (140, 88), (186, 96), (222, 128), (262, 140)]
    minutes = [0, 2, 4, 9, 11, 13, 15, 17]
    gone = [s for s, n in zip(_bed_shapes(), names, strict=True) if n != "B3"]
    moved = shapely.affinity.translate(gone[1], 9, -7)
    bow = shapely.Polygon([(60, 40), (150, 130), (150, 40), (60, 130)])
    spike = shapely.Polygon([(190, 40), (270, 40), (270, 130), (230, 130), (230, 160), (230, 130), (190, 130)])
    angles = np.linspace(0, 2 * np.pi, 40, endpoint=False)
    ragged = np.c_[150 + (95 + 7 * np.sin(9 * angles)) * np.cos(angles), 90 + (60 + 6 * np.cos(11 * angles)) * np.sin(angles)]
    wavy = np.c_[np.linspace(15, 285, 30), 40 + 12 * np.sin(np.linspace(0, 9, 30))]
    ring = shapely.Polygon(shapely.Point(95, 90).buffer(70).exterior, [shapely.Point(95, 90).buffer(32).exterior.coords])
    found = [
        beds,
        _layer("closure", [shapely.Polygon([(64, 88), (118, 40), (176, 52), (182, 104), (150, 146), (76, 136)])], name=["Closure 7"]),
        _layer("bays", [shapely.box(8, 94, 294, 176), shapely.box(8, 10, 294, 94)], name=["North", "South"]),
        _layer("channel", [shapely.box(70, 20, 212, 160)], channel=["Fairway"]),
        _layer(
            "marks", [shapely.Point(p) for p in ((52, 140), (66, 52), (140, 140), (204, 92), (228, 62), (282, 26))], mark=[1, 2, 3, 4, 5, 6]
        ),
        _layer("shore", [shapely.LineString(wavy), shapely.LineString([(15, 150), (120, 168), (285, 150)])], shore=["west", "east"]),
        _layer(
            "soundings",
            [shapely.Point(p) for p in ((60, 62), (150, 30), (240, 58), (96, 144), (205, 170))],
            depth=[4.1, 5.0, 6.2, 8.3, 7.9],
        ),
        _layer(
            "track",
            list(map(shapely.Point, course)),
            boat=["Tern"] * 8,
            time=pa.array([begun + timedelta(minutes=m) for m in minutes], pa.timestamp("us", "UTC")),
        ),
        _layer("ragged", [shapely.Polygon(ragged), shapely.LineString(np.c_[wavy[:, 0], wavy[:, 1] - 26])], id=[1, 2]),
        _layer("plain", [shapely.Polygon([(40, 30), (250, 50), (220, 160), (60, 140)])], id=[1]),
        _layer("broken", [bow, spike], id=[1, 2]),
        _layer("ring", [ring, shapely.Polygon([(190, 40), (280, 60), (260, 150), (200, 130)])], name=["ring", "field"]),
        _layer(
            "pieces",
            [shapely.MultiPolygon([_slanted(20, 100), _slanted(110, 100)]), shapely.MultiPolygon([_slanted(20, 20), _slanted(200, 40)])],
            owner=["Orrel", "Sound"],
        ),
        _layer(
            "lines",
            [
                shapely.LineString([(30, 40), (150, 20), (262, 52)]),
                shapely.LineString([(264, 55), (250, 150), (140, 164)]),
                shapely.LineString([(134, 163), (40, 140), (31, 44)]),
            ],
            part=[1, 2, 3],
        ),
        _layer(
            "crossed", [shapely.LineString([(20, 50), (150, 120), (280, 60)]), shapely.LineString([(20, 140), (280, 150)])], line=[1, 2]
        ),
        _layer(
            "loose",
            [shapely.Polygon([(64, 20), (20, 30), (24, 150), (63, 158)]), shapely.Polygon([(217, 66), (280, 60), (276, 140), (218, 138)])],
            plot=[1, 2],
        ),
        _layer(
            "streets",
            [
                shapely.LineString([(20, 60), (280, 90)]),
                shapely.LineString([(90, 160), (110, 20)]),
                shapely.LineString([(200, 165), (204, 88)]),
            ],
            street=["Quay", "Mole", "Dyke"],
        ),
        _layer("buoys", [shapely.Point(p) for p in ((85, 85), (150, 120), (215, 90), (120, 144))], buoy=[1, 2, 3, 4]),
        _layer(
            "earlier",
            [gone[0], moved, *gone[2:], _slanted(215, 22, 40, 40)],
            bed=["A1", "A2", "A3", "B1", "B2", "B9"],
            tonnes=[12.0, 7.5, 4.0, 8.0, 0.0, 1.0],
        ),
        _layer(
            "parcels",
            [shapely.box(40 + 74 * c, 96 - 68 * r, 114 + 74 * c, 164 - 68 * r) for r in (0, 1) for c in (0, 1, 2)],
            parcel=names,
            holder=["Orrel", "Orrel", "Sound", "Orrel", "Sound", "Sound"],
            tonnes=[12.0, 7.5, 4.0, 9.0, 0.0, 3.5],
        ),
        _layer(
            "patchwork",
            [
                shapely.box(30, 30, 150, 155),
                shapely.box(150, 30, 160, 100),
                shapely.box(160, 30, 270, 100),
                shapely.box(150, 100, 270, 155),
            ],
            plot=["A", "B", "C", "D"],
            tonnes=[12.0, 0.5, 6.0, 7.0],
        ),
        _layer("twice", [*_bed_shapes()[:3], _bed_shapes()[0]], bed=["A1", "A2", "A3", "A1"]),
        _layer("north", _bed_shapes()[:3], bed=names[:3], tonnes=[12.0, 7.5, 4.0]),
        _layer("south", _bed_shapes()[3:], bed=names[3:], licence=["L-4", "L-5", "L-6"]),
        Layer("undeclared", pa.table({"bed": names[:3]}), _placed(_bed_shapes()[:3]), None),
        Layer("yields", pa.table({"bay": ["North", "South"], "mussel": [5.5, 0.5], "oyster": [2.5, None]})),
        Layer("landings", pa.table({"bed": ["A1", "A2", "B1", "C4"], "landed": [8.2, 5.1, 6.0, 2.2]})),
        Layer(
            "catch",
            pa.table(
                {
                    "bay": ["North", "North", "North", "South", "South"],
                    "species": ["mussel", "oyster", "mussel", "oyster", "cockle"],
                    "tonnes": [4.0, 2.5, 1.5, 3.0, 0.5],
                }
            ),
        ),
    ]
    return {one.key: one for one in found}
