"""Write GeoJSON as RFC 7946 wants it: WGS 84, outer rings anticlockwise, bounded precision, a bounding box."""

from __future__ import annotations

from collections.abc import Generator
from pathlib import Path
from typing import Any

import numpy as np
import orjson
import pyarrow as pa
import shapely

from eskret.core.crs import reproject
from eskret.core.layer import Layer
from eskret.core.rows import remaining
from eskret.formats.reading import Watch, no_watch

CRS84 = "OGC:CRS84"
DECIMALS = 7
"""About a centimetre; section 11.2 of the RFC advises against more than is meant."""
STEP = 20_000


def prepare(layer: Layer, decimals: int) -> tuple[np.ndarray, np.ndarray]:
    """Geometry in longitude and latitude, rounded, rings wound by the right-hand rule.

    Returns
    -------
    The geometry (same length as the layer), and the positions (int64) of rows that could not be brought to WGS 84.
    """
    geometry = layer.geometry if layer.geometry is not None else np.full(len(layer), None, dtype=object)
    lost = np.empty(0, np.int64)
    if layer.crs is not None:
        geometry, lost = reproject(geometry, layer.crs, CRS84)
    return shapely.orient_polygons(rounded(geometry, decimals)), lost


def rounded(geometry: np.ndarray, decimals: int) -> np.ndarray:
    """Geometry whose coordinates have so many digits after the point."""
    has_z = bool(shapely.has_z(geometry).any())
    return np.asarray(shapely.transform(geometry, lambda c: np.round(c, decimals) + 0.0, include_z=has_z))


def texts_of(geometry: np.ndarray) -> list[bytes]:
    """GeoJSON of each geometry; ``null`` for none. Empty ones keep their type with no coordinates."""
    texts = shapely.to_geojson(geometry)
    return [b"null" if t is None else t.encode() for t in texts]


def plain_value(value: Any) -> Any:
    """What stands in JSON for a value that has no form of its own there."""
    if isinstance(value, bytes):
        return value.hex()
    return str(value)


def features(
    layer: Layer, geometry: np.ndarray, watch: Watch = no_watch, indent: bool = False
) -> Generator[bytes, None, None]:
    """The text of each feature, without what stands between them."""
    option = orjson.OPT_INDENT_2 if indent else 0
    total = len(layer)
    for start in range(0, total, STEP):
        part = layer.table.slice(start, STEP)
        rows = part.to_pylist() if part.num_columns else [{}] * part.num_rows
        texts = texts_of(geometry[start : start + STEP])
        for row, text in zip(rows, texts, strict=True):
            record = {"type": "Feature", "properties": row, "geometry": orjson.Fragment(text)}
            yield orjson.dumps(record, default=plain_value, option=option | orjson.OPT_UTC_Z)
        watch(min(start + STEP, total), total)


def write(
    path: Path, layer: Layer, *, decimals: int = DECIMALS, bounding_box: bool = True, indent: bool = False,
    watch: Watch = no_watch,
) -> np.ndarray:  # fmt: skip
    """Write one layer as a feature collection.

    Parameters
    ----------
    path : a file that does not exist yet.
    decimals : digits after the point.
    indent : spread over lines for people; else one feature a line.

    Returns
    -------
    Positions (int64) of rows without a place in WGS 84; they are left out of the file.
    """
    geometry, lost = prepare(layer, decimals)
    if len(lost):
        stays = remaining(len(layer), lost)
        layer, geometry = layer.take(stays), geometry[stays]
    with path.open("wb") as out:
        out.write(b'{"type":"FeatureCollection",')
        box = shapely.total_bounds(geometry) if len(geometry) else np.full(4, np.nan)
        if bounding_box and not np.isnan(box).any():
            out.write(b'"bbox":' + orjson.dumps([float(v) for v in box]) + b",")
        out.write(b'"features":[\n')
        between = b""
        for text in features(layer, geometry, watch, indent):
            out.write(between + text)
            between = b",\n"
        out.write(b"\n]}\n")
    return lost


def losses(schema: pa.Schema) -> list[str]:
    """What GeoJSON cannot hold of these fields, in sentences."""
    out = []
    for field in schema:
        if pa.types.is_timestamp(field.type) or pa.types.is_date(field.type) or pa.types.is_time(field.type):
            out.append(f"'{field.name}' becomes text; times are written in UTC")
        elif pa.types.is_binary(field.type):
            out.append(f"'{field.name}' becomes hexadecimal text")
    return out
