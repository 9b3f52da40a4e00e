"""Operations of a simple shape, made up here: forecast and accounts follow from what they say they do."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st

from eskret.core.accounts.account import Altered, ControlTotal, InputAccount, OutputAccount, Relation, Remark, Role
from eskret.core.layer import Certainty, Field, GeometryKind, Layer
from eskret.errors import AccountError
from eskret.operations.base import Context, Finding, Level, Outcome, Phase
from eskret.operations.sentences import fill_sentence, join_words, share
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support.row_wise import Chosen, Columns, FieldsPerRow, Reshaped, RowFilter, ShapePerRow
from eskret.workflow.run.step import prove
from tests.operations.helpers import E, N, layer_of, square


class Settings(OperationSettings):
    by: list[str] = setting("By", kind="fields", default=[], help="Fields.")
    to: str = setting("To", kind="layer", default="", help="A layer.")
    figures: dict[str, str] = setting("Figures", kind="pairs", default={}, help="Figures.")
    size: str = setting("Size", default="", help="A size.")


class EverySecond(RowFilter):
    """Keep every second row."""

    id, title, phase = "second", "Every second", Phase.CHOOSE
    Settings = Settings
    nothing = "there was none"
    wrong: tuple[Finding, ...] = ()
    lose = False

    def check(self, facts: Any, settings: Any, context: Any) -> list[Finding]:
        return list(self.wrong)

    def choose(self, layer: Layer, settings: Any, context: Any) -> Chosen:
        rows = np.arange(len(layer))
        aside = [] if self.lose else [("is odd", rows[1::2])]
        return Chosen(rows[::2], aside, [Remark("halved", layer.key)])


class Lifted(ShapePerRow):
    """Move shapes up; those of ``gone_rows`` come to nothing."""

    id, title, phase = "lifted", "Lifted", Phase.SHAPE
    Settings = Settings
    makes = GeometryKind.POINT
    gone = "fell down"

    def reshape(self, layer: Layer, shapes: np.ndarray, settings: Any, context: Any) -> Reshaped:
        out = np.asarray(shapely.centroid(shapes), object)
        out[:1] = None
        kept = float((~shapely.is_missing(out)).sum())
        control = ControlTotal("points", "", kept, kept if settings.size != "wrong" else kept + 1)
        return Reshaped(out, [("is set aside", np.arange(1, min(2, len(out))))], controls=[control])


class Doubled(FieldsPerRow):
    """Write ``n`` twice as large, and a field more."""

    id, title, phase = "doubled", "Doubled", Phase.DESCRIBE
    Settings = Settings

    def fields(self, facts: Any, settings: Any, context: Any) -> tuple[list[Field], list[Finding]]:
        if "n" not in facts.names():
            return [], [Finding.error("there is no n.", "by", facts)]
        return [Field("n", pa.float64()), Field("new", pa.string())], [Finding.note("doubled.", about=facts)]

    def columns(self, layer: Layer, settings: Any, context: Any) -> Columns:
        twice = pa.array([float(v) * 2 for v in layer.table.column("n").to_pylist()], pa.float64())
        altered = [Altered("doubled", np.arange(len(layer)))]
        return Columns({"n": twice, "new": pa.array(["x"] * len(layer), pa.string())}, [Remark("done", layer.key)], altered)


def areas(count: int) -> Layer:
    return layer_of([square(2000.0 * i, 0) for i in range(count)], n=list(range(count)), m=["a"] * count)


@given(st.integers(0, 9))
def test_rows_that_stay_and_those_that_do_not_are_all_rows(count: int) -> None:
    layer, operation = areas(count), EverySecond()
    outcome = operation.run(layer, Settings(), Context())
    prove(outcome, operation.relation)
    assert outcome.layers[0].table.column("n").to_pylist() == list(range(0, count, 2))
    assert dict(outcome.inputs[0].set_aside.counts()) == ({"is odd": count // 2} if count > 1 else {})
    assert [r.text for r in outcome.remarks] == ["halved", *([] if count else ["there was none"])]
    names = [c.name for c in outcome.outputs[0].controls]
    assert all(c.agrees for c in outcome.outputs[0].controls) and (not count or names == ["area"])
    (facts,) = operation.forecast(layer.facts(), Settings(), Context()).layers
    assert facts.certainty is Certainty.AT_MOST and facts.count == count and facts.fields == layer.fields


def test_a_filter_that_forgets_rows_does_not_pass_and_an_error_stops_before() -> None:
    operation = EverySecond()
    operation.lose = True
    with pytest.raises(AccountError, match="neither used nor set aside"):
        prove(operation.run(areas(4), Settings(), Context()), operation.relation)
    operation.wrong = (Finding.look("odd."), Finding.error("no."))
    told = operation.forecast(areas(4).facts(), Settings(), Context())
    assert told.layers == () and [f.level for f in told.findings] == [Level.LOOK, Level.ERROR]


def test_a_shape_for_each_row_and_what_has_none_is_set_aside() -> None:
    layer, operation = areas(4), Lifted()
    outcome = operation.run(layer, Settings(), Context(totals=("n",)))
    prove(outcome, operation.relation)
    (made,) = outcome.layers
    assert made.kind is GeometryKind.POINT and made.table.column("n").to_pylist() == [2, 3]
    assert dict(outcome.inputs[0].set_aside.counts()) == {"is set aside": 1, "fell down": 1}
    assert [(n, v) for n, v, _ in outcome.outputs[0].totals if n == "n"] == [("n", 5.0)]
    (facts,) = operation.forecast(layer.facts(), Settings(), Context()).layers
    assert facts.kind is GeometryKind.POINT and facts.certainty is Certainty.AT_MOST
    table = Layer("t", pa.table({"n": [1]}))
    told = operation.forecast(table.facts(), Settings(), Context())
    assert told.layers == () and "t: a table has no shapes." in told.findings[0].text
    with pytest.raises(AccountError, match="points"):
        prove(operation.run(layer, Settings(size="wrong"), Context()), operation.relation)


def test_fields_come_into_the_place_of_their_name() -> None:
    layer, operation = areas(3), Doubled()
    outcome = operation.run(layer, Settings(), Context())
    prove(outcome, operation.relation)
    assert outcome.layers[0].table.to_pydict() == {"n": [0.0, 2.0, 4.0], "m": ["a"] * 3, "new": ["x"] * 3}
    assert outcome.layers[0].column is layer.column, "shapes are left alone"
    told = operation.forecast(layer.facts(), Settings(), Context())
    assert [(f.name, f.type) for f in told.layers[0].fields] == [(f.name, f.type) for f in outcome.layers[0].fields]
    assert told.layers[0].values(["n"]) is None, "the source has other values of it now"
    none = operation.forecast(layer.with_table(pa.table({"k": [1, 2, 3]})).facts(), Settings(), Context())
    assert none.layers == () and none.findings[0].layer == "a" and none.findings[0].setting == "by"


def test_accounts_that_follow_of_themselves_are_filled_in_and_others_are_left() -> None:
    layer = areas(3)
    other = InputAccount("to", "b", 2)
    done = Outcome((layer,), inputs=(other,), controls=(ControlTotal("c", "", 1, 1),)).completed([layer], ["n"])
    assert [(a.setting, a.layer, a.rows) for a in done.inputs] == [(Role.FROM, "a", 3), ("to", "b", 2)]
    (output,) = done.outputs
    assert (output.layer, output.rows) == ("a", 3) and output.controls[0].name == "c" and ("n", 3.0, "") in output.totals
    mine = InputAccount.of(layer)
    kept = Outcome((layer,), (mine,), (OutputAccount("a", 9),)).completed([layer], [])
    assert kept.inputs == (mine,) and kept.outputs == (OutputAccount("a", 9),)
    assert Outcome().completed([], []) == Outcome()
    assert Lifted.relation is Relation.ONE_FOR_ONE and EverySecond.relation is Relation.KEPT


# -- sentences


@pytest.mark.parametrize(
    ("template", "settings", "entering", "expected"),
    [
        ("Cut {entering} to {to}", {"to": "in:area"}, "beds", "Cut **beds** to **area**"),
        ("Cut {entering} to {to}", {}, "", "Cut **…** to **…**"),
        ("Sort {entering} by {by}", {"by": ["a", "b"]}, "x", "Sort **x** by a and b"),
        ("Sort {entering} by {by}", {"by": []}, "x", "Sort **x** by …"),
        ("Sort {entering} by {by}", {"by": "a"}, "x", "Sort **x** by …"),
        ("Sort by {by:3}", {"by": list("abcdef")}, "x", "Sort by a, b and 4 more"),
        ("Join[ by {by}| by shape][ with {figures}]", {}, "x", "Join by shape"),
        ("Join[ by {by}| by shape][ with {figures}]", {"by": ["k"], "figures": {"t": "sum t"}}, "x", "Join by k with sum t"),
        ("Grow by {size}", {"size": "  5 \n m "}, "x", "Grow by 5 m"),
        ("Grow[ by {size}] of {entering}", {"size": ""}, "x", "Grow of **x**"),
        ("Grow by {size}", {"size": "{to} [a|b]"}, "x", "Grow by {to} [a|b]"),
    ],
)
def test_a_sentence_is_filled_from_what_stands_in_the_file(template: str, settings: dict, entering: str, expected: str) -> None:
    from eskret.core.words import bold

    wanted = expected
    for word in ("beds", "area", "…", "x"):
        wanted = wanted.replace(f"**{word}**", bold(word))
    assert fill_sentence(template, Settings, settings, entering) == wanted


@given(st.lists(st.text(min_size=1, max_size=4), max_size=7), st.integers(2, 5))
def test_no_more_names_than_are_wanted(names: list[str], most: int) -> None:
    said = join_words(names, most)
    assert said == "" if not names else all(n in said for n in names[: most - 1])
    assert len(names) <= most or said.endswith(f"and {len(names) - most + 1} more")
    assert share(3, 4) == "3 of 4, 75.0 %" and share(0, 0) == "0 of 0"


def test_findings_say_what_they_are_about() -> None:
    facts = layer_of([shapely.Point(E, N)]).facts()
    assert Finding.error("is wrong.", "by", facts) == Finding(Level.ERROR, "a: is wrong.", setting="by", layer="a")
    assert Finding.look("is odd.", about=facts).text == "a: is odd." and Finding.note("so.").layer == ""
