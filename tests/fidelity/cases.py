"""Layers of every kind of value and of shape, with nulls nowhere, somewhere, everywhere, and with no rows at all."""

from __future__ import annotations

import datetime as dt
import importlib.util
from collections.abc import Generator
from decimal import Decimal
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import shapely

from eskret.core.layer import GeometryKind, Layer
from eskret.formats import sources

_WHEN = dt.datetime(2031, 9, 3, 6, 40, 5)
VALUES: dict[str, tuple[pa.DataType, list[Any]]] = {
    "yes/no": (pa.bool_(), [True, False, True]),
    "small whole numbers": (pa.int64(), [0, -7, 2_000_000_000]),
    "whole numbers beyond 32 bits": (pa.int64(), [2**40, -(2**40), 7]),
    "whole numbers beyond 2^53": (pa.int64(), [2**53 + 1, 2**62 + 1, -(2**60) - 1]),
    "whole numbers beyond 2^63": (pa.uint64(), [2**63 + 5, 2**64 - 1, 0]),
    "numbers": (pa.float64(), [0.1, -1234.5678901234, 1e-12]),
    "large numbers": (pa.float64(), [1e300, -1e20, 2.0**60]),
    "not a number": (pa.float64(), [float("nan"), 1.5, 2.5]),
    "infinity": (pa.float64(), [float("inf"), float("-inf"), 1.5]),
    "decimals": (pa.decimal128(18, 4), [Decimal("1.1000"), Decimal("-99999999999.9999"), Decimal("0.0001")]),
    "texts": (pa.string(), ["José", "a, b; c", "日本"]),
    "texts with quotes and lines": (pa.string(), ['say "x"', "two\nlines", "it's <b>&amp;"]),
    "texts with blanks around": (pa.string(), ["  left", "right  ", "a"]),
    "empty texts": (pa.string(), ["", "a", ""]),
    "texts like numbers": (pa.string(), ["007", "1e5", "1,5"]),
    "long texts": (pa.string(), ["x" * 300, "ß" * 200, "a"]),
    "dates": (pa.date32(), [dt.date(2031, 9, 3), dt.date(1899, 12, 30), dt.date(1, 1, 1)]),
    "times without a zone": (pa.timestamp("us"), [_WHEN, _WHEN.replace(microsecond=250_000), dt.datetime(1999, 12, 31, 23, 59, 59)]),
    "times in UTC": (pa.timestamp("us", "UTC"), [_WHEN.replace(tzinfo=dt.UTC), _WHEN.replace(tzinfo=dt.UTC, microsecond=250_000), None]),
    "times to the microsecond": (pa.timestamp("us", "UTC"), [_WHEN.replace(tzinfo=dt.UTC, microsecond=123_456)] * 3),
    "times in another zone": (pa.timestamp("us", "Atlantic/Azores"), [_WHEN.replace(tzinfo=dt.UTC)] * 3),
    "times of day": (pa.time64("us"), [dt.time(6, 40), dt.time(23, 59, 59, 250_000), dt.time(0, 0)]),
    "bytes": (pa.binary(), [b"\x00\xff", b"abc", b""]),
    "lists": (pa.list_(pa.string()), [["a", "b"], [], ["c, d"]]),
}
NANOSECONDS = pa.array([1_946_277_605_123_456_789] * 3, pa.timestamp("ns", "UTC"))

_P, _Q, _R = (0.5, 47.25), (1.5, 47.5), (1.25, 48.0)
_LINE, _AREA = [_P, _Q, _R], [_P, _Q, _R, _P]


def _raised(shape: Any, z: bool, m: bool) -> Any:
    """A shape with heights, measures, or both."""
    flat = shapely.to_wkt(shape, rounding_precision=-1)
    head, _, rest = flat.partition(" (")
    count = iter(range(1, 1_000))
    out, pair = "", ""
    known: dict[str, int] = {}
    for sign in f"({rest}":
        if sign in ",()":
            if pair.strip():
                n = known.setdefault(pair.strip(), next(count))  # a ring ends as it begins
                out += pair + (f" {n}.5" if z else "") + (f" {n}" if m else "")
            out += sign
            pair = ""
        else:
            pair += sign
    return shapely.from_wkt(f"{head} {'Z' * z}{'M' * m} {out}")


_TWO = shapely.MultiPolygon([shapely.box(2, 47, 3, 48), shapely.box(5, 47, 6, 48)])
SHAPES: dict[str, list[Any]] = {
    "points": [shapely.Point(p) for p in (_P, _Q, _R)],
    "lines": [shapely.LineString(_LINE), shapely.LineString(_LINE[:2]), shapely.LineString(_LINE[1:])],
    "areas": [shapely.Polygon(_AREA), shapely.box(2, 47, 3, 48), shapely.box(2, 47, 3, 48) - shapely.box(2.2, 47.2, 2.8, 47.8)],
    "several points": [shapely.MultiPoint([_P, _Q]), shapely.MultiPoint([_R]), shapely.MultiPoint([_P, _R])],
    "several lines": [shapely.MultiLineString([_LINE, [(5, 5), (6, 6)]])] * 3,
    "several areas": [shapely.MultiPolygon([shapely.Polygon(_AREA), shapely.box(2, 47, 3, 48)])] * 3,
    "of several kinds": [shapely.Point(_P), shapely.LineString(_LINE), shapely.Polygon(_AREA)],
    "collections": [shapely.GeometryCollection([shapely.Point(_P), shapely.LineString(_LINE)])] * 3,
    "one and several": [shapely.Polygon(_AREA), _TWO, shapely.Polygon(_AREA)],
}
for _name, _z, _m in (("heights", True, False), ("measures", False, True), ("heights and measures", True, True)):
    for _kind in ("points", "lines", "areas"):
        SHAPES[f"{_kind} with {_name}"] = [_raised(g, _z, _m) for g in SHAPES[_kind]]

NULLS = ("no nulls", "a null", "all null", "no rows")


def with_nulls(values: list[Any], nulls: str) -> list[Any]:
    return {"no nulls": values, "a null": [values[0], None, values[2]], "all null": [None] * 3, "no rows": []}[nulls]


def of_values() -> Generator[tuple[str, str, Layer], None, None]:
    """One field of each kind, on points."""
    for name, (kind, values) in VALUES.items():
        for nulls in NULLS:
            some = with_nulls(values, nulls)
            table = pa.table({"row": pa.array(range(len(some)), pa.int64()), "value": pa.array(some, kind)})
            yield name, nulls, _layer(table, np.array([*SHAPES["points"], None], object)[: len(some)])
    table = pa.table({"row": [0, 1, 2], "value": NANOSECONDS})
    yield "times to the nanosecond", "no nulls", _layer(table, np.array(SHAPES["points"], object))


def of_shapes() -> Generator[tuple[str, str, Layer], None, None]:
    """Each kind of shape, beside one text."""
    for name, shapes in SHAPES.items():
        for nulls in (*NULLS, "an empty one"):
            if nulls == "an empty one":
                kind = shapely.to_wkt(shapes[1]).partition(" (")[0].split(" ")[0]
                some = [shapes[0], shapely.from_wkt(f"{kind} EMPTY"), shapes[2]]
            else:
                some = with_nulls(shapes, nulls)
            texts = pa.array(["a", "b", "c"][: len(some)], pa.string())
            table = pa.table({"row": pa.array(range(len(some)), pa.int64()), "value": texts})
            yield name, nulls, _layer(table, np.array([*some, None], object)[:-1])
    for name in ("points", "lines", "areas"):
        yield f"{name} and no fields", "no nulls", _layer(_bare(3), np.array(SHAPES[name], object))
    yield "no shapes", "no nulls", Layer("t", pa.table({"row": [0, 1, 2], "value": ["a", "b", None]}))


def _bare(rows: int) -> pa.Table:
    return pa.table({"x": pa.nulls(rows)}).drop_columns(["x"])


def _layer(table: pa.Table, shapes: np.ndarray) -> Layer:
    return Layer("in", table, shapes, "EPSG:4326", kind=GeometryKind.MIXED if not len(shapes) else GeometryKind.TABLE)


PACKAGES = ("pyogrio", "geopandas", "libpysal", "shapely", "gpxpy")


def corpus() -> Generator[Path, None, None]:
    """Every file that these packages carry and that has an ending which can be read."""
    for name in PACKAGES:
        found = importlib.util.find_spec(name)
        if found is None or found.origin is None:
            continue
        for path in sorted(Path(found.origin).parent.rglob("*")):
            if path.is_file() and sources.is_source(path) and "gdal_data" not in path.parts:
                yield path
