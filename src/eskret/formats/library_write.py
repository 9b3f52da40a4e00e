"""Write one layer to a new file through the library that knows most vector formats, as Arrow."""

from __future__ import annotations

import warnings
from collections.abc import Generator, Mapping
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import shapely

from eskret.core.crs import parse_crs
from eskret.core.encoded import Encoded, encode
from eskret.core.layer import Layer
from eskret.core.naming import number_collisions
from eskret.errors import DeliveryError, StoppedError
from eskret.formats.gdal import library
from eskret.formats.geopackage import declared
from eskret.formats.reading import Watch, no_watch

_BATCH = 20_000


def write(
    path: Path, layer: Layer, name: str, *, options: Mapping[str, Any] | None = None, crs: str | None = None,
    watch: Watch = no_watch,
) -> None:  # fmt: skip
    """Write a file that is not there yet; its ending says the format. The attributes must be of types that the format has.

    Parameters
    ----------
    crs : as well-known text, where the format needs another form of it than the usual.

    Raises
    ------
    DeliveryError : it cannot be written.
    """
    geom = number_collisions(["geometry"], taken=layer.table.column_names)[0]
    shapes, type_name, has_z = declared(layer)
    binary = shapes.column if isinstance(shapes, Encoded) else pa.chunked_array([pa.array(encode(shapes), pa.binary())])
    column = binary.cast(pa.binary())
    table = layer.table.append_column(geom, column)
    words = {"MULTIPOINT": "MultiPoint", "POINT": "Point", "LINESTRING": "LineString", "MULTILINESTRING": "MultiLineString",
             "POLYGON": "Polygon", "MULTIPOLYGON": "MultiPolygon", "GEOMETRYCOLLECTION": "GeometryCollection"}  # fmt: skip
    kind = words.get(type_name, "Unknown") + (" Z" if has_z else "")
    stopped: list[BaseException] = []

    def batches() -> Generator[pa.RecordBatch, None, None]:
        done = 0
        try:
            for batch in table.to_batches(max_chunksize=_BATCH):
                yield batch
                done += batch.num_rows
                watch(done, len(table))
        except BaseException as error:
            stopped.append(error)
            raise

    known = crs if crs is not None else parse_crs(layer.crs).to_wkt() if layer.crs is not None else None
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # a layer without a CRS is told elsewhere
            library().write_arrow(
                pa.RecordBatchReader.from_batches(table.schema, batches()), path, layer=name, geometry_name=geom,
                geometry_type=kind, crs=known, layer_options=dict(options or {}),
            )  # fmt: skip
    except Exception as error:
        if stopped and isinstance(stopped[0], StoppedError):
            raise stopped[0] from error
        text = str(error)
        if "full" in text or "No space" in text:
            raise DeliveryError("the disk is full", place=str(path), way_out="Make room and run again") from error
        raise DeliveryError(f"it cannot be written ({text[:160]})", place=str(path)) from error


def count(path: Path) -> int:
    """Features in a file, as the library finds them."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        return int(library().read_info(path, force_feature_count=True)["features"])


def of_one_kind(layer: Layer) -> bool:
    """Whether all shapes are points, or lines, or areas, single or several in one."""
    if layer.geometry is None:
        return False
    types = np.unique(shapely.get_type_id(layer.geometry))
    kinds = {{0: 0, 4: 0, 1: 1, 2: 1, 5: 1, 3: 2, 6: 2}.get(int(t), -1) for t in types if t >= 0}
    return len(kinds) <= 1 and -1 not in kinds
