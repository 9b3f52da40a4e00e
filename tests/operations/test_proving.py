"""Gaps found and closed, checks that stop a run, what changed between two layers."""

from __future__ import annotations

from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st

from eskret import Workflow, write
from eskret.core.geometry.line_gaps import enclose, ends_of, proposed
from tests.operations.helpers import E, N, aside, do, layer_of, rows, said, square, table_of


def outline(gap: float, radius: float = 7_000, pieces: int = 1) -> list:
    """A ring some 44 km around, open by a gap, in one line or several."""
    angle = np.linspace(gap / radius, 2 * np.pi, 4000)
    xy = np.c_[E + radius * np.cos(angle), N + radius * np.sin(angle)]
    cuts = np.linspace(0, len(xy) - 1, pieces + 1).astype(int)
    return [shapely.LineString(xy[a : b + 1]) for a, b in pairwise(cuts)]


@pytest.mark.parametrize("pieces", [1, 5])
def test_a_gap_of_half_a_metre_in_44_km_stops_a_polygon_and_a_metre_closes_it(pieces: int) -> None:
    """A fact of the trade (common practice); and the tolerance closes nothing else."""
    other = shapely.LineString([(E + 20_000, N), (E + 21_000, N), (E + 21_000, N + 50), (E + 20_000, N + 50)])
    layer = layer_of([*outline(0.48, pieces=pieces), other])
    gaps = do("find_gaps", layer)
    assert rows(gaps, "gap_m")[0] == pytest.approx(0.48, abs=1e-3) and rows(gaps, "gap_m")[1] == 50
    assert gaps.layers[0].geometry[0].length == pytest.approx(0.48, abs=1e-3)
    assert "a tolerance of 1.0 m would close 1 of 2; the next is 50.0 m wide" in said(gaps)
    still = do("enclose", layer)
    assert len(still.layers[0]) == 0
    closed = do("enclose", layer, tolerance="1 m")
    assert closed.layers[0].geometry[0].area == pytest.approx(np.pi * 7000**2, rel=1e-5)
    assert aside(closed) == {"stays open: its ends are 50.0 m apart": 1}
    (moved,) = closed.inputs[0].altered
    assert moved.amounts.max() == pytest.approx(0.24, abs=1e-3) and moved.unit == "m"
    both = do("enclose", layer, tolerance="60 m")
    assert len(both.layers[0]) == 2


def test_nothing_moves_further_than_half_the_tolerance_and_only_ends_do() -> None:
    ring = outline(0.9, 50)
    found = enclose(ends_of(np.array(ring, object)), 1.0)
    assert found.by.max() <= 0.5
    before, after = shapely.get_coordinates(ring[0])[1:-1], shapely.get_coordinates(found.polygons[0])[1:-1]
    assert (before == after).all()


@given(st.lists(st.floats(0.01, 1000), min_size=1, max_size=12))
def test_the_tolerance_proposed_closes_the_smallest_gap(gaps: list[float]) -> None:
    sizes = np.sort(np.array(gaps))
    tolerance = proposed(sizes)
    assert tolerance is not None and tolerance >= sizes[0]
    closed = sizes <= tolerance
    if not closed.all():
        assert sizes[~closed].min() / sizes[closed].max() >= 1.7, "it lies in a jump"


def test_lines_that_meet_in_threes_enclose_faces_and_points_name_them() -> None:
    a, b, c, d = (E, N), (E + 100, N), (E + 100, N + 100), (E, N + 100)
    lines = layer_of([shapely.LineString([a, b]), shapely.LineString([b, c, d]), shapely.LineString([d, a]), shapely.LineString([b, d])])
    names = layer_of(
        [shapely.Point(E + 10, N + 10), shapely.Point(E + 90, N + 90), shapely.Point(E + 95, N + 90), shapely.Point(0, 0)],
        key="p",
        name=["low", "high", "again", "off"],
    )
    outcome = do("enclose", lines, points=names)
    assert sorted(rows(outcome, "name")) == ["high", "low"] and shapely.area(outcome.layers[0].geometry).tolist() == [5000, 5000]
    assert "1 area with several points within" in said(outcome) and aside(outcome, 1) == {"lies in no area, or not as the first": 2}


def test_checks_stop_a_run_with_what_offends_and_nothing_is_written(tmp_path: Path) -> None:
    write(layer_of([square(0, 0), square(500, 0), square(5000, 0)], key="beds", bed=["a", "a", None], t=[1, 2, 3]), tmp_path / "beds.gpkg")
    workflow = Workflow()
    beds = workflow.load("in", files=[str(tmp_path / "beds.gpkg")])
    checked = workflow.check("key", beds, that="unique", fields=["bed"])
    workflow.save("out", checked, to="out.gpkg")
    workflow.write(tmp_path / "w.toml")
    result = workflow.run()
    assert result.state == "failed" and result.unmet and not (tmp_path / "out.gpkg").exists()
    assert "beds: 3 features have no bed of their own" in result.error
    assert result.steps[1].state == "failed" and result.steps[1].inputs[0].altered[0].rows.tolist() == [0, 1, 2]


@pytest.mark.parametrize(
    ("settings", "holds", "words"),
    [
        ({"that": "count", "least": 3, "most": 3}, True, "3 features"),
        ({"that": "count", "least": 4}, False, "4 or more are wanted"),
        ({"that": "filled", "fields": ["bed"]}, False, "1 feature empty in bed (1)"),
        ({"that": "valid"}, True, "all shapes are valid"),
        ({"that": "condition", "where": "t < 3"}, False, "does not hold for 1 feature"),
        ({"that": "overlaps"}, False, "1 pair of areas lie on each other, 50.0 ha in all"),
        ({"that": "gaps"}, True, "no gaps"),
    ],
)
def test_what_a_check_finds(settings: dict, holds: bool, words: str) -> None:
    layer = layer_of([square(0, 0), square(500, 0), square(5000, 0)], bed=["a", "a", None], t=[1, 2, 3])
    outcome = do("check", layer, otherwise="look", **settings)
    assert words in said(outcome) and outcome.remarks[0].look is not holds and len(outcome.layers[0]) == 3


def test_checks_against_another_layer_and_gaps_between_areas() -> None:
    layer = layer_of([square(0, 0), square(1000, 0), square(1800, 0)], t=[1, 2, 3])
    inside = do("check", layer, that="inside", other=layer_of([square(0, 0, 2000)], key="x"), otherwise="look")
    assert "1 feature reach out of 'x'" in said(inside) and inside.inputs[0].altered[0].rows.tolist() == [2]
    agree = do("check", layer, that="totals", fields=["t"], other=do("dissolve", layer, figures={"t": "sum t"}).layers[0])
    assert "t agree" in said(agree)
    off = do("check", layer, that="totals", other=layer_of([square(0, 0)], key="x", t=[6]), otherwise="look")
    assert "number is 3 and should be 1" in said(off)
    ring = [square(x, y) for x in (0, 1000, 2000) for y in (0, 1000, 2000) if (x, y) != (1000, 1000)]
    gap = do("check", layer_of(ring), that="gaps", otherwise="look")
    assert "1 gap between areas, 100.0 ha" in said(gap) and len(gap.inputs[0].altered[0]) == 8


def test_what_was_added_removed_and_changed() -> None:
    then = layer_of(
        [square(0, 0), square(2000, 0), square(4000, 0), square(6000, 0)], key="then", bed=["a", "b", "c", None], t=[1, 2, 3, 4]
    )
    now = layer_of([square(0, 0), square(2003, 4), square(8000, 0), square(6000, 0)], bed=["a", "b", "d", None], t=[1, 9, 3, 4])
    outcome = do("compare", now, earlier=then, key=["bed"])
    assert rows(outcome, "change", "bed", "changed_fields", "was", "moved_m") == [
        ("added", "d", "", "", None),
        ("changed", "b", "t, shape", "t = 2", 5.0),
        ("removed", "c", "", "", None),
    ]
    assert aside(outcome) == {"is the same as before": 1, "its key is empty or not its own": 1}
    loose = do("compare", now, earlier=then, key=["bed"], tolerance="6 m", ignore=["t"])
    assert rows(loose, "change") == ["added", "removed"]
    by_shape = do("compare", now, earlier=then)
    assert sorted(rows(by_shape, "change")) == ["added", "added", "removed", "removed"]
    again = do("compare", table_of(k=[1, 2], v=[1.0, float("nan")]), earlier=table_of("u", k=[2, 1], v=[float("nan"), 1.0]), key=["k"])
    assert rows(again, "change") == []


rows_of = st.dictionaries(st.integers(0, 8), st.integers(0, 3), max_size=8)


@given(rows_of, rows_of)
def test_a_difference_applied_to_the_earlier_gives_the_later(then: dict, now: dict) -> None:
    def layer(values: dict, key: str):
        import pyarrow as pa

        return table_of(key, k=pa.array(list(values), pa.int64()), v=pa.array(list(values.values()), pa.int64()))

    outcome = do("compare", layer(now, "a"), earlier=layer(then, "b"), key=["k"])
    made = dict(then)
    for change, k, v in rows(outcome, "change", "k", "v"):
        if change == "removed":
            del made[k]
        else:
            made[k] = v
    assert made == now
