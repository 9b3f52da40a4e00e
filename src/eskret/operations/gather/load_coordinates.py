"""Make points, lines or areas of text with coordinates."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any, Literal

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import shapely
from shapely.geometry.base import BaseGeometry

from eskret.core.accounts.account import InputAccount, OutputAccount, Relation, Remark, Role, SetAside
from eskret.core.crs import crs_facts, extent_of, out_of_range
from eskret.core.geometry.parts import invalid
from eskret.core.layer import GeometryKind, Layer
from eskret.core.measure.totals import totals_of
from eskret.core.naming import clean_name, number_collisions
from eskret.core.tables.rows import remaining
from eskret.core.words import bold, pluralise
from eskret.errors import EskretError
from eskret.formats import coordinates_text as texts
from eskret.formats import sources
from eskret.operations.base import Context, Finding, Forecast, Level, Outcome, Phase, Source
from eskret.operations.sentences import join_words
from eskret.operations.settings import KnownCrs, OperationSettings, setting
from eskret.operations.support.setting_types import TextEncoding
from eskret.operations.support.to_workflow_crs import bring

SIGNS = {"": "detected in the file", "\t": "tab", ";": "semicolon", ",": "comma", "|": "bar", " ": "blanks"}
_FEWEST = {"points": 1, "lines": 2, "areas": 3}
_KINDS = {"points": GeometryKind.POINT, "lines": GeometryKind.LINE, "areas": GeometryKind.POLYGON}


_OWN = ""  # the key of what a pattern finds of the workflow's own outputs: read again, it would grow with every run


class LoadCoordinates(Source):
    """Read points, lines or areas from text files with coordinates.

    The separator between values, a header, the decimal sign and the encoding are detected in each file, and so are
    the columns of x (or longitude) and y (or latitude) where they have such names; you can also state all of it
    yourself. Degrees can be decimal or in degrees, minutes and seconds. Name the coordinate system: it is never
    guessed. For lines and areas, points of the same group follow each other in the order of the file or of an order
    field; a ring is closed for you. Lines of text that cannot be read are set aside and told with their number.
    """

    id = "load_coordinates"
    title = "Load coordinates"
    phase = Phase.GATHER
    menu_order = 20
    relation = Relation.NEW
    previews_text = True
    also_known_as = (
        "xy",
        "csv points",
        "text file",
        "txt",
        "coordinates to points",
        "points from table",
        "lat lon columns",
        "easting northing table",
        "list of corners",
        "polygon from coordinates",
        "degrees minutes seconds",
        "paste coordinates",
        "survey points",
    )

    class Settings(OperationSettings):
        files: list[str] = setting(
            "Text files", kind="files", min_length=1, example="text/*.txt", help="Files, folders or patterns such as text/*.txt."
        )
        crs: KnownCrs = setting(
            "CRS of the coordinates", kind="crs", min_length=1, example="EPSG:4326", help="What the numbers are in. It is never guessed."
        )
        shape: Literal["points", "lines", "areas"] = setting(
            "Make",
            kind="choice",
            default="points",
            choices={"points": "points", "lines": "lines", "areas": "areas"},
            help="One point per line of text, or lines or areas through the points of a group.",
        )
        x: str = setting("Column of x or longitude", default="", help="Its name or number; left empty, it is found.")
        y: str = setting("Column of y or latitude", default="", help="Its name or number; left empty, it is found.")
        z: str = setting("Column of height or depth", default="", rare=True, help="Its name or number, if there is one.")
        group: str = setting(
            "One shape for each",
            default="",
            example="island",
            shown_when=("shape", ("lines", "areas")),
            help="The column whose value tells which points belong together. Left empty, each file is one shape.",
        )
        order: str = setting(
            "In the order of",
            default="",
            example="no",
            shown_when=("shape", ("lines", "areas")),
            help="The column that numbers the points along the shape. Left empty, the order is the file's.",
        )
        delimiter: Literal["", "\t", ";", ",", "|", " "] = setting(
            "Between values", rare=True, kind="choice", default="", choices=SIGNS, help="The character that separates the values of a line."
        )
        header: Literal["", "yes", "no"] = setting(
            "First line",
            rare=True,
            kind="choice",
            default="",
            choices={"": "detected in the file", "yes": "names the columns", "no": "holds data already"},
            help="Whether the first line names the columns.",
        )
        decimal: Literal["", ".", ","] = setting(
            "Decimal sign",
            rare=True,
            kind="choice",
            default="",
            choices={"": "detected in the file", ".": "point", ",": "comma"},
            help="What separates whole and fraction in numbers.",
        )
        names: list[str] = setting(
            "Names of the columns",
            rare=True,
            kind="patterns",
            default=[],
            example="station",
            help="For a file without a header, or instead of its own: the columns' names in order.",
        )
        constants: dict[str, str] = setting(
            "Fields with one value",
            rare=True,
            kind="pairs",
            default={},
            help="Fields to add that hold the same value in every feature, written as name = value.",
        )
        encoding: TextEncoding = setting(
            "Encoding", rare=True, default="", example="cp1252", help="Only where texts come out wrong: utf-8, cp1252 ..."
        )

    def sentence(self, settings: Mapping[str, Any], entering: str) -> str:
        files = settings.get("files") or []
        names = [Path(str(f)).name or str(f) for f in ([files] if isinstance(files, str) else files)]
        shape = settings.get("shape")
        made = f" as {shape}" if shape in ("lines", "areas") else ""
        group = f", one for each {settings['group']}" if made and settings.get("group") else ""
        return f"Load coordinates of {bold(join_words(names) or '…')}{made}{group}"

    # -- forecasting

    def forecast(self, settings: Settings, context: Context) -> Forecast:
        layers, findings = [], []
        for part in self.parts(settings, context):
            outcome = self.read(part, settings, context)[0]
            for layer in outcome.layers:
                layers.append(layer.facts())
            for account in outcome.inputs:
                for reason, count in account.set_aside.counts():
                    text = f"{part[0].name}: {pluralise(count, 'line')} will be set aside: {reason}."
                    findings.append(Finding.look(text, "files", layer=part[1]))
            findings += [
                Finding(
                    Level.LOOK if r.look else Level.NOTE,
                    f"{part[0].name}: {r.text.removeprefix(f'{part[0].name}: ')}.",
                    layer=part[1],
                    setting="crs",
                )
                for r in outcome.remarks
            ]
        return Forecast(tuple(layers), tuple(findings))

    # -- reading

    def reads(self, settings: Settings, context: Context) -> Sequence[Path] | None:
        return [path for path, _ in self.parts(settings, context)]

    def part_inputs(self, part: tuple[Path, str], settings: Settings, context: Context) -> Sequence[Path] | None:
        return [part[0]]

    def parts(self, settings: Settings, context: Context) -> Sequence[tuple[Path, str]]:
        given = [context.fill(f) for f in settings.files]
        outright = {p for p in map(context.folder.joinpath, given) if p.is_file()}
        found = sources.find_files(given, context.folder, other_endings=texts.ENDINGS)
        own = [f for f in found if f not in outright and context.own_layers(f) is not None]
        files = [f for f in found if f not in own]
        keys = number_collisions([clean_name(f.stem) or "layer" for f in files])
        return [*zip(files, keys, strict=True), *((f, _OWN) for f in own)]

    def read(self, part: tuple[Path, str], settings: Settings, context: Context) -> Sequence[Outcome]:
        path, key = part
        if key == _OWN:
            return [Outcome(remarks=(Remark(f"{path.name}: left out, since this workflow wrote it"),))]
        rows = texts.rows_of(path, wish_of(settings))
        context.watch(len(rows.xyz), len(rows.xyz))
        remarks: list[Remark] = list(rows.remarks)
        if rows.bad:
            shown = [f"line {rows.lines[n]} {why}" for n, why in list(rows.bad.items())[:5]]
            more = f" and {len(rows.bad) - 5:,} more" if len(rows.bad) > 5 else ""
            remarks.append(Remark(f"{pluralise(len(rows.bad), 'line')} could not be read: {'; '.join(shown)}{more}", look=True))
        aside = [("could not be read", np.array(sorted(rows.bad), np.int64))]
        good = remaining(len(rows.xyz), aside[0][1])
        if settings.shape == "points":
            geometry, table, used = _points(rows, good), rows.table.take(pa.array(good)), good
        else:
            geometry, table, used, left, said = _shapes(rows, good, settings, path)
            aside += left
            remarks += said
        table = _with_constants(table, settings.constants)
        layer = Layer(key, table, geometry, settings.crs, path.stem, str(path), kind=_KINDS[settings.shape])
        remarks += _doubts(layer, settings)
        layer, lost, said = bring(layer, context)
        remarks += said
        if lost and settings.shape != "points":
            raise EskretError(f"a shape {lost[0][0]}", place=str(path), way_out="Check its CRS")
        aside += [(reason, used[rows]) for reason, rows in lost]
        account = InputAccount(Role.FILES, key, len(rows.xyz), SetAside.from_reasons(aside))
        output = OutputAccount(key, len(layer), totals_of(layer, context.totals))
        relation = None if settings.shape == "points" else Relation.GROUPED
        named = tuple(replace(r, layer=key) for r in remarks)
        return [Outcome((layer,), (account,), (output,), None, named, relation=relation)]


def wish_of(settings: Any) -> texts.Wish:
    """What the settings say of the layout."""
    return texts.Wish(
        settings.encoding, settings.delimiter, settings.header, settings.decimal, settings.x, settings.y, settings.z, tuple(settings.names)
    )


def _points(rows: texts.Rows, good: np.ndarray) -> np.ndarray:
    xyz = rows.xyz[good]
    if rows.layout.z < 0:
        return np.asarray(shapely.points(xyz[:, :2]), object)
    out = np.asarray(shapely.points(xyz), object)
    flat = np.isnan(xyz[:, 2])
    out[flat] = shapely.points(xyz[flat, :2])
    return out


def _shapes(
    rows: texts.Rows, good: np.ndarray, settings: Any, path: Path
) -> tuple[np.ndarray, pa.Table, np.ndarray, list[tuple[str, np.ndarray]], list[Remark]]:
    """Lines or areas through the points of each group: geometry, table, rows used, rows set aside, what to say."""
    table = rows.table
    for name in (settings.group, settings.order):
        if name and name not in table.column_names:
            raise EskretError(f"there is no column '{name}'", place=str(path), way_out=f"It has {join_words(table.column_names, 12)}")
    aside: list[tuple[str, np.ndarray]] = []
    if settings.group:
        groups = table.column(settings.group).to_pylist()
        without = np.array([n for n in good.tolist() if groups[n] is None], np.int64)
        aside.append((f"has no {settings.group}", without))
        good = np.setdiff1d(good, without)
    else:
        groups = [""] * len(table)
    if settings.order:
        rank = table.column(settings.order).combine_chunks()
        unknown = np.array([n for n in good.tolist() if not rank[n].is_valid], np.int64)
        aside.append((f"has no {settings.order}", unknown))
        good = np.setdiff1d(good, unknown)
        place = np.asarray(pc.rank(rank, sort_keys="ascending", tiebreaker="first")).astype(np.int64)
        good = good[np.argsort(place[good], kind="stable")]
    members: dict[Any, list[int]] = {}
    for n in good.tolist():
        members.setdefault(groups[n], []).append(n)
    few = _FEWEST[settings.shape]
    short = sorted(n for m in members.values() if len(np.unique(rows.xyz[m, :2], axis=0)) < few for n in m)
    what = {"lines": "line", "areas": "area"}[settings.shape]
    aside.append((f"too few different points for {'an' if what == 'area' else 'a'} {what}", np.array(short, np.int64)))
    made = {g: m for g, m in members.items() if len(np.unique(rows.xyz[m, :2], axis=0)) >= few}
    shapes: list[BaseGeometry] = []
    closed = 0
    for m in made.values():
        xyz = rows.xyz[m] if rows.layout.z >= 0 and not np.isnan(rows.xyz[m, 2]).any() else rows.xyz[m, :2]
        if settings.shape == "areas":
            closed += not np.array_equal(xyz[0], xyz[-1])
            shapes.append(shapely.Polygon(xyz))
        else:
            shapes.append(shapely.LineString(xyz))
    geometry = np.array([*shapes, None], object)[:-1]
    remarks = [Remark(f"{pluralise(closed, 'ring')} closed")] if closed else []
    wrong = int((invalid(geometry)).sum())
    if wrong:
        remarks.append(Remark(f"{pluralise(wrong, 'shape')} not valid, such as: {_reason(geometry)}", look=True))
    out = _one_row_each(table, list(made.values()), settings)
    used = np.array(sorted(n for m in made.values() for n in m), np.int64)
    return geometry, out, used, aside, remarks


def _reason(geometry: np.ndarray) -> str:
    return str(shapely.is_valid_reason(geometry)[invalid(geometry)][0])


def _one_row_each(table: pa.Table, groups: Sequence[Sequence[int]], settings: Any) -> pa.Table:
    """The fields of shapes: those that have one value all along each shape, and the number of points."""
    columns: dict[str, pa.Array] = {}
    firsts = pa.array([m[0] for m in groups], pa.int64())
    for name in table.column_names:
        values = table.column(name).to_pylist()
        if name != settings.order and all(len({values[n] for n in m}) == 1 for m in groups):
            columns[name] = table.column(name).combine_chunks().take(firsts)
    columns[number_collisions(["points"], taken=columns)[0]] = pa.array([len(m) for m in groups], pa.int64())
    return pa.table(columns)


def _with_constants(table: pa.Table, constants: Mapping[str, str]) -> pa.Table:
    for name, value in constants.items():
        called = number_collisions([name], taken=table.column_names)[0]
        table = table.append_column(called, pa.array([value] * len(table), pa.string()))
    return table


def _doubts(layer: Layer, settings: Any) -> list[Remark]:
    """Where the numbers cannot be in the CRS named, or x and y seem to have changed places."""
    assert layer.geometry is not None
    extent = extent_of(layer.geometry)
    if extent is None:
        return []
    facts = crs_facts(settings.crs)
    turned = (extent[1], extent[0], extent[3], extent[2])
    if not facts.geographic and max(map(abs, extent)) <= 360 and facts.unit_metres:
        return [Remark(f"the numbers look like degrees, and {facts.name} is in {facts.unit}", look=True)]
    if out_of_range(extent, settings.crs):
        if not out_of_range(turned, settings.crs):
            return [Remark("x and y seem to have changed places: latitude cannot be more than 90", look=True)]
        return [Remark(f"the numbers cannot be degrees, as {facts.name} has them", look=True)]
    return []
