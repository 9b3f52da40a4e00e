"""An operation of this project's own: an area from a text of coordinates, as a notice or a letter gives them."""

from __future__ import annotations

import re

from geopandas import GeoDataFrame
from shapely import Polygon

import eskret

UNITS = {"easting and northing": ["m", "km"], "longitude and latitude": ["degrees", "degrees and minutes"]}


def units(values: dict[str, str]) -> list[str]:
    """The units that go with the kind of coordinates."""
    return UNITS[values["kind"]]


def check(values: dict[str, str]) -> dict[str, str]:
    """What is wrong before anything runs."""
    try:
        found = pairs(values["text"], values["unit"])
    except ValueError as error:
        return {"text": str(error)}
    if len(found) < 3:
        return {"text": f"an area needs three corners at least, and these are {len(found)}"}
    return {}


def number(text: str, unit: str) -> float:
    """One coordinate of text: 4 530 250, 27 12.5 W, -27.2."""
    sign = -1.0 if re.search(r"[SW]\s*$", text, re.IGNORECASE) or text.strip().startswith("-") else 1.0
    parts = [float(p) for p in re.findall(r"\d+(?:\.\d+)?", text)]
    if not parts:
        raise ValueError(f"'{text.strip()}' is no coordinate")
    if unit == "degrees and minutes":
        return sign * (parts[0] + (parts[1] if len(parts) > 1 else 0.0) / 60)
    if len(parts) > 1:
        raise ValueError(f"'{text.strip()}' has more than one number in it")
    return sign * parts[0] * (1000.0 if unit == "km" else 1.0)


def pairs(text: str, unit: str) -> list[tuple[float, float]]:
    """The corners: one pair a line or between semicolons, the two parted by a comma."""
    out = []
    for line in re.split(r"[;\n]", text):
        if not line.strip():
            continue
        parts = line.split(",")
        if len(parts) != 2:
            raise ValueError(f"'{line.strip()}' is no pair: part the two coordinates by a comma")
        out.append((number(parts[0], unit), number(parts[1], unit)))
    return out


@eskret.operation(
    title="Area from text",
    phase="Gather",
    also_known_as=["corners", "coordinates", "notice", "polygon from text"],
    author="The register of Orrel Sound",
    limits="One area without holes; corners in order along its edge.",
    check=check,
    reuse=True,
)
def area_from_text(
    text: str = eskret.setting(
        "Corners",
        help="One pair a line or between semicolons, the two coordinates parted by a comma.",
        example="560000, 5220000; 562000, 5220000; 561000, 5222000",
    ),
    kind: str = eskret.setting("Kind of coordinates", help="What the pairs are.", default="easting and northing", choices=list(UNITS)),
    unit: str = eskret.setting("Unit", help="Which units there are depends on the kind.", default="m", choices=units),
    crs: str = eskret.setting(
        "Coordinate system",
        help="Of eastings and northings.",
        default="EPSG:32626",
        kind="crs",
        shown_when=("kind", "easting and northing"),
    ),
    name: str = eskret.setting("Name", help="What the area is called, in its field 'name'.", default="area"),
) -> GeoDataFrame:
    """Make an area of a text of coordinates.

    For a closure, an extension or a working area that comes in a letter: paste its corners. Degrees may be decimal, or
    degrees and minutes with a letter for the side, such as 47 12.5 N.
    """
    corners = pairs(text, unit)
    system = crs if kind == "easting and northing" else "EPSG:4326"
    return GeoDataFrame({"name": [name], "corners": [len(corners)]}, geometry=[Polygon(corners)], crs=system)
