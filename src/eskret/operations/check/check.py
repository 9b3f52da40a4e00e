"""Prove that something holds."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import shapely

from eskret.core.accounts.account import Altered, InputAccount, Relation, Remark
from eskret.core.expression import parse_condition, truth
from eskret.core.geometry.cut import cut, outline
from eskret.core.geometry.faults import faults_of
from eskret.core.geometry.overlay import meeting
from eskret.core.geometry.parallel import is_nonempty
from eskret.core.geometry.parts import dimension
from eskret.core.layer import Certainty, Layer, LayerFacts
from eskret.core.measure.planar import measures_of, unit_of
from eskret.core.measure.totals import totals_of
from eskret.core.tables.groupby import group_rows
from eskret.core.tables.values import empties
from eskret.core.words import bold, format_quantity, pluralise
from eskret.operations.base import Context, EachLayer, Finding, Forecast, Outcome, Phase, has_errors
from eskret.operations.sentences import join_words, share
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support import named_fields, other_layer

_THAT = {
    "count": "there are as many features as",
    "unique": "every feature has its own",
    "filled": "nothing is empty in",
    "condition": "a condition holds for all",
    "share": "a condition holds for a share of them",
    "valid": "all shapes are valid",
    "totals": "totals agree with another layer",
    "inside": "all lie inside another layer",
    "overlaps": "no areas lie on each other",
    "gaps": "no gaps between areas",
}
_FIELDS = ("unique", "filled", "totals")
_OTHER = ("totals", "inside")


@dataclass(frozen=True)
class _Answer:
    """Whether it holds, in words, the rows that offend, by how much and where in each (none, or as long)."""

    holds: bool
    words: str
    rows: np.ndarray
    amounts: np.ndarray | None = None
    unit: str = ""
    where: np.ndarray | None = None


class Check(EachLayer):
    """Check that something holds for a layer, and stop the run if it does not.

    The layer passes through unchanged. It can check how many features there are, whether a field is a key, whether
    anything is empty, whether a condition holds for all, whether shapes are valid, whether totals agree with another
    layer (of an earlier step), whether all lie inside an area, whether areas lie on each other or leave gaps.
    Features that offend are listed and drawn. A check that fails lets nothing be written; or it only asks for a look,
    if you choose so.
    """

    id = "check"
    title = "Check"
    phase = Phase.CHECK
    menu_order = 20
    relation = Relation.ONE_FOR_ONE
    also_known_as = (
        "assert",
        "validate",
        "quality",
        "quality control",
        "qa",
        "make sure",
        "all valid",
        "must hold",
        "stop if",
        "unique ids",
        "no overlaps",
        "no gaps",
        "topology",
        "every row has",
        "test fails",
    )

    class Settings(OperationSettings):
        that: Literal["count", "unique", "filled", "condition", "share", "valid", "totals", "inside", "overlaps", "gaps"] = setting(
            "Check that", kind="choice", choices=_THAT, example="unique", help="What must hold."
        )
        least: int = setting(
            "At least", kind="whole", default=1, ge=0, shown_when=("that", ("count",)), help="The smallest number of features that will do."
        )
        most: int = setting(
            "At most", kind="whole", default=-1, ge=-1, shown_when=("that", ("count",)), help="The largest number that will do; -1 for any."
        )
        fields: list[str] = setting(
            "Fields",
            kind="fields",
            default=[],
            example="bed",
            shown_when=("that", _FIELDS),
            help="The fields it is about. For totals: fields to sum up, beside number, length and area.",
        )
        where: str = setting(
            "Condition",
            kind="condition",
            default="",
            example="depth_m >= 0",
            shown_when=("that", ("condition", "share")),
            help="An SQL condition that must hold for every feature, or for the share wanted.",
        )
        least_share: float = setting(
            "At least, per cent",
            kind="number",
            default=0.0,
            ge=0,
            le=100,
            shown_when=("that", ("share",)),
            help="The smallest share of all features that will do.",
        )
        most_share: float = setting(
            "At most, per cent",
            kind="number",
            default=100.0,
            ge=0,
            le=100,
            shown_when=("that", ("share",)),
            help="The largest share of all features that will do.",
        )
        other: str = setting(
            "Other layer",
            kind="layer",
            tables=True,
            default="",
            example="register:lease_beds",
            shown_when=("that", _OTHER),
            help="The layer to compare with: step, or step:layer.",
        )
        otherwise: Literal["stop", "look"] = setting(
            "If it does not hold",
            kind="choice",
            default="stop",
            choices={"stop": "stop the run, write nothing", "look": "go on and ask for a look"},
            help="What becomes of the run.",
        )

    def sentence(self, settings: Mapping[str, object], entering: str) -> str:
        that = str(settings.get("that") or "")
        given = settings.get("fields")
        fields = f" {join_words(map(str, given), 3)}" if that in ("unique", "filled") and isinstance(given, list) and given else ""
        if that == "share":
            held = " ".join(str(settings.get("where") or "…").split())
            limits = f"{settings.get('least_share', 0)} to {settings.get('most_share', 100)} %"
            return f"Check {bold(entering or '…')}: {held} for {limits}"
        if that == "condition":
            fields = f": {' '.join(str(settings.get('where') or '…').split())}"
        if that == "count":
            fields = f" {settings.get('least', 1)} or more"
            if settings.get("most", -1) not in (-1, None):
                fields = f" {settings.get('least', 1)} to {settings['most']}"
        return f"Check {bold(entering or '…')}: {_THAT.get(that, '…')}{fields}"

    def forecast(self, facts: LayerFacts, settings: Settings, context: Context) -> Forecast:
        found = named_fields.named(facts, settings.fields, "fields") if settings.that in ("unique", "filled") else []
        if settings.that in ("unique",) and not settings.fields:
            found.append(Finding.error("Say which fields are the key.", "fields"))
        if settings.that in ("condition", "share"):
            found += named_fields.wrong_condition(facts, settings.where, context)
        if settings.that in _OTHER and not settings.other:
            found.append(Finding.error("Name the other layer.", "other"))
        elif settings.that == "inside":
            found += other_layer.findings(facts, context, "other")
        if settings.that in ("valid", "overlaps", "gaps") and facts.kind == "table":
            found.append(Finding.error("a table has no shapes.", "from", facts))
        if settings.that == "count" and facts.count is not None and facts.certainty == Certainty.KNOWN and not _fits(facts.count, settings):
            there = pluralise(facts.count, "feature")
            found.append(Finding.look(f"there {'is' if facts.count == 1 else 'are'} {there}, so this will not hold.", "least", facts))
        return Forecast(() if has_errors(found) else (facts,), tuple(found))

    def work(self, layer: Layer, settings: Settings, context: Context) -> Outcome:
        answer = _ASK[settings.that](layer, settings, context)
        altered = (Altered(_EACH[settings.that], answer.rows, answer.amounts, answer.unit, answer.where),) if len(answer.rows) else ()
        remark = Remark(answer.words if not answer.holds else f"it holds: {answer.words}", layer.key, look=not answer.holds)
        failed = f"{layer.key}: {answer.words}" if not answer.holds and settings.otherwise == "stop" else ""
        return Outcome(
            (layer,),
            inputs=(InputAccount.of(layer, altered=altered),),
            lineage=np.arange(len(layer)),
            remarks=(remark, *_no_numbers(layer, settings, context)),
            failed=failed,
        )


def _no_numbers(layer: Layer, settings: Any, context: Context) -> list[Remark]:
    """What to say of what is no number where it is asked about."""
    if settings.that in ("condition", "share"):
        asked = parse_condition(settings.where, layer.table.schema, context.values, context.field_values).fields
    elif settings.that in ("unique", "filled"):
        asked = tuple(settings.fields or layer.table.column_names)
    else:
        return []
    return named_fields.no_numbers(layer, asked)


_EACH = {
    "count": "is too many",
    "unique": "has no key of its own",
    "filled": "is empty in a field asked for",
    "condition": "does not meet the condition",
    "share": "is what the share was missed by",
    "valid": "is not valid",
    "totals": "is not as in the other layer",
    "inside": "reaches out of the other layer",
    "overlaps": "lies on another area",
    "gaps": "has a gap beside it",
}
"""What offends in a feature, by what is asked."""
_NOBODY = np.empty(0, np.int64)


def _fits(count: int, settings: Any) -> bool:
    return bool(count >= settings.least and (settings.most < 0 or count <= settings.most))


def _count(layer: Layer, settings: Any, context: Context) -> _Answer:
    wanted = f"{settings.least:,} or more" if settings.most < 0 else f"{settings.least:,} to {settings.most:,}"
    return _Answer(_fits(len(layer), settings), f"{pluralise(len(layer), 'feature')}, {wanted} are wanted", _NOBODY)


def _unique(layer: Layer, settings: Any, context: Context) -> _Answer:
    groups = group_rows(layer.table, settings.fields, without_empty=True)
    name = join_words(settings.fields, 4)
    twice = groups.of >= 0
    twice[twice] = groups.sizes[groups.of[twice]] > 1
    bad = np.flatnonzero(twice | (groups.of < 0))
    if not len(bad):
        return _Answer(True, f"every feature has its own {name}", bad)
    return _Answer(False, f"{pluralise(len(bad), 'feature')} have no {name} of their own", bad)


def _filled(layer: Layer, settings: Any, context: Context) -> _Answer:
    names = settings.fields or layer.table.column_names
    bad = np.zeros(len(layer), bool)
    where = []
    for name in names:
        column = layer.table.column(name)
        empty = empties(column)
        if pa.types.is_string(column.type):
            empty = empty | np.asarray(pc.fill_null(pc.equal(pc.utf8_trim_whitespace(column), ""), False))
        if empty.any():
            where.append(f"{name} ({int(empty.sum()):,})")
        bad |= empty
    if not settings.fields and layer.geometry is not None and (~is_nonempty(layer.geometry)).any():
        where.append("shape")
        bad |= ~is_nonempty(layer.geometry)
    rows = np.flatnonzero(bad)
    return _Answer(
        not len(rows), f"{pluralise(len(rows), 'feature')} empty in {join_words(where, 4)}" if len(rows) else "nothing is empty", rows
    )


def _condition(layer: Layer, settings: Any, context: Context) -> _Answer:
    condition = parse_condition(settings.where, layer.table.schema, context.values, context.field_values)
    holds, _ = truth(condition, layer.table, context.values)
    rows = np.flatnonzero(~holds)
    text = f"{' '.join(settings.where.split())} does not hold for {pluralise(len(rows), 'feature')}"
    return _Answer(not len(rows), text if len(rows) else f"{' '.join(settings.where.split())} for all", rows)


def _share(layer: Layer, settings: Any, context: Context) -> _Answer:
    condition = parse_condition(settings.where, layer.table.schema, context.values, context.field_values)
    holds, unknown = truth(condition, layer.table, context.values)
    if not len(layer):
        return _Answer(False, "there are no features to take a share of", _NOBODY)
    found = 100.0 * float(holds.sum()) / len(layer)
    fits = settings.least_share <= found <= settings.most_share
    text = f"{' '.join(settings.where.split())} holds for {share(int(holds.sum()), len(layer))}"
    untold = int((unknown & ~holds).sum())
    if untold:
        text += f" ({untold:,} could not be told, because a field asked for is empty)"
    wanted = f"{settings.least_share:g} to {settings.most_share:g} % are wanted"
    # too many are as wrong as too few, and then it is these that offend
    rows = _NOBODY if fits else np.flatnonzero(holds if found > settings.most_share else ~holds)
    return _Answer(fits, f"{text}, {wanted}", rows)


def _valid(layer: Layer, settings: object, context: Context) -> _Answer:
    assert layer.geometry is not None
    rows = np.flatnonzero(~shapely.is_valid(layer.geometry) & ~shapely.is_missing(layer.geometry))
    if not len(rows):
        return _Answer(True, "all shapes are valid", rows)
    faults = faults_of(layer.geometry[rows])
    where = np.array([f.box for f in faults])
    return _Answer(False, f"{pluralise(len(rows), 'shape')} not valid, the first: {faults[0].text}", rows, where=where)


def _totals(layer: Layer, settings: Any, context: Context) -> _Answer:
    mine = {"number": float(len(layer)), **{n: v for n, v, _ in totals_of(layer, settings.fields)}}
    theirs: dict[str, float] = {"number": 0.0}
    for other in context.other_layers("other"):
        theirs["number"] += len(other)
        for name, value, _ in totals_of(other, settings.fields):
            theirs[name] = theirs.get(name, 0.0) + value
    wanted = [*settings.fields] or [n for n in mine if n in theirs]
    off = [n for n in wanted if abs(mine.get(n, np.nan) - theirs.get(n, np.nan)) <= 1e-9 * max(1.0, abs(mine.get(n, 0.0)))]
    bad = [n for n in wanted if n not in off]
    if not bad:
        return _Answer(True, f"{join_words(wanted, 5)} agree", _NOBODY)
    shown = ", ".join(f"{n} is {format_quantity(mine.get(n, np.nan))} and should be {format_quantity(theirs.get(n, np.nan))}" for n in bad)
    return _Answer(False, shown, _NOBODY)


def _inside(layer: Layer, settings: object, context: Context) -> _Answer:
    others = other_layer.others_of(layer, context, "other")
    found = cut(layer.bounds(), layer.shapes, outline(others.geometry), context.watch)
    out = is_nonempty(found.outside)
    rows = np.sort(np.concatenate([np.flatnonzero(found.apart), found.edge[out]]))
    name = context.other_layers("other")[0].key
    if not len(rows):
        return _Answer(True, f"all lie inside '{name}'", rows)
    where = np.full((len(rows), 4), np.nan)
    where[np.searchsorted(rows, found.edge[out])] = shapely.bounds(found.outside[out])
    return _Answer(False, f"{pluralise(len(rows), 'feature')} reach out of '{name}'", rows, where=where)


def _overlaps(layer: Layer, settings: object, context: Context) -> _Answer:
    assert layer.geometry is not None
    at = np.flatnonzero(is_nonempty(layer.geometry) & (dimension(layer.geometry) == 2) & shapely.is_valid(layer.geometry))
    shapes = layer.geometry[at]
    a, b = meeting(shapes, shapes, context.watch)
    later = a < b
    a, b = a[later], b[later]
    touching = shapely.touches(shapes[a], shapes[b])
    a, b = a[~touching], b[~touching]
    area = measures_of(layer.crs)["area"]
    common = shapely.intersection(shapes[a], shapes[b])
    size, whole = area(common), area(shapes)
    # an overlap thinner than the rounding of the coordinates is none
    least = 1e-9 * np.minimum(whole[a], whole[b])
    a, b, common, size = (x[size > least] for x in (a, b, common, size))
    unit, factor = unit_of("area", layer.crs)
    rows, place = np.unique(np.concatenate([at[a], at[b]]), return_inverse=True)
    amounts = np.bincount(place, np.concatenate([size, size]), minlength=len(rows)) * factor
    if not len(rows):
        return _Answer(True, "no areas lie on each other", rows)
    text = f"{pluralise(len(a), 'pair')} of areas lie on each other, {format_quantity(float(size.sum()) * factor, unit)} in all"
    return _Answer(False, text, rows, amounts, unit, _largest(np.tile(common, 2), np.tile(size, 2), place, len(rows)))


def _largest(shapes: np.ndarray, size: np.ndarray, of: np.ndarray, rows: int) -> np.ndarray:
    """The box (rows, 4) of the largest of the shapes that belong to each row."""
    where = np.full((rows, 4), np.nan)
    order = np.argsort(size, kind="stable")  # the largest comes last, and stays
    where[of[order]] = shapely.bounds(shapes[order])
    return where


def _gaps(layer: Layer, settings: object, context: Context) -> _Answer:
    """Holes in what all areas cover together, and the areas around them."""
    assert layer.geometry is not None
    at = np.flatnonzero(is_nonempty(layer.geometry) & (dimension(layer.geometry) == 2))
    shapes = layer.geometry[at]
    whole = outline(shapes)
    parts = shapely.get_parts(whole)
    rings, of = shapely.get_rings(parts, return_index=True) if len(parts) else (np.empty(0, object), _NOBODY)
    holes = rings[np.r_[False, of[1:] == of[:-1]]] if len(rings) else rings
    if not len(holes):
        return _Answer(True, "no gaps between areas", _NOBODY)
    inside = np.asarray(shapely.polygons(holes))
    hole, beside = shapely.STRtree(shapes).query(inside, predicate="intersects")
    unit, factor = unit_of("area", layer.crs)
    size = measures_of(layer.crs)["area"](inside)
    text = f"{pluralise(len(holes), 'gap')} between areas, {format_quantity(float(size.sum()) * factor, unit)} in all"
    rows, place = np.unique(at[beside], return_inverse=True)
    return _Answer(False, text, rows, where=_largest(inside[hole], size[hole], place, len(rows)))


_ASK = {
    "count": _count,
    "unique": _unique,
    "filled": _filled,
    "condition": _condition,
    "share": _share,
    "valid": _valid,
    "totals": _totals,
    "inside": _inside,
    "overlaps": _overlaps,
    "gaps": _gaps,
}
