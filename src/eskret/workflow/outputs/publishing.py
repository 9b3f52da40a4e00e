"""Send a prepared push, complete it, take it back, with the token where it is kept; and look at it as a layer."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

import numpy as np
import orjson
import pyarrow as pa
import shapely

from eskret.core.crs import WGS84
from eskret.core.geometry.globe.moving import reproject
from eskret.core.geometry.local_projection import moved_by
from eskret.core.layer import Layer
from eskret.core.naming import number_collisions
from eskret.core.tables.from_objects import from_objects
from eskret.core.words import format_quantity
from eskret.errors import CrsError, InputError
from eskret.services import journal, push, tokens
from eskret.services.journal import (
    ADDED,
    CONFLICT,
    DONE,
    LEFT,
    PART,
    PREPARED,
    PUSHED,
    REMOVED,
    SENDING,
    UNDOING,
    UNDONE,
    WAITING,
    Push,
    PushEntry,
    PushJournal,
)
from eskret.services.likeness import same_shape, same_value

TO_SEND = (PREPARED, SENDING, PART, UNDOING)
"""What can be sent or completed."""
TO_UNDO = (SENDING, PART, PUSHED, UNDOING)


def send(id: str, watch: Callable[[int, int], None] = lambda done, of: None, theirs: str = push.REFUSE) -> Push:
    """Send a push, or complete one that was cut short on its way there or back.

    Parameters and errors are those of ``services.push.send``.
    """
    return _do(id, watch, theirs, back=False)


def undo(id: str, watch: Callable[[int, int], None] = lambda done, of: None, theirs: str = push.REFUSE) -> Push:
    """Take a push back. Parameters and errors are those of ``services.push.undo``."""
    return _do(id, watch, theirs, back=True)


def _do(id: str, watch: Callable[[int, int], None], theirs: str, back: bool) -> Push:
    with journal.open_push(id) as open_:
        token = tokens.token_for(open_.push.service, open_.push.token_from)
        way = push.undo if back or open_.push.state == UNDOING else push.send
        return way(open_, token, watch, theirs)


def latest(workflow: Path | None, states: Sequence[str]) -> list[str]:
    """The pushes of a workflow's latest run that has any in these states, in the order in which they were prepared.

    Raises
    ------
    InputError : there is none.
    """
    found = [p for p in journal.pushes(workflow) if p.state in states]
    if not found:
        what = "to send or complete" if PREPARED in states else "to take back"
        raise InputError(f"there is no push {what}", place=str(workflow or ""), way_out="'eskret publish --history' lists all pushes")
    return [p.id for p in found if p.run == found[0].run][::-1]


_STANDS = {WAITING: "not sent", DONE: "sent", CONFLICT: "somebody else changed it", LEFT: "left as somebody else made it"}


def layer_of(open_: PushJournal, crs: str = "") -> Layer:
    """The changes of a push as a layer: what kind each is, its key, what changes from what to what, how it stands, the feature.

    Parameters
    ----------
    crs : to draw it in; WGS 84 where none is named or it cannot be brought there.
    """
    entries = open_.entries()
    back, all_back = open_.push.state in (UNDOING, UNDONE), open_.push.state == UNDONE
    features = [e.change.wanted or e.change.before or {} for e in entries]
    texts = np.empty(len(entries), object)
    for n, one in enumerate(features):
        texts[n] = orjson.dumps(one["geometry"]) if one.get("geometry") else None
    shapes = np.asarray(shapely.from_geojson(texts, on_invalid="ignore"), object).reshape(-1)
    table = from_objects([dict(f.get("properties") or {}) for f in features])
    names = number_collisions(["change", "what", "state"], taken=table.column_names)
    heads = [
        [e.action for e in entries],
        [_what(e) for e in entries],
        ["taken back" if back and e.state != LEFT and (all_back or e.undone) else _STANDS[e.state] for e in entries],
    ]
    kind, what, state = (pa.array(h, pa.string()) for h in heads)
    # the key comes first, so that it is seen what each line is about
    key = [k for k in open_.push.key if k in table.column_names]
    rest = [n for n in table.column_names if n not in key]
    columns = [kind, *(table.column(k) for k in key), what, state, *(table.column(n) for n in rest)]
    whole = pa.table(columns, names=[names[0], *key, names[1], names[2], *rest])
    layer = Layer(open_.push.dataset, whole, shapes, WGS84)
    if crs and len(entries):
        try:
            moved, _ = reproject(shapes, WGS84, crs)
            return Layer(open_.push.dataset, whole, moved, crs)
        except CrsError:
            return layer
    return layer


def _what(entry: PushEntry) -> str:
    """What changes: each field from what to what, and how far the shape moves."""
    change = entry.change
    out = {ADDED: ["new"], REMOVED: ["no longer in the layer"]}.get(entry.action, [])
    if change.before is not None and change.wanted is not None:
        then, now = (f.get("properties") or {} for f in (change.before, change.wanted))
        for name, value in now.items():
            if not same_value(then.get(name), value):
                out.append(f"{name}: {_shown(then.get(name))} → {_shown(value)}")
        old, new = (f.get("geometry") for f in (change.before, change.wanted))
        if not same_shape(old, new, 9):
            out.append(f"moved {_far(old, new)}")
    if entry.theirs is not None:
        theirs = entry.theirs.get("properties") or {}
        seen = (change.before or {}).get("properties") or {}
        other = [f"{n} = {_shown(v)}" for n, v in theirs.items() if not same_value(seen.get(n), v)]
        out.append(f"somebody else: {', '.join(other) or 'moved it'}")
    elif entry.state == CONFLICT:
        out.append("somebody else removed it")
    return "; ".join(out)


def _shown(value: object) -> str:
    return "nothing" if value is None or value == "" else str(value)


def _far(old: object, new: object) -> str:
    if old is None or new is None:
        return "out of the map" if new is None else "onto the map"
    pair = shapely.from_geojson([orjson.dumps(old), orjson.dumps(new)], on_invalid="ignore")
    far = float(moved_by(pair[1:], pair[:1], WGS84)[0])
    return format_quantity(far, "m") if np.isfinite(far) else "elsewhere"
