"""Lay one layer over another."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Literal

import numpy as np
import pyarrow as pa
import shapely

from eskret.core.accounts.account import ControlTotal, InputAccount, OutputAccount, Relation, Remark, SetAside
from eskret.core.geometry.overlay import Pieces, common, remains
from eskret.core.geometry.parallel import is_nonempty, runs
from eskret.core.geometry.parts import dimension, invalid, made_valid, of_dimension
from eskret.core.layer import Field, GeometryKind, Layer, LayerFacts
from eskret.core.measure.planar import measures_of, sizes_of, unit_of
from eskret.core.measure.totals import totals_of
from eskret.core.naming import number_collisions
from eskret.core.tables.rows import remaining
from eskret.core.words import format_quantity, pluralise
from eskret.operations.base import Context, EachLayer, Finding, Forecast, Outcome, Phase, has_errors
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support import other_layer

MEETS_NONE = "has nothing in common with the other layer"
COVERED = "lies wholly under the other layer"


class Overlay(EachLayer):
    """Overlay another layer: cut both where they cross and keep the fields of both.

    In both: the pieces that two features have in common. In either: those, and what is left of each side. In one only:
    what is left of each side, without what they have in common. With the other's fields: all of this layer, cut where
    the other crosses it. Lines and points can be laid over areas too. Where the other layer's features lie on each other,
    a piece comes out for each. A field whose name is taken gets a number.
    """

    id = "overlay"
    title = "Overlay"
    phase = Phase.SHAPE
    menu_order = 28
    relation = Relation.MULTIPLIED
    says = "Overlay {other} on {entering}"
    also_known_as = (
        "intersection",
        "intersect",
        "intersect layers",
        "union of layers",
        "identity",
        "symmetric difference",
        "cross two layers",
        "both layers",
        "spatial overlay",
        "overlap of layers",
        "area of overlap",
        "parts of fields within zones",
        "keep both attributes",
        "types within each area",
    )

    class Settings(OperationSettings):
        other: str = setting(
            "Other layer", kind="layer", min_length=1, example="districts", help="The areas to lay over: step, or step:layer."
        )
        keep: Literal["both", "either", "one", "first"] = setting(
            "Keep what lies in",
            kind="choice",
            default="both",
            help="Which of the pieces leave.",
            choices={
                "both": "both layers",
                "either": "either of them",
                "one": "one of them only",
                "first": "this layer, with the other's fields",
            },
        )

    def forecast(self, facts: LayerFacts, settings: Settings, context: Context) -> Forecast:
        found = other_layer.findings(facts, context, "other", GeometryKind.POLYGON)
        other, several = other_layer.only_one(context, "other", settings.other)
        found += several
        if facts.kind != GeometryKind.POLYGON and settings.keep in ("either", "one"):
            found.append(
                Finding.error(f"what is left of the other layer is areas, which cannot join {facts.kind}s in one layer.", "keep", facts)
            )
        if has_errors(found) or other is None:
            return Forecast((), tuple(found))
        names = number_collisions(other.names(), taken=facts.names(), limit=10_000)
        new = [Field(n, f.type, f.title) for n, f in zip(names, other.fields, strict=True)]
        out = facts.with_fields((*facts.fields, *new))
        return Forecast((other_layer.upper_bound(out, count=None),), tuple(found))

    def work(self, layer: Layer, settings: Settings, context: Context) -> Outcome:
        others = other_layer.others_of(layer, context, "other")
        assert layer.geometry is not None and others.layer is not None
        there = np.flatnonzero(is_nonempty(layer.geometry))
        left = layer.geometry[there]
        bad = invalid(left)
        remarks = list(others.remarks)
        if bad.any():
            left = left.copy()
            left[bad] = of_dimension(made_valid(left[bad]), dimension(left[bad]))
            remarks.append(Remark(f"{pluralise(int(bad.sum()), 'invalid shape')} mended to be cut", layer.key, look=True))
        found = common(left, others.geometry, context.watch)
        both = settings.keep in ("both", "either", "first")
        pieces = [found.piece] if both else []
        mine = [there[found.left]] if both else []
        theirs = [others.rows[found.right]] if both else []
        rest = remains(left, others.geometry, found, context.watch)
        if settings.keep in ("either", "one", "first"):
            at = np.flatnonzero(is_nonempty(rest))
            pieces, mine = [*pieces, rest[at]], [*mine, there[at]]
            theirs.append(np.full(len(at), -1))
        mirrored = Pieces(*_by_left(found))
        if settings.keep in ("either", "one"):
            theirs_left = remains(others.geometry, left, mirrored, context.watch)
            at = np.flatnonzero(is_nonempty(theirs_left))
            pieces, theirs = [*pieces, theirs_left[at]], [*theirs, others.rows[at]]
            mine.append(np.full(len(at), -1))
        a, b = np.concatenate(mine).astype(np.int64), np.concatenate(theirs).astype(np.int64)
        shapes = np.concatenate(pieces)
        # the pieces of one feature stand together, those of the other layer alone at the end
        order = np.lexsort((b, np.where(a < 0, len(layer), a)))
        a, b, shapes = a[order], b[order], shapes[order]
        out = _with_both(layer, others.layer, a, b, shapes)
        sides = [_Side(there, left, others.geometry, found, rest, a, b, layer.crs)]
        if settings.keep in ("either", "one"):
            sides.append(_Side(others.rows, others.geometry, left, mirrored, theirs_left, b, a, layer.crs))
        controls = [c for side, name in zip(sides, (layer.key, others.layer.key), strict=False) for c in side.controls(out, name, both)]
        if both:
            remarks += sides[0].remarks(layer.key, others.layer.key)
        used = np.unique(a[a >= 0])
        gone = np.setdiff1d(there, used)
        why = MEETS_NONE if settings.keep == "both" else COVERED
        aside = SetAside.from_reasons([(why, gone), (other_layer.NO_PLACE, remaining(len(layer), there))])
        if not len(out):
            remarks.append(Remark("they have nothing in common", layer.key, look=True))
        told = OutputAccount(layer.key, len(out), totals_of(out, context.totals), tuple(controls))
        account = InputAccount.of(layer, aside)
        return Outcome((out,), (account, _their_account(others, b)), (told,), a[a >= 0], tuple(remarks))


def _by_left(found: Pieces) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    order = np.lexsort((found.left, found.right))
    return found.right[order], found.left[order], found.piece[order]


def _their_account(others: other_layer.Others, b: np.ndarray) -> InputAccount:
    assert others.layer is not None
    gone = np.setdiff1d(others.rows, b[b >= 0])
    missing = remaining(len(others.layer), others.rows)
    aside = SetAside.from_reasons([("has nothing in what leaves", gone), (other_layer.NO_PLACE, missing)])
    return InputAccount("other", others.layer.key, len(others.layer), aside)


def _with_both(layer: Layer, other: Layer, a: np.ndarray, b: np.ndarray, shapes: np.ndarray) -> Layer:
    def taken(table: pa.Table, at: np.ndarray) -> list[pa.ChunkedArray]:
        if not table.num_rows:
            return [pa.chunked_array([pa.nulls(len(at), c.type)]) for c in table.columns]
        rows = pa.array(np.maximum(at, 0), mask=at < 0)
        return list(table.take(rows).columns)

    names = number_collisions(other.table.column_names, taken=layer.table.column_names, limit=10_000)
    table = pa.table([*taken(layer.table, a), *taken(other.table, b)], names=[*layer.table.column_names, *names])
    titles = {**layer.titles, **{n: other.titles[o] for n, o in zip(names, other.table.column_names, strict=True) if o in other.titles}}
    return layer.with_geometry(shapes, layer.kind, table=table, ids=None, titles=titles)


@dataclass(frozen=True)
class _Side:
    """One of the two layers, and what became of it: its rows and shapes, the shapes of the other, what they have in common, what
    is left of each, and, for each row that leaves, the row of this side and of the other (-1 for none)."""

    rows: np.ndarray
    shapes: np.ndarray
    others: np.ndarray
    found: Pieces
    rest: np.ndarray
    mine: np.ndarray
    theirs: np.ndarray
    crs: str | None

    @cached_property
    def excess(self) -> dict[str, float]:
        """How much of this side stands in what leaves more than once, since features of the other lie on each other there: what
        the pieces of each feature measure beyond what is covered, each spot once. Of a feature whose pieces and rest make just
        it, nothing is asked."""
        begins, ends = runs(self.found.left)
        out = {}
        for what, measure in measures_of(self.crs).items():
            pieces = sizes_of(self.found.piece, self.crs)[what]
            made = np.bincount(self.found.left, pieces, minlength=len(self.shapes)) + sizes_of(self.rest, self.crs)[what]
            whole = sizes_of(self.shapes, self.crs)[what]
            over = made > whole * (1 + 1e-9)
            out[what] = 0.0
            for k in np.flatnonzero(over[self.found.left[begins]]).tolist() if len(begins) else ():
                a, b = begins[k], ends[k]
                shape = self.shapes[[self.found.left[a]]]
                under = shapely.union_all(self.others[self.found.right[a:b]])
                covered = of_dimension(shapely.intersection(shape, under), dimension(shape))
                out[what] += float(pieces[a:b].sum() - measure(covered[is_nonempty(covered)]).sum())
        return out

    def controls(self, out: Layer, name: str, both: bool) -> list[ControlTotal]:
        """This layer is what leaves of it and what does not, each spot once; measured on the layer that leaves."""
        assert out.geometry is not None
        made = []
        for what, which in (("length", 1), ("area", 2)):
            if not (dimension(self.shapes) == which).any():
                continue
            unit, factor = unit_of(what, self.crs)
            leaves = sizes_of(out.geometry[self.mine >= 0], self.crs)[what].sum()
            rest_leaves = (self.theirs[self.mine >= 0] < 0).any()
            away = 0.0 if rest_leaves else sizes_of(self.rest, self.crs)[what].sum()
            if not both:
                away += sizes_of(self.found.piece, self.crs)[what].sum()
            whole = sizes_of(self.shapes, self.crs)[what].sum()
            total = (leaves + away - self.excess[what]) * factor
            made.append(ControlTotal(f"{what} of {name}", unit, float(whole) * factor, float(total), 1e-8))
        return made

    def remarks(self, key: str, other: str) -> list[Remark]:
        """What stands in what leaves more than once."""
        out = []
        for what, which in (("length", 1), ("area", 2)):
            size = self.excess[what] if (dimension(self.shapes) == which).any() else 0.0
            unit, factor = unit_of(what, self.crs)
            if size > 1e-9 * sizes_of(self.shapes, self.crs)[what].sum():
                twice = format_quantity(size * factor, unit)
                text = f"{twice} lie in more than one feature of '{other}', and stand in what leaves once for each"
                out.append(Remark(text, key, look=True))
        return out
