"""The analyst's own operations, and workflows that a script of theirs builds."""

from __future__ import annotations

from pathlib import Path

from eskret.process.jobs.job import Answer, Work, job


@job("own")
def own(work: Work, folder: Path) -> Answer:
    """What a project has of its own operations; a file that changed is loaded anew."""
    from eskret.user_operations.loader import cards

    return cards(folder).model_dump(mode="json")


@job("own_choices")
def own_choices(work: Work, folder: Path, use: str, settings: dict[str, object]) -> Answer:
    """What settings of an own operation offer, where that hangs on the others."""
    from eskret.user_operations.loader import choices

    return {"choices": choices(folder, use, settings)}


@job("built")
def built(work: Work, path: Path) -> Answer:
    """The workflows that a script builds."""
    from eskret.workflow.model.built import built_by

    return {"built": [{"name": b.name, "title": b.document.title, "text": b.document.to_text()} for b in built_by(path)]}
