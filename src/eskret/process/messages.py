"""What goes to a worker and comes back, beside what the jobs themselves say."""

from __future__ import annotations

from typing import Any

from pydantic import BaseModel, ConfigDict

from eskret.core.layer import Certainty, GeometryKind, LayerFacts
from eskret.operations.base import Finding, Level, PlannedOutput

STOP = "stop"


class _Told(BaseModel):
    model_config = ConfigDict(frozen=True, extra="ignore", from_attributes=True)


class Request(BaseModel):
    """A line to a worker: the number of the job, what it is, and its arguments."""

    model_config = ConfigDict(extra="allow", frozen=True)

    job: int
    do: str

    @property
    def arguments(self) -> dict[str, Any]:
        """What else it holds."""
        return dict(self.model_extra or {})


class FactsTold(_Told):
    """Facts of a layer; ``fields`` are names with the words for their types."""

    key: str
    name: str
    kind: GeometryKind
    crs: str | None
    count: int | None
    certainty: Certainty
    extent: tuple[float, float, float, float] | None
    origin: str
    step: str
    own_name: str
    unnumbered: str
    fields: tuple[tuple[str, str], ...]

    @classmethod
    def of(cls, facts: LayerFacts) -> FactsTold:
        """What is told of a layer."""
        told = {n: getattr(facts, n) for n in cls.model_fields if n != "fields"}
        return cls(**told, fields=tuple((f.name, f.word) for f in facts.fields))


class FindingTold(_Told):
    """What a rehearsal has to say, as ``Finding`` has it."""

    level: Level
    text: str
    step: str = ""
    setting: str = ""
    layer: str = ""
    start: int = -1
    length: int = 0
    code: str = ""
    action: str = ""
    counts: dict[str, int] = {}

    @classmethod
    def of(cls, finding: Finding) -> FindingTold:
        """What is told of a finding."""
        return cls.model_validate(finding.to_json())


class OutputTold(_Told):
    """An output as foretold."""

    path: str
    layer: str
    action: str
    features: int | None
    certainty: Certainty
    original: str

    @classmethod
    def of(cls, planned: PlannedOutput) -> OutputTold:
        """What is told of an output."""
        return cls(**{n: getattr(planned, n) for n in cls.model_fields if n != "path"}, path=str(planned.path))


class StepTold(_Told):
    """What a rehearsal says of a step; whether that is ``known`` before it runs."""

    known: bool
    entering: tuple[FactsTold, ...] = ()
    leaving: tuple[FactsTold, ...] = ()
    outputs: tuple[OutputTold, ...] = ()


class RehearsalTold(_Told):
    """A rehearsal: what it found, what each step will make, services (address, variable, whether it changes) that nobody allowed yet,
    and files that leave the workflow's folder."""

    seconds: float = 0.0
    findings: tuple[FindingTold, ...] = ()
    unapproved: tuple[tuple[str, str, bool], ...] = ()
    shared: tuple[str, ...] = ()
    steps: dict[str, StepTold] = {}

    @property
    def errors(self) -> list[FindingTold]:
        """What stops a run."""
        return [f for f in self.findings if f.level is Level.ERROR]
