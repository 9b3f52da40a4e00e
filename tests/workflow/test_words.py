"""What people read: the like of many layers once, numbers that agree, no words of libraries."""

from __future__ import annotations

import datetime as dt
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import pyarrow as pa
import pytest
import shapely

from eskret import Layer, Workflow, use, write
from eskret.core.expression import parse_condition, truth
from eskret.core.words import counted_kind
from eskret.errors import DocumentError, ExpressionError
from eskret.operations.registry import all_operations
from eskret.operations.settings import problems_of
from eskret.workflow.faces import ledger
from eskret.workflow.faces.said_once import findings_once
from eskret.workflow.model.document import Document, Step
from eskret.workflow.model.parameters import Parameter
from tests.conftest import points, squares
from tests.test_cli import call


def finding(layer: str, text: str, level: str = "look", step: str = "save") -> Any:
    return SimpleNamespace(layer=layer, text=f"{layer}: {text}" if layer else text, level=level, step=step)


def test_the_like_of_many_layers_is_said_once() -> None:
    many = [finding(f"l{n}", "names are shortened") for n in range(57)]
    cut = [finding(f"l{n}", f"{n + 2} texts are cut") for n in range(9)]
    few = [finding("a", "1 row is lost"), finding("b", "2 rows are lost"), finding("", "no room")]
    assert findings_once([*many, *few, *cut]) == [
        ("look", "save", "57 layers: names are shortened"),
        ("look", "save", "a: 1 row is lost"),
        ("look", "save", "b: 2 rows are lost"),
        ("look", "save", "no room"),
        ("look", "save", "9 layers, such as l0: 2 texts are cut"),
    ]
    apart = findings_once([finding("a", "x", "error"), finding("b", "x", "note"), finding("c", "x", "note", "other")])
    assert apart == [("error", "save", "a: x"), ("note", "save", "b: x"), ("note", "other", "c: x")]
    remarks = [{"text": f"{n} rows", "look": False, "layer": f"round {n}"} for n in range(5)]
    assert ledger.grouped_remarks(remarks) == [("5 rounds, such as round 0: 0 rows", False)]


def test_many_layers_through_the_command_are_a_few_lines(tmp_path: Path) -> None:
    for n in range(30):
        name = f"a_rather_long_name_of_a_field_{n % 2}"
        write(points({name: [1, 2], "when": [dt.date(2031, 1, 1)] * 2}, key=f"p{n}"), tmp_path / "in.gpkg", f"p{n}")
    (tmp_path / "w.toml").write_text(
        'eskret = 1\n[[steps]]\nid = "in"\nuse = "load"\nfiles = ["in.gpkg"]\n\n'
        '[[steps]]\nid = "out"\nuse = "save"\nfrom = "in"\nto = "out/{layer}.shp"\n'
    )
    for words in (("rehearse",), ("run",)):
        code, out, err = call(*words, tmp_path / "w.toml")
        assert code == 0, err
        told = [line for line in out.splitlines() if not line.startswith(("Saved", "Will"))]
        assert len(told) < 20, out
        assert " ".join(out.split()).count("15 layers: names are shortened") == 2


@pytest.mark.parametrize(
    ("kind", "one", "several"),
    [
        ("line", "1 line", "2 lines"),
        ("area", "1 area", "5 areas"),
        ("point", "1 point", "3 points"),
        ("table", "1 row", "2 rows"),
        ("mixed", "1 shape", "2 shapes"),
    ],
)
def test_features_are_counted_in_words_that_agree(kind: str, one: str, several: str) -> None:
    assert counted_kind(1, kind) == one and counted_kind(int(several[0]), kind) == several


TABLE = pa.table({"n": [1, 2], "t": ["a", "b"], "d": [dt.date(2031, 1, 1)] * 2, "b": [True, False], "l": pa.array([["a"], ["b"]])})
FOREIGN = ("VARCHAR", "BIGINT", "LITERAL", "explicit cast", "cast (", "Unimplemented", "specifier", "SET error", "destination")


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("t > n", "a text cannot be compared with a whole number"),
        ("d > 5", "a date cannot be compared with a whole number"),
        ("d > 'abc'", "'abc' is no date or time"),
        ("d = '2031-02-31'", "there is no such day or time as '2031-02-31'"),
        ("l = 'a'", "'a' cannot be read as a list"),
        ("d = 2031", "a whole number cannot be read as a date"),
        ("CAST(t AS FOO) = 1", "there is no type FOO"),
        ("strptime(t, '%Q') > d", "'%Q' is no pattern of a date"),
        ("t SIMILAR TO '('", "the pattern of the regular expression is not sound"),
        ("[1, 2] = n", "a whole number cannot be read as a list"),
        ("t AND b", "is compared with a yes/no"),
        ("interval 1 day > d", "a span of time cannot be compared with a date"),
    ],
)
def test_an_expression_is_refused_in_the_analysts_words(text: str, says: str) -> None:
    with pytest.raises(ExpressionError) as caught:
        truth(parse_condition(text, TABLE.schema, {}), TABLE, {})
    sentence = caught.value.sentence()
    assert says in sentence and not [w for w in FOREIGN if w in sentence.replace("VARCHAR for texts, BIGINT,", "")], sentence


@pytest.mark.parametrize("use_", sorted(all_operations()))
def test_settings_of_any_kind_are_sentences_and_do_not_hinder_the_ledger(use_: str) -> None:
    operation = all_operations()[use_]
    for name in operation.Settings.model_fields:
        for value in (5, 2.5, True, {}, {"a": 1}, [], [None], [[1]], "\0", "", None, ["x"] * 3, dt.date(2031, 1, 1)):
            for problem in problems_of(operation.Settings, {name: value}):
                text = problem.sentence()
                assert "nput should" not in text and "pydantic" not in text and "ield required" not in text, text
            document = Document(steps=(Step("s", use_, (), {name: value}),))
            assert ledger.sentence(document, document.steps[0], {}, {})


def test_a_choice_among_many_is_told_with_the_nearest_and_how_many_more_there_are() -> None:
    parameter = Parameter("bed", "choice", default="b1", choices=tuple(f"bed {n}" for n in range(40)))
    with pytest.raises(DocumentError, match=r"Did you mean bed 17\? It can be bed 0, .*, bed 11 and 28 more"):
        parameter.accept("bed17")


def test_a_break_by_time_is_told_as_time() -> None:
    begin = dt.datetime(2031, 9, 3, 6)
    times = [begin, begin + dt.timedelta(minutes=1), begin + dt.timedelta(hours=3), begin + dt.timedelta(hours=3, minutes=1)]
    layer = points({"when": times})
    made = use("connect_points")(layer, order="when", gap_time="30 min")
    assert any("1 break where too much time lies between points" in r.text for r in made.remarks)
    made = use("connect_points")(layer, order="when", gap_distance="5 m")
    assert any("3 breaks where points are too far apart" in r.text for r in made.remarks)


def test_coordinate_systems_are_looked_at_only_where_nothing_brings_them_together(tmp_path: Path) -> None:
    write(squares(2), tmp_path / "a.gpkg", "a")
    moved = Layer("b", pa.table({"n": [1]}), shapely.points([[500_000, 5_200_000]]), "EPSG:32627")
    write(moved, tmp_path / "b.gpkg", "b")
    for more, looks in (({}, True), ({"section": "Chart"}, False), ({"crs": "EPSG:32626"}, False)):
        workflow = Workflow(title="T")
        workflow.path = tmp_path / "w.toml"
        workflow.save("out", workflow.load("in", files=["a.gpkg", "b.gpkg"]), to="out.gpkg", **more)
        found = [f.text for f in workflow.rehearse().findings if "different coordinate systems" in f.text]
        assert bool(found) is looks, more
