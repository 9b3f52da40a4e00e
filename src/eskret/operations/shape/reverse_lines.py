"""Turn the direction of lines."""

from __future__ import annotations

import numpy as np
import shapely

from eskret.core.accounts.account import Altered, ControlTotal, Remark
from eskret.core.expression import parse_condition, truth
from eskret.core.geometry.parts import dimension
from eskret.core.layer import GeometryKind, Layer, LayerFacts
from eskret.operations.base import Context, Finding, Phase, Takes
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support import named_fields, reshaping
from eskret.operations.support.row_wise import Reshaped, ShapePerRow


class ReverseLines(ShapePerRow):
    """Reverse the direction of lines: where they ended they begin.

    All of them, or only those for which a condition holds. Heights and measures stay with their corners, and the parts of a line in
    several come in the other order too. Points and areas have no direction and stay as they are.
    """

    id = "reverse_lines"
    title = "Reverse lines"
    phase = Phase.SHAPE
    menu_order = 66
    keep_null = True
    says = "Reverse lines of {entering}[ where {where}]"
    also_known_as = (
        "flip line direction",
        "turn lines around",
        "change digitising direction",
        "swap start and end",
        "opposite direction",
        "other way round",
        "flow direction",
    )

    class Settings(OperationSettings):
        where: str = setting(
            "Only where",
            kind="condition",
            default="",
            example="upstream = true",
            help="An SQL condition on the fields. Left empty, all lines are turned.",
        )

    def check(self, facts: LayerFacts, settings: Settings, context: Context) -> list[Finding]:
        found = reshaping.require_geometry(facts)
        if facts.kind in (GeometryKind.POINT, GeometryKind.POLYGON):
            found.append(Finding.error("only lines have a direction.", "from", facts))
        return found + (named_fields.wrong_condition(facts, settings.where, context) if settings.where.strip() else [])

    def takes(self, facts: LayerFacts, settings: Settings) -> Takes:
        return Takes.ROWS

    def reshape(self, layer: Layer, shapes: np.ndarray, settings: Settings, context: Context) -> Reshaped:
        wanted = (dimension(shapes) == 1) & ~shapely.is_empty(shapes)
        remarks = []
        if settings.where.strip():
            condition = parse_condition(settings.where, layer.table.schema, context.values, context.field_values)
            held, unknown = truth(condition, layer.table, context.values)
            untold = int((unknown & ~held & wanted).sum())
            remarks += named_fields.no_numbers(layer, condition.fields)
            text = "{n} could not be told, because a field asked for is empty; they were not turned"
            remarks.append(Remark.of_some(text, layer.key, look=True, n=untold))
            wanted &= held
        out = np.array(shapes, object)
        rows = np.flatnonzero(wanted)
        out[rows] = _turned(shapes[rows])
        begin = shapely.get_coordinates(shapely.get_point(_last(shapes[rows]), -1), include_z=True)
        now = shapely.get_coordinates(shapely.get_point(_first(out[rows]), 0), include_z=True)
        same = int(((begin == now) | (np.isnan(begin) & np.isnan(now))).all(axis=1).sum())
        remarks.insert(0, Remark.counted("{n|line} turned", layer.key, n=len(rows)))
        control = ControlTotal("lines that begin where they ended", "", len(rows), same)
        return Reshaped(out, remarks=remarks, altered=[Altered("turned", rows)], controls=[control])


def _turned(lines: np.ndarray) -> np.ndarray:
    """Lines the other way round, with their parts in the other order."""
    turned = np.array(shapely.reverse(lines), object)
    for n in np.flatnonzero(shapely.get_num_geometries(turned) > 1).tolist():
        turned[n] = shapely.multilinestrings(shapely.get_parts(turned[n])[::-1])
    return turned


def _first(lines: np.ndarray) -> np.ndarray:
    return np.asarray(shapely.get_geometry(lines, 0))


def _last(lines: np.ndarray) -> np.ndarray:
    return np.asarray(shapely.get_geometry(lines, -1))
