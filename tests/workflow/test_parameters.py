"""Parameters: types, limits, choices read from a layer, one that hangs on another, and edits that follow their names."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest

from eskret import Workflow, write
from eskret.errors import DocumentError
from eskret.workflow.model import choices, edits
from eskret.workflow.model.document import Document, parse
from eskret.workflow.model.parameters import ChoicesFrom, EnabledBy, Parameter, enabled, parameter_of
from tests.conftest import points

TEXT = """eskret = 1

[parameters.region]
type = "choice"
default = "north"
choices_from = { layer = "all:places", field = "region" }

[parameters.place]
type = "choice"
label = "Place"
default = "a"
choices_from = { layer = "all:places", field = "name", where = "region = $region" }

[parameters.widen]
type = "flag"
default = false

[parameters.by]
type = "measure"
default = "10 m"
enabled_by = { parameter = "widen", is = [true] }

[parameters.what]
type = "layer"
default = "all:places"

[[steps]]
id = "all"
use = "load"
files = ["places.gpkg"]

[[steps]]
id = "chosen"
use = "keep"
from = "$what"
where = "name = $place"

[[steps]]
id = "wide"
use = "buffer"
from = "chosen"
distance = { parameter = "by" }

[[steps]]
id = "saved"
use = "save"
from = "wide"
to = "out/{place}.gpkg"
"""


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    rows = {"name": ["a", "b", "c", None], "region": ["north", "north", "south", "south"], "n": [1, 2, 3, 4]}
    write(points(rows), tmp_path / "places.gpkg", "places")
    (tmp_path / "w.toml").write_text(TEXT)
    return tmp_path


def errors(folder: Path, **values: Any) -> list[str]:
    return [f.text for f in Workflow.read(folder / "w.toml").rehearse(**values).errors]


def test_choices_are_read_from_the_layer_and_hang_on_another_parameter(folder: Path) -> None:
    document = parse(TEXT)
    offered = choices.offers(document, {"region": "south"}, folder)
    assert offered["region"].choices == ("north", "south") and offered["place"].choices == ("c",)
    assert offered["what"].choices is None and not offered["by"].enabled
    assert offered["by"].why == "Only when 'Widen' is yes"
    assert errors(folder, place="b") == []
    assert errors(folder, place="c") == ["Parameter 'Place': 'c' is not one of the choices. It can be a, b."]
    assert errors(folder, region="south", place="c") == []
    assert "is not one of the choices. It can be north, south" in errors(folder, region="east")[0]


def test_a_parameter_that_does_not_count_has_the_files_value(folder: Path) -> None:
    document = parse(TEXT)
    assert document.values({"by": "99 m"})["by"] == "10 m"
    assert document.values({"by": "99 m", "widen": "yes"})["by"] == "99 m"
    with pytest.raises(DocumentError, match="parameter 'By': '3 apples'|'apples' is no unit"):
        document.values({"by": "3 apples", "widen": True})
    result = Workflow.read(folder / "w.toml").run(place="b", widen=True, by="2 m")
    area = result.layers["wide"][0].geometry
    assert area is not None and area[0].area == pytest.approx(3.14159 * 4, rel=0.01)


def test_a_layer_can_be_a_parameter(folder: Path) -> None:
    write(points({"name": ["z"], "region": ["south"]}), folder / "other.gpkg", "others")
    text = TEXT.replace('files = ["places.gpkg"]', 'files = ["places.gpkg", "other.gpkg"]').replace("name = $place", "true")
    (folder / "w.toml").write_text(text)
    result = Workflow.read(folder / "w.toml").run(what="all:others")
    assert [len(x) for x in result.layers["chosen"]] == [1]
    assert "names no layer that is there" in errors(folder, what="all:nothing")[0]
    assert "takes from 'nowhere', and there is no such step" in errors(folder, what="nowhere")[0]
    assert "names no layer yet" in errors(folder, what="")[0]


@pytest.mark.parametrize(
    ("change", "says"),
    [
        ({"choices_from": ChoicesFrom("gone:x", "a")}, "step 'gone', and there is no such step"),
        ({"choices_from": ChoicesFrom("chosen", "a")}, "step 'chosen', which does not load layers"),
        ({"choices_from": ChoicesFrom("all:places", "colour")}, "places has no field 'colour'. It has name, region, n"),
        ({"choices_from": ChoicesFrom("all:nothing", "name")}, "'all:nothing' names no layer that is there"),
        ({"enabled_by": EnabledBy("nothing")}, "hangs on 'nothing', and there is no such parameter"),
        ({"enabled_by": EnabledBy("place")}, "it hangs on itself"),
    ],
)
def test_what_cannot_be_is_told_at_the_parameter(folder: Path, change: dict[str, Any], says: str) -> None:
    document = parse(TEXT)
    place = replace(document.parameters[1], **change)
    workflow = Workflow.read(folder / "w.toml")
    workflow.document = edits.put_parameter(document, place)
    found = workflow.rehearse().errors
    assert says in found[0].text and found[0].setting == "parameter.place"
    offered = choices.offers(workflow.document, {}, folder)["place"]
    assert says in offered.problem or offered.choices is None or change.get("enabled_by") is not None


def test_choices_may_not_come_from_a_step_that_uses_them(folder: Path) -> None:
    (folder / "w.toml").write_text(TEXT.replace('files = ["places.gpkg"]', 'files = ["{place}s.gpkg"]'))
    assert any("which itself uses the parameter" in text for text in errors(folder))


def test_names_of_fields_can_be_the_choices(folder: Path) -> None:
    document = Document(
        parameters=(Parameter("f", "field", default="n", choices_from=ChoicesFrom("all:places")),), steps=parse(TEXT).steps[:1]
    )
    assert choices.offers(document, {}, folder)["f"].choices == ("name", "region", "n")


def test_a_name_is_followed_through_the_whole_file(folder: Path) -> None:
    renamed = edits.rename_parameter(parse(TEXT), "place", "spot")
    text = renamed.to_text()
    assert "[parameters.spot]" in text and 'where = "name = $spot"' in text and 'to = "out/{spot}.gpkg"' in text
    again = edits.rename_parameter(edits.rename_parameter(renamed, "region", "area"), "what", "these")
    assert 'where = "region = $area"' not in text and "$area" in again.to_text() and '"$these"' in again.to_text()
    assert edits.rename_parameter(again, "widen", "w").parameters[3].enabled_by == EnabledBy("w")
    for name, says in (("by", "there is a parameter 'by' already"), ("--", "leaves no name")):
        with pytest.raises(DocumentError, match=says):
            edits.rename_parameter(renamed, "spot", name)
    assert edits.uses_of(parse(TEXT), "place") == [("chosen", "where"), ("saved", "to")]
    assert edits.uses_of(parse(TEXT), "region") == [("", "place")] and edits.uses_of(parse(TEXT), "what") == [("chosen", "from")]


def test_a_parameter_taken_out_leaves_its_value(folder: Path) -> None:
    left = edits.remove_parameter(parse(TEXT), "by")
    assert left.step("wide").settings["distance"] == "10 m"
    left = edits.remove_parameter(left, "widen")
    assert [p.name for p in edits.move_parameter(left, "what", -1).parameters] == ["region", "what", "place"]
    assert [p.name for p in edits.move_parameter(left, "what", 5).parameters] == ["region", "place", "what"]


@pytest.mark.parametrize(
    ("table", "says"),
    [
        ({"choices_from": {"field": "x"}}, "'choices_from' must name a layer"),
        ({"choices_from": {"layer": "a", "hue": "x"}}, "'choices_from' knows no 'hue'"),
        ({"choices": [1], "choices_from": {"layer": "a"}}, "Leave one of them out"),
        ({"enabled_by": {"is": [1]}}, "'enabled_by' must name a parameter"),
        ({"min": True}, "'min' must be a number"),
        ({"type": "crs", "default": "EPSG:1"}, "EPSG:1"),
        ({"type": "measure", "default": "3"}, "names no unit"),
        ({"help": 1}, "'help' must be text"),
        ({"choices": "ab"}, "'choices' must be a list"),
    ],
)
def test_mistakes_in_the_file(table: dict[str, Any], says: str) -> None:
    with pytest.raises(DocumentError) as caught:
        parameter_of("x", table, "w.toml")
    assert says in caught.value.sentence() and "parameter" in caught.value.sentence()


def test_a_measure_may_be_a_speed_or_a_time_and_a_number_must_be_given() -> None:
    measure = Parameter("m", "measure")
    assert [measure.accept(v) for v in ("3 ha", "2 kn", "10 min", "")] == ["3 ha", "2 kn", "10 min", ""]
    with pytest.raises(DocumentError, match="it has no value yet. Give it one"):
        Parameter("n", "number").accept("")


def test_what_hangs_on_something_that_does_not_count_does_not_either() -> None:
    chain = (
        Parameter("a", "flag", default=False),
        Parameter("b", "flag", enabled_by=EnabledBy("a")),
        Parameter("c", enabled_by=EnabledBy("b")),
    )
    assert enabled(chain, "c", {"a": True, "b": True})
    assert not enabled(chain, "c", {"a": False, "b": True}) and not enabled(chain, "c", {"a": True, "b": False})
