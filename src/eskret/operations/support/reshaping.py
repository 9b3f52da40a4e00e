"""What operations have in common that give each feature another shape."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np
import pyarrow as pa

from eskret.core.accounts.account import Altered, ControlTotal, InputAccount, OutputAccount, Reason, Remark, SetAside
from eskret.core.crs import is_geographic
from eskret.core.geometry.parallel import is_nonempty
from eskret.core.layer import Certainty, GeometryKind, Layer, LayerFacts
from eskret.core.measure.totals import totals_of
from eskret.core.naming import number_collisions
from eskret.core.tables.rows import remaining
from eskret.errors import Code
from eskret.operations.base import Context, Finding, Forecast, Outcome, has_errors
from eskret.operations.settings import setting
from eskret.operations.support.other_layer import NO_PLACE


def length_setting(label: str, help: str, example: str, **more: Any) -> Any:
    """A length with its unit."""
    return setting(label, kind="measure", example=example, help=help, **more)


def require_geometry(facts: LayerFacts) -> list[Finding]:
    """An error for a table, which has no shapes."""
    if facts.kind != "table":
        return []
    return [Finding.error("a table has no shapes.", "from", facts)]


def require_length_unit(facts: LayerFacts, setting: str) -> list[Finding]:
    """What to say of a distance in this layer: an error without a CRS, a note where it is one of degrees."""
    out = require_geometry(facts)
    if not out and facts.crs is None:
        out.append(Finding.error("without a coordinate system a distance means nothing. Say it where the layer is loaded.", setting, facts))
    elif not out and is_geographic(facts.crs):
        out.append(Finding.note("its coordinates are degrees; the distance is measured along the ellipsoid.", about=facts))
    return out


def of_plane(layer: Layer, error: float) -> list[Remark]:
    """What to say of a plane laid about a layer in degrees; a look where it is off by more than a hundredth."""
    if not error:
        return []
    text = f"measured in a plane about the middle of the layer, true to {max(error, 1e-9):.1g} of a distance"
    return [Remark(text, layer.key, look=error > 0.01)]


def forecast_shapes(facts: LayerFacts, findings: Sequence[Finding], kind: GeometryKind | None = None, **changes: Any) -> Forecast:
    """The layer with other shapes, or nothing where there is an error."""
    if has_errors(findings):
        return Forecast((), tuple(findings))
    # what has no shape, or none after it, is set aside, and only the run knows
    changes.setdefault("certainty", Certainty.AT_MOST if facts.certainty == Certainty.KNOWN else facts.certainty)
    return Forecast((replace(facts, kind=kind or facts.kind, extent=None, **changes),), tuple(findings))


def one_to_one(
    layer: Layer,
    shapes: np.ndarray,
    context: Context,
    *,
    gone: str = "nothing is left of it",
    kind: GeometryKind = GeometryKind.TABLE,
    reasons: Sequence[Reason] = (),
    remarks: Sequence[Remark] = (),
    altered: Sequence[Altered] = (),
    controls: Sequence[ControlTotal] = (),
    keep_null: bool = False,
    others: Sequence[InputAccount] = (),
) -> Outcome:
    """The outcome of giving each feature another shape; one without any is set aside, unless it had none and stays so.

    Parameters
    ----------
    gone : why a feature whose shape came out as nothing is set aside.
    reasons : further rows to set aside.
    """
    missing = ~is_nonempty(layer.geometry) if layer.geometry is not None else np.ones(len(layer), bool)
    taken = np.zeros(len(layer), bool)
    for _, rows in reasons:
        taken[rows] = True
    lost = ~is_nonempty(shapes) & ~taken
    aside: list[Reason] = [*reasons, (gone, np.flatnonzero(lost & ~missing))]
    if not keep_null:
        aside.append((NO_PLACE, np.flatnonzero(lost & missing)))
    settled = SetAside.from_reasons(aside)
    rows = remaining(len(layer), settled.rows)
    out = layer.take(rows).with_geometry(shapes[rows], kind) if len(settled) else layer.with_geometry(shapes, kind)
    account = InputAccount.of(layer, settled, tuple(altered))
    told = OutputAccount(layer.key, len(out), totals_of(out, context.totals), tuple(controls))
    said = list(remarks)
    if len(layer) and not len(rows):
        said.append(Remark("nothing is left", layer.key, look=True, code=Code.NOTHING_LEFT))
    return Outcome((out,), (account, *others), (told,), rows, tuple(said))


def one_to_many(
    layer: Layer,
    rows: np.ndarray,
    shapes: np.ndarray,
    context: Context,
    *,
    kind: GeometryKind = GeometryKind.TABLE,
    reasons: Sequence[Reason] = (),
    remarks: Sequence[Remark] = (),
    numbers: tuple[str, np.ndarray] | None = None,
    more_fields: Sequence[tuple[str, np.ndarray | pa.Array]] = (),
    controls: Sequence[ControlTotal] = (),
    others: Sequence[InputAccount] = (),
) -> Outcome:
    """The outcome of making several features of one: ``shapes``, each with the fields of the row it comes from.

    ``numbers`` are a further field, whose name is made free, and so are ``more_fields``.
    """

    aside = list(reasons)
    rest = np.setdiff1d(remaining(len(layer), rows), np.concatenate([r for _, r in aside] or [rows[:0]]))
    missing = ~is_nonempty(layer.shapes(rest))
    aside += [(NO_PLACE, rest[missing]), ("nothing comes of it", rest[~missing])]
    taken = layer.take(rows)
    out = taken.with_geometry(shapes, kind, ids=None)
    for wanted, values in [*([numbers] if numbers is not None else []), *more_fields]:
        name = number_collisions([wanted], taken=out.table.column_names)[0]
        out = out.with_table(out.table.append_column(name, values if isinstance(values, pa.Array) else pa.array(values)))
    account = InputAccount.of(layer, SetAside.from_reasons(aside))
    told = OutputAccount(layer.key, len(out), totals_of(out, context.totals), tuple(controls))
    return Outcome((out,), (account, *others), (told,), rows, tuple(remarks))
