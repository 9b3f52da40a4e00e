"""Compare two layers."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from eskret.core.account import InputAccount, OutputAccount, Relation, Remark, SetAside
from eskret.core.crs import crs_facts
from eskret.core.difference import ADDED, CHANGED, REMOVED, difference
from eskret.core.layer import Field, Layer, LayerFacts
from eskret.core.measures import parse_length
from eskret.core.naming import number_collisions
from eskret.core.ramps import value_colours
from eskret.core.rows import remaining
from eskret.core.style import VALUES, Style
from eskret.core.words import bold, counted, figure
from eskret.operations import figuring
from eskret.operations.base import Context, EachLayer, Finding, Forecast, Level, Outcome, Phase, in_words
from eskret.operations.other_layer import brought_to
from eskret.operations.pairing import taken
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.typed import Length


class Compare(EachLayer):
    """Tell what was added, removed and changed between an earlier layer and this one.

    Features are matched by a key; without one by their shape, so that a moved feature counts as one removed and one
    added. What leaves are the differences: added and changed features as they are now, removed ones as they were, with
    the fields that changed, their earlier values, and how far the shape moved. Features that are the same are set aside.
    """

    id = "compare"
    title = "Compare"
    phase = Phase.CHECK
    rank = 40
    relation = Relation.REPORT
    also_known_as = ("diff", "changes", "what changed", "versions", "added removed", "before and after", "same")

    class Settings(OperationSettings):
        earlier: str = setting("Earlier layer", kind="layer", tables=True, min_length=1, example="last:lease_beds",
                               help="The layer as it was: step, or step:layer.")  # fmt: skip
        key: list[str] = setting("Key", kind="fields", default=[], example="bed",
                                 help="Fields that tell features apart. Left empty, they are matched by their shape.")  # fmt: skip
        ignore: list[str] = setting("Fields to overlook", kind="fields", default=[], example="edited",
                                    help="Fields whose changes do not count.")  # fmt: skip
        tolerance: Length = setting("Shapes the same within", kind="measure", default="", example="1 mm",
                                 help="How far corners may have moved and still be the same. Left empty, not at all.")  # fmt: skip

    def sentence(self, settings: Mapping[str, Any], entering: str) -> str:
        key = settings.get("key")
        by = f" by {in_words(map(str, key), 3)}" if isinstance(key, list) and key else " by shape"
        return f"Compare {bold(entering or '…')} with {bold(str(settings.get('earlier') or '…').split(':')[-1])}{by}"

    def drawn(self, settings: Mapping[str, Any]) -> Style:
        colours = value_colours()
        return Style(VALUES, field="change", colours=dict(zip((ADDED, CHANGED, REMOVED), colours, strict=False)))

    def foretell(self, facts: LayerFacts, settings: Settings, context: Context) -> Forecast:
        found = [*figuring.named(facts, settings.key, "key")]
        other = next(iter(context.other_facts("earlier")), None)
        if other is not None:
            found += figuring.named(other, settings.key, "key")
            if not settings.key and "table" in (facts.kind, other.kind):
                found.append(Finding(Level.ERROR, "A table has no shapes to be matched by. Name a key.", setting="key"))
            gone = [n for n in other.names() if n not in facts.names()]
            new = [n for n in facts.names() if n not in other.names()]
            for names, what in ((gone, "were there earlier and are not"), (new, "are new and not compared")):
                if names:
                    found.append(Finding(Level.LOOK, f"{facts.key}: {in_words(names, 6)} {what}.", layer=facts.key))
        if any(f.level is Level.ERROR for f in found) or other is None:
            return Forecast((), tuple(found))
        names = [*facts.names()]
        more = [Field(n, t) for n, t in _fields(names)]
        out = facts.with_fields([*more, *facts.fields], facts.names())
        return Forecast((replace(out, count=None, certainty="unknown", extent=None),), tuple(found))

    def run(self, layer: Layer, settings: Settings, context: Context) -> Outcome:
        earlier = context.other_layers("earlier")[0]
        before, said = brought_to(earlier, layer) if layer.drawn and earlier.drawn else (earlier.geometry, ())
        facts = crs_facts(layer.crs) if layer.crs else None
        metres = facts.unit_metres if facts is not None and facts.unit_metres else 1.0
        tolerance = parse_length(settings.tolerance).si / metres if settings.tolerance else 0.0
        if facts is not None and facts.geographic:
            tolerance = parse_length(settings.tolerance).si / 111_320 if settings.tolerance else 0.0
        fields = [n for n in layer.table.column_names if n in earlier.table.column_names and n not in settings.ignore]
        found = difference(
            layer.table, layer.geometry, earlier.table, before, key=settings.key, fields=fields, tolerance=tolerance
        )
        rows = np.concatenate([found.added, found.changed, found.removed])
        new_rows = np.concatenate([found.added, found.changed, np.full(len(found.removed), -1)]).astype(np.int64)
        old_rows = np.concatenate([np.full(len(found.added), -1), found.was, found.removed]).astype(np.int64)
        what = [ADDED] * len(found.added) + [CHANGED] * len(found.changed) + [REMOVED] * len(found.removed)
        moved = np.concatenate([np.full(len(found.added), np.nan), found.moved, np.full(len(found.removed), np.nan)])
        if facts is not None:
            moved = moved * (111_320 if facts.geographic else metres)
        none = [""] * len(found.added)
        head = {
            "change": pa.array(what, pa.string()),
            "changed_fields": pa.array(
                [*none, *(", ".join(c) for c in found.fields), *[""] * len(found.removed)], pa.string()
            ),
            "moved_m": pa.array(moved, pa.float64(), mask=np.isnan(moved) | (moved == 0)),
            "was": pa.array([*none, *found.earlier, *[""] * len(found.removed)], pa.string()),
        }
        columns, names = list(head.values()), [n for n, _ in _fields(layer.table.column_names)]
        for name in layer.table.column_names:
            now = taken(layer.table.column(name), new_rows)
            if name in earlier.table.column_names:
                then = taken(earlier.table.column(name), np.where(new_rows < 0, old_rows, -1))
                now = _either(now, then, new_rows >= 0)
            columns.append(now)
            names.append(name)
        shapes = None
        if layer.geometry is not None:
            shapes = np.full(len(rows), None, object)
            shapes[new_rows >= 0] = layer.geometry[new_rows[new_rows >= 0]]
            if before is not None:
                shapes[new_rows < 0] = before[old_rows[new_rows < 0]]
        out = layer.with_geometry(shapes, layer.kind, table=pa.table(columns, names=names), ids=None)
        same = remaining(len(layer), new_rows)
        unkeyed = np.intersect1d(same, found.unkeyed)
        aside = SetAside.from_reasons([("is the same as before", np.setdiff1d(same, unkeyed)),
                                       ("its key is empty or not its own", unkeyed)])  # fmt: skip
        same_before = remaining(len(earlier), old_rows)
        bad_before = np.intersect1d(same_before, found.unkeyed_before)
        theirs = SetAside.from_reasons([
            ("is the same now", np.setdiff1d(same_before, bad_before)), ("its key is empty or not its own", bad_before),
        ])  # fmt: skip
        remarks = list(said)
        text = (f"{counted(len(found.added), 'feature')} added, {len(found.removed):,} removed, {len(found.changed):,} changed, "
                f"{len(same) - len(unkeyed):,} the same")  # fmt: skip
        remarks.append(Remark(text, layer.key))
        if len(unkeyed) or len(found.unkeyed_before):
            text = f"{len(unkeyed) + len(found.unkeyed_before):,} could not be matched, since their key is empty or not their own"
            remarks.append(Remark(text, layer.key, look=True))
        if np.nanmax(moved, initial=0.0) > 0:
            remarks.append(Remark(f"shapes moved by up to {figure(float(np.nanmax(moved)), 'm')}", layer.key))
        return Outcome(
            (out,), (InputAccount("from", layer.key, len(layer), aside),
                     InputAccount("earlier", earlier.key, len(earlier), theirs)),
            (OutputAccount(layer.key, len(out)),), new_rows[new_rows >= 0], tuple(remarks),
        )  # fmt: skip


def _fields(taken_names: list[str]) -> list[tuple[str, pa.DataType]]:
    wanted = [("change", pa.string()), ("changed_fields", pa.string()), ("moved_m", pa.float64()), ("was", pa.string())]
    names = number_collisions([n for n, _ in wanted], taken=taken_names)
    return [(n, t) for n, (_, t) in zip(names, wanted, strict=True)]


def _either(now: pa.ChunkedArray, then: pa.ChunkedArray, choose: np.ndarray) -> pa.ChunkedArray:

    if then.type != now.type:
        try:
            then = then.cast(now.type)
        except (pa.ArrowInvalid, pa.ArrowNotImplementedError):
            then = pa.chunked_array([pa.nulls(len(then), now.type)])
    return pc.if_else(pa.array(choose), now, then)
