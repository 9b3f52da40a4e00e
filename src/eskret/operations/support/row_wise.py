"""Operations of a simple shape, which look at each row by itself: some rows stay, each gets another shape, or further fields.

One says what it makes of rows; forecast and accounts follow.
"""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, ClassVar

import numpy as np
import pyarrow as pa

from eskret.core.accounts.account import Altered, ControlTotal, InputAccount, OutputAccount, Reason, Relation, Remark, SetAside
from eskret.core.layer import Field, GeometryKind, Layer, LayerFacts
from eskret.core.measure.totals import sizes_in_metres, totals_of
from eskret.core.tables.columns import with_columns
from eskret.core.tables.values import exact_sum
from eskret.errors import Code
from eskret.operations.base import Brought, Context, EachLayer, Finding, Forecast, Outcome, has_errors
from eskret.operations.support import other_layer, reshaping


@dataclass(frozen=True)
class Chosen:
    """Which rows stay (positions, ascending), and why each of the others does not."""

    rows: np.ndarray
    aside: Sequence[Reason]
    remarks: Sequence[Remark] = ()
    others: Sequence[InputAccount] = ()
    """Accounts of layers that settings name."""


class RowFilter(EachLayer):
    """Keeps some rows of a layer and sets the others aside."""

    relation = Relation.KEPT
    nothing: ClassVar[str] = "nothing meets the condition"
    """What to say where no row is kept."""

    def check(self, facts: LayerFacts, settings: Any, context: Context) -> list[Finding]:
        """What there is to say beforehand."""
        return []

    @abstractmethod
    def choose(self, layer: Layer, settings: Any, context: Context) -> Chosen:
        """Do it; ``rows`` and those ``aside`` are all rows."""

    def at_most(self, facts: LayerFacts, settings: Any) -> LayerFacts:
        """What can leave."""
        return other_layer.upper_bound(facts)

    def forecast(self, facts: LayerFacts, settings: Any, context: Context) -> Forecast:
        found = self.check(facts, settings, context)
        return Forecast(() if has_errors(found) else (self.at_most(facts, settings),), tuple(found))

    def work(self, layer: Layer, settings: Any, context: Context) -> Outcome:
        chosen = self.choose(layer, settings, context)
        out = layer.take(chosen.rows) if len(chosen.rows) != len(layer) else layer
        remarks = [*chosen.remarks, *([] if len(chosen.rows) else [Remark(self.nothing, layer.key, look=True, code=Code.NOTHING_LEFT)])]
        totals = totals_of(out, context.totals)
        controls = _controls(layer, chosen.rows, totals)
        account = InputAccount.of(layer, SetAside.from_reasons(chosen.aside))
        told = OutputAccount(layer.key, len(out), totals, controls)
        return Outcome((out,), (account, *chosen.others), (told,), chosen.rows, tuple(remarks))


def _controls(layer: Layer, kept: np.ndarray, totals: Sequence[tuple[str, float, str]]) -> tuple[ControlTotal, ...]:
    """The layer that leaves is as large, and its fields sum up, as the rows that were to be kept do where they entered."""
    out = []
    for name, value, unit in totals:
        if unit:
            size = sizes_in_metres(layer)
            expected = float(np.nansum(size[kept])) / (1000.0 if unit == "km" else 10_000.0) if size is not None else value
        else:
            expected = float(exact_sum(layer.table.column(name).take(pa.array(kept))))
        out.append(ControlTotal(name, unit, expected, value))
    return tuple(out)


@dataclass(frozen=True)
class Reshaped:
    """A shape for each row, None for none, and what there is to say of it."""

    shapes: np.ndarray
    reasons: Sequence[Reason] = ()
    """Further rows to set aside."""
    remarks: Sequence[Remark] = ()
    altered: Sequence[Altered] = ()
    controls: Sequence[ControlTotal] = ()
    others: Sequence[InputAccount] = ()
    """Accounts of layers that settings name."""


class ShapePerRow(EachLayer):
    """Gives each row another shape; one whose shape comes out as nothing is set aside."""

    relation = Relation.ONE_FOR_ONE
    makes: ClassVar[GeometryKind | None] = None
    """The kind of what leaves, where it is not that of what enters."""
    gone: ClassVar[str] = "nothing is left of it"
    keep_null: ClassVar[bool] = False
    """Whether a row without a shape stays so, instead of being set aside."""

    def check(self, facts: LayerFacts, settings: Any, context: Context) -> list[Finding]:
        """What there is to say beforehand; an error for a table, which has no shapes."""
        return reshaping.require_geometry(facts)

    @abstractmethod
    def reshape(self, layer: Layer, shapes: np.ndarray, settings: Any, context: Context) -> Reshaped:
        """Do it, from the shapes of the layer (n)."""

    def crs_after(self, crs: str | None, settings: Any) -> str | None:
        """The coordinate system of what leaves."""
        return crs

    def forecast(self, facts: LayerFacts, settings: Any, context: Context) -> Forecast:
        found = self.check(facts, settings, context)
        return reshaping.forecast_shapes(facts, found, self.makes, crs=self.crs_after(facts.crs, settings))

    def work(self, layer: Layer, settings: Any, context: Context) -> Outcome:
        assert layer.geometry is not None
        made = self.reshape(layer, layer.geometry, settings, context)
        return reshaping.one_to_one(
            replace(layer, crs=self.crs_after(layer.crs, settings)),
            made.shapes,
            context,
            gone=self.gone,
            kind=self.makes or layer.kind,
            reasons=made.reasons,
            remarks=made.remarks,
            altered=made.altered,
            controls=made.controls,
            keep_null=self.keep_null,
            others=made.others,
        )


@dataclass(frozen=True)
class Columns:
    """Fields by name that each row gets, in place of those of the same name, and what there is to say of them."""

    columns: Mapping[str, pa.Array | pa.ChunkedArray]
    remarks: Sequence[Remark] = ()
    altered: Sequence[Altered] = ()
    controls: Sequence[ControlTotal] = ()
    others: Sequence[InputAccount] = ()
    """Accounts of layers that settings name."""
    totals: Sequence[tuple[str, float, str]] = ()
    """Totals to be shown before those of the layer."""
    brought: Sequence[Brought] = ()
    """Rows of other layers that went into those that leave."""


MadeFields = tuple[Sequence[Field], list[Finding]]
"""Fields that a step makes, and what there is to say beforehand."""


class FieldsPerRow(EachLayer):
    """Gives each row further fields, or others in place of those of the same name."""

    relation = Relation.ONE_FOR_ONE
    at_end: ClassVar[bool] = False
    """Whether they come last, also where there is one of the name already."""

    @abstractmethod
    def fields(self, facts: LayerFacts, settings: Any, context: Context) -> MadeFields:
        """The fields it makes, none of them where something is wrong, and what there is to say beforehand."""

    @abstractmethod
    def columns(self, layer: Layer, settings: Any, context: Context) -> Columns:
        """Do it."""

    def forecast(self, facts: LayerFacts, settings: Any, context: Context) -> Forecast:
        made, found = self.fields(facts, settings, context)
        return Forecast(() if has_errors(found) else (facts.with_made(made, self.at_end),), tuple(found))

    def work(self, layer: Layer, settings: Any, context: Context) -> Outcome:
        made = self.columns(layer, settings, context)
        out = layer.with_table(with_columns(layer.table, made.columns, self.at_end))
        account = InputAccount.of(layer, altered=tuple(made.altered))
        told = OutputAccount(layer.key, len(out), (*made.totals, *totals_of(out, context.totals)), tuple(made.controls))
        return Outcome((out,), (account, *made.others), (told,), np.arange(len(layer)), tuple(made.remarks), brought=tuple(made.brought))
