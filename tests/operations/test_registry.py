"""What must hold for every operation there is, today and with forty more."""

from __future__ import annotations

import inspect
import json

import pytest
from pydantic.fields import PydanticUndefined

from eskret import Workflow
from eskret.core.words import strip_markup
from eskret.errors import DocumentError, SettingError
from eskret.operations import all_operations, operation_by_id
from eskret.operations.base import Operation, Phase
from eskret.operations.sentences import join_words
from eskret.operations.settings import default_of, problems_of, setting_info, validate

KINDS = {
    "text",
    "whole",
    "number",
    "flag",
    "choice",
    "choices",
    "files",
    "target",
    "condition",
    "query",
    "template",
    "patterns",
    "crs",
    "layer",
    "expression",
    "wordlist",
    "field",
    "fields",
    "measure",
    "cells",
    "features",
    "shapes",
    "pairs",
    "box",
    "workflow",
    "values",
    "layers",
}
every = pytest.mark.parametrize("operation", list(all_operations().values()), ids=lambda o: o.id)


@every
def test_an_operation_explains_itself(operation: Operation) -> None:
    assert operation.id.isidentifier() and operation.id.islower() and operation.title and operation.phase in Phase
    assert operation.summary.endswith(".") and len(operation.summary) < 100
    assert len(operation.help) > 80, "how to use it"
    assert len(operation.also_known_as) >= 5, "words people type for it"
    assert operation.version >= 1
    at_home = inspect.getmodule(type(operation)).__name__.split(".")[-1]  # type: ignore[union-attr]
    assert at_home == ("subworkflow" if operation.id == "workflow" else operation.id)


@every
def test_every_setting_has_a_label_help_and_a_default_that_fits(operation: Operation) -> None:
    for name, info in setting_info(operation.Settings).items():
        assert info.label and info.help.rstrip().endswith("."), name
        assert info.kind in KINDS
        assert (info.kind in ("choice", "choices")) == bool(info.choices), name
        if info.shown_when:
            assert info.shown_when[0] in operation.Settings.model_fields
        declared = operation.Settings.model_fields[name]
        if not declared.is_required():
            assert declared.get_default(call_default_factory=True) is not PydanticUndefined
            json.dumps(default_of(operation.Settings, name))  # it can stand in a file
            if info.kind == "choice":
                assert default_of(operation.Settings, name) in info.choices
        elif info.kind not in ("files",):
            assert info.example, f"{name} must be given, so the form shows an example"


@every
def test_a_sentence_can_be_made_of_any_state_of_a_form(operation: Operation) -> None:
    for settings in ({}, {n: default_of(operation.Settings, n) for n in operation.Settings.model_fields}):
        for entering in ("", "marks and 2 more"):
            text = strip_markup(operation.sentence(settings, entering))
            assert text.startswith(operation.title.split()[0]) and "None" not in text


@every
def test_an_operation_is_a_method_of_a_workflow(operation: Operation) -> None:
    method = getattr(Workflow(), operation.id)
    assert operation.summary in (method.__doc__ or "")


@every
def test_settings_that_are_not_known_are_refused_with_the_nearest(operation: Operation) -> None:
    name = next(iter(operation.Settings.model_fields))
    problem = problems_of(operation.Settings, {name[:-1] + "q": 1})[0]
    assert "there is no setting" in problem.sentence()


def test_the_order_is_that_of_the_work() -> None:
    phases = [list(Phase).index(o.phase) for o in all_operations().values()]
    assert phases == sorted(phases)


def test_an_operation_that_is_not_there_is_refused_with_those_that_are() -> None:
    with pytest.raises(DocumentError, match="there is no operation 'fly'. 'eskret operations' lists them"):
        operation_by_id("fly")


@pytest.mark.parametrize(
    ("use", "settings", "says"),
    [
        ("load", {}, "'Files' is not filled in"),
        ("load", {"files": []}, "'Files' cannot be []"),
        ("load", {"files": ["a"], "parts": ["wings"]}, "It can be waypoints, routes"),
        ("load", {"files": ["a"], "crs": "EPSG:1"}, "not a coordinate system"),
        ("load", {"files": ["a"], "together": "perhaps"}, "'Recordings together' cannot be 'perhaps'"),
        ("load", {"files": ["a"], "if_unreadable": "cry"}, "It can be stop, go on"),
        ("save", {"to": ""}, "'File' cannot be ''"),
        ("save", {"to": "a.gpkg", "decimals": 99}, "the most is 15"),
        ("save", {"to": "a.gpkg", "if_exists": "ask"}, "It can be own, stop, replace, number, skip"),
    ],
)
def test_wrong_values_are_told_by_their_label(use: str, settings: dict, says: str) -> None:
    with pytest.raises(SettingError) as caught:
        validate(operation_by_id(use).Settings, settings)
    assert says in caught.value.sentence()


def test_lists_in_words() -> None:
    assert [join_words("abcd"[:n]) for n in range(5)] == ["", "a", "a and b", "a and 2 more", "a and 3 more"]
    assert join_words("abcd", 4) == "a, b, c and d"
