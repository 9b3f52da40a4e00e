"""Stand-ins for operations of somebody's own, made of what another process tells of them: to be shown, not to be run."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from pydantic import create_model

from eskret.core.accounts.account import Relation
from eskret.core.layer import LayerFacts
from eskret.operations.base import Context, Forecast, Gathering, Phase
from eskret.operations.settings import OperationSettings, SettingInfo, setting_info
from eskret.user_operations.declare import described, sentence_of


class Shown(Gathering):
    """An operation that only shows: title, help, settings."""

    relation = Relation.REPORT
    depends: frozenset[str] = frozenset()
    """Settings whose choices hang on the values of others; whoever runs the code knows them."""
    file = ""
    line = 0

    def sentence(self, settings: Mapping[str, Any], entering: str) -> str:
        return sentence_of(self.title, setting_info(self.Settings), settings, entering)

    def forecast(self, facts: Sequence[LayerFacts], settings: Any, context: Context) -> Forecast:
        raise NotImplementedError

    def work(self, layers: Any, settings: Any, context: Context) -> Any:
        raise NotImplementedError


def shown_of(card: Mapping[str, Any]) -> Shown:
    """The stand-in for an operation."""
    fields: dict[str, Any] = {}
    for told in card["settings"]:
        when = told["shown_when"]
        info = SettingInfo(
            told["label"],
            told["help"],
            told["kind"],
            told["choices"],
            (when[0], tuple(when[1])) if when else None,
            told["example"],
            told["of"],
        )
        fields[told["name"]] = (Any, described(... if told["required"] else told["default"], {"info": info}, {}))
    made = type(
        "Shown",
        (Shown,),
        {
            "__doc__": card["doc"],
            "id": card["id"],
            "title": card["title"],
            "phase": Phase(card["phase"]),
            "also_known_as": tuple(card["also_known_as"]),
            "has_input": card["takes_layers"],
            "menu_order": 95,
            "depends": frozenset(t["name"] for t in card["settings"] if t["depends"]),
            "file": card["file"],
            "line": card["line"],
            "author": card["author"],
            "limits": card["limits"],
            "Settings": create_model("Settings", __base__=OperationSettings, **fields),
        },
    )
    found: Shown = made()
    return found
