"""Fill an SQLite R-tree all at once: boxes are sorted into packed nodes, which are written as they are stored.

One INSERT a box costs a walk down the tree each; packing sorts once. Node layout (from SQLite's own documentation of the
R-tree module): two bytes of depth in the root, two of the number of cells, then for each cell eight bytes of row or
node number and four 32-bit floats min x, max x, min y, max y, all big-endian. Mins are rounded down and maxes up, so a
box never shrinks. Tested with SQLite's ``rtreecheck``.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Generator
from typing import Any

import numpy as np

from eskret.core.expression import quote
from eskret.formats.reading import Watch, no_watch
from eskret.formats.sqlite import insert

_CELLS = 51  # SQLite's RTREE_MAXCELLS
_FILL = 46  # a little room, so that later edits do not split every node at once
_AT_ONCE = 2_000
"""Nodes that are made at a time."""
_LEAST_PAGE = 2048  # a node of 51 cells has room in a page less 64 bytes
_CELL = np.dtype([("id", ">i8"), ("box", ">f4", 4)])
_NODE = np.dtype([("depth", ">u2"), ("cells", ">u2"), ("cell", _CELL, _CELLS)])
NODES, ROWS, PARENTS = "_node", "_rowid", "_parent"
"""The tables of a tree, by what their names end with."""
FIELDS = {NODES: ("nodeno", "data"), ROWS: ("rowid", "nodeno"), PARENTS: ("nodeno", "parentnode")}


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


def has_room(db: sqlite3.Connection) -> bool:
    """Whether nodes of the size that is usual have room in the pages of a file; else SQLite must lay them out itself."""
    return int(db.execute("PRAGMA main.page_size").fetchone()[0]) >= _LEAST_PAGE


def fill(db: sqlite3.Connection, table: str, ids: np.ndarray, box: np.ndarray, watch: Watch = no_watch) -> None:
    """Fill an empty R-tree.

    Parameters
    ----------
    table : name of the virtual table, created with id, minx, maxx, miny, maxy and empty.
    ids : row numbers (whole numbers).
    box : xmin, xmax, ymin, ymax of each, as ``rounded`` gives them (float32, n x 4), no NaN.
    """
    if not has_room(db):
        rows = box.tolist()
        db.executemany(
            f"INSERT INTO main.{quote(table)} VALUES (?, ?, ?, ?, ?)", [(i, *b) for i, b in zip(ids.tolist(), rows, strict=True)]
        )
        return
    for part, columns in packed(ids, box):
        watch(0, 0)
        where = "main." + quote(table + part)
        if part == NODES:
            db.executemany(
                f"INSERT OR REPLACE INTO {where} (nodeno, data) VALUES (?,?)", [*zip(columns[0].tolist(), columns[1], strict=True)]
            )
        else:
            insert(db, where, FIELDS[part], np.column_stack(columns).tolist())


def packed(ids: np.ndarray, box: np.ndarray) -> Generator[tuple[str, tuple[np.ndarray, Any]], None, None]:
    """What an R-tree of these boxes holds, some of it at a time.

    Parameters
    ----------
    ids, box : as ``fill`` takes them.

    Yields
    ------
    The part of the tree, a table of its own, and the two columns of it (``FIELDS``): whole numbers, or the binary of nodes.
    """
    if not len(ids):
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
        above = []
        for begin in range(0, len(order), _FILL * _AT_ONCE):
            some = order[begin : begin + _FILL * _AT_ONCE]
            nodes, sides = _nodes(numbers[some], box[some], 0 if level < len(sizes) - 1 else level)
            above.append(sides)
            yield NODES, (np.arange(begin // _FILL, begin // _FILL + len(nodes)) + first[level], nodes)
        node_of = np.empty(len(order), np.uint32)
        for begin in range(0, len(order), _FILL * _AT_ONCE):
            some = order[begin : begin + _FILL * _AT_ONCE]
            node_of[some] = np.arange(begin, begin + len(some)) // _FILL + first[level]
        del order
        for begin in range(0, len(numbers), _FILL * _AT_ONCE):
            end = begin + _FILL * _AT_ONCE
            yield ROWS if leaf else PARENTS, (numbers[begin:end], node_of[begin:end])
        box = np.concatenate(above)
        ids = np.arange(len(box), dtype=np.int64)


def _nodes(numbers: np.ndarray, box: np.ndarray, depth: int) -> tuple[np.ndarray, np.ndarray]:
    """Nodes of so many cells each, but for the last.

    Parameters
    ----------
    numbers, box : of the cells, rows or nodes of the level below.
    depth : of the tree, in its root; 0 in every other node.

    Returns
    -------
    The nodes as they are stored (binary of a fixed size), and their boxes (m x 4).
    """
    starts = np.arange(0, len(box), _FILL)
    cells = np.zeros((len(starts), _CELLS), _CELL)
    full, rest = divmod(len(box), _FILL)
    of = np.zeros(len(box), _CELL)
    of["id"], of["box"] = numbers, box
    cells[:full, :_FILL] = of[: full * _FILL].reshape(full, _FILL)
    if rest:
        cells[full, :rest] = of[full * _FILL :]
    nodes = np.zeros(len(starts), _NODE)
    nodes["depth"], nodes["cells"], nodes["cell"] = depth, np.diff(np.append(starts, len(box))), cells
    sides = [reduce.reduceat(box[:, n], starts) for n, reduce in enumerate((np.minimum, np.maximum, np.minimum, np.maximum))]
    return nodes.view(f"V{_NODE.itemsize}"), np.column_stack(sides)
