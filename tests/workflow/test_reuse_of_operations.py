"""What any operation makes of any layer comes back from the cache as it was; and settings come through a cell as they are."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from eskret.errors import EskretError
from eskret.operations import all_operations
from eskret.operations.base import Context, EachLayer, Gathering, Level
from eskret.operations.settings import SettingInfo, default_of, setting_info, validate
from eskret.operations.support.as_text import KINDS, choices_of, from_text, to_text
from eskret.workflow.cache import ResultCache, Store, materialise
from eskret.workflow.cache.cached_layer import mark_of, note
from eskret.workflow.run.step import prove
from tests.conftest import points
from tests.operations.test_every_shape import LAYERS, ON_LAYERS, SETTINGS, context_for
from tests.workflow.test_reuse import same


def arrays(a: np.ndarray | None, b: np.ndarray | None) -> bool:
    return (a is None and b is None) or (a is not None and b is not None and np.array_equal(a, b))


@pytest.mark.parametrize("operation", ON_LAYERS, ids=lambda o: o.id)
def test_what_an_operation_made_comes_back_as_it_was(operation: EachLayer | Gathering, tmp_path: Path) -> None:
    if operation.id == "apply_words":
        pytest.skip("it wants a file: see test_words")
    model, context = validate(operation.Settings, SETTINGS[operation.id]), context_for(SETTINGS[operation.id])
    told = Context(step="made", others={k: [x.facts() for x in v] for k, v in context.others.items()})
    result_cache, back = ResultCache(Store(tmp_path / "kept")), 0
    for number, layer in enumerate(LAYERS.values()):
        one = isinstance(operation, EachLayer)
        forecast = operation.forecast(layer.facts() if one else [layer.facts()], model, told)  # type: ignore[arg-type]
        if any(f.level is Level.ERROR for f in forecast.findings):
            continue
        try:
            outcome = operation.run(layer if one else [layer], model, context)  # type: ignore[arg-type]
        except EskretError:
            continue
        key = f"{number:064x}"
        result_cache.put(key, [outcome], [layer])
        (found,) = result_cache.get(key) or ()
        prove(found, operation.relation)
        assert [a.to_json() for a in found.inputs] == [a.to_json() for a in outcome.inputs]
        assert [a.to_json() for a in found.outputs] == [a.to_json() for a in outcome.outputs]
        assert found.remarks == outcome.remarks and found.relation == outcome.relation
        assert arrays(found.lineage, outcome.lineage) and arrays(found.into, outcome.into)
        for mine, theirs in zip(found.inputs, outcome.inputs, strict=True):
            assert arrays(mine.set_aside.rows, theirs.set_aside.rows)
            assert all(arrays(a.rows, b.rows) for a, b in zip(mine.altered, theirs.altered, strict=True))
        for kept, made in zip(found.layers, outcome.layers, strict=True):
            same(materialise(kept), made)
            assert mark_of(kept) == mark_of(made)  # either way, what comes next hangs on the same content
        back += 1
    # of these only one has points, and not in degrees
    assert back >= (1 if operation.id == "nearest_areas" else 3), "it must do most kinds of layers"


def test_a_digest_hangs_on_all_that_matters_and_on_nothing_else(tmp_path: Path) -> None:
    keep = all_operations()["keep"]
    layer = points({"n": [1, 4, 5]})
    result_cache = ResultCache(Store(tmp_path / "kept"))
    context = Context(step="s", values={"least": 3, "other": 1})

    def key(settings: dict[str, Any], context: Context = context, entering: Any = None, **more: Any) -> str | None:
        return result_cache.key(keep, settings, context, [layer if entering is None else entering], {}, (), **more)

    where = {"where": "n > $least"}
    assert key(where) is None  # nobody knows yet which content the layer is
    note(layer, "content")
    whole = key(where)
    assert whole == key(dict(where)) == key(where, Context(step="s", values={"least": 3, "other": 2})) is not None
    file = tmp_path / "words.csv"
    file.write_text("a,b\n")
    others = [
        key({"where": "n > 3"}),
        key(where, Context(step="s", values={"least": 4})),
        key(where, Context(step="t", values={"least": 3})),
        key(where, Context(step="s", values={"least": 3}, crs="EPSG:32626")),
        key(where, entering=layer.with_key("q")),
        key(where, Context(step="s", values={"least": 3}, totals=("n",))),
        key(where, more="x"),
        result_cache.key(keep, where, context, [layer], {"to": [layer]}, ()),
        result_cache.key(keep, where, context, [layer], {}, [file]),
        result_cache.key(all_operations()["flag"], where, context, [layer], {}, ()),
    ]
    assert None not in others and len({whole, *others}) == len(others) + 1
    before = result_cache.key(keep, where, context, [layer], {}, [file])
    file.write_text("a,c\n")
    assert result_cache.key(keep, where, context, [layer], {}, [file]) != before
    assert result_cache.key(keep, where, context, [layer], {}, [tmp_path / "none.csv"]) is None
    assert result_cache.key(keep, where, context, [layer], {}, None) is None
    # rows taken out are other content, whatever else is the same
    assert key(where, entering=layer.take(np.array([0, 1]))) is None


SETTABLE = [(o.id, n) for o in all_operations().values() for n, i in setting_info(o.Settings).items() if i.kind in KINDS]


@pytest.mark.parametrize(("use", "name"), SETTABLE, ids=lambda v: str(v))
def test_defaults_come_through_a_cell(use: str, name: str) -> None:
    operation = all_operations()[use]
    info = setting_info(operation.Settings)[name]
    default = default_of(operation.Settings, name)
    if default is None or default == "":
        return
    again = from_text(info, to_text(info, default))
    assert again == default or (isinstance(default, float | int) and float(again) == default)
    assert all(from_text(info, words) in (*info.choices, True, False) for words in choices_of(info))


@given(st.sampled_from(sorted(KINDS - {"choice"})), st.text(st.characters(codec="utf-8", categories=["L", "N", "P", "Zs"]), min_size=1))
def test_what_is_typed_is_never_lost(kind: str, text: str) -> None:
    info = SettingInfo("A", "B.", kind)
    value = from_text(info, text)
    shown = to_text(info, value)
    assert from_text(info, shown) == value
    if isinstance(value, str):
        assert shown == text.strip()
