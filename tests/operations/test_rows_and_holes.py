"""Holes filled, rows taken by place, columns to rows, coordinate systems declared: against plain ways to do the same."""

from __future__ import annotations

import random

import duckdb
import geopandas
import numpy as np
import pyarrow as pa
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st

from eskret.errors import AccountError
from eskret.operations.shape import fill_holes
from tests.operations.helpers import UTM, E, N, do, layer_of, refused, table_of


def ring(x: float, *holes: float) -> shapely.Polygon:
    """A square of 100 m with a square hole for each of these sizes, side by side."""
    out, at = shapely.box(E + x, N, E + x + 100, N + 100), E + x + 1
    for size in holes:
        out, at = out.difference(shapely.box(at, N + 1, at + size, N + 1 + size)), at + size + 1
    return out


def test_holes_up_to_a_size_are_filled_and_told() -> None:
    layer = layer_of([ring(0, 10.0, 30.0), ring(200), ring(400, 5.0), None])
    outcome = do("fill_holes", layer, largest="200 m2")
    made = outcome.layers[0].geometry
    assert shapely.area(made[:3]).tolist() == [10_000 - 900, 10_000, 10_000]
    assert [len(g.interiors) for g in made[:3]] == [1, 0, 0] and made[3] is None
    (altered,) = outcome.inputs[0].altered
    assert altered.rows.tolist() == [0, 2] and altered.amounts == pytest.approx([0.01, 0.0025]) and altered.unit == "ha"
    assert altered.where is not None and altered.where[1].tolist() == [E + 401, N + 1, E + 406, N + 6], "where its hole was"
    told = " ".join(r.text for r in outcome.remarks)
    assert "2 holes filled" in told and "0.0125 ha" in told and "1 hole stayed" in told


def test_without_a_size_all_holes_go_as_the_outer_ring_alone_says() -> None:
    """OGC 06-103r4, 6.1.11: a polygon is its exterior boundary and none or more interior ones; without those it is filled."""
    layer = layer_of([ring(0, 10.0, 30.0), shapely.union_all([ring(200, 5.0), ring(400, 7.0)])])
    made = do("fill_holes", layer).layers[0].geometry
    plain = [
        shapely.Polygon(layer.geometry[0].exterior),
        shapely.MultiPolygon([shapely.Polygon(g.exterior) for g in layer.geometry[1].geoms]),
    ]
    assert shapely.equals(made, plain).all() and made[1].geom_type == "MultiPolygon"


def test_an_island_in_a_lake_that_is_filled_is_not_counted_twice() -> None:
    lake = ring(0, 50.0)
    island = shapely.box(E + 10, N + 10, E + 20, N + 20)
    outcome = do("fill_holes", layer_of([shapely.MultiPolygon([lake, island])]))
    (made,) = outcome.layers[0].geometry
    assert made.is_valid and made.area == 10_000
    assert outcome.inputs[0].altered[0].amounts == pytest.approx([0.24]), "what the feature gained, without what the island was already"


@pytest.mark.parametrize("island", [False, True])
def test_a_hole_that_is_not_filled_is_not_balanced(island: bool, monkeypatch: pytest.MonkeyPatch) -> None:
    lake = ring(0, 50.0)
    shape = shapely.MultiPolygon([lake, shapely.box(E + 10, N + 10, E + 20, N + 20)]) if island else lake
    monkeypatch.setattr(fill_holes, "_without", lambda parts, *_: parts)
    with pytest.raises(AccountError):
        do("fill_holes", layer_of([shape]))


def test_holes_are_of_areas_and_a_size_of_the_ground() -> None:
    assert "only areas have holes" in refused("fill_holes", layer_of([shapely.Point(E, N)]))
    assert "coordinate system" in refused("fill_holes", layer_of([ring(0, 5.0)], crs=None), largest="5 m2")


@given(
    groups=st.lists(st.integers(0, 3), min_size=1, max_size=30),
    number=st.integers(1, 6),
    which=st.sampled_from(["first", "every", "random"]),
    seed=st.integers(0, 9),
)
def test_rows_are_taken_of_each_group_by_their_place(groups: list[int], number: int, which: str, seed: int) -> None:
    layer = table_of(n=range(len(groups)), g=groups)
    settings = {"which": which, "number": number, "within": ["g"], "seed": seed}
    outcome = do("take_rows", layer, **settings)
    (made,), (account,) = outcome.layers, outcome.inputs
    rows = made.table.column("n").to_pylist()
    assert len(account.set_aside) == len(groups) - len(rows) and rows == sorted(rows)
    for group in set(groups):
        there = [n for n, g in enumerate(groups) if g == group]
        mine = [n for n in rows if groups[n] == group]
        expected = {"first": there[:number], "every": there[::number]}
        assert mine == expected[which] if which in expected else len(mine) == min(number, len(there))
    assert do("take_rows", layer, **settings).layers[0].table.equals(made.table), "the same seed draws the same"


def test_every_row_is_drawn_as_often_as_any_other() -> None:
    """3,000 draws of 3 from 9: each is expected 1,000 times; five deviations are 5·√(3000·⅓·⅔) = 129."""
    seeds = random.Random(5).sample(range(100_000), 3_000)
    times = np.zeros(9, int)
    layer = table_of(n=range(9))
    for seed in seeds:
        times[do("take_rows", layer, which="random", number=3, seed=seed).layers[0].table.column("n").to_numpy()] += 1
    assert times.sum() == 9_000 and (np.abs(times - 1_000) < 129).all()


def test_fewer_rows_than_asked_for_are_told() -> None:
    told = [r.text for r in do("take_rows", table_of(n=range(3)), number=5).remarks]
    assert any("there are only 3" in one for one in told)


CELLS = st.lists(st.tuples(st.sampled_from("abc"), *[st.none() | st.integers(-9, 9)] * 3), min_size=1, max_size=12)


@given(rows=CELLS, empty=st.sampled_from(["keep", "drop"]))
def test_columns_become_rows_as_in_a_database(rows: list[tuple], empty: str) -> None:
    """Against the UNPIVOT of DuckDB, which is documented as the reverse of its PIVOT."""
    columns = ["mussel", "oyster", "kelp"]
    wide = pa.table({"bay": [r[0] for r in rows], **{c: pa.array([r[i + 1] for r in rows], pa.int64()) for i, c in enumerate(columns)}})
    outcome = do("unpivot", table_of(**{n: wide.column(n) for n in wide.column_names}), columns=columns, empty=empty)
    nulls = "INCLUDE NULLS" if empty == "keep" else ""
    assert len(wide) == len(rows), "it is queried by its name"
    plain = duckdb.sql(f"SELECT * FROM wide UNPIVOT {nulls} (value FOR name IN (mussel, oyster, kelp))")
    assert sorted(map(repr, outcome.layers[0].table.to_pylist())) == sorted(map(repr, plain.to_arrow_table().to_pylist()))


@given(rows=CELLS)
def test_a_pivot_of_columns_turned_to_rows_gives_the_table_back(rows: list[tuple]) -> None:
    columns = ["mussel", "oyster", "kelp"]
    there = [(n, *r[1:]) for n, r in enumerate(rows) if any(v is not None for v in r[1:])]
    table = table_of(n=range(len(rows)), **{c: pa.array([r[i + 1] for r in rows], pa.int64()) for i, c in enumerate(columns)})
    long = do("unpivot", table, columns=columns, name_field="species", value_field="tonnes")
    (account,) = long.inputs
    assert len(account.set_aside) == len(rows) - len(there), "rows without any value are set aside"
    if not there:
        return
    wide = do("pivot", long.layers[0], by=["n"], columns="species", cell="sum tonnes").layers[0].table.to_pylist()
    assert [tuple(row.get(c) for c in ("n", *columns)) for row in wide] == there


def test_columns_of_different_kinds_become_text_and_it_is_said() -> None:
    table = table_of(name=["taken"], a=[1], b=["x"], c=pa.array([[1, 2]]))
    outcome = do("unpivot", table, columns=["a", "b"], empty="keep")
    made = outcome.layers[0].table
    assert made.column_names == ["name", "c", "name_2", "value"] and made.column("value").to_pylist() == ["1", "x"]
    assert any(r.look and "became text" in r.text for r in outcome.remarks)
    assert "lists and bytes make no text" in refused("unpivot", table, columns=["a", "c"])
    assert "named twice" in refused("unpivot", table, columns=["a", "a"])
    large = do("unpivot", table_of(a=[2**53 + 2], b=[0.5]), columns=["a", "b"])
    assert any("were rounded" in r.text for r in large.remarks)


@pytest.mark.parametrize(
    ("declares", "which", "expected"), [(None, "missing", "EPSG:32627"), (UTM, "missing", UTM), (UTM, "all", "EPSG:32627")]
)
def test_a_system_is_declared_and_nothing_moves(declares: str | None, which: str, expected: str) -> None:
    layer = layer_of([shapely.Point(E, N), None], crs=declares)
    outcome = do("declare_crs", layer, crs="EPSG:32627", which=which)
    (made,) = outcome.layers
    assert made.crs == expected and shapely.to_wkb(made.geometry[:1]) == shapely.to_wkb(layer.geometry[:1])
    assert any(r.look for r in outcome.remarks) == (which == "all"), "what is overruled asks for a look"
    plain = geopandas.GeoSeries(layer.geometry, crs=declares).set_crs(expected, allow_override=True)
    assert plain.crs == made.crs and shapely.equals(plain.iloc[0], made.geometry[0])


def test_what_cannot_be_degrees_is_not_declared_as_such() -> None:
    assert "cannot be degrees" in refused("declare_crs", layer_of([shapely.Point(E, N)], crs=None), crs="EPSG:4326")
