"""The way of some features as a page: at each station their shapes, and the fields of a single one before and after."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pyarrow as pa

from eskret import pages
from eskret.core.files.atomic import write_whole
from eskret.core.words import pluralise
from eskret.errors import DeliveryError
from eskret.workflow.faces.follow import SHOWN, Followed
from eskret.workflow.faces.report_maps import Figure, Maps
from eskret.workflow.model.parameters import value_words
from eskret.workflow.run.links import Station


def write_way(found: Followed, path: Path, folder: Path, asked: str) -> None:
    """Write it as an HTML page that needs nothing else.

    Parameters
    ----------
    folder : that of the workflow, from which layers that lie below on its map are read.
    asked : what was asked for, in words.

    Raises
    ------
    DeliveryError : another ending, or the place cannot be written.
    """
    if path.suffix.lower() != ".html":
        raise DeliveryError("the page of a way ends in .html", place=str(path), way_out="Call it so")
    title = found.document.title or "Workflow"
    stations = _stations(found, folder)
    script = pages.script("report.js") if any(s["map"] for s in stations) else None
    head = {"title": title, "summary": "The way of some features", "asked": asked, "remark": found.remark()}
    text = pages.page("way.html", **head, stations=stations, script=script)
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        write_whole(path, text)
    except OSError as error:
        raise DeliveryError(f"the page cannot be written ({error.strerror})", place=str(path)) from error


def _stations(found: Followed, folder: Path) -> list[dict[str, Any]]:
    out: list[dict[str, Any]] = []
    drawn = ""
    passed = False
    for number, station in enumerate(found.stations):
        before = found.before(number)
        passed = passed or station.here
        id = station.by or station.place[0]
        fields = found.fields(station, int(station.rows[0])) if len(station.rows) == 1 and not station.reason else None
        saved = [f"saved by step {s.id} to {s.settings.get('to', s.settings.get('dataset', ''))}" for s in found.saving(station)]
        told = _fields(before, fields)
        map_ = _map(found, station, folder)
        moved = map_ is not None and map_.svg != drawn
        same = [
            what
            for what, is_ in (("fields", bool(told) and not any(c for *_, c in told)), ("shape", map_ is not None and not moved))
            if is_
        ]
        out.append(
            {
                "number": found.document.index(id) + 1,
                "sentence": found.words(id),
                "layer": station.place[1],
                "rows": _rows(station),
                "reason": station.reason,
                "here": station.here,
                "saved": saved if passed else [],
                "same": " and ".join(same) if before is not None else "",
                "fields": told if before is None else [one for one in told if one[3]],
                "others": sum(not changed for *_, changed in told) if before is not None else 0,
                "first": before is None,
                "map": map_ if moved else None,
            }
        )
        drawn = map_.svg if map_ is not None else drawn
    return out


def _rows(station: Station) -> str:
    rows = ", ".join(f"{r + 1:,}" for r in station.rows[:SHOWN].tolist())
    more = f" and {len(station.rows) - SHOWN:,} more" if len(station.rows) > SHOWN else ""
    return f"{'row' if len(station.rows) == 1 else pluralise(len(station.rows), 'row') + ':'} {rows}{more}"


def _fields(before: dict[str, Any] | None, here: dict[str, Any] | None) -> list[tuple[str, str, str, bool]]:
    """Name, what it was, what it is, and whether that is something else; of a field that is gone what it was."""
    if here is None:
        return []
    was = before or {}
    names = [*here, *(n for n in was if n not in here)]
    return [(n, _text(was, n), _text(here, n), before is not None and (n not in was or n not in here or was[n] != here[n])) for n in names]


def _text(fields: dict[str, Any], name: str) -> str:
    if name not in fields:
        return "–"
    return "no value" if fields[name] is None else value_words(fields[name])


def _map(found: Followed, station: Station, folder: Path) -> Figure | None:
    layer = found.layers.get(station.place)
    if layer is None or not layer.has_geometry:
        return None
    maps = Maps(found.document, folder)
    maps.add(layer.take(station.rows).with_table(pa.table({"row": station.rows})), "")
    return maps.figures[0] if maps.figures else None
