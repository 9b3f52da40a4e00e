"""Count everything in a set."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from typing import Any, Literal

import numpy as np
import pyarrow as pa
import shapely

from eskret.core.accounts.account import InputAccount, OutputAccount, Relation, Remark
from eskret.core.layer import Certainty, Field, GeometryKind, Layer, LayerFacts, matches
from eskret.core.naming import number_collisions
from eskret.core.words import pluralise
from eskret.operations.base import Context, Finding, Forecast, Gathering, Outcome, Phase
from eskret.operations.sentences import join_words, share
from eskret.operations.settings import OperationSettings, setting

_KINDS = {"points": (0, 4), "lines": (1, 2, 5), "areas": (3, 6), "collections": (7,)}
_OF_LAYERS = {"point": "points", "line": "lines", "area": "areas", "mixed": "of several kinds", "table": "tables"}
_ABOUT = {"name": "its own name", "file": "its file", "kind": "its kind", "crs": "its coordinate system"}
_FIGURES = ("features", *_KINDS, "without_geometry", "empty", "invalid")


class Tally(Gathering):
    """Count the features of every layer in a set, whole and by the values of fields.

    Features are counted by kind of geometry, and so are those without one and those that are invalid. The result is a
    table with a row for each layer, or for each layer and value. The share of a row is in per cent of all features
    counted. A name pattern picks layers of the set; save the table as CSV to hand it on.
    """

    id = "tally"
    title = "Tally"
    phase = Phase.CHECK
    menu_order = 10
    relation = Relation.REPORT
    says = "Tally {entering}[ by {by}]"
    also_known_as = (
        "count layers",
        "how many",
        "how many features",
        "inventory",
        "statistics of layers",
        "percentage by value",
        "share by value",
        "nulls",
        "overview",
        "features in every layer",
        "summary of layers",
    )

    class Settings(OperationSettings):
        layers: list[str] = setting(
            "Layers", kind="patterns", default=["*"], example="lease_*", help="Names or patterns of the layers to count, such as lease_*."
        )
        by: list[str] = setting(
            "By the values of",
            kind="fields",
            default=[],
            example="kind",
            help="A row for each value of these fields; a layer that lacks one counts as empty there.",
        )
        kinds: list[Literal["point", "line", "area", "mixed", "table"]] = setting(
            "Kinds of layers",
            kind="choices",
            default=list(_OF_LAYERS),
            choices=_OF_LAYERS,
            min_length=1,
            help="Layers of which kinds are counted; leave tables out where only shapes count.",
        )
        about: list[Literal["name", "file", "kind", "crs"]] = setting(
            "Tell of each layer",
            rare=True,
            kind="choices",
            default=[],
            choices=_ABOUT,
            help="More columns: what the layer is called in its file, which file that is, its kind and coordinate system.",
        )

    def forecast(self, facts: Sequence[LayerFacts], settings: Settings, context: Context) -> Forecast:
        chosen = [f for f in facts if _chosen(f, settings)]
        if not chosen:
            there = join_words((f"{f.key} ({f.kind})" for f in facts), 12)
            kinds = "" if len(settings.kinds) == len(_OF_LAYERS) else f" and is of kind {' or '.join(settings.kinds)}"
            text = f"No layer is called {join_words(settings.layers, 6)}{kinds}. There are {there}."
            return Forecast((), (Finding.error(text, "layers"),))
        findings = [
            Finding.error(f"No layer has a field '{name}'.", "by") for name in settings.by if all(name not in f.names() for f in chosen)
        ]
        if findings:
            return Forecast((), tuple(findings))
        fields = tuple(Field(n, t) for n, t in _schema(settings))
        count = None if settings.by else len(chosen)
        return Forecast(
            (
                LayerFacts(
                    context.step or "tally",
                    context.step or "tally",
                    GeometryKind.TABLE,
                    None,
                    fields,
                    count,
                    Certainty.UNKNOWN if settings.by else Certainty.KNOWN,
                ),
            )
        )

    def work(self, layers: Sequence[Layer], settings: Settings, context: Context) -> Outcome:
        chosen = [layer for layer in layers if _chosen(layer, settings)]
        whole = sum(map(len, chosen))
        rows: list[dict[str, Any]] = []
        for number, layer in enumerate(chosen):
            rows += _counted(layer, settings)
            context.watch(number + 1, len(chosen))
        for row in rows:
            row["share"] = round(100 * row["features"] / whole, 2) if whole else 0.0
        schema = pa.schema([pa.field(n, t) for n, t in _schema(settings)])
        key = context.step or "tally"
        out = Layer(key, pa.Table.from_pylist(rows, schema))
        inputs = tuple(InputAccount.of(layer) for layer in chosen)
        return Outcome((out,), inputs, (OutputAccount(key, len(out)),), None, tuple(_remarks(rows, settings, whole, len(chosen))))


def _chosen(layer: Layer | LayerFacts, settings: Any) -> bool:
    return str(layer.kind) in settings.kinds and any(matches(pattern, layer.key) for pattern in settings.layers)


def _columns(settings: Any) -> list[str]:
    """The columns of the fields that are counted by: called like them, or numbered where a column of the tally is called so."""
    return number_collisions(list(settings.by), taken=["layer", *settings.about, *_FIGURES, "share"])


def _schema(settings: Any) -> list[tuple[str, pa.DataType]]:
    return [
        ("layer", pa.string()),
        *((n, pa.string()) for n in (*settings.about, *_columns(settings))),
        *((f, pa.int64()) for f in _FIGURES),
        ("share", pa.float64()),
    ]


def _counted(layer: Layer, settings: Any) -> list[dict[str, Any]]:
    """A row for each value of the fields, in order, empty last; one for the whole layer where none is named."""
    by = settings.by
    about = {"name": layer.name or layer.key, "file": layer.origin or None, "kind": str(layer.kind), "crs": layer.crs}
    values = [layer.table.column(n).to_pylist() if n in layer.table.column_names else [None] * len(layer) for n in by]
    groups: dict[tuple[str | None, ...], list[int]] = {}
    if by:
        for row, group in enumerate(zip(*values, strict=True)):
            groups.setdefault(tuple(None if v is None else str(v) for v in group), []).append(row)
    else:
        groups[()] = list(range(len(layer)))
    marks = _marks(layer)
    columns = _columns(settings)
    told = {"layer": layer.key, **{n: about[n] for n in settings.about}}
    out = []
    for group in sorted(groups, key=lambda g: [(v is None, v or "") for v in g]):
        at = np.array(groups[group], np.int64)
        figures = {name: int(mask[at].sum()) for name, mask in marks.items()}
        out.append({**told, **dict(zip(columns, group, strict=True)), "features": len(at), **figures})
    return out


def _marks(layer: Layer) -> dict[str, np.ndarray]:
    """For each figure, which rows count for it."""
    if layer.geometry is None:
        return {name: np.zeros(len(layer), bool) for name in _FIGURES[1:]}
    types = shapely.get_type_id(layer.geometry)
    out = {name: np.isin(types, numbers) for name, numbers in _KINDS.items()}
    missing = types < 0
    out["without_geometry"] = missing
    out["empty"] = shapely.is_empty(layer.geometry) & ~missing
    out["invalid"] = ~shapely.is_valid(layer.geometry) & ~missing
    return out


def _remarks(rows: Sequence[Mapping[str, Any]], settings: Any, whole: int, layers: int) -> list[Remark]:
    """What a person wants to read in the ledger without opening the table."""
    out = [Remark(f"{pluralise(whole, 'feature')} in {pluralise(layers, 'layer')}")]
    columns = _columns(settings)
    moved = [f"'{name}' stands in column '{column}'" for name, column in zip(settings.by, columns, strict=True) if name != column]
    if moved:
        out.append(Remark(join_words(moved, 4)))
    for name, words in (("without_geometry", "without geometry"), ("invalid", "invalid")):
        number = sum(r[name] for r in rows)
        if number:
            out.append(Remark(f"{words}: {share(number, whole)}", look=name == "invalid"))
    by_value: Counter[str] = Counter()
    for row in rows:
        named = [str(row[k]) if row[k] is not None else "empty" for k in columns]
        by_value[", ".join(named)] += row["features"]
    if len(by_value) > 1 or "" not in by_value:
        out += [Remark(f"{value}: {share(number, whole)}") for value, number in by_value.most_common(6)]
    return out
