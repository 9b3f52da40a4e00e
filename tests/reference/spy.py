"""Loaded into the frame library's own tests: whatever they clip, overlay, join by place or dissolve, Eskret's operations do too, and
both results are compared. A line of JSON a call goes to the file that ``ESKRET_SPY`` names."""

from __future__ import annotations

import inspect
import json
import os
from collections import Counter
from collections.abc import Callable
from pathlib import Path
from typing import Any

import geopandas
import numpy as np
import pandas as pd
import shapely

from eskret.core.layer import Layer
from eskret.core.layer.frames import from_frame, to_frame
from eskret.operations import operation_by_id
from eskret.operations.base import Context
from eskret.operations.settings import layer_settings, validate
from eskret.workflow.run.step import prove

KEEP = {"intersection": "both", "union": "either", "identity": "first", "symmetric_difference": "one"}
FIGURES = ("first", "sum", "mean", "min", "max", "count", "last")
PREDICATES = ("intersects", "within", "contains", "touches", "crosses", "overlaps")
ROW = "row number"


class NotAsked(Exception):
    """What the call wants is nothing that the operation offers."""


def do(use: str, layer: Layer, **given: Any) -> geopandas.GeoDataFrame:
    """What an operation makes, its accounts proved."""
    operation = operation_by_id(use)
    named = [n for n in layer_settings(operation.Settings) if isinstance(given.get(n), Layer)]
    model = validate(operation.Settings, {**given, **dict.fromkeys(named, "x")})
    outcome = operation.run(layer, model, Context(step="s", others={n: [given[n]] for n in named}))  # type: ignore[attr-defined]
    prove(outcome, operation.relation)
    return to_frame(outcome.layers[0])


def as_layer(frame: Any, key: str) -> Layer:
    """A frame as a layer, its rows numbered; only what can be compared of its fields comes along."""
    if isinstance(frame, geopandas.GeoSeries):
        frame = geopandas.GeoDataFrame({"geometry": frame}, crs=frame.crs)
    out = geopandas.GeoDataFrame({f"{ROW} {key}": np.arange(len(frame))}, geometry=frame.geometry.to_numpy(), crs=frame.crs)
    return from_frame(out, key)


def alike(mine: Any, theirs: Any, by: list[str]) -> str:
    """Why two frames are not alike: rows by their numbers, shapes by what they cover; empty where they are."""

    def table(frame: Any) -> dict[tuple, list]:
        keys = [tuple(None if pd.isna(v) else int(v) for v in row) for row in frame[by].to_numpy()]
        out: dict[tuple, list] = {}
        for key, shape in zip(keys, frame.geometry.to_numpy(), strict=True):
            if shape is not None and not shape.is_empty:
                out.setdefault(key, []).append(shape)
        return out

    a, b = table(mine), table(theirs)
    if Counter({k: len(v) for k, v in a.items()}).keys() != Counter({k: len(v) for k, v in b.items()}).keys():
        return f"other rows: {sorted(map(str, a.keys() ^ b.keys()))[:4]}"
    for key in a:
        one, other = shapely.union_all(shapely.make_valid(a[key])), shapely.union_all(shapely.make_valid(b[key]))
        rest = shapely.symmetric_difference(one, other)
        if rest.area > 1e-9 * max(1.0, one.area) or (one.area == 0 and rest.length > 1e-9 * max(1.0, one.length)):
            return f"another shape in {key}"
    return ""


def own_kind(frame: Any, like: Any, by: str) -> Any:
    """A frame with only those parts of its shapes that are of the kind of the row they come of, as Eskret keeps them."""
    kinds = shapely.get_dimensions(like.geometry.to_numpy())
    shapes = []
    for n, shape in zip(frame[by].to_numpy(), frame.geometry.to_numpy(), strict=True):
        wanted = kinds[int(n)] if not pd.isna(n) else 2
        parts = [p for p in shapely.get_parts(shape) if shapely.get_dimensions(p) == wanted]
        shapes.append(shapely.union_all(parts) if parts else None)
    out = frame.copy()
    out["geometry"] = geopandas.GeoSeries(shapes, index=frame.index, crs=frame.crs)
    return out[out.geometry.notna()]


def numbered(frame: Any, key: str) -> Any:
    out = geopandas.GeoDataFrame({f"{ROW} {key}": np.arange(len(frame))}, geometry=frame.geometry.to_numpy(), crs=frame.crs)
    return out


def _clip(real: Callable, given: dict[str, Any]) -> str:
    frame, mask = given["gdf"], given["mask"]
    if not isinstance(mask, geopandas.GeoDataFrame | geopandas.GeoSeries):
        shape = shapely.box(*mask) if not isinstance(mask, shapely.Geometry) else mask
        mask = geopandas.GeoDataFrame(geometry=[shape], crs=frame.crs)
    if not (shapely.get_dimensions(mask.geometry.to_numpy()) == 2).all():
        raise NotAsked("the mask is no area")
    theirs = own_kind(real(numbered(frame, "a"), mask), numbered(frame, "a"), f"{ROW} a")
    return alike(do("clip", as_layer(frame, "a"), to=as_layer(mask, "b")), theirs, [f"{ROW} a"])


def _overlay(real: Callable, given: dict[str, Any]) -> str:
    a, b, how = given["df1"], given["df2"], given["how"]
    if not (shapely.get_dimensions(b.geometry.to_numpy()) == 2).all():
        raise NotAsked("the other layer is no area")
    kinds = shapely.get_dimensions(a.geometry.to_numpy())
    if how in ("union", "symmetric_difference") and not (kinds == 2).all():
        raise NotAsked("what is left of areas cannot join lines")
    theirs = real(numbered(a, "a"), numbered(b, "b"), how=how, keep_geom_type=False)
    if how == "difference":
        mine, by = do("erase", as_layer(a, "a"), by=as_layer(b, "b")), [f"{ROW} a"]
    else:
        mine, by = do("overlay", as_layer(a, "a"), other=as_layer(b, "b"), keep=KEEP[how]), [f"{ROW} a", f"{ROW} b"]
    return alike(mine, own_kind(theirs, a, f"{ROW} a"), by)


def _sjoin(real: Callable, given: dict[str, Any]) -> str:
    a, b, how, predicate = given["left_df"], given["right_df"], given["how"], given["predicate"]
    if predicate not in PREDICATES or how == "right" or given.get("on_attribute") or given.get("distance") is not None:
        raise NotAsked("this way of joining is not offered")
    theirs = real(numbered(a, "a"), numbered(b, "b"), how=how, predicate=predicate)
    mine = do(
        "join_by_place",
        as_layer(a, "a"),
        other=as_layer(b, "b"),
        relation=predicate,
        several="repeat",
        without="aside" if how == "inner" else "keep",
    )
    by = [f"{ROW} a", f"{ROW} b"]
    rows = (
        [sorted(tuple(None if pd.isna(v) else int(v) for v in r) for r in f[by].to_numpy().tolist()) for f in (mine, theirs)]
        if (len(mine) and len(theirs))
        else [[], []]
        if len(mine) == len(theirs)
        else [[0], []]
    )
    key = [[tuple(-1 if v is None else v for v in r) for r in some] if some and isinstance(some[0], tuple) else some for some in rows]
    return "" if key[0] == key[1] else f"other pairs: {key[0][:3]} and {key[1][:3]}"


def _dissolve(real: Callable, given: dict[str, Any]) -> str:
    frame, by, figure = given["self"], given["by"], given["aggfunc"]
    names = [by] if isinstance(by, str) else list(by) if isinstance(by, list) else []
    if by is not None and (not names or any(n not in frame.columns for n in names)):
        raise NotAsked("groups that are no fields")
    if given.get("level") is not None or given.get("grid_size") is not None or figure not in FIGURES:
        raise NotAsked("this way of putting together is not offered")
    numbers = [c for c in frame.columns if c not in names and pd.api.types.is_numeric_dtype(frame[c])]
    some = frame[[*names, *numbers, frame.geometry.name]]
    theirs = real(some, by=names or None, aggfunc=figure, as_index=False, dropna=given.get("dropna", True))
    some = some.assign(**{ROW: 1})
    table = geopandas.GeoDataFrame(some.drop(columns=frame.geometry.name), geometry=some.geometry.to_numpy(), crs=frame.crs)
    mine = do(
        "dissolve",
        from_frame(table.reset_index(drop=True), "a"),
        by=names,
        figures={n: f"{figure} {n}" for n in numbers},
        empty="aside" if given.get("dropna", True) else "group",
    )
    words = []
    for out in (mine, theirs):
        keys = ["|".join("" if pd.isna(v) else str(v) for v in row) for row in out[names].to_numpy()] if names else ["all"] * len(out)
        out[ROW] = [sorted(set(keys)).index(k) for k in keys]
        words.append(sorted(keys))
    if words[0] != words[1]:
        return f"other groups: {words[0][:3]} and {words[1][:3]}"
    theirs = theirs.set_geometry(frame.geometry.name)
    for n in numbers:
        a, b = (out.set_index(ROW)[n].sort_index().astype(float).to_numpy() for out in (mine, theirs))
        if not np.allclose(a, b, equal_nan=True):
            return f"another {figure} of {n}"
    return alike(mine, theirs, [ROW])


def _watched(name: str, real: Callable, compare: Callable[[Callable, dict[str, Any]], str]) -> Callable:
    signature = inspect.signature(real)
    busy = False

    def call(*args: Any, **kwargs: Any) -> Any:
        nonlocal busy
        found = real(*args, **kwargs)  # what raises is the library's own business
        if busy:
            return found
        busy = True
        case = os.environ.get("PYTEST_CURRENT_TEST", "").split(" ")[0].split("/")[-1]
        try:
            bound = signature.bind(*args, **kwargs)
            bound.apply_defaults()
            why, asked = compare(real, dict(bound.arguments)), True
        except NotAsked as error:
            why, asked = str(error), False
        except Exception as error:
            why, asked = f"{type(error).__name__}: {error}", True
        finally:
            busy = False
        with Path(os.environ["ESKRET_SPY"]).open("a") as file:
            file.write(json.dumps({"what": name, "case": case, "asked": asked, "why": why}) + "\n")
        return found

    call.__signature__ = signature  # type: ignore[attr-defined]
    call.__doc__ = real.__doc__
    return call


for _name, _compare in (("clip", _clip), ("overlay", _overlay), ("sjoin", _sjoin)):
    setattr(geopandas, _name, _watched(_name, getattr(geopandas, _name), _compare))
geopandas.GeoDataFrame.dissolve = _watched("dissolve", geopandas.GeoDataFrame.dissolve, _dissolve)
