"""Requests about runs of earlier, and about workflows that are handed over."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

Request = Mapping[str, Any]


def _difference_of_runs(request: Request, tell: Any, jobs: Any) -> dict[str, Any]:
    """What was added, removed and changed in an output between two runs of earlier."""
    from eskret.workflow.results import ResultStore
    from eskret.workflow.runs import Runs
    from eskret.workflow.runs_compared import difference

    runs = Runs()
    outcome, keys, key = difference(
        runs, runs.get(request["earlier"]), runs.get(request["later"]), request["path"], request["layer"], request["key"]
    )
    store = ResultStore(Path(request["store"]))
    return {"layer": store.put(outcome.layers[0]), "keys": keys, "key": key, "said": [r.text for r in outcome.remarks]}


def _outputs_now(request: Request, tell: Any, jobs: Any) -> dict[str, Any]:
    """Whether outputs of earlier are as they were left."""
    from eskret.workflow.runs import output_now

    return {"now": [output_now(Path(path), layer, told) for path, layer, told in request["outputs"]]}


def _reopen(request: Request, tell: Any, jobs: Any) -> dict[str, Any]:
    """The features that a run of earlier delivered, as a window shows them, by step."""
    from eskret.workflow.results import ResultStore
    from eskret.workflow.runs import Runs

    runs = Runs()
    store, whole = ResultStore(Path(request["store"])), runs.get(request["run"])
    views: dict[str, dict[str, Any]] = {}
    for output in whole.outputs:
        layer = runs.layer(whole.kept.id, output)
        if layer is not None:
            view = views.setdefault(output.step, {"entering": [], "leaving": [], "aside": {}, "altered": {}, "others": [], "leftovers": {}})
            view["leaving"].append(store.put(layer))
    return {"views": views}


def _pack_pieces(request: Request, tell: Any, jobs: Any) -> dict[str, Any]:
    """What belongs to a workflow that is to be handed over."""
    from eskret.workflow.handover.gather import gather

    found = gather(Path(request["workflow"]), request["values"])
    pieces = [{"name": p.name, "role": p.role, "size": p.size} for p in found.pieces.values()]
    return {"pieces": pieces, "problems": found.problems}


def _pack(request: Request, tell: Any, jobs: Any) -> dict[str, Any]:
    from eskret.workflow.handover.gather import gather
    from eskret.workflow.handover.pack import pack

    found = gather(Path(request["workflow"]), request["values"])
    watch = jobs.watch(request["job"])
    return {"size": pack(found, Path(request["path"]), inputs=request["inputs"], watch=watch)}


def _unpack(request: Request, tell: Any, jobs: Any) -> dict[str, Any]:
    from eskret.workflow.handover.pack import unpack

    given = {name: Path(path).expanduser() for name, path in request["given"].items()}
    folder = Path(request["folder"]).expanduser()
    done = unpack(Path(request["path"]), folder, given=given, replace=request["over"])
    return {"workflow": str(done.workflow), "missing": [m.sentence() for m in done.missing], "notes": list(done.notes)}


def _built(request: Request, tell: Any, jobs: Any) -> dict[str, Any]:
    """The workflows that a script builds."""
    from eskret.workflow.built import built_by

    found = built_by(Path(request["path"]))
    return {"built": [{"name": b.name, "title": b.document.title, "text": b.document.to_text()} for b in found]}


DO = {
    "built": _built,
    "difference_of_runs": _difference_of_runs,
    "outputs_now": _outputs_now,
    "reopen": _reopen,
    "pack_pieces": _pack_pieces,
    "pack": _pack,
    "unpack": _unpack,
}
