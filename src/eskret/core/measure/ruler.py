"""Measure what is drawn by hand, many times a second: in the plane of a CRS and along its ellipsoid."""

from __future__ import annotations

import numpy as np
import pyproj

from eskret.core.crs import crs_facts, parse_crs
from eskret.core.geometry.measuring import geod_of


class Ruler:
    """Measures in one CRS. ``plane`` is False where its coordinates are degrees, which are no lengths."""

    def __init__(self, crs: str) -> None:
        known, facts = parse_crs(crs), crs_facts(crs)
        datum = known.geodetic_crs
        self.plane = not facts.geographic and facts.unit_metres > 0
        self._metres = facts.unit_metres
        self._geod = geod_of(crs)
        self._to_degrees = pyproj.Transformer.from_crs(known, datum, always_xy=True) if datum and self.plane else None

    def length(self, xy: np.ndarray) -> tuple[float | None, float | None]:
        """Metres along a line of corners (n, 2): in the plane, along the ellipsoid; None where it cannot be told."""
        if len(xy) < 2:
            return 0.0, 0.0
        plane = float(np.hypot(*np.diff(xy, axis=0).T).sum()) * self._metres if self.plane else None
        lonlat = self._lonlat(xy)
        return plane, None if lonlat is None else float(self._geod.line_length(lonlat[:, 0], lonlat[:, 1]))

    def area(self, xy: np.ndarray) -> tuple[float | None, float | None]:
        """Square metres within a ring of corners (n, 2), closed or not; as ``length`` otherwise."""
        if len(xy) < 3:
            return 0.0, 0.0
        x, y = (xy - xy[0]).T
        plane = abs(float(x @ np.roll(y, -1) - y @ np.roll(x, -1))) / 2 * self._metres**2 if self.plane else None
        lonlat = self._lonlat(xy)
        along = None if lonlat is None else abs(self._geod.polygon_area_perimeter(lonlat[:, 0], lonlat[:, 1])[0])
        return plane, along

    def _lonlat(self, xy: np.ndarray) -> np.ndarray | None:
        lonlat = xy if self._to_degrees is None else np.column_stack(self._to_degrees.transform(xy[:, 0], xy[:, 1]))
        return lonlat if np.isfinite(lonlat).all() and (np.abs(lonlat[:, 1]) <= 90).all() else None
