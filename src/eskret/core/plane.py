"""Sizes as the plane of coordinates has them: for control totals of what is cut, joined and put together.

Whether a cut lost anything is a question of the plane in which it was cut. In a geographic system that plane is one of
degrees, and the unit says so: such a figure proves, and is no measure.
"""

from __future__ import annotations

import numpy as np
import shapely

from eskret.core.crs import crs_facts
from eskret.core.kernels.parts import dimension, single_parts
from eskret.core.layer import Kind, Layer

Sizes = dict[str, np.ndarray]
"""``length`` of lines and ``area`` of areas, a figure a feature, in units of the plane."""


def sizes_of(geometry: np.ndarray) -> Sizes:
    """Sizes of some shapes; a collection counts with all its parts."""
    found = dimension(geometry)
    out = {"length": np.zeros(len(geometry)), "area": np.zeros(len(geometry))}
    for name, which, measure in (("length", 1, shapely.length), ("area", 2, shapely.area)):
        at = np.flatnonzero(found == which)
        out[name][at] = measure(geometry[at])
    several = np.flatnonzero(found == -2)
    if len(several):
        parts, owner = single_parts(geometry[several])
        inner = sizes_of(parts)
        for name, values in inner.items():
            np.add.at(out[name], several[owner], values)
    return out


def layer_sizes(layer: Layer) -> Sizes:
    """Sizes of a layer's features, without making shapes where the binary tells."""
    if layer.encoded is not None and layer.encoded.array is None and layer.encoded.sizes is not None:
        name = "area" if layer.kind is Kind.AREA else "length"
        zero = np.zeros(len(layer))
        return {"length": zero, "area": zero, name: layer.encoded.sizes}
    if layer.geometry is None or layer.kind is Kind.POINT:
        return {"length": np.zeros(len(layer)), "area": np.zeros(len(layer))}
    return sizes_of(layer.geometry)


def unit_of(name: str, crs: str | None) -> tuple[str, float]:
    """The unit in which a total of ``length`` or ``area`` is told, and how many of it one unit of the plane makes."""
    facts = crs_facts(crs) if crs else None
    if facts is not None and facts.unit_metres:
        return ("km", facts.unit_metres / 1000) if name == "length" else ("ha", facts.unit_metres**2 / 10_000)
    word = "degrees" if facts is not None and facts.geographic else "units"
    return (word, 1.0) if name == "length" else (f"square {word}", 1.0)
