"""Every corner of every feature as a point."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import shapely

from eskret.core.accounts.account import Relation
from eskret.core.geometry.ordinates import measured
from eskret.core.geometry.parts import single_parts
from eskret.core.layer import Certainty, Field, GeometryKind, Layer, LayerFacts
from eskret.core.naming import number_collisions
from eskret.operations.base import Context, EachLayer, Forecast, Outcome, Phase, Takes
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support import reshaping


class CornerPoints(EachLayer):
    """Place a point at every corner of lines and areas.

    Each point has the fields of its feature and its number along it, from 1. The corner that closes a ring is the one
    that began it, and is made once. Heights are kept.
    """

    id = "corner_points"
    title = "Corner points"
    phase = Phase.SHAPE
    menu_order = 47
    relation = Relation.MULTIPLIED
    says = "Corner points of {entering}"
    also_known_as = (
        "vertices",
        "nodes",
        "points of lines",
        "points at line ends",
        "line ends",
        "every vertex",
        "list vertices",
        "extract vertices",
        "corner marks",
        "start and end points",
        "lines to points",
    )
    turns = (("line", "point"), ("area", "vertex"), ("line", "vertex"))

    class Settings(OperationSettings):
        number: str = setting(
            "Field for the number", default="corner", min_length=1, help="The new field that numbers the corners of a feature."
        )

    def forecast(self, facts: LayerFacts, settings: Settings, context: Context) -> Forecast:

        name = number_collisions([settings.number], taken=facts.names())[0]
        new = facts.with_fields((*facts.fields, Field(name, pa.int64())))
        return reshaping.forecast_shapes(
            new, reshaping.require_geometry(facts), GeometryKind.POINT, count=None, certainty=Certainty.UNKNOWN
        )

    def takes(self, facts: LayerFacts, settings: Settings) -> Takes:
        return Takes.ROWS

    def work(self, layer: Layer, settings: Settings, context: Context) -> Outcome:
        assert layer.geometry is not None
        parts, owner = single_parts(layer.geometry)
        rings, ring_of = shapely.get_rings(parts, return_index=True)
        areas = shapely.get_type_id(parts) == 3
        pieces = np.concatenate([rings, parts[~areas]])
        of = np.concatenate([owner[ring_of], owner[~areas]])
        order = np.argsort(of, kind="stable")
        pieces, of = pieces[order], of[order]
        with_z = bool(shapely.has_z(layer.geometry).any())
        with_m = shapely.has_m(pieces)
        m = shapely.get_coordinates(pieces, include_m=True)[:, 2] if with_m.any() else None
        xy, piece = shapely.get_coordinates(pieces, return_index=True, include_z=with_z)
        last = np.r_[piece[1:] != piece[:-1], True] if len(piece) else np.empty(0, bool)
        closing = last & np.isin(shapely.get_type_id(pieces), (2,))[piece]
        of_measured = with_m[piece[~closing]] if m is not None else None
        xy, rows = xy[~closing], of[piece[~closing]]
        flat = with_z and np.isnan(xy[:, 2]) if with_z else np.zeros(len(xy), bool)
        shapes = np.asarray(shapely.points(xy))
        if with_z and np.any(flat):
            shapes[flat] = shapely.points(xy[flat][:, :2])
        if m is not None and of_measured is not None:
            shapes[of_measured] = measured(shapes[of_measured], m[~closing][of_measured])
        begins = np.searchsorted(rows, rows)
        number = np.arange(len(rows)) - begins + 1
        return reshaping.one_to_many(layer, rows, shapes, context, kind=GeometryKind.POINT, numbers=(settings.number, number))
