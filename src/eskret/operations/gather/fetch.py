"""Fetch a published dataset."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path

import numpy as np
import pyarrow as pa
import shapely
from pydantic import field_validator

from eskret.core.accounts.account import InputAccount, OutputAccount, Relation, Role, SetAside
from eskret.core.crs import WGS84
from eskret.core.layer import Certainty, GeometryKind, Layer, LayerFacts
from eskret.core.measure.totals import totals_of
from eskret.core.naming import clean_name
from eskret.core.tables.from_objects import from_objects
from eskret.core.tables.rows import remaining
from eskret.core.words import bold
from eskret.errors import InputError
from eskret.operations.base import Context, Finding, Forecast, Outcome, Phase, ServiceAccess, Source
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support.to_workflow_crs import bring
from eskret.services import features, tokens


class Fetch(Source):
    """Fetch a published dataset from an OGC API - Features service.

    Name the service's address and the dataset's id. All pages are read, and their number of features is held against
    the count the service states. A box in degrees, or values that properties must have, ask for a part. If the service
    wants a token, keep it in an environment variable and name that; the token itself never stands in the workflow.
    """

    id = "fetch"
    only_figures = False  # it asks a service
    stands = True
    title = "Fetch"
    limits = "Changes made at the service during the fetch may or may not be included."
    phase = Phase.GATHER
    menu_order = 30
    relation = Relation.NEW
    also_known_as = (
        "download",
        "from the web",
        "web service",
        "api",
        "read published dataset",
        "get online layer",
        "ogc",
        "url",
        "address",
        "pull from server",
        "remote layer",
    )

    class Settings(OperationSettings):
        service: str = setting(
            "Address of the service",
            min_length=1,
            example="https://data.example.org/features",
            help="The landing page of an OGC API - Features service.",
        )
        dataset: str = setting("Dataset", min_length=1, example="moorings", help="The id of the collection to fetch.")
        box: list[float] = setting(
            "Only within",
            kind="box",
            default=[],
            example="-27.2, 46.9, -26.8, 47.3",
            help="West, south, east and north in degrees; features that meet it are fetched.",
        )
        where: dict[str, str] = setting(
            "Only where",
            kind="pairs",
            default={},
            example="district = North",
            help="Properties and the value each must have, written as name = value; the service does the choosing.",
        )
        token_from: str = setting(
            "Token in the variable",
            rare=True,
            default="",
            example="ORREL_TOKEN",
            help="The name of the environment variable that holds a token, where the service wants one.",
        )

        @field_validator("box")
        @classmethod
        def _four(cls, value: list[float]) -> list[float]:
            if value and (len(value) != 4 or value[1] > value[3] or not all(map(np.isfinite, value))):
                raise ValueError("a box is west, south, east, north, with south not above north")
            return value

    def sentence(self, settings: Mapping[str, object], entering: str) -> str:
        host = str(settings.get("service") or "…").split("//")[-1].split("/")[0]
        return f"Fetch {bold(str(settings.get('dataset') or '…'))} from {host}"

    def reach(self, settings: Settings, context: Context) -> ServiceAccess:
        return ServiceAccess(context.fill(settings.service), settings.token_from)

    def forecast(self, settings: Settings, context: Context) -> Forecast:
        """A look at the first features: a rehearsal does not fetch the rest."""
        try:
            found = self._items(settings, context, most=50)
        except InputError as error:
            return Forecast((), (Finding.error(error.sentence(), "service"),))
        layer, _ = layer_of(found.features, settings.dataset, settings.service)
        crs = context.crs or WGS84
        facts = LayerFacts(
            layer.key,
            layer.name,
            layer.kind if found.features else GeometryKind.MIXED,
            crs,
            layer.fields,
            found.matched,
            Certainty.KNOWN if found.matched is not None else Certainty.UNKNOWN,
            None,
            settings.service,
        )
        return Forecast((facts,))

    def reads(self, settings: Settings, context: Context) -> Sequence[Path] | None:
        return None  # what is published may be another by now

    def parts(self, settings: Settings, context: Context) -> Sequence[None]:
        return [None]

    def read(self, part: None, settings: Settings, context: Context) -> Sequence[Outcome]:
        found = self._items(settings, context)
        layer, bad = layer_of(found.features, settings.dataset, settings.service)
        aside = [("its geometry cannot be read", bad)]
        kept = remaining(len(found.features), bad)
        layer, lost, remarks = bring(layer, context)
        aside += [(reason, kept[rows]) for reason, rows in lost]
        account = InputAccount(Role.FILES, layer.key, len(found.features), SetAside.from_reasons(aside))
        output = OutputAccount(layer.key, len(layer), totals_of(layer, context.totals))
        named = tuple(replace(r, layer=layer.key) for r in remarks)
        return [Outcome((layer,), (account,), (output,), None, named)]

    def _items(self, settings: Settings, context: Context, most: int | None = None) -> features.Items:
        where = {k: context.fill(v) for k, v in settings.where.items()}
        address = context.fill(settings.service)
        return features.items(
            address,
            context.fill(settings.dataset),
            box=settings.box,
            where=where,
            token=tokens.token_for(address, settings.token_from),
            most=most,
            watch=context.watch,
        )


def layer_of(found: Sequence[Mapping[str, object]], dataset: str, service: str = "") -> tuple[Layer, np.ndarray]:
    """The features as a layer in WGS 84, with their ids in a field, and the positions of those with bad geometry."""
    texts = np.array([json.dumps(f.get("geometry")) if f.get("geometry") else None for f in found] + [None], object)[:-1]
    shapes = np.asarray(shapely.from_geojson(texts, on_invalid="ignore"), object) if len(found) else np.empty(0, object)
    bad = np.flatnonzero(shapely.is_missing(shapes) & np.array([t is not None for t in texts], bool))
    good = remaining(len(found), bad)
    rows = [dict(found[n].get("properties") or {}) for n in good]
    ids = [found[n].get("id") for n in good]
    if any(i is not None for i in ids) and all("id" not in r for r in rows):
        rows = [{"id": i, **r} for i, r in zip(ids, rows, strict=True)]
    table = from_objects(rows) if rows else pa.table({"id": pa.array([], pa.string())})
    key = clean_name(dataset) or "dataset"
    return Layer(key, table, shapes[good], WGS84, dataset, service), bad
