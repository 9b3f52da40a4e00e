"""Sizes for control totals of what is cut, joined and put together.

In the plane of a projected system; where coordinates are degrees, on the ellipsoid, edges straight in degrees: pieces of a shape
that was cut along such edges add up to it there too, and what is proved is the figure that is shown.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import shapely

from eskret.core.crs import crs_facts, is_geographic
from eskret.core.geometry.globe.ellipsoid import areas, ellipsoid_of, lengths
from eskret.core.geometry.parts import dimension, single_parts
from eskret.core.layer import GeometryKind, Layer

Sizes = dict[str, np.ndarray]
"""``length`` of lines and ``area`` of areas, a figure a feature, in units of the plane; in metres where coordinates are degrees."""
Measure = Callable[[np.ndarray], np.ndarray]


def measures_of(crs: str | None) -> dict[str, Measure]:
    """How ``length`` and ``area`` are measured in a CRS."""
    if not is_geographic(crs):
        return {"length": shapely.length, "area": shapely.area}
    on = ellipsoid_of(crs)
    return {"length": lambda shapes: lengths(shapes, on), "area": lambda shapes: areas(shapes, on)}


def sizes_of(geometry: np.ndarray, crs: str | None) -> Sizes:
    """Sizes of some shapes; a collection counts with all its parts."""
    found = dimension(geometry)
    out = {"length": np.zeros(len(geometry)), "area": np.zeros(len(geometry))}
    for (name, measure), which in zip(measures_of(crs).items(), (1, 2), strict=True):
        at = np.flatnonzero(found == which)
        if len(at):
            out[name][at] = measure(geometry[at])
    several = np.flatnonzero(found == -2)
    if len(several):
        parts, owner = single_parts(geometry[several])
        inner = sizes_of(parts, crs)
        for name, values in inner.items():
            np.add.at(out[name], several[owner], values)
    return out


def layer_sizes(layer: Layer) -> Sizes:
    """Sizes of a layer's features, without making shapes where the binary tells."""
    degrees = is_geographic(layer.crs)
    if layer.undecoded is not None and layer.undecoded.sizes is not None and not degrees:
        name = "area" if layer.kind is GeometryKind.POLYGON else "length"
        zero = np.zeros(len(layer))
        return {"length": zero, "area": zero, name: layer.undecoded.sizes}
    if layer.geometry is None or layer.kind is GeometryKind.POINT:
        return {"length": np.zeros(len(layer)), "area": np.zeros(len(layer))}
    return sizes_of(layer.geometry, layer.crs)


def unit_of(name: str, crs: str | None) -> tuple[str, float]:
    """The unit in which a total of ``length`` or ``area`` is told, and how many of it one unit of the plane makes."""
    facts = crs_facts(crs) if crs else None
    metres = 1.0 if facts is not None and facts.geographic else facts.unit_metres if facts is not None else 0.0
    if metres:
        return ("km", metres / 1000) if name == "length" else ("ha", metres**2 / 10_000)
    return ("units", 1.0) if name == "length" else ("square units", 1.0)
