"""Cutting and joining against an engine unrelated to GEOS (pyclipper, Vatti's algorithm), and the accounts of it."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pyclipper
import pytest
import shapely
from hypothesis import Phase, given, settings
from hypothesis import strategies as st

from eskret.core.geometry.cut import cut
from eskret.core.geometry.dissolve import dissolve
from tests.exact import OTHER_ENGINE, close
from tests.length import examples
from tests.operations.helpers import E, N, aside, do, layer_of, refused, rows, said, square, table_of

SCALE = 1e6
"""Whole numbers a metre, for the other engine has no others."""


@st.composite
def stars(draw: st.DrawFn) -> shapely.Geometry:
    """A polygon about a middle, with dents, never crossing itself; sometimes with a hole."""
    x, y = draw(st.integers(0, 4000)), draw(st.integers(0, 4000))
    radii = draw(st.lists(st.integers(200, 1500), min_size=3, max_size=11))
    angle = np.linspace(0, 2 * np.pi, len(radii) + 1)[:-1]
    ring = np.c_[E + x + radii * np.cos(angle), N + y + radii * np.sin(angle)].round(3)
    whole = shapely.Polygon(ring)
    if not whole.is_valid or whole.area < 1000:
        whole = shapely.box(E + x, N + y, E + x + 700, N + y + 300)
    hole = shapely.Point(whole.representative_point()).buffer(draw(st.sampled_from([0, 30, 60])), 3)
    return whole.difference(hole) if hole.area and whole.contains(hole) else whole


def paths(shape: shapely.Geometry) -> list:
    """Rings as the other engine has them: whole numbers, shells one way and holes the other."""
    out = []
    for part in shapely.get_parts(shapely.orient_polygons(shape)):
        for ring in [part.exterior, *part.interiors]:
            xy = (shapely.get_coordinates(ring)[:-1] - [E, N]) * SCALE
            out.append([(int(x), int(y)) for x, y in xy.round()])
    return out


def other_engine(kind: int, subject: list, clip: list) -> float:
    """Area in square metres by the other engine."""
    pc = pyclipper.Pyclipper()
    for shapes, role in ((subject, pyclipper.PT_SUBJECT), (clip, pyclipper.PT_CLIP)):
        flat = [p for s in shapes for p in paths(s)]
        if flat:
            pc.AddPaths(flat, role, True)
    found = pc.Execute(kind, pyclipper.PFT_NONZERO, pyclipper.PFT_NONZERO)
    return sum(pyclipper.Area(p) for p in found) / SCALE**2


def area(outcome) -> float:
    return float(sum(np.nansum(shapely.area(x.geometry)) for x in outcome.layers))


@settings(max_examples=examples(40), phases=(Phase.explicit, Phase.generate))
@given(st.lists(stars(), min_size=1, max_size=6), st.lists(stars(), min_size=1, max_size=3))
def test_areas_agree_with_another_engine(shapes: list, areas: list) -> None:
    layer, other = layer_of(shapes), layer_of(areas, key="x")
    whole = sum(s.area for s in shapes)
    # the other engine rounds to a millionth of a metre
    one_by_one = sum(other_engine(pyclipper.CT_INTERSECTION, [s], areas) for s in shapes)

    def agrees(use: str, found: float, wanted: float) -> None:
        close(use, OTHER_ENGINE, found, wanted, abs_=max(1e-6 * wanted, 0.1), unit="m²")

    agrees("clip", area(do("clip", layer, to=other)), one_by_one)
    agrees("erase", area(do("erase", layer, by=other)), whole - one_by_one)
    dissolved = do("dissolve", layer, by=[])
    agrees("dissolve", area(dissolved), other_engine(pyclipper.CT_UNION, shapes, []))
    apart = do("dissolve", layer, by=[], parts="apart")
    assert area(apart) == pytest.approx(area(dissolved), rel=1e-9) and sum(rows(apart, "features")) == len(shapes)
    pairs = sum(other_engine(pyclipper.CT_INTERSECTION, [s], [a]) for s in shapes for a in areas)
    agrees("overlay", area(do("overlay", layer, other=other)), pairs)
    agrees("overlay", area(do("overlay", layer, other=other, keep="first")), pairs + whole - one_by_one)
    theirs = sum(a.area - other_engine(pyclipper.CT_INTERSECTION, [a], shapes) for a in areas)
    agrees("overlay", area(do("overlay", layer, other=other, keep="one")), whole - one_by_one + theirs)
    agrees("overlay", area(do("overlay", layer, other=other, keep="either")), pairs + whole - one_by_one + theirs)


def test_clip_keeps_whole_cuts_and_sets_aside_each_with_its_reason() -> None:
    shapes = [
        square(0, 0, 100),
        square(950, 0, 100),
        square(1000, 200, 100),
        square(5000, 0),
        None,
        shapely.LineString([(E + 900, N + 500), (E + 1500, N + 500)]),
        shapely.Point(E + 1000, N + 5),
        shapely.LineString([(E + 1000, N + 600), (E + 1200, N + 600)]),
    ]
    outcome = do("clip", layer_of(shapes), to=layer_of([square(0, 0)], key="x"))
    assert rows(outcome, "n") == [0, 1, 5, 6], "a point on the edge is inside"
    assert aside(outcome) == {"lies outside the area": 1, "only touches the edge of the area": 2, "has no geometry": 1}
    assert outcome.layers[0].geometry[2].length == 100 and outcome.layers[0].geometry[1].area == 5000
    (altered,) = outcome.inputs[0].altered
    assert altered.rows.tolist() == [1, 5] and len(altered.amounts) == 2
    whole = do("clip", layer_of(shapes), to=layer_of([square(0, 0)], key="x"), edge="whole")
    assert rows(whole, "n") == [0, 1, 5, 6] and whole.layers[0].geometry[1].area == 10_000 and not whole.inputs[0].altered


def test_what_stays_whole_stays_as_it_is_also_where_it_crosses_itself() -> None:
    crossing = shapely.Polygon([(E + 900, N), (E + 1100, N + 200), (E + 1100, N), (E + 900, N + 200)])
    outcome = do("clip", layer_of([square(0, 0, 100), crossing]), to=layer_of([square(0, 0)], key="x"), edge="whole")
    assert rows(outcome, "n") == [0, 1] and outcome.layers[0].geometry[1].equals_exact(crossing, 0.0)
    assert not any("mended" in r.text for r in outcome.remarks)
    cut = do("clip", layer_of([crossing]), to=layer_of([square(0, 0)], key="x"))
    assert cut.layers[0].geometry[0].is_valid and "1 invalid shape mended to be cut" in said(cut)


def test_what_is_erased_wholly_lies_inside_also_where_it_shares_the_edge() -> None:
    shapes = [square(0, 0, 100), square(300, 300, 100), square(1000, 0, 100), shapely.Point(E + 1000, N + 5)]
    outcome = do("erase", layer_of(shapes), by=layer_of([square(0, 0)], key="x"))
    assert rows(outcome, "n") == [2] and aside(outcome) == {"lies inside the area": 3}


def test_slivers_are_left_out_by_area_and_by_length() -> None:
    shapes = [square(999.9, 0, 500), square(500, 0, 300), shapely.MultiPolygon([square(999.99, 100, 9), square(10, 10, 9)])]
    outcome = do("clip", layer_of(shapes), to=layer_of([square(0, 0)], key="x"), sliver="60 m2")
    assert aside(outcome) == {"only a piece smaller than 60 m2 is left of it": 1}
    assert outcome.layers[0].geometry[1].area == pytest.approx(81) and "60 m2" in outcome.inputs[0].altered[1].what
    line = shapely.LineString([(E + 999, N + 5), (E + 2000, N + 5)])
    gone = do("clip", layer_of([line]), to=layer_of([square(0, 0)], key="x"), sliver="2 m")
    assert len(gone.layers[0]) == 0 and "nothing lies inside" in said(gone)


def test_the_index_and_the_grid_change_nothing() -> None:
    """What a grid of cells and boxes tell at once is what the shapes themselves say."""
    rng = np.random.default_rng(4)
    angle = np.linspace(0, 2 * np.pi, 700)
    r = 3000 + 700 * np.sin(9 * angle)
    area_ = shapely.Polygon(
        np.c_[5000 + r * np.cos(angle), 5000 + r * np.sin(angle)], [shapely.Point(5000, 5000).buffer(400).exterior.coords]
    )
    xy = rng.uniform(0, 10_000, (6000, 2))
    shapes = shapely.box(xy[:, 0], xy[:, 1], xy[:, 0] + rng.uniform(1, 300, 6000), xy[:, 1] + 90)
    found = cut(shapely.bounds(shapes), lambda rows: shapes[rows], area_)
    assert (found.within == shapely.contains_properly(area_, shapes)).all()
    assert (found.apart == ~shapely.intersects(area_, shapes)).all()
    assert np.nansum(shapely.area(found.inside)) == pytest.approx(shapely.area(shapely.intersection(shapes[found.edge], area_)).sum())


def test_neighbours_that_lie_on_each_other_are_told_and_counted_once() -> None:
    """The quick way joins shared edges; two overlapping squares come out of it invalid, with the overlap twice."""
    quick = shapely.coverage_union_all([square(0, 0), square(500, 0)])
    assert not quick.is_valid or quick.area != pytest.approx(1_500_000)
    outcome = do("dissolve", layer_of([square(0, 0), square(500, 0), square(500, 0), square(9000, 0)]), by=[])
    assert area(outcome) == 2_500_000 and "lie on each other, 150.0 ha in all" in said(outcome)
    control = outcome.outputs[0].controls[0]
    assert control.expected == 400 and control.found == 400
    nested = do("dissolve", layer_of([square(0, 0), square(100, 100, 10)]), by=[])
    assert area(nested) == 1_000_000


def test_dissolving_1405_areas_into_5_keeps_every_total() -> None:
    """Facts of the trade (common practice): the total of every summed field and the total area stay."""
    rng = np.random.default_rng(2)
    x, y = np.divmod(np.arange(1405), 40)
    shapes = shapely.box(E + x * 50.0, N + y * 50, E + x * 50 + 50, N + y * 50 + 50)
    layer = layer_of(
        shapes, group=[f"G{k}" for k in rng.integers(0, 5, 1405)], tonnes=rng.integers(0, 99, 1405), depth=rng.uniform(0, 30, 1405)
    )
    outcome = do("dissolve", layer, by=["group"], figures={"tonnes": "sum tonnes", "n": "count", "deep": "max depth", "d": "sum depth"})
    assert rows(outcome, "group") == ["G0", "G1", "G2", "G3", "G4"] and sum(rows(outcome, "n")) == 1405
    assert sum(rows(outcome, "tonnes")) == sum(layer.table.column("tonnes").to_pylist())
    assert area(outcome) == pytest.approx(1405 * 2500) and max(rows(outcome, "deep")) == max(layer.table.column("depth").to_pylist())
    assert [c.name for c in outcome.outputs[0].controls] == ["area with its overlap", "sum of tonnes", "sum of depth"]


def test_groups_without_a_value_holes_and_parts() -> None:
    ring = [
        square(0, 0),
        square(1000, 0),
        square(2000, 0),
        square(0, 1000),
        square(2000, 1000),
        square(0, 2000),
        square(1000, 2000),
        square(2000, 2000),
    ]
    layer = layer_of([*ring, square(9000, 9000)], name=["a"] * 7 + [None, "a"], n=[1] * 9)
    outcome = do("dissolve", layer, by=["name"], figures={"n": "sum n"})
    assert aside(outcome) == {"has no value in name": 1} and rows(outcome, "name", "n") == [("a", 8)]
    kept = do("dissolve", layer, by=["name"], empty="group")
    assert rows(kept, "name") == ["a", None]
    closed = layer_of([*ring, square(9000, 9000)], n=[1] * 9)
    whole = do("dissolve", closed, by=[], parts="apart", figures={"n": "sum n"})
    assert rows(whole, "n") == [8, 1] and "1 hole between features, the largest 100.0 ha" in said(whole)
    spans = layer_of([shapely.MultiPolygon([square(0, 0), square(5000, 0)]), square(6000, 0)], n=[3, 4])
    assert rows(do("dissolve", spans, by=[], parts="apart", figures={"n": "sum n"}), "n") == [7], "one member in both places"


def test_invalid_members_and_lines() -> None:
    bow = shapely.Polygon([(E, N), (E + 100, N + 100), (E + 100, N), (E, N + 100)])
    outcome = do("dissolve", layer_of([bow, square(0, 0, 50)]), by=[])
    assert outcome.layers[0].geometry[0].is_valid and "1 invalid shape mended" in said(outcome)
    parts = [shapely.LineString([(E, N), (E + 10, N)]), shapely.LineString([(E + 10, N), (E + 20, N)])]
    assert do("dissolve", layer_of(parts), by=[]).layers[0].geometry[0].equals(shapely.LineString([(E, N), (E + 20, N)]))
    found = dissolve(np.array([], object), lambda g: np.empty(0, np.int64), 0)
    assert len(found.geometry) == 0


def test_split_names_layers_by_the_rule_and_numbers_what_comes_out_the_same() -> None:
    values = ["Bed 1", "bed/1", "Bed 2", None, "  ", "???", "Nørd"]
    layer = layer_of([square(0, 0)] * 7, name=values, n=list(range(7)))
    outcome = do("split", layer, by=["name"])
    assert [x.key for x in outcome.layers] == ["bed_1", "bed_2", "nord", "bed_1_2"]
    assert [x.name for x in outcome.layers] == ["Bed 1", "Bed 2", "Nørd", "bed/1"], "the value as it stands stays beside"
    assert aside(outcome) == {"has no value in name": 1, "its value holds no letter or digit to make a name of": 2}
    named = do("split", layer, by=["name"], empty_as="unnamed", name="beds_{value}")
    assert "beds_unnamed" in [x.key for x in named.layers] and sum(map(len, named.layers)) == 5
    two = do("split", layer_of([square(0, 0)] * 4, a=["x", "x", "y", "y"], b=[1, 2, 1, 1]), by=["a", "b"])
    assert [(x.key, len(x)) for x in two.layers] == [("x_1", 1), ("x_2", 1), ("y_1", 2)]


def test_split_by_area_by_centre_most_and_cut() -> None:
    districts = layer_of([square(0, 0), square(1000, 0)], key="d", name=["West", "East"])
    beds = layer_of([square(100, 100, 100), square(940, 100, 100), square(980, 300, 100), square(5000, 0), None])
    sizes = {x.key: len(x) for x in do("split_by_area", beds, areas=districts, name_field="name").layers}
    assert sizes == {"west": 2, "east": 1}
    cut_ = do("split_by_area", beds, areas=districts, name_field="name", across="cut")
    assert {x.key: len(x) for x in cut_.layers} == {"west": 3, "east": 2} and area(cut_) == pytest.approx(30_000)
    assert aside(cut_) == {"lies in no area": 1, "has no geometry": 1}
    on_each_other = layer_of([square(0, 0), square(0, 0)], key="d", name=["a", "b"])
    outcome = do("split_by_area", beds, areas=on_each_other, name_field="name")
    assert "lie in more than one area" in said(outcome) and [len(x) for x in outcome.layers] == [2, 0]


def test_merge_brings_fields_types_and_systems_together() -> None:
    a = layer_of([shapely.Point(E, N)], key="a", n=[1], kind=["x"])
    b = layer_of([shapely.Point(-26.2, 46.95)], "EPSG:4326", "b", n=[2.5], depth=[3])
    outcome = do("merge", [a, b])
    assert outcome.layers[0].table.to_pylist() == [
        {"layer": "a", "n": 1.0, "kind": "x", "depth": None},
        {"layer": "b", "n": 2.5, "kind": None, "depth": 3},
    ]
    assert outcome.layers[0].crs == "EPSG:32626" and 500_000 < outcome.layers[0].geometry[1].x < 600_000
    assert rows(do("merge", [a, b], fields="common", source=""), "n") == [1.0, 2.5]
    texts = do("merge", [table_of(n=[1]), table_of("u", n=["x"])])
    assert rows(texts, "n") == ["1", "x"] and "'n' is whole number and text, and becomes text" in said(texts)


def test_a_table_or_a_point_is_refused_where_areas_are_wanted() -> None:
    points = layer_of([shapely.Point(E, N)], key="p")
    assert "holds points; areas are wanted here" in refused("clip", layer_of([square(0, 0)]), to=points)
    assert "a table has no place" in refused("clip", table_of(n=[1]), to=layer_of([square(0, 0)], key="x"))
    assert "no coordinate system" in refused("erase", layer_of([square(0, 0)], None), by=layer_of([square(0, 0)], key="x"))
    assert "there is no field 'nome'" in refused("split", layer_of([square(0, 0)]), by=["nome"])


kinds = st.lists(st.sampled_from(["a", "b", "A", "ä", None, ""]), min_size=1, max_size=30)


@given(kinds, st.booleans())
def test_split_and_merge_lose_nothing(values: list, keep_empty: bool) -> None:
    layer = Layer_of_table(values)
    outcome = do("split", layer, by=["v"], empty_as="none" if keep_empty else "")
    left = sum(map(len, outcome.layers)) + len(outcome.inputs[0].set_aside)
    assert left == len(values) and len({x.key for x in outcome.layers}) == len(outcome.layers)
    if outcome.layers:
        back = do("merge", list(outcome.layers))
        assert sorted(rows(back, "n")) == sorted(n for x in outcome.layers for n in x.table.column("n").to_pylist())


def Layer_of_table(values: list):
    return table_of(v=pa.array(values, pa.string()), n=list(range(len(values))))
