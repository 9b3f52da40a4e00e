"""Save layers to files."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, Literal

import numpy as np
from pydantic import field_validator

from eskret.core.accounts.account import InputAccount, OutputAccount, Relation, Remark, Role, SetAside, check_controls
from eskret.core.crs import crs_facts, same_crs, transformation
from eskret.core.layer import Certainty, ChunkedLayer, GeometryKind, Layer, LayerFacts
from eskret.core.measure.measure_fields import check_measure
from eskret.core.naming import AS_TYPED, TIDY, placeholders
from eskret.core.words import bold
from eskret.errors import DeliveryError, EskretError, SettingError
from eskret.formats import geopackage
from eskret.formats.format import Capacity, Format
from eskret.formats.known import WRITTEN, format_to_write
from eskret.operations.base import Context, Delivery, Finding, Forecast, Level, Outcome, Phase, PlannedOutput
from eskret.operations.settings import KnownCrs, OperationSettings, setting, setting_info
from eskret.operations.support import saving
from eskret.operations.support.naming_layers import names_of
from eskret.operations.support.writing import INDEX, Writer

_JSON = (".geojson", ".json", ".geojsons")
_ROUNDED = ("to", (*_JSON, ".kml", ".gpx"))
_GEOPACKAGE = ("to", (".gpkg",))
_FREE = ("to", (".gpkg", ".csv", ".shp", ".fgb", ".parquet", ".xlsx"))


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
    """Save layers to files in ten formats, all of them or none.

    The file's ending decides the format. A GeoPackage takes the whole set, and can keep it in a section, whose layers
    share one coordinate system; so do a workbook, KML and GPX. The others take one layer a file, so put {layer} into
    the path for several. Nothing is written before the whole run has succeeded, and then everything at once. What
    this workflow wrote the last time is replaced; anything else that is in the way stops the run, unless you say
    otherwise: it can be replaced, numbered, left, appended to, or brought up to date by a key. The last two can be
    taken back later.
    """

    id = "save"
    title = "Save"
    phase = Phase.DELIVER
    relation = Relation.KEPT
    single = ("name",)
    reads_chunks = True
    also_known_as = (
        "write",
        "export",
        "output",
        "write to file",
        "convert format",
        "convert file",
        "deliver",
        "result file",
        "section",
        "titles",
        "csv",
        "excel",
        "for the client",
        "hand out",
        "geopackage",
        "gpkg",
        "geojson",
        "shapefile",
        "shp",
        "kml",
        "gpx",
        "xlsx",
        "workbook",
        "parquet",
        "flatgeobuf",
        "json",
    )
    turns = (("file format", "file format"),)

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
            rare=True,
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
            rare=True,
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
            rare=True,
            kind="flag",
            default=False,
            shown_when=("to", _JSON),
            help="GeoJSON is in WGS 84 by RFC 7946. Only where whoever reads it has agreed to another: it is named in the file.",
        )
        fields: list[str] = setting(
            "Fields to save",
            rare=True,
            kind="fields",
            default=[],
            example="bed, licence, tonnes",
            help="In this order. Left empty, all are saved.",
        )
        titled: bool = setting(
            "Titles as names of fields",
            rare=True,
            kind="flag",
            default=False,
            help="The fields are called by their titles in the file, where they have any.",
        )
        titles: dict[str, str] = setting(
            "Titles of fields",
            rare=True,
            kind="pairs",
            default={},
            example="depth_m = Depth in metres",
            help="What a field is called for people, written as field = title. A GeoPackage keeps both.",
        )
        measures: list[str] = setting(
            "Measures to keep current",
            rare=True,
            kind="patterns",
            default=[],
            example="length_km, area_ha",
            help="Fields computed from the geometry on every save: length_ or area_ and a unit.",
        )
        times: Literal["text", "split"] = setting(
            "Times of day in a shapefile",
            rare=True,
            kind="choice",
            default="text",
            shown_when=("to", (".shp",)),
            choices={"text": "as text", "split": "as a date and a text of the hour"},
            help="A shapefile has dates and no times of day.",
        )
        long_texts: Literal["cut", "stop"] = setting(
            "Texts that are too long",
            rare=True,
            kind="choice",
            default="cut",
            shown_when=("to", (".shp", ".xlsx")),
            choices={"cut": "cut them and say so", "stop": "stop the run"},
            help="A shapefile holds texts of 254 bytes, a cell of a workbook 32,767 characters.",
        )
        decimals: int = setting(
            "Decimals",
            rare=True,
            kind="whole",
            default=-1,
            ge=-1,
            le=15,
            shown_when=_ROUNDED,
            help="Digits after the point; -1 for as many as fit the unit: 7 of a degree, about a centimetre, 3 of a metre.",
        )
        layout: Literal["compact", "indented"] = setting(
            "Layout of GeoJSON",
            rare=True,
            kind="choice",
            default="compact",
            shown_when=("to", (".geojson", ".json")),
            choices={"compact": "one feature a line", "indented": "spread out, for people to read"},
            help="Both hold the same; the compact one is smaller.",
        )
        title: str = setting("Title", default="", rare=True, help="Of what is saved, for those who find it.")
        description: str = setting("Description", default="", rare=True, help="Goes where the format has a place for it.")
        licence: str = setting("Licence", default="", rare=True, example="CC BY 4.0", help="Under which it may be used.")
        sld: bool = setting(
            "Style beside it",
            rare=True,
            kind="flag",
            default=False,
            help="How each layer is drawn, as an OGC SLD file of its name beside what is saved.",
        )
        index: bool = setting(
            "Index page beside it",
            rare=True,
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

    def _places(self, layers: Sequence[LayerFacts | Layer | ChunkedLayer], settings: Settings, context: Context) -> list[_Place]:
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
        if target.capacity is Capacity.ONE and len(layers) > 1 and not per_layer:
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
            name, alone = named.name, target.capacity is Capacity.ONE and often[str(path).casefold()] == 1
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

    def forecast(self, facts: Sequence[LayerFacts], settings: Settings, context: Context) -> Forecast:
        pages: set[Path] = set()
        first, *others = [self._foretell_one(facts, one, context, pages) for one in _each(settings)]
        findings = dict.fromkeys(f for forecast in (first, *others) for f in forecast.findings)
        return Forecast(first.layers, tuple(findings), tuple(o for f in (first, *others) for o in f.outputs))

    def _foretell_one(self, facts: Sequence[LayerFacts], settings: Settings, context: Context, pages: set[Path]) -> Forecast:
        findings: list[Finding] = []
        planned: list[PlannedOutput] = []
        try:
            places = self._places(facts, settings, context)
        except EskretError as error:
            setting_name = "name" if error.place == settings.name else "to"
            return Forecast((), (Finding.error(error.sentence(), setting_name),))
        target = _target(settings, context)
        findings += self._unfit(target, settings)
        for one in facts:
            findings += saving.forecast_layer(replace(one, fields=saving.measured(one, settings)), target, settings)[1]
            if target.crs and one.crs is None and one.kind is not GeometryKind.TABLE:
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
        assert context.transaction is not None
        for path, group in _by_path(places).items():
            try:
                plans = context.transaction.resolve(path, list(dict.fromkeys(p.layer for p in group)), settings.if_exists)
                self._settle_companions(target, path, settings, context)
                if settings.index and path.parent not in pages:
                    pages.add(path.parent)
                    context.transaction.resolve(path.with_name(INDEX), [""], "own")
            except EskretError as error:
                findings.append(Finding.error(error.sentence(), "if_exists"))
                continue
            planned += _planned(plans, group, known)
            for plan, place in zip(plans, group, strict=False):
                findings += [Finding.look(f"{text}.", "name", layer=place.key) for text in _of_names(plan, place)]
        return Forecast(tuple(settled), tuple(dict.fromkeys(findings)), tuple(planned))

    def _unfit(self, target: Format, settings: Settings) -> list[Finding]:
        """Settings that this format has no place for, and some that exclude each other."""
        infos = setting_info(type(settings))
        idle = [n for n in ("title", "description", "licence") if getattr(settings, n) and n not in target.words and not settings.index]
        if not target.sections:
            idle += [n for n in ("section",) if getattr(settings, n)]
            idle += ["titles"] if settings.titles and not settings.titled else []
        what = f"{target.title[:1].upper()}{target.title[1:]}"
        out = [Finding.look(f"{what} has no place for '{infos[n].label}'.", n) for n in idle]
        other = bool(settings.crs) and bool(target.crs) and not same_crs(settings.crs, target.crs)
        if target.native and not settings.native and other:
            text = "GeoJSON is in WGS 84; leave 'CRS to save in' empty, or save in another format."
            out.append(Finding.error(text, "crs"))
        if saving.writes_native(target, settings):
            text = "GeoJSON in another CRS than WGS 84 is not as RFC 7946 has it; the file names its CRS."
            out.append(Finding.look(text, "native"))
        if settings.if_exists in ("append", "update") and not target.changes:
            text = f"{what} cannot be appended to. Save it anew, or to another format."
            out.append(Finding.error(text, "if_exists"))
        if settings.if_exists == "update" and not settings.key:
            out.append(Finding.error("To bring a layer up to date, features must be told apart: name a key.", "key"))
        return out

    def _settled(
        self, facts: Sequence[LayerFacts], target: Format, settings: Settings, context: Context, places: Sequence[_Place]
    ) -> tuple[list[LayerFacts], list[Finding]]:
        """The layers with the CRS, the fields and the measures that they will have, and what that means."""
        findings: list[Finding] = []
        out = []
        section = context.fill(settings.section) if settings.section else ""
        path_of = {p.key: p.path for p in places}
        in_section: dict[Path, str] = {}
        for one in facts:
            wanted = saving.crs_for(target, settings, one.crs)
            if section and one.kind is not GeometryKind.TABLE and target.sections:
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

    def deliver(self, layers: Sequence[Layer | ChunkedLayer], settings: Settings, context: Context) -> Sequence[Outcome]:
        first, *others = _each(settings)
        beside: set[Path] = set()
        outcomes = self._deliver_one(layers, first, context, beside)
        for one in others:
            outcomes += [_also(outcome) for outcome in self._deliver_one(layers, one, context, beside)]
        if settings.index:
            Writer(first, context, beside).index(outcomes)
        return outcomes

    def _deliver_one(
        self, layers: Sequence[Layer | ChunkedLayer], settings: Settings, context: Context, beside: set[Path]
    ) -> list[Outcome]:
        by_key = {layer.key: layer for layer in layers}
        outcomes: list[Outcome] = []
        assert context.transaction is not None
        target = _target(settings, context)
        for path, group in _by_path(self._places(layers, settings, context)).items():
            with context.transaction.lock(path):
                plans = context.transaction.resolve(path, list(dict.fromkeys(p.layer for p in group)), settings.if_exists)
                paired = plans if target.many else [plans[0]] * len(group)
                pairs = [(by_key[place.key], plan, place) for place, plan in zip(group, paired, strict=True)]
                outcomes += [_skipped(layer, plan) for layer, plan, _ in pairs if plan.action == "skip"]
                self._settle_companions(target, path, settings, context)
                writing = [(layer, plan, place) for layer, plan, place in pairs if plan.action != "skip"]
                if not writing:
                    continue
                writer = Writer(settings, context, beside)
                if target.many:
                    done = writer.to_geopackage(path, [(x, p) for x, p, _ in writing])
                else:
                    done = writer.to_file(target, [(x, p, z.name) for x, p, z in writing])
                told = {x.key: _of_names(p, z) for x, p, z in writing}
                outcomes += [
                    replace(o, remarks=(*o.remarks, *(Remark(t, key, look=True) for t in told[key])))
                    for o in done
                    for key in [o.inputs[0].layer]
                ]
        return outcomes

    def _settle_companions(self, target: Format, path: Path, settings: Settings, context: Context) -> None:
        """A file that would be overwritten together with the one named must be this workflow's, too."""
        assert context.transaction is not None
        if settings.if_exists in ("own", "stop"):
            for ending in target.companions:
                context.transaction.resolve(path.with_suffix(ending), [""], settings.if_exists)


def _of_names(plan: PlannedOutput, place: _Place) -> list[str]:
    """What there is to say of the name of a layer."""
    out = list(place.told)
    if plan.layer and plan.action in ("append", "update", "replace") and plan.layer != place.layer:
        out.append(f"'{place.layer}' is called '{plan.layer}' there, and stays so")
    return out


def _target(settings: Any, context: Context) -> Format:
    """The format of the files to be written.

    Raises
    ------
    DeliveryError : no such format.
    """
    if Path(settings.to).suffix.lower() in WRITTEN:
        return format_to_write(Path(settings.to))
    stands_for = {"layer": "layer", "step": context.step, "n": 1}
    return format_to_write(context.fill_path(settings.to, stands_for))


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
    inputs = tuple(replace(a, setting=Role.ALSO) for a in outcome.inputs)
    return replace(outcome, layers=(), inputs=inputs, outputs=(), lineage=None)


def _planned(plans: Sequence[PlannedOutput], group: Sequence[_Place], known: Mapping[str, LayerFacts]) -> list[PlannedOutput]:
    if len(plans) == len(group):
        return [
            replace(plan, features=known[z.key].count, original=z.original, certainty=known[z.key].certainty)
            for plan, z in zip(plans, group, strict=True)
        ]
    counts = [known[z.key].count for z in group]
    whole = None if None in counts else sum(c or 0 for c in counts)
    certain = Certainty.KNOWN if all(known[z.key].certainty == Certainty.KNOWN for z in group) else Certainty.AT_MOST
    return [replace(plans[0], features=whole, certainty=certain if whole is not None else Certainty.UNKNOWN)]


def _by_path(places: Sequence[_Place]) -> dict[Path, list[_Place]]:
    out: dict[Path, list[_Place]] = {}
    for place in places:
        out.setdefault(place.path, []).append(place)
    return out


def _skipped(layer: Layer | ChunkedLayer, plan: PlannedOutput) -> Outcome:
    rows = np.arange(len(layer))
    where = f"{plan.path.name}, {plan.layer}" if plan.layer else plan.path.name
    aside = SetAside.from_reasons([("was not saved: it is there already", rows)])
    return Outcome(
        (),
        (InputAccount.of(layer, aside),),
        (OutputAccount(layer.key, 0),),
        np.empty(0, np.int64),
        (Remark(f"{where} is there already and was left as it is", layer.key, look=True),),
    )
