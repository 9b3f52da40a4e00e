"""Split a layer into one for each area of another."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, Literal

import numpy as np
import shapely

from eskret.core.account import ControlTotal, InputAccount, OutputAccount, Relation, Remark, SetAside
from eskret.core.kernels.chunks import real, runs
from eskret.core.kernels.overlay import common, meeting
from eskret.core.kernels.parts import dimension, of_dimension
from eskret.core.layer import Kind, Layer, LayerFacts
from eskret.core.naming import clean_name, number_collisions
from eskret.core.plane import sizes_of, unit_of
from eskret.core.totals import totals_of
from eskret.core.words import bold, counted
from eskret.operations import other_layer
from eskret.operations.base import Context, EachLayer, Finding, Forecast, Level, Outcome, Phase, in_words
from eskret.operations.settings import OperationSettings, setting

IN_NONE = "lies in no area"


class SplitByArea(EachLayer):
    """Split a layer into one layer for each area of another, called after a field of the areas.

    A feature across a border goes to the area that holds its centre, or the most of it, or is cut at the border so that
    each area gets its piece. What lies in no area is set aside. Where areas lie on each other a feature can lie in two:
    it goes to the first of them, or with the cut to both, and the step says how many.
    """

    id = "split_by_area"
    title = "Split by area"
    phase = Phase.SHAPE
    rank = 26
    relation = Relation.KEPT
    also_known_as = (
        "divide by district",
        "per area",
        "one layer per polygon",
        "tile",
        "by region",
        "partition by place",
    )

    class Settings(OperationSettings):
        areas: str = setting(
            "Areas", kind="layer", min_length=1, example="districts", help="The areas to split by: step, or step:layer."
        )
        name_field: str = setting(
            "Field with their name", kind="field", of="areas", min_length=1, example="name",
            help="The field of the areas that names the new layers. Areas with one name make one layer.",
        )  # fmt: skip
        across: Literal["centre", "most", "cut"] = setting(
            "A feature across a border", kind="choice", default="centre", help="Which layer it goes to.",
            choices={"centre": "goes where its centre lies", "most": "goes where most of it lies",
                     "cut": "is cut at the border"},
        )  # fmt: skip
        name: str = setting(
            "Layer name", kind="template", default="{value}", min_length=1, example="{layer}_{value}",
            help="How each layer is called: {value} is the area's name; {layer}, {n} and parameters are filled in too.",
        )  # fmt: skip

    def sentence(self, settings: Mapping[str, Any], entering: str) -> str:
        return f"Split by area {bold(entering or '…')} into {bold(str(settings.get('areas') or '…').split(':')[-1])}"

    def foretell(self, facts: LayerFacts, settings: Settings, context: Context) -> Forecast:
        found = other_layer.findings(facts, context, "areas", Kind.AREA)
        areas = next(iter(context.other_facts("areas")), None)
        if areas is not None and settings.name_field not in areas.names():
            text = f"{areas.key}: there is no field '{settings.name_field}'. It has {in_words(areas.names(), 12)}."
            found.append(Finding(Level.ERROR, text, setting="name_field"))
        if any(f.level is Level.ERROR for f in found) or areas is None:
            return Forecast((), tuple(found))
        table = areas.values([settings.name_field])
        if table is None:
            return Forecast((other_layer.at_most(facts, open_key=True, count=None),), tuple(found))
        values = list(dict.fromkeys(str(v) for v in table.column(0).to_pylist() if v is not None))
        names = self._names(values, settings, context, facts.key)
        layers = [other_layer.at_most(facts, key=n, name=v) for n, v in zip(names, values, strict=True) if n]
        return Forecast(tuple(layers), tuple(found))

    def _names(self, values: Sequence[str], settings: Settings, context: Context, layer: str) -> list[str]:
        names = [
            clean_name(context.fill(settings.name, {"value": v, "layer": layer, "n": n, "step": context.step}))
            if clean_name(v) else "" for n, v in enumerate(values, 1)
        ]  # fmt: skip
        unique = iter(number_collisions([n for n in names if n]))
        return [next(unique) if n else "" for n in names]

    def run(self, layer: Layer, settings: Settings, context: Context) -> Outcome:
        others = other_layer.others_of(layer, context, "areas")
        assert layer.geometry is not None and others.layer is not None
        column = others.layer.table.column(settings.name_field).to_pylist()
        all_names = [column[r] for r in others.rows.tolist()]
        values = list(dict.fromkeys(str(v) for v in all_names if v is not None))
        names = self._names(values, settings, context, layer.key)
        place = {v: n for n, v in enumerate(values)}
        of_area = np.array([place.get(str(v), -1) if v is not None else -1 for v in all_names], np.int64)
        usable = np.array([bool(n) for n in names], bool)
        named = np.flatnonzero((of_area >= 0) & (usable[of_area] if len(usable) else False))
        rows, group, shapes, twice = self._assigned(layer, others.geometry[named], of_area[named], settings, context)
        order = np.lexsort((rows, group))
        rows, group = rows[order], group[order]
        starts = np.searchsorted(group, np.arange(len(values) + 1))
        out = []
        for number, part in enumerate(layer.slices(rows, starts)):
            if shapes is not None:
                part = part.with_geometry(shapes[order][starts[number] : starts[number + 1]], layer.kind)
            if names[number]:
                out.append(part.renamed(names[number], values[number]))
        missing = ~real(layer.geometry)
        alone = np.setdiff1d(np.flatnonzero(~missing), rows)
        aside = SetAside.from_reasons([(IN_NONE, alone), (other_layer.NO_PLACE, np.flatnonzero(missing))])
        remarks = [
            *others.remarks,
            Remark(f"{counted(len(out), 'layer')} of {counted(len(np.unique(rows)), 'feature')}", layer.key),
        ]
        if len(alone):
            remarks.append(Remark(f"{counted(len(alone), 'feature')} lie in no area", layer.key, look=True))
        if twice:
            text = f"{counted(twice, 'feature')} lie in more than one area, since areas lie on each other"
            remarks.append(Remark(text, layer.key, look=True))
        outputs = [OutputAccount(x.key, len(x), totals_of(x, context.totals)) for x in out]
        if outputs and settings.across != "cut":
            before = sizes_of(layer.geometry)
            after = [sizes_of(x.geometry) for x in out if x.geometry is not None]
            controls = []
            for name in ("length", "area"):
                if before[name].any():
                    unit, factor = unit_of(name, layer.crs)
                    found = sum(float(a[name].sum()) for a in after) + float(before[name][aside.rows].sum())
                    controls.append(ControlTotal(name, unit, float(np.nansum(before[name])) * factor, found * factor))
            outputs[0] = OutputAccount(outputs[0].layer, outputs[0].rows, outputs[0].totals, tuple(controls))
        return Outcome(
            tuple(out), (InputAccount("from", layer.key, len(layer), aside), *others.accounts), tuple(outputs), rows,
            tuple(remarks), relation=Relation.MULTIPLIED if settings.across == "cut" else Relation.KEPT,
        )  # fmt: skip

    def _assigned(
        self, layer: Layer, areas: np.ndarray, of_area: np.ndarray, settings: Settings, context: Context
    ) -> tuple[np.ndarray, np.ndarray, np.ndarray | None, int]:
        """Rows, the group of each, the pieces where they are cut, and how many features lie in two areas."""
        assert layer.geometry is not None
        there = np.flatnonzero(real(layer.geometry))
        left = layer.geometry[there]
        if settings.across == "centre":
            a, b = meeting(shapely.centroid(left), areas, context.watch)
            size = np.ones(len(a))
            return (*_best(there[a], of_area[b], size), None, _twice(a, of_area[b]))
        bad = ~shapely.is_valid(left)
        if bad.any():
            left = left.copy()
            left[bad] = of_dimension(shapely.make_valid(left[bad]), dimension(left[bad]))
        found = common(left, areas, context.watch)
        rows, group = there[found.left], of_area[found.right]
        if settings.across == "most":
            sizes = sizes_of(found.piece)
            size = sizes["length"] + sizes["area"]
            size[dimension(found.piece) == 0] = 1.0
            return (*_best(rows, group, size), None, 0)
        # pieces in two areas of one name are one piece
        code = rows * (int(of_area.max(initial=0)) + 1) + group
        order = np.argsort(code, kind="stable")
        begins, ends = runs(code[order])
        pieces = np.full(len(begins), None, object)
        for n, (i, j) in enumerate(zip(begins.tolist(), ends.tolist(), strict=True)):
            some = found.piece[order[i:j]]
            pieces[n] = some[0] if len(some) == 1 else shapely.union_all(some)
        first = order[begins]
        whole = sizes_of(left)
        got = sizes_of(pieces)
        total = np.zeros(len(layer))
        np.add.at(total, rows[first], got["length"] + got["area"])
        over = total[there] > (whole["length"] + whole["area"]) * (1 + 1e-9) + 1e-9
        return rows[first], group[first], pieces, int(over.sum())


def _best(rows: np.ndarray, group: np.ndarray, size: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The group of each row with the greatest size, the first of equal ones."""
    order = np.lexsort((group, -size, rows))
    first = np.r_[True, rows[order][1:] != rows[order][:-1]] if len(rows) else np.empty(0, bool)
    return rows[order][first], group[order][first]


def _twice(rows: np.ndarray, group: np.ndarray) -> int:
    pairs = np.unique(np.column_stack([rows, group]), axis=0)
    return int((np.bincount(pairs[:, 0]) > 1).sum()) if len(pairs) else 0
