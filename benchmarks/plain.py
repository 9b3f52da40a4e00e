"""What an analyst writes without Eskret, file to file: the usual script, and the best that the same libraries can do.

Usage: python benchmarks/plain.py usual|best TASK DATA_FOLDER OUT_FOLDER

*usual* is GeoPandas as its handbook has it. *best* is for who knows where the time goes: columns passed through as Arrow, shapes only
where somebody asks for them, a prepared area and an index in front of every cut, edges that neighbours share joined as such. Neither
keeps accounts, and neither sees to what is invalid.
"""

from __future__ import annotations

import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

# -- the usual script


def usual_convert(data: Path, out: Path) -> None:
    import geopandas as gpd

    gpd.read_file(data / "beds.shp").to_file(out / "converted.gpkg", layer="beds")


def usual_geojson(data: Path, out: Path) -> None:
    import geopandas as gpd

    gpd.read_file(data / "beds.gpkg").to_crs(4326).to_file(out / "beds.geojson", driver="GeoJSON", RFC7946="YES")


def usual_keep(data: Path, out: Path) -> None:
    import geopandas as gpd

    marks = gpd.read_file(data / "marks.gpkg")
    marks[marks["kind"].str.startswith("Pile")].to_file(out / "kept.gpkg")


def usual_place(data: Path, out: Path) -> None:
    import geopandas as gpd

    marks, area = gpd.read_file(data / "marks.gpkg"), gpd.read_file(data / "area.gpkg")
    marks[marks.within(area.geometry.iloc[0])].to_file(out / "inside.gpkg")


def usual_clip(data: Path, out: Path) -> None:
    import geopandas as gpd

    gpd.clip(gpd.read_file(data / "beds.gpkg"), gpd.read_file(data / "area.gpkg")).to_file(out / "clipped.gpkg")


def usual_dissolve(data: Path, out: Path) -> None:
    import geopandas as gpd

    beds = gpd.read_file(data / "beds.gpkg")
    beds.dissolve("licence", aggfunc={"tonnes": "sum"}).reset_index().to_file(out / "dissolved.gpkg")


def usual_reaches(data: Path, out: Path) -> None:
    import geopandas as gpd

    gpd.read_file(data / "reaches.gpkg").dissolve("licence", aggfunc={"id": "count"}).reset_index().to_file(out / "reaches.gpkg")


def usual_split(data: Path, out: Path) -> None:
    import geopandas as gpd

    target = out / "split.gpkg"
    for value, part in gpd.read_file(data / "beds.gpkg").groupby("licence"):
        part.to_file(target, layer=value, mode="a" if target.exists() else "w")


def usual_join(data: Path, out: Path) -> None:
    import geopandas as gpd
    import pandas as pd

    beds = gpd.read_file(data / "beds.gpkg")
    beds.merge(pd.read_csv(data / "landings.csv"), left_on="id", right_on="bed", how="left").to_file(out / "joined.gpkg")


def usual_chain(data: Path, out: Path) -> None:
    import geopandas as gpd
    import pandas as pd

    beds = gpd.clip(gpd.read_file(data / "beds.gpkg"), gpd.read_file(data / "area.gpkg"))
    beds = beds.merge(pd.read_csv(data / "landings.csv"), left_on="id", right_on="bed", how="left")
    beds.dissolve("licence", aggfunc={"landed": "sum"}).reset_index().to_file(out / "chain.gpkg")


def usual_layers(data: Path, out: Path) -> None:
    import geopandas as gpd
    import pyogrio

    target = out / "layers.gpkg"
    for name, _ in pyogrio.list_layers(data / "layers.gpkg"):
        gpd.read_file(data / "layers.gpkg", layer=name).to_file(target, layer=name, mode="a" if target.exists() else "w")


# -- the best plain code


def _read(path: Path) -> tuple[Any, Any, dict[str, Any]]:
    """A table without its shapes, these as binary, and the facts of the layer."""
    import pyogrio

    meta, table = pyogrio.read_arrow(path)
    name = meta["geometry_name"] or "wkb_geometry"
    return table.drop_columns([name]), table.column(name), meta


def _write(path: Path, table: Any, binary: Any, meta: dict[str, Any], kind: str = "", layer: str | None = None, **more: Any) -> None:
    import pyarrow as pa
    import pyogrio

    if not isinstance(binary, pa.ChunkedArray | pa.Array):
        import shapely

        binary = pa.array(shapely.to_wkb(binary).tolist(), pa.binary())
    if layer:
        more["layer"] = layer
    whole = table.append_column("geometry", binary)
    pyogrio.write_arrow(whole, path, geometry_name="geometry", geometry_type=kind or meta["geometry_type"], crs=meta["crs"], **more)


def _shapes(binary: Any) -> np.ndarray:
    import shapely

    return np.asarray(shapely.from_wkb(binary.to_numpy()), object)


def _area(data: Path) -> Any:
    import shapely

    area = _shapes(_read(data / "area.gpkg")[1])[0]
    shapely.prepare(area)
    return area


def best_convert(data: Path, out: Path) -> None:
    import pyogrio

    meta, table = pyogrio.read_arrow(data / "beds.shp")
    name = meta["geometry_name"] or "wkb_geometry"
    path = out / "converted.gpkg"
    pyogrio.write_arrow(table, path, layer="beds", geometry_name=name, geometry_type=meta["geometry_type"], crs=meta["crs"])


def best_geojson(data: Path, out: Path) -> None:
    import shapely
    from pyproj import Transformer

    table, binary, meta = _read(data / "beds.gpkg")
    turn = Transformer.from_crs(meta["crs"], 4326, always_xy=True)
    shapes = shapely.transform(_shapes(binary), lambda xy: np.column_stack(turn.transform(*xy.T)))
    _write(out / "beds.geojson", table, shapes, {**meta, "crs": "EPSG:4326"}, RFC7946="YES")


def best_keep(data: Path, out: Path) -> None:
    import pyogrio

    meta, table = pyogrio.read_arrow(data / "marks.gpkg", where="kind LIKE 'Pile%'")
    path = out / "kept.gpkg"
    pyogrio.write_arrow(table, path, geometry_name=meta["geometry_name"], geometry_type=meta["geometry_type"], crs=meta["crs"])


def best_place(data: Path, out: Path) -> None:
    import pyarrow as pa
    import shapely

    table, binary, meta = _read(data / "marks.gpkg")
    inside = pa.array(shapely.contains(_area(data), _shapes(binary)))
    _write(out / "inside.gpkg", table.filter(inside), binary.filter(inside), meta)


def clipped(shapes: np.ndarray, area: Any) -> tuple[np.ndarray, np.ndarray]:
    """The areal parts of shapes within an area, and which shapes they are of."""
    import shapely

    shapely.prepare(area)
    touched = np.sort(shapely.STRtree(shapes).query(area, predicate="intersects"))
    shapes = shapes[touched]
    cut = ~shapely.contains_properly(area, shapes)
    # the area cut to the box of what it cuts has far fewer corners
    near = [shapely.clip_by_rect(area, *box) for box in np.add(shapely.bounds(shapes[cut]), (-1, -1, 1, 1)).tolist()]
    shapes[cut] = shapely.intersection(shapes[cut], np.array(near, object))
    areal = np.isin(shapely.get_type_id(shapes), (3, 6)) & ~shapely.is_empty(shapes)
    return shapes[areal], touched[areal]


def _clipped(data: Path) -> tuple[Any, np.ndarray, dict[str, Any]]:
    import pyarrow as pa

    table, binary, meta = _read(data / "beds.gpkg")
    shapes, rows = clipped(_shapes(binary), _area(data))
    return table.take(pa.array(rows)), shapes, meta


def best_clip(data: Path, out: Path) -> None:
    table, shapes, meta = _clipped(data)
    _write(out / "clipped.gpkg", table, _several(shapes), meta, "MultiPolygon")


def _several(shapes: np.ndarray) -> np.ndarray:
    import shapely

    parts, of = shapely.get_parts(shapes, return_index=True)
    areal = shapely.get_type_id(parts) == 3
    return np.asarray(shapely.multipolygons(parts[areal], indices=of[areal]), object)


def _dissolved(table: Any, shapes: np.ndarray, figure: str, how: str, method: Callable[[np.ndarray], Any]) -> tuple[Any, np.ndarray]:
    import pyarrow as pa

    grouped = table.append_column("row", pa.array(np.arange(len(shapes)))).group_by("licence", use_threads=False)
    sums = grouped.aggregate([(figure, how), ("row", "list")])
    joined = [method(shapes[rows.values.to_numpy()]) for rows in sums.column("row_list")]
    return sums.drop_columns(["row_list"]).rename_columns(["licence", figure]), np.array(joined, object)


def best_dissolve(data: Path, out: Path) -> None:
    import shapely

    table, binary, meta = _read(data / "beds.gpkg")
    table, shapes = _dissolved(table, _shapes(binary), "tonnes", "sum", shapely.coverage_union_all)
    _write(out / "dissolved.gpkg", table, _several(shapes), meta, "MultiPolygon")


def best_reaches(data: Path, out: Path) -> None:
    import shapely

    table, binary, meta = _read(data / "reaches.gpkg")
    table, shapes = _dissolved(table, _shapes(binary), "id", "count", shapely.disjoint_subset_union_all)
    _write(out / "reaches.gpkg", table, _several(shapes), meta, "MultiPolygon")


def best_split(data: Path, out: Path) -> None:
    import pyarrow as pa

    table, binary, meta = _read(data / "beds.gpkg")
    of = table.column("licence").to_numpy()
    order = np.argsort(of, kind="stable")
    names, begin = np.unique(of[order], return_index=True)
    for number, (name, rows) in enumerate(zip(names, np.split(order, begin[1:]), strict=True)):
        some = pa.array(rows)
        _write(out / "split.gpkg", table.take(some), binary.take(some), meta, layer=name, append=number > 0)


def _joined(table: Any, data: Path) -> Any:
    import pyarrow as pa
    from pyarrow import csv

    landings = csv.read_csv(data / "landings.csv")
    numbered = table.append_column("row", pa.array(np.arange(len(table))))
    return numbered.join(landings, keys="id", right_keys="bed", join_type="left outer").sort_by("row").drop_columns(["row"])


def best_join(data: Path, out: Path) -> None:
    table, binary, meta = _read(data / "beds.gpkg")
    _write(out / "joined.gpkg", _joined(table, data), binary, meta)


def best_chain(data: Path, out: Path) -> None:
    import shapely

    table, shapes, meta = _clipped(data)
    table, shapes = _dissolved(_joined(table, data), shapes, "landed", "sum", shapely.union_all)
    _write(out / "chain.gpkg", table, _several(shapes), meta, "MultiPolygon")


def best_layers(data: Path, out: Path) -> None:
    import pyogrio

    for number, (name, _) in enumerate(pyogrio.list_layers(data / "layers.gpkg")):
        meta, table = pyogrio.read_arrow(data / "layers.gpkg", layer=name)
        named = {"geometry_name": meta["geometry_name"], "geometry_type": meta["geometry_type"], "crs": meta["crs"]}
        pyogrio.write_arrow(table, out / "layers.gpkg", layer=name, append=number > 0, **named)


if __name__ == "__main__":
    how, task, data, out = sys.argv[1], sys.argv[2], Path(sys.argv[3]), Path(sys.argv[4])
    out.mkdir(parents=True, exist_ok=True)
    globals()[f"{how}_{task}"](data, out)
