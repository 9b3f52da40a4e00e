"""Which features a box or a loop drawn on the map catches: those that meet it, boxes first, then the shapes."""

from __future__ import annotations

import numpy as np

from eskret.desktop.map_view.hit_test import distance_to
from eskret.desktop.map_view.render import PaintItem, pieces_for
from eskret.workflow.cache.results import POINT


def rows_in(item: PaintItem, ring: np.ndarray) -> np.ndarray:
    """Rows of the features that meet an area.

    Parameters
    ----------
    ring : its outline on the ground, float64 (n, 2); it may cross itself.

    Returns
    -------
    Rows (int64), ascending.
    """
    import shapely

    area = shapely.make_valid(shapely.Polygon(ring)) if len(ring) >= 3 else shapely.Point(ring[0])
    x0, y0, x1, y1 = area.bounds
    boxes = item.shapes.boxes if item.rows is None else item.shapes.boxes[item.rows]
    near = np.flatnonzero((boxes[:, 0] <= x1) & (boxes[:, 2] >= x0) & (boxes[:, 1] <= y1) & (boxes[:, 3] >= y0))
    rows = near if item.rows is None else item.rows[near]
    if not len(rows):
        return np.empty(0, np.int64)
    shapely.prepare(area)
    shapes = item.shapes
    pieces, counts = pieces_for(shapes, rows)
    owner = np.repeat(np.arange(len(rows)), shapes.first[rows + 1] - shapes.first[rows])
    hit = np.zeros(len(rows), bool)
    points = shapes.kinds[pieces] == POINT
    if points.any():
        xy = shapes.xy[shapes.starts[pieces[points]]]
        np.logical_or.at(hit, owner[points], shapely.intersects_xy(area, xy[:, 0], xy[:, 1]))
    if not points.all():
        lines = pieces[~points]
        lengths = counts[~points]
        vertices = np.concatenate([shapes.xy[shapes.starts[p] : shapes.starts[p + 1]] for p in lines])
        made = shapely.linestrings(vertices, indices=np.repeat(np.arange(len(lines)), lengths))
        np.logical_or.at(hit, owner[~points], shapely.intersects(area, made))
    # what is drawn wholly inside an area meets none of its edges
    for n in np.flatnonzero(~hit):
        hit[n] = distance_to(item, int(rows[n]), float(ring[0][0]), float(ring[0][1])) == 0.0
    return np.sort(rows[hit]).astype(np.int64)
