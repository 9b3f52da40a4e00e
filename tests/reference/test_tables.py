"""Tables and shapes drawn at random, against pandas and GeoPandas: what an analyst would write without Eskret."""

from __future__ import annotations

import geopandas as gpd
import numpy as np
import pandas as pd
import pyarrow as pa
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st

from eskret.core.layer import Layer
from eskret.core.layer.frames import to_frame
from tests.exact import close, same
from tests.length import examples
from tests.operations.helpers import UTM, do, layer_of, rows

PANDAS, GEOPANDAS = "pandas", "GeoPandas"
KEYS = st.sampled_from(["a", "b", "c", "d", None])
ROWS = st.lists(st.tuples(KEYS, st.sampled_from(["x", "y"]), st.integers(-99, 99)), min_size=1, max_size=12)
PLACES = st.lists(st.tuples(st.integers(0, 99), st.integers(0, 99)), min_size=1, max_size=12)
BOXES = st.lists(st.tuples(st.integers(0, 90), st.integers(0, 90), st.integers(1, 40)), min_size=1, max_size=6)


def table(drawn: list[tuple], key: str = "t") -> Layer:
    k, c, v = (list(column) for column in zip(*drawn, strict=True))
    columns = {"n": list(range(len(drawn))), "k": pa.array(k, pa.string()), "c": c, "v": pa.array(v, pa.int64())}
    return Layer(key, pa.table(columns))


def frame(layer: Layer) -> pd.DataFrame:
    return layer.table.to_pandas()


def plain(values: object) -> list:
    return [None if pd.isna(v) else v for v in np.asarray(values, object).tolist()]


@settings(max_examples=examples(40))
@given(ROWS, ROWS)
def test_tables_as_pandas_has_them(left: list[tuple], right: list[tuple]) -> None:
    a, b = table(left), table(right)
    other = frame(b).dropna(subset="k").drop_duplicates("k").rename(columns={"v": "w"})[["k", "w"]]
    joined = frame(a).merge(other, on="k", how="left").sort_values("n")
    brought = Layer("b", b.table.select(["k", "v"]).rename_columns(["k", "w"]))
    same("join_table", PANDAS, rows(do("join_table", a, table=brought, key="k", fields=["w"]), "w"), plain(joined["w"]))

    there = frame(a).dropna(subset="k")
    if len(there):
        kept = Layer("t", a.table.take(pa.array(there["n"].to_numpy())))
        wide = there.pivot_table(index="k", columns="c", values="v", aggfunc="sum")
        outcome = do("pivot", kept, by=["k"], columns="c", cell="sum v")
        for name in wide.columns:
            same("pivot", PANDAS, rows(outcome, str(name)), plain(wide[name]))
    ordered = frame(a).sort_values(["k", "v"], ascending=[True, False], kind="stable", na_position="last")
    same("sort", PANDAS, rows(do("sort", a, by=["k", "v down"]), "n"), ordered["n"].tolist())
    same("drop_repeats", PANDAS, rows(do("drop_repeats", a, fields=["k", "c"]), "n"), frame(a).drop_duplicates(["k", "c"])["n"].tolist())
    numbers = frame(a).sort_values("v", kind="stable").groupby("c").cumcount().sort_index() + 1
    same("number", PANDAS, rows(do("number", a, within=["c"], order=["v"], field="nth"), "nth"), numbers.tolist())
    both = pd.concat([frame(a), frame(b)])
    merged = do("merge", [a, Layer("u", b.table)])
    same("merge", PANDAS, rows(merged, "n"), both["n"].tolist())
    parts = {str(k): v["n"].tolist() for k, v in frame(a).groupby("c")}
    same("split", PANDAS, {x.key: x.table.column("n").to_pylist() for x in do("split", a, by=["c"]).layers}, parts)


@settings(max_examples=examples(40))
@given(PLACES, BOXES)
def test_shapes_as_geopandas_has_them(places: list[tuple], boxes: list[tuple]) -> None:
    points = layer_of([shapely.Point(p) for p in places], UTM, "p")
    areas = layer_of([shapely.box(x, y, x + s, y + s) for x, y, s in boxes], UTM, "a", name=[f"a{i}" for i in range(len(boxes))])
    p, a = to_frame(points), to_frame(areas)
    counts = gpd.sjoin(a, p).groupby(level=0).size().reindex(range(len(a)), fill_value=0)
    same("count_in_areas", GEOPANDAS, rows(do("count_in_areas", areas, other=points, field="many"), "many"), counts.tolist())
    far = gpd.sjoin_nearest(p, a, distance_col="far").groupby(level=0)["far"].min()
    close("nearest", GEOPANDAS, rows(do("nearest", points, other=areas, fields=["name"]), "distance_m"), far.tolist(), abs_=1e-9, unit="m")
    for use, given_, wanted in (
        ("centre_points", {"where": "mass"}, a.centroid),
        ("outlines", {}, a.boundary),
        ("hull", {}, a.convex_hull),
        ("simplify", {"tolerance": "3 m"}, a.simplify(3)),
        ("densify", {"longest": "7 m"}, a.segmentize(7)),
        ("buffer", {"distance": "5 m"}, a.buffer(5, quad_segs=16)),
        ("reproject", {"crs": "EPSG:32632"}, a.to_crs(32632).geometry),
    ):
        made = do(use, areas, **given_).layers[0].geometry
        same(use, GEOPANDAS, [bool(x) for x in shapely.equals(made, wanted.to_numpy())], [True] * len(a))
    whole = a.dissolve().geometry
    exploded = whole.explode(index_parts=False)
    apart = do("separate_parts", layer_of(whole.tolist(), UTM)).layers[0].geometry
    same("separate_parts", GEOPANDAS, [bool(x) for x in shapely.equals(apart, exploded.to_numpy())], [True] * len(exploded))
    corners = do("corner_points", points).layers[0].geometry
    same("corner_points", GEOPANDAS, shapely.get_coordinates(corners).tolist(), p.get_coordinates().to_numpy().tolist())
    first = gpd.sjoin(p, a, predicate="intersects").sort_index().groupby(level=0)["index_right"].min()
    layers = do("split_by_area", points, areas=areas, name_field="name").layers
    mine = {n: x.key for x in layers for n in x.table.column("n").to_pylist()}
    same("split_by_area", GEOPANDAS, mine, {int(n): f"a{int(v)}" for n, v in first.items()})
