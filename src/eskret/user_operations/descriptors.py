"""What one process tells another of operations of somebody's own, and stand-ins made of it: to be shown, not to be run."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from pydantic import BaseModel, ConfigDict, create_model

from eskret.core.accounts.account import Relation
from eskret.core.layer import LayerFacts
from eskret.operations.base import Context, Forecast, Gathering, Phase
from eskret.operations.settings import OperationSettings, SettingInfo, setting_info
from eskret.user_operations.declare import described, sentence_of


class _Card(BaseModel):
    model_config = ConfigDict(frozen=True, extra="ignore")


class SettingCard(_Card):
    """A setting; ``depends`` says that its choices hang on the values of others, which whoever runs the code knows."""

    name: str
    label: str
    help: str
    kind: str
    choices: dict[str, str] = {}
    required: bool = False
    default: Any = None
    example: str = ""
    shown_when: tuple[str, tuple[Any, ...]] | None = None
    of: str = ""
    depends: bool = False


class OperationCard(_Card):
    """An operation with its settings and its place in the code."""

    id: str
    title: str
    phase: Phase
    doc: str
    also_known_as: tuple[str, ...] = ()
    takes_layers: bool
    settings: tuple[SettingCard, ...] = ()
    author: str = ""
    limits: str = ""
    file: str = ""
    line: int = 0
    works_on: str = ""


class ProblemCard(_Card):
    """What is wrong with a file of code."""

    file: str
    line: int
    text: str


class ProjectCard(_Card):
    """The code of a project: whether it may run, its files, what is wrong with it, and its operations."""

    trusted: bool = True
    hash: str = ""
    files: tuple[str, ...] = ()
    problems: tuple[ProblemCard, ...] = ()
    operations: tuple[OperationCard, ...] = ()


class Shown(Gathering):
    """An operation that only shows: title, help, settings."""

    relation = Relation.REPORT
    depends: frozenset[str] = frozenset()
    """Settings whose choices hang on the values of others; whoever runs the code knows them."""
    file = ""
    line = 0

    def sentence(self, settings: Mapping[str, object], entering: str) -> str:
        return sentence_of(self.title, setting_info(self.Settings), settings, entering)

    def forecast(self, facts: Sequence[LayerFacts], settings: Any, context: Context) -> Forecast:
        raise NotImplementedError

    def work(self, layers: Any, settings: Any, context: Context) -> Any:
        raise NotImplementedError


def shown_of(card: OperationCard) -> Shown:
    """The stand-in for an operation."""
    fields: dict[str, Any] = {}
    for told in card.settings:
        info = SettingInfo(told.label, told.help, told.kind, told.choices, told.shown_when, told.example, told.of)
        fields[told.name] = (Any, described(... if told.required else told.default, {"info": info}, {}))
    made = type(
        "Shown",
        (Shown,),
        {
            "__doc__": card.doc,
            "id": card.id,
            "title": card.title,
            "phase": card.phase,
            "also_known_as": card.also_known_as,
            "has_input": card.takes_layers,
            "menu_order": 95,
            "depends": frozenset(t.name for t in card.settings if t.depends),
            "file": card.file,
            "line": card.line,
            "author": card.author,
            "limits": card.limits,
            "Settings": create_model("Settings", __base__=OperationSettings, **fields),
        },
    )
    found: Shown = made()
    return found
