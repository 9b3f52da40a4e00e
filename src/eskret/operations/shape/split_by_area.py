"""Split a layer into one for each area of another."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Any, Literal

import numpy as np
import shapely

from eskret.core.accounts.account import ControlTotal, InputAccount, OutputAccount, Relation, Remark, SetAside
from eskret.core.crs import is_geographic
from eskret.core.geometry.globe.meeting import centres
from eskret.core.geometry.ordinates import one_with_measures, with_measures
from eskret.core.geometry.overlay import Pieces, common, meeting
from eskret.core.geometry.parallel import is_nonempty, runs
from eskret.core.geometry.parts import dimension, invalid, made_valid, of_dimension
from eskret.core.layer import GeometryKind, Layer, LayerFacts
from eskret.core.measure.planar import Sizes, sizes_of, unit_of
from eskret.core.measure.totals import totals_of
from eskret.core.words import pluralise
from eskret.operations.base import Context, EachLayer, Finding, Forecast, Outcome, Phase, has_errors
from eskret.operations.sentences import join_words
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support import other_layer
from eskret.operations.support.naming_parts import part_names

IN_NONE = "lies in no area"
IN_NAMELESS = "lies in an area without a name"


@dataclass(frozen=True)
class _Doubtful:
    """How many features lie in two areas that lie on each other, and how many on a border between two. Where they were cut:
    ``away``, how much of each lies in no layer, less what lies in two; ``sound``, how large each is that was mended (-1 for the
    others)."""

    twice: int = 0
    on_border: int = 0
    away: Sizes = field(default_factory=dict)
    sound: Sizes = field(default_factory=dict)


@dataclass(frozen=True)
class _Groups:
    """Which areas make which layer: the value and the key of each layer (empty where it makes none), the layer of each area."""

    values: Sequence[str]
    names: Sequence[str]
    of_area: np.ndarray
    cut: Sequence[str]

    @property
    def nameless(self) -> np.ndarray:
        """Positions of the areas that make no layer."""
        return np.array([n for n, g in enumerate(self.of_area.tolist()) if not self.names[g]], np.int64)

    def remarks(self, areas: str, settings: Any) -> list[str]:
        """What there is to say of the names of the areas."""
        out = []
        if len(self.nameless):
            have = pluralise(len(self.nameless), "area has", "areas have")
            out.append(
                f"{areas}: {have} no name in '{settings.name_field}', or one of signs only; what lies there is set aside. Fill in "
                "'Name without a value', or put {n} into the layer name"
            )
        often = np.bincount(self.of_area, minlength=len(self.values)) if len(self.of_area) else np.zeros(0, np.int64)
        groups = [g for g in np.flatnonzero(often > 1).tolist() if self.names[g]]
        several = [self.values[g] for g in groups]
        if several:
            many = int(often[groups].sum())
            out.append(f"{areas}: {many:,} areas share {pluralise(len(several), 'name')} and are put together: {join_words(several, 4)}")
        if self.cut:
            are = pluralise(len(self.cut), "name is", "names are")
            out.append(f"{areas}: {are} too long and cut, such as '{self.cut[0][:40]} ...'")
        return out

    def account(self, account: InputAccount, places: np.ndarray) -> InputAccount:
        """The account of the areas, with those set aside that make no layer."""
        reasons = [(r, account.set_aside.rows[account.set_aside.codes == n]) for n, r in enumerate(account.set_aside.reasons)]
        return replace(account, set_aside=SetAside.from_reasons([*reasons, ("has no name", np.sort(places[self.nameless]))]))


class SplitByArea(EachLayer):
    """Split a layer into one layer for each area of another, named after a field of the areas.

    A feature across a border goes to the area that holds its centre, or the most of it, or is cut at the border so that
    each area gets its piece. What lies in no area is set aside. Where areas lie on each other a feature can lie in two:
    it goes to the first of them, or with the cut to both, and the step says how many.
    """

    id = "split_by_area"
    title = "Split by area"
    phase = Phase.SHAPE
    menu_order = 26
    relation = Relation.KEPT
    says = "Split by area {entering} into {areas}"
    also_known_as = (
        "divide by district",
        "split by polygon",
        "split by boundary",
        "per area",
        "one layer per polygon",
        "cut into tiles",
        "tile a layer",
        "by region",
        "partition by place",
        "map sheets",
        "split by grid",
    )

    class Settings(OperationSettings):
        areas: str = setting("Areas", kind="layer", min_length=1, example="districts", help="The areas to split by: step, or step:layer.")
        name_field: str = setting(
            "Field with their name",
            kind="field",
            of="areas",
            min_length=1,
            example="name",
            help="The field of the areas that names the new layers.",
        )
        same_name: Literal["together", "each"] = setting(
            "Areas of one name",
            rare=True,
            kind="choice",
            default="together",
            help="Whether areas that are called the same make one layer.",
            choices={"together": "make one layer", "each": "make one each, numbered"},
        )
        empty_as: str = setting(
            "Name without a value",
            rare=True,
            default="",
            example="no district",
            help="The layer for what lies in areas whose name is empty. Left blank, it is set aside with that reason.",
        )
        across: Literal["centre", "most", "cut"] = setting(
            "A feature across a border",
            rare=True,
            kind="choice",
            default="centre",
            help="Which layer it goes to.",
            choices={"centre": "goes where its centre lies", "most": "goes where most of it lies", "cut": "is cut at the border"},
        )
        name: str = setting(
            "Layer name",
            kind="template",
            default="{value}",
            min_length=1,
            example="{layer}_{value}",
            help="How each layer is called: {value} is the area's name; {layer}, {n} and parameters are filled in too.",
        )

    def forecast(self, facts: LayerFacts, settings: Settings, context: Context) -> Forecast:
        found = other_layer.findings(facts, context, "areas", GeometryKind.POLYGON)
        areas = next(iter(context.other_facts("areas")), None)
        if areas is not None and settings.name_field not in areas.names():
            text = f"{areas.key}: there is no field '{settings.name_field}'. It has {join_words(areas.names(), 12)}."
            found.append(Finding.error(text, "name_field"))
        if has_errors(found) or areas is None:
            return Forecast((), tuple(found))
        table = areas.values([settings.name_field])
        if table is None:
            return Forecast((other_layer.upper_bound(facts, open_key=True, count=None),), tuple(found))
        groups = self._groups(table.column(0).to_pylist(), settings, context, facts.key)
        named = [(n, v) for n, v in zip(groups.names, groups.values, strict=True) if n]
        layers = [other_layer.upper_bound(facts, key=n, name=v) for n, v in named]
        for text in groups.remarks(areas.key, settings):
            found.append(Finding.look(f"{text}.", "name_field", layer=facts.key))
        return Forecast(tuple(layers), tuple(found))

    def _groups(self, given: Sequence[object], settings: Settings, context: Context, layer: str) -> _Groups:
        """Which areas make which layer."""
        texts = [str(v).strip() if v is not None else "" for v in given]
        texts = [t or settings.empty_as for t in texts]
        whole = texts if settings.same_name == "each" else list(dict.fromkeys(texts))
        names, cut = part_names(whole, settings.name, context, layer)
        place = {t: n for n, t in enumerate(whole)}
        of_area = np.arange(len(texts)) if settings.same_name == "each" else np.array([place[t] for t in texts], np.int64)
        return _Groups(whole, names, of_area, cut)

    def work(self, layer: Layer, settings: Settings, context: Context) -> Outcome:
        others = other_layer.others_of(layer, context, "areas")
        assert layer.geometry is not None and others.layer is not None
        column = others.layer.table.column(settings.name_field).to_pylist()
        groups = self._groups([column[r] for r in others.rows.tolist()], settings, context, layer.key)
        names, values = groups.names, groups.values
        rows, group, shapes, found = self._assigned(layer, others.geometry, groups.of_area, settings, context)
        order = np.lexsort((rows, group))
        rows, group = rows[order], group[order]
        shapes = None if shapes is None else shapes[order]
        # what lies in areas without a name goes nowhere, and is told apart from what lies in none
        usable = np.array([bool(n) for n in names], bool)
        goes = usable[group] if len(usable) else np.zeros(len(group), bool)
        nameless = np.setdiff1d(rows[~goes], rows[goes])
        unnamed = sizes_of(shapes[~goes], layer.crs) if shapes is not None else {}
        rows, group, shapes = rows[goes], group[goes], None if shapes is None else shapes[goes]
        starts = np.searchsorted(group, np.arange(len(values) + 1))
        out = []
        for number, part in enumerate(layer.slices(rows, starts)):
            if shapes is not None:
                part = part.with_geometry(shapes[starts[number] : starts[number + 1]], layer.kind)
            if names[number]:
                out.append(part.renamed(names[number], values[number]))
        missing = ~is_nonempty(layer.geometry)
        alone = np.setdiff1d(np.flatnonzero(~missing), np.concatenate([rows, nameless]))
        aside = SetAside.from_reasons([(IN_NONE, alone), (IN_NAMELESS, nameless), (other_layer.NO_PLACE, np.flatnonzero(missing))])
        remarks = [
            *others.remarks,
            Remark(f"{pluralise(len(out), 'layer')} of {pluralise(len(np.unique(rows)), 'feature')}", layer.key),
            *(Remark(text, layer.key, look=True) for text in groups.remarks(others.layer.key, settings)),
        ]
        if len(alone):
            remarks.append(Remark(f"{pluralise(len(alone), 'feature lies', 'features lie')} in no area", layer.key, look=True))
        if len(nameless):
            lie = pluralise(len(nameless), "feature lies", "features lie")
            remarks.append(Remark(f"{lie} in areas without a name", layer.key, look=True))
        if found.on_border:
            lie = pluralise(found.on_border, "feature lies", "features lie")
            remarks.append(Remark(f"{lie} on the border of areas, and went to the first of them", layer.key))
        if found.twice:
            lie = pluralise(found.twice, "feature lies", "features lie")
            remarks.append(Remark(f"{lie} in more than one area, since areas lie on each other", layer.key, look=True))
        outputs = [OutputAccount(x.key, len(x), totals_of(x, context.totals)) for x in out]
        if outputs:
            parts = [x.geometry for x in out if x.geometry is not None]
            after = sizes_of(np.concatenate(parts) if parts else np.empty(0, object), layer.crs)
            controls = []
            for name, before in sizes_of(layer.geometry, layer.crs).items():
                if before.any():
                    unit, factor = unit_of(name, layer.crs)
                    if settings.across == "cut":
                        whole = float(np.where(found.sound[name] >= 0, found.sound[name], before).sum())
                        away = float(found.away[name].sum() + unnamed[name].sum())
                    else:
                        whole, away = float(before.sum()), float(before[aside.rows].sum())
                    total = float(after[name].sum()) + away
                    controls.append(ControlTotal(name, unit, whole * factor, total * factor, 1e-8))
            outputs[0] = replace(outputs[0], controls=tuple(controls))
        accounts = [groups.account(one, others.rows) for one in others.accounts]
        return Outcome(
            tuple(out),
            (InputAccount.of(layer, aside), *accounts),
            tuple(outputs),
            rows,
            tuple(remarks),
            relation=Relation.MULTIPLIED if settings.across == "cut" else Relation.KEPT,
        )

    def _assigned(
        self, layer: Layer, areas: np.ndarray, of_area: np.ndarray, settings: Settings, context: Context
    ) -> tuple[np.ndarray, np.ndarray, np.ndarray | None, _Doubtful]:
        """Rows, the group of each, the pieces where they are cut, and how many features lie in two areas or between them."""
        assert layer.geometry is not None
        there = np.flatnonzero(is_nonempty(layer.geometry))
        left = layer.geometry[there]
        if settings.across == "centre":
            globe = is_geographic(layer.crs)
            middle = centres(left) if globe else shapely.centroid(left)
            a, b = meeting(middle, areas, context.watch, globe=globe)
            size = np.ones(len(a))
            return (*_best(there[a], of_area[b], size), None, _doubtful(a, of_area[b], middle, areas, b))
        bad = invalid(left)
        if bad.any():
            left = left.copy()
            left[bad] = of_dimension(made_valid(left[bad]), dimension(left[bad]))
        found = common(left, areas, context.watch)
        rows, group = there[found.left], of_area[found.right]
        if settings.across == "most":
            sizes = sizes_of(found.piece, layer.crs)
            size = sizes["length"] + sizes["area"]
            size[dimension(found.piece) == 0] = 1.0
            return (*_best(rows, group, size), None, _Doubtful())
        # pieces in two areas of one name are one piece
        code = rows * (int(of_area.max(initial=0)) + 1) + group
        order = np.argsort(code, kind="stable")
        begins, ends = runs(code[order])
        pieces = np.full(len(begins), None, object)
        for n, (i, j) in enumerate(zip(begins.tolist(), ends.tolist(), strict=True)):
            some = found.piece[order[i:j]]
            pieces[n] = some[0] if len(some) == 1 else one_with_measures(shapely.union_all, some)
        first = order[begins]
        of_left, rows, group = found.left[first], rows[first], group[first]
        pieces, on_edge = _without_shared_edges(left, areas, of_area, of_left, group, pieces)
        away, twice = _away(left, areas, found, of_left, pieces, layer.crs)
        # a point cannot be cut: one between two areas goes to the first, as where centres decide
        flat = shapely.get_type_id(layer.geometry)[rows] == 0
        again = np.r_[False, rows[1:] == rows[:-1]] & flat
        between = np.unique(rows[again])
        kept = ~again & is_nonempty(pieces)
        inner = _doubtful(found.left, of_area[found.right], left, areas, found.right, only=dimension(left) == 0)
        told = _Doubtful(
            twice + inner.twice,
            len(between) - inner.twice + on_edge,
            _spread(away, there, len(layer), 0.0),
            _spread(sizes_of(left[bad], layer.crs), there[bad], len(layer), -1.0),
        )
        return rows[kept], group[kept], pieces[kept], told


def _spread(sizes: Sizes, rows: np.ndarray, count: int, otherwise: float) -> Sizes:
    """Sizes of some rows, for all rows."""
    out = {name: np.full(count, otherwise) for name in ("length", "area")}
    for name, values in sizes.items():
        out[name][rows] = values
    return out


def _without_shared_edges(
    left: np.ndarray, areas: np.ndarray, of_area: np.ndarray, row: np.ndarray, group: np.ndarray, pieces: np.ndarray
) -> tuple[np.ndarray, int]:
    """Pieces of lines without what lies on the edge of their area and in an earlier piece: what runs along the border of two areas
    goes to the first, as a point on it does. And how many features that was so for."""
    out, many = pieces.copy(), 0
    begins, ends = runs(row)
    if not len(row):
        return out, 0
    # of two pieces it is seen at once whether they share a stretch; where there are more, each is looked at
    line, two = dimension(left)[row[begins]] == 1, ends - begins == 2
    pair = begins[line & two]
    shares = shapely.length(shapely.intersection(pieces[pair], pieces[pair + 1])) > 0
    suspect = np.concatenate([pair[shares], begins[line & (ends - begins > 2)]])
    suspect.sort()
    for i, j in zip(suspect.tolist(), ends[np.searchsorted(begins, suspect)].tolist(), strict=True):
        had, hit = out[i], False
        for n in range(i + 1, j):
            edge = shapely.boundary(shapely.union_all(areas[of_area == group[n]]))
            shared = shapely.intersection(shapely.intersection(out[n], had), edge)
            if shared.length > 0:
                hit = True
                out[n] = of_dimension(with_measures(shapely.difference, out[[n]], np.array([shared], object)), np.array([1]))[0]
            if out[n] is not None:
                had = shapely.union(had, out[n])
        many += hit
    return out, many


def _away(left: np.ndarray, areas: np.ndarray, found: Pieces, row: np.ndarray, pieces: np.ndarray, crs: str | None) -> tuple[Sizes, int]:
    """How much of each feature lies in no area, less what lies in two, each found without the pieces; and how many lie in two.
    Of a feature whose one piece is just as large, nothing is asked."""
    whole = sizes_of(left, crs)
    away = {name: values.copy() for name, values in whole.items()}
    twice = np.zeros(len(left), bool)
    begins, ends = runs(found.left)
    met = np.zeros(len(left), bool)
    met[found.left] = True
    got = sizes_of(pieces, crs)
    several, kind = np.bincount(row, minlength=len(left)) > 1, dimension(left)
    for name in whole:
        made = np.bincount(row, got[name], minlength=len(left))
        just = (np.abs(made - whole[name]) <= 1e-9 * np.maximum(whole[name], 1e-300)) & ~several
        away[name][just] = 0.0
        which = 1 if name == "length" else 2
        asked = np.flatnonzero(~just & met & (kind == which))
        where = np.searchsorted(found.left[begins], asked) if len(begins) else asked
        for at, i, j in zip(asked.tolist(), begins[where].tolist(), ends[where].tolist(), strict=True):
            under = shapely.union_all(areas[found.right[i:j]])
            shape = left[[at]]
            covered = sizes_of(of_dimension(shapely.intersection(shape, under), dimension(shape)), crs)[name][0]
            rest = sizes_of(of_dimension(shapely.difference(shape, under), dimension(shape)), crs)[name][0]
            over = made[at] - covered
            twice[at] = over > 1e-9 * whole[name][at]
            away[name][at] = rest - max(over, 0.0)
    return away, int(twice.sum())


def _best(rows: np.ndarray, group: np.ndarray, size: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The group of each row with the greatest size, the first of equal ones."""
    order = np.lexsort((group, -size, rows))
    first = np.r_[True, rows[order][1:] != rows[order][:-1]] if len(rows) else np.empty(0, bool)
    return rows[order][first], group[order][first]


def _doubtful(
    a: np.ndarray, group: np.ndarray, points: np.ndarray, areas: np.ndarray, b: np.ndarray, only: np.ndarray | None = None
) -> _Doubtful:
    """How many points lie in two groups of areas: within both, or on the border between them."""
    if only is not None:
        keep = only[a]
        a, group, b = a[keep], group[keep], b[keep]
    pairs = np.unique(np.column_stack([a, group]), axis=0)
    often = np.bincount(pairs[:, 0], minlength=len(points)) if len(pairs) else np.zeros(len(points), np.int64)
    at = np.flatnonzero(often[a] > 1)
    if not len(at):
        return _Doubtful()
    within = at[shapely.contains(areas[b[at]], points[a[at]])]
    deep = np.unique(np.column_stack([a[within], group[within]]), axis=0)
    twice = int((np.bincount(deep[:, 0]) > 1).sum()) if len(deep) else 0
    return _Doubtful(twice, int((often > 1).sum()) - twice)
