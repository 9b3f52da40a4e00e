"""What the operations of a workflow are told of it: its folder, values, coordinate system and how layers are named."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

from eskret.operations.base import Context
from eskret.workflow.model.document import Document


def field_values(document: Document, values: Mapping[str, object]) -> dict[str, str]:
    """The values of the parameters that stand for a field."""
    return {p.name: str(values[p.name]) for p in document.parameters if p.type == "field" and p.name in values}


def context_of(document: Document, step: str, values: Mapping[str, Any], folder: Path, **more: Any) -> Context:
    """What a step's operation works with; ``more`` is what whoever has it work adds."""
    return Context(
        folder,
        step,
        values,
        field_values(document, values),
        document.crs or None,
        document.names,
        path_parameters=document.path_parameters(),
        **more,
    )
