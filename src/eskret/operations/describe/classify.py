"""The class of a value: limits between classes, found or given."""

from __future__ import annotations

import itertools
import re
from collections.abc import Sequence
from typing import Any, Literal

import numpy as np
import pyarrow as pa

from eskret.core.accounts.account import ControlTotal, Remark, verbatim
from eskret.core.layer import Field, Layer, LayerFacts
from eskret.core.style.classes import SAMPLE, breaks_of, class_labels, class_of
from eskret.core.tables.values import is_number, settled
from eskret.core.words import pluralise
from eskret.errors import SettingError
from eskret.operations.base import Context, Finding, Phase, Takes, has_errors
from eskret.operations.sentences import join_words
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support import named_fields
from eskret.operations.support.naming_fields import field_called, told_of_field
from eskret.operations.support.row_wise import Columns, FieldsPerRow, MadeFields


class Classify(FieldsPerRow):
    """Classify values: small, middle, large.

    The limits between classes are your own, or found from the values: steps of one size, as many features in each, or natural
    breaks. A value on a limit belongs to the class below it. The class is a number, a name of your own, or the range it covers.
    The limits are told in the ledger; found ones move with the data, so give your own where quarters are compared.
    """

    id = "classify"
    title = "Classify"
    phase = Phase.DESCRIBE
    menu_order = 68
    says = "Classify {entering} by {by}"
    also_known_as = (
        "class of a value",
        "classes",
        "bins",
        "bin values",
        "ranges",
        "categories from numbers",
        "reclass",
        "quantiles",
        "quartiles",
        "natural breaks",
        "equal intervals",
        "low medium high",
        "into bands",
    )

    class Settings(OperationSettings):
        by: str = setting("By", kind="field", min_length=1, example="tonnes", help="The field of numbers.")
        method: Literal["limits", "equal", "quantiles", "natural"] = setting(
            "Limits",
            kind="choice",
            default="limits",
            choices={
                "limits": "my own",
                "equal": "steps of one size",
                "quantiles": "as many features in each",
                "natural": "natural breaks",
            },
            help="Where one class ends and the next begins.",
        )
        limits: str = setting(
            "My limits",
            default="",
            example="5, 20, 50",
            shown_when=("method", ("limits",)),
            help="With commas, a point for decimals. The first class is up to the first, the last above the last.",
        )
        count: int = setting(
            "Classes",
            kind="whole",
            default=5,
            ge=2,
            le=100,
            shown_when=("method", ("equal", "quantiles", "natural")),
            help="How many are wanted; fewer come where there are fewer different values.",
        )
        write: Literal["number", "range", "names"] = setting(
            "Write",
            kind="choice",
            default="number",
            choices={"number": "the number of the class, from 1", "range": "its range, such as 5 to 20", "names": "names of my own"},
            help="What stands in the field.",
        )
        names: list[str] = setting(
            "Names",
            kind="patterns",
            default=[],
            example="small, middle, large",
            shown_when=("write", ("names",)),
            help="One for each class, from the lowest on.",
        )
        field: str = setting("Field", default="class", min_length=1, help="The field that gets the class.")

    def fields(self, facts: LayerFacts, settings: Settings, context: Context) -> MadeFields:
        found = named_fields.named(facts, [settings.by], "by")
        kind = next((f.type for f in facts.fields if f.name == settings.by), None)
        if kind is not None and not is_number(kind):
            found.append(Finding.error(f"'{settings.by}' holds no numbers. Arrange fields makes some of texts.", "by", facts))
        try:
            classes = len(_own_limits(settings.limits)) + 1 if settings.method == "limits" else settings.count
            if settings.write == "names":
                _check_names(settings.names, classes)
        except SettingError as error:
            found.append(Finding.of(error))
        if has_errors(found):
            return [], found
        name = field_called(facts.names(), settings.field, context)
        return [Field(name, _kind(settings))], found + told_of_field(facts, settings.field, name)

    def takes(self, facts: LayerFacts, settings: Settings) -> Takes:
        return Takes.ROWS

    def columns(self, layer: Layer, settings: Settings, context: Context) -> Columns:
        limits, labels, remarks = context.once("limits", lambda: _limits(layer, settings, context))
        values = _numbers(layer.table.column(settings.by))
        place = class_of(values, limits)
        name = field_called(layer.table.column_names, settings.field, context)
        none = pa.array(place < 0)
        if settings.write == "number":
            column = pa.array(place.astype(np.int64) + 1, mask=np.asarray(none))
        else:
            column = pa.array([None if p < 0 else labels[p] for p in place.tolist()], pa.string())
        alone = Remark.of_some(
            f"{{n}} without a value in '{verbatim(settings.by)}' {{n:has|have}} no class", layer.key, look=True, n=int((place < 0).sum())
        )
        beyond = ControlTotal("values beyond the limits of their class", "", 0, _beyond(values, place, limits))
        return Columns({name: column}, [*remarks, *_counts(layer.key, place, labels), alone], controls=[beyond])


def _kind(settings: Any) -> pa.DataType:
    return pa.int64() if settings.write == "number" else pa.string()


def _numbers(column: pa.ChunkedArray) -> np.ndarray:
    """Values as float64, NaN where there is none."""
    return np.asarray(settled(column).cast(pa.float64(), safe=False).to_numpy(), float)


def _own_limits(text: str) -> tuple[float, ...]:
    """Limits as they are written, ascending.

    Raises
    ------
    SettingError : one of them is no number, or they do not ascend.
    """
    words = [w for w in re.split(r"[,;\s]+", text) if w]
    try:
        found = tuple(float(w) for w in words)
    except ValueError:
        found = ()
    if not found or not all(np.isfinite(found)) or any(b <= a for a, b in itertools.pairwise(found)):
        said = f"'{text}' are no limits" if text.strip() else "limits are wanted"
        raise SettingError(said, setting="limits", way_out="Write numbers that go up, such as 5, 20, 50")
    return found


def _check_names(names: Sequence[str], classes: int) -> None:
    if len(names) != classes:
        said = f"there are {pluralise(classes, 'class', 'classes')} and {pluralise(len(names), 'name')}"
        raise SettingError(said, setting="names", way_out="Write one for each, from the lowest on")


def _limits(layer: Layer, settings: Any, context: Context) -> tuple[tuple[float, ...], list[str], list[Remark]]:
    """The limits, the label of each class, and what there is to say of them."""
    values = _numbers(context.columns_of(layer, [settings.by]).column(settings.by))
    known = values[np.isfinite(values)]
    remarks = []
    if settings.method == "limits":
        limits = _own_limits(settings.limits)
    else:
        limits = breaks_of(values, settings.method, settings.count)
        classes = len(limits) + 1
        if len(known):
            # to the last digit: found limits may be wanted again as one's own
            exact = join_words([f"{v:.15g}" for v in limits], 100)
            remarks.append(Remark(f"limits found: {exact}" if limits else "all values are one, so there are no limits", layer.key))
        if settings.method == "natural" and len(known) > SAMPLE:
            remarks.append(Remark(f"natural breaks were found in a sample of {SAMPLE:,} of {len(known):,} values", layer.key, look=True))
        if classes < settings.count:
            remarks.append(
                Remark(f"only {pluralise(classes, 'class', 'classes')}: there are not more different values", layer.key, look=True)
            )
    least, greatest = (float(known.min()), float(known.max())) if len(known) else (0.0, 0.0)
    labels = list(settings.names) if settings.write == "names" else class_labels(limits, least, greatest)
    return limits, labels, [r.once() for r in remarks]


def _counts(key: str, place: np.ndarray, labels: Sequence[str]) -> list[Remark]:
    """How many are in each class; where there are very many classes, only in how many."""
    many = np.bincount(place[place >= 0], minlength=len(labels))
    if len(labels) > 12:
        return []
    return [Remark.counted(f"{verbatim(label)}: {{n}}", key, n=int(n)) for label, n in zip(labels, many, strict=False)]


def _beyond(values: np.ndarray, place: np.ndarray, limits: Sequence[float]) -> int:
    """How many values lie beyond the limits of the class that they were given, or have none though they are numbers."""
    edges = np.r_[-np.inf, np.asarray(limits, float), np.inf]
    there = place >= 0
    low, high = edges[np.maximum(place, 0)], edges[np.maximum(place, 0) + 1]
    inside = (values > low) | (np.isneginf(values) & np.isneginf(low))
    return int((~np.where(there, inside & (values <= high), np.isnan(values))).sum())
