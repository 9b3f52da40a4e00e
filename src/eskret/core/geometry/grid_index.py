"""A grid over an area, to tell for most features at once on which side of its edge they are."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import shapely
from shapely.geometry.base import BaseGeometry

_SIDE = 64
OUTSIDE, INSIDE, EDGE = 0, 1, 2


@dataclass(frozen=True)
class Cells:
    """A grid over an area that says of each cell whether all of it is inside, outside, or neither: of many points only
    those in cells on the edge need a closer look."""

    west: float
    south: float
    wide: float
    high: float
    state: np.ndarray

    @classmethod
    def over(cls, area: BaseGeometry) -> Cells | None:
        """The grid of a prepared area; None for one too small to be divided."""
        west, south, east, north = area.bounds
        wide, high = (east - west) / _SIDE, (north - south) / _SIDE
        if not (wide > 0 and high > 0):
            return None
        col, row = np.meshgrid(np.arange(_SIDE), np.arange(_SIDE))
        # a little larger than the cell, so that a point on its border is in it whatever the rounding
        slack_x, slack_y = wide * 1e-6, high * 1e-6
        x, y = west + col * wide, south + row * high
        boxes = shapely.box(x - slack_x, y - slack_y, x + wide + slack_x, y + high + slack_y)
        state = np.where(shapely.contains_properly(area, boxes), INSIDE, np.where(shapely.intersects(area, boxes), EDGE, OUTSIDE))
        return cls(west, south, wide, high, state.astype(np.uint8))

    def of(self, x: np.ndarray, y: np.ndarray) -> np.ndarray:
        """The state of the cell that each point is in."""
        col = np.clip(((x - self.west) / self.wide).astype(np.int64), 0, _SIDE - 1)
        row = np.clip(((y - self.south) / self.high).astype(np.int64), 0, _SIDE - 1)
        return np.asarray(self.state[row, col])

    def of_boxes(self, bounds: np.ndarray) -> np.ndarray:
        """The state of all the cells that each box (xmin, ymin, xmax, ymax) reaches; EDGE where they differ, OUTSIDE for
        a box beside the grid or without figures."""
        side = self.state.shape[0]
        with np.errstate(invalid="ignore"):
            low_x, high_x = (np.floor((bounds[:, k] - self.west) / self.wide) for k in (0, 2))
            low_y, high_y = (np.floor((bounds[:, k] - self.south) / self.high) for k in (1, 3))
            apart = ~((high_x >= 0) & (low_x <= side) & (high_y >= 0) & (low_y <= side))
        beyond = (low_x < 0) | (low_y < 0) | (high_x >= side) | (high_y >= side)
        a, b = (np.clip(np.nan_to_num(v), 0, side - 1).astype(np.int64) for v in (low_x, high_x))
        c, d = (np.clip(np.nan_to_num(v), 0, side - 1).astype(np.int64) for v in (low_y, high_y))
        counts = [np.pad(np.cumsum(np.cumsum(self.state == s, axis=0), axis=1), ((1, 0), (1, 0))) for s in (INSIDE, OUTSIDE)]
        inside, outside = (n[d + 1, b + 1] - n[c, b + 1] - n[d + 1, a] + n[c, a] for n in counts)
        cells = (b - a + 1) * (d - c + 1)
        out = np.full(len(bounds), EDGE, np.uint8)
        out[(inside == cells) & ~beyond] = INSIDE
        out[(outside == cells) | apart] = OUTSIDE
        return out
