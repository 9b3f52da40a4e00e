"""Cut lines at points."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import shapely
from shapely.geometry.base import BaseGeometry

from eskret.core.accounts.account import ControlTotal, InputAccount, Relation, Remark, SetAside
from eskret.core.geometry.ordinates import measured
from eskret.core.geometry.parts import dimension, single_parts
from eskret.core.layer import Certainty, Field, GeometryKind, Layer, LayerFacts
from eskret.core.measure.planar import measures_of, unit_of
from eskret.core.measure.units import parse_length
from eskret.core.naming import number_collisions
from eskret.core.tables.rows import remaining
from eskret.core.words import pluralise
from eskret.operations.base import Context, EachLayer, Finding, Forecast, Outcome, Phase
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support import ground, other_layer, reshaping
from eskret.operations.support.setting_types import Length


class CutLines(EachLayer):
    """Cut lines where points lie on them, or near them.

    A point within the distance cuts the line at the place nearest to it; the line itself does not move. Each piece keeps
    the fields of its line and gets its number along it. A point at the end of a line cuts nothing. Points that are near
    no line are told.
    """

    id = "cut_lines"
    title = "Cut lines"
    phase = Phase.SHAPE
    menu_order = 65
    relation = Relation.MULTIPLIED
    says = "Cut lines of {entering} at {at}"
    also_known_as = (
        "split lines at points",
        "break lines at points",
        "segment lines",
        "divide line",
        "sections of line",
        "split at nodes",
        "cut at stations",
    )

    class Settings(OperationSettings):
        at: str = setting("At points of", kind="layer", min_length=1, example="marks", help="The layer of points that cut.")
        within: Length = reshaping.length_setting(
            "Points within", "How far a point may lie beside the line, with its unit.", "1 m", default="0.01 m", min_length=1
        )
        along: ground.Along = ground.along_setting()
        number: str = setting(
            "Field for the number", rare=True, default="piece", min_length=1, help="The new field that numbers the pieces of a line."
        )

    def forecast(self, facts: LayerFacts, settings: Settings, context: Context) -> Forecast:
        found = [
            *other_layer.findings(facts, context, "at", GeometryKind.POINT),
            *reshaping.require_length_unit(facts, "within"),
            *ground.forecast_along(facts, settings.along),
        ]
        if facts.kind in (GeometryKind.POINT, GeometryKind.POLYGON):
            found.append(Finding.error("only lines can be cut here.", "from", facts))
        name = number_collisions([settings.number], taken=facts.names())[0]
        new = facts.with_fields((*facts.fields, Field(name, pa.int64())))
        return reshaping.forecast_shapes(new, found, GeometryKind.LINE, count=None, certainty=Certainty.UNKNOWN)

    def work(self, layer: Layer, settings: Settings, context: Context) -> Outcome:
        assert layer.geometry is not None
        others = other_layer.others_of(layer, context, "at")
        points, owner = single_parts(others.geometry)
        parts, row = single_parts(layer.geometry)
        lines = dimension(parts) == 1
        parts, row = parts[lines], row[lines]
        reach = parse_length(settings.within).si
        plane = ground.plane_of(np.concatenate([parts, points]), layer.crs, settings.along, max(reach * 1e-3, 0.001))
        flat, marks = plane.there(_numbered(parts)), plane.there(points)
        reach /= plane.metres
        mark, line = shapely.STRtree(flat).query(marks, predicate="dwithin", distance=reach)
        at = shapely.line_locate_point(flat[line], marks[mark])
        pieces: list[BaseGeometry] = []
        owner_row: list[int] = []
        order = np.lexsort((at, line))
        starts = np.searchsorted(line[order], np.arange(len(parts) + 1))
        for n in range(len(parts)):
            cuts = at[order[starts[n] : starts[n + 1]]]
            made = _cut(parts[n], flat[n], np.unique(cuts)) if len(cuts) else [parts[n]]
            pieces += made
            owner_row += [int(row[n])] * len(made)
        rows = np.array(owner_row, np.int64)
        shapes = np.empty(len(pieces), object)
        shapes[:] = pieces
        number = np.arange(len(rows)) - np.searchsorted(rows, rows) + 1
        whole = np.unique(row)
        hit = np.zeros(len(others.geometry), bool)
        hit[owner[mark]] = True
        beside = others.rows[~hit]
        account = others.accounts[0]
        missing = remaining(account.rows, others.rows)
        theirs = SetAside.from_reasons([("lies on no line", beside), (other_layer.NO_PLACE, missing)])
        unit, factor = unit_of("length", layer.crs)
        length = measures_of(layer.crs)["length"]
        before, after = length(parts).sum() * factor, length(shapes).sum() * factor
        remarks = [
            *others.remarks,
            *reshaping.of_plane(layer, plane.error),
            *ground.remarks_of(layer, settings.along, context),
            Remark(f"{pluralise(len(pieces), 'piece')} of {pluralise(len(whole), 'line')}", layer.key),
        ]
        if len(beside):
            remarks.append(Remark(f"{pluralise(len(beside), 'point')} on no line", layer.key, look=True))
        return reshaping.one_to_many(
            layer,
            rows,
            shapes,
            context,
            kind=GeometryKind.LINE,
            numbers=(settings.number, number),
            remarks=remarks,
            controls=[ControlTotal("length", unit, float(before), float(after))],
            others=[InputAccount("at", account.layer, account.rows, theirs)],
        )


def _numbered(lines: np.ndarray) -> np.ndarray:
    """Lines whose heights are the numbers of their vertices, so that a place on one is known again in another plane."""
    counts = shapely.get_num_coordinates(lines)
    number = np.arange(counts.sum()) - np.repeat(np.cumsum(counts) - counts, counts)
    flat = shapely.force_3d(shapely.force_2d(lines), 0.0)
    return np.asarray(shapely.transform(flat, lambda c: np.column_stack([c[:, :2], number]), include_z=True), object)


def _cut(line: BaseGeometry, flat: BaseGeometry, at: np.ndarray) -> list[BaseGeometry]:
    """Pieces of a line, cut at these distances along ``flat``, which is the same line, numbered, in another plane. Heights and
    measures at a cut lie evenly between those of the vertices on either side."""
    with_z, with_m = bool(line.has_z), bool(line.has_m)
    corners = shapely.get_coordinates(line, include_z=with_z, include_m=with_m)
    plane = shapely.get_coordinates(flat, include_z=True)
    along = np.r_[0.0, np.cumsum(np.hypot(*np.diff(plane[:, :2], axis=0).T))]
    least = along[-1] * 1e-12
    at = at[(at > least) & (at < along[-1] - least)]
    out, begin = [], corners[:1]
    last = 0
    for number in np.interp(at, along, plane[:, 2]).tolist():
        n = min(int(number), len(corners) - 2)
        share = number - n
        place = corners[n] if share == 0 else corners[n] + share * (corners[n + 1] - corners[n])
        middle = corners[last + 1 : n + 1] if share > 0 else corners[last + 1 : n]
        out.append(np.concatenate([begin, middle, place[None]]))
        begin, last = place[None], n
    out.append(np.concatenate([begin, corners[last + 1 :]]))
    shapes = np.array([shapely.LineString(c[:, : 3 if with_z else 2]) for c in out], object)
    return list(measured(shapes, np.concatenate(out)[:, -1]) if with_m else shapes)
