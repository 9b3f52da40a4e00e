"""Write a style as OGC Styled Layer Descriptor 1.1 (OGC 05-078r4) with Symbology Encoding 1.1 (OGC 05-077r4)."""

from __future__ import annotations

import itertools
import xml.etree.ElementTree as ET
from collections.abc import Sequence
from pathlib import Path

import pyarrow as pa

from eskret.core.files.atomic import write_whole
from eskret.core.style.classes import class_labels
from eskret.core.style.ramps import NO_VALUE, OTHERS, darker, ramp_colours
from eskret.core.style.style import CLASSES, ONE, Style
from eskret.errors import DeliveryError

SLD, SE, OGC = "http://www.opengis.net/sld", "http://www.opengis.net/se", "http://www.opengis.net/ogc"
_XSI = "http://www.w3.org/2001/XMLSchema-instance"
_SCHEMA = f"{SLD} http://schemas.opengis.net/sld/1.1.0/StyledLayerDescriptor.xsd"
_SYMBOLS = {
    "point": ("PointSymbolizer",),
    "line": ("LineSymbolizer",),
    "area": ("PolygonSymbolizer",),
    "mixed": ("PolygonSymbolizer", "LineSymbolizer", "PointSymbolizer"),
}


def sld_text(
    style: Style, layer: str, kind: str, column: pa.DataType | None = None, breaks: Sequence[float] = (), usual: str = "#7DB6A3"
) -> str:
    """A style as the text of an SLD file.

    Parameters
    ----------
    layer, kind : the layer's name, and what it draws: point, line, area or mixed.
    column : the type of the style's field; None where the layer has none of the name, so that one colour is written.
    breaks : the limits between classes, for a style by classes.
    usual : the colour of a style that has none of its own.

    Notes
    -----
    Symbology Encoding has no dots in a legend and no ramps: what is written are rules, one a class or a value, with
    filters that no two share. Sizes are in pixels.
    """
    for prefix, uri in (("", SLD), ("se", SE), ("ogc", OGC), ("xsi", _XSI)):
        ET.register_namespace(prefix, uri)
    root = ET.Element(_sld("StyledLayerDescriptor"), {"version": "1.1.0", f"{{{_XSI}}}schemaLocation": _SCHEMA})
    named = ET.SubElement(root, _sld("NamedLayer"))
    ET.SubElement(named, _se("Name")).text = layer
    user = ET.SubElement(named, _sld("UserStyle"))
    ET.SubElement(user, _se("Name")).text = layer
    rules = ET.SubElement(user, _se("FeatureTypeStyle"))
    if style.by == ONE or column is None:
        _symbols(_rule(rules, layer), style, kind, style.colour or usual)
    elif style.by == CLASSES:
        _classes(rules, style, kind, breaks)
    else:
        _values(rules, style, kind, column)
    if style.label:
        _label(_rule(rules, f"label: {style.label}"), style, kind)
    ET.indent(root)
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + ET.tostring(root, encoding="unicode") + "\n"


def write_sld(text: str, path: Path) -> None:
    """Write the file; what was there is replaced at once or stays.

    Raises
    ------
    DeliveryError : the folder cannot be written.
    """
    try:
        write_whole(path, text)
    except OSError as error:
        raise DeliveryError(f"it cannot be written ({error.strerror})", place=str(path)) from error


def _sld(name: str) -> str:
    return f"{{{SLD}}}{name}"


def _se(name: str) -> str:
    return f"{{{SE}}}{name}"


def _ogc(name: str) -> str:
    return f"{{{OGC}}}{name}"


def _rule(rules: ET.Element, title: str) -> ET.Element:
    rule = ET.SubElement(rules, _se("Rule"))
    ET.SubElement(rule, _se("Name")).text = title
    ET.SubElement(ET.SubElement(rule, _se("Description")), _se("Title")).text = title
    return rule


def _classes(rules: ET.Element, style: Style, kind: str, breaks: Sequence[float]) -> None:
    labels = class_labels(breaks, 0, 0) if breaks else [style.field]
    colours = ramp_colours(style.ramp, len(labels), style.turned)
    edges = [None, *breaks, None]
    for label, colour, (low, high) in zip(labels, colours, itertools.pairwise(edges), strict=True):
        rule = _rule(rules, label)
        tests = [(n, v) for n, v in (("PropertyIsGreaterThan", low), ("PropertyIsLessThanOrEqualTo", high)) if v is not None]
        # a comparison with no value is never true, so features without one come to none of these
        filter_ = ET.SubElement(rule, _ogc("Filter"))
        if not tests:
            _test(ET.SubElement(filter_, _ogc("Not")), "PropertyIsNull", style.field, None)
        else:
            into = ET.SubElement(filter_, _ogc("And")) if len(tests) > 1 else filter_
            for name, value in tests:
                _test(into, name, style.field, f"{value:.17g}")
        _symbols(rule, style, kind, colour)
    _none(rules, style, kind, "no value")


def _none(rules: ET.Element, style: Style, kind: str, title: str) -> None:
    rule = _rule(rules, title)
    _test(ET.SubElement(rule, _ogc("Filter")), "PropertyIsNull", style.field, None)
    _symbols(rule, style, kind, NO_VALUE)


def _values(rules: ET.Element, style: Style, kind: str, column: pa.DataType) -> None:
    for value, colour in style.colours.items():
        if value:
            rule = _rule(rules, value)
            written = {"yes": "true", "no": "false"}.get(value, value) if pa.types.is_boolean(column) else value
            _test(ET.SubElement(rule, _ogc("Filter")), "PropertyIsEqualTo", style.field, written)
            _symbols(rule, style, kind, colour)
    rule = _rule(rules, "empty")
    either = ET.SubElement(ET.SubElement(rule, _ogc("Filter")), _ogc("Or"))
    _test(either, "PropertyIsNull", style.field, None)
    _test(either, "PropertyIsEqualTo", style.field, "")
    _symbols(rule, style, kind, style.colours.get("", NO_VALUE))
    rule = _rule(rules, "other values")
    ET.SubElement(rule, _se("ElseFilter"))
    _symbols(rule, style, kind, OTHERS)


def _test(into: ET.Element, name: str, field: str, value: str | None) -> None:
    test = ET.SubElement(into, _ogc(name))
    ET.SubElement(test, _ogc("PropertyName")).text = field
    if value is not None:
        ET.SubElement(test, _ogc("Literal")).text = value


def _symbols(rule: ET.Element, style: Style, kind: str, colour: str) -> None:
    for name in _SYMBOLS.get(kind, _SYMBOLS["mixed"]):
        symbol = ET.SubElement(rule, _se(name))
        if name == "LineSymbolizer":
            _stroke(symbol, colour, style.width or 1.6, style.opacity)
            continue
        into = symbol
        if name == "PointSymbolizer":
            graphic = ET.SubElement(symbol, _se("Graphic"))
            into = ET.SubElement(graphic, _se("Mark"))
            ET.SubElement(into, _se("WellKnownName")).text = "circle"
        fill = ET.SubElement(into, _se("Fill"))
        _parameters(fill, {"fill": colour, "fill-opacity": f"{style.opacity / 100:g}"})
        _stroke(into, darker(colour), style.width or 1.0, style.opacity)
        if name == "PointSymbolizer":
            ET.SubElement(graphic, _se("Size")).text = f"{style.size or 7:g}"


def _stroke(into: ET.Element, colour: str, width: float, opacity: int) -> None:
    stroke = ET.SubElement(into, _se("Stroke"))
    _parameters(stroke, {"stroke": colour, "stroke-width": f"{width:g}", "stroke-opacity": f"{opacity / 100:g}"})


def _parameters(into: ET.Element, values: dict[str, str]) -> None:
    for name, value in values.items():
        ET.SubElement(into, _se("SvgParameter"), {"name": name}).text = value


def _label(rule: ET.Element, style: Style, kind: str) -> None:
    symbol = ET.SubElement(rule, _se("TextSymbolizer"))
    ET.SubElement(ET.SubElement(symbol, _se("Label")), _ogc("PropertyName")).text = style.label
    _parameters(ET.SubElement(symbol, _se("Font")), {"font-family": "sans-serif", "font-size": "12"})
    if kind == "point":
        placed = ET.SubElement(ET.SubElement(symbol, _se("LabelPlacement")), _se("PointPlacement"))
        anchor = ET.SubElement(placed, _se("AnchorPoint"))
        for axis, value in (("X", "0"), ("Y", "0.5")):
            ET.SubElement(anchor, _se(f"AnchorPoint{axis}")).text = value
        moved = ET.SubElement(placed, _se("Displacement"))
        for axis, value in (("X", "7"), ("Y", "0")):
            ET.SubElement(moved, _se(f"Displacement{axis}")).text = value
    halo = ET.SubElement(symbol, _se("Halo"))
    ET.SubElement(halo, _se("Radius")).text = "1.5"
    _parameters(ET.SubElement(halo, _se("Fill")), {"fill": "#FFFDF7"})
    _parameters(ET.SubElement(symbol, _se("Fill")), {"fill": "#1D2B2A"})
