"""Bring fields from features of another layer that lie there."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Literal

import numpy as np

from eskret.core.accounts.account import Altered, InputAccount, Relation, Remark, SetAside
from eskret.core.crs import is_geographic
from eskret.core.geometry.overlay import common, meeting
from eskret.core.geometry.parallel import is_nonempty
from eskret.core.geometry.parts import invalid, made_valid
from eskret.core.layer import Certainty, Layer, LayerFacts
from eskret.core.measure.planar import sizes_of
from eskret.core.tables.rows import remaining
from eskret.core.words import bold
from eskret.operations.base import Context, EachLayer, Forecast, Outcome, Phase, Takes, has_errors
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support import named_fields, other_layer, pairing

NONE = "nothing of the other layer lies there"
_RELATIONS = {
    "intersects": "meet",
    "within": "lie within",
    "contains": "contain",
    "covered_by": "lie within, edge counted",
    "touches": "touch",
    "crosses": "cross",
    "overlaps": "overlap",
}


class JoinByPlace(EachLayer):
    """Join the fields of another layer's features by where they lie.

    The district of each mooring, the bed of each sample. The relation is one of OGC Simple Features, or most in common:
    the feature of the other layer that covers the largest part. Where several fit, take the first, a list of all
    different values, the sum, or repeat the feature for each. Both sides are accounted for. A field whose name is taken
    gets a number.
    """

    id = "join_by_place"
    title = "Join by place"
    phase = Phase.DESCRIBE
    menu_order = 45
    relation = Relation.ONE_FOR_ONE
    also_known_as = (
        "spatial join",
        "attribute by location",
        "which area is it in",
        "point in polygon",
        "overlay fields",
        "tag by area",
        "add district name to points",
        "transfer attributes",
        "district of each point",
    )

    class Settings(OperationSettings):
        other: str = setting(
            "Other layer", kind="layer", min_length=1, example="districts", help="The layer whose fields are wanted: step, or step:layer."
        )
        relation: Literal["intersects", "within", "contains", "covered_by", "touches", "crosses", "overlaps", "most"] = setting(
            "Features that",
            kind="choice",
            default="intersects",
            choices={**_RELATIONS, "most": "have most in common with"},
            help="How a feature must lie to one of the other layer.",
        )
        fields: list[str] = setting(
            "Fields to bring", kind="fields", of="other", default=[], example="name", help="Left empty, all of them."
        )
        several: Literal["first", "list", "sum", "repeat"] = pairing.several_setting("take the first")
        without: Literal["keep", "aside"] = setting(
            "Features without one",
            kind="choice",
            default="keep",
            choices={"keep": "stay, with empty fields", "aside": "are set aside"},
            help="Either way they are counted.",
        )

    def sentence(self, settings: Mapping[str, object], entering: str) -> str:
        how = "what most covers it" if settings.get("relation") == "most" else "what lies there"
        return f"Join by place to {bold(entering or '…')} {how} of {bold(str(settings.get('other') or '…').split(':')[-1])}"

    def forecast(self, facts: LayerFacts, settings: Settings, context: Context) -> Forecast:
        found = other_layer.findings(facts, context, "other")
        other, several = other_layer.only_one(context, "other", settings.other)
        found += several
        if other is not None:
            found += [replace(f, layer="") for f in named_fields.named(other, settings.fields, "fields")]
        if has_errors(found) or other is None:
            return Forecast((), tuple(found))
        new = pairing.brought_fields(facts, other, settings.fields, settings.several)
        out = facts.with_fields((*facts.fields, *new))
        if settings.several == "repeat":
            out = replace(out, count=None, certainty=Certainty.UNKNOWN)
        elif settings.without == "aside":
            out = other_layer.upper_bound(out)
        return Forecast((out,), tuple(found))

    def takes(self, facts: LayerFacts, settings: Settings) -> Takes:
        return Takes.ROWS

    def work(self, layer: Layer, settings: Settings, context: Context) -> Outcome:
        others = other_layer.others_of(layer, context, "other")
        assert layer.geometry is not None and others.layer is not None
        there = np.flatnonzero(is_nonempty(layer.geometry))
        left = layer.geometry[there]
        bad = invalid(left) if settings.relation == "most" else np.zeros(len(left), bool)
        if settings.relation == "most":
            left[bad] = made_valid(left[bad])
            pieces = common(left, others.geometry, context.watch, others.index)
            sizes = sizes_of(pieces.piece, layer.crs)
            order = np.lexsort((pieces.right, -(sizes["length"] + sizes["area"]), pieces.left))
            a, b = pieces.left[order], pieces.right[order]
        else:
            globe = is_geographic(layer.crs)
            a, b = meeting(left, others.geometry, context.watch, relation=settings.relation, globe=globe, index=others.index)
        pairs = pairing.Pairs(there[a], others.rows[b])
        having = np.unique(pairs.row)
        kept = having if settings.without == "aside" else np.arange(len(layer))
        out, rows, partner = pairing.with_brought(layer, others.layer, pairs, settings.fields, settings.several, kept)
        missing = remaining(len(layer), there)
        alone = np.setdiff1d(there, having)
        reasons = [(NONE, alone), (other_layer.NO_PLACE, missing)]
        aside = SetAside.from_reasons(reasons if settings.without == "aside" else [])
        altered = () if settings.without == "aside" else tuple(Altered(r, at) for r, at in reasons)
        many = int((np.bincount(pairs.row, minlength=1) > 1).sum())
        used = pairs.other
        if settings.several == "first" and len(pairs.row):
            used = pairs.other[np.r_[True, pairs.row[1:] != pairs.row[:-1]]]
        remarks = [*others.remarks, Remark.of_some("{n|invalid shape} mended to be compared", layer.key, look=True, n=int(bad.sum()))]
        remarks.append(Remark.counted("{n|feature} found one", layer.key, n=len(having)))
        if settings.several in ("sum", "list"):
            brought = [f for f, _ in pairing.brought_names(layer, others.layer, settings.fields)]
            remarks += (r.once() for r in named_fields.no_numbers(others.layer, brought))
        remarks.append(Remark.of_some("{n|feature} found none", layer.key, look=True, n=len(alone)))
        look = settings.several == "first" and settings.relation != "most"
        remarks.append(Remark.of_some("{n|feature} found several", layer.key, look=look, n=many))
        return Outcome(
            (out,),
            inputs=(InputAccount.of(layer, aside, altered), pairing.other_account("other", others, used, "went to no feature")),
            lineage=rows,
            remarks=tuple(remarks),
            relation=Relation.MULTIPLIED if settings.several == "repeat" else Relation.ONE_FOR_ONE,
            brought=(pairing.links_of("other", pairs, kept, partner, settings.several),),
        )
