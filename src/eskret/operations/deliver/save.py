"""Save layers to files."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from itertools import groupby
from pathlib import Path
from typing import Any, Literal

import numpy as np
from pydantic import field_validator

from eskret.core.account import ControlTotal, InputAccount, OutputAccount, Relation, Remark, SetAside, check_controls
from eskret.core.crs import crs_facts, same_crs, transformation
from eskret.core.layer import Kind, Layer, LayerFacts
from eskret.core.naming import AS_TYPED, TIDY, placeholders
from eskret.core.rows import remaining
from eskret.core.sizes import check_measure
from eskret.core.totals import totals_of
from eskret.core.words import bold, counted
from eskret.errors import DeliveryError, EskretError, SettingError
from eskret.formats import delimited, geopackage, sources, targets
from eskret.formats.geopackage import bulk, digest, metadata
from eskret.formats.geopackage.in_place import CHANGE, PUT, LayerChange, keep_rows
from eskret.formats.index_page import Listed, index_page
from eskret.operations import saving, updating
from eskret.operations.base import Context, Delivered, Delivery, Finding, Forecast, Level, Outcome, Phase, Planned
from eskret.operations.naming_layers import names_of
from eskret.operations.settings import KnownCrs, OperationSettings, setting, setting_info

_JSON = (".geojson", ".json", ".geojsons")
_ROUNDED = ("to", (*_JSON, ".kml", ".gpx"))
_GEOPACKAGE = ("to", (".gpkg",))
_FREE = ("to", (".gpkg", ".csv", ".shp", ".fgb", ".parquet", ".xlsx"))
_CHANGED = (".gpkg", *_JSON, ".shp", ".fgb", ".parquet", ".csv")
"""Formats whose layers can be appended to and brought up to date."""
_INDEX = "index.html"


@dataclass(frozen=True)
class _Place:
    """Where one layer goes."""

    key: str
    path: Path
    layer: str  # empty where the file is known by its own name
    name: str
    original: str
    told: tuple[str, ...] = ()
    """What was done to its name."""


class Save(Delivery):
    """Save layers to files of ten formats, under good names, all of them or none.

    The ending of the file says the format. A GeoPackage takes the whole set, and can keep it in a section, whose layers
    share one coordinate system; so do a workbook, KML and GPX. The others take one layer a file, so put {layer} into the path
    for several. Nothing is written before the whole run has succeeded, and then everything at once. What this workflow wrote
    the last time is replaced; anything else that is in the way stops the run, unless you say otherwise: it can be replaced,
    numbered, left, appended to, or brought up to date by a key. The last two can be taken back later.
    """

    id = "save"
    title = "Save"
    phase = Phase.DELIVER
    relation = Relation.KEPT
    single = ("name",)
    also_known_as = (
        "write",
        "export",
        "output",
        "store",
        "geopackage",
        "gpkg",
        "geojson",
        "convert",
        "file",
        "deliver",
        "shapefile",
        "shp",
        "csv",
        "section",
        "titles",
        "kml",
        "gpx",
        "excel",
        "xlsx",
        "workbook",
        "parquet",
        "flatgeobuf",
        "append",
        "update",
        "folder",
        "index page",
        "web",
        "sld",
        "style",
    )

    class Settings(OperationSettings):
        to: str = setting(
            "File",
            kind="target",
            min_length=1,
            example="out/returns.gpkg",
            help="Where to save, from the workflow's folder. The ending says the format: .gpkg .shp .geojson .geojsons .fgb .parquet "
            ".kml .gpx .csv .xlsx. It may hold {layer} and parameters.",
        )
        also: list[str] = setting(
            "Also to",
            kind="patterns",
            default=[],
            example="web/{layer}.geojson",
            help="More files to save the same layers to, each in the format of its ending.",
        )
        name: str = setting(
            "Layer name",
            kind="template",
            default="{layer}",
            min_length=1,
            example="{district}_{layer}",
            help="How each layer is called. {layer}, {step} (that made it), {n} and parameters are filled in.",
        )
        names: Literal["", "as typed", "tidy"] = setting(
            "Names of layers",
            kind="choice",
            default="",
            shown_when=("to", (".gpkg", ".kml", ".gpx", ".xlsx")),
            choices={"": "as the workflow says", AS_TYPED: "stay as they are", TIDY: "are tidied: small letters, digits, underscores"},
            help="Where the workflow says nothing either, they are tidied, save where a layer of just that name is there.",
        )
        if_exists: Literal["own", "stop", "replace", "number", "skip", "append", "update"] = setting(
            "If it is there already",
            kind="choice",
            default="own",
            choices={
                "own": "replace own output, else stop",
                "stop": "stop",
                "replace": "replace it",
                "number": "save beside it with a number",
                "skip": "leave it and go on",
                "append": "append to it",
                "update": "bring it up to date by a key",
            },
            help="A file or layer that nobody changed since this workflow wrote it is replaced without asking.",
        )
        key: list[str] = setting(
            "Key",
            kind="fields",
            default=[],
            example="bed",
            shown_when=("if_exists", ("update",)),
            help="Fields that tell features apart: those that are there are replaced, others added, the rest stays.",
        )
        section: str = setting(
            "Section",
            default="",
            example="Field work",
            shown_when=_GEOPACKAGE,
            help="A name that these layers share in the GeoPackage. A section has one CRS; layers are brought to it.",
        )
        crs: KnownCrs = setting(
            "CRS to save in",
            kind="crs",
            default="",
            example="EPSG:32626",
            shown_when=_FREE,
            help="Left empty, layers keep theirs, or take that of the section.",
        )
        native: bool = setting(
            "Keep the CRS of the layer",
            kind="flag",
            default=False,
            shown_when=("to", _JSON),
            help="GeoJSON is in WGS 84 by RFC 7946. Only where whoever reads it has agreed to another: it is named in the file.",
        )
        fields: list[str] = setting(
            "Fields to save", kind="fields", default=[], example="bed, licence, tonnes", help="In this order. Left empty, all are saved."
        )
        titled: bool = setting(
            "Titles as names of fields",
            kind="flag",
            default=False,
            help="The fields are called by their titles in the file, where they have any.",
        )
        titles: dict[str, str] = setting(
            "Titles of fields",
            kind="pairs",
            default={},
            example="depth_m = Depth in metres",
            help="What a field is called for people, written as field = title. A GeoPackage keeps both.",
        )
        measures: list[str] = setting(
            "Measures to keep current",
            kind="patterns",
            default=[],
            example="length_km, area_ha",
            help="Fields computed from the geometry on every save: length_ or area_ and a unit.",
        )
        times: Literal["text", "split"] = setting(
            "Times of day in a shapefile",
            kind="choice",
            default="text",
            shown_when=("to", (".shp",)),
            choices={"text": "as text", "split": "as a date and a text of the hour"},
            help="A shapefile has dates and no times of day.",
        )
        long_texts: Literal["cut", "stop"] = setting(
            "Texts that are too long",
            kind="choice",
            default="cut",
            shown_when=("to", (".shp", ".xlsx")),
            choices={"cut": "cut them and say so", "stop": "stop the run"},
            help="A shapefile holds texts of 254 bytes, a cell of a workbook 32,767 characters.",
        )
        decimals: int = setting(
            "Decimals",
            kind="whole",
            default=-1,
            ge=-1,
            le=15,
            shown_when=_ROUNDED,
            help="Digits after the point; -1 for as many as fit the unit: 7 of a degree, about a centimetre, 3 of a metre.",
        )
        layout: Literal["compact", "indented"] = setting(
            "Layout of GeoJSON",
            kind="choice",
            default="compact",
            shown_when=("to", (".geojson", ".json")),
            choices={"compact": "one feature a line", "indented": "spread out, for people to read"},
            help="Both hold the same; the compact one is smaller.",
        )
        title: str = setting("Title", default="", help="Of what is saved, for those who find it.")
        description: str = setting("Description", default="", help="Goes where the format has a place for it.")
        licence: str = setting("Licence", default="", example="CC BY 4.0", help="Under which it may be used.")
        sld: bool = setting(
            "Style beside it",
            kind="flag",
            default=False,
            help="How each layer is drawn, as an OGC SLD file of its name beside what is saved.",
        )
        index: bool = setting(
            "Index page beside it",
            kind="flag",
            default=False,
            help="A page, index.html, in the same folder, that lists what was saved with counts, CRS and fields.",
        )

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
        also = settings.get("also")
        more = f" and {len(also)} more" if isinstance(also, list) and also else ""
        verb, join = {"append": ("Append", "to"), "update": ("Bring", "into")}.get(str(settings.get("if_exists")), ("Save", "to"))
        return f"{verb} {entering or '…'} {join} {bold(to)}{more}" + (f" as {name}" if name and name != "{layer}" else "")

    # -- where things go

    def _places(self, layers: Sequence[LayerFacts | Layer], settings: Settings, context: Context) -> list[_Place]:
        """The file and name of each layer.

        Raises
        ------
        DeliveryError : an unknown ending, a name that comes out empty, several layers for one single-layer file.
        """
        target = _target(settings, context)
        own = {key: str(table["name"]) for key, table in context.of_layer.items() if table.get("name")}
        mode = settings.names or context.names
        file = _one_file(settings, context) if target.many and not mode else None
        there = frozenset(geopackage.layer_list(file)) if file is not None else frozenset()
        names = names_of(layers, lambda key: own.get(key, settings.name), context, target, mode, there)
        per_layer = {"layer", "n"} & set(placeholders(settings.to))
        if target.holds == targets.ONE and len(layers) > 1 and not per_layer:
            raise DeliveryError(
                f"{len(layers)} layers cannot go into one {target.title.removeprefix('a ')} file",
                place=settings.to,
                way_out="Put {layer} into the path for a file each, or save to a .gpkg",
            )
        out = []
        more = [{"step": x.step or context.step, "n": n} for n, x in enumerate(layers, 1)]
        paths = [context.fill_path(settings.to, {**m, "layer": n.unnumbered}) for m, n in zip(more, names, strict=True)]
        often = Counter(str(p).casefold() for p in paths)
        for layer, named, path, one in zip(layers, names, paths, more, strict=True):
            name, alone = named.name, target.holds == targets.ONE and often[str(path).casefold()] == 1
            if alone:
                # what else is in the path tells them apart already
                named = replace(named, name=named.unnumbered, notes=named.notes[:-1] if named.name != named.unnumbered else named.notes)
                name = named.name
            else:
                path = context.fill_path(settings.to, {**one, "layer": name})
            told = tuple(f"'{named.filled}' is called '{name}' there: {note}" for note in named.notes)
            out.append(_Place(layer.key, path, name if target.many else "", name, layer.name, told))
        return out

    # -- before anything is read

    def foretell(self, facts: Sequence[LayerFacts], settings: Settings, context: Context) -> Forecast:
        pages: set[Path] = set()
        first, *others = [self._foretell_one(facts, one, context, pages) for one in _each(settings)]
        findings = dict.fromkeys(f for forecast in (first, *others) for f in forecast.findings)
        return Forecast(first.layers, tuple(findings), tuple(o for f in (first, *others) for o in f.outputs))

    def _foretell_one(self, facts: Sequence[LayerFacts], settings: Settings, context: Context, pages: set[Path]) -> Forecast:
        findings: list[Finding] = []
        planned: list[Planned] = []
        try:
            places = self._places(facts, settings, context)
        except EskretError as error:
            setting_name = "name" if error.place == settings.name else "to"
            return Forecast((), (Finding.error(error.sentence(), setting_name),))
        target = _target(settings, context)
        findings += self._unfit(target, settings)
        for one in facts:
            findings += saving.foretell(replace(one, fields=saving.measured(one, settings)), target, settings)[1]
            if target.crs and one.crs is None and one.kind is not Kind.TABLE:
                findings.append(
                    Finding.error(
                        f"{target.title} is in WGS 84, and this layer has no CRS to come from. Say it where the layer is loaded.", "to", one
                    )
                )
        if any(f.setting == "crs" and f.level is Level.ERROR for f in findings):
            return Forecast((), tuple(findings))
        settled, more = self._settled(facts, target, settings, context, places)
        findings += more
        known = {f.key: f for f in settled}
        assert context.desk is not None
        for path, group in _by_path(places).items():
            try:
                plans = context.desk.settle(path, list(dict.fromkeys(p.layer for p in group)), settings.if_exists)
                self._settle_companions(target, path, settings, context)
                if settings.index and path.parent not in pages:
                    pages.add(path.parent)
                    context.desk.settle(path.with_name(_INDEX), [""], "own")
            except EskretError as error:
                findings.append(Finding.error(error.sentence(), "if_exists"))
                continue
            planned += _planned(plans, group, known)
            for plan, place in zip(plans, group, strict=False):
                findings += [Finding.look(f"{text}.", "name", layer=place.key) for text in _of_names(plan, place)]
        return Forecast(tuple(settled), tuple(dict.fromkeys(findings)), tuple(planned))

    def _unfit(self, target: targets.Target, settings: Settings) -> list[Finding]:
        """Settings that this format has no place for, and some that exclude each other."""
        infos = setting_info(type(settings))
        idle = [n for n in ("title", "description", "licence") if getattr(settings, n) and n not in target.words and not settings.index]
        if target is not targets.GEOPACKAGE:
            idle += [n for n in ("section",) if getattr(settings, n)]
            idle += ["titles"] if settings.titles and not settings.titled else []
        what = f"{target.title[:1].upper()}{target.title[1:]}"
        out = [Finding.look(f"{what} has no place for '{infos[n].label}'.", n) for n in idle]
        other = bool(settings.crs) and bool(target.crs) and not same_crs(settings.crs, target.crs)
        if target in (targets.GEOJSON, targets.SEQUENCE) and not settings.native and other:
            text = "GeoJSON is in WGS 84; leave 'CRS to save in' empty, or save in another format."
            out.append(Finding.error(text, "crs"))
        if saving.writes_native(target, settings):
            text = "GeoJSON in another CRS than WGS 84 is not as RFC 7946 has it; the file names its CRS."
            out.append(Finding.look(text, "native"))
        if settings.if_exists in ("append", "update") and target.ending not in _CHANGED and ".json" not in target.ending:
            text = f"{what} cannot be appended to. Save it anew, or to another format."
            out.append(Finding.error(text, "if_exists"))
        if settings.if_exists == "update" and not settings.key:
            out.append(Finding.error("To bring a layer up to date, features must be told apart: name a key.", "key"))
        return out

    def _settled(
        self, facts: Sequence[LayerFacts], target: targets.Target, settings: Settings, context: Context, places: Sequence[_Place]
    ) -> tuple[list[LayerFacts], list[Finding]]:
        """The layers with the CRS, the fields and the measures that they will have, and what that means."""
        findings: list[Finding] = []
        out = []
        section = context.fill(settings.section) if settings.section else ""
        path_of = {p.key: p.path for p in places}
        in_section: dict[Path, str] = {}
        for one in facts:
            wanted = saving.crs_for(target, settings, one.crs)
            if section and one.kind is not Kind.TABLE and target is targets.GEOPACKAGE:
                path = path_of[one.key]
                if path not in in_section:
                    there = geopackage.sections_of(path).get(section)
                    in_section[path] = there.crs if there else settings.crs or one.crs or ""
                if settings.crs and in_section[path] and not same_crs(settings.crs, in_section[path]):
                    text = f"The section '{section}' is in {in_section[path]}, and a section has one CRS. Save to another section."
                    findings.append(Finding.error(text, "crs"))
                wanted = in_section[path]
                if not one.crs:
                    findings.append(
                        Finding.error("a section has one CRS, and this layer has none. Say it where the layer is loaded.", "section", one)
                    )
            if wanted and one.crs and not same_crs(one.crs, wanted):
                way = transformation(one.crs, wanted, one.extent)
                text = f"{one.key}: brought to {crs_facts(wanted).name}: {way.sentence()}."
                findings.append(Finding(Level.LOOK if way.coarse else Level.NOTE, text, layer=one.key))
                one = replace(one, crs=wanted, extent=None)
            unknown = [f for f in settings.titles if all(f not in other.names() for other in facts)]
            if unknown and one.key == facts[-1].key:
                findings.append(Finding.look(f"No layer has a field '{unknown[0]}' to title.", "titles"))
            fields = saving.measured(one, settings)
            out.append(replace(one, fields=tuple(saving.chosen_fields(fields, settings))))
        return out, list(dict.fromkeys(findings))

    # -- writing

    def reads(self, settings: Settings, context: Context) -> Sequence[Path] | None:
        # whatever hangs on what is there already is looked at anew
        return () if settings.if_exists in ("own", "replace") else None

    def deliver(self, layers: Sequence[Layer], settings: Settings, context: Context) -> Sequence[Outcome]:
        first, *others = _each(settings)
        beside: set[Path] = set()
        outcomes = self._deliver_one(layers, first, context, beside)
        for one in others:
            outcomes += [_also(outcome) for outcome in self._deliver_one(layers, one, context, beside)]
        if settings.index:
            self._index(outcomes, settings, context, beside)
        return outcomes

    def _deliver_one(self, layers: Sequence[Layer], settings: Settings, context: Context, beside: set[Path]) -> list[Outcome]:
        by_key = {layer.key: layer for layer in layers}
        outcomes: list[Outcome] = []
        assert context.desk is not None
        target = _target(settings, context)
        for path, group in _by_path(self._places(layers, settings, context)).items():
            with context.desk.lock(path):
                plans = context.desk.settle(path, list(dict.fromkeys(p.layer for p in group)), settings.if_exists)
                paired = plans if target.many else [plans[0]] * len(group)
                pairs = [(by_key[place.key], plan, place) for place, plan in zip(group, paired, strict=True)]
                outcomes += [_skipped(layer, plan) for layer, plan, _ in pairs if plan.action == "skip"]
                self._settle_companions(target, path, settings, context)
                writing = [(layer, plan, place) for layer, plan, place in pairs if plan.action != "skip"]
                if not writing:
                    continue
                if target.many:
                    done = self._to_geopackage(path, [(x, p) for x, p, _ in writing], settings, context, beside)
                else:
                    done = self._to_file(target, [(x, p, z.name) for x, p, z in writing], settings, context, beside)
                told = {x.key: _of_names(p, z) for x, p, z in writing}
                outcomes += [
                    replace(o, remarks=(*o.remarks, *(Remark(t, key, look=True) for t in told[key])))
                    for o in done
                    for key in [o.inputs[0].layer]
                ]
        return outcomes

    def _settle_companions(self, target: targets.Target, path: Path, settings: Settings, context: Context) -> None:
        """A file that would be overwritten together with the one named must be this workflow's, too."""
        assert context.desk is not None
        if settings.if_exists in ("own", "stop"):
            for ending in target.companions:
                context.desk.settle(path.with_suffix(ending), [""], settings.if_exists)

    def _words(self, settings: Settings, context: Context) -> dict[str, str]:
        return {n: context.fill(getattr(settings, n)) for n in ("title", "description", "licence") if getattr(settings, n)}

    def _to_geopackage(
        self, path: Path, writing: Sequence[tuple[Layer, Planned]], settings: Settings, context: Context, beside: set[Path]
    ) -> list[Outcome]:
        assert context.desk is not None
        changed = [p for _, p in writing if p.action in ("append", "update")]
        there = geopackage.sections_of(path)
        staged = context.desk.stage(path, shared=True)
        section = context.fill(settings.section) if settings.section else ""
        words = self._words(settings, context)
        with geopackage.writing(staged) as container:
            crs = settings.crs
            if section:
                known = {**there, **container.sections()}.get(section)
                crs = known.crs if known else crs or next((x.crs for x, _ in writing if x.crs), "") or ""
        out: list[Outcome] = []
        fresh = [(x, p) for x, p in writing if p not in changed]
        for layer, plan in writing:
            if plan in changed:
                out.append(self._change_layer(staged, layer, plan, settings, context))
        brought = [saving.ready(layer, targets.GEOPACKAGE, settings, crs) for layer, _ in fresh]
        pairs = [(one.layer, plan.layer) for one, (_, plan) in zip(brought, fresh, strict=True)]
        # many small layers in one transaction; a large one by itself, through the library
        large: list[tuple[Layer, str]] = []
        description = words.get("description", "")
        for many_rows, group in groupby(pairs, key=lambda pair: bulk.is_large(*pair)):
            if many_rows:
                for layer, name in group:
                    large.append((layer, name))
                    bulk.write_large(staged, layer, name, description, context.watch)
            else:
                with geopackage.writing(staged) as container:
                    for layer, name in group:
                        container.add(layer, name, description, context.watch)
        with geopackage.writing(staged) as container:
            for layer, name in large:
                bulk.index_large(container, layer, name)
                container.put_titles(name, layer.titles)
            for _, name in pairs:
                if section:
                    container.put_in_section(name, section, crs)
                metadata.put_about(container, name, words)
        if settings.sld:
            self._styles(path, [(x, p.layer) for x, p in fresh], context, beside)
        context.desk.written(path)
        found = {e.name: e.rows for e in geopackage.entries(staged)} if fresh else {}
        digests = digest.layer_digests(staged, [p.layer for _, p in fresh])
        before = context.desk.digests_there(path, [p.layer for _, p in fresh if p.action == "replace"])
        for _, plan in fresh:
            after, rows = digests[plan.layer], found.get(plan.layer, -1)
            context.desk.change_layer(path, LayerChange(plan.layer, PUT, before.get(plan.layer, ""), after, rows))
        return out + [
            _saved(layer, plan, one, found.get(plan.layer, -1), context, digests[plan.layer])
            for (layer, plan), one in zip(fresh, brought, strict=True)
        ]

    def _change_layer(self, staged: Path, layer: Layer, plan: Planned, settings: Settings, context: Context) -> Outcome:
        """Stage rows that are appended to a layer of a GeoPackage or replace some of it; at the commit they go in row by row."""
        assert context.desk is not None
        before = context.desk.digests_there(plan.path, [plan.layer])[plan.layer]
        old = sources.read(plan.path, plan.layer, plan.layer).layer
        one = saving.ready(layer, targets.GEOPACKAGE, settings, old.crs or "")
        done = updating.update(old, one.layer, settings.key if plan.action == "update" else [])
        if old.drawn and one.layer.drawn and old.crs and one.layer.crs and not same_crs(old.crs, one.layer.crs):
            raise DeliveryError(f"the layer '{plan.layer}' is in {old.crs}", way_out="Bring the new rows to it")
        rows = np.concatenate([done.added, done.changed]).astype(np.int64)
        ids = old.ids if old.ids is not None else np.arange(1, len(old) + 1)
        with geopackage.writing(staged) as container:
            container.add(done.aligned.take(rows), plan.layer, watch=context.watch)
        columns = tuple((f.name, geopackage.sql_type(f.type)) for f in done.aligned.table.schema if f.name not in old.table.column_names)
        change = context.desk.change_layer(
            plan.path, LayerChange(plan.layer, CHANGE, before, rows=len(rows), added=len(done.added), columns=columns)
        )
        keep_rows(staged, plan.path, change, ids[done.was].tolist())
        staged_rows = next(e.rows for e in geopackage.entries(staged) if e.name == plan.layer)
        return _changed(layer, plan, one, done, len(old), len(old) + staged_rows - len(done.changed), context)

    def _to_file(
        self, target: targets.Target, writing: Sequence[tuple[Layer, Planned, str]], settings: Settings, context: Context, beside: set[Path]
    ) -> list[Outcome]:
        """Write layers to a file: one, or all of the step where the format holds a set."""
        assert context.desk is not None and target.write is not None
        path = writing[0][1].path
        if writing[0][1].action in ("append", "update"):
            return [self._change_file(target, *writing[0], settings, context)]
        ready = [saving.ready(x, target, settings, saving.crs_for(target, settings, x.crs)) for x, _, _ in writing]
        put = self._write(target, path, [(r.layer, n) for r, (_, _, n) in zip(ready, writing, strict=True)], settings, context)
        names = ready[0].names
        if names:
            text = saving.names_list(names, ready[0].layer.titles)
            self._beside(path, path.with_suffix(".fields.csv"), text, context, beside)
        if settings.sld:
            self._styles(path, [(x, n) for x, _, n in writing], context, beside, alone=len(writing) == 1)
        if len(writing) > 1:
            counts = [len(r.layer) for r in ready]
            whole = put.found - sum(counts)
            return [
                _saved(x, p, r, len(r.layer) + (whole if n == 0 else 0), context)
                for n, ((x, p, _), r) in enumerate(zip(writing, ready, strict=True))
            ]
        layer, plan, _ = writing[0]
        one = ready[0]
        lost = np.asarray(put.lost, np.int64)
        if len(lost):
            aside = SetAside.from_reasons([("has no place in WGS 84", lost)])
            one = replace(one, layer=one.layer.take(remaining(len(one.layer), lost)), aside=aside)
        if put.cut:
            text = f"{counted(put.cut, 'feature')} cut at the antimeridian, as RFC 7946 wants it"
            one = replace(one, remarks=(*one.remarks, Remark(text, layer.key)))
        crs = saving.crs_for(target, settings, layer.crs) or layer.crs
        return [_saved(layer, plan, one, put.found, context, crs=crs)]

    def _write(
        self, target: targets.Target, path: Path, pairs: Sequence[tuple[Layer, str]], settings: Settings, context: Context
    ) -> targets.Put:
        assert context.desk is not None and target.write is not None
        staged = context.desk.stage(path)
        for ending in target.companions:
            context.desk.join(path, path.with_suffix(ending))
        how = targets.Writing(
            settings.decimals if settings.decimals >= 0 else None,
            settings.layout == "indented",
            saving.crs_for(target, settings, pairs[0][0].crs) or "OGC:CRS84",
            self._words(settings, context),
        )
        put = target.write(staged, pairs, how, context.watch)
        for ending in target.companions:
            if not staged.with_suffix(ending).exists():
                staged.with_suffix(ending).touch()  # one that says nothing, such as of a CRS that is not known
        if target is targets.SHAPEFILE:
            for ending in (".qix", ".sbn", ".sbx", ".fix", ".cst"):
                context.desk.drop(path.with_suffix(ending))  # indexes of what was there before
        context.desk.written(path, put.sha256)
        return put

    def _change_file(self, target: targets.Target, layer: Layer, plan: Planned, name: str, settings: Settings, context: Context) -> Outcome:
        """Append to a file of one layer, or bring it up to date: it is read and written anew."""
        assert context.desk is not None
        there = sources.layer_names(plan.path)
        old = sources.read(plan.path, there[0], name).layer
        # what the format itself wants, such as WGS 84, is seen to when the whole is written
        one = saving.ready(layer, targets.GEOPACKAGE if target.crs else target, settings, old.crs or "")
        if target is targets.CSV and one.layer.drawn:
            # in such a file the shapes are columns
            one = replace(one, layer=Layer(layer.key, delimited.with_geometry(one.layer)))
        done = updating.update(old, one.layer, settings.key if plan.action == "update" else [], widen=True)
        context.desk.keep(plan.path, *(plan.path.with_suffix(e) for e in target.companions))
        put = self._write(target, plan.path, [(done.layer, name)], settings, context)
        return _changed(layer, plan, one, done, len(old), put.found, context)

    # -- what stands beside

    def _beside(self, path: Path, file: Path, text: str, context: Context, done: set[Path]) -> None:
        """Write a text that belongs to a file; what stands there from another file of this step says the same."""
        assert context.desk is not None
        if file in done:
            return
        done.add(file)
        context.desk.settle(file, [""], "own")
        staged = context.desk.stage(file, of=path)
        staged.write_text(text, encoding="utf-8")

    def _styles(self, path: Path, layers: Sequence[tuple[Layer, str]], context: Context, beside: set[Path], alone: bool = False) -> None:
        """How each layer is drawn, as SLD beside what is saved."""
        for layer, name in layers:
            text = context.sld(layer, name) if layer.drawn else ""
            if text:
                file = path.with_suffix(".sld") if alone else path.with_name(f"{name}.sld")
                self._beside(path, file, text, context, beside)

    def _index(self, outcomes: Sequence[Outcome], settings: Settings, context: Context, beside: set[Path]) -> None:
        """A page in each folder that lists what was saved there."""
        assert context.desk is not None
        folders: dict[Path, list[Listed]] = {}
        for outcome in outcomes:
            for one in outcome.delivered:
                if not outcome.layers and outcome.inputs[0].setting == "also":
                    layer = next(o.layers[0] for o in outcomes if o.layers and o.inputs[0].layer == outcome.inputs[0].layer)
                else:
                    layer = outcome.layers[0]
                staged = context.desk.stage(one.path, shared=True)
                fields = [(f.title or f.name, f.word) for f in layer.fields]
                crs = crs_facts(one.crs).name if one.crs and layer.drawn else ""
                kind = "table" if not layer.drawn else str(layer.kind)
                size = staged.stat().st_size
                listed = Listed(one.path.name, one.layer, one.features, kind, crs, fields, size)
                folders.setdefault(one.path.parent, []).append(listed)
        made = datetime.now().astimezone().strftime("on %-d %B %Y")
        for folder, files in folders.items():
            page = index_page(files, self._words(settings, context), made)
            self._beside(folder / files[0].file, folder / _INDEX, page, context, beside)


def _of_names(plan: Planned, place: _Place) -> list[str]:
    """What there is to say of the name of a layer."""
    out = list(place.told)
    if plan.layer and plan.action in ("append", "update", "replace") and plan.layer != place.layer:
        out.append(f"'{place.layer}' is called '{plan.layer}' there, and stays so")
    return out


def _target(settings: Any, context: Context) -> targets.Target:
    """The format of the files to be written.

    Raises
    ------
    DeliveryError : no such format.
    """
    if Path(settings.to).suffix.lower() in targets.TARGETS:
        return targets.target_for(Path(settings.to))
    stands_for = {"layer": "layer", "step": context.step, "n": 1}
    return targets.target_for(context.fill_path(settings.to, stands_for))


def _one_file(settings: Any, context: Context) -> Path | None:
    """The file that all layers go into, where it is there; None where each may have its own."""
    if {"layer", "step", "n"} & set(placeholders(settings.to)):
        return None
    path = context.fill_path(settings.to, {})
    return path if path.is_file() else None


def _each(settings: Any) -> list[Any]:
    """The settings for each file, or pattern of files, to save to."""
    return [settings, *(settings.model_copy(update={"to": other, "also": []}) for other in settings.also)]


def _also(outcome: Outcome) -> Outcome:
    """The outcome of saving once more: its account stands beside the first one's, so that nothing counts twice."""
    check_controls(outcome.outputs)
    inputs = tuple(replace(a, setting="also") for a in outcome.inputs)
    return replace(outcome, layers=(), inputs=inputs, outputs=(), lineage=None)


def _planned(plans: Sequence[Planned], group: Sequence[_Place], known: Mapping[str, LayerFacts]) -> list[Planned]:
    if len(plans) == len(group):
        return [
            replace(plan, features=known[z.key].count, original=z.original, certainty=known[z.key].certainty)
            for plan, z in zip(plans, group, strict=True)
        ]
    counts = [known[z.key].count for z in group]
    whole = None if None in counts else sum(c or 0 for c in counts)
    certain = "known" if all(known[z.key].certainty == "known" for z in group) else "at most"
    return [replace(plans[0], features=whole, certainty=certain if whole is not None else "unknown")]


def _by_path(places: Sequence[_Place]) -> dict[Path, list[_Place]]:
    out: dict[Path, list[_Place]] = {}
    for place in places:
        out.setdefault(place.path, []).append(place)
    return out


def _skipped(layer: Layer, plan: Planned) -> Outcome:
    rows = np.arange(len(layer))
    where = f"{plan.path.name}, {plan.layer}" if plan.layer else plan.path.name
    aside = SetAside.from_reasons([("was not saved: it is there already", rows)])
    return Outcome(
        (),
        (InputAccount("from", layer.key, len(layer), aside),),
        (OutputAccount(layer.key, 0),),
        np.empty(0, np.int64),
        (Remark(f"{where} is there already and was left as it is", layer.key, look=True),),
    )


def _saved(
    layer: Layer, plan: Planned, one: saving.Ready, found: int, context: Context, content: str = "", crs: str | None = None
) -> Outcome:
    """The outcome of a layer written; the count comes from the file, not from what was handed to it."""
    lineage = remaining(len(layer), one.aside.rows)
    totals = totals_of(one.layer, tuple(t for t in context.totals if t in one.layer.table.column_names))
    output = OutputAccount(layer.key, len(lineage), totals, (ControlTotal("number of features in the file", "", len(lineage), found, 0.0),))
    delivered = Delivered(plan.path, plan.layer, len(lineage), crs or one.layer.crs, context.step, content=content)
    account = InputAccount("from", layer.key, len(layer), one.aside)
    written = one.layer.with_key(layer.key)
    return Outcome((written,), (account,), (output,), lineage, one.remarks, (delivered,))


def _changed(layer: Layer, plan: Planned, one: saving.Ready, done: updating.Updated, before: int, found: int, context: Context) -> Outcome:
    """The outcome of rows that went into a layer that was there."""
    kept = remaining(len(layer), one.aside.rows)
    aside = [(reason, one.aside.rows[one.aside.codes == n]) for n, reason in enumerate(one.aside.reasons)]
    aside += [("is there as it is", kept[done.same]), ("its key is empty or not its own", kept[done.unkeyed])]
    used = np.sort(np.concatenate([done.added, done.changed])).astype(np.int64)
    where = f"layer '{plan.layer}' of {plan.path.name}" if plan.layer else plan.path.name
    told = f"{len(done.added):,} added to {where}, {len(done.changed):,} changed, {len(done.same):,} as they were; it can be taken back"
    output = OutputAccount(
        layer.key,
        len(used),
        totals_of(one.layer.take(used), context.totals),
        (ControlTotal("number of features in the file", "", before + len(done.added), found, 0.0),),
    )
    delivered = Delivered(plan.path, plan.layer, found, one.layer.crs, context.step, own=False)
    account = InputAccount("from", layer.key, len(layer), SetAside.from_reasons(aside))
    remarks = (*one.remarks, *done.remarks, Remark(told, layer.key))
    return Outcome((one.layer.take(used),), (account,), (output,), kept[used], remarks, (delivered,))
