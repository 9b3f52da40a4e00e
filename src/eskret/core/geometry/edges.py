"""Edges of lines, and what is near to them. Units of x and y may be of different lengths, as degrees are: a scale tells metres of each."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import shapely


@dataclass(frozen=True)
class Edges:
    """The edges of some lines: where each begins and ends (n, 2), its line, and which of the line's edges it is."""

    begin: np.ndarray
    end: np.ndarray
    line: np.ndarray
    number: np.ndarray

    @classmethod
    def of(cls, lines: np.ndarray, which: np.ndarray) -> Edges:
        """The edges, of a length, of the lines at these positions."""
        xy, piece = shapely.get_coordinates(lines[which], return_index=True)
        at = np.flatnonzero((piece[1:] == piece[:-1]) & (xy[1:] != xy[:-1]).any(axis=1))
        starts = np.searchsorted(piece, np.arange(len(which)))
        return cls(xy[at], xy[at + 1], which[piece[at]], at - starts[piece[at]])

    def shapes(self) -> np.ndarray:
        """Each as a line."""
        corners = np.stack([self.begin, self.end], axis=1)
        return np.asarray(shapely.linestrings(corners), object) if len(corners) else np.empty(0, object)


def boxes_about(xy: np.ndarray, scale: np.ndarray, reach: float) -> np.ndarray:
    """Boxes about places (n, 2) that hold all within reach.

    Parameters
    ----------
    scale : metres (n, 2) that a unit of x and of y is long there.
    reach : in metres.
    """
    with np.errstate(divide="ignore"):
        half = np.minimum(reach * (1 + 1e-9) / scale, 1e9)
    return np.asarray(shapely.box(*(xy - half).T, *(xy + half).T))


def share_along(begin: np.ndarray, end: np.ndarray, place: np.ndarray, scale: np.ndarray | float = 1.0) -> np.ndarray:
    """How far along each edge the place nearest to another lies, from 0 to 1."""
    step, to = (end - begin) * scale, (place - begin) * scale
    length = (step**2).sum(axis=1)
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.clip(np.where(length > 0, (step * to).sum(axis=1) / length, 0.0), 0.0, 1.0)
