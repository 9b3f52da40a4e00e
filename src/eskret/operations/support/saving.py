"""Layers as they are saved: their fields, the names of these, the CRS, measures, and what a format cannot hold settled."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import pyarrow as pa

from eskret.core.accounts.account import Remark, SetAside
from eskret.core.crs import Extent, crs_facts, same_crs, transformation
from eskret.core.geometry.globe.moving import reproject, reproject_places
from eskret.core.layer import Field, GeometryColumn, GeometryKind, Layer, LayerFacts, WkbArray
from eskret.core.measure.measure_fields import with_measures
from eskret.core.naming import clean_name, number_collisions
from eskret.core.tables.rows import remaining
from eskret.errors import DeliveryError
from eskret.formats import fitting, holding
from eskret.formats.fitting import Choices, Fitted
from eskret.formats.format import CRS84, Capacity, Format
from eskret.formats.library_write import of_one_kind
from eskret.operations.base import Finding, Level
from eskret.operations.sentences import join_words


@dataclass(frozen=True)
class Ready:
    """A layer ready to be written: rows that cannot be, aside; the names of its fields in the file, with those they had."""

    layer: Layer
    aside: SetAside
    remarks: tuple[Remark, ...]
    names: tuple[tuple[str, str], ...] = ()


def choices_of(settings: Any) -> Choices:
    """What the analyst chose for what does not fit."""
    return Choices(settings.times, settings.long_texts)


def writes_native(target: Format, settings: Any) -> bool:
    """Whether a format that is WGS 84 by its standard is to be written in another CRS."""
    return bool(settings.native) and target.native


def crs_for(target: Format, settings: Any, own: str | None) -> str:
    """The CRS that a layer is to be brought to; empty where it keeps its own."""
    if target.crs and not writes_native(target, settings):
        return target.crs
    return str(settings.crs) or ((own or "") if target.crs else "")


def chosen_fields(fields: Sequence[Field], settings: Any) -> list[Field]:
    """The fields that are saved, in their order; titles as names where that is asked for."""
    wanted = [f for n in settings.fields for f in fields if f.name == n] if settings.fields else list(fields)
    if not settings.titled:
        return wanted
    titled = number_collisions([settings.titles.get(f.name) or f.title or f.name for f in wanted], limit=10_000)
    return [Field(n, f.type, f.title, f.unit) for n, f in zip(titled, wanted, strict=True)]


def forecast_layer(one: LayerFacts, target: Format, settings: Any) -> tuple[list[Field], list[Finding]]:
    """The fields that a layer will have in the file, and what cannot be held of them."""
    findings = []
    missing = [n for n in settings.fields if n not in one.names()]
    if missing:
        findings.append(Finding.look(f"there is no field '{missing[0]}' to save. It has {join_words(one.names(), 12)}.", "fields", one))
    fields = chosen_fields(one.fields, settings)
    for loss in target.losses(fields, choices_of(settings), one.kind):
        findings.append(Finding.note(f"{loss}.", about=one))
    for number in (f for f in fields if pa.types.is_uint64(f.type)):
        values = one.values([number.name])
        if values is not None and holding.too_large(values.column(0), target.values):
            findings.append(
                Finding.error(f"'{number.name}' has whole numbers beyond {target.values.most:,}, and {target.title} holds none.", "to", one)
            )
    if one.kind is GeometryKind.TABLE and not target.tables:
        findings.append(Finding.error(f"it is a plain table, and {target.title} holds shapes. Save it as CSV or to a workbook.", "to", one))
    elif one.kind not in target.kinds and one.kind is not GeometryKind.TABLE:
        held = join_words(sorted(f"{k}s" for k in target.kinds), 4)
        what = "shapes of several kinds, or of none that is known" if one.kind is GeometryKind.MIXED else f"{one.kind}s"
        level = Level.LOOK if one.kind is GeometryKind.MIXED else Level.ERROR
        findings.append(Finding(level, f"{one.key}: it has {what}, and {target.title} holds {held}.", layer=one.key, setting="to"))
    return fields, findings


def ready(layer: Layer, target: Format, settings: Any, crs: str, extent: Extent | None = None) -> Ready:
    """A layer as it is written to a format.

    Parameters
    ----------
    crs : the one to bring it to; empty for its own.
    extent : of all rows, where these are some of them.

    Raises
    ------
    DeliveryError : the format cannot hold it, or it has no CRS to be brought from.
    """
    aside: list[tuple[str, np.ndarray]] = []
    remarks: list[Remark] = []
    out = layer
    if crs and layer.has_geometry and layer.crs is None:
        if target.crs:
            raise DeliveryError(
                f"{target.title} is in WGS 84, and this layer has no CRS to come from",
                place=layer.key,
                way_out="Say it where the layer is loaded",
            )
        raise DeliveryError(
            "it has no coordinate system, so it cannot be brought to one", place=layer.key, way_out="Say it where the layer is loaded"
        )
    if crs and layer.has_geometry and not same_crs(layer.crs, crs):
        out, lost, remark = _brought(layer, crs, target, extent)
        aside.append((f"cannot be brought to {crs}" if not target.crs else "has no place in WGS 84", lost))
        remarks.append(remark)
    out = with_measures(out, settings.measures)
    out = _renamed(out, settings)
    if out.has_geometry and target.kinds != frozenset(GeometryKind) and not of_one_kind(out) and target.capacity is Capacity.ONE:
        raise DeliveryError(
            f"it has shapes of several kinds, and {target.title} holds one",
            place=layer.key,
            way_out="Keep one kind of them, or save to a GeoPackage",
        )
    settled = holding.settle(out, target.values)
    aside += [
        (reason, rows if not aside or not len(aside[-1][1]) else remaining(len(layer), aside[-1][1])[rows])
        for reason, rows in settled.aside
    ]
    remarks += settled.remarks
    out = settled.layer
    fitted = Fitted(out)
    if target.bounds is not None:
        fitted = fitting.fit(out, target.bounds, choices_of(settings))
        remarks += [Remark(r.text, layer.key, look=r.look) for r in fitted.remarks]
    return Ready(fitted.layer, SetAside.from_reasons(aside), tuple(remarks), fitted.names if fitted.renamed else ())


def _brought(layer: Layer, crs: str, target: Format, extent: Extent | None) -> tuple[Layer, np.ndarray, Remark]:
    assert layer.crs is not None
    if target.native:
        # its writer brings the shapes over itself, without making them
        text = f"brought from {crs_facts(layer.crs).name} to WGS 84, as GeoJSON wants"
        if not same_crs(crs, CRS84):
            text = f"brought from {crs_facts(layer.crs).name} to {crs_facts(crs).name}"
        return layer, np.empty(0, np.int64), Remark(text, layer.key)
    where = extent or layer.extent()
    way = transformation(layer.crs, crs, where)
    remark = Remark(f"brought to {crs_facts(crs).name}: {way.sentence()}", layer.key, look=way.coarse)
    xy = layer.undecoded.xy if layer.undecoded is not None else None
    places = None if xy is None else reproject_places(xy, layer.crs, crs, where)
    if places is not None:
        return replace(layer, column=GeometryColumn(WkbArray.of_points(places[0])), crs=crs), np.empty(0, np.int64), remark
    assert layer.geometry is not None
    moved, lost = reproject(layer.geometry, layer.crs, crs, extent)
    out = layer.with_geometry(moved, layer.kind, crs=crs)
    if len(lost):
        out = out.take(remaining(len(layer), lost))
    return out, lost, remark


def _renamed(layer: Layer, settings: Any) -> Layer:
    """The layer with the fields that are saved, under their names, with titles."""
    there = layer.table.column_names
    titles = {**layer.titles, **{f: t for f, t in settings.titles.items() if f in there}}
    kept = [n for n in settings.fields if n in there] if settings.fields else there
    names = kept
    if settings.titled:
        names = number_collisions([titles.get(n) or n for n in kept], limit=10_000)
    if kept == there and names == kept:
        return layer.titled(titles) if settings.titles else layer
    table = layer.table.select(kept).rename_columns(names)
    return layer.with_table(table).titled({n: titles[o] for n, o in zip(names, kept, strict=True) if o in titles})


def measured(one: LayerFacts, settings: Any) -> tuple[Field, ...]:
    """The layer's fields and the measures that are kept current."""
    names = [m for m in settings.measures if m.startswith({"line": "length", "area": "area"}.get(one.kind, "-"))]
    return (*one.fields, *(Field(m, pa.float64()) for m in names if m not in one.names()))


def sheet_name(name: str, limit: int) -> str:
    """A name cut to a format's limit."""
    return clean_name(name, limit=limit) or "layer"


def names_list(names: Sequence[tuple[str, str]], titles: Mapping[str, str]) -> str:
    """The list beside a file whose field names were shortened: CSV with the name in the file, the whole name, the title."""
    import csv
    import io

    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(["name_in_file", "name", "title"])
    writer.writerows([new, old, titles.get(new, "")] for new, old in names)
    return out.getvalue()
