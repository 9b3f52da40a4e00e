"""Fields that hold a measure and name its unit: ``length_km``, ``area_ha``."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pyarrow as pa
import shapely

from eskret.core.layer import GeometryKind, Layer
from eskret.core.measure.totals import measure_sizes
from eskret.core.measure.units import AREAS, LENGTHS
from eskret.errors import SettingError

_UNITS = {"length": {u.replace(" ", "_"): v for u, v in LENGTHS.items()}, "area": AREAS}
_KINDS = {"length": GeometryKind.LINE, "area": GeometryKind.POLYGON}


def check_measure(name: str) -> tuple[str, float]:
    """What a field such as ``length_km`` measures, and metres (or square metres) of its unit.

    Raises
    ------
    SettingError : it is not called so.
    """
    what, _, unit = name.partition("_")
    if what not in _UNITS or unit not in _UNITS[what]:
        known = ", ".join(f"length_{u}" for u in ("m", "km", "nmi")) + ", area_m2, area_ha, area_km2"
        raise SettingError(f"'{name}' names no measure", way_out=f"Write length or area and the unit, such as {known}")
    return what, _UNITS[what][unit]


def with_measures(layer: Layer, names: list[str]) -> Layer:
    """The layer with these fields computed anew from its geometry, where its kind has such a measure.

    On a geographic CRS they are measured on its ellipsoid, edges straight in degrees; a degree is never a length.
    """
    for name in names:
        what, size = check_measure(name)
        if not layer.has_geometry or layer.crs is None or layer.kind is not _KINDS[what]:
            continue
        assert layer.geometry is not None
        found = measure_sizes(layer.geometry, layer.kind, layer.crs)
        if found is None:
            continue
        values = pa.array(np.asarray(found) / size, mask=shapely.is_missing(layer.geometry))
        at = layer.table.schema.get_field_index(name)
        table = layer.table.append_column(name, values) if at < 0 else layer.table.set_column(at, name, values)
        layer = replace(layer, table=table)
    return layer
