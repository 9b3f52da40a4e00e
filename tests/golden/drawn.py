"""Workflows drawn at random, the same for every version: untidy layers in several formats, and chains of steps over them."""

from __future__ import annotations

import random
from pathlib import Path
from typing import Any

import geopandas
import numpy as np
import pandas
import shapely

UTM = "EPSG:32626"
E, N = 560_000.0, 5_200_000.0

ONE = "one"
"""Stands in settings for a layer of areas that another step loads."""
STEPS: dict[str, list[dict[str, Any]]] = {
    "keep": [{"where": "n > 3"}, {"where": "kind LIKE 'p%' AND tonnes < 60"}, {"where": "n > $least"}],
    "keep_by_place": [{"to": ONE}, {"to": ONE, "relation": "within"}, {"to": ONE, "relation": "near", "distance": "300 m"}],
    "pick": [{"features": [1, 3, 99], "key": "n"}],
    "drop_repeats": [{"fields": ["kind"], "geometry": False}, {"geometry": True}],
    "flag": [{"where": "tonnes > 20"}],
    "correct": [{"key": "n", "changes": [{"key": 1, "field": "kind", "old": "pile", "new": "stake"}]}],
    "clip": [{"to": ONE}],
    "erase": [{"by": ONE}],
    "overlay": [{"other": ONE}, {"other": ONE, "keep": "first"}],
    "dissolve": [{"by": ["kind"]}, {"by": ["kind"], "figures": {"all": "sum tonnes", "which": "list n"}}],
    "split": [{"by": ["kind"], "empty_as": "none"}],
    "split_by_area": [{"areas": ONE, "name_field": "name", "empty_as": "none"}],
    "reproject": [{"crs": "EPSG:4326"}, {"crs": "EPSG:32627"}],
    "buffer": [{"distance": "20 m"}, {"distance": "0.1 km"}],
    "centre_points": [{}, {"where": "mass"}],
    "outlines": [{}, {"holes": False}],
    "corner_points": [{}],
    "separate_parts": [{}, {"number": "part"}],
    "gather_parts": [{"by": ["kind"]}],
    "simplify": [{"tolerance": "5 m"}],
    "densify": [{"longest": "200 m"}],
    "hull": [{"around": "group", "by": ["kind"]}, {}],
    "connect_points": [{"by": ["kind"], "order": "n"}],
    "enclose": [{"tolerance": "5 m"}],
    "make_valid": [{}],
    "compute": [{"field": "double", "value": "tonnes * 2"}, {"field": "kind", "value": "upper(kind)"}],
    "measure": [{"what": ["length", "area", "x"]}],
    "join_by_place": [{"other": ONE}],
    "count_in_areas": [{"other": ONE}],
    "nearest": [{"other": ONE}, {"other": ONE, "within": "500 m"}],
    "summarise": [{"by": ["kind"], "figures": {"all": "sum tonnes", "middle": "median tonnes"}}],
    "sort": [{"by": ["tonnes down", "n"]}],
    "number": [{"within": ["kind"], "order": ["n down"]}],
    "pivot": [{"by": ["kind"], "columns": "n"}],
    "arrange_fields": [{"rename": {"n": "number"}}, {"types": {"n": "text"}}],
    "tally": [{"by": ["kind"]}],
    "find_gaps": [{}],
    "check": [{"that": "valid", "otherwise": "look"}],
    "merge": [{}],
}
TARGETS = [
    "out/W.gpkg",
    "out/W.gpkg",
    "out/W.geojson",
    "out/W_{layer}.shp",
    "out/W.csv",
    "out/W_{layer}.fgb",
    "out/W.parquet",
    "out/W.xlsx",
    "out/W_{layer}.kml",
]
WORDS = ["pile", "Pile", "buoy", None, "", "Nord-Øst", "stake "]


def _square(x: float, y: float, side: float) -> shapely.Geometry:
    return shapely.box(E + x, N + y, E + x + side, N + y + side)


def data(folder: Path) -> None:
    """The files that the workflows read."""
    chance = np.random.default_rng(31)
    folder.mkdir(parents=True)
    for name, rows in (("points", 60), ("lines", 25), ("areas", 40), ("mixed", 12), ("one", 3)):
        x, y = chance.uniform(0, 4000, (2, rows))
        if name == "points":
            shapes: list[Any] = [shapely.Point(E + a, N + b) for a, b in zip(x, y, strict=True)]
        elif name == "lines":
            ends = [np.c_[E + a + 150 * np.arange(5), N + b + chance.uniform(0, 90, 5)] for a, b in zip(x, y, strict=True)]
            shapes = [shapely.LineString(one) for one in ends]
        elif name == "areas":
            shapes = [_square(a, b, 200 + 10 * i) for i, (a, b) in enumerate(zip(x, y, strict=True))]
            shapes[3] = shapely.MultiPolygon([_square(0, 0, 300), _square(900, 900, 300)])
            shapes[5] = _square(100, 100, 800).difference(_square(300, 300, 200))
            shapes[7] = shapely.Polygon([(E, N), (E + 900, N + 900), (E + 900, N), (E, N + 900)])
        elif name == "mixed":
            shapes = [shapely.Point(E + a, N) if i % 3 else _square(a, b, 90) for i, (a, b) in enumerate(zip(x, y, strict=True))]
            shapes[4] = shapely.GeometryCollection([shapely.Point(E, N), _square(0, 0, 50)])
        else:
            shapes = [_square(500, 500, 1500), _square(1900, 700, 1200), None]
        if name in ("points", "areas", "mixed"):
            shapes[1], shapes[2] = None, type(shapes[0])()
        columns: dict[str, Any] = {
            "n": np.arange(1, rows + 1),
            "kind": [WORDS[i % 7] for i in range(rows)],
            "tonnes": np.round(chance.uniform(0, 99, rows), 3),
        }
        columns["tonnes"][::9] = np.nan
        if name == "one":
            columns["name"] = ["North", None, "Sør/Øst"]
        frame = geopandas.GeoDataFrame(columns, geometry=np.array(shapes, object), crs=UTM)
        frame.to_file(folder / "all.gpkg", layer=name)
        if name == "lines":
            frame.to_file(folder / "lines.shp", encoding="cp1252")
        if name == "areas":
            frame.to_crs(4326).to_file(folder / "areas.geojson")
    pandas.DataFrame({"n": [2, 2, 77, None], "landed": [5, 6, 7, 8]}).to_csv(folder / "table.csv", index=False)


def _toml(value: Any) -> str:
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, str):
        return '"' + value.replace('"', '\\"') + '"'
    if isinstance(value, list):
        return f"[{', '.join(map(_toml, value))}]"
    if isinstance(value, dict):
        return "{ " + ", ".join(f"{k} = {_toml(v)}" for k, v in value.items()) + " }"
    return str(value)


def workflow(number: int) -> str:
    """The text of the so-manieth workflow."""
    chance = random.Random(number)
    crs = chance.choice([f'crs = "{UTM}"\n', f'crs = "{UTM}"\n', 'crs = "EPSG:4326"\n', ""])
    lines = [f'eskret = 1\ntitle = "Drawn {number}"\n{crs}', '[parameters.least]\ntype = "number"\ndefault = 5\n']

    def step(id: str, use: str, **settings: Any) -> None:
        lines.append("[[steps]]\n" + "\n".join(f"{k} = {_toml(v)}" for k, v in {"id": id, "use": use, **settings}.items()) + "\n")

    source = chance.choice(["all.gpkg", "all.gpkg", "lines.shp", "areas.geojson"])
    layers = chance.sample(["points", "lines", "areas", "mixed"], chance.choice([1, 1, 2])) if source == "all.gpkg" else []
    step("in", "load", files=[f"data/{source}"], **({"layers": layers} if layers else {}))
    step("one", "load", files=["data/all.gpkg"], layers=["one"])
    at, made = "in", []
    # every operation in turn first, then more of them by chance
    names = sorted(STEPS)
    chain = [names[number % len(names)], *chance.choices(names, k=chance.choice([0, 1, 2]))]
    for place, use in enumerate(chain):
        settings = {k: "one:one" if v == ONE else v for k, v in chance.choice(STEPS[use]).items()}
        step(f"s{place}", use, **{"from": at}, **settings)
        at = f"s{place}"
        made.append(at)
    target = chance.choice(TARGETS).replace("W", f"w{number}")
    more = {"if_exists": "replace", "name": "{step}_{layer}"} if target.endswith((".gpkg", ".xlsx")) else {"if_exists": "replace"}
    step("out", "save", **{"from": made[-1:] if chance.random() < 0.6 or "{layer}" not in target else [at]}, to=target, **more)
    return "\n".join(lines)
