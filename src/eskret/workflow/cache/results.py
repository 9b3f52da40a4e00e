"""Results on disk, for a window in another process: attributes as Arrow, geometry as plain arrays to draw from.

A stored layer is a folder: ``table.arrow`` (IPC file, memory-mapped when read) and, where there is geometry, ``drawn.arrays`` with

* ``xy`` float64 (vertices, 2)
* ``starts`` int64 (pieces + 1): where each piece (a ring, a line, a point) begins in ``xy``
* ``kinds`` uint8 (pieces): 0 point, 1 line, 2 ring
* ``first`` int64 (features + 1): the first piece of each feature
* ``boxes`` float64 (features, 4): xmin, ymin, xmax, ymax, NaN for none

``ids.arrays`` int64 (features), where the source gives its features numbers, and ``shapes.arrow`` with the shapes as they are, as
binary, for whoever works on with them.
"""

from __future__ import annotations

import json
import shutil
import threading
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import shapely

from eskret.core.accounts.account import Altered, Role, SetAside
from eskret.core.crs import crs_facts, is_geographic
from eskret.core.files.arrays import write_arrays
from eskret.core.geometry import antimeridian
from eskret.core.layer import Layer
from eskret.core.layer.wkb import POLYGON
from eskret.operations.base import Outcome
from eskret.workflow.cache.cached_layer import IDS, SHAPES, TABLE, TYPES, CachedLayer, LayerHandle, home_of, link, materialise
from eskret.workflow.cache.cached_layer import write as write_rows
from eskret.workflow.cache.stored import DRAWN, ROWS

POINT, LINE, RING = 0, 1, 2


def pieces_of(geometry: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """Geometry of any kinds as arrays to draw from: ``xy``, ``starts``, ``kinds``, ``first`` as in the module's text."""
    parts, owner = shapely.get_parts(geometry, return_index=True)
    # a collection's parts can be multiples, and those of a nested one collections: take apart until nothing changes
    while (shapely.get_type_id(parts) >= 4).any():
        parts, inner = shapely.get_parts(parts, return_index=True)
        owner = owner[inner]
    types = shapely.get_type_id(parts)
    areas = types == 3
    rings, ring_of = shapely.get_rings(parts[areas], return_index=True)
    shell = np.ones(len(rings), bool)
    shell[1:] = ring_of[1:] != ring_of[:-1]
    pieces = np.concatenate([rings, parts[~areas]])
    shells = np.concatenate([shell, np.zeros(int((~areas).sum()), bool)])
    owners = np.concatenate([owner[areas][ring_of], owner[~areas]])
    kinds = np.concatenate([np.full(len(rings), RING, np.uint8), np.where(types[~areas] == 0, POINT, LINE).astype(np.uint8)])
    order = np.argsort(owners, kind="stable")
    pieces, owners, kinds, shells = pieces[order], owners[order], kinds[order], shells[order]
    xy, piece = shapely.get_coordinates(pieces, return_index=True)
    starts = np.searchsorted(piece, np.arange(len(pieces) + 1)).astype(np.int64)
    xy = _wound(xy, starts, kinds == RING, shells)
    first = np.searchsorted(owners, np.arange(len(geometry) + 1)).astype(np.int64)
    return xy, starts, kinds, first


def drawing_of(layer: Layer) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """As ``pieces_of``, with the box of each feature (n, 4); of shapes that came as binary without making them, where that can be.

    In degrees an edge over 180 degrees is drawn the short way, and a ring round a pole over it: the long way would be a band across
    the map.
    """
    over = _over_the_seam(layer)
    if over is not None:
        return (*pieces_of(over), shapely.bounds(over).reshape(-1, 4))
    binary, count = layer.undecoded, len(layer)
    if binary is not None and binary.xy is not None and not np.isnan(binary.xy).any():
        each = np.arange(count + 1)
        return binary.xy, each, np.full(count, POINT, np.uint8), each, np.hstack([binary.xy, binary.xy])
    boxes = binary.bounds() if binary is not None else None
    if binary is not None and binary.pieces is not None and boxes is not None:
        xy, starts, owner = binary.pieces
        rings = np.full(len(owner), binary.types[0] == POLYGON)
        shells = np.r_[True, owner[1:] != owner[:-1]]
        kinds = np.where(rings, RING, LINE).astype(np.uint8)
        return _wound(xy, starts, rings, shells), starts, kinds, np.searchsorted(owner, np.arange(count + 1)), boxes
    assert layer.geometry is not None
    return (*pieces_of(layer.geometry), shapely.bounds(layer.geometry).reshape(-1, 4))


def _over_the_seam(layer: Layer) -> np.ndarray | None:
    """All shapes with those cut that have an edge over 180 degrees; None where none has."""
    if not is_geographic(layer.crs):
        return None
    binary = layer.undecoded
    if binary is not None:
        boxes = binary.bounds()
    else:
        assert layer.geometry is not None
        boxes = shapely.bounds(layer.geometry).reshape(-1, 4)
    with np.errstate(invalid="ignore"):
        wide = np.flatnonzero(boxes[:, 2] - boxes[:, 0] > 180) if boxes is not None else np.arange(len(layer))
    if not len(wide):
        return None
    made, changed = antimeridian.cut(layer.shapes(wide))
    if not len(changed):
        return None
    shapes = np.array(layer.shapes(np.arange(len(layer))), object)
    shapes[wide[changed]] = made[changed]
    return shapes


def _wound(xy: np.ndarray, starts: np.ndarray, rings: np.ndarray, shells: np.ndarray) -> np.ndarray:
    """Turn shells one way round and holes the other, so that neighbours that overlap do not cancel out when filled."""
    if not rings.any():
        return xy
    ahead = np.roll(xy, -1, axis=0)
    cross = xy[:, 0] * ahead[:, 1] - ahead[:, 0] * xy[:, 1]
    cross[starts[1:] - 1] = 0.0  # the step from one piece to the next is none of either
    turn = np.add.reduceat(cross, starts[:-1])
    wrong = rings & ((turn > 0) != shells)
    if not wrong.any():
        return xy
    begin = np.repeat(np.where(wrong, starts[:-1], 0), np.diff(starts))
    end = np.repeat(np.where(wrong, starts[1:] - 1, 0), np.diff(starts))
    place = np.arange(len(xy))
    return xy[np.where(np.repeat(wrong, np.diff(starts)), begin + end - place, place)]


class ResultStore:
    """Stores layers, each once, in a folder of its own. Safe to use from several threads."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        folder.mkdir(parents=True, exist_ok=True)
        self._known: dict[Any, tuple[LayerHandle, dict[str, Any]]] = {}
        self._number = 0
        self._lock = threading.Lock()

    def put(self, layer: LayerHandle) -> dict[str, Any]:
        """Store a layer; say where it is and what it is, as JSON."""
        place: Any = layer.home if isinstance(layer, CachedLayer) else (id(layer.table), id(layer.column))
        with self._lock:
            known = self._known.get(place)
            if known is None:
                self._number += 1
                home = self.folder / f"{self._number:05d}"
                info = _write(layer, home)
                # one in memory is held, so that no other comes to its place; of one on disk its place is enough
                self._known[place] = (layer.release() if isinstance(layer, CachedLayer) else layer, info)
            else:
                info = known[1]
        return {**info, "key": layer.key, "name": layer.name, "kind": str(layer.kind), "line": [list(place) for place in layer.provenance]}

    def keep(
        self, step: str, entering: Sequence[LayerHandle], outcomes: Sequence[Outcome], others: Sequence[LayerHandle] = ()
    ) -> Mapping[str, Any]:
        """Store a step's result; for the engine's ``keep``."""
        aside: dict[str, Any] = {}
        altered: dict[str, Any] = {}
        leftovers: dict[str, Any] = {}
        for account in (a for o in outcomes for a in o.inputs):
            mine = account.setting == Role.FROM
            if len(account.set_aside.rows):
                into = aside if mine else leftovers
                name = f"aside-{step}-{account.setting}-{len(into)}"
                into.setdefault(account.layer, self._rows(name, account.set_aside))
            if mine and account.altered:
                altered[account.layer] = self._altered(f"altered-{step}-{len(altered)}", account.altered)
        return {
            "view": {
                "entering": [self.put(layer) for layer in entering],
                "leaving": [self.put(layer) for o in outcomes for layer in o.layers],
                "aside": aside,
                "altered": altered,
                "others": [self.put(layer) for layer in others],
                "leftovers": leftovers,
            }
        }

    def _rows(self, name: str, aside: SetAside) -> dict[str, Any]:
        home = self.folder / name
        home.mkdir(parents=True, exist_ok=True)
        write_arrays(home / ROWS, [aside.rows, aside.codes])
        return {"path": str(home), "reasons": list(aside.reasons), "rows": len(aside.rows)}

    def _altered(self, name: str, altered: Sequence[Altered]) -> dict[str, Any]:
        """Rows with what was done to them; one to which several things were done, with the first."""
        home = self.folder / name
        home.mkdir(parents=True, exist_ok=True)
        rows = np.concatenate([a.rows for a in altered]).astype(np.int64)
        codes = np.concatenate([np.full(len(a), n, np.int16) for n, a in enumerate(altered)])
        amounts = np.concatenate([np.full(len(a), np.nan) if a.amounts is None else a.amounts for a in altered])
        where = np.concatenate([np.full((len(a), 4), np.nan) if a.where is None else a.where for a in altered])
        rows, first = np.unique(rows, return_index=True)
        told = [rows, codes[first], amounts[first]]
        write_arrays(home / ROWS, told if np.isnan(where).all() else [*told, where[first]])
        return {"path": str(home), "reasons": [a.what for a in altered], "rows": len(rows), "units": [a.unit for a in altered]}


_INFO = "layer.json"
_FILES = (TABLE, SHAPES, TYPES, IDS, DRAWN)


def _write(layer: LayerHandle, home: Path) -> dict[str, Any]:
    """Write a layer, or give what was written of it before a second name."""
    kept = home_of(layer)
    if kept is not None and (kept / _INFO).exists() and _link_all(kept, home):
        told: dict[str, Any] = json.loads((home / _INFO).read_text())
        return {**told, "path": str(home)}
    info = _write_anew(materialise(layer), home)
    if kept is not None:
        # so that the next run finds it; the word that it is whole comes last
        for name in (DRAWN, IDS, _INFO):
            if (home / name).exists():
                link(home / name, kept / name)
    return info


def _link_all(kept: Path, home: Path) -> bool:
    home.mkdir(parents=True)
    if all(link(kept / n, home / n) for n in (*_FILES, _INFO) if (kept / n).exists()):
        return True
    shutil.rmtree(home)  # another file system
    return False


def _write_anew(layer: Layer, home: Path) -> dict[str, Any]:
    write_rows(layer, home, [layer])
    crs = None
    if layer.has_geometry:
        write_arrays(home / DRAWN, drawing_of(layer))
        crs = _crs_json(layer.crs)
    info = {
        "path": str(home),
        "rows": len(layer),
        "crs": crs,
        "drawn": layer.has_geometry,
        "extent": layer.extent(),
        "origin": layer.origin,
        "titles": dict(layer.titles),
        "numbered": layer.ids is not None,
    }
    (home / _INFO).write_text(json.dumps(info))
    return info


def _crs_json(crs: str | None) -> dict[str, Any] | None:
    if crs is None:
        return None
    facts = crs_facts(crs)
    return {
        "code": facts.code,
        "name": facts.name,
        "unit": facts.unit,
        "unit_metres": facts.unit_metres,
        "geographic": facts.geographic,
        "area": facts.area,
    }
