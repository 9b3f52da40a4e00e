"""Load layers from files."""

from __future__ import annotations

from collections import Counter
from collections.abc import Generator, Iterable, Mapping, Sequence
from contextlib import closing
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from typing import Any, Literal
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

import numpy as np
import pyarrow as pa
import shapely
from pydantic import field_validator

from eskret.core.accounts.account import InputAccount, OutputAccount, Relation, Remark, Role, SetAside
from eskret.core.crs import Extent, crs_facts, is_geographic, out_of_range, same_crs, transformation
from eskret.core.files.datasets import files_of
from eskret.core.layer import Certainty, Field, GeometryKind, Layer, LayerFacts, kind_of, matches
from eskret.core.layer import chunks as chunking
from eskret.core.measure.totals import totals_of
from eskret.core.naming import clean_name, number_collisions
from eskret.core.tables.rows import remaining
from eskret.core.words import bold
from eskret.errors import EskretError, InputError
from eskret.formats import sources, xml_text
from eskret.formats.reading import Reading, Texts
from eskret.operations.base import Context, Finding, Forecast, Level, Outcome, Phase, Source
from eskret.operations.sentences import join_words
from eskret.operations.settings import KnownCrs, OperationSettings, setting
from eskret.operations.support import around
from eskret.operations.support.setting_types import TextEncoding
from eskret.operations.support.to_workflow_crs import Extents, bring, outside_words, wide_edges

Part = Literal["waypoints", "routes", "route_points", "tracks", "track_points"]
_WEIGHED = 20_000
"""Features from which on a layer is weighed before a run."""
_PART_WORDS = {
    "waypoints": "waypoints",
    "routes": "routes",
    "route_points": "route points",
    "tracks": "tracks",
    "track_points": "track points",
}


@dataclass(frozen=True)
class LayerRequest:
    """A layer to read: where it is, what it is called there, and the key it gets."""

    path: Path
    name: str
    key: str


@dataclass(frozen=True)
class Unreadable:
    """A file that the analyst chose to go on without."""

    path: Path
    problem: str


@dataclass(frozen=True)
class OwnOutput:
    """What a pattern or a whole container holds of the workflow's own outputs: read again, it would grow with every run."""

    path: Path
    layers: tuple[str, ...]

    @property
    def text(self) -> str:
        what = join_words([f"'{n}'" for n in self.layers], 4) if self.layers else "it"
        return f"{self.path.name}: {what} left out, since this workflow wrote {'them' if len(self.layers) > 1 else 'it'}"


@dataclass(frozen=True)
class NothingAsked:
    """Files that can be read, and have no layer or part of those that are asked for."""

    paths: tuple[Path, ...]

    @property
    def text(self) -> str:
        names = join_words([p.name for p in self.paths], 4)
        return f"{names}: nothing taken, since no layer there is among those asked for"


_LeftOut = OwnOutput | NothingAsked
_Part = LayerRequest | Unreadable | _LeftOut


class Load(Source):
    """Load layers and tables from files, folders, patterns and archives.

    Every layer found becomes one layer of the set: from GPX recordings, GeoPackages, shapefiles, GeoJSON, FlatGeobuf,
    KML, GML and GeoParquet, where a folder with such a name (beds.parquet) is one layer made of all files in it. CSV,
    TSV and the sheets of XLSX come in as tables; codes with leading zeros stay text. A zip archive is read as if it
    were a folder. Where the workflow has a coordinate system, layers are brought to it as they come in, and the
    transformation used is told with its accuracy. A GPX recording gives up to five layers: waypoints, routes, route
    points, tracks and track points. From a large file you can take only what lies around another layer; the rest is
    counted, and usually not even read. What this workflow itself wrote is left out of folders and patterns, and told,
    so that a second run reads what the first one read.
    """

    id = "load"
    title = "Load"
    phase = Phase.GATHER
    menu_order = 10
    relation = Relation.NEW
    also_known_as = (
        "open",
        "read",
        "import",
        "bring in",
        "add data",
        "add layer",
        "use a file",
        "input file",
        "data from a file",
        "folder of files",
        "zip archive",
        "gps",
        "waypoints",
        "tracks",
        "recordings",
        "spreadsheet",
        "from disk",
        "source",
        "gpx",
        "shapefile",
        "shp",
        "geopackage",
        "gpkg",
        "geojson",
        "flatgeobuf",
        "kml",
        "gml",
        "geoparquet",
        "parquet",
        "csv",
        "tsv",
        "xlsx",
        "json",
    )

    class Settings(OperationSettings):
        files: list[str] = setting(
            "Files",
            kind="files",
            min_length=1,
            example="field/*.gpx",
            help="Files, folders or patterns such as field/*.gpx. A folder stands for the readable files in it.",
        )
        layers: list[str] = setting(
            "Layers in the files",
            shown_when=("files", (".gpkg", ".gpx", ".kml", ".gml", ".xlsx", ".zip")),
            kind="patterns",
            default=["*"],
            example="lease_*",
            help="Which layers of a file with several to take: names or patterns, such as lease_*.",
        )
        around: str = around.around_setting()
        parts: list[Part] = setting(
            "Parts of a recording",
            shown_when=("files", (".gpx",)),
            kind="choices",
            default=list(_PART_WORDS),
            choices=_PART_WORDS,
            help="What to take of a GPX recording. Parts that hold nothing are left out.",
        )
        together: bool = setting(
            "Recordings together",
            shown_when=("files", (".gpx",)),
            rare=True,
            kind="flag",
            default=False,
            help="Put like parts of all recordings into one layer each, with a field 'file' that says where they came from.",
        )
        crs: KnownCrs = setting(
            "CRS where none is declared",
            kind="crs",
            default="",
            example="EPSG:32626",
            help="For files that do not say their coordinate system. It is never guessed.",
        )
        zone: str = setting(
            "Days in time zone",
            shown_when=("files", (".gpx",)),
            rare=True,
            default="",
            example="Atlantic/Azores",
            help="Adds a field 'day' to points with a time: its date in this zone. A recording itself keeps time in UTC.",
        )
        crs_of: dict[str, KnownCrs] = setting(
            "CRS of single files",
            rare=True,
            kind="pairs",
            default={},
            example="old/*.shp = EPSG:32626",
            help="The same for files that differ from the rest: a file or pattern, and its CRS. What a file declares counts.",
        )
        encoding: TextEncoding = setting(
            "Encoding where none is declared",
            shown_when=("files", (".shp", ".csv", ".tsv", ".zip")),
            rare=True,
            default="",
            example="cp1252",
            help="For shapefiles and tables that do not say it: utf-8, cp1252, cp850, cp1251 ... Left empty, it is detected.",
        )
        encodings: dict[str, TextEncoding] = setting(
            "Encoding of single files",
            shown_when=("files", (".shp", ".csv", ".tsv", ".zip")),
            rare=True,
            kind="pairs",
            default={},
            example="old/*.shp = cp850",
            help="A file or pattern, and what its texts are in, whatever it declares.",
        )
        if_unreadable: Literal["stop", "go on"] = setting(
            "If a file cannot be read",
            rare=True,
            kind="choice",
            default="stop",
            choices={"stop": "stop the run", "go on": "go on without it and say so"},
            help="What to do about a file that is damaged or missing something.",
        )

        @field_validator("zone")
        @classmethod
        def _zone(cls, value: str) -> str:
            if value:
                try:
                    ZoneInfo(value)
                except (ZoneInfoNotFoundError, ValueError) as error:
                    raise ValueError("no time zone is called so; names are such as Europe/Lisbon or UTC") from error
            return value

    def sentence(self, settings: Mapping[str, Any], entering: str) -> str:
        files = settings.get("files") or []
        names = [Path(str(f)).name or str(f) for f in ([files] if isinstance(files, str) else files)]
        if not names:
            return "Load files"
        chosen = settings.get("layers")
        what = join_words([str(p) for p in chosen]) if isinstance(chosen, list) and chosen != ["*"] else ""
        where = f", only around {bold(str(settings['around']).split(':')[-1])}" if settings.get("around") else ""
        return (f"Load {bold(what)} from {join_words(names)}" if what else f"Load {bold(join_words(names))}") + where

    # -- forecasting

    def forecast(self, settings: Settings, context: Context) -> Forecast:
        findings = around.findings(settings.around, context)
        layers: list[LayerFacts] = []
        wanted, problems, left_out = self._wanted(settings, context)
        for one_left in left_out:
            more_said = ". Name it by itself to have it read." if isinstance(one_left, OwnOutput) else "."
            findings.append(Finding(Level.NOTE, f"{one_left.text}{more_said}", setting="files"))
        for bad in problems:
            findings.append(Finding.look(f"Will go on without {bad.path.name}. {bad.problem}", "files"))
        shown: set[str] = set()
        readable: list[LayerRequest] = []
        for one in wanted:
            try:
                read_as = _texts(one, settings, context)
                facts = _foretold_days(sources.facts(one.path, one.name, one.key, read_as), settings.zone)
            except EskretError as error:
                if settings.if_unreadable == "stop":
                    raise
                findings.append(Finding.look(f"Will go on without {one.path.name}. {error.sentence()}", "files"))
                continue
            readable.append(one)
            if settings.around and facts.kind is not GeometryKind.TABLE:
                facts = replace(facts, certainty=Certainty.AT_MOST, extent=None)  # of how many rows nobody knows the values
            else:
                facts = replace(facts, peek=partial(sources.columns, one.path, one.name, texts=read_as))
            if (facts.count or 0) >= _WEIGHED:
                weight = sources.weight(one.path, one.name, facts.count or 0)
                # of what kind a text holds is known once it was read: points alone are brought elsewhere in chunks
                sure = facts.kind is not GeometryKind.MIXED or not _moved(one, facts, settings, context)
                facts = replace(facts, weight=weight, in_chunks=sure and _in_chunks(one, facts, settings, context))
            findings += [
                Finding(
                    Level.LOOK if r.look else Level.NOTE,
                    f"{one.path.name}: {r.text}.",
                    setting="files",
                    layer=one.key,
                    code=r.code,
                    counts=r.counts,
                )
                for r in (*facts.told, *_not_used(one, settings, context))
            ]
            facts, more = self._settled(replace(facts, told=()), one, settings, context, shown)
            layers.append(facts)
            findings.extend(more)
            context.watch(len(layers), len(wanted))
        findings += _differing(layers, readable)
        if settings.together:
            layers = _foretold_together(layers, {w.key: w for w in wanted})
        if not layers:
            findings.append(Finding.error("Nothing in these files matches what is asked for.", "layers"))
        return Forecast(tuple(layers), tuple(findings))

    def _settled(
        self, facts: LayerFacts, one: LayerRequest, settings: Settings, context: Context, shown: set[str]
    ) -> tuple[LayerFacts, list[Finding]]:
        findings: list[Finding] = []
        place = f"{Path(facts.origin).name}, {facts.name}"
        if facts.kind == "table":
            return facts, findings
        crs = facts.crs or _of_file(settings.crs_of, one, context) or settings.crs or None
        if crs is None:
            findings.append(
                Finding(
                    Level.ERROR if context.crs else Level.LOOK,
                    setting="crs",
                    layer=facts.key,
                    text=f"{place}: no coordinate system is declared. Say which one under 'CRS where none is declared'.",
                )
            )
            return facts, findings
        if out_of_range(facts.extent, crs):
            findings.append(Finding.look(f"{place}: the coordinates cannot be degrees, as {crs} says.", layer=facts.key))
        if context.crs and not same_crs(crs, context.crs):
            way = transformation(crs, context.crs, facts.extent)
            level = Level.LOOK if way.coarse else Level.NOTE
            text = f"{crs_facts(crs).name} to {crs_facts(context.crs).name}: {way.sentence()}"
            if text not in shown:
                shown.add(text)
                findings.append(Finding(level, text + ".", layer=facts.key))
            doubt = outside_words(facts.extent, crs, context.crs)
            if doubt:
                findings.append(Finding.look(f"{place}: {doubt}.", layer=facts.key))
            return replace(facts, crs=context.crs, extent=None), findings
        return replace(facts, crs=crs), findings

    # -- which layers

    def _wanted(self, settings: Settings, context: Context) -> tuple[list[LayerRequest], list[Unreadable], list[_LeftOut]]:
        """The layers to read, with keys made unique, the files to go on without, and what is left out: of the workflow's own, and files
        with nothing of what is asked for.

        Raises
        ------
        InputError : a file cannot be read and the analyst chose to stop.
        """
        found: list[tuple[Path, str, str]] = []
        problems: list[Unreadable] = []
        left_out: list[_LeftOut] = []
        without: list[Path] = []
        given = [context.fill(f) for f in settings.files]
        outright = {p for p in map(context.folder.joinpath, given) if p.is_file()}
        for path in sources.find_files(given, context.folder):
            own = context.own_layers(path)
            if own is not None and not own and path not in outright:
                left_out.append(OwnOutput(path, ()))
                continue
            try:
                names = sources.layer_names(path)
            except EskretError as error:
                if settings.if_unreadable == "stop":
                    raise
                problems.append(Unreadable(path, error.sentence()))
                continue
            # of a container that is named outright its own layers are left out only beside others, which it is then named for
            if own and (path not in outright or not own.issuperset(names)):
                mine = tuple(n for n in names if n in own and n not in settings.layers)
                if mine:
                    left_out.append(OwnOutput(path, mine))
                    names = [n for n in names if n not in mine]
            there = len(found)
            for name in names:
                part, key = sources.recording_part(path, name), sources.key_for(path, name, len(names))
                named = any(matches(p, name) or matches(p, key) or (part and matches(p, part)) for p in settings.layers)
                if named and (not part or part in settings.parts):
                    found.append((path, name, key))
            if len(found) == there and names:
                without.append(path)
        if without:
            left_out.append(NothingAsked(tuple(without)))
        keys = number_collisions([key for _, _, key in found])
        return [LayerRequest(p, n, k) for (p, n, _), k in zip(found, keys, strict=True)], problems, left_out

    def reads(self, settings: Settings, context: Context) -> Sequence[Path] | None:
        found = sources.find_files([context.fill(f) for f in settings.files], context.folder)
        return [file for path in found for file in files_of(path)]

    def part_inputs(self, part: _Part, settings: Settings, context: Context) -> Sequence[Path] | None:
        return list(part.paths) if isinstance(part, NothingAsked) else [part.path]

    def parts(self, settings: Settings, context: Context) -> Sequence[_Part]:
        wanted, problems, left_out = self._wanted(settings, context)
        if not wanted and not problems:
            own = any(isinstance(x, OwnOutput) for x in left_out)
            way_out = "Name what is wanted by itself: what this workflow wrote is left out" if own else ""
            raise InputError("nothing in these files matches what is asked for", place=", ".join(settings.files), way_out=way_out)
        return [*wanted, *problems, *left_out]

    # -- reading

    def read(self, part: _Part, settings: Settings, context: Context) -> Sequence[Outcome]:
        if isinstance(part, Unreadable):
            return [Outcome(remarks=(Remark(f"{part.path.name} was left out. {part.problem}", look=True),))]
        if isinstance(part, OwnOutput | NothingAsked):
            return [Outcome(remarks=(Remark(part.text),))]
        try:
            read_as = _texts(part, settings, context)
            if settings.around:
                return [self._around(part, read_as, settings, context)]
            reading = sources.read(part.path, part.name, part.key, read_as, context.watch)
        except InputError as error:
            if settings.if_unreadable == "stop":
                raise
            return [Outcome(remarks=(Remark(f"{part.path.name} was left out. {error.sentence()}", look=True),))]
        return [self._taken_in(reading, part, settings, context)]

    def _around(self, part: LayerRequest, read_as: Texts, settings: Settings, context: Context) -> Outcome:
        """Take in what meets the box around other layers."""
        facts = sources.facts(part.path, part.name, part.key, read_as)
        box = _box(part, facts, settings, context)
        # how many there are must be known of others than those that are read
        reading = sources.read(part.path, part.name, part.key, read_as, context.watch, box if facts.count is not None else None)
        some = around.limited(reading, box)
        more = (facts.count or 0) - reading.found if facts.count is not None and some is not reading else 0
        return self._taken_in(replace(some, unread=some.unread + more), part, settings, context)

    def chunks(self, part: _Part, settings: Settings, context: Context) -> Iterable[Outcome] | None:
        if isinstance(part, Unreadable | OwnOutput | NothingAsked) or settings.if_unreadable != "stop":
            return None
        read_as = _texts(part, settings, context)
        facts = sources.facts(part.path, part.name, part.key, read_as)
        if not _in_chunks(part, facts, settings, context):
            return None
        count = facts.count or 0
        least = chunking.large(sources.weight(part.path, part.name, count) if count > chunking.CHUNK else 0.0)
        if facts.count is not None and count <= least:
            return None

        box = _box(part, facts, settings, context) if settings.around else None

        def readings() -> Generator[Reading, None, None] | None:
            index = box if facts.count is not None else None
            coming = sources.chunks(part.path, part.name, part.key, read_as, context.watch, least, index)
            return _limited(coming, box, facts.count) if coming is not None and settings.around else coming

        extents = None
        if _moved(part, facts, settings, context):
            extents = Extents()
            with closing(readings() or _nothing()) as looked_at:
                if not all(extents.add(_declared(reading.layer, part, settings, context)) for reading in looked_at):
                    return None
        coming = readings()
        return None if coming is None else (self._taken_in(reading, part, settings, context, extents) for reading in coming)

    def _taken_in(
        self, reading: Reading, part: LayerRequest, settings: Settings, context: Context, extents: Extents | None = None
    ) -> Outcome:
        """What was read as it goes into the workflow."""
        layer = _with_days(reading.layer, settings.zone)
        remarks = [*reading.remarks, *_not_used(part, settings, context)]
        # rows that were not read are positions among the records; the rest keep theirs as lineage
        aside = [(reason, rows) for reason, rows in reading.set_aside]
        record = remaining(reading.found, np.concatenate([r for _, r in aside])) if aside else None
        record = record if reading.kept is None else reading.kept
        layer = _declared(layer, part, settings, context)
        remarks += wide_edges(layer)
        layer, lost, more = bring(layer, context, extents)
        remarks += more
        aside += [(reason, rows if record is None else record[rows]) for reason, rows in lost]
        if is_geographic(layer.crs) and out_of_range(layer.extent(), layer.crs):
            remarks.append(Remark(f"the coordinates cannot be degrees, as {layer.crs} says", part.key, look=True))
        if layer.has_geometry and layer.crs is None:
            remarks.append(Remark("no coordinate system is declared", look=True))
        remarks += _geometry_remarks(layer)
        elsewhere = ((around.reason(settings.around), reading.unread),) if reading.unread else ()
        found = reading.found
        if reading.kept is not None:
            found = len(reading.layer) + sum(len(rows) for _, rows in reading.set_aside) + reading.unread
        account = InputAccount(Role.FILES, part.key, found, replace(SetAside.from_reasons(aside), unread=elsewhere))
        output = OutputAccount(part.key, len(layer), totals_of(layer, context.totals))
        named = tuple(replace(r, layer=part.key) for r in remarks)
        return Outcome((layer,), (account,), (output,), None, named)

    def joins(self, settings: Settings) -> bool:
        return settings.together

    def gather(self, outcomes: Sequence[Outcome], settings: Settings, context: Context) -> Sequence[Outcome]:
        if not settings.together:
            return outcomes
        alike: dict[str, list[Outcome]] = {}
        rest: list[Outcome] = []
        for outcome in outcomes:
            layer = outcome.layers[0] if outcome.layers else None
            part = sources.recording_part(Path(layer.origin), layer.name) if layer is not None else ""
            if part:
                alike.setdefault(part, []).append(outcome)
            else:
                rest.append(outcome)
        return [_joined(name, group, context) for name, group in alike.items()] + rest


def _declared(layer: Layer, one: LayerRequest, settings: Load.Settings, context: Context) -> Layer:
    """The layer in the CRS that is said of it, where it has none."""
    if not layer.has_geometry or layer.crs is not None:
        return layer
    return replace(layer, crs=_of_file(settings.crs_of, one, context) or settings.crs or None)


def _moved(one: LayerRequest, facts: LayerFacts, settings: Load.Settings, context: Context) -> bool:
    """Whether a layer is brought to another CRS than it is in."""
    crs = facts.crs or _of_file(settings.crs_of, one, context) or settings.crs or None
    return context.crs is not None and crs is not None and not same_crs(crs, context.crs)


def _box(one: LayerRequest, facts: LayerFacts, settings: Load.Settings, context: Context) -> Extent | None:
    """The box around other layers, in the CRS of a file; None for a table, and where there is nothing to draw it around."""
    if facts.kind is GeometryKind.TABLE:
        return None
    return around.box_around(context, facts.crs or _of_file(settings.crs_of, one, context) or settings.crs or None, facts.key)


def _limited(coming: Generator[Reading, None, None], box: Extent | None, count: int | None) -> Generator[Reading, None, None]:
    """Readings of which only what meets a box stays; with the last, those that were not read for that."""
    last: Reading | None = None
    read = 0
    with closing(coming):
        for reading in coming:
            if last is not None:
                yield last
            last = around.limited(reading, box)
            read += reading.found
    if last is not None:
        yield replace(last, unread=last.unread + (count - read if count is not None else 0))


def _nothing() -> Generator[Reading, None, None]:
    yield from ()


def _in_chunks(one: LayerRequest, facts: LayerFacts, settings: Load.Settings, context: Context) -> bool:
    """Whether a layer can be taken in so many rows at a time, if it is large."""
    if settings.if_unreadable != "stop" or settings.together or sources.recording_part(one.path, one.name):
        return False
    # of lines and areas what becomes of edges is told, of all of them
    points = facts.kind in (GeometryKind.POINT, GeometryKind.MIXED)
    return (points or not _moved(one, facts, settings, context)) and sources.reads_chunks(one.path)


def _of_file(by_file: Mapping[str, str], one: LayerRequest, context: Context) -> str:
    """What is said of a file, by its name or by a pattern for its path from the workflow's folder; empty where nothing is."""
    places = {one.path.name, one.path.as_posix(), f"{one.path.as_posix()}/{one.name}"}
    if one.path.is_relative_to(context.folder):
        inside = one.path.relative_to(context.folder).as_posix()
        places |= {inside, f"{inside}/{one.name}"}
    return next((v for p, v in by_file.items() if any(matches(context.fill(p), place) for place in places)), "")


def _texts(one: LayerRequest, settings: Load.Settings, context: Context) -> Texts:
    """What the texts of a file are to be read as."""
    special = _of_file(settings.encodings, one, context)
    return Texts(special, always=True) if special else Texts(settings.encoding)


def _not_used(one: LayerRequest, settings: Load.Settings, context: Context) -> list[Remark]:
    """What to say where an encoding is named for a file that says its own in its first line."""
    ending = (Path(one.name.partition(":")[0]) if one.path.suffix.lower() == ".zip" else one.path).suffix.lower()
    if ending not in xml_text.ENDINGS or not _of_file(settings.encodings, one, context):
        return []
    return [Remark("the encoding named for it is not used: its first line says its own", look=True)]


def _geometry_remarks(layer: Layer) -> list[Remark]:
    if not layer.has_geometry or layer.wkb is not None:
        return []  # what is still encoded has no nulls
    assert layer.geometry is not None
    missing = int((shapely.get_type_id(layer.geometry) < 0).sum())
    return [Remark.counted("{n|row} without geometry", layer.key, n=missing)] if missing else []


def _differing(layers: Sequence[LayerFacts], wanted: Sequence[LayerRequest]) -> list[Finding]:
    """Like files (same ending, same kind, one layer each) that do not have the same fields."""
    per_file = Counter(w.path for w in wanted)
    groups: dict[tuple[str, str], list[LayerFacts]] = {}
    for facts, one in zip(layers, wanted, strict=False):
        if per_file[one.path] == 1:
            groups.setdefault((one.path.suffix.lower(), facts.kind), []).append(facts)
    out = []
    for group in groups.values():
        common = set.intersection(*(set(f.names()) for f in group))
        # files of which each has its own fields are no series that lacks something
        if len(group) < 2 or len(common) < max(len(f.fields) for f in group) / 2:
            continue
        odd = {f.key: [n for n in f.names() if n not in common] for f in group}
        said = [f"{key} has {join_words(names, 4)} besides" for key, names in odd.items() if names]
        if said:
            out.append(Finding.look(f"Files that are alike differ in fields: {join_words(said, 3)}.", "files"))
    return out


def _with_days(layer: Layer, zone: str) -> Layer:
    """Points of a recording with the date of their time in a zone."""
    part = sources.recording_part(Path(layer.origin), layer.name)
    if not zone or "time" not in layer.table.column_names or not part or "day" in layer.table.column_names:
        return layer
    times = layer.table.column("time").to_pylist()
    days = [None if t is None else t.astimezone(ZoneInfo(zone)).date() for t in times]
    return replace(layer, table=layer.table.append_column("day", pa.array(days, pa.date32())))


def _foretold_days(facts: LayerFacts, zone: str) -> LayerFacts:
    part = sources.recording_part(Path(facts.origin), facts.name)
    if not zone or not part or "time" not in facts.names() or "day" in facts.names():
        return facts
    return facts.with_fields((*facts.fields, Field("day", pa.date32())))


def _foretold_together(layers: list[LayerFacts], wanted: Mapping[str, LayerRequest]) -> list[LayerFacts]:
    out: dict[str, LayerFacts] = {}
    for facts in layers:
        part = sources.recording_part(Path(facts.origin), facts.name)
        if not part:
            out[facts.key] = facts
        elif part in out:
            known = out[part]
            fields = {f.name: f for f in (*known.fields, *facts.fields)}
            count = (known.count or 0) + (facts.count or 0)
            out[part] = replace(known, fields=tuple(fields.values()), count=count, extent=None, peek=None)
        else:
            out[part] = replace(facts, key=part, fields=(Field("file", pa.string()), *facts.fields))
    return list(out.values())


def _joined(name: str, group: Sequence[Outcome], context: Context) -> Outcome:
    """Like parts of several recordings as one layer with a field for the file."""
    layers = [o.layers[0] for o in group]
    tables = [layer.table.add_column(0, "file", pa.array([Path(layer.origin).stem] * len(layer), pa.string())) for layer in layers]
    table = pa.concat_tables(tables, promote_options="permissive").combine_chunks()
    geometry = np.concatenate([layer.geometry for layer in layers])
    whole = Layer(
        clean_name(name),
        table,
        geometry,
        layers[0].crs,
        name,
        join_words([layer.origin for layer in layers]),
        kind=layers[0].kind if layers[0].kind == kind_of(geometry) else kind_of(geometry),
    )
    remarks = tuple(dict.fromkeys(replace(r, layer=whole.key) for o in group for r in o.remarks))
    output = OutputAccount(whole.key, len(whole), totals_of(whole, context.totals))
    return Outcome((whole,), tuple(a for o in group for a in o.inputs), (output,), None, remarks)
