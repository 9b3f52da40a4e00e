"""Containers that results can be saved in: what each can hold, and how a layer gets into it."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import pyarrow as pa

from eskret.core.naming import LIMIT
from eskret.errors import DeliveryError
from eskret.formats import delimited, geojson, geopackage


@dataclass(frozen=True)
class Target:
    """A format to save in. ``many`` says that one file holds several layers."""

    title: str
    ending: str
    many: bool
    name_limit: int = LIMIT


GEOPACKAGE = Target("GeoPackage", ".gpkg", True)
GEOJSON = Target("GeoJSON", ".geojson", False)
CSV = Target("CSV", ".csv", False)
TARGETS = {".gpkg": GEOPACKAGE, ".geojson": GEOJSON, ".json": GEOJSON, ".csv": CSV}


def target_for(path: Path) -> Target:
    """The format of a file to be written, by its ending.

    Raises
    ------
    DeliveryError : no such format.
    """
    found = TARGETS.get(path.suffix.lower())
    if found is None:
        raise DeliveryError(
            f"files ending in '{path.suffix}' cannot be written", place=str(path),
            way_out=f"The ending can be {', '.join(TARGETS)}",
        )  # fmt: skip
    return found


def losses(target: Target, schema: pa.Schema) -> list[str]:
    """What the format cannot hold of these fields, in sentences; empty where nothing is lost."""
    if target is GEOJSON:
        return geojson.losses(schema)
    if target is CSV:
        return delimited.losses(schema)
    out = []
    for field in schema:
        if pa.types.is_nested(field.type):
            out.append(f"'{field.name}' is a list and becomes text")
        elif pa.types.is_timestamp(field.type) and field.type.tz is None:
            out.append(f"'{field.name}' has times without a zone; they are written as UTC")
        elif pa.types.is_time(field.type):
            out.append(f"'{field.name}' is a time of day and becomes text")
    if len(schema) > geopackage.MAX_FIELDS:
        out.append(f"it has {len(schema)} fields, and a GeoPackage layer holds {geopackage.MAX_FIELDS}")
    return out
