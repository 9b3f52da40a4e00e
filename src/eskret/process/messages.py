"""What goes to a worker and comes back, beside what the jobs themselves say."""

from __future__ import annotations

from typing import Any

from pydantic import BaseModel, ConfigDict

STOP = "stop"


class Request(BaseModel):
    """A line to a worker: the number of the job, what it is, and its arguments."""

    model_config = ConfigDict(extra="allow", frozen=True)

    job: int
    do: str

    @property
    def arguments(self) -> dict[str, Any]:
        """What else it holds."""
        return dict(self.model_extra or {})
