"""Which editor a setting has, by its kind."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from eskret.desktop.forms.condition import ConditionEditor, ExpressionEditor, QueryEditor
from eskret.desktop.forms.crs_editor import CrsEditor
from eskret.desktop.forms.inner import InnerEditor, WorkflowEditor
from eskret.desktop.forms.layers_editor import FieldEditor, FieldsEditor, LayerEditor
from eskret.desktop.forms.lists import BoxEditor, CellsEditor, FeaturesEditor, PairsEditor, ShapesEditor
from eskret.desktop.forms.setting_editors import (
    ChoiceEditor,
    ChoicesEditor,
    FileEditor,
    FilesEditor,
    FlagEditor,
    PatternsEditor,
    SettingEditor,
    TargetEditor,
    TextEditor,
    WholeEditor,
    WordListEditor,
)
from eskret.desktop.state.session import Session
from eskret.operations.settings import SettingInfo

_BY_ITSELF: dict[str, Callable[[SettingInfo], SettingEditor]] = {
    "box": BoxEditor,
    "cells": CellsEditor,
    "choice": ChoiceEditor,
    "choices": ChoicesEditor,
    "features": FeaturesEditor,
    "flag": FlagEditor,
    "pairs": PairsEditor,
    "patterns": PatternsEditor,
    "shapes": ShapesEditor,
    "whole": WholeEditor,
}
_IN_A_FOLDER: dict[str, Callable[[SettingInfo, Path], SettingEditor]] = {
    "file": FileEditor,
    "files": FilesEditor,
    "target": TargetEditor,
    "wordlist": WordListEditor,
}
_OF_A_DOCUMENT: dict[str, Callable[[SettingInfo, Session], SettingEditor]] = {
    "condition": ConditionEditor,
    "crs": CrsEditor,
    "expression": ExpressionEditor,
    "query": QueryEditor,
    "workflow": WorkflowEditor,
}
_OF_A_STEP: dict[str, Callable[[SettingInfo, Session, str], SettingEditor]] = {
    "field": FieldEditor,
    "fields": FieldsEditor,
    "layer": LayerEditor,
    "values": lambda info, session, step: InnerEditor(session, step),
}


def editor_for(info: SettingInfo, session: Session, step: str) -> SettingEditor:
    """The editor of a setting of a step; a line of text where its kind has none of its own."""
    kind = info.kind
    if kind in _OF_A_STEP:
        return _OF_A_STEP[kind](info, session, step)
    if kind in _OF_A_DOCUMENT:
        return _OF_A_DOCUMENT[kind](info, session)
    if kind in _IN_A_FOLDER:
        return _IN_A_FOLDER[kind](info, session.folder)
    return _BY_ITSELF.get(kind, TextEditor)(info)
