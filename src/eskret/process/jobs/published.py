"""Published datasets: list, look, send, take back."""

from __future__ import annotations

import time
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from eskret.process.jobs.job import Answer, Work, job

MOST_DATASETS = 60
"""Of which the count is asked for."""
MOST_PUSHES = 300


@job("service")
def service(work: Work, address: str, token_from: str = "") -> Answer:
    """The datasets of a service with their counts; told one by one, since each count is a request."""
    from eskret.services import features, tokens
    from eskret.services.connection import Connection

    token = tokens.token_for(address, token_from)
    found = features.datasets(address, token)
    with Connection(address, token, lambda: work.watch(0, 0)) as there:
        known = [features.describe(there, d.id) or d for d in found[:MOST_DATASETS]]
    known += found[len(known) :]
    return {"address": address, "datasets": [_told(d) for d in known]}


def _told(dataset: Any) -> dict[str, Any]:
    fields = None if dataset.fields is None else {n: _type_word(s) for n, s in dataset.fields.items()}
    return {
        "id": dataset.id,
        "title": dataset.title,
        "description": dataset.description,
        "extent": dataset.extent,
        "updated": dataset.updated,
        "count": dataset.count,
        "fields": fields,
    }


def _type_word(schema: Mapping[str, object]) -> str:
    """The word a person reads for a property's type."""
    words = {"string": "text", "integer": "whole number", "number": "number", "boolean": "yes/no", "array": "list"}
    dates = {"date": "date", "date-time": "date and time"}
    return dates.get(str(schema.get("format")), words.get(str(schema.get("type")), ""))


@job("look_published")
def look(work: Work, address: str, dataset: str, store: Path, crs: str = "", token_from: str = "") -> Answer:
    """Store a published dataset as a layer, in the CRS asked for where it can be brought there."""
    from eskret.core.crs import WGS84
    from eskret.operations.base import Context
    from eskret.operations.gather.fetch import layer_of
    from eskret.operations.support.to_workflow_crs import bring
    from eskret.services import features, tokens
    from eskret.workflow.cache.results import ResultStore

    begun = time.monotonic()

    def check(done: int, of: int) -> None:
        work.watch(done, of)
        work.tell({"event": "progress", "done": done, "of": of, "seconds": time.monotonic() - begun})

    token = tokens.token_for(address, token_from)
    found = features.items(address, dataset, token=token, watch=check)
    layer, _ = layer_of(found.features, dataset)
    if crs:
        layer = bring(layer, Context(crs=crs))[0]
    return {"layer": ResultStore(store).put(layer), "crs": layer.crs or WGS84}


@job("pushes")
def pushes(work: Work) -> Answer:
    """All pushes on record."""
    from eskret.services import journal

    return {"pushes": [p.to_json() for p in journal.pushes()[:MOST_PUSHES]]}


@job("push")
def push(work: Work, id: str, store: Path, crs: str = "") -> Answer:
    """A push and its changes as a layer."""
    from eskret.services import journal
    from eskret.workflow.cache.results import ResultStore
    from eskret.workflow.outputs import publishing

    with journal.open_push(id) as open_:
        layer = publishing.layer_of(open_, crs)
        states = {s: open_.count(s) for s in (journal.WAITING, journal.DONE, journal.CONFLICT, journal.LEFT)}
        told = open_.push.to_json()
    return {"push": told, "states": states, "layer": ResultStore(store).put(layer)}


@job("carry_out")
def carry_out(work: Work, id: str, back: bool, theirs: str = "refuse") -> Answer:
    """Send a push or take it back."""
    from eskret.services import journal
    from eskret.workflow.outputs import publishing

    begun, told, first = time.monotonic(), 0.0, -1

    def check(done: int, of: int) -> None:
        nonlocal told, first
        work.watch(done, of)
        now = time.monotonic()
        if of and first < 0:
            first = done
        if of and (now - told > 0.1 or done == of):
            told = now
            work.tell({"event": "progress", "done": done, "of": of, "first": first, "seconds": now - begun})

    way = publishing.undo if back else publishing.send
    try:
        way(id, check, theirs)
    finally:
        with journal.open_push(id) as open_:
            now = open_.push.to_json()
        work.tell({"event": "push_stands", "push": now})
    return {"push": now}


@job("discard")
def discard(work: Work, id: str) -> Answer:
    """Take a push that nobody sent off the record."""
    from eskret.errors import EskretError
    from eskret.services import journal

    open_ = journal.open_push(id)
    if open_.push.state != journal.PREPARED:
        open_.close()
        raise EskretError("only a push that was not sent can be thrown away", place=id)
    open_.remove()
    return {}


@job("keep_token")
def keep_token(work: Work, address: str, token: str) -> Answer:
    """Keep a token in the keyring, or take it out for an empty one."""
    from eskret.services import tokens

    if token:
        tokens.keep(address, token)
    else:
        tokens.forget(address)
    return {}


@job("practice_faults")
def practice_faults(work: Work, address: str, faults: dict[str, object]) -> Answer:
    """Have a practice server be slow or fail."""
    import json

    from eskret.services import tokens
    from eskret.services.connection import Connection, refused

    with Connection(address, tokens.token_for(address)) as there:
        url = there.below("practice/faults")
        body = json.dumps(faults).encode()
        answer = there.once("PUT", url, body=body, headers={"Content-Type": "application/json"})
    if answer.status >= 300:
        raise refused(url, answer)
    return {}
