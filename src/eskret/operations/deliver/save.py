"""Save layers to files."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import groupby
from pathlib import Path
from typing import Any, Literal

import numpy as np
import pyarrow as pa
from pydantic import field_validator

from eskret.core.account import ControlTotal, InputAccount, OutputAccount, Relation, Remark, SetAside
from eskret.core.crs import crs_facts, reproject, same_crs, transformation
from eskret.core.layer import Field, Layer, LayerFacts
from eskret.core.naming import number_collisions, placeholders
from eskret.core.rows import remaining
from eskret.core.sizes import check_measure, with_measures
from eskret.core.totals import totals_of
from eskret.core.words import bold
from eskret.errors import DeliveryError, EskretError, SettingError
from eskret.formats import delimited, digest, geojson, geopackage, geopackage_large, targets
from eskret.operations.base import (
    Context,
    Delivered,
    Delivery,
    Finding,
    Forecast,
    Level,
    Outcome,
    Phase,
    Planned,
    deliver_name,
)
from eskret.operations.settings import KnownCrs, OperationSettings, setting, setting_info

_GEOJSON = ("to", (".geojson", ".json"))
_GEOPACKAGE = ("to", (".gpkg",))
_NOT_GEOJSON = ("to", (".gpkg", ".csv"))


@dataclass(frozen=True)
class _Place:
    """Where one layer goes."""

    key: str
    path: Path
    layer: str  # empty where the file holds one layer
    name: str
    original: str


class Save(Delivery):
    """Save layers to a GeoPackage, to GeoJSON or to CSV, under good names.

    The ending of the file says the format. A GeoPackage takes the whole set, and can keep it in a section, whose layers
    share one coordinate system; GeoJSON and CSV take one layer a file, so put {layer} into the path for several. Nothing
    is written before the whole run has succeeded, and then everything at once. What this workflow wrote the last time is
    replaced; anything else that is in the way stops the run, unless you say otherwise.
    """

    id = "save"
    title = "Save"
    phase = Phase.DELIVER
    relation = Relation.KEPT
    also_known_as = (
        "write", "export", "output", "store", "geopackage", "gpkg", "geojson", "convert", "file", "deliver",
        "csv", "section", "titles",
    )  # fmt: skip

    class Settings(OperationSettings):
        to: str = setting(
            "File", kind="target", min_length=1, example="out/returns.gpkg",
            help="Where to save, from the workflow's folder: .gpkg, .geojson or .csv. It may hold {layer} and parameters.",
        )  # fmt: skip
        name: str = setting(
            "Layer name", kind="template", default="{layer}", min_length=1, example="{district}_{layer}",
            help="How each layer is called. {layer}, {step} (that made it), {n} and parameters are filled in, then it is cleaned.",
        )  # fmt: skip
        if_exists: Literal["own", "stop", "replace", "number", "skip"] = setting(
            "If it is there already", kind="choice", default="own",
            choices={
                "own": "replace own output, else stop", "stop": "stop", "replace": "replace it",
                "number": "save beside it with a number", "skip": "leave it and go on",
            },
            help="A file or layer that nobody changed since this workflow wrote it is replaced without asking.",
        )  # fmt: skip
        section: str = setting(
            "Section", default="", example="Field work", shown_when=_GEOPACKAGE,
            help="A name that these layers share in the GeoPackage. A section has one CRS; layers are brought to it.",
        )  # fmt: skip
        crs: KnownCrs = setting(
            "CRS to save in", kind="crs", default="", example="EPSG:32626", shown_when=_NOT_GEOJSON,
            help="Left empty, layers keep theirs, or take that of the section.",
        )  # fmt: skip
        measures: list[str] = setting(
            "Measures to keep current", kind="patterns", default=[], example="length_km, area_ha",
            help="Fields computed from the geometry on every save: length_ or area_ and a unit.",
        )  # fmt: skip
        titles: dict[str, str] = setting(
            "Titles of fields", kind="pairs", default={}, example="depth_m = Depth in metres", shown_when=_GEOPACKAGE,
            help="What a field is called for people, written as field = title; other programs can show it too.",
        )  # fmt: skip
        description: str = setting(
            "Description",
            default="",
            shown_when=_GEOPACKAGE,
            help="Goes into the GeoPackage's list of contents, for those who open it.",
        )
        decimals: int = setting(
            "Decimals of GeoJSON", kind="whole", default=geojson.DECIMALS, ge=0, le=15, shown_when=_GEOJSON,
            help="Digits after the point of a degree; 7 are about a centimetre.",
        )  # fmt: skip
        layout: Literal["compact", "indented"] = setting(
            "Layout of GeoJSON", kind="choice", default="compact", shown_when=_GEOJSON,
            choices={"compact": "one feature a line", "indented": "spread out, for people to read"},
            help="Both hold the same; the compact one is smaller.",
        )  # fmt: skip

        @field_validator("measures")
        @classmethod
        def _measured(cls, value: list[str]) -> list[str]:
            for name in value:
                try:
                    check_measure(name)
                except SettingError as error:
                    raise ValueError(error.sentence()) from error
            return value

    def sentence(self, settings: Mapping[str, Any], entering: str) -> str:
        to = Path(str(settings.get("to") or "…")).name
        name = settings.get("name")
        if settings.get("section"):
            to = f"{settings['section']} in {to}"
        return f"Save {entering or '…'} to {bold(to)}" + (f" as {name}" if name and name != "{layer}" else "")

    # -- where things go

    def _places(self, layers: Sequence[LayerFacts | Layer], settings: Settings, context: Context) -> list[_Place]:
        """The file and name of each layer.

        Raises
        ------
        DeliveryError : an unknown ending, a name that comes out empty, several layers for one single-layer file.
        """
        target = targets.target_for(Path(settings.to))
        names = []
        for number, layer in enumerate(layers, 1):
            name = deliver_name(settings.name, layer, context, number, target.name_limit)
            if not name:
                raise DeliveryError(
                    f"the name of layer '{layer.key}' comes out empty", place=settings.name,
                    way_out="Put something into the template that is never empty",
                )  # fmt: skip
            if name.startswith(geopackage.RESERVED_PREFIXES):
                name = f"layer_{name}"[: target.name_limit]
            names.append(name)
        names = number_collisions(names, limit=target.name_limit)
        per_layer = {"layer", "n"} & set(placeholders(settings.to))
        if not target.many and len(layers) > 1 and not per_layer:
            raise DeliveryError(
                f"{len(layers)} layers cannot go into one {target.title} file", place=settings.to,
                way_out="Put {layer} into the path for a file each, or save to a .gpkg",
            )  # fmt: skip
        out = []
        for number, (layer, name) in enumerate(zip(layers, names, strict=True), 1):
            path = context.fill_path(settings.to, {"layer": name, "step": layer.step or context.step, "n": number})
            out.append(_Place(layer.key, path, name if target.many else "", name, layer.name))
        return out

    def foretell(self, facts: Sequence[LayerFacts], settings: Settings, context: Context) -> Forecast:
        findings: list[Finding] = []
        planned: list[Planned] = []
        try:
            places = self._places(facts, settings, context)
        except EskretError as error:
            setting_name = "name" if error.place == settings.name else "to"
            return Forecast((), (Finding(Level.ERROR, error.sentence(), setting=setting_name),))
        target = targets.target_for(Path(settings.to))
        for one in facts:
            for loss in targets.losses(target, one.schema()):
                findings.append(Finding(Level.NOTE, f"{one.key}: {loss}.", layer=one.key))
            if target is targets.GEOJSON and one.crs is None and one.kind != "table":
                findings.append(
                    Finding(Level.ERROR, f"{one.key}: GeoJSON is in WGS 84, and this layer has no CRS to come from. "
                            "Say it where the layer is loaded.", layer=one.key, setting="to")
                )  # fmt: skip
        if target is not targets.GEOPACKAGE:
            names = [n for n in ("section", "titles", "description") if getattr(settings, n)]
            findings += [
                Finding(Level.LOOK, f"{target.title} has no place for '{setting_info(type(settings))[n].label}'.", setting=n)
                for n in names
            ]  # fmt: skip
        if target is targets.GEOJSON and settings.crs and not same_crs(settings.crs, geojson.CRS84):
            text = "GeoJSON is in WGS 84; leave 'CRS to save in' empty, or save in another format."
            return Forecast((), (*findings, Finding(Level.ERROR, text, setting="crs")))
        settled, more = self._foretold(facts, settings, context, places)
        findings += more
        known = {f.key: f for f in settled}
        assert context.desk is not None
        for path, group in _by_path(places).items():
            try:
                plans = context.desk.settle(path, [p.layer for p in group], settings.if_exists)
            except EskretError as error:
                findings.append(Finding(Level.ERROR, error.sentence(), setting="if_exists"))
                continue
            planned += [
                replace(
                    plan, features=known[place.key].count, original=place.original, certainty=known[place.key].certainty
                )
                for plan, place in zip(plans, group, strict=True)
            ]
        return Forecast(tuple(settled), tuple(findings), tuple(planned))

    def _foretold(
        self, facts: Sequence[LayerFacts], settings: Settings, context: Context, places: Sequence[_Place]
    ) -> tuple[list[LayerFacts], list[Finding]]:
        """The layers with the CRS and the measures that they will have, and what that means."""
        findings: list[Finding] = []
        out = []
        section = context.fill(settings.section) if settings.section else ""
        path_of = {p.key: p.path for p in places}
        settled: dict[Path, str] = {}
        for one in facts:
            wanted = settings.crs
            if section and one.kind != "table" and path_of[one.key].suffix.lower() == ".gpkg":
                path = path_of[one.key]
                if path not in settled:
                    there = geopackage.sections_of(path).get(section)
                    settled[path] = there.crs if there else settings.crs or one.crs or ""
                if settings.crs and settled[path] and not same_crs(settings.crs, settled[path]):
                    text = f"The section '{section}' is in {settled[path]}, and a section has one CRS. Save to another section."
                    findings.append(Finding(Level.ERROR, text, setting="crs"))
                wanted = settled[path]
                if not one.crs:
                    text = (
                        f"{one.key}: a section has one CRS, and this layer has none. Say it where the layer is loaded."
                    )
                    findings.append(Finding(Level.ERROR, text, layer=one.key, setting="section"))
            if wanted and one.crs and not same_crs(one.crs, wanted):
                way = transformation(one.crs, wanted, one.extent)
                text = f"{one.key}: brought to {crs_facts(wanted).name}: {way.sentence()}."
                findings.append(Finding(Level.LOOK if way.coarse else Level.NOTE, text, layer=one.key))
                one = replace(one, crs=wanted, extent=None)
            names = [
                m for m in settings.measures if m.startswith({"line": "length", "area": "area"}.get(one.kind, "-"))
            ]
            fields = (*one.fields, *(Field(m, pa.float64()) for m in names if m not in one.names()))
            unknown = [f for f in settings.titles if all(f not in other.names() for other in facts)]
            if unknown and one is facts[-1]:
                findings.append(Finding(Level.LOOK, f"No layer has a field '{unknown[0]}' to title.", setting="titles"))
            out.append(replace(one, fields=fields))
        return out, list(dict.fromkeys(findings))

    # -- writing

    def deliver(self, layers: Sequence[Layer], settings: Settings, context: Context) -> Sequence[Outcome]:
        by_key = {layer.key: layer for layer in layers}
        outcomes: list[Outcome] = []
        assert context.desk is not None
        for path, group in _by_path(self._places(layers, settings, context)).items():
            with context.desk.lock(path):
                plans = context.desk.settle(path, [p.layer for p in group], settings.if_exists)
                pairs = [(by_key[place.key], plan) for place, plan in zip(group, plans, strict=True)]
                writing = [(layer, plan) for layer, plan in pairs if plan.action != "skip"]
                outcomes += [_skipped(layer, plan) for layer, plan in pairs if plan.action == "skip"]
                if targets.target_for(path).many:
                    outcomes += self._to_geopackage(path, writing, settings, context)
                elif targets.target_for(path) is targets.CSV:
                    outcomes += [self._to_csv(layer, plan, settings, context) for layer, plan in writing]
                else:
                    outcomes += [self._to_geojson(layer, plan, settings, context) for layer, plan in writing]
        return outcomes

    def _to_geopackage(
        self, path: Path, writing: Sequence[tuple[Layer, Planned]], settings: Settings, context: Context
    ) -> list[Outcome]:
        if not writing:
            return []
        assert context.desk is not None
        anew = path.exists() and geopackage.holds_only(path, [p.layer for _, p in writing])
        sections = geopackage.sections_of(path) if anew else {}
        staged = context.desk.stage(path, keep_content=True, anew=anew)
        section = context.fill(settings.section) if settings.section else ""
        with geopackage.writing(staged) as container:
            there = {name.casefold(): name for name in container.names()}
            crs = settings.crs
            if section:
                known = {**sections, **container.sections()}.get(section)
                crs = known.crs if known else crs or next((x.crs for x, _ in writing if x.crs), "") or ""
            for _, plan in writing:
                if plan.layer.casefold() in there:
                    container.remove(there[plan.layer.casefold()])
        brought = [_brought(layer, settings, crs) for layer, _ in writing]
        pairs = [(one.layer, plan.layer) for one, (_, plan) in zip(brought, writing, strict=True)]
        # many small layers in one transaction; a large one by itself, through the library
        large: list[tuple[Layer, str]] = []
        for many_rows, group in groupby(pairs, key=lambda pair: geopackage_large.is_large(pair[0])):
            if many_rows:
                for layer, name in group:
                    large.append((layer, name))
                    geopackage_large.write_large(staged, layer, name, settings.description, context.watch)
            else:
                with geopackage.writing(staged) as container:
                    for layer, name in group:
                        container.add(layer, name, settings.description, context.watch)
        with geopackage.writing(staged) as container:
            for layer, name in large:
                geopackage_large.index_large(container, layer, name)
                container.put_titles(name, layer.titles)
            for _, name in pairs:
                if section:
                    container.put_in_section(name, section, crs)
        context.desk.written(path)
        found = {e.name: e.rows for e in geopackage.entries(staged)}
        return [
            _saved(
                layer, plan, one.layer.crs, one.aside, found.get(plan.layer, -1), context, one.remarks,
                digest.layer_digest(staged, plan.layer), one.layer,
            )
            for (layer, plan), one in zip(writing, brought, strict=True)
        ]  # fmt: skip

    def _to_csv(self, layer: Layer, plan: Planned, settings: Settings, context: Context) -> Outcome:
        assert context.desk is not None
        staged = context.desk.stage(plan.path, keep_content=False)
        one = _brought(layer, settings, settings.crs)
        delimited.write(staged, one.layer, context.watch)
        found = delimited.count(staged)
        return _saved(layer, plan, one.layer.crs, one.aside, found, context, one.remarks, "", one.layer)

    def _to_geojson(self, layer: Layer, plan: Planned, settings: Settings, context: Context) -> Outcome:
        assert context.desk is not None
        if layer.drawn and layer.crs is None:
            raise DeliveryError(
                "GeoJSON is in WGS 84, and this layer has no CRS to come from", place=layer.key,
                way_out="Say it where the layer is loaded",
            )  # fmt: skip
        staged = context.desk.stage(plan.path, keep_content=False)
        measured = with_measures(layer, settings.measures)
        written = geojson.write(
            staged, measured, decimals=settings.decimals, indent=settings.layout == "indented", watch=context.watch
        )
        context.desk.written(plan.path, written.sha256)
        lost = written.lost
        aside = SetAside.from_reasons([("has no place in WGS 84", lost)])
        remarks: tuple[Remark, ...] = ()
        if layer.crs and not same_crs(layer.crs, geojson.CRS84):
            remarks = (Remark(f"brought from {crs_facts(layer.crs).name} to WGS 84, as GeoJSON wants", layer.key),)
        found = _count_features(staged)
        left = measured.take(remaining(len(layer), lost)) if len(lost) else measured
        return _saved(layer, plan, geojson.CRS84, aside, found, context, remarks, "", left)


@dataclass(frozen=True)
class _Brought:
    """A layer as it is written: in the CRS of the target, with measures and titles; rows that cannot be, aside."""

    layer: Layer
    aside: SetAside
    remarks: tuple[Remark, ...]


def _brought(layer: Layer, settings: Any, crs: str) -> _Brought:
    aside, remarks = SetAside(), []
    out = layer
    if crs and layer.drawn and layer.crs is not None and not same_crs(layer.crs, crs):
        assert layer.geometry is not None
        way = transformation(layer.crs, crs, layer.extent())
        moved, lost = reproject(layer.geometry, layer.crs, crs)
        aside = SetAside.from_reasons([(f"cannot be brought to {crs}", lost)])
        remarks.append(Remark(f"brought to {crs_facts(crs).name}: {way.sentence()}", layer.key, look=way.coarse))
        out = replace(layer, geometry=moved, crs=crs)
        if len(lost):
            out = out.take(remaining(len(layer), lost))
    elif crs and layer.drawn and layer.crs is None:
        raise DeliveryError(
            "it has no coordinate system, so it cannot be brought to one", place=layer.key,
            way_out="Say it where the layer is loaded",
        )  # fmt: skip
    out = with_measures(out, settings.measures)
    titles = {f: t for f, t in settings.titles.items() if f in out.table.column_names}
    out = replace(out, titles={**out.titles, **titles}) if titles else out
    return _Brought(out, aside, tuple(remarks))


def _by_path(places: Sequence[_Place]) -> dict[Path, list[_Place]]:
    out: dict[Path, list[_Place]] = {}
    for place in places:
        out.setdefault(place.path, []).append(place)
    return out


def _count_features(path: Path) -> int:
    """Features in a GeoJSON file, counted in the file itself."""
    count, tail = 0, b""
    with path.open("rb") as stream:
        mark = b'"type": "Feature"' if b'\n  "type"' in stream.read(4096) else b'"type":"Feature"'
        stream.seek(0)
        while chunk := stream.read(1 << 22):
            piece = tail + chunk
            count += piece.count(mark + b",")
            tail = piece[-len(mark) :]
    return count


def _skipped(layer: Layer, plan: Planned) -> Outcome:
    rows = np.arange(len(layer))
    where = f"{plan.path.name}, {plan.layer}" if plan.layer else plan.path.name
    aside = SetAside.from_reasons([("was not saved: it is there already", rows)])
    return Outcome(
        (), (InputAccount("from", layer.key, len(layer), aside),), (OutputAccount(layer.key, 0),), np.empty(0, np.int64),
        (Remark(f"{where} is there already and was left as it is", layer.key, look=True),),
    )  # fmt: skip


def _saved(
    layer: Layer, plan: Planned, crs: str | None, aside: SetAside, found: int, context: Context,
    remarks: tuple[Remark, ...], content: str, written: Layer,
) -> Outcome:  # fmt: skip
    """The outcome of a layer written; the count comes from the file, not from what was handed to it."""
    lineage = remaining(len(layer), aside.rows)
    output = OutputAccount(
        layer.key, len(lineage), totals_of(written, context.totals),
        (ControlTotal("number of features in the file", "", len(lineage), found, 0.0),),
    )  # fmt: skip
    delivered = Delivered(plan.path, plan.layer, len(lineage), crs, context.step, content=content)
    account = InputAccount("from", layer.key, len(layer), aside)
    return Outcome((written,), (account,), (output,), lineage, remarks, (delivered,))
