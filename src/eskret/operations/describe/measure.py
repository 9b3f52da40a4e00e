"""Measure features."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, Literal

import numpy as np
import pyarrow as pa
import shapely
from pydantic import field_validator, model_validator

from eskret.core.accounts.account import Remark
from eskret.core.crs import crs_facts, is_geographic
from eskret.core.geometry.globe.meeting import centres
from eskret.core.geometry.measuring import bearings, geodesic, planar, scale_error, straight
from eskret.core.geometry.parallel import is_nonempty
from eskret.core.layer import Field, GeometryKind, Layer, LayerFacts
from eskret.core.measure.units import AREAS, LENGTHS
from eskret.core.words import bold
from eskret.errors import CrsError
from eskret.operations.base import Context, Finding, Phase, Takes
from eskret.operations.sentences import join_words
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support import reshaping
from eskret.operations.support.row_wise import Columns, FieldsPerRow, MadeFields

_WHAT = {
    "length": "length of lines",
    "area": "area",
    "perimeter": "length around areas",
    "x": "x of the middle",
    "y": "y of the middle",
    "bearing": "bearing from begin to end",
    "corners": "number of corners",
    "parts": "number of parts",
}
_FIT = {
    "length": (GeometryKind.LINE,),
    "area": (GeometryKind.POLYGON,),
    "perimeter": (GeometryKind.POLYGON,),
    "bearing": (GeometryKind.LINE,),
}


class Measure(FieldsPerRow):
    """Measure length and area in a unit of your choice, which the name of the field says.

    In the plane of the layer's coordinate system, or along the ellipsoid, which is right anywhere on the globe. Where
    coordinates are degrees only the ellipsoid will do: a degree is never taken for a length. An edge is straight in
    the layer's coordinates, as every other step takes it, unless you ask for the shortest ways. In the plane, the
    step says how far the scale of the projection is off at the layer's place. Fields are called length_km, area_ha
    and so on; one that is there is measured anew, and you can name a field differently. A mile is 1,609.344 m, a foot
    0.3048 m; the US survey foot only by its name.
    """

    id = "measure"
    title = "Measure"
    phase = Phase.DESCRIBE
    menu_order = 15
    at_end = True
    also_known_as = (
        "length",
        "area",
        "perimeter",
        "hectares",
        "acres",
        "acreage",
        "kilometres",
        "miles",
        "size of areas",
        "length of lines",
        "bearing",
        "xy",
        "add area column",
        "add length to table",
        "geodesic",
        "square metres",
    )

    class Settings(OperationSettings):
        what: list[Literal["length", "area", "perimeter", "x", "y", "bearing", "corners", "parts"]] = setting(
            "Measure", kind="choices", choices=_WHAT, min_length=1, example="area", help="What is measured; a field for each."
        )
        length_unit: Literal["m", "km", "ft", "yd", "mi", "nmi", "US survey ft"] = setting(
            "Unit of lengths",
            kind="choice",
            default="m",
            help="The unit of lengths; it is part of the field's name.",
            choices={u: u for u in LENGTHS if u not in ("mm", "cm")},
        )
        area_unit: Literal["m2", "ha", "km2", "ft2", "acre", "mi2"] = setting(
            "Unit of areas",
            kind="choice",
            default="ha",
            choices={u: u for u in AREAS},
            help="The unit of areas; it is part of the field's name.",
        )
        called: dict[str, str] = setting(
            "Names of your own",
            kind="pairs",
            default={},
            example="area = size_ha",
            help="Written as measure = name of its field; the others are named after measure and unit.",
        )
        edges: Literal["straight", "geodesic"] = setting(
            "Edges between corners",
            rare=True,
            kind="choice",
            default="straight",
            shown_when=("how", ("fitting", "geodesic")),
            choices={"straight": "straight in the layer's coordinates", "geodesic": "the shortest way on the ellipsoid"},
            help="Where lengths and areas are taken on the ellipsoid. Straight is what every other step takes an edge for.",
        )
        how: Literal["fitting", "planar", "geodesic"] = setting(
            "Along",
            rare=True,
            kind="choice",
            default="fitting",
            choices={"fitting": "the plane, or the ellipsoid for degrees", "planar": "the plane", "geodesic": "the ellipsoid"},
            help="Where lengths and areas are taken.",
        )

        @field_validator("called")
        @classmethod
        def _measures(cls, value: dict[str, str]) -> dict[str, str]:
            for what in value:
                if what not in _WHAT:
                    raise ValueError(f"'{what}' is no measure. There are {', '.join(_WHAT)}")
            return value

        @model_validator(mode="after")
        def _apart(self) -> Measure.Settings:
            idle = [w for w in self.called if w not in self.what]
            if idle:
                raise ValueError(f"a name is given for '{idle[0]}', which is not measured")
            names = [n.casefold() for n, _ in _fields(self.what, self.model_dump())]
            if len(set(names)) < len(names):
                raise ValueError("two measures would go into one field")
            return self

    def sentence(self, settings: Mapping[str, object], entering: str) -> str:
        what = settings.get("what")
        named = [n for n, _ in _fields(what, settings)] if isinstance(what, list) else []
        return f"Measure {join_words(named, 4) or '…'} of {bold(entering or '…')}"

    def fields(self, facts: LayerFacts, settings: Settings, context: Context) -> MadeFields:
        found = reshaping.require_geometry(facts)
        crs = crs_facts(facts.crs) if facts.crs else None
        sized = {"length", "area", "perimeter"} & set(settings.what)
        if not found and sized and (crs is None or not (crs.geographic or crs.unit_metres)):
            found.append(
                Finding.error("without a coordinate system nothing can be measured. Say it where the layer is loaded.", about=facts)
            )
        elif not found and crs is not None and crs.geographic and settings.how == "planar" and sized:
            found.append(
                Finding.error("its coordinates are degrees, and a degree is no length. Measure along the ellipsoid.", "how", facts)
            )
        elif not found and crs is not None and crs.geographic and sized:
            found.append(Finding.note("its coordinates are degrees, so it is measured along the ellipsoid.", "how", facts))
        for what in settings.what:
            if what in _FIT and facts.kind not in (*_FIT[what], GeometryKind.MIXED, GeometryKind.TABLE):
                found.append(Finding.look(f"{facts.kind}s have no {what}; the field stays empty.", "what", facts))
        new = _fields_of(settings, facts.names())
        for name in sorted({n for n, _ in new} & set(facts.names())):
            found.append(Finding.note(f"the field '{name}' is there already and is measured anew.", "what", facts))
        return [Field(n, t) for n, t in new], found

    def takes(self, facts: LayerFacts, settings: Settings) -> Takes:
        return Takes.ROWS

    def columns(self, layer: Layer, settings: Settings, context: Context) -> Columns:
        assert layer.geometry is not None
        crs = crs_facts(layer.crs) if layer.crs else None
        sized = {"length", "area", "perimeter"} & set(settings.what)
        if sized and (crs is None or not (crs.geographic or crs.unit_metres)):
            raise CrsError(
                "without a coordinate system nothing can be measured", place=layer.key, way_out="Say it where the layer is loaded"
            )
        on_ellipsoid = settings.how == "geodesic" or (settings.how == "fitting" and crs is not None and crs.geographic)
        if sized and crs is not None and crs.geographic and not on_ellipsoid:
            raise CrsError("its coordinates are degrees, and a degree is no length", place=layer.key, way_out="Measure along the ellipsoid")
        made, sizes = {}, None
        if sized and layer.crs is not None:
            if not on_ellipsoid:
                sizes = planar(layer.geometry, layer.crs)
            elif settings.edges == "geodesic":
                sizes = geodesic(layer.geometry, layer.crs, context.watch)
            else:
                sizes = straight(layer.geometry, layer.crs)
        for (name, kind), what in zip(_fields_of(settings, layer.table.column_names), settings.what, strict=True):
            unit = AREAS[settings.area_unit] if what == "area" else LENGTHS[settings.length_unit]
            values = sizes[what] / unit if sizes is not None and what in sizes else _figure(layer, what)
            made[name] = pa.array(
                np.nan_to_num(values).astype(np.int64) if pa.types.is_integer(kind) else values, kind, mask=np.isnan(values)
            )
        remarks = []
        if sized:
            edges = {"straight": "straight in its coordinates", "geodesic": "the shortest ways"}[settings.edges]
            along = f"ellipsoid, edges {edges}" if on_ellipsoid else "plane"
            remarks.append(Remark(f"measured along the {along}", layer.key))
            off = 0.0 if on_ellipsoid or layer.crs is None else scale_error(context.extent_of(layer), layer.crs)
            if off > 0.0005:
                text = f"the scale of {crs.name if crs else ''} is off by up to {100 * off:{',.0f' if off >= 0.1 else '.2g'}} % here"
                remarks.append(Remark(text, layer.key, look=off > 0.005))
        empty = int((~is_nonempty(layer.geometry)).sum())
        if empty:
            remarks.append(Remark.counted("{n} without geometry stay empty", layer.key, n=empty))
        return Columns(made, remarks)


def _fields(what: Sequence[str], settings: Mapping[str, Any]) -> list[tuple[str, pa.DataType]]:
    """Names and types of the new fields: measures with their unit."""
    length = str(settings.get("length_unit") or "m").replace(" ", "_")
    area = settings.get("area_unit") or "ha"
    names = {"length": f"length_{length}", "perimeter": f"perimeter_{length}", "area": f"area_{area}", "bearing": "bearing_deg"}
    called = settings.get("called") or {}
    return [(str(called.get(w) or names.get(w, w)), pa.int64() if w in ("corners", "parts") else pa.float64()) for w in what]


def _fields_of(settings: Any, names: Sequence[str]) -> list[tuple[str, pa.DataType]]:
    """As ``_fields``; one that is there but for capitals is meant."""
    there = {n.casefold(): n for n in names}
    return [(there.get(n.casefold(), n), t) for n, t in _fields(settings.what, settings.model_dump())]


def _figure(layer: Layer, what: str) -> np.ndarray:
    assert layer.geometry is not None
    there = is_nonempty(layer.geometry)
    if what == "bearing":
        return bearings(layer.geometry, layer.crs)
    if what in ("x", "y"):
        middle = np.full(len(layer), np.nan)
        globe = is_geographic(layer.crs)
        at = centres(layer.geometry[there]) if globe else shapely.centroid(layer.geometry[there])
        middle[there] = shapely.get_x(at) if what == "x" else shapely.get_y(at)
        return middle
    count = shapely.get_num_coordinates if what == "corners" else shapely.get_num_geometries
    return np.where(there, count(layer.geometry), np.nan).astype(np.float64)
