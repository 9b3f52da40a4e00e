"""The door to files that can be read: find them, look at their layers, read one."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import replace
from pathlib import Path

from eskret.core.layer import LayerFacts
from eskret.core.naming import clean_name
from eskret.errors import InputError
from eskret.formats import gpx, vector
from eskret.formats.reading import Reading, Watch, no_watch

ENDINGS = {
    ".gpx": "GPX", ".gpkg": "GeoPackage", ".shp": "shapefile", ".geojson": "GeoJSON", ".json": "GeoJSON",
    ".fgb": "FlatGeobuf",
}  # fmt: skip
_MANY_LAYERS = {".gpkg"}
_MAGIC = re.compile(r"[*?\[]")


def is_source(path: Path) -> bool:
    """Whether a file has an ending that can be read."""
    return path.suffix.lower() in ENDINGS


def is_offered(path: Path) -> bool:
    """Whether a file that a folder or pattern finds is data: not hidden, and no record of a workflow's outputs."""
    return is_source(path) and not path.name.startswith(".") and not path.name.endswith(".outputs.json")


def find_files(patterns: Iterable[str], folder: Path) -> list[Path]:
    """Files of a list of paths, folders and patterns (``*``, ``?``, ``**``), in order, each once.

    Relative ones start at ``folder``. A folder stands for the readable files right in it.

    Raises
    ------
    InputError : a path that is not there, a pattern that matches nothing, an ending that cannot be read.
    """
    found: dict[Path, None] = {}
    for pattern in patterns:
        text = str(pattern)
        path = Path(text).expanduser()
        whole = path if path.is_absolute() else folder / path
        if _MAGIC.search(text) and not whole.exists():
            anchor = Path(whole.anchor)
            hits = sorted(p for p in anchor.glob(str(whole.relative_to(anchor))) if p.is_file() and is_offered(p))
            if not hits:
                raise InputError(
                    f"no readable file matches '{text}'", place=str(folder), way_out="Check the pattern and the folder"
                )
        elif whole.is_dir():
            hits = sorted(p for p in whole.iterdir() if p.is_file() and is_offered(p))
            if not hits:
                raise InputError("there is no readable file in this folder", place=str(whole))
        else:
            if not whole.exists():
                raise InputError("there is no such file", place=str(whole), way_out="Put it there, or choose another")
            if not is_source(whole):
                raise InputError(
                    f"files ending in '{whole.suffix}' cannot be read", place=str(whole),
                    way_out=f"It can be one of {', '.join(ENDINGS)}",
                )  # fmt: skip
            hits = [whole]
        found.update(dict.fromkeys(hits))
    return list(found)


def key_for(path: Path, name: str, layers_in_file: int) -> str:
    """The key of a layer: its name where the file can hold many, else the file's stem; cleaned."""
    if path.suffix.lower() == ".gpx":
        return clean_name(f"{path.stem}_{name}")
    base = name if path.suffix.lower() in _MANY_LAYERS or layers_in_file > 1 else path.stem
    return clean_name(base) or "layer"


def layer_names(path: Path) -> list[str]:
    """Names of the layers in a file; for GPX, its parts that hold something."""
    if path.suffix.lower() == ".gpx":
        return list(gpx.parts_of(path))
    return vector.layer_names(path)


def look(path: Path, encoding: str = "") -> list[LayerFacts]:
    """Facts of every layer in a file.

    Raises
    ------
    InputError : the file cannot be read.
    """
    names = layer_names(path)
    return [facts(path, name, key_for(path, name, len(names)), encoding) for name in names]


def facts(path: Path, name: str, key: str, encoding: str = "") -> LayerFacts:
    """Facts of one layer, under a key."""
    if path.suffix.lower() == ".gpx":
        parts = gpx.parts_of(path)
        if name not in parts:
            raise InputError(f"it has no {name.replace('_', ' ')}", place=str(path))
        return replace(parts[name].layer.facts(), key=key)
    return vector.facts(path, name, key, encoding)


def read(path: Path, name: str, key: str, encoding: str = "", watch: Watch = no_watch) -> Reading:
    """Read one layer under a key."""
    if path.suffix.lower() == ".gpx":
        parts = gpx.parts_of(path)
        if name not in parts:
            raise InputError(f"it has no {name.replace('_', ' ')}", place=str(path))
        reading = parts[name]
        return replace(reading, layer=reading.layer.with_key(key))
    return vector.read(path, name, key, encoding, watch)
