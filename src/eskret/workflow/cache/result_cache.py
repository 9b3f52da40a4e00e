"""What a task hangs on, as one digest; what it made, kept under it and taken up again."""

from __future__ import annotations

import hashlib
import json
import re
from collections.abc import Generator, Iterable, Mapping, Sequence
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import replace
from datetime import datetime
from functools import cached_property, lru_cache
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import shapely

from eskret.core.files.arrays import read_arrays, write_arrays
from eskret.core.files.plain_data import from_plain, to_plain
from eskret.core.layer import Layer
from eskret.operations.base import Context, Operation, Outcome
from eskret.workflow.cache.cached_layer import CachedLayer, LayerHandle, mark_of, materialise, note, write
from eskret.workflow.cache.file_hashes import stamps_at, with_companions
from eskret.workflow.cache.store import Store

_NAMED = re.compile(r"[${]\s*([A-Za-z_]\w*)")

_at_work: ContextVar[ResultCache | None] = ContextVar("keeping", default=None)


_ARRAYS = "made.arrays"
"""Lineages and rows set aside, beside an entry."""


_MOST_OF_STORE = 0.5
"""How much of the store one step may take."""


class ResultCache:
    """Takes up what was made before, and keeps what is made now.

    Parameters
    ----------
    store : where.
    fresh : take nothing up; what is made is kept all the same.
    """

    def __init__(self, store: Store, *, fresh: bool = False) -> None:
        self.store = store
        self.fresh = fresh
        self.stamps = stamps_at(store.folder.parent / "digests.sqlite")

    @contextmanager
    def at_work(self) -> Generator[None, None, None]:
        """Within it, workflows that are used as a step keep theirs here too."""
        token = _at_work.set(self)
        try:
            with self.store.in_use():
                yield
        finally:
            _at_work.reset(token)
            self.stamps.save()
            self.store.flush()

    # -- digests

    @cached_property
    def _code(self) -> list[str]:
        return [_code_digest(), shapely.__version__, shapely.geos_version_string]

    def key(
        self,
        operation: Operation,
        settings: Mapping[str, Any],
        context: Context,
        entering: Sequence[LayerHandle],
        others: Mapping[str, Sequence[LayerHandle]],
        reads: Sequence[Path] | None,
        more: Any = None,
    ) -> str | None:
        """The digest of all that a task hangs on; None where that cannot be told.

        Parameters
        ----------
        settings : as the step gives them, parameters put in.
        others : layers that settings name, by setting.
        reads : the files that it reads, None where it asks what may have changed unseen.
        more : anything else, that can be told as JSON.
        """
        if reads is None:
            return None
        layers = [_told(x) for x in entering]
        named = {n: [_told(x) for x in found] for n, found in others.items()}
        if any(x is None for x in layers) or any(x is None for found in named.values() for x in found):
            return None
        text = json.dumps(settings, default=str, sort_keys=True)
        used = {n: str(context.values[n]) for n in sorted(set(_NAMED.findall(text))) if n in context.values}
        fields = {n: context.field_values[n] for n in used if n in context.field_values}
        try:
            files = self._files(reads)
        except OSError:
            return None  # the task itself says what is wrong with it
        told = [
            self._code,
            operation.id,
            operation.version,
            operation.code_digest(),
            text,
            used,
            fields,
            context.step,
            context.crs,
            context.names,
            list(context.totals),
            layers,
            named,
            files,
            more,
        ]
        return digest_of(told)

    def _files(self, paths: Iterable[Path]) -> list[tuple[str, str]]:
        whole = dict.fromkeys(p for path in paths for p in with_companions(path))
        return [(str(p), self.stamps.digest(p)) for p in whole]

    # -- what was made

    def get(self, key: str) -> list[Outcome] | None:
        """What was made under a key, its layers still on disk; None where nothing was, or nothing is to be taken up."""
        found = None if self.fresh else self.store.get(key)
        if found is None:
            return None
        home, out = self.store.home(key), []
        try:
            arrays = read_arrays(home / _ARRAYS)
            for number, (told, layers) in enumerate(found):
                outcome: Outcome = from_plain(Outcome, told, arrays)
                kept: list[Any] = [CachedLayer.from_facts(facts, home / f"{number}-{n}") for n, facts in enumerate(layers)]
                out.append(replace(outcome, layers=tuple(kept)))
        except (OSError, TypeError, ValueError, KeyError, IndexError, AttributeError):
            self.store.drop(key)  # it is not whole
            return None
        return out

    def put(self, key: str, outcomes: Sequence[Outcome], entering: Sequence[LayerHandle] = ()) -> Sequence[Outcome]:
        """Keep what was made; gives it with the layers that are on disk where they are kept."""

        # what an operation passes on as it came is still the same content
        marks = {(i, n): mark_of(x) or f"{key}.{i}.{n}" for i, o in enumerate(outcomes) for n, x in enumerate(o.layers)}

        def fill(folder: Path) -> Any:
            arrays: list[np.ndarray] = []
            told = []
            for i, outcome in enumerate(outcomes):
                layers = [{**write(x, folder / f"{i}-{n}", entering), "mark": marks[i, n]} for n, x in enumerate(outcome.layers)]
                # nothing is added up any more of what is kept
                plain = replace(outcome, layers=(), brought=(), remarks=tuple(r.once() for r in outcome.remarks))
                told.append([to_plain(plain, arrays), layers])
            write_arrays(folder / _ARRAYS, arrays)
            return told

        made: list[LayerHandle] = [x for o in outcomes for x in o.layers]
        spooled = sum(x.bytes for x in made if isinstance(x, CachedLayer) and not x.mark)
        # what would drive everything else out is there for this run alone
        if not any(o.prepared or o.failed for o in outcomes) and spooled <= self.store.limit() * _MOST_OF_STORE:
            self.store.put(key, fill, spooled, anew=self.fresh)
        out = []
        for i, outcome in enumerate(outcomes):
            layers: list[Any] = []
            for n, layer in enumerate(outcome.layers):
                home = self.store.home(key) / f"{i}-{n}"
                if isinstance(layer, CachedLayer) and not layer.mark:
                    layer = layer.moved(home if home.exists() else layer.home, marks[i, n])
                elif isinstance(layer, Layer) and mark_of(layer) is None:
                    note(layer, marks[i, n], home if home.exists() else None)
                layers.append(layer)
            out.append(replace(outcome, layers=tuple(layers)))
        return out

    def mark_gathered(self, layers: Sequence[LayerHandle], parts: Sequence[str | None], more: Any) -> None:
        """Say which content layers are that were put together of what several tasks made."""
        if any(p is None for p in parts):
            return
        whole = digest_of([list(parts), more])
        for n, layer in enumerate(layers):
            if isinstance(layer, Layer) and mark_of(layer) is None:
                note(layer, f"{whole}.{n}")

    # -- what may be another each time

    def put_last(self, key: str, outcomes: Sequence[Outcome]) -> Sequence[Outcome]:
        """Keep what a task made that hangs on what nobody sees, as the last that it made; gives it with the layers where they are kept.
        What is the same as before is known by its content."""
        whole = [replace(o, layers=tuple(map(materialise, o.layers))) for o in outcomes]
        content = digest_of([key, [_content(x) for o in whole for x in o.layers]])
        made = self.put(content, whole)
        self.remember(["last", key], {"content": content, "when": datetime.now().astimezone().isoformat(timespec="seconds")})
        return made

    def get_last(self, key: str) -> tuple[list[Outcome], str] | None:
        """What the task last made, and when; None where it was not done yet, or that is gone."""
        told = self.lookup(["last", key])
        if not isinstance(told, dict):
            return None
        found = self.get(str(told.get("content")))
        return None if found is None else (found, str(told.get("when")))

    # -- whole runs

    def lookup(self, told: Any) -> Any | None:
        """What was noted of something, told as JSON; None for nothing."""
        return None if self.fresh else self.store.get(digest_of([self._code, "noted", told]))

    def remember(self, told: Any, what: Any) -> None:
        """Note something, in place of what was noted of it before."""
        key = digest_of([self._code, "noted", told])
        self.store.put(key, lambda folder: what, anew=True)


def cache_at_work() -> ResultCache | None:
    """Where the run that is at work keeps things."""
    return _at_work.get()


def digest_of(told: Any) -> str:
    """A digest of anything that can be told as JSON."""
    return hashlib.sha256(json.dumps(told, default=str, sort_keys=True).encode()).hexdigest()


def _told(layer: LayerHandle) -> list[Any] | None:
    """A layer as what a task may hang on; None where nobody knows its content."""
    mark = mark_of(layer)
    if mark is None:
        return None
    # the step that made it can stand in a name
    return [mark, layer.key, layer.name, layer.crs, layer.origin, str(layer.kind), dict(layer.titles), layer.step, layer.unnumbered]


@lru_cache(maxsize=1)
def _code_digest() -> str:
    """The program as it is installed: what another one made may differ."""
    home = Path(__file__).parents[2]
    stats = [(str(p.relative_to(home)), p.stat().st_size, p.stat().st_mtime_ns) for p in sorted(home.rglob("*.py"))]
    return digest_of(stats)


def _content(layer: LayerHandle) -> str:
    """A digest of the rows of a layer in memory, with its CRS and key."""
    assert isinstance(layer, Layer)
    digest = hashlib.sha256(json.dumps([layer.key, layer.name, layer.crs, str(layer.kind)]).encode())
    sink = pa.BufferOutputStream()
    with pa.ipc.new_stream(sink, layer.table.schema) as stream:
        stream.write_table(layer.table.combine_chunks())
    digest.update(sink.getvalue())
    if layer.has_geometry:
        for shape in shapely.to_wkb(np.asarray(layer.geometry)):
            digest.update(b"-" if shape is None else shape)
    return digest.hexdigest()
