"""Styles in a workflow: kept in its file, found along a layer's line, carried where the layer goes."""

from __future__ import annotations

from pathlib import Path

import geopandas as gpd
import pytest
import shapely
from typer.testing import CliRunner

from eskret import Workflow
from eskret.cli import app
from eskret.core.style.style import CLASSES, VALUES, Style, style_of
from eskret.demo.generate import make
from eskret.errors import DocumentError
from eskret.operations import all_operations
from eskret.workflow.faces.script import to_script
from eskret.workflow.model import edits, styles
from eskret.workflow.model.document import Document, parse
from eskret.workflow.model.map_spec import MapSaid, OnMap
from eskret.workflow.run.engine import Run

TEXT = """eskret = 1
title = "Styled"

[[steps]]
id = "register"
use = "load"
files = ["a.gpkg"]

  [steps.style.beds]
  by = "classes"
  field = "tonnes"
  method = "own"
  breaks = [1, 2.5]
  ramp = "kelp"

[[steps]]
id = "some"
use = "keep"
from = "register"
where = "tonnes > 1"

  # what the office prints
  [steps.style."b*"]
  by = "values"
  field = "district"
  colours = { North = "#112233", "A / B" = "#445566" }
  label = "district"

[map]
lines = "degrees"
layers = [
    { step = "register", layer = "beds", over = true },
    { file = "chart/islands.geojson", off = true, style = { colour = "#D9CFB8" } },
]
"""


def test_the_file_and_the_script_keep_styles_and_the_map_to_the_byte(tmp_path: Path) -> None:
    document = parse(TEXT)
    assert document.to_text() == TEXT
    assert document.step("register").style["beds"] == Style(CLASSES, field="tonnes", method="own", breaks=(1, 2.5), ramp="kelp")
    assert document.map.layers[1] == OnMap(file="chart/islands.geojson", off=True, style=Style(colour="#D9CFB8"))
    script = to_script(document, str(tmp_path / "again.toml"))
    exec(compile(script.replace("sys.argv[1] if len(sys.argv) > 1 else ", ""), "script", "exec"), {"__name__": "x"})
    assert (tmp_path / "again.toml").read_text() == TEXT


@pytest.mark.parametrize(
    ("old", "new", "problem"),
    [
        ('ramp = "kelp"', 'ramp = "sunset"', "step 'register', style: 'ramp' cannot be 'sunset'"),
        ('lines = "degrees"', 'lines = "many"', "map: 'lines' cannot be 'many'"),
        ("over = true", 'over = "yes"', "over and off are true or false"),
        ('step = "register", layer', 'step = "register", file = "x", layer', "one of a step or one of a file"),
        ("off = true, style", "hidden = true, style", "a layer is not told as it should be"),
        ('"#D9CFB8"', '"sand"', "map: 'sand' is no colour"),
        ('lines = "degrees"', 'rows = "degrees"', "'rows' is not known here"),
    ],
)
def test_what_cannot_be_is_named_with_its_place(old: str, new: str, problem: str) -> None:
    assert old in TEXT
    with pytest.raises(DocumentError) as caught:
        parse(TEXT.replace(old, new))
    assert problem in caught.value.sentence()


def test_edits_follow_steps() -> None:
    renamed = edits.rename_step(parse(TEXT), "register", "leases")
    assert renamed.map.layers[0].step == "leases" and renamed.step("leases").style
    removed = edits.remove_step(parse(TEXT), "register")
    assert [x.file for x in removed.map.layers] == ["chart/islands.geojson"]
    # a layer is on the map once, where it was put first
    twice = styles.put_on_map(Document(), [OnMap(step="a", layer="x"), OnMap(step="b"), OnMap(step="a", layer="x", off=True)])
    assert twice.map.layers == (OnMap(step="a", layer="x"), OnMap(step="b"))
    assert not MapSaid() and MapSaid(lines="none")


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    squares = [shapely.box(n * 10, 0, n * 10 + 8, 8) for n in range(6)]
    beds = gpd.GeoDataFrame({"d": list("aabbcc"), "n": range(6)}, geometry=squares, crs="EPSG:32626")
    beds.to_file(tmp_path / "beds.gpkg", layer="beds")
    marks = gpd.GeoDataFrame({"k": [1, 2]}, geometry=gpd.points_from_xy([1, 12], [1, 1]), crs="EPSG:32626")
    marks.to_file(tmp_path / "beds.gpkg", layer="marks")
    return tmp_path


def lines_of(workflow: Workflow, folder: Path) -> dict[str, dict[str, tuple[tuple[str, str], ...]]]:
    result = Run(workflow.document, folder=folder, hold=True).execute()
    assert result.state in ("balanced", "look"), result.error
    return {id: {x.key: x.provenance for x in layers} for id, layers in result.layers.items()}


def test_a_layer_keeps_its_line_through_all_that_happens_to_it(folder: Path) -> None:
    flow = Workflow()
    both = flow.load("register", files=["beds.gpkg"])
    kept = flow.keep("kept", both["beds"], where="n < 5", off=True)
    pieces = flow.split("pieces", kept, by=["d"])
    joined = flow.merge("joined", [pieces["a"], pieces["c"]])
    flow.find_gaps("gaps", flow.outlines("edges", joined))
    found = lines_of(flow, folder)
    assert found["register"]["beds"] == (("register", "beds"),)
    assert found["kept"]["beds"] == found["register"]["beds"], "a step that is off is not on the way"
    assert found["pieces"]["b"] == (("pieces", "b"), ("register", "beds"))
    assert found["joined"]["joined"] == (("joined", "joined"), ("pieces", "a"), ("register", "beds"))
    document = flow.document
    blue, green = Style(colour="#0000FF"), Style(VALUES, field="d", colours={"a": "#00FF00"})
    register = styles.with_style(document.step("register"), "beds", blue)
    document = edits.replace_step(document, "register", register)
    line = found["joined"]["joined"]
    assert styles.style_for(document, line) == blue, "what is said where it came in holds"
    document = edits.replace_step(document, "pieces", styles.with_style(document.step("pieces"), "*", green))
    assert styles.style_for(document, line) == green, "what is said nearer holds instead"
    assert styles.style_for(document, found["register"]["marks"]) == Style()
    assert styles.style_for(document, found["gaps"]["joined"]).label == "gap_m", "an operation proposes"
    assert styles.begins(document, line) == ("register", "beds")
    assert styles.said_at(document.step("pieces"), "b") == "*"
    assert not styles.with_style(document.step("pieces"), "*", None).style


def test_operations_propose_how_what_they_leave_is_drawn() -> None:
    flow = Workflow()
    flow.pace("pace", (), by=["file"], unit="m/s")
    flow.compare("differences", (), earlier="x", key=["k"])
    speed = styles.proposed(flow.steps[0])
    assert speed is not None and (speed.by, speed.field) == (CLASSES, "speed_ms")
    kinds = styles.proposed(flow.steps[1])
    assert kinds is not None and list(kinds.colours) == ["added", "changed", "removed"]


ODD = [{}, {"unit": "mph", "by": 3, "field": {"parameter": "x"}, "earlier": ["a"], "up_to": None, "key": "k"}, {"unit": ["kn"]}]


@pytest.mark.parametrize("settings", ODD, ids=["none", "odd", "list"])
def test_no_operation_stumbles_over_settings_when_it_says_how_to_draw(settings: dict[str, object]) -> None:
    for operation in all_operations().values():
        found = operation.default_style(settings)
        assert found is None or style_of(found.to_table()) == found, operation.id


def test_what_operations_propose_fits_what_they_leave(tmp_path: Path) -> None:
    """The fields that a proposed style names are there in the layers the lessons make."""
    home = make(tmp_path / "sound")
    seen = set()
    for name in ("breakwater.toml", "tracks.toml", "returns.toml"):
        flow = Workflow.read(home / name)
        result = flow.run()
        for step in flow.steps:
            style = styles.proposed(step)
            for layer in result.layers.get(step.id, ()) if style is not None else ():
                assert {style.field, style.label} - {""} <= set(layer.table.column_names)
                seen.add(step.use)
    assert seen == {"find_gaps", "pace", "compare"}


def test_a_style_that_cannot_be_stops_nothing_else_but_is_told_on_the_command_line(folder: Path) -> None:
    load = '[[steps]]\nid = "in"\nuse = "load"\nfiles = ["beds.gpkg"]\n'
    good = f'eskret = 1\n\n{load}\n  [steps.style.beds]\n  by = "values"\n  field = "d"\n'
    (folder / "w.toml").write_text(good)
    ran = CliRunner().invoke(app, ["run", str(folder / "w.toml"), "--quiet"])
    assert ran.exit_code == 0
    (folder / "w.toml").write_text(good.replace('"values"', '"value"'))
    told = CliRunner().invoke(app, ["run", str(folder / "w.toml"), "--quiet"])
    assert told.exit_code == 2 and "step 'in', style: 'by' cannot be 'value'" in " ".join(told.stderr.split())


def test_styles_change_no_result_and_no_digest(folder: Path) -> None:
    flow = Workflow()
    flow.path = folder / "w.toml"
    loaded = flow.load("in", files=["beds.gpkg"])
    flow.save("out", loaded["beds"], to="out.gpkg")
    flow.write()
    plain = flow.run()
    flow.document = edits.replace_step(
        flow.document, "in", styles.with_style(flow.document.step("in"), "*", Style(colour="#112233", label="d"))
    )
    flow.write()
    drawn = flow.run()
    assert [o.content for o in plain.outputs] == [o.content for o in drawn.outputs] and drawn.outputs[0].content
