"""What stands for a step or a parameter while a workflow is built in Python."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any


@dataclass(frozen=True)
class StepHandle:
    """A step of a workflow being built; ``handle["key"]`` is one of its layers, or those a pattern names."""

    id: str

    def __getitem__(self, pattern: str) -> str:
        return f"{self.id}:{pattern}"


@dataclass(frozen=True)
class ParameterHandle:
    """A parameter of a workflow being built, to be given as a setting."""

    name: str


STEP_PROPERTIES = ("heading", "note", "off", "layer", "style", "each", "result")
"""What every step may say of itself beside the settings of its operation."""


def plain(value: object) -> Any:
    """Settings as the file has them: handles become references and parameters."""
    if isinstance(value, ParameterHandle):
        return {"parameter": value.name}
    if isinstance(value, StepHandle):
        return value.id
    if isinstance(value, Mapping):
        return {k: plain(v) for k, v in value.items()}
    if isinstance(value, list | tuple):
        return [plain(v) for v in value]
    return str(value) if isinstance(value, Path) else value
