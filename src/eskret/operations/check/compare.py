"""Compare two layers."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

import numpy as np

from eskret.core.accounts.account import InputAccount, OutputAccount, Relation, Remark, SetAside
from eskret.core.crs import crs_facts
from eskret.core.layer import Certainty, Layer, LayerFacts
from eskret.core.measure.units import parse_length
from eskret.core.style.style import Style
from eskret.core.tables.diff import difference
from eskret.core.tables.rows import remaining
from eskret.core.words import format_quantity, pluralise
from eskret.operations.base import Context, EachLayer, Finding, Forecast, Outcome, Phase, has_errors
from eskret.operations.sentences import join_words
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support import differing, named_fields
from eskret.operations.support.other_layer import to_crs_of
from eskret.operations.support.setting_types import Length


class Compare(EachLayer):
    """Show what was added, removed and changed between an earlier layer and this one.

    Features are matched by a key; without one by their shape, so that a moved feature counts as one removed and one
    added. What leaves are the differences: added and changed features as they are now, removed ones as they were, with
    the fields that changed, their earlier values, and how far the shape moved. Features that are the same are set aside.
    """

    id = "compare"
    title = "Compare"
    limits = "A feature that changed its key counts as one removed and one added."
    phase = Phase.CHECK
    menu_order = 40
    relation = Relation.REPORT
    says = "Compare {entering} with {earlier}[ by {key:3}| by shape]"
    also_known_as = (
        "diff",
        "changes",
        "what changed",
        "changed since",
        "versions",
        "difference between versions",
        "added removed",
        "before and after",
        "old and new",
        "old against new",
        "same",
    )

    class Settings(OperationSettings):
        earlier: str = setting(
            "Earlier layer",
            kind="layer",
            tables=True,
            min_length=1,
            example="last:lease_beds",
            help="The layer as it was: step, or step:layer.",
        )
        key: list[str] = setting(
            "Key",
            kind="fields",
            default=[],
            example="bed",
            help="Fields that tell features apart. Left empty, they are matched by their shape.",
        )
        ignore: list[str] = setting(
            "Fields to ignore", rare=True, kind="fields", default=[], example="edited", help="Fields whose changes do not count."
        )
        tolerance: Length = setting(
            "Shapes the same within",
            rare=True,
            kind="measure",
            default="",
            example="1 mm",
            help="How far corners may have moved and still count as the same. Left empty, not at all.",
        )

    def default_style(self, settings: Mapping[str, object]) -> Style:
        return differing.difference_style()

    def forecast(self, facts: LayerFacts, settings: Settings, context: Context) -> Forecast:
        found = [*named_fields.named(facts, settings.key, "key")]
        other = next(iter(context.other_facts("earlier")), None)
        if other is not None:
            found += named_fields.named(other, settings.key, "key")
            if not settings.key and "table" in (facts.kind, other.kind):
                found.append(Finding.error("A table has no shapes to be matched by. Name a key.", "key"))
            gone = [n for n in other.names() if n not in facts.names()]
            new = [n for n in facts.names() if n not in other.names()]
            for names, what in ((gone, "were there earlier and are not"), (new, "are new and not compared")):
                if names:
                    found.append(Finding.look(f"{join_words(names, 6)} {what}.", about=facts))
        if has_errors(found) or other is None:
            return Forecast((), tuple(found))
        names = [*facts.names()]
        out = facts.with_fields([*differing.fields_for(names), *facts.fields], facts.names())
        return Forecast((replace(out, count=None, certainty=Certainty.UNKNOWN, extent=None),), tuple(found))

    def work(self, layer: Layer, settings: Settings, context: Context) -> Outcome:
        earlier = context.other_layers("earlier")[0]
        before, said = to_crs_of(earlier, layer) if layer.has_geometry and earlier.has_geometry else (earlier.geometry, ())
        facts = crs_facts(layer.crs) if layer.crs else None
        metres = facts.unit_metres if facts is not None and facts.unit_metres else 1.0
        tolerance = parse_length(settings.tolerance).si / metres if settings.tolerance else 0.0
        if facts is not None and facts.geographic:
            tolerance = parse_length(settings.tolerance).si / 111_320 if settings.tolerance else 0.0
        fields = [n for n in layer.table.column_names if n in earlier.table.column_names and n not in settings.ignore]
        found = difference(layer.table, layer.geometry, earlier.table, before, key=settings.key, fields=fields, tolerance=tolerance)
        new_rows, old_rows = differing.rows_of(found)
        moved = found.moved * ((111_320 if facts.geographic else metres) if facts is not None else 1.0)
        out = differing.layer_of(layer, earlier.table, before, found, moved)
        same = remaining(len(layer), new_rows)
        unkeyed = np.intersect1d(same, found.unkeyed)
        aside = SetAside.from_reasons(
            [("is the same as before", np.setdiff1d(same, unkeyed)), ("its key is empty or not its own", unkeyed)]
        )
        same_before = remaining(len(earlier), old_rows)
        bad_before = np.intersect1d(same_before, found.unkeyed_before)
        theirs = SetAside.from_reasons(
            [("is the same now", np.setdiff1d(same_before, bad_before)), ("its key is empty or not its own", bad_before)]
        )
        remarks = list(said)
        text = (
            f"{pluralise(len(found.added), 'feature')} added, {len(found.removed):,} removed, {len(found.changed):,} changed, "
            f"{len(same) - len(unkeyed):,} the same"
        )
        remarks.append(Remark(text, layer.key))
        if len(unkeyed) or len(found.unkeyed_before):
            text = f"{len(unkeyed) + len(found.unkeyed_before):,} could not be matched, since their key is empty or not their own"
            remarks.append(Remark(text, layer.key, look=True))
        if np.nanmax(moved, initial=0.0) > 0:
            remarks.append(Remark(f"shapes moved by up to {format_quantity(float(np.nanmax(moved)), 'm')}", layer.key))
        return Outcome(
            (out,),
            (InputAccount.of(layer, aside), InputAccount("earlier", earlier.key, len(earlier), theirs)),
            (OutputAccount(layer.key, len(out)),),
            new_rows[new_rows >= 0],
            tuple(remarks),
        )
