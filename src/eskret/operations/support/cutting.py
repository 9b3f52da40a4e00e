"""What clip and erase have in common: features cut at the edge of an area, and the accounts of it."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np
import shapely
from shapely.geometry.base import BaseGeometry

from eskret.core.accounts.account import Altered, ControlTotal, InputAccount, OutputAccount, Remark, SetAside
from eskret.core.geometry.cut import Cut, cut, outline
from eskret.core.geometry.parallel import is_nonempty
from eskret.core.geometry.parts import dimension, made_valid, of_dimension, single_parts, together
from eskret.core.geometry.predicates import Predicate, points_match
from eskret.core.layer import GeometryKind, Layer
from eskret.core.measure.planar import Sizes, layer_sizes, sizes_of, unit_of
from eskret.core.measure.totals import measure_sizes, totals_of
from eskret.core.measure.units import AREAS, LENGTHS, Quantity, parse_measure
from eskret.errors import Code
from eskret.operations.base import Context, Outcome
from eskret.operations.settings import setting
from eskret.operations.support import other_layer

Side = Literal["inside", "outside"]
TOUCHES = "only touches the edge of the area"


def area_setting(label: str, help: str) -> Any:
    """The layer whose areas cut."""
    return setting(label, kind="layer", min_length=1, example="districts:north", help=help)


def edge_setting() -> Any:
    """What becomes of features across the edge."""
    return setting(
        "Features across the edge",
        kind="choice",
        default="cut",
        choices={"cut": "are cut at it", "whole": "stay whole"},
        help="Lines and areas can be cut at the edge, or stay whole if any of them lies there.",
    )


def sliver_setting() -> Any:
    """The least a piece must measure."""
    return setting(
        "Smallest piece",
        rare=True,
        kind="measure",
        default="",
        example="1 m2",
        help="Cut pieces smaller than this are left out: an area such as 1 m2 for areas, a length such as 0.5 m for lines.",
    )


def cut_outcome(layer: Layer, settings: Any, context: Context, setting_name: str, side: Side) -> Outcome:
    """Cut a layer at the outline of the layer that a setting names, and keep what lies on one side.

    Raises
    ------
    CrsError : the two cannot be laid over each other.
    """
    others = other_layer.others_of(layer, context, setting_name)
    area: BaseGeometry = context.once("outline", lambda: outline(others.geometry))
    found = _points(layer, area) or cut(layer.bounds(), layer.shapes, area, context.watch)
    missing = ~_real_rows(layer)
    remarks = list(others.remarks)
    if area.is_empty:
        remarks.append(Remark(f"'{context.others[setting_name][0].key}' has no area", layer.key, look=True))

    kept = found.within if side == "inside" else found.apart & ~missing
    pieces, away = (found.inside, found.outside) if side == "inside" else (found.outside, found.inside)
    if settings.edge == "whole":
        partly = is_nonempty(pieces)
        pieces = np.where(partly, layer.shapes(found.edge), pieces)
        away = away.copy()
        away[partly] = None
    dropped = np.zeros(len(pieces), bool)
    if settings.sliver and settings.edge == "cut":
        pieces, away, dropped, slivers = _without_slivers(pieces, away, settings.sliver, layer)
    left = is_nonempty(pieces)
    shortened = left & is_nonempty(away)
    rows = np.sort(np.concatenate([np.flatnonzero(kept), found.edge[left]]))

    gone = found.apart & ~missing if side == "inside" else found.within
    wholly = "lies outside the area" if side == "inside" else "lies inside the area"
    piece = f"only a piece smaller than {settings.sliver} is left of it"
    nothing = found.edge[~left & ~dropped]
    # of what meets the edge and has nothing outside, all lies inside, up to the edge
    whole = is_nonempty(away[~left & ~dropped]) if side == "outside" else np.zeros(len(nothing), bool)
    aside = SetAside.from_reasons(
        [
            (wholly, np.union1d(np.flatnonzero(gone), nothing[whole])),
            (TOUCHES, nothing[~whole]),
            (piece, found.edge[~left & dropped]),
            (other_layer.NO_PLACE, np.flatnonzero(missing)),
        ]
    )
    out = layer.take(rows)
    mended = found.mended if settings.edge == "cut" else found.mended[:0]  # what stays whole stays as it is
    changed = left & (shortened | np.isin(found.edge, mended))
    out = out.with_shapes(np.searchsorted(rows, found.edge[changed]), pieces[changed])
    lost = sizes_of(away, layer.crs)
    before = layer_sizes(layer)
    if len(mended):
        remarks.append(Remark.counted("{n|invalid shape} mended to be cut", layer.key, look=True, n=len(mended)))
        # what a self-crossing shape measures depends on how it is read: it counts as it is once mended
        crossed = layer.shapes(mended)
        sound = sizes_of(of_dimension(made_valid(crossed), dimension(crossed)), layer.crs)
        for name, values in before.items():
            corrected = values.copy()
            corrected[mended] = sound[name]
            before = {**before, name: corrected}
    controls = _controls(before, layer_sizes(out), lost, aside.rows, found.edge[left], left, layer.crs)
    unit = unit_of("length" if layer.kind is GeometryKind.LINE else "area", layer.crs)
    amounts = (lost["length"] + lost["area"])[shortened] * unit[1]
    altered = [Altered("cut at the edge", found.edge[shortened], amounts, unit[0])] if shortened.any() else []
    if dropped.any() and (dropped & left).any():
        altered.append(
            Altered(f"pieces smaller than {settings.sliver} left out", found.edge[dropped & left], where=slivers[dropped & left])
        )
    if not len(rows):
        remarks.append(Remark(f"nothing lies {side} the area", layer.key, look=True, code=Code.NOTHING_LEFT))
    if shortened.any():
        remarks.append(Remark.counted("{n|feature} cut at the edge", layer.key, n=int(shortened.sum())))
    account = InputAccount.of(layer, aside, tuple(altered))
    told = OutputAccount(layer.key, len(out), totals_of(out, context.totals), controls)
    return Outcome((out,), (account, *others.accounts), (told,), rows, tuple(remarks))


def _real_rows(layer: Layer) -> np.ndarray:
    if layer.undecoded is not None:
        return ~np.isnan(layer.bounds()[:, 0])
    return is_nonempty(layer.geometry) if layer.geometry is not None else np.zeros(len(layer), bool)


def _points(layer: Layer, area: BaseGeometry) -> Cut | None:
    """As ``cut``, for points that are known by their coordinates."""
    xy = layer.undecoded.xy if layer.undecoded is not None else None
    if xy is None or area.is_empty:
        return None
    inside = points_match(xy, np.array([area], object), Predicate.WITHIN, edge=True)
    if inside is None:
        return None
    nothing = np.empty(0, object)
    return Cut(inside, ~inside, np.empty(0, np.int64), nothing, nothing, np.empty(0, np.int64))


def _without_slivers(
    pieces: np.ndarray, away: np.ndarray, least: str, layer: Layer
) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """Cut pieces without parts that are too small, which go to what is cut away; whose parts were left out, and in which box."""
    measure: Quantity = parse_measure(least)
    parts, owner = single_parts(pieces)
    wanted = 2 if measure.unit in AREAS else 1
    assert measure.unit in AREAS or measure.unit in LENGTHS
    small = np.zeros(len(parts), bool)
    at = np.flatnonzero((dimension(parts) == wanted) & is_nonempty(away)[owner])
    if len(at) and layer.crs is not None:
        size = measure_sizes(parts[at], GeometryKind.POLYGON if wanted == 2 else GeometryKind.LINE, layer.crs)
        if size is not None:
            small[at] = size < measure.si
    touched = np.zeros(len(pieces), bool)
    touched[owner[small]] = True
    if not touched.any():
        return pieces, away, touched, np.full((len(pieces), 4), np.nan)
    rows = np.flatnonzero(touched)
    kinds = dimension(pieces)
    rest = together(parts[~small], owner[~small], len(pieces), kinds)
    slivers = together(parts[small], owner[small], len(pieces), kinds)
    pieces, away = pieces.copy(), away.copy()
    pieces[rows] = rest[rows]
    for row in rows.tolist():
        both = np.concatenate([shapely.get_parts(away[row]), shapely.get_parts(slivers[row])])
        away[row] = together(both, np.zeros(len(both), np.int64), 1, kinds[[row]])[0]
    return pieces, away, touched, shapely.bounds(slivers)


def _controls(
    before: Sizes, after: Sizes, lost: Sizes, aside: np.ndarray, edge: np.ndarray, left: np.ndarray, crs: str | None
) -> tuple[ControlTotal, ...]:
    """What came in is what is left, what was cut away and what was set aside, each measured on its own."""
    out = []
    for name in ("length", "area"):
        whole = float(np.nansum(before[name]))
        if not whole:
            continue
        unit, factor = unit_of(name, crs)
        parts = (np.nansum(after[name]), np.nansum(lost[name][left]), np.nansum(before[name][aside]))
        out.append(ControlTotal(name, unit, whole * factor, float(sum(parts)) * factor))
    return tuple(out)
