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
from eskret.formats.reading import Watch, no_watch
from eskret.formats.sqlite import insert

_CELLS = 51  # SQLite's RTREE_MAXCELLS
_FILL = 46  # a little room, so that later edits do not split every node at once
_NODE_BYTES = 4 + 24 * _CELLS
_AT_ONCE = 2_000
"""Nodes that are made at a time."""
_LEAST_PAGE = 2048  # a node of 51 cells has room in a page less 64 bytes
_CELL = np.dtype([("id", ">i8"), ("box", ">f4", 4)])


def rounded(bounds: np.ndarray) -> np.ndarray:
    """Boxes as an R-tree has them: float64 xmin, ymin, xmax, ymax to float32 xmin, xmax, ymin, ymax, rounded outward."""
    with np.errstate(over="ignore"):
        near = bounds.astype(np.float32)
    low = np.where(near[:, :2] > bounds[:, :2], np.nextafter(near[:, :2], np.float32(-np.inf)), near[:, :2])
    high = np.where(near[:, 2:] < bounds[:, 2:], np.nextafter(near[:, 2:], np.float32(np.inf)), near[:, 2:])
    return np.column_stack([low[:, 0], high[:, 0], low[:, 1], high[:, 1]]).astype(np.float32)


def _order(box: np.ndarray) -> np.ndarray:
    """Sort boxes into tiles: vertical strips of about the square root of the nodes, each from south to north. Positions are small
    numbers, and each strip is sorted by itself: of many millions nothing is there several times."""
    strips = max(1, int(np.ceil(np.sqrt(len(box) / _FILL))))
    order = np.argsort(box[:, 0] + box[:, 1], kind="stable").astype(np.uint32)
    for strip in range(strips):
        mine = order[-(-strip * len(box) // strips) : -(-(strip + 1) * len(box) // strips)]
        mine.sort()  # of those equally far north the first comes first
        mine[:] = mine[np.argsort(box[mine, 2] + box[mine, 3], kind="stable")]
    return order


def fill(db: sqlite3.Connection, table: str, ids: np.ndarray, box: np.ndarray, watch: Watch = no_watch) -> None:
    """Fill an empty R-tree.

    Parameters
    ----------
    table : name of the virtual table, created with id, minx, maxx, miny, maxy and empty.
    ids : row numbers (whole numbers).
    box : xmin, xmax, ymin, ymax of each, as ``rounded`` gives them (float32, n x 4), no NaN.
    """
    if not len(ids):
        return

    def quoted(suffix: str) -> str:
        return "main." + quote(table + suffix)

    if db.execute("PRAGMA main.page_size").fetchone()[0] < _LEAST_PAGE:
        # nodes are smaller there: SQLite lays them out itself
        rows = box.tolist()
        db.executemany(f"INSERT INTO {quoted('')} VALUES (?, ?, ?, ?, ?)", [(i, *b) for i, b in zip(ids.tolist(), rows, strict=True)])
        return
    sizes = [len(ids)]
    while sizes[-1] > _FILL:
        sizes.append(-(-sizes[-1] // _FILL))
    # the root is node 1; the nodes of lower levels are numbered on, top down
    first, number = {len(sizes) - 1: 1}, 2
    for level in range(len(sizes) - 2, -1, -1):
        first[level], number = number, number + sizes[level + 1]
    for level in range(len(sizes)):
        order, leaf = _order(box), level == 0
        numbers = ids if leaf else ids + first[level - 1]
        box = _write_nodes(db, quoted("_node"), numbers, box, order, first[level], 0 if level < len(sizes) - 1 else level, watch)
        node_of = np.empty(len(order), np.uint32)
        for begin in range(0, len(order), _FILL * _AT_ONCE):
            some = order[begin : begin + _FILL * _AT_ONCE]
            node_of[some] = np.arange(begin, begin + len(some)) // _FILL + first[level]
        del order
        for begin in range(0, len(numbers), _FILL * _AT_ONCE):
            watch(0, 0)
            pairs = np.column_stack([numbers[begin : begin + _FILL * _AT_ONCE], node_of[begin : begin + _FILL * _AT_ONCE]]).tolist()
            insert(db, quoted("_rowid" if leaf else "_parent"), ("rowid" if leaf else "nodeno", "nodeno" if leaf else "parentnode"), pairs)
        ids = np.arange(len(box), dtype=np.int64)


def _write_nodes(
    db: sqlite3.Connection, table: str, numbers: np.ndarray, box: np.ndarray, order: np.ndarray, first: int, depth: int, watch: Watch
) -> np.ndarray:
    """The nodes of a level, some at a time.

    Parameters
    ----------
    numbers, box : of the cells, rows or nodes of the level below.
    order : in which they lie, so many to a node.
    first : the number of the first node.
    depth : of the tree, in its root; 0 in every other node.

    Returns
    -------
    The boxes of the nodes (m x 4).
    """
    whole = []
    for begin in range(0, len(order), _FILL * _AT_ONCE):
        some = order[begin : begin + _FILL * _AT_ONCE]
        cells = np.empty(len(some), _CELL)
        cells["id"], mine = numbers[some], box[some]
        cells["box"] = mine
        raw, starts = cells.tobytes(), np.arange(0, len(some), _FILL)
        nodes = []
        for start in starts.tolist():
            stop = min(start + _FILL, len(some))
            head = depth.to_bytes(2, "big") + (stop - start).to_bytes(2, "big")
            nodes.append((first + (begin + start) // _FILL, (head + raw[start * 24 : stop * 24]).ljust(_NODE_BYTES, b"\0")))
        db.executemany(f"INSERT OR REPLACE INTO {table} (nodeno, data) VALUES (?,?)", nodes)
        watch(0, 0)
        sides = [reduce.reduceat(mine[:, n], starts) for n, reduce in enumerate((np.minimum, np.maximum, np.minimum, np.maximum))]
        whole.append(np.column_stack(sides))
    return np.concatenate(whole)
