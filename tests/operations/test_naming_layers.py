"""Names of delivered layers: filled, cleaned, cut, made unique, and told why."""

from __future__ import annotations

from pathlib import Path

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from eskret import write
from eskret.core.naming import clean_name
from eskret.errors import DeliveryError, SettingError
from eskret.formats import geopackage
from eskret.formats.known import GEOPACKAGE
from eskret.operations.base import Context
from eskret.operations.support.naming_layers import names_of
from eskret.workflow.model.document import parse
from eskret.workflow.run.engine import Run
from eskret.workflow.run.rehearsal import rehearse
from tests.conftest import points

CONTEXT = Context(step="out", values={"year": 2031})


def test_what_is_done_to_a_name_is_told() -> None:
    layers = [points({"n": [1]}, key=k) for k in ("Näme A", "name-a", "b" * 80, "gpkg_x")]
    found = names_of(layers, lambda k: "{layer}", CONTEXT, GEOPACKAGE)
    assert [n.name for n in found] == ["name_a", "name_a_2", "b" * 60, "layer_gpkg_x"]
    assert [n.clash for n in found] == [True, True, False, False]
    assert "numbered" in found[1].notes[0] and "cut to the 60" in found[2].notes[0] and "format's own" in found[3].notes[0]
    own = names_of(layers[:2], lambda k: {"name-a": "{year} {n}"}.get(k, "x"), CONTEXT, GEOPACKAGE)
    assert [n.filled for n in own] == ["x", "2031 2"] and [n.name for n in own] == ["x", "2031_2"]
    with pytest.raises(SettingError, match="stands for nothing"):
        names_of(layers, lambda k: "{what}", CONTEXT, GEOPACKAGE)
    with pytest.raises(DeliveryError, match="comes out empty"):
        names_of(layers, lambda k: "--", CONTEXT, GEOPACKAGE)


@given(st.lists(st.text(st.characters(codec="utf-8"), min_size=1), min_size=1, max_size=12, unique=True))
@example(["Ǽ", "ǿ", "AE"])  # an accent on a letter that is written as two
def test_names_are_always_sound_and_never_the_same(keys: list[str]) -> None:
    layers = [points({"n": [1]}, key=f"k{k}") for k in keys]
    names = [n.name for n in names_of(layers, lambda k: "{layer}", CONTEXT, GEOPACKAGE)]
    assert len({n.casefold() for n in names}) == len(keys)
    assert all(clean_name(n) == n and len(n) <= 60 for n in names)


def test_a_single_layer_is_called_otherwise_and_nothing_else_is_its_own(tmp_path: Path) -> None:
    for name in ("a", "b"):
        write(points({"n": [1, 2]}), tmp_path / f"{name}.gpkg", name)
    text = (
        'eskret = 1\n[[steps]]\nid = "in"\nuse = "load"\nfiles = ["*.gpkg"]\n[[steps]]\nid = "out"\nuse = "save"\nfrom = "in"\n'
        'to = "out/all.gpkg"\nname = "x_{layer}"\n[steps.layer.b]\nname = "Other {n}"\n'
    )
    assert parse(text).to_text().count("[steps.layer.b]") == 1
    result = Run(parse(text), folder=tmp_path).execute()
    assert [o.layer for o in result.outputs] == ["x_a", "other_2"] and not result.error
    assert geopackage.layer_list(tmp_path / "out" / "all.gpkg") == ["x_a", "other_2"]
    found = rehearse(parse(text.replace('name = "Other {n}"', 'to = "z.gpkg"')), folder=tmp_path)
    assert [(f.layer, f.setting) for f in found.errors] == [("b", "to")] and "whole set at once" in found.errors[0].text
