"""One layer through one format and back: what is kept, what is changed and told, what is refused."""

from __future__ import annotations

import datetime as dt
import math
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
import shapely

from eskret import Workflow
from eskret.core.layer import Layer
from eskret.errors import EskretError
from eskret.formats import parquet, sources

ENDINGS = (".gpkg", ".geojson", ".geojsons", ".shp", ".fgb", ".parquet", ".csv", ".kml", ".gpx", ".xlsx")
COLUMNS = "its shapes are columns"
KEPT, TOLD, REFUSED, UNTOLD, FAULT = "kept", "told", "refused", "UNTOLD", "FAULT"


@dataclass(frozen=True)
class Seen:
    """What became of a layer: one of the words above, what differs, and what was said before and after the run."""

    what: str
    differs: str = ""
    foretold: tuple[str, ...] = ()
    after: tuple[str, ...] = ()


def through(folder: Path, layer: Layer, ending: str) -> Seen:
    """Save a layer by a workflow, read it again, and compare value by value."""
    folder.mkdir(parents=True, exist_ok=True)
    source = folder / "in.parquet"
    source.unlink(missing_ok=True)
    parquet.write(source, layer, {})
    target = folder / f"out{ending}"
    for old in folder.glob("out*"):
        old.unlink()
    workflow = Workflow(title="There and back")
    workflow.path = folder / "w.toml"
    workflow.save("out", workflow.load("in", files=["in.parquet"]), to=target.name)
    told = workflow.rehearse()
    foretold = tuple(f.text for f in told.findings)
    faults = [t for t in foretold if "fault of the program" in t]
    if told.errors:
        return Seen(FAULT if faults else REFUSED, "", foretold)
    try:
        result = workflow.run()
    except EskretError as error:
        return Seen(FAULT, f"refused only by the run: {error.sentence()}", foretold)
    after = tuple(r.text for s in result.steps for r in s.remarks)
    if result.error:
        if target.exists() or "fault of the program" in result.error or ".eskret-" in result.error:
            return Seen(FAULT, f"failed: {result.error}", foretold, after)
        return Seen(REFUSED, result.error, foretold, after)
    if not target.exists():
        return Seen(UNTOLD, "no file", foretold, after)
    try:
        # other layers of a file are what a format makes of empty ones
        names = sources.layer_names(target)
        if not names:
            return Seen(TOLD if after else UNTOLD, "nothing is in it", foretold, after)
        back = sources.read(target, names[0], "back").layer
    except EskretError as error:
        return Seen(FAULT, f"cannot be read again: {error.sentence()}", foretold, after)
    differs = difference(layer, back)
    said = (*foretold, *after)
    if differs == COLUMNS and any("has no shapes" in t for t in said):
        return Seen(TOLD, differs, foretold, after)
    if not differs:
        return Seen(KEPT, "", foretold, after)
    return Seen(TOLD if said else UNTOLD, differs, foretold, after)


def difference(mine: Layer, back: Layer) -> str:
    """The first thing that differs; empty where nothing does. The order of rows may, where a format says so."""
    if len(mine) != len(back):
        return f"{len(mine)} rows became {len(back)}"
    if back.has_geometry and not mine.has_geometry and shapely.is_geometry(back.geometry).any():
        return "has shapes"
    order = list(range(len(back)))
    if "row" in back.table.column_names and "row" in mine.table.column_names:
        numbers = back.table.column("row").to_pylist()
        if sorted(map(str, numbers)) == sorted(map(str, mine.table.column("row").to_pylist())):
            order = [list(map(str, numbers)).index(str(n)) for n in mine.table.column("row").to_pylist()]
    names = {n.casefold(): n for n in back.table.column_names}
    for name in mine.table.column_names:
        if name == "row":
            continue
        other = names.get(name.casefold())
        if other is None:
            return f"'{name}' is gone"
        was, came = mine.table.column(name).to_pylist(), back.table.column(other).to_pylist()
        for a, b in zip(was, (came[n] for n in order), strict=True):
            if not same(a, b):
                return f"{a!r} became {b!r}"
    if mine.has_geometry and not back.has_geometry:
        return COLUMNS
    if mine.has_geometry:
        assert mine.geometry is not None and back.geometry is not None
        theirs = back.geometry[order] if len(order) else back.geometry
        if "row" not in mine.table.column_names:
            # nothing tells rows apart: their order is the format's
            theirs, mine = (np.array(sorted(theirs, key=shown)), mine.with_geometry(np.array(sorted(mine.geometry, key=shown)), mine.kind))
        for a, b in zip(mine.geometry, theirs, strict=True):
            if not alike(a, b):
                return f"{shown(a)} became {shown(b)}"
    return ""


def same(a: Any, b: Any) -> bool:
    """Whether two values are the same one: numbers by what they are, instants by when they are."""
    if a is None or b is None:
        return a is None and b is None
    if isinstance(a, bool) != isinstance(b, bool):
        return False
    if isinstance(a, float) and isinstance(b, float) and math.isnan(a) and math.isnan(b):
        return True
    if isinstance(a, dt.datetime) and isinstance(b, dt.datetime):
        return (a.tzinfo is None) == (b.tzinfo is None) and a == b
    if isinstance(a, (int, float)) and isinstance(b, (int, float)):
        return a == b and (not isinstance(a, int) or not isinstance(b, float) or abs(a) < 2**53)
    return type(a) is type(b) and a == b


def alike(a: Any, b: Any) -> bool:
    """Whether two shapes are the same to a tenth of a millimetre or a billionth of a degree, in every dimension."""
    if a is None or b is None:
        return a is None and b is None
    if a.is_empty or b.is_empty:
        return a.is_empty and b.is_empty
    if (a.has_z, a.has_m) != (b.has_z, b.has_m):
        return False
    one = {"MultiPoint": "Point", "MultiLineString": "LineString", "MultiPolygon": "Polygon"}
    kinds = {one.get(x.geom_type, x.geom_type) for x in (a, b)}
    if len(kinds) > 1:
        return False
    plain = (shapely.normalize(shapely.orient_polygons(g)) for g in (a, b))
    x, y = (shapely.get_coordinates(g, include_z=a.has_z, include_m=a.has_m) for g in plain)
    return x.shape == y.shape and bool(np.allclose(x, y, rtol=0, atol=1e-7, equal_nan=True))


def shown(shape: Any) -> str:
    return "nothing" if shape is None else shapely.to_wkt(shape, rounding_precision=8, output_dimension=4)[:60]


def usual(folder: Path, ending: str) -> set[str]:
    """What is said whatever is saved in a format: it tells of no single loss."""
    from tests.fidelity import cases

    said: set[str] = set()
    for name, nulls, layer in cases.of_shapes():
        if name in ("points", "lines", "areas") and nulls == "no nulls":
            seen = through(folder, layer, ending)
            said |= {*seen.foretold, *seen.after}
    return said


def judged(seen: Seen, usual: set[str]) -> Seen:
    """What became of a layer, where words that are always said do not count as having told it."""
    own = [t for t in (*seen.foretold, *seen.after) if t not in usual]
    return replace(seen, what=UNTOLD) if seen.what == TOLD and not own and "are columns" not in seen.differs else seen
