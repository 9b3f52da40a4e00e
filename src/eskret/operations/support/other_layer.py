"""The layer that a setting names: brought to the CRS of the one worked on, counted, and told of."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np
import shapely

from eskret.core.accounts.account import InputAccount, Remark, SetAside, verbatim
from eskret.core.crs import crs_facts, is_geographic, same_crs, transformation
from eskret.core.geometry.globe.meeting import laid_about
from eskret.core.geometry.globe.moving import reproject_whole
from eskret.core.geometry.parallel import is_nonempty
from eskret.core.geometry.parts import invalid, made_valid
from eskret.core.layer import Certainty, GeometryKind, Layer, LayerFacts
from eskret.core.words import format_quantity
from eskret.errors import CrsError
from eskret.operations.base import Context, Finding, Level
from eskret.operations.support.to_workflow_crs import BENT, BENT_MUCH

NO_PLACE = "has no geometry"
Extent = tuple[float, float, float, float]


def findings(facts: LayerFacts, context: Context, setting: str, wanted: GeometryKind | None = None) -> list[Finding]:
    """What a rehearsal has to say of laying the layers of ``setting`` over another.

    ``wanted`` is the kind that they must be of, where only one will do.
    """
    out: list[Finding] = []
    if facts.kind == "table":
        out.append(Finding.error("a table has no place.", "from", facts))
    for other in context.other_facts(setting):
        if other.kind == "table":
            out.append(Finding.error(f"'{other.key}' is a table, which has no place.", setting))
        elif wanted is not None and other.kind not in (wanted, GeometryKind.MIXED):
            words = {"area": "areas", "line": "lines", "point": "points"}
            text = f"'{other.key}' holds {words.get(other.kind, other.kind)}; {words[wanted]} are wanted here."
            out.append(Finding.error(text, setting))
        elif (facts.crs is None) != (other.crs is None):
            unknown = facts.key if facts.crs is None else other.key
            text = f"'{unknown}' has no coordinate system, so it cannot be laid over the other. Say it where it is loaded."
            out.append(Finding.error(text, setting, layer=facts.key))
        elif facts.crs and other.crs and not same_crs(facts.crs, other.crs):
            way = transformation(other.crs, facts.crs, other.extent)
            text = f"'{other.key}' is brought to {crs_facts(facts.crs).name} to compare: {way.sentence()}."
            out.append(Finding(Level.LOOK if way.coarse else Level.NOTE, text, layer=facts.key))
    return out


def only_one(context: Context, setting: str, named: str) -> tuple[LayerFacts | None, list[Finding]]:
    """The one layer that a setting names, where it is known yet; an error where it names several."""
    facts = context.other_facts(setting)
    if len(facts) > 1:
        return facts[0], [Finding.error(f"'{named}' names {len(facts)} layers; one is wanted. Merge them first.", setting)]
    return next(iter(facts), None), []


@dataclass(frozen=True)
class Others:
    """The layers that a setting names, as one: their rows that have a place, in the CRS of the layer worked on.

    ``geometry`` holds only real shapes; ``layer`` is the one (or first) layer and ``rows`` their positions in it.
    """

    geometry: np.ndarray
    layer: Layer | None
    rows: np.ndarray
    remarks: tuple[Remark, ...]
    accounts: tuple[InputAccount, ...]

    @cached_property
    def index(self) -> shapely.STRtree:
        """Of their shapes, built: several threads may ask it."""
        index = shapely.STRtree(self.geometry)
        index.query(shapely.Point())
        return index


def others_of(layer: Layer, context: Context, setting: str, valid: bool = True) -> Others:
    """The layers that a setting names, ready to be laid over ``layer``; made once for all chunks of it.

    Parameters
    ----------
    valid : whether invalid shapes are mended, which is told.

    Raises
    ------
    CrsError : one of them has no CRS, or there is no way from one to the other.
    """
    found: Others = context.once(("others", setting, valid), lambda: _together(layer, context, setting, valid))
    return found


def _together(layer: Layer, context: Context, setting: str, valid: bool) -> Others:
    remarks: list[Remark] = []
    accounts: list[InputAccount] = []
    shapes: list[np.ndarray] = []
    places: list[np.ndarray] = []
    for other in context.other_layers(setting):
        one = laid(other, layer, setting, valid, about=context.extent_of(layer))
        remarks += (r.once() for r in one.remarks)
        accounts += one.accounts
        shapes.append(one.geometry)
        places.append(one.rows)
    first = next(iter(context.other_layers(setting)), None)
    return Others(
        np.concatenate(shapes) if shapes else np.empty(0, object),
        first,
        places[0] if places else np.empty(0, np.int64),
        tuple(remarks),
        tuple(accounts),
    )


def laid(
    other: Layer, layer: Layer, setting: str, valid: bool = True, whole: LayerFacts | None = None, about: Extent | None = None
) -> Others:
    """A layer that a setting names, or a chunk of it, ready to be laid over ``layer``.

    Parameters
    ----------
    valid : whether invalid shapes are mended, which is told.
    whole : facts of what ``other`` is a chunk of.
    about : where all of it lies that ``layer`` is a chunk of.

    Raises
    ------
    CrsError : one of them has no CRS, or there is no way from one to the other.
    """
    brought, remark = laid_over(other, layer, whole, about)
    remarks = list(remark)
    there = is_nonempty(brought)
    bad = np.flatnonzero(there & invalid(brought)) if valid else np.empty(0, np.int64)
    if len(bad):
        brought = np.array(brought, object)
        brought[bad] = made_valid(brought[bad])
        there = is_nonempty(brought)
        text = f"'{verbatim(other.key)}' has {{n|invalid shape}}, mended to work with"
        remarks.append(Remark.counted(text, layer.key, look=True, n=len(bad)))
    aside = SetAside.from_reasons([(NO_PLACE, np.flatnonzero(~there))])
    account = InputAccount(setting, other.key, len(other), aside)
    return Others(brought[there], other, np.flatnonzero(there), tuple(remarks), (account,))


def to_crs_of(other: Layer, layer: Layer, whole: LayerFacts | None = None) -> tuple[np.ndarray, tuple[Remark, ...]]:
    """The geometry of another layer (or a chunk of a ``whole`` one) in the CRS of this one, and what there is to say of the way.

    Raises
    ------
    CrsError : one of them has no CRS, or there is no way from one to the other.
    """
    geometry = other.geometry if other.geometry is not None else np.empty(0, object)
    if same_crs(other.crs, layer.crs):
        return geometry, ()
    if other.crs is None or layer.crs is None:
        raise CrsError(
            "it has no coordinate system, so it cannot be laid over the other",
            place=other.key if other.crs is None else layer.key,
            way_out="Say it where it is loaded",
        )
    extent = other.extent() if whole is None else whole.extent
    way = transformation(other.crs, layer.crs, extent)
    text = f"'{other.key}' was brought to {crs_facts(layer.crs).name} to compare: {way.sentence()}"
    found = reproject_whole(geometry, other.crs, layer.crs, extent=extent)
    said = [Remark(text, layer.key, look=way.coarse)]
    if len(found.lost):
        lost = f"'{verbatim(other.key)}': {{n|feature has|features have}} no place in {verbatim(crs_facts(layer.crs).name)}"
        said.append(Remark.counted(lost, layer.key, look=True, n=len(found.lost)))
    if found.bend > BENT:
        text = f"'{other.key}': edges lie up to {format_quantity(found.bend, 'm')} off their course there, since only their ends are moved"
        said.append(Remark(text, layer.key, look=found.bend > BENT_MUCH))
    brought = found.geometry.copy()
    brought[found.lost] = None
    return brought, tuple(said)


def laid_over(
    other: Layer, layer: Layer, whole: LayerFacts | None = None, about: Extent | None = None
) -> tuple[np.ndarray, tuple[Remark, ...]]:
    """As ``to_crs_of``, to be compared with this layer's shapes: of degrees, in every turn about the globe in which they can meet.

    Parameters
    ----------
    about : where they lie, where this layer is a chunk of them.
    """
    geometry, said = to_crs_of(other, layer, whole)
    extent = about or layer.extent()
    if extent is None or not is_geographic(layer.crs):
        return geometry, said
    return laid_about(geometry, extent[0], extent[2]), said


def upper_bound(facts: LayerFacts, **changes: Any) -> LayerFacts:
    """Facts of what may be left of a layer."""
    return replace(facts, certainty=Certainty.AT_MOST, extent=None, **changes)
