"""What stands for a step or a parameter while a workflow is built in Python."""

from __future__ import annotations

from dataclasses import dataclass


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
