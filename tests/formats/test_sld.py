"""SLD files, read back by their own filters: every row must come to the rule that gives it the colour of the map.

The rules are those of OGC 05-077r4 (Symbology Encoding 1.1) and OGC 04-095 (Filter Encoding 1.1), from memory: rules of a
FeatureTypeStyle that match are all applied, ElseFilter applies where no other does, a comparison with null is not true.
"""

from __future__ import annotations

import xml.etree.ElementTree as ET
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from eskret.core.style.legend import legend_of
from eskret.core.style.style import CLASSES, VALUES, Style
from eskret.errors import DeliveryError
from eskret.formats.sld import sld_text, write_sld

NS = {"sld": "http://www.opengis.net/sld", "se": "http://www.opengis.net/se", "ogc": "http://www.opengis.net/ogc"}


def holds(test: ET.Element, value: Any) -> bool:
    name = test.tag.partition("}")[2]
    if name in ("And", "Or", "Not", "Filter"):
        inner = [holds(t, value) for t in test]
        return any(inner) if name == "Or" else not inner[0] if name == "Not" else all(inner)
    if name == "PropertyIsNull":
        return value is None
    literal = test.findtext("ogc:Literal", "", NS) or ""
    if value is None:
        return False
    if name == "PropertyIsEqualTo":
        return ("true" if value is True else "false" if value is False else str(value)) == literal
    return value > float(literal) if name == "PropertyIsGreaterThan" else value <= float(literal)


def fills(text: str, value: Any, symbol: str = "PolygonSymbolizer") -> list[str]:
    """The fills of the rules that apply to a value."""
    rules = ET.fromstring(text).findall(".//se:Rule", NS)
    match = [r for r in rules if (f := r.find("ogc:Filter", NS)) is not None and holds(f, value)]
    if not match:
        match = [r for r in rules if r.find("se:ElseFilter", NS) is not None or r.find("ogc:Filter", NS) is None]
    parameters = [p for r in match for p in r.findall(f"se:{symbol}/se:Fill/se:SvgParameter", NS)]
    return [p.text or "" for p in parameters if p.get("name") == "fill"]


@given(
    st.lists(st.one_of(st.none(), st.floats(-50, 50).map(lambda v: round(v, 2))), min_size=1, max_size=30),
    st.sets(st.integers(-40, 40), max_size=5),
)
def test_every_number_comes_to_the_colour_it_has_on_the_map(values: list[float | None], limits: set[int]) -> None:
    breaks = tuple(sorted(limits))
    table = pa.table({"n": pa.array(values, pa.float64())})
    style = Style(CLASSES, field="n", method="own", breaks=breaks, ramp="heather")
    legend = legend_of(style, table, breaks)
    text = sld_text(style, "beds", "area", pa.float64(), breaks)
    assert legend.of is not None
    for value, k in zip(values, legend.of.tolist(), strict=True):
        assert fills(text, value) == [legend.entries[k].colour]


@given(st.lists(st.one_of(st.none(), st.sampled_from(["North", "a<b & c", "", "other"])), min_size=1, max_size=20))
def test_every_value_comes_to_the_colour_it_has_on_the_map(values: list[str | None]) -> None:
    table = pa.table({"d": pa.array(values, pa.string())})
    style = Style(VALUES, field="d", colours={"North": "#112233", "a<b & c": "#445566"})
    legend = legend_of(style, table)
    text = sld_text(style, "beds", "area", pa.string())
    assert legend.of is not None
    for value, k in zip(values, legend.of.tolist(), strict=True):
        assert fills(text, value) == [legend.entries[k].colour]


def test_what_else_a_style_says_is_written() -> None:
    yes = sld_text(Style(VALUES, field="b", colours={"yes": "#112233", "no": "#445566"}), "x", "point", pa.bool_())
    assert fills(yes, True, "PointSymbolizer/se:Graphic/se:Mark") == ["#112233"]
    root = ET.fromstring(sld_text(Style(colour="#112233", label="name", size=9, opacity=40), "marks", "point"))
    assert root.get("version") == "1.1.0" and root.findtext(".//sld:NamedLayer/se:Name", "", NS) == "marks"
    assert root.findtext(".//se:Size", "", NS) == "9" and root.findtext(".//se:WellKnownName", "", NS) == "circle"
    assert root.findtext(".//se:TextSymbolizer/se:Label/ogc:PropertyName", "", NS) == "name"
    opacity = [p.text for p in root.findall(".//se:SvgParameter", NS) if p.get("name") == "fill-opacity"]
    assert opacity == ["0.4"]
    lines = ET.fromstring(sld_text(Style(width=3), "tracks", "line", usual="#ABCDEF"))
    stroke = {p.get("name"): p.text for p in lines.findall(".//se:LineSymbolizer/se:Stroke/se:SvgParameter", NS)}
    assert stroke == {"stroke": "#ABCDEF", "stroke-width": "3", "stroke-opacity": "1"}
    mixed = ET.fromstring(sld_text(Style(), "all", "mixed"))
    assert [len(mixed.findall(f".//se:{n}Symbolizer", NS)) for n in ("Polygon", "Line", "Point")] == [1, 1, 1]
    # a field that the layer does not have leaves one colour
    assert "Filter" not in sld_text(Style(CLASSES, field="gone", colour="#112233"), "x", "area", None)


def test_a_file_is_written_whole_or_not_at_all(tmp_path: Path) -> None:
    target = tmp_path / "beds.sld"
    target.write_text("before")
    write_sld(sld_text(Style(), "beds", "area"), target)
    assert ET.parse(target).getroot().tag.endswith("StyledLayerDescriptor") and len(list(tmp_path.iterdir())) == 1
    with pytest.raises(DeliveryError, match="cannot be written"):
        write_sld("x", tmp_path / "no" / "beds.sld")
