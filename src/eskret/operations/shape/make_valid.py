"""Mend invalid shapes."""

from __future__ import annotations

from collections.abc import Mapping
from functools import partial
from typing import Literal

import numpy as np
import shapely

from eskret.core.accounts.account import Altered, Frequencies, Remark
from eskret.core.crs import is_geographic
from eskret.core.geometry import antimeridian
from eskret.core.geometry.faults import faults_of
from eskret.core.geometry.globe.seam import jumps
from eskret.core.geometry.parts import dimension, made_valid, of_dimension
from eskret.core.layer import Layer, LayerFacts
from eskret.core.measure.planar import measures_of, unit_of
from eskret.core.words import format_quantity, pluralise
from eskret.operations.base import Context, Phase, Takes
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support.row_wise import Reshaped, ShapePerRow

_TURNED = "{n|feature goes|features go} the short way now, cut at 180 degrees"


class MakeValid(ShapePerRow):
    """Repair invalid shapes, and say what was wrong and where.

    A ring that crosses itself, holes that lie outside, repeated rings: such shapes give wrong areas and stop other
    programs. The mended shape covers what was drawn, every corner kept. Valid features pass untouched. What is no area
    any more after it, such as a sliver that folded onto itself, is left out; if nothing of its kind remains, the feature
    is set aside.
    """

    id = "make_valid"
    title = "Make valid"
    phase = Phase.SHAPE
    menu_order = 80
    gone = "nothing of its kind is left of it"
    keep_null = True
    says = "Make valid {entering}"
    also_known_as = (
        "repair",
        "repair shapes",
        "fix geometry",
        "mend shapes",
        "self intersection",
        "clean geometry",
        "invalid geometry",
        "bow tie",
        "heal",
        "broken shapes",
    )

    class Settings(OperationSettings):
        dimensions: bool = setting(
            "Keep only what is of its kind",
            rare=True,
            kind="flag",
            default=True,
            help="Whether points and lines that come out of a mended area are left out.",
        )

        long_edges: Literal["drawn", "short"] = setting(
            "Edges of more than half a turn",
            rare=True,
            kind="choice",
            default="drawn",
            choices={"drawn": "stay as they are drawn", "short": "go the short way, over 180 degrees"},
            help="Where coordinates are degrees: from 179 to -179 the drawn way goes round the globe, the short one is cut at 180.",
        )

    def takes(self, facts: LayerFacts, settings: Settings) -> Takes:
        return Takes.ROWS

    def reshape(self, layer: Layer, shapes: np.ndarray, settings: Settings, context: Context) -> Reshaped:
        there = ~shapely.is_missing(shapes)
        shapes = np.array(shapes, object)
        turned = np.empty(0, np.int64)
        if settings.long_edges == "short" and is_geographic(layer.crs):
            wide = np.flatnonzero(jumps(shapes))
            shapes[wide], made = antimeridian.cut(shapes[wide])
            turned = wide[made]
        whole = shapes.copy()
        bad = np.flatnonzero(there & ~shapely.is_valid(shapes))
        why = faults_of(whole[bad])
        mended = made_valid(whole[bad])
        if settings.dimensions:
            mended = of_dimension(mended, dimension(whole[bad]))
        shapes[bad] = mended
        unit, factor = unit_of("area", layer.crs)
        area = measures_of(layer.crs)["area"]
        before, after = area(whole[bad]), np.nan_to_num(area(mended))
        remarks = [Remark.figured("mended", _mended, layer.key, n=len(bad))]
        remarks.append(Remark.of_some(_TURNED, layer.key, n=len(turned)))
        kinds = Frequencies()
        for found in why:
            what, place = found.what, found.place
            kinds[what] = (kinds[what][0] + 1, kinds[what][1]) if what in kinds else (1, place)
        remarks.append(Remark.figured("faults", _faults, layer.key, look=True, kinds=kinds))
        was, now = (float(a.sum()) * factor for a in (before, after))
        remarks.append(Remark.figured("area", partial(_area, unit), layer.key, before=was, after=now))
        where = np.array([f.box for f in why]).reshape(-1, 4)
        altered = [Altered("mended", bad, (after - before) * factor, unit, where), Altered("goes the short way over 180 degrees", turned)]
        return Reshaped(shapes, remarks=remarks, altered=altered)


def _mended(figures: Mapping[str, int]) -> str:
    return f"{pluralise(figures['n'], 'feature')} mended" if figures["n"] else "all were valid"


def _faults(figures: Mapping[str, Frequencies]) -> str:
    found = sorted(figures["kinds"].items(), key=lambda one: -one[1][0])
    return "; ".join(f"{n:,} x {what}" + (f", the first at {place}" if place else "") for what, (n, place) in found)


def _area(unit: str, figures: Mapping[str, float]) -> str:
    if not (figures["before"] or figures["after"]):
        return ""
    return f"their area was {format_quantity(figures['before'], unit)} and is {format_quantity(figures['after'], unit)}"
