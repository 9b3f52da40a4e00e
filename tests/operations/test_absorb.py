"""Small areas taken in by the neighbour with the longest common edge: against a plain way, and accounts of all that is drawn."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st

from tests.operations.helpers import E, N, do, layer_of, refused


def boxes(*corners: tuple[float, float, float, float]) -> list[shapely.Polygon]:
    return [shapely.box(E + a, N + b, E + c, N + d) for a, b, c, d in corners]


def test_a_sliver_goes_to_the_neighbour_with_the_longest_edge() -> None:
    shapes = boxes((0, 0, 100, 70), (100, 0, 200, 40), (100, 40, 102, 100), (300, 0, 301, 1), (102, 40, 200, 100))
    outcome = do("absorb", layer_of(shapes, n=[0, 1, 2, 3, 4], t=[10, 20, 3, 4, 50]), below="500 m2", add_up=["t"])
    (made,) = outcome.layers
    assert made.table.to_pylist() == [{"n": 0, "t": 10}, {"n": 1, "t": 20}, {"n": 3, "t": 4}, {"n": 4, "t": 53}]
    assert shapely.area(made.geometry).sum() == pytest.approx(shapely.area(shapes).sum())
    assert outcome.into.tolist() == [0, 1, 3, 2, 3], "30 m of edge with the first, 60 with the last"
    # of edges as long as each other, the larger neighbour has it
    even = boxes((0, 0, 50, 50), (50, 0, 51, 50), (51, 0, 100, 50))
    assert do("absorb", layer_of(even), below="60 m2").into.tolist() == [0, 0, 1]
    told = [r.text for r in outcome.remarks if r.text]
    assert told == ["1 small area taken in", "1 small area has no neighbour by an edge, and stayed"]


def test_only_neighbours_with_the_same_values_count() -> None:
    shapes = boxes((0, 0, 100, 100), (100, 0, 101, 100), (101, 0, 120, 50))
    made = do("absorb", layer_of(shapes, d=["a", "b", "b"]), below="200 m2", same=["d"]).layers[0]
    assert made.table.column("d").to_pylist() == ["a", "b"] and shapely.area(made.geometry).tolist() == [10_000, 1_050]
    # a corner is no edge
    corner = boxes((0, 0, 10, 10), (10, 10, 11, 11))
    assert len(do("absorb", layer_of(corner), below="5 m2").layers[0]) == 2


@given(
    widths=st.lists(st.integers(1, 12), min_size=2, max_size=6),
    heights=st.lists(st.integers(1, 12), min_size=1, max_size=5),
    least=st.sampled_from([5, 30, 80, 1_000]),
    values=st.lists(st.none() | st.integers(-5, 5), min_size=30, max_size=30),
)
def test_nothing_is_lost_and_nothing_small_stays_beside_a_neighbour(
    widths: list[int], heights: list[int], least: int, values: list[int | None]
) -> None:
    x, y = np.concatenate([[0], np.cumsum(widths)]), np.concatenate([[0], np.cumsum(heights)])
    shapes = boxes(*[(x[i], y[j], x[i + 1], y[j + 1]) for i in range(len(widths)) for j in range(len(heights))])
    layer = layer_of(shapes, n=list(range(len(shapes))), t=pa.array(values[: len(shapes)], pa.int64()))
    outcome = do("absorb", layer, below=f"{least} m2", add_up=["t"])
    (made,) = outcome.layers
    assert shapely.area(made.geometry).sum() == pytest.approx(x[-1] * y[-1]) and shapely.is_valid(made.geometry).all()
    assert (shapely.area(made.geometry) >= least - 1e-6).all() or len(made) == 1
    assert sum(v or 0 for v in made.table.column("t").to_pylist()) == sum(v or 0 for v in values[: len(shapes)])
    for n, shape in enumerate(shapes):
        assert shapely.covers(made.geometry[outcome.into[n]].buffer(1e-6), shape)
    kept = made.table.column("n").to_pylist()
    assert all(outcome.into[n] == place for place, n in enumerate(kept)), "each keeps the fields of the one that took in"


def test_what_it_cannot_be_done_with_is_refused() -> None:
    assert "only areas" in refused("absorb", layer_of([shapely.Point(E, N)]), below="1 m2")
    assert "holds no numbers" in refused("absorb", layer_of(boxes((0, 0, 1, 1)), k=["a"]), below="1 m2", add_up=["k"])
