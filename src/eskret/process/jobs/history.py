"""Runs of earlier, and workflows that are handed over."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from eskret.process.jobs.job import Answer, Work, job
from eskret.process.jobs.running import Values
from eskret.workflow.cache.results import ResultStore


@job("difference_of_runs")
def difference_of_runs(work: Work, earlier: int, later: int, path: str, layer: str, key: str | None, store: Path) -> Answer:
    """What was added, removed and changed in an output between two runs of earlier."""
    from eskret.workflow.history.comparison import difference
    from eskret.workflow.history.runs import Runs

    runs = Runs()
    outcome, keys, chosen = difference(runs, runs.get(earlier), runs.get(later), path, layer, key)
    return {"layer": ResultStore(store).put(outcome.layers[0]), "keys": keys, "key": chosen, "said": [r.text for r in outcome.remarks]}


@job("outputs_now")
def outputs_now(work: Work, outputs: list[tuple[str, str, str]]) -> Answer:
    """Whether outputs of earlier are as they were left."""
    from eskret.workflow.history.runs import output_now

    return {"now": [output_now(Path(path), layer, told) for path, layer, told in outputs]}


@job("reopen")
def reopen(work: Work, run: int, store: Path) -> Answer:
    """The features that a run of earlier delivered, as a window shows them, by step."""
    from eskret.workflow.history.runs import Runs

    runs = Runs()
    results, whole = ResultStore(store), runs.get(run)
    views: dict[str, dict[str, Any]] = {}
    for output in whole.outputs:
        layer = runs.layer(whole.kept.id, output)
        if layer is not None:
            view = views.setdefault(output.step, {"entering": [], "leaving": [], "aside": {}, "altered": {}, "others": [], "leftovers": {}})
            view["leaving"].append(results.put(layer))
    return {"views": views}


@job("pack_pieces")
def pack_pieces(work: Work, workflow: Path, values: Values) -> Answer:
    """What belongs to a workflow that is to be handed over."""
    from eskret.workflow.handover.gather import gather

    found = gather(workflow, values)
    return {"pieces": [{"name": p.name, "role": p.role, "size": p.size} for p in found.pieces.values()], "problems": found.problems}


@job("pack")
def pack_workflow(work: Work, workflow: Path, values: Values, path: Path, inputs: bool) -> Answer:
    """Pack a workflow with what belongs to it."""
    from eskret.workflow.handover.gather import gather
    from eskret.workflow.handover.pack import pack

    return {"size": pack(gather(workflow, values), path, inputs=inputs, watch=work.watch)}


@job("unpack")
def unpack_workflow(work: Work, path: Path, folder: Path, given: dict[str, Path], over: bool) -> Answer:
    """Unpack a workflow that was handed over."""
    from eskret.workflow.handover.pack import unpack

    inputs = {name: file.expanduser() for name, file in given.items()}
    done = unpack(path, folder.expanduser(), given=inputs, replace=over)
    return {"workflow": str(done.workflow), "missing": [m.sentence() for m in done.missing], "notes": list(done.notes)}
