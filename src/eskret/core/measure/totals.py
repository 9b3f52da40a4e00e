"""Control totals of a layer: count always, length or area where there is one, sums of chosen fields.

A degree is never taken for a length: on a geographic CRS lengths and areas are those on its ellipsoid, of edges that are straight
in longitude and latitude.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import shapely

from eskret.core.crs import crs_facts
from eskret.core.geometry.globe.ellipsoid import areas, ellipsoid_of, lengths
from eskret.core.layer import GeometryKind, Layer
from eskret.core.tables.values import exact_sum

Total = tuple[str, float, str]
"""Name, value, unit."""


def measured_total(layer: Layer) -> Total | None:
    """The layer's length in km or its area in ha; None for points and tables, and where the unit is not known."""
    size = sizes_in_metres(layer)
    if size is None:
        return None
    value = float(np.nansum(size))
    return ("length", value / 1000.0, "km") if layer.kind is GeometryKind.LINE else ("area", value / 10_000.0, "ha")


def sizes_in_metres(layer: Layer) -> np.ndarray | None:
    """Metres or square metres of each feature; None for points and tables, and where the unit is not known."""
    if not layer.has_geometry or layer.kind not in (GeometryKind.LINE, GeometryKind.POLYGON) or layer.crs is None:
        return None
    size = _planar_sizes(layer)
    if size is None:
        assert layer.geometry is not None
        size = measure_sizes(layer.geometry, layer.kind, layer.crs)
    return size


def _planar_sizes(layer: Layer) -> np.ndarray | None:
    """As ``measure_sizes``, straight from the binary where the layer still is that and the CRS is planar."""
    facts = crs_facts(layer.crs) if layer.crs else None
    if layer.undecoded is None or facts is None or facts.geographic or not facts.unit_metres:
        return None
    size = layer.undecoded.sizes
    return None if size is None else size * facts.unit_metres ** (1 if layer.kind is GeometryKind.LINE else 2)


def measure_sizes(geometry: np.ndarray, kind: GeometryKind, crs: str) -> np.ndarray | None:
    """Length in metres (lines) or area in square metres (areas) of each geometry; None where the CRS has no unit."""
    facts = crs_facts(crs)
    if kind is GeometryKind.LINE:
        if facts.geographic:
            return lengths(geometry, ellipsoid_of(crs))
        return shapely.length(geometry) * facts.unit_metres if facts.unit_metres else None
    if facts.geographic:
        return areas(geometry, ellipsoid_of(crs))
    return shapely.area(geometry) * facts.unit_metres**2 if facts.unit_metres else None


def field_total(layer: Layer, name: str) -> Total:
    """The sum of a field; nulls count as nothing."""
    return (name, float(exact_sum(layer.table.column(name))), "")


def totals_of(layer: Layer, fields: Sequence[str] = ()) -> tuple[Total, ...]:
    """All control totals of a layer but its count."""
    measured = measured_total(layer)
    out = [measured] if measured else []
    out.extend(field_total(layer, name) for name in fields if name in layer.table.column_names)
    return tuple(out)
