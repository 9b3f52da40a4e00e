"""Split a layer into one a value."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from eskret.core.accounts.account import ControlTotal, InputAccount, OutputAccount, Relation, Remark, SetAside
from eskret.core.layer import Certainty, ChunkedLayer, Layer, LayerFacts
from eskret.core.measure.totals import totals_of
from eskret.core.naming import clean_name
from eskret.core.tables.groupby import group_rows
from eskret.core.tables.rows import remaining
from eskret.core.words import pluralise
from eskret.errors import EskretError
from eskret.operations.base import Context, EachLayer, Finding, Forecast, Outcome, Phase, Takes
from eskret.operations.sentences import join_words
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support import named_fields
from eskret.operations.support.naming_parts import part_names

EMPTY = "has no value in {}"
NAMELESS = "its value holds no letter or digit to make a name of"


class Split(EachLayer):
    """Split a layer into one layer for each value of a field.

    Each new layer is called after its value, cleaned by the naming rule; two values that come out the same are numbered,
    and the value as it stands in the data stays with the layer. Several fields make a layer for each combination. The set
    flows on through later steps as one; name one of its layers as step:value. Features without a value are set aside,
    unless you give them a name.
    """

    id = "split"
    title = "Split"
    phase = Phase.SHAPE
    menu_order = 25
    relation = Relation.KEPT
    says = "Split {entering} by {by}"
    also_known_as = (
        "separate",
        "one layer per value",
        "one file per district",
        "one layer per district",
        "one file per value",
        "partition",
        "divide",
        "group into layers",
        "per value",
        "split by attribute",
        "break up layer by category",
        "layer for each category",
        "export each value separately",
    )

    class Settings(OperationSettings):
        by: list[str] = named_fields.by_setting(
            "By the values of", "A layer is made for each value; with several fields, for each combination.", default=..., min_length=1
        )
        name: str = setting(
            "Layer name",
            kind="template",
            default="{value}",
            min_length=1,
            example="{layer}_{value}",
            help="How each layer is called: {value}, {layer}, {n} and parameters are filled in, then the name is cleaned.",
        )
        empty_as: str = setting(
            "Name without a value",
            rare=True,
            default="",
            example="no licence",
            help="The layer for features whose value is empty. Left blank, they are set aside with that reason.",
        )

    def forecast(self, facts: LayerFacts, settings: Settings, context: Context) -> Forecast:
        found = named_fields.named(facts, settings.by, "by")
        if found:
            return Forecast((), tuple(found))
        try:
            self._name(settings, context, "value", facts.key, 1)
        except EskretError as error:
            return Forecast((), (Finding.error(error.sentence(), "name"),))
        table = facts.values(settings.by)
        if table is None:
            text = f"{facts.key}: how many layers this makes, and their names, only the run will tell."
            open_ = replace(facts, key=facts.key, count=facts.count, certainty=Certainty.AT_MOST, extent=None, open_key=True)
            return Forecast((open_,), (Finding.note(text, layer=facts.key),))
        groups = group_rows(table, settings.by)
        values = _values(table, settings.by, groups.first)
        names, _ = self._names(values, settings, context, facts.key)
        certainty = facts.certainty
        layers = [
            replace(facts, key=key, name=" ".join(value) or key, count=int(size), certainty=certainty, extent=None)
            for key, value, size in zip(names, values, groups.sizes.tolist(), strict=True)
            if key
        ]
        return Forecast(tuple(layers), tuple(self._findings(names, values, groups.sizes, facts.key, settings)))

    def _findings(
        self, names: Sequence[str], values: Sequence[tuple[str, ...]], sizes: np.ndarray, key: str, settings: Settings
    ) -> list[Finding]:
        out = []
        left = int(sum(size for name, size in zip(names, sizes.tolist(), strict=True) if not name))
        if left:
            text = f"{key}: {pluralise(left, 'feature')} without a value will be set aside; give 'Name without a value' to keep them."
            out.append(Finding.look(text, "empty_as", layer=key))
        texts = [self._text(settings, value) for value in values]
        _, cut = part_names(texts, settings.name, Context(), key) if settings.name == "{value}" else ([], [])
        if cut:
            text = f"{key}: {pluralise(len(cut), 'value is', 'values are')} too long for a name and cut, such as '{cut[0][:40]} ...'."
            out.append(Finding.look(text, "name", layer=key))
        plain = [clean_name(text) for text in texts]
        numbered = [n for n, p in zip(names, plain, strict=True) if n and n != p and p]
        if numbered and settings.name == "{value}":
            text = f"{key}: {pluralise(len(numbered), 'value')} make a name that is taken and are numbered: {join_words(numbered, 4)}."
            out.append(Finding.look(text, "name", layer=key))
        return out

    def _text(self, settings: Settings, value: Sequence[str]) -> str:
        return "_".join(v for v in value if v) or settings.empty_as

    def _name(self, settings: Settings, context: Context, value: str, layer: str, number: int) -> str:
        return clean_name(context.fill(settings.name, {"value": value, "layer": layer, "n": number, "step": context.step}))

    def _names(self, values: Sequence[tuple[str, ...]], settings: Settings, context: Context, layer: str) -> tuple[list[str], list[str]]:
        """The name of each value's layer, empty for one set aside, and why."""
        texts = [self._text(settings, value) for value in values]
        names, _ = part_names(texts, settings.name, context, layer)
        empty = EMPTY.format(join_words(settings.by, 4))
        return names, ["" if name else NAMELESS if text else empty for name, text in zip(names, texts, strict=True)]

    makes_many = True

    def takes(self, facts: LayerFacts, settings: Settings) -> Takes:
        return Takes.PARTS

    def places(self, layer: ChunkedLayer, settings: Settings) -> np.ndarray:
        return named_fields.group_places(layer, settings.by)

    def _of_all(self, layer: Layer, settings: Settings, context: Context) -> tuple[list[str], list[str], list[Remark]]:
        """The names of the layers of all groups there are, why some have none, and what there is to say of names."""
        table = context.columns_of(layer, settings.by)
        groups = group_rows(table, settings.by)
        values = _values(table, settings.by, groups.first)
        names, why = self._names(values, settings, context, layer.key)
        found = self._findings(names, values, groups.sizes, layer.key, settings)
        return names, why, [Remark(f.text.partition(": ")[2].rstrip("."), layer.key, look=True) for f in found if f.setting == "name"]

    def work(self, layer: Layer, settings: Settings, context: Context) -> Outcome:
        groups = group_rows(layer.table, settings.by)
        values = _values(layer.table, settings.by, groups.first)
        all_names, all_why, remarks = context.once("names", lambda: self._of_all(layer, settings, context))
        mine = slice(context.group, context.group + groups.count)
        names, why = all_names[mine], all_why[mine]
        kept = [g for g in range(groups.count) if names[g]]
        order = np.concatenate([groups.rows(g) for g in kept]) if kept else np.empty(0, np.int64)
        starts = np.concatenate([[0], np.cumsum([groups.sizes[g] for g in kept])]).astype(np.int64)
        layers = []
        for group, part in zip(kept, layer.slices(order, starts), strict=True):
            layers.append(part.renamed(names[group], " ".join(v for v in values[group] if v) or settings.empty_as))
        reasons: dict[str, list[np.ndarray]] = {}
        for group in range(groups.count):
            if not names[group]:
                reasons.setdefault(why[group], []).append(groups.rows(group))
        aside = SetAside.from_reasons([(reason, np.concatenate(rows)) for reason, rows in reasons.items()])
        said = Remark.counted("{layers|layer} of {features|feature}", layer.key, layers=len(layers), features=len(order))
        outputs = [OutputAccount(x.key, len(x), totals_of(x, context.totals)) for x in layers]
        if outputs:
            outputs[0] = replace(outputs[0], controls=_controls(layer, outputs, aside.rows, context))
        account = InputAccount.of(layer, aside)
        return Outcome(tuple(layers), (account,), tuple(outputs), order, (said, *remarks))


def _controls(layer: Layer, outputs: Sequence[OutputAccount], aside: np.ndarray, context: Context) -> tuple[ControlTotal, ...]:
    """Every total of what was not set aside is that of the parts together."""
    used = layer.take(remaining(len(layer), aside)) if len(aside) else layer
    parts: dict[str, float] = {}
    for output in outputs:
        for name, value, _ in output.totals:
            parts[name] = parts.get(name, 0.0) + value
    return tuple(ControlTotal(name, unit, value, parts.get(name, 0.0)) for name, value, unit in totals_of(used, context.totals))


def _values(table: pa.Table, fields: Sequence[str], rows: np.ndarray) -> list[tuple[str, ...]]:
    """The values of some rows as texts, empty where they are."""
    columns = []
    for field in fields:
        column = table.column(field).take(pa.array(rows, pa.int64()))
        if pa.types.is_string(column.type):
            columns.append([v or "" for v in column.to_pylist()])
        elif pa.types.is_floating(column.type):
            columns.append(["" if v is None else f"{v:.15g}" for v in column.to_pylist()])
        elif pa.types.is_boolean(column.type):
            columns.append(["" if v is None else "yes" if v else "no" for v in column.to_pylist()])
        elif pa.types.is_integer(column.type):
            columns.append(pc.cast(column, pa.string()).fill_null("").to_pylist())
        else:
            columns.append(["" if v is None else str(v) for v in column.to_pylist()])
    return list(zip(*columns, strict=True))
