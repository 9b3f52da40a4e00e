"""Dissolve features into one a group."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from functools import partial
from typing import Any, Literal

import numpy as np

from eskret.core.accounts.account import ControlTotal, InputAccount, Most, Relation, Remark
from eskret.core.geometry.dissolve import Joined, apart, dissolve, new_holes
from eskret.core.geometry.parts import dimension, made_valid, of_dimension, single_parts
from eskret.core.layer import Certainty, ChunkedLayer, GeometryKind, Layer, LayerFacts
from eskret.core.measure.planar import measures_of, sizes_of, unit_of
from eskret.core.tables.groupby import Groups, group_rows
from eskret.core.words import format_quantity, pluralise
from eskret.operations.base import Context, EachLayer, Finding, Forecast, Outcome, Phase, Takes
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support import ground, named_fields
from eskret.operations.support.setting_types import Figures


class Dissolve(EachLayer):
    """Merge features that share values into one, with counts and sums of what went in.

    Name the fields whose values decide; without any, everything becomes one feature. Shared edges disappear, holes and
    gaps between neighbours stay and are told. Areas and lines that lie on each other are counted once and the overlap is
    told, so that area (or length) in = out + overlap. Figures are new fields made of the old: tonnes = sum tonnes, or
    depth = mean depth_m. Other fields are not kept; take them along with first, or list for all different values.
    """

    id = "dissolve"
    title = "Dissolve"
    phase = Phase.SHAPE
    menu_order = 20
    relation = Relation.GROUPED
    says = "Dissolve {entering}[ by {by}| into one][ with {figures}]"
    also_known_as = (
        "union",
        "aggregate areas",
        "combine areas",
        "group areas",
        "merge features",
        "merge polygons by attribute",
        "merge adjoining polygons",
        "remove internal boundaries",
        "districts into regions",
        "join areas",
        "unite",
        "amalgamate",
        "fuse",
        "one feature per value",
    )

    class Settings(OperationSettings):
        by: list[str] = named_fields.by_setting()
        figures: Figures = named_fields.figures_setting()
        empty: Literal["aside", "group"] = named_fields.empty_setting()
        parts: Literal["together", "apart"] = setting(
            "Parts that do not touch",
            rare=True,
            kind="choice",
            default="together",
            choices={"together": "stay one feature", "apart": "become features of their own"},
            help="Whether a group that lies in several places stays one feature, or becomes one for each place with its own figures.",
        )

    def forecast(self, facts: LayerFacts, settings: Settings, context: Context) -> Forecast:
        found = named_fields.named(facts, settings.by, "by")
        if facts.kind == "table":
            found.append(Finding.error("a table has no shapes to join. Summarise it instead.", "from", facts))
        made, more = named_fields.forecast_figures(facts, settings.figures, settings.by)
        found += more
        if found:
            return Forecast((), tuple(found))
        kept = {f.name: f for f in facts.fields}
        fields = (*(kept[n] for n in settings.by), *made)
        count = facts.count if settings.by else 1
        certainty = Certainty.AT_MOST if settings.by or settings.parts == "apart" else Certainty.KNOWN
        return Forecast((replace(facts, fields=fields, count=count, certainty=certainty),))

    def takes(self, facts: LayerFacts, settings: Settings) -> Takes:
        # whether there is a control total hangs on what there is in all of it
        alike = facts.kind is not GeometryKind.MIXED and not ground.may_be_nowhere(facts)
        return Takes.PARTS if settings.by and alike else Takes.WHOLE

    def places(self, layer: ChunkedLayer, settings: Settings) -> np.ndarray:
        return named_fields.group_places(layer, settings.by, settings.empty)

    def work(self, layer: Layer, settings: Settings, context: Context) -> Outcome:
        groups = group_rows(layer.table, settings.by, without_empty=settings.empty == "aside")
        assert layer.geometry is not None
        measures = measures_of(layer.crs)
        joined = dissolve(layer.geometry, groups.rows, groups.count, context.watch, measures["length"], measures["area"])
        shapes, into, first = joined.geometry, groups.of, groups.first
        if settings.parts == "apart" and groups.count:
            members = layer.geometry.copy()
            members[joined.mended] = made_valid(members[joined.mended])  # of which all parts hang together, as they were drawn
            shapes, into = apart(joined.geometry, members, groups.of)
            order = np.argsort(into, kind="stable")
            first = order[np.searchsorted(into[order], np.arange(len(shapes)))]
        made = Groups(into, first)
        table, wanted = named_fields.grouped(layer.table, made, settings.by, settings.figures)
        titles = {n: t for n, t in layer.titles.items() if n in settings.by}
        out = layer.with_geometry(shapes, layer.kind, table=table, ids=None, titles=titles)
        aside = named_fields.without_value(groups, settings.by)
        used = np.flatnonzero(groups.of >= 0)
        controls = (*_sizes(layer, out, joined, used), *named_fields.sums_agree(layer.table, used, table, wanted))
        return Outcome(
            (out,),
            inputs=(InputAccount.of(layer, aside),),
            remarks=(*_remarks(layer, joined, groups, out), *named_fields.no_numbers(layer, [*settings.by, *(s.field for s in wanted)])),
            into=into,
            controls=controls,
        )


def _sizes(layer: Layer, out: Layer, joined: Joined, used: np.ndarray) -> tuple[ControlTotal, ...]:
    """What went in is what leaves and what lay on each other: the area of areas, the length of lines."""
    assert layer.geometry is not None and out.geometry is not None
    if len(ground.nowhere_rows(layer)):
        return ()  # what is nowhere on the globe has no size there, and nor has what lies on it; that is told
    sizes = sizes_of(layer.geometry, layer.crs)
    if len(joined.mended):
        # what a self-crossing shape measures depends on how it is read: its parts count as they are once mended, each by itself
        parts, owner = single_parts(layer.geometry[joined.mended])
        sound = sizes_of(of_dimension(made_valid(parts), dimension(parts)), layer.crs)["area"]
        sizes["area"][joined.mended] = np.bincount(owner, sound, minlength=len(joined.mended))
    name = "area" if sizes["area"].any() else "length"
    if not sizes[name].any() or (dimension(layer.geometry) == -2).any() or (sizes["area"].any() and sizes["length"].any()):
        return ()
    unit, factor = unit_of(name, layer.crs)
    before, after = float(sizes[name][used].sum()), float(sizes_of(out.geometry, layer.crs)[name].sum())
    return (ControlTotal(f"{name} with its overlap", unit, before * factor, (after + joined.overlap.sum()) * factor, 1e-8),)


def _remarks(layer: Layer, joined: Joined, groups: Groups, out: Layer) -> list[Remark]:
    assert layer.geometry is not None and out.geometry is not None
    found = [named_fields.grown(layer, groups.count, int(groups.sizes.sum())), *ground.told_of_nowhere(layer)]
    unit, factor = unit_of("length" if layer.kind is GeometryKind.LINE else "area", layer.crs)
    size = float(joined.overlap.sum()) * factor
    found.append(Remark.figured("overlap", partial(_overlap, unit), layer.key, look=True, n=len(joined.overlapping), size=size))
    found.append(Remark.of_some("{n|invalid shape} mended to be joined", layer.key, look=True, n=len(joined.mended)))
    number, largest = new_holes(out.geometry, layer.geometry, measures_of(layer.crs)["area"])
    found.append(Remark.figured("holes", partial(_holes, unit), layer.key, n=number, largest=Most(largest * factor)))
    alone = int(np.isin(dimension(out.geometry), (-1,)).sum())
    found.append(Remark.of_some("{n|group} without geometry", layer.key, look=True, n=alone))
    return found


def _overlap(unit: str, figures: Mapping[str, Any]) -> str:
    if not figures["n"]:
        return ""
    size = format_quantity(figures["size"], unit)
    return f"in {pluralise(figures['n'], 'group')} features lie on each other, {size} in all, counted once"


def _holes(unit: str, figures: Mapping[str, Any]) -> str:
    if not figures["n"]:
        return ""
    return f"{pluralise(figures['n'], 'hole')} between features, the largest {format_quantity(figures['largest'], unit)}"
