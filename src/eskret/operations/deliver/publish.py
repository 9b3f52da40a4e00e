"""Bring a published dataset up to date."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any, Literal

import numpy as np
import pyarrow as pa

from eskret.core.accounts.account import InputAccount, OutputAccount, Relation, Remark, SetAside
from eskret.core.crs import WGS84, crs_facts, same_crs, transformation
from eskret.core.geometry.globe.moving import reproject
from eskret.core.layer import Certainty, GeometryKind, Layer, LayerFacts
from eskret.core.style.style import Style
from eskret.core.tables.rows import remaining
from eskret.core.words import bold, format_quantity, pluralise
from eskret.errors import DeliveryError, EskretError
from eskret.formats import geojson
from eskret.formats.format import CRS84
from eskret.operations.base import Context, Delivery, Finding, Forecast, Level, Outcome, Phase, PreparedPush, ServiceAccess, has_errors
from eskret.operations.sentences import join_words
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support import differing, named_fields
from eskret.operations.support.naming_layers import deliver_name
from eskret.services import features, journal, tokens
from eskret.services.connection import Connection
from eskret.services.difference import APPEND, REPLACE, UPDATE, PublishedDifference, published, take

_NEW = ("create", (True,))


class Publish(Delivery):
    """Update a published dataset, after showing what would change.

    A run only takes the difference: what would be added, changed and removed, field by field, on the map and in the
    table. It is sent when you say so, in the Publish view or with 'eskret publish', and can be taken back afterwards.
    The service speaks OGC API - Features with the transactions of Part 4. Features are told apart by a key; a feature
    that somebody else changes meanwhile is shown and not overwritten.
    """

    id = "publish"
    title = "Publish"
    limits = "The whole dataset is fetched to take the difference, and once more after sending."
    phase = Phase.DELIVER
    menu_order = 60
    relation = Relation.REPORT
    also_known_as = (
        "push",
        "upload",
        "update service",
        "web service",
        "api",
        "ogc",
        "update online dataset",
        "send to server",
        "sync",
        "push changes",
    )

    class Settings(OperationSettings):
        service: str = setting(
            "Address of the service",
            min_length=1,
            example="https://data.example.org/features",
            help="The landing page of an OGC API - Features service that takes changes.",
        )
        dataset: str = setting(
            "Dataset",
            kind="template",
            default="{layer}",
            min_length=1,
            example="licences",
            help="The id of the dataset. {layer} and parameters are filled in, so that a set goes to a dataset each.",
        )
        mode: Literal["update", "append", "replace"] = setting(
            "What to do",
            kind="choice",
            default="update",
            choices={
                "update": "bring it up to date: add, change, remove",
                "append": "add what is new, leave the rest",
                "replace": "make it exactly this layer",
            },
            help="Whatever it is, features that are published already as they are stay untouched.",
        )
        key: list[str] = setting(
            "Key",
            kind="fields",
            default=[],
            example="licence",
            help="Fields that tell features apart. Needed to bring a dataset up to date; else, by all they hold.",
        )
        gone: Literal["remove", "leave"] = setting(
            "Published, and not in the layer",
            kind="choice",
            default="remove",
            shown_when=("mode", ("update",)),
            choices={"remove": "remove it there", "leave": "leave it"},
            help="What becomes of features that the dataset has and the layer does not.",
        )
        decimals: int = setting(
            "Decimals",
            rare=True,
            kind="whole",
            default=geojson.DECIMALS,
            ge=0,
            le=15,
            help="Digits after the point of a degree; 7 are about a centimetre. What a service rounds away is no change.",
        )
        create: bool = setting(
            "Make the dataset if there is none",
            kind="flag",
            default=False,
            help="Where the service lets one. Taking the push back takes the dataset away again.",
        )
        title: str = setting(
            "Title of a new dataset",
            rare=True,
            default="",
            shown_when=_NEW,
            example="Licences of the sound",
            help="What people read; the id where it is left empty.",
        )
        description: str = setting("Description of a new dataset", default="", rare=True, shown_when=_NEW, help="For those who find it.")
        token_from: str = setting(
            "Token in the variable",
            rare=True,
            default="",
            example="ORREL_TOKEN",
            help="The environment variable that holds the token. Left empty, the one kept for the service is used.",
        )

    def sentence(self, settings: Mapping[str, Any], entering: str) -> str:
        host = str(settings.get("service") or "…").split("//")[-1].split("/")[0]
        dataset = str(settings.get("dataset") or "{layer}")
        named = bold((entering if dataset == "{layer}" else dataset) or "…")
        at = "" if "{" in host else f" at {host}"
        key = settings.get("key")
        by = f" by {join_words(map(str, key), 3)}" if isinstance(key, list) and key else ""
        what = {APPEND: f"what is new of {named}", REPLACE: f"{named} in place of what is there"}
        return f"Publish {what.get(str(settings.get('mode')), named)}{at}{by}"

    def default_style(self, settings: Mapping[str, Any]) -> Style:
        return differing.difference_style()

    def reach(self, settings: Settings, context: Context) -> ServiceAccess:
        return ServiceAccess(context.fill(settings.service), settings.token_from, changes=True)

    # -- before anything is read

    def forecast(self, facts: Sequence[LayerFacts], settings: Settings, context: Context) -> Forecast:
        findings: list[Finding] = []
        if settings.mode == UPDATE and not settings.key:
            text = "To bring a dataset up to date, features must be told apart: name the fields of a key."
            findings.append(Finding.error(text, "key"))
        for one in facts:
            findings += named_fields.named(one, settings.key, "key")
            if one.kind is not GeometryKind.TABLE and one.crs is None:
                findings.append(
                    Finding.error(
                        "published data is in WGS 84, and this layer has no CRS to come from. Say it where it is loaded.", about=one
                    )
                )
        if has_errors(findings):
            return Forecast((), tuple(findings))
        names = self._datasets(facts, settings, context)
        twice = next((n for n in names if names.count(n) > 1), None)
        if twice is not None:
            text = f"Several layers go to the dataset '{twice}'. Put {{layer}} into its name, or merge them first."
            return Forecast((), (Finding.error(text, "dataset"),))
        try:
            with self._connect(settings, context) as there:
                for one, name in zip(facts, names, strict=True):
                    findings += _against(one, features.describe(there, name), name, settings)
        except EskretError as error:
            return Forecast((), (*findings, Finding.error(error.sentence(), "service")))
        leaving = []
        for one in facts:
            if one.crs and not same_crs(one.crs, CRS84):
                way = transformation(one.crs, WGS84, one.extent)
                text = f"{one.key}: brought from {crs_facts(one.crs).name} to WGS 84: {way.sentence()}."
                findings.append(Finding(Level.LOOK if way.coarse else Level.NOTE, text, layer=one.key))
            out = one.with_fields([*differing.fields_for(one.names()), *one.fields], one.names())
            leaving.append(LayerFacts(out.key, out.name, out.kind, out.crs, out.fields, None, Certainty.UNKNOWN))
        return Forecast(tuple(leaving), tuple(findings))

    def _datasets(self, layers: Sequence[LayerFacts | Layer], settings: Settings, context: Context) -> list[str]:
        out = []
        for number, layer in enumerate(layers, 1):
            plain = context.fill(settings.dataset, {"layer": layer.key, "step": context.step, "n": number})
            # an id that somebody wrote out is theirs; one made of values is cleaned
            cleaned = deliver_name(settings.dataset, layer, context, number, 100)
            out.append(plain if plain == settings.dataset else cleaned)
        return out

    def _connect(self, settings: Settings, context: Context) -> Connection:
        address = context.fill(settings.service)
        token = tokens.token_for(address, settings.token_from)
        return Connection(address, token, lambda: context.watch(0, 0))

    # -- the difference

    def reads(self, settings: Settings, context: Context) -> Sequence[Path] | None:
        return None  # what is published may be another by now

    def deliver(self, layers: Sequence[Layer], settings: Settings, context: Context) -> Sequence[Outcome]:
        with self._connect(settings, context) as there:
            return [
                self._one(layer, name, there, settings, context)
                for layer, name in zip(layers, self._datasets(layers, settings, context), strict=True)
            ]

    def _one(self, layer: Layer, name: str, there: Connection, settings: Settings, context: Context) -> Outcome:
        known = features.describe(there, name)
        if known is None and not settings.create:
            raise DeliveryError(f"there is no dataset '{name}'", place=there.home, way_out="Check its name, or have it made")
        found = features.read_items(there, name, watch=context.watch).features if known is not None else []
        difference = take(
            layer,
            published(found, there.home),
            mode=settings.mode,
            key=settings.key,
            remove=settings.gone == "remove",
            decimals=settings.decimals,
        )
        fields = {n: _schema(t) for n, t in zip(layer.table.column_names, layer.table.schema.types, strict=True)}
        d = difference.found
        words = journal.Push(
            journal.new_id(name),
            there.home,
            name,
            settings.mode,
            tuple(settings.key),
            difference.decimals,
            None if difference.own is None else tuple(sorted(difference.own)),
            added=len(d.added),
            changed=len(d.changed),
            removed=len(d.removed),
            unchanged=difference.same,
            count_before=len(found),
            step=context.step,
            layer=layer.key,
            token_from=settings.token_from,
            make={}
            if known is not None or not settings.create
            else {"title": settings.title or name, "description": settings.description, "fields": fields},
        )
        assert context.transaction is not None
        prepared: tuple[PreparedPush, ...] = ()
        if words.entries or words.make:
            prepared = (context.transaction.prepare(words, difference.entries),)
        return _outcome(layer, name, difference, prepared, settings)


def _against(one: LayerFacts, there: features.PublishedDataset | None, name: str, settings: Any) -> list[Finding]:
    """What differs between a layer's fields and those of the dataset, as far as the service tells them."""
    if there is None:
        if settings.create:
            return [Finding.note(f"the dataset '{name}' is not there yet and will be made.", about=one)]
        text = f"There is no dataset '{name}'. Check its name, or have it made if there is none."
        return [Finding.error(text, "dataset", layer=one.key)]
    findings = []
    has = "an unknown number of features" if there.count is None else pluralise(there.count, "feature")
    findings.append(Finding.note(f"'{name}' has {has} there.", about=one))
    if there.fields is None or (not there.fields and not there.count):
        return findings
    new = [n for n in one.names() if n not in there.fields]
    gone = [n for n in there.fields if n not in one.names()]
    if new:
        findings.append(
            Finding.look(f"{join_words(new, 6)} {'is' if len(new) == 1 else 'are'} not among the fields of '{name}' yet.", about=one)
        )
    if gone:
        becomes = "will be emptied there" if settings.mode == REPLACE else "stays as it is there"
        findings.append(Finding.look(f"the layer has no {join_words(gone, 6)}, which '{name}' has; it {becomes}.", about=one))
    for field in one.fields:
        kinds = there.fields.get(field.name, {}).get("type")
        allowed = [kinds] if isinstance(kinds, str) else list(kinds or ())
        mine = _schema(field.type)["type"]
        if allowed and mine not in allowed and not (mine == "integer" and "number" in allowed):
            findings.append(Finding.look(f"'{field.name}' is {field.word} here and {' or '.join(allowed)} in '{name}'.", about=one))
    for key in settings.key:
        if key not in there.fields:
            text = f"'{name}' has no field '{key}' to tell features apart by."
            findings.append(Finding(Level.ERROR if there.count else Level.NOTE, text, layer=one.key, setting="key"))
    return findings


def _schema(kind: pa.DataType) -> dict[str, str]:
    """The JSON schema of a field of this type."""
    if pa.types.is_boolean(kind):
        return {"type": "boolean"}
    if pa.types.is_integer(kind):
        return {"type": "integer"}
    if pa.types.is_floating(kind):
        return {"type": "number"}
    if pa.types.is_timestamp(kind):
        return {"type": "string", "format": "date-time"}
    return {"type": "string", "format": "date"} if pa.types.is_date(kind) else {"type": "string"}


def _outcome(layer: Layer, name: str, difference: PublishedDifference, prepared: tuple[PreparedPush, ...], settings: Any) -> Outcome:
    d = difference.found
    shapes = difference.published.shapes
    if layer.crs is not None and not same_crs(layer.crs, CRS84):
        shapes, _ = reproject(shapes, CRS84, layer.crs)
    before = difference.published.table
    out = differing.layer_of(layer, before, shapes if layer.has_geometry else None, d, d.moved)
    new_rows, old_rows = differing.rows_of(d)
    told = np.concatenate([new_rows, difference.lost, difference.unkeyed, difference.there])
    aside = SetAside.from_reasons(
        [
            ("is published as it is", remaining(len(layer), told)),
            ("has no place in WGS 84", difference.lost),
            ("its key is empty or not its own", difference.unkeyed),
            ("its key is published already", difference.there),
        ]
    )
    held = remaining(before.num_rows, old_rows)
    unkeyed = np.intersect1d(held, d.unkeyed_before)
    theirs = SetAside.from_reasons([("stays as it is", np.setdiff1d(held, unkeyed)), ("its key is empty or not its own", unkeyed)])
    remarks = [Remark(_words(name, d, difference.same, bool(prepared)), layer.key, look=bool(prepared))]
    if len(difference.unkeyed) or len(d.unkeyed_before):
        text = (
            f"{pluralise(len(difference.unkeyed), 'feature')} here and {len(d.unkeyed_before):,} there cannot be told apart, "
            "since their key is empty or not their own; they are left out"
        )
        remarks.append(Remark(text, layer.key, look=True))
    far = d.moved[np.isfinite(d.moved)]
    if np.max(far, initial=0.0) > 0:
        remarks.append(Remark(f"shapes move by up to {format_quantity(float(far.max()), 'm')}", layer.key))
    if difference.decimals < settings.decimals:
        text = f"the service holds {difference.decimals} decimals of a degree, so that many are compared and sent"
        remarks.append(Remark(text, layer.key))
    if difference.foreign and settings.mode != REPLACE:
        text = f"{join_words(difference.foreign, 6)} of '{name}' is not in the layer and stays as it is"
        remarks.append(Remark(text, layer.key))
    return Outcome(
        (out,),
        (InputAccount.of(layer, aside), InputAccount("dataset", name, before.num_rows, theirs)),
        (OutputAccount(layer.key, len(out)),),
        new_rows[new_rows >= 0],
        tuple(remarks),
        prepared=prepared,
    )


def _words(name: str, d: Any, same: int, waits: bool) -> str:
    if not waits:
        return f"'{name}' is as it should be: {pluralise(same, 'feature')}, nothing to send"
    return (
        f"{len(d.added):,} to add to '{name}', {len(d.changed):,} to change, {len(d.removed):,} to remove, {same:,} as they are; "
        "nothing is sent until you say so"
    )
