"""What was added, removed and changed between two states of a layer."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import shapely

from eskret.core.tables.groupby import codes_of
from eskret.core.tables.rows import remaining

ADDED, CHANGED, REMOVED = "added", "changed", "removed"


@dataclass(frozen=True)
class Difference:
    """Positions (int64) of the rows that differ.

    ``added`` and ``changed`` in the new table, ``was`` (as long as ``changed``) and ``removed`` in the old. For each changed
    row the ``fields`` that did, its ``earlier`` values as a text, and how far its shape ``moved`` in units of the plane
    (Hausdorff distance). ``unkeyed`` and ``unkeyed_before`` could not be matched: their key is empty, or not theirs alone.
    """

    added: np.ndarray
    removed: np.ndarray
    changed: np.ndarray
    was: np.ndarray
    fields: list[tuple[str, ...]]
    earlier: list[str]
    moved: np.ndarray
    unkeyed: np.ndarray
    unkeyed_before: np.ndarray


def difference(
    new: pa.Table,
    new_shapes: np.ndarray | None,
    old: pa.Table,
    old_shapes: np.ndarray | None,
    *,
    key: Sequence[str],
    fields: Sequence[str],
    tolerance: float = 0.0,
) -> Difference:
    """Compare two states of a layer, in one CRS.

    Parameters
    ----------
    key : fields that tell rows apart; by shape where none is named.
    fields : those compared, in both tables.
    tolerance : how far shapes may differ and count as the same, in units of the plane.
    """
    a, b, unkeyed, unkeyed_before = _matched(new, new_shapes, old, old_shapes, key)
    added = np.setdiff1d(remaining(new.num_rows, a), unkeyed)
    removed = np.setdiff1d(remaining(old.num_rows, b), unkeyed_before)
    differ: dict[str, np.ndarray] = {}
    for name in fields:
        if name not in key:
            differ[name] = _differ(new.column(name).take(pa.array(a)), old.column(name).take(pa.array(b)))
    moved = np.zeros(len(a))
    if new_shapes is not None and old_shapes is not None and key:
        moved = _moved(new_shapes[a], old_shapes[b], tolerance)
    changed = moved > 0
    for column in differ.values():
        changed = changed | column
    at = np.flatnonzero(changed)
    which = [tuple(n for n in differ if differ[n][i]) + (("shape",) if moved[i] > 0 else ()) for i in at.tolist()]
    earlier = []
    for i, names in zip(at.tolist(), which, strict=True):
        values = [f"{n} = {old.column(n)[int(b[i])].as_py()}" for n in names if n != "shape" or n in differ]
        earlier.append("; ".join(values))
    return Difference(added, removed, a[at], b[at], which, earlier, moved[at], unkeyed, unkeyed_before)


def _matched(
    new: pa.Table, new_shapes: np.ndarray | None, old: pa.Table, old_shapes: np.ndarray | None, key: Sequence[str]
) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """Pairs of rows, and those of either side that cannot be matched."""
    if key:
        columns = [_together(new.column(k), old.column(k)) for k in key]
        empty = np.zeros(new.num_rows + old.num_rows, bool)
        code = np.zeros(len(empty), np.int64)
        for column in columns:
            empty |= np.asarray(column.is_null())
            _, code = np.unique(code * (len(empty) + 1) + codes_of(column), return_inverse=True)
        mine, theirs = code[: new.num_rows], code[new.num_rows :]
        count_new, count_old = (np.bincount(c, minlength=int(code.max(initial=0)) + 1) for c in (mine, theirs))
        bad_new = empty[: new.num_rows] | (count_new[mine] > 1) | (count_old[mine] > 1)
        bad_old = empty[new.num_rows :] | (count_old[theirs] > 1) | (count_new[theirs] > 1)
        good_new, good_old = np.flatnonzero(~bad_new), np.flatnonzero(~bad_old)
        _, i, j = np.intersect1d(mine[good_new], theirs[good_old], return_indices=True)
        order = np.argsort(good_new[i])
        return good_new[i][order], good_old[j][order], np.flatnonzero(bad_new), np.flatnonzero(bad_old)
    assert new_shapes is not None and old_shapes is not None
    # equal shapes are paired in their order, as many as both sides have
    binary = [shapely.to_wkb(shapely.normalize(s)) for s in (new_shapes, old_shapes)]
    code = codes_of(pa.chunked_array([pa.array([*binary[0].tolist(), *binary[1].tolist()], pa.binary())]))
    mine, theirs = code[: new.num_rows], code[new.num_rows :]
    i, j = (_numbered(c) for c in (mine, theirs))
    whole = int(code.max(initial=0)) + 1
    _, a, b = np.intersect1d(i * whole + mine, j * whole + theirs, return_indices=True)
    order = np.argsort(a)
    none = np.empty(0, np.int64)
    return a[order], b[order], none, none


def _numbered(code: np.ndarray) -> np.ndarray:
    """For each value the how many-th of its like it is, from 0."""
    order = np.argsort(code, kind="stable")
    ordered = code[order]
    first = np.searchsorted(ordered, ordered)
    out = np.empty(len(code), np.int64)
    out[order] = np.arange(len(code)) - first
    return out


def _together(a: pa.ChunkedArray, b: pa.ChunkedArray) -> pa.ChunkedArray:
    if a.type != b.type:
        a, b = (pa.chunked_array([pa.array([None if v is None else str(v) for v in c.to_pylist()], pa.string())]) for c in (a, b))
    return pa.chunked_array([*a.chunks, *b.chunks], a.type)


def _differ(a: pa.ChunkedArray, b: pa.ChunkedArray) -> np.ndarray:
    """Where two columns hold other values; two empty ones are the same, and so are two that are no number."""
    if a.type != b.type or pa.types.is_nested(a.type):
        return np.array([str(x) != str(y) for x, y in zip(a.to_pylist(), b.to_pylist(), strict=True)], bool)
    null_a, null_b = np.asarray(a.is_null()), np.asarray(b.is_null())
    other = np.asarray(pc.fill_null(pc.not_equal(a, b), False)).astype(bool)
    if pa.types.is_floating(a.type):
        other &= ~(np.asarray(pc.fill_null(pc.is_nan(a), False)) & np.asarray(pc.fill_null(pc.is_nan(b), False)))
    return np.asarray(np.where(null_a | null_b, null_a != null_b, other))


def _moved(now: np.ndarray, then: np.ndarray, tolerance: float) -> np.ndarray:
    """How far each shape is from what it was, 0 where it is the same; one that came or went counts as infinitely far."""
    out = np.zeros(len(now))
    same = shapely.equals_exact(now, then, 0.0, normalize=True)
    missing = shapely.is_missing(now) | shapely.is_empty(now), shapely.is_missing(then) | shapely.is_empty(then)
    out[missing[0] != missing[1]] = np.inf
    at = np.flatnonzero(~same & ~missing[0] & ~missing[1])
    far = shapely.hausdorff_distance(now[at], then[at])
    # the same outline drawn from another corner, or with a corner more on it, has not moved
    out[at] = np.where(far > tolerance, far, 0.0)
    return out
