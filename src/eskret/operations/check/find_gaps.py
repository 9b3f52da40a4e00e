"""Find the gaps between the ends of lines."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
import pyarrow as pa
import shapely

from eskret.core.accounts.account import InputAccount, OutputAccount, Relation, Remark
from eskret.core.geometry.line_gaps import ends_of, gaps, proposed
from eskret.core.layer import Certainty, Field, GeometryKind, Layer, LayerFacts
from eskret.core.measure.units import parse_length
from eskret.core.style.style import Style
from eskret.core.words import format_quantity, pluralise
from eskret.errors import CrsError
from eskret.operations.base import Context, EachLayer, Finding, Forecast, Outcome, Phase
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support import ground, reshaping
from eskret.operations.support.setting_types import Length

_FIELDS = {"gap_m": pa.float64(), "row": pa.int64(), "end": pa.string(), "other_row": pa.int64(), "other_end": pa.string()}


class FindGaps(EachLayer):
    """List every loose end of lines with the nearest other one, the smallest gap first.

    An end is loose where no other line ends at exactly the same place. Each gap becomes a short line from end to end,
    with its length in metres and the rows it lies between, so that it can be seen in the table and on the map. A
    tolerance that closes the small gaps and not the others is proposed; Enclose takes it.
    """

    id = "find_gaps"
    title = "Find gaps"
    phase = Phase.CHECK
    menu_order = 30
    relation = Relation.REPORT
    says = "Find gaps in {entering}[ up to {up_to}]"
    also_known_as = (
        "dangles",
        "loose ends",
        "open outline",
        "undershoot",
        "not closed",
        "dangling lines",
        "lines not joined",
        "unconnected lines",
        "lines that do not meet",
    )

    class Settings(OperationSettings):
        along: ground.Along = ground.along_setting("Gaps along")
        up_to: Length = setting(
            "Gaps up to", kind="measure", default="", example="100 m", help="Only gaps no wider than this are listed. Left empty, all."
        )

    def default_style(self, settings: Mapping[str, object]) -> Style:
        return Style(label="gap_m", width=2.0)

    def forecast(self, facts: LayerFacts, settings: Settings, context: Context) -> Forecast:
        found = [*reshaping.require_length_unit(facts, "from"), *ground.forecast_along(facts, settings.along)]
        if facts.kind in (GeometryKind.POINT, GeometryKind.POLYGON):
            found.append(Finding.error(f"it holds {facts.kind}s; lines have ends. Outlines makes some.", "from", facts))
        new = facts.with_fields([Field(n, t) for n, t in _FIELDS.items()])
        return reshaping.forecast_shapes(new, found, GeometryKind.LINE, count=None, certainty=Certainty.UNKNOWN)

    def work(self, layer: Layer, settings: Settings, context: Context) -> Outcome:
        assert layer.geometry is not None
        try:
            plane = ground.plane_of(layer.geometry, layer.crs, settings.along)
        except CrsError as failure:
            raise failure.at(layer.key) from failure
        there = plane.there(layer.geometry)
        flat = ends_of(there)
        found = gaps(flat)
        distance = np.array([g.distance for g in found]) * plane.metres
        # the same ends where they are drawn; what is nowhere has none
        here = ends_of(np.where(shapely.is_missing(there), np.array([None], object), layer.geometry)).xy
        a, b = np.array([g.a for g in found], np.int64), np.array([g.b for g in found], np.int64)
        if len(found) and ground.on_ellipsoid(layer.crs, settings.along):
            # the plane is one for all of the layer and a little off at its edges; the figure is not
            distance = ground.ground_of(layer.crs or "").apart(here[a], here[b])
        if settings.up_to:
            near = distance <= parse_length(settings.up_to).si
            found = [g for g, good in zip(found, near.tolist(), strict=True) if good]
            distance, a, b = distance[near], a[near], b[near]
        shapes = shapely.linestrings(np.stack([here[a], here[b]], axis=1)) if len(found) else np.empty(0, object)
        which = np.array(["start", "end"])
        columns = [distance, flat.row[a // 2] + 1, which[a % 2].tolist(), flat.row[b // 2] + 1, which[b % 2].tolist()]
        table = pa.table([pa.array(c, t) for c, t in zip(columns, _FIELDS.values(), strict=True)], names=list(_FIELDS))
        out = Layer(layer.key, table, np.asarray(shapes, object), layer.crs, kind=GeometryKind.LINE, origin=layer.origin)
        remarks = [Remark(f"{pluralise(len(flat.loose), 'loose end')}, {pluralise(len(found), 'gap')}", layer.key, look=bool(found))]
        remarks += ground.remarks_of(layer, settings.along, context)
        tolerance = proposed(distance)
        if tolerance is not None:
            closes = int((distance <= tolerance).sum())
            text = f"a tolerance of {format_quantity(tolerance, 'm')} would close {closes:,} of {len(found):,}"
            wider = distance[distance > tolerance]
            if len(wider):
                text += f"; the next is {format_quantity(float(wider.min()), 'm')} wide"
            remarks.append(Remark(text, layer.key))
        return Outcome((out,), (InputAccount.of(layer),), (OutputAccount(layer.key, len(out)),), None, tuple(remarks))
