"""What a Python pane has at hand: the open workflow, and what its steps made as GeoDataFrames.

The window writes down what is open and where its results lie; the kernel, a process of its own, reads that before each cell.
"""

from __future__ import annotations

import json
from collections.abc import Generator, Mapping
from pathlib import Path
from typing import Any

from eskret.core.layer.frames import to_frame
from eskret.core.words import pluralise
from eskret.errors import DocumentError
from eskret.workflow.cache.cached_layer import CachedLayer
from eskret.workflow.model.document import parse

STATE, BACK = "open.json", "back.toml"
"""Files in the folder that window and kernel share: what is open, and a workflow that goes back into the ledger."""


class Layers(Mapping[str, Any]):
    """The layers that left a step, as GeoDataFrames; read when they are asked for."""

    def __init__(self, step: str, layers: Mapping[str, Mapping[str, Any]]) -> None:
        self._step, self._layers = step, layers

    def __getitem__(self, key: str) -> Any:
        if key not in self._layers:
            raise KeyError(f"step '{self._step}' left no '{key}'; it left {', '.join(self._layers) or 'nothing'}")
        return frame_of(self._layers[key])

    def __iter__(self) -> Generator[str, None, None]:
        yield from self._layers

    def __len__(self) -> int:
        return len(self._layers)

    @property
    def only(self) -> Any:
        """The layer, where there is just one."""
        if len(self._layers) != 1:
            raise ValueError(f"step '{self._step}' left {len(self._layers)} layers: {', '.join(self._layers)}")
        return self[next(iter(self._layers))]

    def __repr__(self) -> str:
        told = [f"{key}: {pluralise(info['rows'], 'row')}" for key, info in self._layers.items()]
        return f"<{self._step}: {'; '.join(told) or 'nothing left it'}>"


class Results(Mapping[str, Layers]):
    """What the steps of the last run made, by step."""

    def __init__(self, steps: Mapping[str, Mapping[str, Mapping[str, Any]]]) -> None:
        self._steps = steps

    def __getitem__(self, step: str) -> Layers:
        if step not in self._steps:
            raise KeyError(f"there is no result of '{step}'; there are {', '.join(self._steps) or 'none: run the workflow'}")
        return Layers(step, self._steps[step])

    def __iter__(self) -> Generator[str, None, None]:
        yield from self._steps

    def __len__(self) -> int:
        return len(self._steps)

    def _ipython_key_completions_(self) -> list[str]:
        return list(self._steps)

    def __repr__(self) -> str:
        return "\n".join(repr(self[s]) for s in self._steps) or "<no results yet: run the workflow>"


def frame_of(info: Mapping[str, Any]) -> Any:
    """A stored layer as a GeoDataFrame, a table as a DataFrame."""
    told = {n: info[n] for n in ("key", "rows", "name", "origin", "titles", "kind", "drawn", "numbered")}
    code = info["crs"]["code"] if info.get("crs") else None
    return to_frame(CachedLayer.from_facts({**told, "crs": code, "mark": ""}, Path(info["path"])).load())


def attach(namespace: dict[str, Any], folder: Path, shell: Any = None) -> None:
    """Put ``workflow``, ``results`` and ``ledger`` into a namespace, and renew them before each cell.

    Parameters
    ----------
    folder : where the window writes down what is open.
    shell : the interactive shell whose cells are meant.
    """
    from eskret.api import Workflow

    seen: list[int] = []

    def renew(*_: Any) -> None:
        try:
            stamp = (folder / STATE).stat().st_mtime_ns
            if seen == [stamp]:
                return
            told = json.loads((folder / STATE).read_text(encoding="utf-8"))
        except (OSError, ValueError):
            return
        seen[:] = [stamp]
        workflow = Workflow()
        workflow.document = parse(told["text"])
        workflow.path = Path(told["path"]) if told["path"] else None
        namespace["workflow"], namespace["results"] = workflow, Results(told["results"])
        namespace["values"] = told["values"]

    def ledger(changed: Any) -> None:
        """Show a workflow in the ledger, in place of the open one; undo brings that back."""
        if not isinstance(changed, Workflow):
            raise DocumentError("this is no workflow", way_out="Give one: ledger(workflow)")
        waiting = folder / f".{BACK}"
        waiting.write_text(changed.document.to_text(), encoding="utf-8")
        waiting.replace(folder / BACK)

    namespace["ledger"] = ledger
    renew()
    if shell is not None:
        shell.events.register("pre_run_cell", renew)
