"""Files looked at, opened, and changed outside a run."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from eskret.errors import InputError
from eskret.formats import sources
from eskret.process.jobs.job import Answer, Work, job
from eskret.process.jobs.running import Values
from eskret.process.messages import FactsTold
from eskret.workflow.cache.results import ResultStore


@job("look")
def look(work: Work, path: Path) -> Answer:
    """What a file holds."""
    return {"path": str(path), "layers": [FactsTold.of(x).model_dump(mode="json") for x in sources.look(path)]}


@job("open")
def open_layer(work: Work, path: Path, layer: str, key: str, store: Path) -> Answer:
    """Read a layer of a file, and store it where a window can look at it."""
    name = layer or next((x.name for x in sources.look(path)), "")
    reading = sources.read(path, name, key, watch=work.watch)
    left_out = [f"{len(rows):,} left out: {why}" for why, rows in reading.set_aside]
    return {"layer": ResultStore(store).put(reading.layer), "remarks": [r.text for r in reading.remarks] + left_out}


@job("layout")
def layout(work: Work, settings: dict[str, Any], values: Values, folder: Path) -> Answer:
    """How a text with coordinates is laid out, and its first lines cut into values."""
    from eskret.formats import coordinates_text, text
    from eskret.operations.base import Context
    from eskret.operations.gather.load_coordinates import wish_of
    from eskret.operations.registry import operation_by_id
    from eskret.operations.settings import validate

    model: Any = validate(operation_by_id("load_coordinates").Settings, settings)
    context = Context(folder, values=values)
    files = sources.find_files([context.fill(f) for f in model.files], folder, other_endings=coordinates_text.ENDINGS)
    found = coordinates_text.layout_of(files[0], wish_of(model))
    lines = text.sample_lines(files[0], found.spelling, 7)
    rows = [text.split_line(line, found.delimiter) for line in lines]
    told = {n: getattr(found, n) for n in ("delimiter", "header", "decimal", "x", "y", "z")}
    return {
        **told,
        "file": str(files[0]),
        "files": len(files),
        "encoding": found.spelling.codec,
        "columns": list(found.columns),
        "rows": rows[1:] if found.header else rows[:6],
    }


@job("store")
def store(
    work: Work, path: Path, rename: dict[str, str] | None = None, remove: list[str] | None = None, section: dict[str, str] | None = None
) -> Answer:
    """The layers of a GeoPackage, after what is to be changed in it was."""
    from eskret.formats import geopackage
    from eskret.formats.geopackage import in_child

    asked = {n: v for n, v in (("rename", rename), ("remove", remove), ("section", section)) if v}
    if asked:
        in_child.change_store(path, **asked)
    return {"layers": [{"name": e.name, "rows": e.rows, "section": e.section} for e in geopackage.entries(path)]}


@job("take_back")
def take_back(work: Work, path: Path) -> Answer:
    """Bring a file back to what it held before its last change."""
    from eskret.workflow.outputs import file_backups

    latest = file_backups.changes(path)
    if not latest:
        raise InputError("no change of it is on record", place=str(path))
    file_backups.take_back(latest[0])
    return {}
