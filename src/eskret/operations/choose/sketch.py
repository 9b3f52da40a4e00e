"""A layer drawn or typed by hand."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

import numpy as np
import pyarrow as pa
import shapely
from pydantic import field_validator

from eskret.core.accounts.account import InputAccount, OutputAccount, Relation, Remark, Role
from eskret.core.crs import WGS84, out_of_range
from eskret.core.geometry.parts import invalid
from eskret.core.layer import Layer
from eskret.core.measure.totals import totals_of
from eskret.core.tables.from_objects import from_objects
from eskret.core.words import bold, pluralise
from eskret.errors import InputError
from eskret.operations.base import Context, Finding, Forecast, Level, Outcome, Phase, Source
from eskret.operations.settings import KnownCrs, OperationSettings, setting
from eskret.operations.support.to_workflow_crs import bring

_KIND_WORDS = {"point": "points", "line": "lines", "area": "areas", "mixed": "shapes", "table": "shapes"}


class Sketch(Source):
    """Points, lines or areas drawn on the map or typed, kept in the workflow itself.

    They are written as GeoJSON (RFC 7946): a geometry, a feature or a collection of features, whose properties become
    fields. Coordinates are longitude and latitude unless another coordinate system is named; what is drawn on the map
    names that of the map. Use it for an area to clip or choose by that is in no file.
    """

    id = "sketch"
    title = "Sketch"
    limits = "As exact as the map was when it was drawn."
    phase = Phase.CHOOSE
    menu_order = 40
    relation = Relation.NEW
    also_known_as = (
        "draw",
        "area by hand",
        "polygon by hand",
        "line by hand",
        "digitise",
        "study area by hand",
        "geojson text",
        "by hand",
        "draw on the map",
        "type a shape",
        "create features",
        "new polygon",
    )

    class Settings(OperationSettings):
        shapes: str = setting(
            "Shapes",
            kind="shapes",
            min_length=1,
            example='{"type":"Polygon","coordinates":[[[-27.2,58.1],[-27.1,58.1],[-27.1,58.2],[-27.2,58.1]]]}',
            help="GeoJSON text. Draw on the map to fill it in.",
        )
        crs: KnownCrs = setting(
            "CRS of the coordinates",
            kind="crs",
            default=WGS84,
            example="EPSG:32626",
            help="Longitude and latitude by default, as GeoJSON has it.",
        )

        @field_validator("shapes")
        @classmethod
        def _read(cls, value: str) -> str:
            try:
                features_of(value)
            except InputError as error:
                raise ValueError(error.sentence()) from error
            return value

    def sentence(self, settings: Mapping[str, object], entering: str) -> str:
        try:
            geometry, _ = features_of(str(settings.get("shapes") or ""))
        except InputError:
            return f"Sketch {bold('shapes')}"
        kind = Layer("", pa.table({"n": range(len(geometry))}), geometry).kind
        word = _KIND_WORDS[kind]
        return f"Sketch {bold(pluralise(len(geometry), word.removesuffix('s'), word))}"

    def forecast(self, settings: Settings, context: Context) -> Forecast:
        layer, remarks = _layer(settings, context)
        findings = [Finding(Level.LOOK if r.look else Level.NOTE, r.text + ".", layer=layer.key) for r in remarks]
        return Forecast((layer.facts(),), tuple(findings))

    def parts(self, settings: Settings, context: Context) -> Sequence[None]:
        return [None]

    def read(self, part: None, settings: Settings, context: Context) -> Sequence[Outcome]:
        layer, remarks = _layer(settings, context)
        account = InputAccount(Role.FILES, layer.key, len(layer))
        output = OutputAccount(layer.key, len(layer), totals_of(layer, context.totals))
        return [Outcome((layer,), (account,), (output,), None, tuple(remarks))]


def _layer(settings: Any, context: Context) -> tuple[Layer, list[Remark]]:
    geometry, table = features_of(settings.shapes)
    key = context.step or "sketch"
    remarks: list[Remark] = []
    crs = settings.crs
    layer = Layer(key, table, geometry, crs)
    if out_of_range(layer.extent(), crs):
        raise InputError(f"the coordinates cannot be degrees, as {crs} says", place=key, way_out="Name the CRS that they are in")
    wrong = shapely.is_valid_reason(geometry)[invalid(geometry)]
    remarks += [Remark(f"a shape is not valid: {reason}", key, look=True) for reason in dict.fromkeys(wrong)]
    layer, lost, said = bring(layer, context)
    if lost:
        raise InputError(f"a shape {lost[0][0]}", place=key, way_out="Check its coordinates")
    return layer, remarks + [replace(r, layer=key) for r in said]


def features_of(text: str) -> tuple[np.ndarray, pa.Table]:
    """Geometry and fields of a GeoJSON text.

    Raises
    ------
    InputError : it is no GeoJSON, or draws nothing.
    """
    way_out = "Draw on the map, or paste a geometry, a feature or a collection of features"
    try:
        given = json.loads(text)
    except json.JSONDecodeError as error:
        raise InputError(f"this is no GeoJSON: {error.msg} at sign {error.pos + 1}", way_out=way_out) from error
    kind = given.get("type") if isinstance(given, dict) else None
    if kind == "FeatureCollection":
        features = given.get("features")
    elif kind == "Feature":
        features = [given]
    else:
        features = [{"geometry": given, "properties": {}}]
    try:
        if not isinstance(features, list) or not all(isinstance(f, dict) for f in features):
            raise TypeError
        if any(f["geometry"] is None for f in features):
            raise InputError("this GeoJSON draws nothing", way_out=way_out)
        geometry = shapely.from_geojson(np.array([json.dumps(f["geometry"]) for f in features], object))
        properties = [f.get("properties") or {} for f in features]
        table = _table(properties)
    except (shapely.errors.ShapelyError, KeyError, TypeError, ValueError, AttributeError) as error:
        raise InputError("this is no GeoJSON that draws something", way_out=way_out) from error
    if not len(geometry) or shapely.is_missing(geometry).any() or shapely.is_empty(geometry).any():
        raise InputError("this GeoJSON draws nothing", way_out=way_out)
    if not np.isfinite(shapely.get_coordinates(geometry)).all():
        raise InputError("a coordinate is not finite", way_out=way_out)
    return geometry, table


def _table(properties: Sequence[Mapping[str, object]]) -> pa.Table:
    names = list(dict.fromkeys(n for p in properties for n in p))
    if not names:
        return pa.table({"number": pa.array(range(1, len(properties) + 1), pa.int64())})
    return from_objects(properties)
