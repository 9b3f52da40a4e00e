"""Lengths and areas with their unit; measures that name it."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pytest
import shapely

from eskret.core.layer import Layer
from eskret.core.measure.measure_fields import check_measure, with_measures
from eskret.core.measure.units import parse_area, parse_length
from eskret.errors import SettingError
from tests.conftest import squares


@pytest.mark.parametrize(
    ("text", "metres"),
    [
        ("200 m", 200),
        ("200m", 200),
        (" 1,500 metres ", 1500),
        ("1.5 km", 1500),
        (".5 km", 500),
        ("0 m", 0),
        # the agreement of 1959 between the national laboratories: a yard is 0.9144 m exactly
        ("1 yd", 0.9144),
        ("1 ft", 0.3048),
        ("3 Feet", 0.9144),
        ("1 mile", 1609.344),
        ("2 mi", 3218.688),
        # First International Extraordinary Hydrographic Conference, 1929
        ("1 nmi", 1852),
        ("10 nautical miles", 18520),
        # 39.37 inches to the metre, by its full name only
        ("3937 US survey ft", 1200),
        ("1e3 mm", 1),
    ],
)
def test_lengths(text: str, metres: float) -> None:
    assert parse_length(text).si == pytest.approx(metres, rel=1e-12)


@pytest.mark.parametrize(("text", "square_metres"), [("1 ha", 10_000), ("2 km²", 2e6), ("1 acre", 4046.8564224), ("5 sq m", 5)])
def test_areas(text: str, square_metres: float) -> None:
    assert parse_area(text).si == pytest.approx(square_metres, rel=1e-12)


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("200", "names no unit. Write it with one, such as 200 m"),
        ("far", "is no length"),
        ("3 ha", "'ha' is no unit of length"),
        ("2 degrees", "'degrees' is no unit"),
        ("1 °", "no unit of length"),
        ("", "is no length"),
    ],
)
def test_a_unit_is_never_guessed_and_a_degree_is_no_length(text: str, says: str) -> None:
    with pytest.raises(SettingError) as caught:
        parse_length(text)
    assert says in caught.value.sentence()


def test_measures_go_to_the_layers_that_have_them() -> None:
    layer = squares(3)
    out = with_measures(layer, ["area_ha", "length_km", "area_m2"])
    assert out.table.column_names == ["id", "kind", "area_ha", "area_m2"]
    assert out.table.column("area_ha").to_pylist() == pytest.approx([0.01] * 3)
    again = with_measures(out.take(np.array([1])), ["area_m2"])
    assert again.table.column_names == out.table.column_names and len(again) == 1


def test_a_measure_is_made_anew_and_never_in_degrees() -> None:
    line = np.array([shapely.LineString([(0, 0), (1, 0)]), None], object)
    layer = Layer("l", pa.table({"length_km": [7.0, 7.0]}), line, "EPSG:4326")
    out = with_measures(layer, ["length_km"])
    # a degree along the equator: 2 pi 6,378.137 km / 360 (WGS 84)
    assert out.table.column("length_km").to_pylist() == [pytest.approx(2 * np.pi * 6378.137 / 360, rel=1e-9), None]


@pytest.mark.parametrize("name", ["length", "length_ha", "area_m", "depth_m", "area_", "length_parsec"])
def test_a_measure_must_name_what_and_unit(name: str) -> None:
    with pytest.raises(SettingError, match="names no measure"):
        check_measure(name)
