"""What tells the features of a dataset apart: a key of theirs, or, where there is none, all that they hold."""

from __future__ import annotations

import hashlib
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from typing import Any

import numpy as np
import orjson
import pyarrow as pa
import pyarrow.compute as pc
import shapely

from eskret.formats.geojson import rounded
from eskret.services import likeness

SEPARATOR = " · "


def key_texts(table: pa.Table, key: Sequence[str]) -> pa.Array:
    """A text for each row that tells it apart; null where a part of its key is empty. ``5`` and ``5.0`` are one."""
    parts = []
    for name in key:
        column = table.column(name).combine_chunks()
        if pa.types.is_floating(column.type):
            values = [None if v is None else f"{v:.0f}" if v == int(v) else repr(v) for v in column.to_pylist()]
            column = pa.array(values, pa.string())
        elif not pa.types.is_string(column.type):
            try:
                column = column.cast(pa.string())
            except (pa.ArrowInvalid, pa.ArrowNotImplementedError):
                column = pa.array([None if v is None else str(v) for v in column.to_pylist()], pa.string())
        trimmed = pc.utf8_trim_whitespace(column)
        parts.append(pc.if_else(pc.equal(trimmed, ""), pa.scalar(None, pa.string()), trimmed))
    return parts[0] if len(parts) == 1 else pc.binary_join_element_wise(*parts, SEPARATOR)


def key_of(feature: Mapping[str, Any], key: Sequence[str]) -> str | None:
    """As ``key_texts``, of one GeoJSON feature."""
    parts = []
    for name in key:
        value = (feature.get("properties") or {}).get(name)
        if isinstance(value, float):
            value = f"{value:.0f}" if value == int(value) else repr(value)
        if isinstance(value, bool):
            value = str(value).lower()
        text = "" if value is None else str(value).strip()
        if not text:
            return None
        parts.append(text)
    return SEPARATOR.join(parts)


def content_texts(
    features: Sequence[Mapping[str, object]], decimals: int, own: likeness.Fields = None, after: Mapping[str, int] | None = None
) -> list[str]:
    """A text for each feature by all that it holds, and the how many-th of its like it is.

    Two that ``likeness.same`` has for one have the same text, but for their number.

    Parameters
    ----------
    own : the fields that count.
    after : how many of each like there are before these, as ``counts`` tells them.
    """
    shapes = np.empty(len(features), object)
    for n, one in enumerate(features):
        shapes[n] = orjson.dumps(one["geometry"]) if one.get("geometry") else None
    read = rounded(np.asarray(shapely.from_geojson(shapes, on_invalid="ignore"), object).reshape(-1), decimals)
    binary = np.asarray(shapely.to_wkb(shapely.normalize(read)), object).reshape(-1)
    seen = dict(after or {})
    out = []
    for one, shape in zip(features, binary.tolist(), strict=True):
        held = {n: likeness.comparable_value(v) for n, v in likeness.held(one, own).items()}
        taken = hashlib.blake2b(orjson.dumps(held, option=orjson.OPT_SORT_KEYS | orjson.OPT_UTC_Z), digest_size=16)
        taken.update(shape or b"")
        text = taken.hexdigest()
        seen[text] = seen.get(text, 0) + 1
        out.append(f"{text}{SEPARATOR}{seen[text]}")
    return out


def counts(texts: Iterable[str]) -> dict[str, int]:
    """How many there are of each like, by ``content_texts``."""
    return dict(Counter(t.partition(SEPARATOR)[0] for t in texts))


def number_of(text: str) -> int:
    """The how many-th of its like a feature is, from 1."""
    return int(text.rpartition(SEPARATOR)[2])
