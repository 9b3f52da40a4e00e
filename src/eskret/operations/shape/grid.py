"""A grid of cells over a layer."""

from __future__ import annotations

from typing import Literal

import numpy as np
import pyarrow as pa
import shapely

from eskret.core.accounts.account import Relation, Remark
from eskret.core.crs import crs_facts
from eskret.core.geometry.parallel import is_nonempty
from eskret.core.layer import Certainty, Field, GeometryKind, Layer, LayerFacts
from eskret.core.measure.units import parse_length
from eskret.core.words import pluralise
from eskret.errors import CrsError, SettingError
from eskret.operations.base import Context, EachLayer, Finding, Forecast, Outcome, Phase
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support import reshaping
from eskret.operations.support.setting_types import SomeLength

_MOST = 4_000_000


class Grid(EachLayer):
    """Cover the extent of a layer with cells of one size.

    Cells are squares or hexagons, laid out from whole multiples of their size, so that the grids of two layers fit
    each other. They are numbered by column and row. You get only the cells that a feature touches, or all of the
    extent. The coordinate system must be in units of length.
    """

    id = "grid"
    title = "Grid"
    phase = Phase.SHAPE
    menu_order = 70
    relation = Relation.NEW
    says = "Grid of {size} over {entering}"
    also_known_as = (
        "cells",
        "squares",
        "hexagons",
        "hexagon grid",
        "tessellation",
        "sampling grid",
        "fishnet",
        "tiles",
        "cover area with cells",
    )

    class Settings(OperationSettings):
        size: SomeLength = reshaping.length_setting(
            "Size of a cell", "Its side (of a hexagon, from side to side), with its unit.", "1 km", min_length=1
        )
        shape: Literal["square", "hexagon"] = setting(
            "Shape",
            kind="choice",
            default="square",
            choices={"square": "squares", "hexagon": "hexagons"},
            help="Hexagons have six neighbours at one distance.",
        )
        cover: Literal["features", "extent"] = setting(
            "Cells",
            kind="choice",
            default="features",
            help="Which cells are made.",
            choices={"features": "only those that a feature touches", "extent": "all over the extent"},
        )

    def forecast(self, facts: LayerFacts, settings: Settings, context: Context) -> Forecast:
        found = reshaping.require_geometry(facts)
        if not found and (not facts.crs or not crs_facts(facts.crs).unit_metres):
            found.append(Finding.error("its coordinate system has no unit of length. Reproject it first.", "size", facts))
        new = facts.with_fields([Field("col", pa.int64()), Field("row", pa.int64())])
        return reshaping.forecast_shapes(new, found, GeometryKind.POLYGON, count=None, certainty=Certainty.UNKNOWN)

    def work(self, layer: Layer, settings: Settings, context: Context) -> Outcome:
        facts = crs_facts(layer.crs) if layer.crs else None
        if facts is None or not facts.unit_metres:
            raise CrsError("its coordinate system has no unit of length", place=layer.key, way_out="Reproject it first")
        size = parse_length(settings.size).si / facts.unit_metres
        extent = layer.extent()
        assert layer.geometry is not None
        if extent is None:
            cells, col, row = np.empty(0, object), np.empty(0, np.int64), np.empty(0, np.int64)
        else:
            cells, col, row = (_squares if settings.shape == "square" else _hexagons)(extent, size)
        if settings.cover == "features" and len(cells):
            there = layer.geometry[is_nonempty(layer.geometry)]
            hit, _ = shapely.STRtree(there).query(cells, predicate="intersects")
            keep = np.unique(hit)
            cells, col, row = cells[keep], col[keep], row[keep]
        table = pa.table({"col": pa.array(col), "row": pa.array(row)})
        out = Layer(layer.key, table, cells, layer.crs, kind=GeometryKind.POLYGON)
        return Outcome((out,), remarks=(Remark(pluralise(len(out), "cell"), layer.key),), relation=Relation.REPORT)


def _check(columns: int, rows: int) -> None:
    if columns * rows > _MOST:
        raise SettingError(f"that would be {columns * rows:,} cells", setting="size", way_out="Make the cells larger")


def _squares(extent: tuple[float, float, float, float], size: float) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    west, south = np.floor(extent[0] / size), np.floor(extent[1] / size)
    columns = max(1, int(np.ceil(extent[2] / size - west)))
    rows = max(1, int(np.ceil(extent[3] / size - south)))
    _check(columns, rows)
    row, col = (a.ravel() for a in np.mgrid[0:rows, 0:columns])
    x, y = (west + col) * size, (south + row) * size
    return shapely.box(x, y, (west + col + 1) * size, (south + row + 1) * size), col + 1, row + 1


def _hexagons(extent: tuple[float, float, float, float], size: float) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Hexagons with a corner at the top, ``size`` from side to side; every other row is half a cell aside."""
    side = size / np.sqrt(3)
    high = 1.5 * side
    west, south = np.floor(extent[0] / size) - 1, 2 * np.floor(extent[1] / high / 2) - 2
    columns = int(np.ceil(extent[2] / size - west)) + 2
    rows = int(np.ceil(extent[3] / high - south)) + 2
    _check(columns, rows)
    row, col = (a.ravel() for a in np.mgrid[0:rows, 0:columns])
    x = (west + col + np.where(row % 2, 0.5, 0.0)) * size
    y = (south + row) * high
    angle = np.radians([30, 90, 150, 210, 270, 330])
    ring = np.stack([x[:, None] + side * np.cos(angle), y[:, None] + side * np.sin(angle)], -1)
    cells = np.asarray(shapely.polygons(ring))
    near = shapely.intersects(cells, shapely.box(*extent))
    return cells[near], col[near] + 1, row[near] + 1
