"""Small areas taken in by the neighbour they have most edge with."""

from __future__ import annotations

import heapq
from collections.abc import Mapping
from dataclasses import replace
from functools import partial
from typing import Any

import numpy as np
import pyarrow as pa
import shapely

from eskret.core.accounts.account import Altered, ControlTotal, InputAccount, Relation, Remark
from eskret.core.geometry.dissolve import dissolve
from eskret.core.geometry.parts import dimension, made_valid
from eskret.core.layer import Certainty, Layer, LayerFacts
from eskret.core.measure.planar import measures_of, unit_of
from eskret.core.measure.totals import measure_sizes
from eskret.core.measure.units import parse_measure
from eskret.core.tables.groupby import group_rows
from eskret.core.tables.values import exact_sum, is_number
from eskret.core.words import format_quantity
from eskret.operations.base import Context, EachLayer, Finding, Forecast, Outcome, Phase, has_errors
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support import named_fields, reshaping
from eskret.operations.support.setting_types import Area


class Absorb(EachLayer):
    """Let small areas be taken in by the neighbour they share most edge with.

    For the slivers that overlaying and cutting leave, and for plots too small to show. The neighbour keeps its fields; fields
    that are added up get the sum of all that went in. The smallest go first, so that several small ones may first become one.
    What has no neighbour by an edge stays as it is, and the step asks for a look.
    """

    id = "absorb"
    title = "Absorb"
    phase = Phase.SHAPE
    menu_order = 53
    relation = Relation.GROUPED
    says = "Absorb what is below {below} of {entering} into its neighbour"
    also_known_as = (
        "small areas into neighbours",
        "merge small polygons",
        "merge slivers",
        "remove slivers",
        "eliminate slivers",
        "tiny polygons into the larger one",
        "smallest mapping unit",
        "clean up small areas",
        "join small parcels to their neighbour",
    )

    class Settings(OperationSettings):
        below: Area = setting(
            "Smaller than", kind="measure", min_length=1, example="500 m2", help="An area with its unit; what is smaller is taken in."
        )
        same: list[str] = setting(
            "Only with the same",
            kind="fields",
            default=[],
            example="district",
            help="A neighbour must have the same values in these fields.",
        )
        add_up: list[str] = setting(
            "Added up", kind="fields", default=[], example="tonnes", help="Fields of numbers that get the sum of all that went in."
        )

    def forecast(self, facts: LayerFacts, settings: Settings, context: Context) -> Forecast:
        found = reshaping.require_geometry(facts)
        if not found and facts.kind not in ("area", "mixed"):
            found.append(Finding.error("only areas have an edge in common.", "from", facts))
        if facts.crs is None and not found:
            found.append(Finding.error("without a coordinate system a size means nothing. Declare it first.", "below", facts))
        found += [*named_fields.named(facts, settings.same, "same"), *named_fields.named(facts, settings.add_up, "add_up")]
        types = {f.name: f.type for f in facts.fields}
        for name in settings.add_up:
            if name in types and not is_number(types[name]):
                found.append(Finding.error(f"'{name}' holds no numbers, so it cannot be added up.", "add_up", facts))
        if has_errors(found):
            return Forecast((), tuple(found))
        return Forecast((replace(facts, certainty=Certainty.AT_MOST if facts.count is not None else facts.certainty),), tuple(found))

    def work(self, layer: Layer, settings: Settings, context: Context) -> Outcome:
        assert layer.geometry is not None
        shapes = np.asarray(layer.geometry)
        least = parse_measure(settings.below).si
        areas = dimension(shapes) == 2
        size = np.zeros(len(layer))
        if areas.any():
            found = measure_sizes(shapes[areas], layer.kind.POLYGON, layer.crs or "")
            size[areas] = 0.0 if found is None else found
        group = group_rows(layer.table, settings.same).of if settings.same else np.zeros(len(layer), np.int64)
        small = areas & (size < least)
        first, second, edge = _edges(shapes, areas, small, group, measures_of(layer.crs)["length"])
        into = _into(size, small, least, first, second, edge)
        roots, place = np.unique(into, return_inverse=True)
        members = np.bincount(place)
        several = np.flatnonzero(members > 1)
        of = np.full(len(roots), -1)
        of[several] = np.arange(len(several))
        order = np.argsort(of[place], kind="stable")
        starts = np.searchsorted(of[place][order], np.arange(len(several) + 1))
        measures = measures_of(layer.crs)

        def rows_of(n: int) -> np.ndarray:
            return order[starts[n] : starts[n + 1]]

        joined = dissolve(shapes, rows_of, len(several), context.watch, measures["length"], measures["area"])
        made = shapes[roots]
        made[several] = joined.geometry
        out = layer.take(roots).with_geometry(made, ids=None)
        table = out.table
        for name in settings.add_up:
            table = _added(table, layer.table, name, place, several)
        out = out.with_table(table)
        alone = np.flatnonzero(small & (members[place] == 1))
        gone = np.flatnonzero(into != np.arange(len(into)))
        unit, factor = unit_of("area", layer.crs)
        grown = roots[several]
        gained = (measures["area"](made[several]) - measures["area"](made_valid(shapes[grown]))) * factor
        before, after = (float(np.nansum(measures["area"](x))) * factor for x in (shapes[order[starts[0] : starts[-1]]], made[several]))
        control = ControlTotal("area with its overlap", unit, before, after + float(joined.overlap.sum()) * factor, 1e-6)
        remarks = [
            Remark.counted("{n|small area} taken in", layer.key, n=len(gone)),
            Remark.of_some("{n|small area has|small areas have} no neighbour by an edge, and stayed", layer.key, look=True, n=len(alone)),
            Remark.figured("overlap", partial(_overlap, unit), layer.key, look=True, size=float(joined.overlap.sum()) * factor),
        ]
        controls = [control] if len(several) and not len(joined.mended) else []
        for name in settings.add_up:
            controls.append(ControlTotal(f"sum of {name}", "", exact_sum(layer.table.column(name)), exact_sum(out.table.column(name))))
        account = InputAccount.of(layer, altered=(Altered("took in small ones", grown, gained, unit),))
        return Outcome((out,), (account,), remarks=tuple(remarks), into=place, controls=tuple(controls))


def _edges(
    shapes: np.ndarray, areas: np.ndarray, small: np.ndarray, group: np.ndarray, length: Any
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Pairs of areas, one of them small, and the length of the edge they have in common."""
    rows = np.flatnonzero(areas)
    tree = shapely.STRtree(shapes[rows])
    asked = np.flatnonzero(small)
    a, b = tree.query(shapes[asked], predicate="intersects")
    a, b = asked[a], rows[b]
    fits = (a != b) & (group[a] == group[b])
    a, b = a[fits], b[fits]
    sound = made_valid(shapes)
    common = shapely.intersection(shapely.boundary(sound[a]), shapely.boundary(sound[b]))
    edge = length(common)
    there = edge > 0
    return a[there], b[there], edge[there]


def _into(size: np.ndarray, small: np.ndarray, least: float, first: np.ndarray, second: np.ndarray, edge: np.ndarray) -> np.ndarray:
    """For every row the row it ends in: the smallest first, each by the longest edge that all it has taken in has with others."""
    home = np.arange(len(size))
    area = size.copy()
    edges: dict[int, dict[int, float]] = {}
    for a, b, long in zip(first.tolist(), second.tolist(), edge.tolist(), strict=True):
        edges.setdefault(a, {})[b] = long
        edges.setdefault(b, {})[a] = long

    def root(row: int) -> int:
        while home[row] != row:
            home[row] = home[home[row]]
            row = int(home[row])
        return row

    waiting = [(float(size[r]), r) for r in np.flatnonzero(small).tolist()]
    heapq.heapify(waiting)
    while waiting:
        known, row = heapq.heappop(waiting)
        if home[row] != row or known != area[row] or area[row] >= least:
            continue
        near: dict[int, float] = {}
        for other, long in edges.pop(row, {}).items():
            at = root(other)
            if at != row:
                near[at] = near.get(at, 0.0) + long
        if not near:
            continue
        # of edges of one length the larger neighbour, and then the first, has it
        best = max(near, key=lambda r: (near[r], area[r], -r))
        home[row] = best
        area[best] += area[row]
        # others go on naming the row that is gone: its home is looked up when their turn comes
        kept = edges.setdefault(best, {})
        for other, long in near.items():
            if other != best:
                kept[other] = kept.get(other, 0.0) + long
        if area[best] < least:
            heapq.heappush(waiting, (float(area[best]), best))
    return np.array([root(r) for r in range(len(home))], np.int64)


def _added(table: pa.Table, before: pa.Table, name: str, place: np.ndarray, several: np.ndarray) -> pa.Table:
    """A field with the sums of what went into each that took something in; others keep what they have."""
    column = before.column(name)
    values = table.column(name).to_pylist()
    order = np.argsort(place, kind="stable")
    starts = np.searchsorted(place[order], several)
    ends = np.searchsorted(place[order], several, side="right")
    for n, start, end in zip(several.tolist(), starts.tolist(), ends.tolist(), strict=True):
        members = column.take(pa.array(order[start:end], pa.int64()))
        if members.null_count < len(members):
            values[n] = exact_sum(members)
    at = table.column_names.index(name)
    return table.set_column(at, table.schema.field(name), pa.chunked_array([pa.array(values, column.type)]))


def _overlap(unit: str, figures: Mapping[str, Any]) -> str:
    return f"they lie on each other, {format_quantity(figures['size'], unit)} in all, counted once" if figures["size"] > 1e-9 else ""
