"""Styles: what a file says of them, the groups they make, classes against their definitions, colours against a model of
colour vision that the project does not use."""

from __future__ import annotations

import itertools
import warnings

import colorspacious
import mapclassify
import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from eskret.core.style.classes import SAMPLE, breaks_of, class_labels, class_of, histogram, written
from eskret.core.style.legend import colours_for, legend_of, texts_of
from eskret.core.style.ramps import MANY, RAMPS, darker, ramp_colours, value_colours
from eskret.core.style.style import CLASSES, VALUES, Style, style_of
from eskret.errors import SettingError


def cam(colours: list[str] | tuple[str, ...], cvd: str = "") -> np.ndarray:
    """J'a'b' of CAM02-UCS (Luo, Cui, Li 2006), in which distances are differences seen; ``cvd`` as such eyes see them."""
    rgb = np.array([[int(c[i : i + 2], 16) for i in (1, 3, 5)] for c in colours]) / 255
    if cvd:
        rgb = np.clip(colorspacious.cspace_convert(rgb, {"name": "sRGB1+CVD", "cvd_type": cvd, "severity": 100}, "sRGB1"), 0, 1)
    return np.asarray(colorspacious.cspace_convert(rgb, "sRGB1", "CAM02-UCS"))


@pytest.mark.parametrize("name", RAMPS)
def test_steps_of_a_ramp_look_alike_and_grow_darker(name: str) -> None:
    seen = cam(ramp_colours(name, 9))
    steps = np.linalg.norm(np.diff(seen, axis=0), axis=1)
    assert steps.max() / steps.min() < 1.35, "steps are even"
    light = seen[:, 0]
    if RAMPS[name].diverging:
        assert light.argmax() == 4 and abs(light[0] - light[-1]) < 6, "both ends are as dark"
    else:
        assert (np.diff(light) < -4).all(), "a copy in grey keeps the order"
    assert ramp_colours(name, 4, turned=True) == ramp_colours(name, 4)[::-1]


def test_colours_of_values_can_be_told_apart() -> None:
    colours = value_colours()
    assert len(set(colours)) == MANY
    for cvd, least in (("", 15.0), ("deuteranomaly", 5.0), ("protanomaly", 2.0)):
        seen = cam(colours[:8], cvd)
        far = np.linalg.norm(seen[:, None] - seen[None], axis=2)[np.triu_indices(8, 1)]
        assert far.min() > least, cvd or "usual eyes"
    assert cam([darker("#7DB6A3")])[0, 0] < cam(["#7DB6A3"])[0, 0] - 10


# -- classes


numbers = st.lists(st.floats(-1e6, 1e6, allow_nan=False).map(lambda v: round(v, 3)), min_size=1, max_size=80)


@given(numbers, st.sampled_from(["quantiles", "equal", "natural"]), st.integers(2, 6))
def test_classes_hold_every_value_and_none_is_empty_beyond_need(values: list[float], method: str, count: int) -> None:
    known = np.array(values)
    breaks = breaks_of(known, method, count)
    assert list(breaks) == sorted(set(breaks)) and len(breaks) < max(count, 1)
    of = class_of(known, breaks)
    edges = [-np.inf, *breaks, np.inf]
    for value, k in zip(values, of.tolist(), strict=True):
        assert edges[k] < value <= edges[k + 1], "a value on a limit belongs to the class below it"
    if method != "equal":
        assert set(of.tolist()) == set(range(len(breaks) + 1))
    labels = class_labels(breaks, known.min(), known.max())
    assert len(labels) == len(breaks) + 1 == len(set(labels))


def test_quantiles_hold_as_many_each_and_equal_steps_are_equal() -> None:
    values = np.random.default_rng(3).lognormal(size=1000)
    sizes = np.bincount(class_of(values, breaks_of(values, "quantiles", 5)))
    assert (sizes == 200).all()
    equal = [values.min(), *breaks_of(values, "equal", 4), values.max()]
    assert np.allclose(np.diff(equal), (values.max() - values.min()) / 4)


def spread(values: np.ndarray, breaks: tuple[float, ...]) -> float:
    of = class_of(values, breaks)
    return sum(float(((values[of == k] - values[of == k].mean()) ** 2).sum()) for k in np.unique(of))


def test_natural_breaks_are_as_good_as_the_best_there_are() -> None:
    """Against all ways there are (definition: least sum of squares within classes; Fisher 1958, Jenks 1967)."""
    rng = np.random.default_rng(5)
    values = np.round(np.concatenate([rng.normal(m, 1.5, 6) for m in (0, 10, 30)]), 2)
    cuts = np.unique(values)[:-1]
    best = min(spread(values, pair) for pair in itertools.combinations(cuts.tolist(), 2))
    assert spread(values, breaks_of(values, "natural", 3)) == pytest.approx(best)
    many = rng.gamma(1.2, 3, SAMPLE + 5000)
    assert breaks_of(many, "natural", 4) == breaks_of(many, "natural", 4), "the same values, the same classes"


@pytest.mark.parametrize("count", [2, 5, 9])
def test_classes_are_those_of_a_library_or_better(count: int) -> None:
    """Against mapclassify: its quantiles and equal steps, and natural breaks by its exact way (Fisher and Jenks)."""
    rng = np.random.default_rng(count)
    for values in (rng.gamma(1.2, 3, 400), rng.integers(0, 40, 300).astype(float), rng.normal(1e7, 0.5, 200)):
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            theirs = {
                "quantiles": mapclassify.Quantiles(values, k=count).bins[:-1],
                "equal": mapclassify.EqualInterval(values, k=count).bins[:-1],
                "natural": mapclassify.FisherJenks(values, k=count).bins[:-1],
            }
        assert spread(values, breaks_of(values, "natural", count)) <= spread(values, theirs["natural"]) * (1 + 1e-9)
        # where a value lies on a limit the last digit of theirs decides, so the limits of equal steps are compared and not the classes
        assert breaks_of(values, "equal", count) == pytest.approx(list(theirs["equal"]), rel=1e-12)
        expected = class_of(values, list(dict.fromkeys(theirs["quantiles"])))
        mine = class_of(values, breaks_of(values, "quantiles", count))
        assert np.array_equal(np.unique(expected, return_inverse=True)[1], np.unique(mine, return_inverse=True)[1])


def test_few_values_and_none_give_fewer_classes() -> None:
    assert breaks_of(np.array([np.nan, 4.0, 4.0]), "quantiles", 5) == ()
    assert breaks_of(np.array([1.0, 2.0, 9.0, np.inf]), "natural", 5) == (1.0, 2.0)
    assert class_of(np.array([np.nan, 1.0]), (1.0,)).tolist() == [-1, 0]
    assert class_labels((), 4, 4) == ["4"] and class_labels((), 1, 2.5) == ["1.0 to 2.5"]
    assert written([0.35, 0.69]) == ["0.35", "0.69"] and written([1000, 20_000]) == ["1,000", "20,000"]
    counts, limits = histogram(np.array([0.0, 0.5, 1.0, np.nan]), 2)
    assert counts.tolist() == [1, 2] and limits.tolist() == [0.0, 0.5, 1.0]
    assert histogram(np.array([np.nan]), 3)[0].sum() == 0


# -- groups


@given(st.lists(st.one_of(st.none(), st.sampled_from(["North", "South", "", "A/B", "12"])), max_size=40))
def test_every_row_is_in_one_group_of_values(values: list[str | None]) -> None:
    table = pa.table({"d": pa.array(values, pa.string())})
    style = Style(VALUES, field="d", colours={"North": "#112233", "12": "#445566"})
    legend = legend_of(style, table)
    assert legend.of is not None and len(legend.of) == len(values)
    assert sum(e.count for e in legend.entries) == len(values)
    for value, k in zip(values, legend.of.tolist(), strict=True):
        entry = legend.entries[k]
        if value in style.colours:
            assert entry.value == value and entry.colour == style.colours[value]
        else:
            assert entry.rest and (entry.text == "empty") == (not value)


def test_groups_of_other_types_and_of_a_field_that_is_not_there() -> None:
    table = pa.table({"n": pa.array([1.0, None, 7.5]), "b": pa.array([True, False, None]), "t": ["x", "y", "z"]})
    classes = legend_of(Style(CLASSES, field="n", ramp="kelp"), table, (2.0,))
    assert [(e.text, e.count) for e in classes.entries] == [("up to 2", 1), ("above 2", 1), ("no value", 1)]
    assert [e.colour for e in classes.entries][:2] == ramp_colours("kelp", 2)
    assert texts_of(table.column("b")).to_pylist() == ["yes", "no", ""]
    assert not legend_of(Style(CLASSES, field="gone"), table) and not legend_of(Style(CLASSES, field="t"), table)
    assert not legend_of(Style(), table)


def test_colours_go_to_the_most_frequent_values_and_stay_with_those_that_have_one() -> None:
    column = pa.chunked_array([[f"v{n % 20}" for n in range(200)] + ["v3"] * 9 + ["10", "9", "9"]])
    first = colours_for(column)
    assert len(first) == MANY and "v3" in first and len(set(first.values())) == MANY
    small = pa.chunked_array([["10", "9", "9", "b"]])
    assert list(colours_for(small)) == ["9", "10", "b"], "numbers in the order of numbers"
    kept = colours_for(small, {"b": "#010203"})
    assert kept["b"] == "#010203" and set(kept) == {"b", "9", "10"}


# -- what a file says


colour = st.sampled_from(["#112233", "#A0B1C2"])
styles = st.one_of(
    st.builds(Style, colour=colour, label=st.sampled_from(["", "name"]), size=st.sampled_from([0.0, 4.5]), opacity=st.integers(0, 100)),
    st.builds(Style, st.just(VALUES), field=st.just("d"), colours=st.dictionaries(st.text(max_size=5), colour, max_size=3)),
    st.builds(
        Style,
        st.just(CLASSES),
        field=st.just("n"),
        method=st.sampled_from(["quantiles", "equal", "natural"]),
        count=st.integers(2, 9),
        ramp=st.sampled_from(list(RAMPS)),
        turned=st.booleans(),
    ),
    st.builds(
        Style,
        st.just(CLASSES),
        field=st.just("n"),
        method=st.just("own"),
        breaks=st.sets(st.floats(-1e3, 1e3), min_size=1, max_size=6).map(lambda s: tuple(sorted(s))),
    ),
)


@given(styles)
def test_a_style_comes_back_from_what_is_said_of_it(style: Style) -> None:
    assert style_of(style.to_table()) == style


@pytest.mark.parametrize(
    ("said", "problem"),
    [
        ({"shade": 1}, "'shade' is nothing that a style says"),
        ({"by": "rank"}, "'by' cannot be 'rank'"),
        ({"by": "classes"}, "colours by classes need a field"),
        ({"by": "classes", "field": "n", "method": "own"}, "own breaks are not given"),
        ({"by": "classes", "field": "n", "count": 12}, "'count' must be a whole number from 2 to 9"),
        ({"by": "classes", "field": "n", "method": "own", "breaks": [2, 1]}, "'breaks' must be ascending numbers"),
        ({"by": "classes", "field": "n", "method": "own", "breaks": list(range(9))}, "9 breaks make too many classes"),
        ({"colour": "green"}, "'green' is no colour"),
        ({"by": "values", "field": "d", "colours": ["#112233"]}, "'colours' must be a table"),
        ({"opacity": True}, "'opacity' must be a whole number"),
        ({"label": 3}, "'label' must be the name of a field"),
        ({"turned": 1}, "'turned' must be true or false"),
        ({"ramp": "rainbow"}, "'ramp' cannot be 'rainbow'"),
    ],
)
def test_what_a_style_cannot_say_is_named(said: dict[str, object], problem: str) -> None:
    with pytest.raises(SettingError, match=problem.replace("'", ".")):
        style_of(said)
