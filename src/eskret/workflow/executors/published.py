"""What a worker does about published datasets: list, look, send, take back."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

Request = Mapping[str, Any]
Tell = Callable[[Mapping[str, Any]], None]


def service(request: Request, tell: Tell, jobs: Any) -> dict[str, Any]:
    """The datasets of a service with their counts; told one by one, since each count is a request."""
    from eskret.services import features, tokens
    from eskret.services.connection import Connection

    address = request["address"]
    token = tokens.token_for(address, request.get("token_from", ""))
    found = features.datasets(address, token)
    watch = jobs.watch(request["job"])
    with Connection(address, token, lambda: watch(0, 0)) as there:
        known = [features.describe(there, d.id) or d for d in found[: request.get("most", 60)]]
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


def _type_word(schema: Mapping[str, Any]) -> str:
    """The word a person reads for a property's type."""
    words = {"string": "text", "integer": "whole number", "number": "number", "boolean": "yes/no", "array": "list"}
    dates = {"date": "date", "date-time": "date and time"}
    return dates.get(str(schema.get("format")), words.get(str(schema.get("type")), ""))


def look(request: Request, tell: Tell, jobs: Any) -> dict[str, Any]:
    """Store a published dataset as a layer, in the CRS asked for where it can be brought there."""
    from eskret.core.crs import WGS84
    from eskret.operations.base import Context
    from eskret.operations.bring import bring
    from eskret.operations.gather.fetch import layer_of
    from eskret.services import features, tokens
    from eskret.workflow.results import ResultStore

    address, dataset = request["address"], request["dataset"]
    watch = jobs.watch(request["job"])
    begun = time.monotonic()

    def check(done: int, of: int) -> None:
        watch(done, of)
        tell({"event": "progress", "done": done, "of": of, "seconds": time.monotonic() - begun})

    token = tokens.token_for(address, request.get("token_from", ""))
    found = features.items(address, dataset, token=token, watch=check)
    layer, _ = layer_of(found.features, dataset)
    if request.get("crs"):
        layer = bring(layer, Context(crs=request["crs"]))[0]
    return {"layer": ResultStore(Path(request["store"])).put(layer), "crs": layer.crs or WGS84}


def pushes(request: Request, tell: Tell, jobs: Any) -> dict[str, Any]:
    """All pushes on record."""
    from eskret.services import journal

    return {"pushes": [p.to_json() for p in journal.pushes()[: request.get("most", 300)]]}


def push(request: Request, tell: Tell, jobs: Any) -> dict[str, Any]:
    """A push and its changes as a layer."""
    from eskret.services import journal
    from eskret.workflow import publishing
    from eskret.workflow.results import ResultStore

    with journal.open_push(request["id"]) as open_:
        layer = publishing.layer_of(open_, request.get("crs", ""))
        states = {s: open_.count(s) for s in (journal.WAITING, journal.DONE, journal.CONFLICT, journal.LEFT)}
        told = open_.push.to_json()
    return {"push": told, "states": states, "layer": ResultStore(Path(request["store"])).put(layer)}


def carry_out(request: Request, tell: Tell, jobs: Any) -> dict[str, Any]:
    """Send a push or take it back."""
    from eskret.services import journal
    from eskret.workflow import publishing

    watch = jobs.watch(request["job"])
    begun, told, first = time.monotonic(), 0.0, -1

    def check(done: int, of: int) -> None:
        nonlocal told, first
        watch(done, of)
        now = time.monotonic()
        if of and first < 0:
            first = done
        if of and (now - told > 0.1 or done == of):
            told = now
            tell({"event": "progress", "done": done, "of": of, "first": first, "seconds": now - begun})

    way = publishing.undo if request["back"] else publishing.send
    try:
        way(request["id"], check, request.get("theirs", "refuse"))
    finally:
        with journal.open_push(request["id"]) as open_:
            now = open_.push.to_json()
        tell({"event": "push_stands", "push": now})
    return {"push": now}


def discard(request: Request, tell: Tell, jobs: Any) -> dict[str, Any]:
    """Take a push that nobody sent off the record."""
    from eskret.errors import EskretError
    from eskret.services import journal

    open_ = journal.open_push(request["id"])
    if open_.push.state != journal.PREPARED:
        open_.close()
        raise EskretError("only a push that was not sent can be thrown away", place=request["id"])
    open_.remove()
    return {}


def keep_token(request: Request, tell: Tell, jobs: Any) -> dict[str, Any]:
    """Keep a token in the keyring, or take it out for an empty one."""
    from eskret.services import tokens

    if request["token"]:
        tokens.keep(request["address"], request["token"])
    else:
        tokens.forget(request["address"])
    return {}


def practice_faults(request: Request, tell: Tell, jobs: Any) -> dict[str, Any]:
    """Have a practice server be slow or fail."""
    import json

    from eskret.services import tokens
    from eskret.services.connection import Connection, refused

    with Connection(request["address"], tokens.token_for(request["address"])) as there:
        url = there.below("practice/faults")
        body = json.dumps(request["faults"]).encode()
        answer = there.once("PUT", url, body=body, headers={"Content-Type": "application/json"})
    if answer.status >= 300:
        raise refused(url, answer)
    return {}


DO: dict[str, Callable[[Request, Tell, Any], dict[str, Any]]] = {
    "service": service,
    "look_published": look,
    "pushes": pushes,
    "push": push,
    "carry_out": carry_out,
    "discard": discard,
    "keep_token": keep_token,
    "practice_faults": practice_faults,
}
