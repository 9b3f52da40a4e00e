"""What is said of many layers alike, said once: a run over thousands of layers has thousands of like remarks and findings."""

from __future__ import annotations

import re
from collections.abc import Hashable, Iterable, Sequence
from dataclasses import dataclass
from typing import Any

from eskret.core.words import pluralise

FEW = 3
"""So many layers of which something like is said, with other figures, are still told one by one."""
_FIGURE = re.compile(r"\d[\d,.]*")


@dataclass(frozen=True)
class Said:
    """A sentence about a layer (empty for none); ``kind`` keeps apart what is not to be put together."""

    text: str
    layer: str = ""
    kind: Hashable = None


def said_once(sentences: Iterable[Said]) -> list[tuple[str, Hashable]]:
    """The sentences as lines, with their kinds, in their order: the same of several layers is one line, and so is the like with
    other figures of many."""
    like: dict[tuple[Hashable, str], list[Said]] = {}
    for one in sentences:
        like.setdefault((one.kind, _FIGURE.sub("#", one.text)), []).append(one)
    out = []
    for (kind, _), group in like.items():
        same: dict[str, list[str]] = {}
        for one in group:
            same.setdefault(one.text, []).append(one.layer)
        if len(same) > FEW and all(one.layer for one in group):
            out.append((f"{_many([one.layer for one in group])}, such as {group[0].layer}: {group[0].text}", kind))
            continue
        for text, layers in same.items():
            known = [n for n in layers if n]
            where = known[0] if len(known) == 1 else _many(known) if known else ""
            out.append((f"{where}: {text}" if where else text, kind))
    return out


def _many(names: Sequence[str]) -> str:
    # what a round says stands for all its layers; no layer is called so
    return pluralise(len(names), "round" if all(n.startswith("round ") for n in names) else "layer")


def findings_once(findings: Iterable[Any]) -> list[tuple[str, str, str]]:
    """Level, step and text of findings, the like of many layers once."""
    told = [Said(f.text.removeprefix(f"{f.layer}: ") if f.layer else f.text, _named(f), (str(f.level), f.step)) for f in findings]
    return [(kind[0], kind[1], text) for text, kind in said_once(told) if isinstance(kind, tuple)]


def _named(finding: Any) -> str:
    """The layer that its sentence begins with."""
    return str(finding.layer) if finding.layer and finding.text.startswith(f"{finding.layer}: ") else ""
