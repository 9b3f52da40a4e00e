"""Zones around features: areas within several distances."""

from __future__ import annotations

import itertools
import re
from collections.abc import Mapping

import numpy as np
import pyarrow as pa
import shapely

from eskret.core.accounts.account import ControlTotal, Reason, Relation, Remark
from eskret.core.geometry.globe.grow import too_far
from eskret.core.geometry.parallel import is_nonempty
from eskret.core.geometry.parts import made_valid, of_dimension
from eskret.core.layer import Certainty, Field, GeometryKind, Layer, LayerFacts
from eskret.core.measure.planar import measures_of, unit_of
from eskret.core.measure.units import parse_length
from eskret.core.naming import number_collisions
from eskret.core.words import bold
from eskret.errors import SettingError
from eskret.operations.base import Context, EachLayer, Finding, Forecast, Level, Outcome, Phase, Takes
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support import ground, growing, reshaping


class Zones(EachLayer):
    """Draw zones around each feature: the areas within several distances, one about the other.

    Each zone is a feature with the fields of what it surrounds and its outer distance in metres. Zones leave out what is nearer, so
    that they lie beside each other like the rings of a tree; the innermost holds the feature itself. Or each is the whole area within
    its distance. For zones about all features at once, dissolve these first.
    """

    id = "zones"
    title = "Zones"
    phase = Phase.SHAPE
    menu_order = 41
    relation = Relation.MULTIPLIED
    also_known_as = (
        "several buffers",
        "multiple distances",
        "rings around",
        "concentric rings",
        "distance bands",
        "graded buffers",
        "zones by distance",
        "concentric circles",
    )
    turns = (("point", "area"),)

    class Settings(OperationSettings):
        distances: str = setting(
            "Distances",
            min_length=1,
            example="100 m, 250 m, 1 km",
            help="With commas. Each has its unit, or that of the next one that has one: 100, 250, 500 m.",
        )
        whole: bool = setting(
            "Whole areas",
            kind="flag",
            default=False,
            help="Whether each zone also covers what lies nearer, instead of leaving it to the inner ones.",
        )
        field: str = setting(
            "Field for the distance", rare=True, default="zone_m", min_length=1, help="The new field, with the outer distance in metres."
        )
        ends: growing.Ends = growing.ends_setting()
        corners: growing.Corners = growing.corners_setting()
        along: ground.Along = ground.along_setting()
        steps: int = growing.steps_setting()

    def sentence(self, settings: Mapping[str, object], entering: str) -> str:
        return f"Zones around {bold(entering or '…')} at {settings.get('distances') or '…'}"

    def forecast(self, facts: LayerFacts, settings: Settings, context: Context) -> Forecast:
        found = reshaping.require_length_unit(facts, "distances")
        if not found or found[-1].level is not Level.ERROR:
            found += ground.forecast_along(facts, settings.along)
        count = None
        try:
            distances = _distances(settings.distances)
            count = facts.count * len(distances) if facts.count is not None else None
            if facts.crs and ground.on_ellipsoid(facts.crs, settings.along) and too_far(max(distances)):
                found.append(Finding.error(f"{growing.TOO_FAR}.", "distances", facts))
        except SettingError as error:
            found.append(Finding.of(error))
        name = number_collisions([settings.field], taken=facts.names())[0]
        new = facts.with_fields((*facts.fields, Field(name, pa.float64())))
        certainty = Certainty.UNKNOWN if count is None else Certainty.AT_MOST
        return reshaping.forecast_shapes(new, found, GeometryKind.POLYGON, count=count, certainty=certainty)

    def takes(self, facts: LayerFacts, settings: Settings) -> Takes:
        # how true it is along the ellipsoid is told of the whole
        return Takes.WHOLE if ground.on_ellipsoid(facts.crs, settings.along) else Takes.ROWS

    def work(self, layer: Layer, settings: Settings, context: Context) -> Outcome:
        assert layer.geometry is not None
        distances = _distances(settings.distances)
        remarks = [*ground.remarks_of(layer, settings.along, context), *ground.told_of_nowhere(layer)]
        whole: list[np.ndarray] = []
        told: list[Remark] = []
        for metres in distances:
            grown, told = growing.areas_within(layer, np.asarray(layer.geometry, object), metres, settings, context)
            whole.append(grown)
        remarks += told  # of the widest, which is the least true
        zones = whole if settings.whole else [whole[0], *(_without(o, i) for i, o in itertools.pairwise(whole))]
        there = np.array([is_nonempty(z) for z in zones], bool).reshape(len(zones), len(layer))
        rows, which = np.nonzero(there.T)
        shapes = np.stack(zones)[which, rows]
        remarks.append(Remark.counted("{n|zone} drawn", layer.key, n=len(shapes)))
        nowhere: list[Reason] = [(ground.NOWHERE, ground.nowhere_rows(layer))]
        controls = list(growing.held(layer, whole[0], distances[0])) if settings.ends == "round" else []
        if not settings.whole:
            unit, factor = unit_of("area", layer.crs)
            area = measures_of(layer.crs)["area"]
            outer = float(np.nansum(area(whole[-1]))) * factor
            controls.append(ControlTotal("area of all zones", unit, outer, float(np.nansum(area(shapes))) * factor, 1e-6))
        return reshaping.one_to_many(
            layer,
            rows,
            shapes,
            context,
            kind=GeometryKind.POLYGON,
            reasons=nowhere,
            remarks=remarks,
            more_fields=((settings.field, np.array(distances)[which]),),
            controls=controls,
        )


def _distances(text: str) -> list[float]:
    """Distances in metres, ascending; one without a unit has that of the next one with one.

    Raises
    ------
    SettingError : one is none, or not above zero.
    """
    unclear = re.search(r"(?<![\d.])\d{1,3},\d{3}(?![\d.])", text)
    if unclear:
        raise SettingError(
            f"'{unclear[0]}' can be one number or two", setting="distances", way_out="Write a blank after a comma, none in a number"
        )
    words = [w.strip() for w in re.split(r"[,;]", text) if w.strip()]
    found: list[float] = []
    unit = ""
    for word in reversed(words):
        number, own = re.fullmatch(r"([^A-Za-z]*)(.*)", word, re.DOTALL).groups()  # type: ignore[union-attr]
        unit = own.strip() or unit
        try:
            found.append(parse_length(f"{number.strip()} {unit}").si)
        except SettingError as error:
            raise SettingError(error.problem, setting="distances", way_out=error.way_out) from error
    if not found or min(found) <= 0:
        raise SettingError(
            f"'{text}' are no distances", setting="distances", way_out="Write lengths above zero, such as 100 m, 250 m, 1 km"
        )
    return sorted(set(found))


def _without(outer: np.ndarray, inner: np.ndarray) -> np.ndarray:
    """Areas without others inside them, row by row."""
    there = is_nonempty(outer) & is_nonempty(inner)
    out = np.array(outer, object)
    found = np.asarray(shapely.difference(made_valid(outer[there]), made_valid(inner[there])), object)
    out[there] = of_dimension(found, np.full(len(found), 2))
    return out
