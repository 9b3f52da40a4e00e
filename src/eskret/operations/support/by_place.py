"""Choosing by place: the settings of it, what can be wrong with them, and which features of a layer hold it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
import shapely

from eskret.core.accounts.account import InputAccount, Remark, SetAside
from eskret.core.crs import crs_facts, is_geographic
from eskret.core.geometry.globe.nearest import nearest
from eskret.core.geometry.parts import invalid, made_valid
from eskret.core.geometry.predicates import Predicate, matches_predicate, near, points_match
from eskret.core.layer import Layer, LayerFacts
from eskret.core.measure.units import parse_length
from eskret.core.words import bold, pluralise
from eskret.operations.base import Context, Finding
from eskret.operations.settings import setting
from eskret.operations.support import ground, other_layer

NEAR = "near"
RelationName = Literal["intersects", "within", "contains", "touches", "crosses", "overlaps", "equals", "disjoint", "near"]
RELATIONS = {
    "intersects": "intersect it",
    "within": "lie within it",
    "contains": "contain it",
    "touches": "touch it, edges only",
    "crosses": "cross it",
    "overlaps": "overlap it",
    "equals": "equal it",
    "disjoint": "lie apart from it",
    NEAR: "lie within a distance of it",
}
_VERBS = {
    "intersects": "that intersect",
    "within": "within",
    "contains": "that contain",
    "touches": "that touch",
    "crosses": "that cross",
    "overlaps": "that overlap",
    "equals": "equal to",
    "disjoint": "apart from",
}
NO_PLACE = other_layer.NO_PLACE


def other_setting(**more: Any) -> Any:
    """The layer to compare with."""
    return setting(
        "Compare with",
        kind="layer",
        example="districts:north",
        **more,
        help="The layer of another step whose features say where: step, or step:layer.",
    )


def relation_setting() -> Any:
    """How features must stand to the other layer."""
    return setting(
        "Features that",
        kind="choice",
        default="intersects",
        choices=RELATIONS,
        help="The relations are those of OGC Simple Features; 'within a distance' measures in the unit you name.",
    )


def distance_setting() -> Any:
    """How far at most."""
    return setting(
        "Distance",
        kind="measure",
        default="",
        example="200 m",
        shown_when=("relation", (NEAR,)),
        help="With its unit: m, km, ft, mi, nmi. Exactly that far still counts.",
    )


def along_setting() -> Any:
    """Where the distance is taken."""
    return ground.along_setting(shown_when=("relation", (NEAR,)))


def against_setting() -> Any:
    """Each other feature, or all of them as one."""
    return setting(
        "Compared with",
        rare=True,
        kind="choice",
        default="each",
        choices={"each": "each of its features", "whole": "all of it as one shape"},
        shown_when=("relation", ("within", "contains", "touches", "crosses", "overlaps", "equals")),
        help="A feature across the border of two neighbours is within neither of them, but within the whole.",
    )


def edge_setting() -> Any:
    """Whether the edge belongs to the area."""
    return setting(
        "The edge belongs to it",
        rare=True,
        kind="flag",
        default=True,
        shown_when=("relation", ("within", "contains")),
        help="A point right on the edge counts as within. Without this it does not, as the standard's 'within' has it.",
    )


def place_words(settings: Mapping[str, object]) -> str:
    """``within district``: the relation as part of a sentence."""
    other = bold(str(settings.get("to") or "…").split(":")[-1])
    relation = str(settings.get("relation") or "intersects")
    if relation == NEAR:
        return f"within {settings.get('distance') or '…'} of {other}"
    return f"{_VERBS.get(relation, relation)} {other}"


def findings(facts: LayerFacts, settings: Any, context: Context) -> list[Finding]:
    """What a rehearsal has to say."""
    out = other_layer.findings(facts, context, "to")
    if settings.relation == NEAR and not settings.distance:
        out.append(Finding.error("'Distance' is not filled in.", "distance"))
    if settings.relation == NEAR and settings.distance and facts.crs is None and facts.kind != "table":
        out.append(
            Finding.error(
                f"without a coordinate system a distance in {parse_length(settings.distance).unit} means nothing.", "distance", facts
            )
        )
    elif settings.relation == NEAR:
        out += ground.forecast_along(facts, settings.along)
    return out


@dataclass(frozen=True)
class PlaceMatches:
    """Which rows hold the relation, which have no geometry to tell by, and what there is to say."""

    holds: np.ndarray
    missing: np.ndarray
    remarks: tuple[Remark, ...]
    accounts: tuple[InputAccount, ...]


def placed(layer: Layer, settings: Any, context: Context) -> PlaceMatches:
    """Compare a layer with the one that the setting ``to`` names.

    Raises
    ------
    CrsError : one of them has no CRS, or there is no way from one to the other.
    """
    against: _Against = context.once("against", lambda: _against(layer, settings, context))
    others, accounts, remarks = against.shapes, against.accounts, list(against.remarks)
    if settings.relation == NEAR:
        found = _near(layer, others, settings, context)
        remarks += [*ground.remarks_of(layer, settings.along, context), *ground.told_of_nowhere(layer)]
    else:
        relation = Predicate(settings.relation)
        globe = is_geographic(layer.crs)
        xy = layer.undecoded.xy if layer.undecoded is not None else None
        if xy is not None:
            by_points = points_match(xy, others, relation, edge=settings.edge, globe=globe, watch=context.watch)
            if by_points is not None:
                return PlaceMatches(by_points, np.isnan(xy).any(axis=1), tuple(remarks), accounts)
        assert layer.geometry is not None
        found = matches_predicate(layer.geometry, others, relation, edge=settings.edge, globe=globe, watch=context.watch)
    missing = np.asarray(shapely.is_missing(layer.geometry) | shapely.is_empty(layer.geometry))
    return PlaceMatches(found, missing, tuple(remarks), accounts)


@dataclass(frozen=True)
class _Against:
    """What a layer is compared with."""

    shapes: np.ndarray
    remarks: tuple[Remark, ...]
    accounts: tuple[InputAccount, ...]


def _against(layer: Layer, settings: Any, context: Context) -> _Against:
    remarks: list[Remark] = []
    accounts: list[InputAccount] = []
    shapes: list[np.ndarray] = []
    for other in context.other_layers("to"):
        brought, remark = other_layer.laid_over(other, layer, about=context.extent_of(layer))
        remarks += (r.once() for r in remark)
        empty = np.flatnonzero(shapely.is_missing(brought) | shapely.is_empty(brought))
        accounts.append(InputAccount("to", other.key, len(other), SetAside.from_reasons([(NO_PLACE, empty)])))
        bad = np.flatnonzero(invalid(brought))
        if len(bad):
            remarks.append(Remark(f"'{other.key}' has {pluralise(len(bad), 'invalid shape')}; its edge is not sure", layer.key, look=True))
        shapes.append(brought)
    others = np.concatenate(shapes) if shapes else np.empty(0, object)
    apart = (NEAR, Predicate.INTERSECTS.value, Predicate.DISJOINT.value)
    if settings.against == "whole" and settings.relation not in apart:
        others = np.array([shapely.union_all(made_valid(others))], object)
    return _Against(others, tuple(remarks), tuple(accounts))


def _near(layer: Layer, others: np.ndarray, settings: Any, context: Context) -> np.ndarray:
    distance = parse_length(settings.distance).si
    assert layer.geometry is not None
    crs = ground.crs_of(layer)
    if ground.on_ellipsoid(crs, settings.along):
        below = ground.ground_of(crs)
        partner, _ = nearest(below.there(layer.geometry), below.there(others), below.on, distance, context.watch)
        return partner >= 0
    return near(layer.geometry, others, distance / (crs_facts(crs).unit_metres or 1.0), context.watch)
