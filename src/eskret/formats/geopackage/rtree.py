"""Fill an SQLite R-tree all at once: boxes are sorted into packed nodes, which are written as they are stored.

One INSERT a box costs a walk down the tree each; packing sorts once. Node layout (from SQLite's own documentation of the
R-tree module): two bytes of depth in the root, two of the number of cells, then for each cell eight bytes of row or
node number and four 32-bit floats min x, max x, min y, max y, all big-endian. Mins are rounded down and maxes up, so a
box never shrinks. Tested with SQLite's ``rtreecheck``.
"""

from __future__ import annotations

import sqlite3

import numpy as np

from eskret.core.expression import quote
from eskret.formats.sqlite import insert

_CELLS = 51  # SQLite's RTREE_MAXCELLS
_FILL = 46  # a little room, so that later edits do not split every node at once
_NODE_BYTES = 4 + 24 * _CELLS
_LEAST_PAGE = 2048  # a node of 51 cells has room in a page less 64 bytes
_CELL = np.dtype([("id", ">i8"), ("box", ">f4", 4)])


def _rounded(bounds: np.ndarray) -> np.ndarray:
    """float64 xmin, ymin, xmax, ymax to float32 xmin, xmax, ymin, ymax, rounded outward."""
    with np.errstate(over="ignore"):
        near = bounds.astype(np.float32)
    low = np.where(near[:, :2] > bounds[:, :2], np.nextafter(near[:, :2], np.float32(-np.inf)), near[:, :2])
    high = np.where(near[:, 2:] < bounds[:, 2:], np.nextafter(near[:, 2:], np.float32(np.inf)), near[:, 2:])
    return np.column_stack([low[:, 0], high[:, 0], low[:, 1], high[:, 1]]).astype(np.float32)


def _order(box: np.ndarray) -> np.ndarray:
    """Sort boxes into tiles: vertical strips of about the square root of the nodes, each from south to north."""
    x, y = box[:, 0] + box[:, 1], box[:, 2] + box[:, 3]
    strips = max(1, int(np.ceil(np.sqrt(len(box) / _FILL))))
    by_x = np.argsort(x, kind="stable")
    strip = np.empty(len(box), np.int64)
    strip[by_x] = np.arange(len(box)) * strips // len(box)
    return np.lexsort((y, strip))


def fill(db: sqlite3.Connection, table: str, ids: np.ndarray, bounds: np.ndarray) -> None:
    """Fill an empty R-tree.

    Parameters
    ----------
    table : name of the virtual table, created with id, minx, maxx, miny, maxy and empty.
    ids : row numbers (int64).
    bounds : xmin, ymin, xmax, ymax of each (float64, n x 4), no NaN.
    """
    if not len(ids):
        return

    def quoted(suffix: str) -> str:
        return "main." + quote(table + suffix)

    if db.execute("PRAGMA main.page_size").fetchone()[0] < _LEAST_PAGE:
        # nodes are smaller there: SQLite lays them out itself
        rows = np.column_stack([bounds[:, 0], bounds[:, 2], bounds[:, 1], bounds[:, 3]]).tolist()
        db.executemany(f"INSERT INTO {quoted('')} VALUES (?, ?, ?, ?, ?)", [(i, *b) for i, b in zip(ids.tolist(), rows, strict=True)])
        return
    box = _rounded(bounds)
    levels: list[tuple[np.ndarray, np.ndarray, np.ndarray]] = []  # ids, boxes and node of each cell, leaves first
    while True:
        order = _order(box)
        ids, box = ids[order], box[order]
        node = np.arange(len(ids)) // _FILL
        levels.append((ids, box, node))
        if len(ids) <= _FILL:
            break
        starts = np.arange(0, len(ids), _FILL)
        box = np.column_stack(
            [
                np.minimum.reduceat(box[:, 0], starts),
                np.maximum.reduceat(box[:, 1], starts),
                np.minimum.reduceat(box[:, 2], starts),
                np.maximum.reduceat(box[:, 3], starts),
            ]
        )
        ids = np.arange(len(starts), dtype=np.int64)
    # the root is node 1; the nodes of lower levels are numbered on, top down
    first = {len(levels) - 1: 1}
    number = 2
    for level in range(len(levels) - 2, -1, -1):
        first[level] = number
        number += int(levels[level][2][-1]) + 1
    nodes: list[tuple[int, bytes]] = []
    parents: list[tuple[int, int]] = []
    for level, (cell_ids, cell_box, node) in enumerate(levels):
        numbers = node + first[level]
        children = cell_ids if level == 0 else cell_ids + first[level - 1]
        cells = np.empty(len(children), _CELL)
        cells["id"], cells["box"] = children, cell_box
        raw = cells.tobytes()
        for index in range(int(node[-1]) + 1):
            start, stop = index * _FILL, min((index + 1) * _FILL, len(children))
            depth = len(levels) - 1 if level == len(levels) - 1 else 0
            head = depth.to_bytes(2, "big") + (stop - start).to_bytes(2, "big")
            body = head + raw[start * 24 : stop * 24]
            nodes.append((first[level] + index, body.ljust(_NODE_BYTES, b"\0")))
        if level == 0:
            by_row = np.argsort(children, kind="stable")
            rows = np.column_stack([children, numbers])[by_row].tolist()
            insert(db, quoted("_rowid"), ("rowid", "nodeno"), rows)
        else:
            parents.extend(zip(children.tolist(), numbers.tolist(), strict=True))
    db.executemany(f"INSERT OR REPLACE INTO {quoted('_node')} (nodeno, data) VALUES (?,?)", sorted(nodes))
    db.executemany(f"INSERT INTO {quoted('_parent')} (nodeno, parentnode) VALUES (?,?)", sorted(parents))
