"""Say which coordinate system a layer has, without moving it."""

from __future__ import annotations

from dataclasses import replace
from typing import Literal

import numpy as np

from eskret.core.accounts.account import InputAccount, OutputAccount, Relation, Remark
from eskret.core.crs import crs_facts, out_of_range, same_crs
from eskret.core.layer import GeometryKind, Layer, LayerFacts
from eskret.core.measure.totals import totals_of
from eskret.errors import CrsError
from eskret.operations.base import Context, EachLayer, Finding, Forecast, Outcome, Phase, Takes, has_errors
from eskret.operations.settings import KnownCrs, OperationSettings, setting


class DeclareCrs(EachLayer):
    """Say which coordinate system a layer has; its coordinates stay as they are.

    For layers that came without one, or that declare the wrong one. Nothing is moved: to bring a layer to another system,
    use Reproject. A layer that declares another system keeps it unless you say that this one counts instead, and then the
    step asks for a look. Coordinates that cannot be of the system stop the run.
    """

    id = "declare_crs"
    title = "Declare CRS"
    phase = Phase.SHAPE
    menu_order = 36
    relation = Relation.ONE_FOR_ONE
    says = "Declare that {entering} is in {crs}"
    also_known_as = (
        "missing prj",
        "wrong crs",
        "override crs",
        "srid",
        "set crs",
        "assign crs",
        "define projection",
        "no coordinate system",
        "undeclared",
        "unknown projection",
        "layer without crs",
        "crs without moving",
    )

    class Settings(OperationSettings):
        crs: KnownCrs = setting("CRS", kind="crs", min_length=1, example="EPSG:32626", help="The system that the coordinates are in.")
        which: Literal["missing", "all"] = setting(
            "For layers that",
            kind="choice",
            default="missing",
            choices={"missing": "declare none", "all": "declare none or another"},
            help="Whether what a layer declares is overruled.",
        )

    def forecast(self, facts: LayerFacts, settings: Settings, context: Context) -> Forecast:
        if facts.kind is GeometryKind.TABLE or not _counts(facts.crs, settings):
            return Forecast((facts,))
        found = []
        if facts.crs is not None and not same_crs(facts.crs, settings.crs):
            text = f"it declares {facts.crs} ({crs_facts(facts.crs).name}); its coordinates are taken for {settings.crs} as they are."
            found.append(Finding.look(text, "crs", facts))
        if out_of_range(facts.extent, settings.crs):
            found.append(Finding.error(f"its coordinates cannot be degrees, as {settings.crs} says.", "crs", facts))
        return Forecast(() if has_errors(found) else (replace(facts, crs=settings.crs),), tuple(found))

    def takes(self, facts: LayerFacts, settings: Settings) -> Takes:
        return Takes.ROWS

    def work(self, layer: Layer, settings: Settings, context: Context) -> Outcome:
        out, remarks = layer, []
        if layer.has_geometry and _counts(layer.crs, settings):
            if out_of_range(context.extent_of(layer), settings.crs):
                text = f"its coordinates cannot be degrees, as {settings.crs} says"
                raise CrsError(text, place=layer.key, way_out="Name the system that they are in")
            out = replace(layer, crs=settings.crs)
            if layer.crs is None:
                remarks.append(Remark(f"declared to be in {settings.crs}", layer.key).once())
            elif not same_crs(layer.crs, settings.crs):
                remarks.append(Remark(f"declared to be in {settings.crs}, and not in {layer.crs}", layer.key, look=True).once())
        told = OutputAccount(out.key, len(out), totals_of(out, context.totals))
        return Outcome((out,), (InputAccount.of(layer),), (told,), np.arange(len(layer)), tuple(remarks))


def _counts(crs: str | None, settings: DeclareCrs.Settings) -> bool:
    return crs is None or settings.which == "all"
