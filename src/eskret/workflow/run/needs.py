"""How much memory and room on disk a run will need, as a rehearsal can tell it: roughly, and of large layers alone."""

from __future__ import annotations

import shutil
from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

from eskret.core.files.user_state import cache_place
from eskret.core.layer import LayerFacts
from eskret.core.layer import chunks as chunking
from eskret.core.memory import may_take
from eskret.core.words import byte_words
from eskret.errors import Code
from eskret.operations.base import Delivery, EachLayer, Finding, Operation, Source, Takes

READ = 3
ITSELF = 150_000_000
"""Bytes that the program takes with nothing in hand."""
A_FEATURE = 200.0
"""Bytes of a feature of which nothing else is known."""


def weigh(facts: LayerFacts) -> int:
    """About how many bytes a layer takes in a file; 0 where nobody knows."""
    return int((facts.count or 0) * (facts.weight or A_FEATURE))


def in_chunks(facts: LayerFacts) -> bool:
    """Whether it comes in chunks to whoever can take it so."""
    return facts.in_chunks and (facts.count or 0) > chunking.large(facts.weight)


def leaves_in_chunks(
    operation: Operation, leaving: Sequence[LayerFacts], entering: Sequence[LayerFacts], settings: Mapping[str, Any]
) -> tuple[LayerFacts, ...]:
    """The layers that leave a step, with whether they lie on disk in chunks then.

    Parameters
    ----------
    settings : by the key of the layer that enters.
    """
    if isinstance(operation, Source):
        return tuple(leaving)
    so = any(_taken(operation, f, settings) is not Takes.WHOLE for f in entering)
    return tuple(x if x.in_chunks == so else replace(x, in_chunks=so) for x in leaving)


def _taken(operation: Operation, facts: LayerFacts, settings: Mapping[str, Any]) -> Takes:
    """How a layer that enters is taken: in chunks or parts only where it comes so."""
    return operation.takes(facts, settings[facts.key]) if in_chunks(facts) and isinstance(operation, EachLayer) else Takes.WHOLE


class Needs:
    """What the steps need, gathered one by one."""

    def __init__(self) -> None:
        self._most = 0
        self._at: tuple[str, str] = ("", "")
        self._spooled = 0

    def add(
        self,
        step: str,
        operation: Operation,
        entering: Sequence[LayerFacts],
        others: Mapping[str, Sequence[LayerFacts]],
        leaving: Sequence[LayerFacts],
        settings: Mapping[str, Any],
    ) -> None:
        """Take a step in hand; as ``leaves_in_chunks``, with the layers that its settings name."""
        self._spooled += sum(weigh(x) for x in leaving if in_chunks(x))
        whole: list[tuple[int, str]] = []
        if isinstance(operation, Source):
            whole = [(READ * weigh(x), x.key) for x in leaving if not in_chunks(x)]
        elif isinstance(operation, EachLayer):
            taken = [(f, _taken(operation, f, settings)) for f in entering]
            whole = [(chunking.WHOLE * weigh(f), f.key) for f, how in taken if how is Takes.WHOLE]
            # parts of a layer lie there beside it
            self._spooled += sum(weigh(f) for f, how in taken if how is Takes.PARTS)
        elif isinstance(operation, Delivery):
            whole = [(READ * weigh(f), f.key) for f in entering if not (operation.reads_chunks and in_chunks(f))]
        else:
            together = sum(weigh(f) for f in entering)
            whole = [(chunking.WHOLE * together, max(entering, key=weigh).key)] if entering else []
        by_chunk = operation.others_in_chunks if isinstance(operation, EachLayer) else frozenset()
        named = [(setting, f) for setting, layers in others.items() for f in layers]
        beside = [(chunking.WHOLE * weigh(f), f.key) for setting, f in named if not (setting in by_chunk and in_chunks(f))]
        # several that enter wait for each other where there is no room for all
        needed = max((size for size, _ in whole), default=0) + sum(size for size, _ in beside)
        if needed > self._most:
            self._most, self._at = needed, (step, max([*whole, *beside])[1])

    def findings(self) -> list[Finding]:
        """What is worth a look before a run."""
        out = []
        step, layer = self._at
        if self._most + ITSELF > may_take():
            text = (
                f"It has '{layer}' whole, and the run then takes about {byte_words(self._most + ITSELF)} of memory, where it may "
                f"take {byte_words(may_take())}. Choose fewer features before it, or let it take more (--memory, on the command line)."
            )
            out.append(Finding.look(text, step=step, layer=layer, code=Code.MUCH_MEMORY))
        home = cache_place()
        if self._spooled and home.exists() and self._spooled > shutil.disk_usage(home).free:
            text = (
                f"{home}: about {byte_words(self._spooled)} are needed there while the run goes on, and "
                f"{byte_words(shutil.disk_usage(home).free)} are free. Make room, or name another folder in XDG_CACHE_HOME."
            )
            out.append(Finding.look(text, code=Code.NO_ROOM))
        return out
