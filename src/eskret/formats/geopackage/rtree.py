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
    """Sort boxes into tiles: vertical strips of about the square root of the nodes, each from south to north."""
    x, y = box[:, 0] + box[:, 1], box[:, 2] + box[:, 3]
    strips = max(1, int(np.ceil(np.sqrt(len(box) / _FILL))))
    by_x = np.argsort(x, kind="stable")
    strip = np.empty(len(box), np.int64)
    strip[by_x] = np.arange(len(box)) * strips // len(box)
    return np.lexsort((y, strip))


def fill(db: sqlite3.Connection, table: str, ids: np.ndarray, box: np.ndarray, watch: Watch = no_watch) -> None:
    """Fill an empty R-tree.

    Parameters
    ----------
    table : name of the virtual table, created with id, minx, maxx, miny, maxy and empty.
    ids : row numbers (int64).
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
        order = _order(box)
        ids, box = ids[order], box[order]
        _write_nodes(db, quoted("_node"), ids if level == 0 else ids + first[level - 1], box, first[level], level == len(sizes) - 1, level)
        watch(0, 0)
        if level == 0:
            _write_rows(db, quoted("_rowid"), ids, first[0], watch)
        else:
            parents = np.column_stack([ids + first[level - 1], np.arange(len(ids)) // _FILL + first[level]])
            parents = parents[np.argsort(parents[:, 0], kind="stable")]
            db.executemany(f"INSERT INTO {quoted('_parent')} (nodeno, parentnode) VALUES (?,?)", parents.tolist())
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


def _write_nodes(db: sqlite3.Connection, table: str, ids: np.ndarray, box: np.ndarray, first: int, root: bool, level: int) -> None:
    """The nodes of a level, whose cells lie one behind the other; some at a time, so that they are never in memory all at once."""
    for begin in range(0, len(ids), _FILL * _AT_ONCE):
        end = min(begin + _FILL * _AT_ONCE, len(ids))
        cells = np.empty(end - begin, _CELL)
        cells["id"], cells["box"] = ids[begin:end], box[begin:end]
        raw = cells.tobytes()
        nodes = []
        for start in range(0, end - begin, _FILL):
            stop = min(start + _FILL, end - begin)
            head = (level if root else 0).to_bytes(2, "big") + (stop - start).to_bytes(2, "big")
            nodes.append((first + (begin + start) // _FILL, (head + raw[start * 24 : stop * 24]).ljust(_NODE_BYTES, b"\0")))
        db.executemany(f"INSERT OR REPLACE INTO {table} (nodeno, data) VALUES (?,?)", nodes)


def _write_rows(db: sqlite3.Connection, table: str, ids: np.ndarray, first: int, watch: Watch) -> None:
    """Which leaf each row is in, in the order of the rows."""
    by_row = np.argsort(ids, kind="stable")
    for begin in range(0, len(ids), _FILL * _AT_ONCE):
        some = by_row[begin : begin + _FILL * _AT_ONCE]
        watch(begin, len(ids))
        insert(db, table, ("rowid", "nodeno"), np.column_stack([ids[some], some // _FILL + first]).tolist())
