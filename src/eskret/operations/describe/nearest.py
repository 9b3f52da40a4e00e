"""Find the nearest feature of another layer."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from functools import partial
from typing import Any, Literal

import numpy as np
import pyarrow as pa

from eskret.core.accounts.account import Altered, InputAccount, Least, Most, Relation, Remark, SetAside
from eskret.core.crs import crs_facts
from eskret.core.geometry.closest import closest
from eskret.core.geometry.globe import nearest as on_globe
from eskret.core.geometry.parallel import is_nonempty
from eskret.core.layer import Field, Layer, LayerFacts
from eskret.core.measure.units import LENGTHS, parse_length
from eskret.core.naming import number_collisions
from eskret.core.words import format_quantity
from eskret.operations.base import Context, EachLayer, Forecast, Outcome, Phase, Takes, has_errors
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support import ground, named_fields, other_layer, pairing, reshaping
from eskret.operations.support.setting_types import Length

TOO_FAR = "nothing of the other layer is near enough"


class Nearest(EachLayer):
    """Find the nearest feature of another layer, with its fields and its distance.

    The distance is from edge to edge, zero where they meet, and its field is named after its unit. Name a greatest
    distance to leave out what is too far. Of several at the same distance the first in the layer's order is taken. Where
    coordinates are degrees, the distance is the shortest way along the ellipsoid, also over 180 degrees and the poles.
    """

    id = "nearest"
    title = "Nearest"
    phase = Phase.DESCRIBE
    menu_order = 48
    relation = Relation.ONE_FOR_ONE
    says = "Nearest of {other} to {entering}[ within {within}]"
    also_known_as = (
        "closest",
        "distance to nearest",
        "near",
        "neighbour",
        "proximity",
        "how far from",
        "distance from each",
        "nearest neighbor",
        "closest facility",
    )

    class Settings(OperationSettings):
        other: str = setting(
            "Other layer",
            kind="layer",
            min_length=1,
            example="moorings",
            help="The layer in which the nearest is looked for: step, or step:layer.",
        )
        fields: list[str] = setting(
            "Fields to bring", kind="fields", of="other", default=[], example="mooring", help="Left empty, all of them."
        )
        unit: Literal["m", "km", "ft", "yd", "mi", "nmi"] = setting(
            "Unit of the distance",
            kind="choice",
            default="m",
            help="It is part of the field's name: distance_m.",
            choices={u: u for u in LENGTHS if u in ("m", "km", "ft", "yd", "mi", "nmi")},
        )
        within: Length = setting(
            "Within", kind="measure", default="", example="2 km", help="What is further away does not count. Left empty, any distance does."
        )
        along: ground.Along = ground.along_setting()
        without: Literal["keep", "aside"] = setting(
            "Features without one",
            rare=True,
            kind="choice",
            default="keep",
            choices={"keep": "stay, with empty fields", "aside": "are set aside"},
            help="Either way they are counted.",
        )

    def forecast(self, facts: LayerFacts, settings: Settings, context: Context) -> Forecast:
        found = [*other_layer.findings(facts, context, "other"), *reshaping.require_length_unit(facts, "unit")[:1]]
        found += ground.forecast_along(facts, settings.along)
        other, several = other_layer.only_one(context, "other", settings.other)
        found += several
        if other is not None:
            found += [replace(f, layer="") for f in named_fields.named(other, settings.fields, "fields")]
        if has_errors(found) or other is None:
            return Forecast((), tuple(found))
        new = pairing.brought_fields(facts, other, settings.fields, "first")
        taken = [*facts.names(), *(f.name for f in new)]
        name = number_collisions([f"distance_{settings.unit}"], taken=taken)[0]
        out = facts.with_fields((*facts.fields, *new, Field(name, pa.float64())))
        return Forecast((other_layer.upper_bound(out) if settings.without == "aside" else out,), tuple(found))

    def takes(self, facts: LayerFacts, settings: Settings) -> Takes:
        # how true it is along the ellipsoid is told of the whole
        return Takes.WHOLE if ground.on_ellipsoid(facts.crs, settings.along) else Takes.ROWS

    def work(self, layer: Layer, settings: Settings, context: Context) -> Outcome:
        others = other_layer.others_of(layer, context, "other", valid=False)
        assert layer.geometry is not None and others.layer is not None
        there = is_nonempty(layer.geometry)
        partner, metres = _nearest(layer, others, settings, context)
        found = partner >= 0
        pairs = pairing.Pairs(np.flatnonzero(found), others.rows[partner[found]])
        kept = np.flatnonzero(found) if settings.without == "aside" else np.arange(len(layer))
        out, rows, partner = pairing.with_brought(layer, others.layer, pairs, settings.fields, "first", kept)
        name = number_collisions([f"distance_{settings.unit}"], taken=out.table.column_names)[0]
        distance = metres[rows] / LENGTHS[settings.unit]
        out = out.with_table(out.table.append_column(name, pa.array(distance, pa.float64(), mask=np.isnan(distance))))
        reasons = [(TOO_FAR, np.flatnonzero(there & ~found)), (other_layer.NO_PLACE, np.flatnonzero(~there))]
        aside = SetAside.from_reasons(reasons if settings.without == "aside" else [])
        altered = () if settings.without == "aside" else tuple(Altered(r, at) for r, at in reasons)
        remarks = [*others.remarks, *ground.remarks_of(layer, settings.along, context), *ground.told_of_nowhere(layer)]
        far = metres[found] / LENGTHS[settings.unit]
        least, most = Least(far.min(initial=np.inf)), Most(far.max(initial=-np.inf))
        remarks.append(Remark.figured("reach", partial(_reach, settings.unit), layer.key, least=least, most=most))
        remarks.append(Remark.of_some("{n|feature} found none", layer.key, look=True, n=int((there & ~found).sum())))
        return Outcome(
            (out,),
            inputs=(
                InputAccount.of(layer, aside, altered),
                pairing.other_account("other", others, pairs.other, "is nearest to no feature"),
            ),
            lineage=rows,
            remarks=tuple(remarks),
            brought=(pairing.links_of("other", pairs, kept, partner, "first"),),
        )


def _reach(unit: str, figures: Mapping[str, float]) -> str:
    if figures["most"] < 0:
        return ""  # there was none
    return f"from {format_quantity(figures['least'], unit)} to {format_quantity(figures['most'], unit)}"


def _nearest(layer: Layer, others: other_layer.Others, settings: Any, context: Context) -> tuple[np.ndarray, np.ndarray]:
    """For every row the position of the nearest (-1 for none) and metres to it (NaN)."""
    assert layer.geometry is not None
    limit = parse_length(settings.within).si if settings.within else None
    crs = ground.crs_of(layer)
    if ground.on_ellipsoid(crs, settings.along):
        below = ground.ground_of(crs)
        return on_globe.nearest(below.there(layer.geometry), below.there(others.geometry), below.on, limit, context.watch)
    unit = crs_facts(crs).unit_metres or 1.0
    partner, apart = closest(layer.geometry, others.geometry, None if limit is None else limit / unit, context.watch, others.index)
    return partner, apart * unit
