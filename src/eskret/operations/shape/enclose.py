"""Close lines to areas."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pyarrow as pa
import shapely

from eskret.core.accounts.account import Altered, InputAccount, Relation, Remark, SetAside
from eskret.core.geometry.line_gaps import Enclosed, Ends, enclose, ends_of
from eskret.core.geometry.parallel import is_nonempty
from eskret.core.geometry.parts import dimension, invalid
from eskret.core.layer import Certainty, GeometryKind, Layer, LayerFacts
from eskret.core.measure.units import parse_length
from eskret.core.naming import number_collisions
from eskret.core.tables.rows import remaining
from eskret.core.words import format_quantity, pluralise
from eskret.errors import CrsError
from eskret.operations.base import Context, EachLayer, Finding, Forecast, Outcome, Phase
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support import ground, other_layer, reshaping
from eskret.operations.support.other_layer import NO_PLACE
from eskret.operations.support.setting_types import Length

OPEN = "stays open: its ends are {} apart"
NO_RING = "encloses nothing"
NO_LINE = "is no line"


class Enclose(EachLayer):
    """Turn lines that run round an area into that area, closing gaps up to a tolerance.

    Lines are joined end to end, the nearest ends first; both ends move to the middle of the gap, so nothing moves further
    than half the tolerance. Without a tolerance only lines that meet exactly are joined. Where several lines meet, every
    face between them becomes an area. An area has the fields of its first line, or those of the point that lies within.
    What stays open is set aside with its gap; Find gaps lists all gaps and proposes a tolerance. A ring inside another
    becomes an area of its own.
    """

    id = "enclose"
    title = "Enclose"
    phase = Phase.SHAPE
    menu_order = 62
    relation = Relation.GROUPED
    says = "Enclose {entering}[, closing gaps up to {tolerance}]"
    also_known_as = (
        "area from lines",
        "line to area",
        "lines into areas",
        "polygonise",
        "polygonize",
        "close lines",
        "close outline",
        "outline to area",
        "outline into area",
        "lines that nearly close",
        "snap ends",
        "fill outline",
        "build polygons",
    )
    turns = (("line", "area"),)

    class Settings(OperationSettings):
        tolerance: Length = setting(
            "Widest gap to close",
            kind="measure",
            default="",
            example="1 m",
            help="Ends of lines that are no further apart are joined. With its unit; left empty, no gap is closed.",
        )
        along: ground.Along = ground.along_setting("Gaps along")
        points: str = setting(
            "Fields from points",
            rare=True,
            kind="layer",
            default="",
            example="register:labels",
            help="A layer of points: each area gets the fields of the point within it. Left empty, those of its first line.",
        )

    def forecast(self, facts: LayerFacts, settings: Settings, context: Context) -> Forecast:
        found = reshaping.require_length_unit(facts, "tolerance") if settings.tolerance else reshaping.require_geometry(facts)
        if settings.tolerance:
            found += ground.forecast_along(facts, settings.along)
        if facts.kind in (GeometryKind.POINT, GeometryKind.POLYGON):
            found.append(Finding.error(f"it holds {facts.kind}s; lines are wanted. Outlines or Connect points makes some.", "from", facts))
        new = facts
        if settings.points:
            found += other_layer.findings(facts, context, "points", GeometryKind.POINT)
            other = next(iter(context.other_facts("points")), None)
            if other is not None:
                new = facts.with_fields(other.fields, other.names())
        return reshaping.forecast_shapes(new, found, GeometryKind.POLYGON, certainty=Certainty.AT_MOST)

    def work(self, layer: Layer, settings: Settings, context: Context) -> Outcome:
        assert layer.geometry is not None
        there = is_nonempty(layer.geometry)
        lines = there & (dimension(layer.geometry) == 1)
        extent = layer.extent()
        back: Callable[[np.ndarray], np.ndarray] = np.asarray
        metres = 1.0
        shapes = layer.geometry
        tolerance = error = 0.0
        if settings.tolerance and extent is not None:
            try:
                plane = ground.plane_of(layer.geometry, layer.crs, settings.along)
            except CrsError as failure:
                raise failure.at(layer.key) from failure
            shapes, back, metres, error = plane.there(layer.geometry), plane.back, plane.metres, plane.error
            tolerance = parse_length(settings.tolerance).si / metres
        ends = ends_of(shapes)
        found = enclose(ends, tolerance)
        polygons = back(found.polygons)
        first = np.array([ends.row[m].min() for m in found.members], np.int64)
        used = np.unique(ends.row[np.concatenate(found.members)]) if found.members else np.empty(0, np.int64)
        remarks = [*_remarks(layer, found, polygons, metres), *reshaping.of_plane(layer, error)]
        remarks += ground.told_of_nowhere(layer)
        if settings.tolerance:
            remarks += ground.remarks_of(layer, settings.along, context)
        if settings.points:
            table, more, accounts = _from_points(layer, polygons, context)
            remarks += more
        else:
            table, accounts = layer.table.take(pa.array(first, pa.int64())), ()
        out = layer.with_geometry(polygons, GeometryKind.POLYGON, table=table, ids=None)
        aside = [*_open(ends, found, used, metres), (NO_LINE, np.flatnonzero(there & ~lines)), (NO_PLACE, np.flatnonzero(~there))]
        rest = np.setdiff1d(np.flatnonzero(lines), np.concatenate([used, *(r for _, r in aside)]))
        settled = SetAside.from_reasons([*aside, (NO_RING, rest)])
        altered = _moved(ends, found, metres, back)
        return Outcome((out,), inputs=(InputAccount.of(layer, settled, altered), *accounts), lineage=used, remarks=tuple(remarks))


def _open(ends: Ends, found: Enclosed, used: np.ndarray, metres: float) -> list[tuple[str, np.ndarray]]:
    """Rows of which no part is used, by how wide their gap is."""
    rows, first = np.unique(ends.row[found.open], return_index=True)
    fresh = ~np.isin(rows, used)
    reasons: dict[str, list[int]] = {}
    for row, at in zip(rows[fresh].tolist(), first[fresh].tolist(), strict=True):
        gap = found.gap[at]
        reason = NO_RING if np.isnan(gap) else OPEN.format(format_quantity(gap * metres, "m"))
        reasons.setdefault(reason, []).append(row)
    if len(reasons) > 1000:
        return [("stays open", rows[fresh])]
    return [(reason, np.array(at, np.int64)) for reason, at in reasons.items()]


def _moved(ends: Ends, found: Enclosed, metres: float, back: Callable[[np.ndarray], np.ndarray]) -> tuple[Altered, ...]:
    """Rows with an end that was moved, by how many metres (the most, where both were), and where that gap was."""
    if not len(found.moved):
        return ()
    order = np.argsort(found.by, kind="stable")  # the widest comes last, and stays
    moved, by = found.moved[order], found.by[order]
    rows, place = np.unique(ends.row[moved // 2], return_inverse=True)
    most, around = np.zeros(len(rows)), np.empty(len(rows), object)
    most[place] = by * metres
    at = ends.xy[moved]
    around[place] = shapely.box(*(at - by[:, None]).T, *(at + by[:, None]).T)
    return (Altered("moved to close a gap", rows, most, "m", shapely.bounds(back(around))),)


def _remarks(layer: Layer, found: Enclosed, polygons: np.ndarray, metres: float) -> list[Remark]:
    out = [Remark(pluralise(len(polygons), "area"), layer.key)]
    if len(found.moved):
        widest = format_quantity(float(found.by.max()) * 2 * metres, "m")
        text = f"{pluralise(len(found.moved) // 2, 'gap')} closed, the widest {widest}"
        out.append(Remark(text, layer.key))
    if len(found.open):
        out.append(Remark(f"{pluralise(len(found.open), 'line stays', 'lines stay')} open", layer.key, look=True))
    bad = int((invalid(polygons)).sum()) if len(polygons) else 0
    if bad:
        out.append(
            Remark(f"{pluralise(bad, 'area crosses itself', 'areas cross themselves')}; Make valid mends that", layer.key, look=True)
        )
    return out


def _from_points(layer: Layer, polygons: np.ndarray, context: Context) -> tuple[pa.Table, list[Remark], tuple[InputAccount, ...]]:
    """The fields of the point within each area."""
    others = other_layer.others_of(layer, context, "points")
    assert others.layer is not None
    point, area = (
        shapely.STRtree(polygons).query(others.geometry, predicate="intersects")
        if len(polygons)
        else (np.empty(0, np.int64), np.empty(0, np.int64))
    )
    order = np.lexsort((point, area))
    point, area = point[order], area[order]
    areas, first, count = np.unique(area, return_index=True, return_counts=True)
    at = np.full(len(polygons), -1, np.int64)
    at[areas] = others.rows[point[first]]
    table = others.layer.table
    taken = (
        table.take(pa.array(np.maximum(at, 0), mask=at < 0))
        if len(table)
        else pa.table([pa.nulls(len(at), f.type) for f in table.schema], schema=table.schema)
    )
    names = number_collisions(table.column_names, limit=10_000)
    remarks = list(others.remarks)
    if (at < 0).any():
        remarks.append(Remark(f"{pluralise(int((at < 0).sum()), 'area')} without a point within", layer.key, look=True))
    if (count > 1).any():
        text = f"{pluralise(int((count > 1).sum()), 'area')} with several points within; the first gave its fields"
        remarks.append(Remark(text, layer.key, look=True))
    unused = np.setdiff1d(others.rows, at)
    account = others.accounts[0]
    reasons = [("lies in no area, or not as the first", unused), (NO_PLACE, remaining(account.rows, others.rows))]
    settled = InputAccount("points", account.layer, account.rows, SetAside.from_reasons(reasons))
    return taken.rename_columns(names), remarks, (settled,)
