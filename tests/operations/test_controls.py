"""Controls that prove: what they say is measured on the layer that leaves, and a wrong one does not pass.

Areas against pyclipper where a second engine is asked; the rest is plain geometry worked out by hand.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pyclipper
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st

from eskret.errors import AccountError
from eskret.operations import operation_by_id
from eskret.workflow.run.step import prove
from tests.operations.helpers import UTM, E, N, aside, do, layer_of, rows, said, square

BOW = shapely.Polygon([(E, N), (E + 100, N + 100), (E + 100, N), (E, N + 100)])
TWICE = shapely.MultiPolygon([square(0, 0, 100), square(50, 0, 100)])


def controls(outcome) -> dict[str, tuple[float, float]]:
    return {c.name: (c.expected, c.found) for o in outcome.outputs for c in o.controls}


def test_one_that_is_alone_in_its_group_is_mended_as_any_other() -> None:
    outcome = do("dissolve", layer_of([BOW, TWICE, square(500, 0)], g=["bow", "twice", "sound"]), by=["g"])
    assert shapely.is_valid(outcome.layers[0].geometry).all()
    assert dict(rows(outcome, "g") and zip(rows(outcome, "g"), shapely.area(outcome.layers[0].geometry), strict=True)) == {
        "bow": pytest.approx(5000),
        "sound": pytest.approx(1e6),
        "twice": pytest.approx(15_000),
    }
    assert "2 invalid shapes mended" in said(outcome) and "0.5 ha in all, counted once" in said(outcome)
    # in: the bow once mended, both squares of the other, and the sound one
    assert controls(outcome)["area with its overlap"] == pytest.approx(((5000 + 20_000 + 1e6) / 1e4,) * 2)


def test_lines_that_are_joined_keep_an_account_of_their_length() -> None:
    there, back = shapely.LineString([(E, N), (E + 20, N)]), shapely.LineString([(E + 30, N), (E + 10, N)])
    outcome = do("dissolve", layer_of([there, back], g=["a", "a"]), by=["g"])
    assert outcome.layers[0].geometry[0].length == 30
    assert "0.01 km in all, counted once" in said(outcome) and any(r.look for r in outcome.remarks)
    assert controls(outcome)["length with its overlap"] == pytest.approx((0.04, 0.04))


def test_a_cut_of_a_mended_shape_is_proved_too() -> None:
    clip = do("clip", layer_of([BOW, square(0, 0, 50)]), to=layer_of([shapely.box(E, N, E + 60, N + 200)]))
    assert "1 invalid shape mended" in said(clip)
    whole, found = controls(clip)["area"]
    assert whole == pytest.approx((5000 + 2500) / 1e4) and found == pytest.approx(whole)


def clipped_area(a: shapely.Geometry, b: shapely.Geometry) -> float:
    """The area that two shapes have in common, by pyclipper."""
    engine = pyclipper.Pyclipper()
    for shape, kind in ((a, pyclipper.PT_SUBJECT), (b, pyclipper.PT_CLIP)):
        engine.AddPath([(round((x - E) * 1000), round((y - N) * 1000)) for x, y in shape.exterior.coords[:-1]], kind, True)
    return sum(pyclipper.Area(p) for p in engine.Execute(pyclipper.CT_INTERSECTION)) / 1e6


@given(st.lists(st.tuples(st.integers(0, 900), st.integers(0, 900), st.integers(50, 900)), min_size=2, max_size=7), st.data())
def test_an_overlay_proves_both_sides_of_what_leaves(boxes: list[tuple[int, int, int]], data: st.DataObject) -> None:
    cut = data.draw(st.integers(1, len(boxes) - 1))
    mine, theirs = ([square(x, y, s) for x, y, s in some] for some in (boxes[:cut], boxes[cut:]))
    keep = data.draw(st.sampled_from(["both", "either", "one", "first"]))
    outcome = do("overlay", layer_of(mine), other=layer_of(theirs, key="b"), keep=keep)
    found = controls(outcome)
    assert found["area of a"][0] == pytest.approx(sum(s.area for s in mine) / 1e4)
    assert ("area of b" in found) == (keep in ("either", "one"))
    if keep == "both":
        by_hand = sum(clipped_area(a, b) for a in mine for b in theirs)
        assert shapely.area(outcome.layers[0].geometry).sum() == pytest.approx(by_hand, abs=1e-3)


def test_a_line_on_a_shared_edge_is_told_to_stand_twice() -> None:
    """7 km of roads, 2 of them on the edge of two areas: 9 km leave, and it is said why."""
    roads = layer_of([shapely.LineString([(E - 3500, N), (E, N), (E, N + 2000), (E + 1500, N + 2000)])], key="roads")
    areas = layer_of([shapely.box(E - 5000, N - 5000, E, N + 5000), shapely.box(E, N - 5000, E + 5000, N + 5000)], key="areas")
    outcome = do("overlay", roads, other=areas)
    assert sum(shapely.length(outcome.layers[0].geometry)) == 9000
    assert "2.0 km lie in more than one feature of 'areas'" in said(outcome) and any(r.look for r in outcome.remarks)
    assert controls(outcome)["length of roads"] == pytest.approx((7.0, 7.0))


def test_a_split_with_cutting_proves_what_leaves_and_gives_a_shared_border_to_the_first() -> None:
    areas = layer_of([shapely.box(E, N, E + 1000, N + 1000), shapely.box(E + 1000, N, E + 2000, N + 1000)], name=["west", "east"])
    lines = layer_of([shapely.LineString([(E + 500, N + 500), (E + 1000, N + 500), (E + 1000, N + 900), (E + 2500, N + 900)])])
    outcome = do("split_by_area", lines, areas=areas, name_field="name", across="cut")
    by = {x.key: float(shapely.length(x.geometry).sum()) for x in outcome.layers}
    assert by == {"west": pytest.approx(900), "east": pytest.approx(1000)}
    assert controls(outcome)["length"] == pytest.approx((2.4, 2.4)) and "went to the first" in said(outcome)
    over = layer_of([square(0, 0, 1000), square(500, 0, 1000)], name=["a", "b"])
    cut = do("split_by_area", layer_of([square(0, 0, 2000)]), areas=over, name_field="name", across="cut")
    assert [float(shapely.area(x.geometry).sum()) for x in cut.layers] == [1e6, 1e6] and "in more than one area" in said(cut)
    assert controls(cut)["area"] == pytest.approx((400.0, 400.0))
    points = do("split_by_area", layer_of([shapely.Point(E + 1000, N + 500)]), areas=areas, name_field="name", across="cut")
    assert [(x.key, len(x)) for x in points.layers] == [("west", 1), ("east", 0)]


@pytest.mark.parametrize(
    ("use", "settings"),
    [
        ("clip", {"to": "area"}),
        ("erase", {"by": "area"}),
        ("overlay", {"other": "area"}),
        ("dissolve", {"by": ["g"]}),
        ("split_by_area", {"areas": "area", "name_field": "g", "across": "cut"}),
        ("keep", {"where": "g = 'a'"}),
        ("gather_parts", {"by": ["g"]}),
        ("separate_parts", {}),
        ("buffer", {"distance": "10 m"}),
    ],
)
@pytest.mark.parametrize("crs", [UTM, "EPSG:4326"])
def test_a_wrong_layer_does_not_pass(use: str, settings: dict, crs: str) -> None:
    """The control fails where the shapes that leave are others than those that were worked on."""
    at = (E, N, 1000.0) if crs == UTM else (10.0, 50.0, 0.02)
    box = [shapely.box(at[0] + n * at[2], at[1], at[0] + (n + 1) * at[2], at[1] + at[2]) for n in range(4)]
    layer = layer_of(box, crs, g=["a", "a", "b", "b"])
    area = layer_of([shapely.box(at[0] + 0.5 * at[2], at[1] - at[2], at[0] + 2.5 * at[2], at[1] + 3 * at[2])], crs, g=["x"])
    outcome = do(use, layer, **{k: area if v == "area" else v for k, v in settings.items()})
    relation = operation_by_id(use).relation
    prove(outcome, relation)
    assert outcome.outputs[0].controls
    units = {c.unit for o in outcome.outputs for c in o.controls}
    assert not {u for u in units if "degree" in u}, "a figure in degrees is no figure that is shown"
    if use == "buffer":
        wrong = tuple(replace(c, found=c.found - 1) for c in outcome.outputs[0].controls)
        with pytest.raises(AccountError, match="features held"):
            prove(replace(outcome, outputs=(replace(outcome.outputs[0], controls=wrong),)), relation)
        return
    # the same step over shapes a tenth smaller tells other figures: a layer of those would not have been passed on
    small = layer.with_geometry(np.array([shapely.affinity.scale(s, 0.9, 0.9) for s in box], object))
    other = do(use, small, **{k: area if v == "area" else v for k, v in settings.items()})
    mixed = [replace(a, found=b.found) for a, b in zip(outcome.outputs[0].controls, other.outputs[0].controls, strict=True)]
    with pytest.raises(AccountError):
        prove(replace(outcome, outputs=(replace(outcome.outputs[0], controls=tuple(mixed)), *outcome.outputs[1:])), relation)


def test_a_total_that_jumps_over_a_new_system_is_told() -> None:
    iceland = layer_of([shapely.box(-20, 64, -19, 65)], "EPSG:4326")
    there = do("reproject", iceland, crs="EPSG:3857", tolerance="1 m")
    assert "the area is 535,7" in said(there) and "+437.4 %" in said(there) and any(r.look for r in there.remarks)
    equal = do("reproject", iceland, crs="EPSG:6933", tolerance="1 m")
    assert "before and" not in said(equal)


@pytest.mark.parametrize("lat", [0.0, 60.0])
def test_a_length_on_the_square_map_of_the_world_is_one_on_the_ground(lat: float) -> None:
    """At 60 degrees north a metre of that plane is half a metre: measured there only where that is asked for, and then told."""
    place = do("reproject", layer_of([shapely.Point(10, lat)], "EPSG:4326"), crs="EPSG:3857").layers[0]
    east = do("reproject", layer_of([shapely.Point(10.01, lat)], "EPSG:4326"), crs="EPSG:3857").layers[0]
    metres = 0.01 * 111_319.49 * np.cos(np.radians(lat))
    far = rows(do("nearest", place, other=east), "distance_m")[0]
    assert far == pytest.approx(metres, rel=5e-3)
    flat = do("nearest", place, other=east, along="planar")
    assert rows(flat, "distance_m")[0] == pytest.approx(1113.19, rel=1e-5)
    assert ("off by up to" in said(flat)) == (lat == 60.0)
    grown = do("buffer", place, distance="100 m")
    size = rows(do("measure", grown.layers[0], what=["area"], how="geodesic"), "area_ha")[0]
    assert size == pytest.approx(3.1365, rel=2e-3)
    for metres_, kept in ((far - 1, 0), (far + 1, 1)):
        assert len(do("keep_by_place", place, to=east, relation="near", distance=f"{metres_} m").layers[0]) == kept
    line = layer_of([shapely.LineString([place.geometry[0], east.geometry[0]])], "EPSG:3857")
    assert shapely.get_num_coordinates(do("densify", line, longest="100 m").layers[0].geometry[0]) == int(np.ceil(far / 100)) + 1
    bent = shapely.LineString([(0, 0), (500, 60), (1000, 0)])
    off = layer_of([shapely.affinity.translate(bent, *shapely.get_coordinates(place.geometry[0])[0])], "EPSG:3857")
    assert shapely.get_num_coordinates(do("simplify", off, tolerance="40 m").layers[0].geometry[0]) == (2 if lat else 3)
    assert shapely.get_num_coordinates(do("simplify", off, tolerance="40 m", along="planar").layers[0].geometry[0]) == 3
    ends = [[(0, 0), place.geometry[0].coords[0]], [east.geometry[0].coords[0], (9e6, 0)]]
    gap = do("find_gaps", layer_of([shapely.LineString(c) for c in ends], "EPSG:3857"))
    assert rows(gap, "gap_m")[0] == pytest.approx(far, rel=1e-9)
    way = do(
        "connect_points", layer_of([place.geometry[0], east.geometry[0], shapely.Point(3e6, 0)], "EPSG:3857"), gap_distance=f"{far + 1} m"
    )
    assert sum(aside(way).values()) == 1 and len(way.layers[0]) == 1
