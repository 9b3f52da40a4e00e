"""Metres where the coordinates are degrees: planes laid about the features, true to distance from their middle."""

from __future__ import annotations

from collections.abc import Callable, Generator
from dataclasses import dataclass

import numpy as np
import pyproj
import shapely

from eskret.core.crs import crs_facts, parse_crs
from eskret.errors import CrsError

_TILE = 0.5
_EARTH = 6_371_000.0


@dataclass(frozen=True)
class Plane:
    """A plane for the features at ``rows``: ``there`` brings shapes into it, ``back`` out of it. One unit of it is
    ``metres`` long; ``error`` is the largest relative error of a distance in it."""

    rows: np.ndarray
    there: Callable[[np.ndarray], np.ndarray]
    back: Callable[[np.ndarray], np.ndarray]
    metres: float
    error: float


def planes(bounds: np.ndarray, crs: str | None) -> Generator[Plane, None, None]:
    """Planes in which distances can be measured, for features with these boxes (n, 4; NaN for none, in no plane).

    In a projected CRS there is one, its own. In a geographic one they are azimuthal equidistant projections, each about
    the features whose middle lies in one tile of half a degree; a feature larger than that has a plane of its own.

    Raises
    ------
    CrsError : no CRS, or one without a unit of length.
    """
    facts = crs_facts(crs) if crs else None
    rows = np.flatnonzero(~np.isnan(bounds[:, 0]))
    if facts is None or not (facts.geographic or facts.unit_metres):
        raise CrsError(
            "without a coordinate system a distance means nothing", way_out="Say it where the layer is loaded"
        )
    if not facts.geographic:
        yield Plane(rows, _same, _same, facts.unit_metres, 0.0)
        return
    assert crs is not None
    datum = parse_crs(crs).geodetic_crs or parse_crs("EPSG:4326")
    middle = (bounds[rows, :2] + bounds[rows, 2:]) / 2
    large = (bounds[rows, 2:] - bounds[rows, :2]).max(axis=1, initial=0) > _TILE
    tile = np.floor(middle / _TILE).astype(np.int64)
    code = tile[:, 0] * 1000 + tile[:, 1]
    code[large] = 10_000_000 + np.arange(int(large.sum()))
    for one in np.unique(code):
        at = rows[code == one]
        west, south = bounds[at, :2].min(axis=0)
        east, north = bounds[at, 2:].max(axis=0)
        lon, lat = (west + east) / 2, max(-89.99, min(89.99, (south + north) / 2))
        local = pyproj.CRS.from_proj4(
            f"+proj=aeqd +lat_0={lat} +lon_0={lon} +units=m +a={datum.ellipsoid.semi_major_metre} "
            f"+b={datum.ellipsoid.semi_minor_metre}"
        )
        forth = pyproj.Transformer.from_crs(datum, local, always_xy=True)
        back = pyproj.Transformer.from_crs(local, datum, always_xy=True)
        reach = np.radians(max(abs(north - south), abs(east - west) * np.cos(np.radians(lat)))) * _EARTH / 2
        yield Plane(at, _moved(forth), _moved(back), 1.0, float((reach / _EARTH) ** 2 / 6))


def _same(shapes: np.ndarray) -> np.ndarray:
    return shapes


def _moved(transformer: pyproj.Transformer) -> Callable[[np.ndarray], np.ndarray]:
    def move(shapes: np.ndarray) -> np.ndarray:
        if len(shapes) and shapely.has_z(shapes).any():
            return shapely.transform(
                shapes, lambda c: np.column_stack([*transformer.transform(c[:, 0], c[:, 1]), c[:, 2]]), include_z=True
            )
        return shapely.transform(shapes, lambda c: np.column_stack(transformer.transform(c[:, 0], c[:, 1])))

    return move
