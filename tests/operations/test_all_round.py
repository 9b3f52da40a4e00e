"""Layers drawn at random on the whole globe and on planes, through every operation, held to what must be true of them.

Over 180 degrees, about the poles, slivers, holes, several parts, heights and measures, null, empty, no number: accounts balance,
shapes are sound, and what one operation says another does not deny.
"""

from __future__ import annotations

from datetime import UTC as UTC_
from datetime import datetime, timedelta

import numpy as np
import pyarrow as pa
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st

from eskret.core.geometry.globe.seam import nowhere
from eskret.core.layer import Layer
from eskret.operations.base import EachLayer, Gathering
from tests.exact import PLAIN, THERE_AND_BACK, close, same
from tests.length import examples
from tests.operations.helpers import do, rows, whatever_comes
from tests.operations.test_every_shape import ON_LAYERS, SETTINGS

WGS84, UTM = "EPSG:4326", "EPSG:32631"
CAP = shapely.box(-180, 80, 180, 90)


def cut(west: float, south: float, wide: float, high: float) -> shapely.Geometry:
    """An area in degrees, cut at 180 where it goes over it, as RFC 7946 has it."""
    if west + wide <= 180:
        return shapely.box(west, south, west + wide, south + high)
    over = west + wide - 360
    return shapely.multipolygons([shapely.box(west, south, 180, south + high), shapely.box(-180, south, over, south + high)])


WEST = st.floats(-180, 179.99).map(lambda v: round(v, 3))
SOUTH = st.one_of(st.floats(-90, 88), st.sampled_from([-90.0, 89.0, 0.0])).map(lambda v: round(v, 3))
SIZE = st.sampled_from([1e-6, 0.01, 0.3, 2.0, 20.0, 170.0])
AREAS_ON_GLOBE = st.builds(lambda w, s, a, b: cut(w, s, a, min(b, 90 - s)), WEST, SOUTH, SIZE, SIZE)
POINTS_ON_GLOBE = st.builds(shapely.Point, st.one_of(WEST, st.sampled_from([180.0, -180.0])), st.one_of(SOUTH, st.just(90.0)))
LINES_ON_GLOBE = st.builds(
    lambda w, s, a, b: shapely.LineString([(w, s), (min(w + a, 180), min(s + b, 90)), (w, min(s + b, 90))]), WEST, SOUTH, SIZE, SIZE
)
ODD = st.sampled_from(
    [
        None,
        shapely.Polygon(),
        CAP,
        shapely.box(-180, -90, 180, -70),
        shapely.from_wkt("LINESTRING ZM (170 0 1 5, 180 1 2 6)"),
        shapely.from_wkt("POINT M (10 50 3)"),
        shapely.box(0, 0, 30, 30).difference(shapely.box(5, 5, 9, 9)),
        shapely.GeometryCollection([shapely.Point(1, 1), shapely.box(0, 0, 1, 1)]),
        shapely.Polygon([(0, 0), (1, 1), (1, 0), (0, 1)]),
        shapely.box(-180, -10, 180, 10),
        shapely.MultiPoint([(179.9, 1), (-179.9, 1)]),
        shapely.box(170, 0, 190, 5),
        shapely.Point(200, 95),
        shapely.LineString([(0, 0), (1e9, 1)]),
        shapely.box(-1e6, -1e6, 1e6, 1e6),
        shapely.Point(float("nan"), 5),
        shapely.Point(float("inf"), 0),
        shapely.LineString([(0, 0), (0, 0)]),
    ]
)
ON_GLOBE = st.one_of(AREAS_ON_GLOBE, POINTS_ON_GLOBE, LINES_ON_GLOBE, ODD)
SOMEWHERE = ON_GLOBE.filter(
    lambda s: (s is not None and not s.is_empty and s.is_valid and s.length != 0.0) or (s is not None and s.geom_type == "Point")
).filter(lambda s: not nowhere(np.array([s], object))[0])
NUMBERS = st.sampled_from([None, 0.0, -0.0, 1.5, float("nan"), float("inf")])


def layer_of(shapes: list, crs: str = WGS84, key: str = "a", numbers: list | None = None) -> Layer:
    count = len(shapes)
    begun = datetime(2031, 9, 3, 6, 0, tzinfo=UTC_)
    kinds = [("pile", "buoy", None)[i % 3] for i in range(count)]
    times = [begun + timedelta(minutes=i) for i in range(count)]
    table = pa.table(
        {
            "n": pa.array(range(1, count + 1), pa.int64()),
            "kind": pa.array(kinds, pa.string()),
            "time": pa.array(times, pa.timestamp("us", "UTC")),
            "v": pa.array(numbers or [1.0] * count, pa.float64()),
            "name": pa.array([f"p{i}" for i in range(count)], pa.string()),
        }
    )
    return Layer(key, table, np.array([*shapes, None], object)[:-1], crs)


# what PROJ itself keeps: the polar planes stretch the other half of the globe, and one equal-area plane is worked out in series
EXACT = {"EPSG:3031": 2e-5, "EPSG:3413": 2e-5, "EPSG:8857": 5e-3}
WORLD = {
    "x": layer_of([cut(170, -20, 25, 40), shapely.box(-10, 40, 15, 60), CAP, shapely.Polygon(), None], key="x"),
    "points": layer_of([shapely.Point(180, 5), shapely.Point(-180, 5), shapely.Point(3, 90), shapely.Point(0, 50), None], key="points"),
    "table": Layer("table", pa.table({"n": [2, 2, 77, None], "landed": [5.0, float("nan"), 7, 8]})),
}
FLAT: dict[str, dict] = {
    "reproject": {"crs": "EPSG:3395"},
    "buffer": {"distance": "40 km"},
    "keep": {"where": "v >= 0"},
    "sort": {"by": ["v down"]},
    "dissolve": {"by": ["kind"], "figures": {"all": "sum v"}},
    "summarise": {"by": ["v"], "figures": {"all": "sum v"}},
    "drop_repeats": {"fields": ["v"]},
    "simplify": {"tolerance": "2 km"},
    "overlay": {"other": "x"},
    "split_by_area": {"areas": "x", "name_field": "name", "across": "cut"},
}
SOUND = {"buffer", "clip", "erase", "hull", "dissolve"}


@pytest.mark.parametrize("operation", [o for o in ON_LAYERS if o.id not in ("apply_words", "grid")], ids=lambda o: o.id)
@settings(max_examples=examples(25))
@given(st.lists(st.tuples(ON_GLOBE, NUMBERS), min_size=1, max_size=6))
def test_on_the_whole_globe_the_accounts_balance_and_shapes_are_sound(operation: EachLayer | Gathering, drawn: list[tuple]) -> None:
    layer = layer_of([s for s, _ in drawn], numbers=[v for _, v in drawn])
    wanted = FLAT.get(operation.id, SETTINGS[operation.id])
    outcome = whatever_comes(operation, layer, wanted, WORLD)
    if outcome is None:
        return
    sound = shapely.is_valid(layer.geometry) | shapely.is_missing(layer.geometry)
    reach = np.abs(np.nan_to_num(shapely.bounds(layer.geometry).reshape(-1, 4)))
    # what was drawn can be beyond a pole in its last digit
    inside = reach[:, [0, 2]].max(initial=0) <= 180 and reach[:, [1, 3]].max(initial=0) <= 90
    for made in outcome.layers if operation.id in SOUND and sound.all() and inside else ():
        there = made.geometry[~shapely.is_missing(made.geometry)]
        assert shapely.is_valid(there).all(), [shapely.is_valid_reason(s) for s in there]
        boxes = shapely.bounds(there).reshape(-1, 4)
        assert (boxes[:, 0] >= -180 - 1e-9).all() and (boxes[:, 2] <= 180 + 1e-9).all() and (np.abs(boxes[:, 1::2]) <= 90).all()


@settings(max_examples=examples(60))
@given(st.lists(SOMEWHERE, min_size=1, max_size=4), st.lists(SOMEWHERE, min_size=1, max_size=4), st.sampled_from([1.0, 1_000.0, 90_000.0]))
def test_what_meets_is_nearest_at_nothing_and_near_at_any_distance(left: list, right: list, metres: float) -> None:
    a, b = layer_of(left), layer_of(right, key="b")
    meets = set(rows(do("keep_by_place", a, to=b, relation="intersects"), "n"))
    apart = set(rows(do("keep_by_place", a, to=b, relation="disjoint"), "n"))
    assert meets | apart == set(range(1, len(left) + 1)) and not meets & apart
    far = dict(rows(do("nearest", a, other=b, fields=["kind"]), "n", "distance_m"))
    # an edge that is met to less than a millimetre may be met or not by the last digit of its coordinates
    assert {n for n, m in far.items() if m == 0.0} <= meets <= {n for n, m in far.items() if m is not None and m < 1e-3}
    near = set(rows(do("keep_by_place", a, to=b, relation="near", distance=f"{metres} m"), "n"))
    assert near == {n for n, m in far.items() if m is not None and m <= metres * (1 + 1e-9)}
    # a grown feature reaches what is near, to what a circle of straight stretches loses
    grown = do("buffer", a, distance=f"{metres} m").layers[0]
    reached = set(rows(do("keep_by_place", grown, to=b, relation="intersects"), "n"))
    assert {n for n, m in far.items() if m <= metres * 0.99} <= reached
    assert reached <= {n for n, m in far.items() if m <= metres * 1.002 + 0.02}


@settings(max_examples=examples(60))
@given(st.lists(AREAS_ON_GLOBE, min_size=1, max_size=4), AREAS_ON_GLOBE)
def test_a_cut_and_its_rest_make_the_whole(shapes: list, knife: shapely.Geometry) -> None:
    layer, by = layer_of(shapes), layer_of([knife], key="b")
    size = sum(rows(do("measure", layer, what=["area"], area_unit="m2"), "area_m2"))
    parts = [do(use, layer, **{name: by}).layers[0] for use, name in (("clip", "to"), ("erase", "by"))]
    got = [sum(rows(do("measure", p, what=["area"], area_unit="m2"), "area_m2")) if len(p) else 0.0 for p in parts]
    assert sum(got) == pytest.approx(size, rel=1e-9, abs=1e-4)


@settings(max_examples=examples(60))
@given(
    st.lists(st.one_of(AREAS_ON_GLOBE, POINTS_ON_GLOBE, LINES_ON_GLOBE), min_size=1, max_size=4),
    st.sampled_from(["EPSG:3395", "EPSG:3832", "EPSG:3031", "EPSG:3413", "EPSG:3857", "EPSG:8857"]),
)
def test_there_and_back_every_vertex_is_where_it_was(shapes: list, crs: str) -> None:
    layer = layer_of(shapes)
    there = do("reproject", layer, crs=crs)
    back = do("reproject", there.layers[0], crs=WGS84)
    for n, shape in zip(rows(back, "n"), back.layers[0].geometry, strict=True):
        vertices = [shapely.Point(c) for c in shapely.get_coordinates(shapes[n - 1]) if abs(c[1]) < 89.9]
        if not vertices:
            continue
        edge = shapely.boundary(shape) if shapely.get_dimensions(shape) == 2 else shape
        far = rows(do("nearest", layer_of(vertices), other=layer_of([edge], key="b"), fields=["kind"]), "distance_m")
        # what stands on 180 degrees may be inside what was joined there
        inner = [m for m, v in zip(far, vertices, strict=True) if abs(abs(v.x) - 180) > 1e-6]
        close("reproject", f"{THERE_AND_BACK}, corners", max(inner, default=0.0), 0.0, abs_=EXACT.get(crs, 1e-6), unit="m")
    gone = set(range(1, len(shapes) + 1)) - set(rows(back, "n"))
    for n in gone:  # only what reaches where the projection has no answer
        south, north = shapely.bounds(shapes[n - 1])[[1, 3]]
        assert max(abs(south), abs(north)) > 85, (crs, shapes[n - 1])


@settings(max_examples=examples(40))
@given(
    st.lists(st.tuples(st.integers(0, 90), st.integers(0, 90), st.integers(1, 60)), min_size=1, max_size=6),
    st.lists(st.tuples(st.integers(0, 90), st.integers(0, 90)), min_size=1, max_size=8),
    st.sampled_from(["intersects", "within", "touches", "disjoint"]),
)
def test_on_a_plane_as_asking_every_pair(boxes: list, points: list, relation: str) -> None:
    areas, dots = [shapely.box(x, y, x + s, y + s) for x, y, s in boxes], [shapely.Point(p) for p in points]
    ask = {"intersects": shapely.intersects, "within": shapely.covered_by, "touches": shapely.touches}
    held = [all(shapely.disjoint(d, a) for a in areas) if relation == "disjoint" else any(ask[relation](d, a) for a in areas) for d in dots]
    outcome = do("keep_by_place", layer_of(dots, UTM), to=layer_of(areas, UTM, "b"), relation=relation)
    same("keep_by_place", PLAIN, rows(outcome, "n"), [n for n, h in enumerate(held, 1) if h])
    assert outcome.inputs[0].used == sum(held) and len(outcome.inputs[0].set_aside) == len(held) - sum(held)
    near = rows(do("nearest", layer_of(dots, UTM), other=layer_of(areas, UTM, "b"), fields=["kind"]), "distance_m")
    close("nearest", PLAIN, near, [min(d.distance(a) for a in areas) for d in dots], abs_=1e-9, unit="m")
