"""Features are followed: back to the records they came of, on to all that came of them, or to the step and reason that set them aside."""

from __future__ import annotations

import json
import re
import shutil
from pathlib import Path

import numpy as np
import pyarrow as pa
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st
from typer.testing import CliRunner

from eskret import Layer, Workflow, write
from eskret.cli import app
from eskret.core.accounts.account import SetAside
from eskret.errors import InputError
from eskret.operations import operation_by_id
from eskret.operations.base import Context
from eskret.operations.settings import validate
from eskret.workflow.model.edits import replace_step
from eskret.workflow.run.engine import Run
from eskret.workflow.run.links import RowLink, RowLinks, way
from tests.length import examples
from tests.test_cli import call

STEPS = """eskret = 1
title = "Beds"

[[steps]]
id = "loaded"
use = "load"
files = ["beds.gpkg", "area.gpkg", "landed.csv"]

[[steps]]
id = "some"
use = "keep"
from = "loaded:beds"
where = "t <> 3"

[[steps]]
id = "inside"
use = "clip"
from = "some"
to = "loaded:area"

[[steps]]
id = "joined"
use = "join_table"
from = "inside"
table = "loaded:landed"
key = "bed"

[[steps]]
id = "order"
use = "sort"
from = "joined"
by = ["t down"]

[[steps]]
id = "each"
use = "split"
from = "order"
by = ["licence"]

[[steps]]
id = "whole"
use = "dissolve"
from = "order"
by = ["licence"]
figures = { n = "count" }

[[steps]]
id = "out"
use = "save"
from = "whole"
to = "out/whole.gpkg"
"""


@pytest.fixture
def beds(tmp_path: Path) -> Workflow:
    """Twelve squares in a row in four licences, of which some are kept, cut, joined and put together."""
    x = np.arange(12) * 10.0
    table = pa.table({"bed": [f"B{n:02d}" for n in range(12)], "licence": [f"L{n % 4}" for n in range(12)], "t": np.arange(12)})
    layer = Layer("beds", table, shapely.box(x, 0, x + 10, 10), "EPSG:32626")
    area = Layer("area", pa.table({"name": ["west"]}), np.array([shapely.box(-5, -5, 75, 50)]), "EPSG:32626")
    write(layer, tmp_path / "beds.gpkg")
    write(area, tmp_path / "area.gpkg")
    (tmp_path / "landed.csv").write_text("bed,landed\n" + "".join(f"B{n:02d},{n * 100}\n" for n in range(12)))
    (tmp_path / "beds.toml").write_text(STEPS)
    return Workflow.read(tmp_path / "beds.toml")


def told(work: Workflow, name: str, where: str, **more: object) -> list[tuple[str, str, str]]:
    """Step, what became of it there, and the bed (or licence) of each row."""
    rows = work.follow(name, where, **more).table().to_pylist()  # type: ignore[arg-type]
    return [(r["by"] or r["id"], r["what"], json.loads(r["fields"]).get("bed") or json.loads(r["fields"])["licence"]) for r in rows]


def test_a_record_is_followed_to_all_that_came_of_it(beds: Workflow) -> None:
    assert told(beds, "beds", "bed = 'B05'", source=True) == [
        ("loaded", "asked for", "B05"),
        ("some", "became", "B05"),
        ("inside", "became", "B05"),
        ("joined", "became", "B05"),
        ("order", "became", "B05"),
        ("each", "became", "B05"),
        ("whole", "became", "L1"),
        ("out", "saved", "L1"),
    ]


def test_a_record_that_was_set_aside_ends_at_the_step_and_its_reason(beds: Workflow) -> None:
    rows = beds.follow("loaded:beds", "t IN (3, 10)").table().to_pylist()
    gone = {json.loads(r["fields"])["bed"]: (r["by"], r["reason"]) for r in rows if r["what"] == "set aside"}
    assert gone == {"B03": ("some", "does not meet the condition"), "B10": ("inside", "lies outside the area")}


def test_what_many_were_put_together_into_goes_back_to_all_of_them(beds: Workflow) -> None:
    rows = beds.follow("whole", "licence = 'L1'").table().to_pylist()
    of = [json.loads(r["fields"])["bed"] for r in rows if (r["id"], r["layer"]) == ("loaded", "beds")]
    assert of == ["B01", "B05"]  # B09 lies outside
    assert [json.loads(r["fields"])["landed"] for r in rows if (r["id"], r["layer"]) == ("loaded", "landed")] == [100, 500]
    assert [r["what"] for r in rows if r["id"] == "whole"] == ["asked for", "saved"]
    frame = beds.follow("whole", "licence = 'L1'").frame()
    assert list(frame.columns[:6]) == ["station", "step", "id", "layer", "row", "what"] and len(frame) == len(rows)


def test_it_is_told_in_words_and_as_json_on_the_command_line(beds: Workflow) -> None:
    assert beds.path is not None
    run = CliRunner()
    done = run.invoke(app, ["follow", str(beds.path), "--output", "joined", "--where", "bed = 'B05'"])
    assert done.exit_code == 0, done.output
    assert "<- asked for" in done.output and "changed: landed = 500" in done.output and "saved by step out" in done.output
    told = json.loads(run.invoke(app, ["follow", str(beds.path), "--source", "beds", "--where", "t = 3", "--json"]).output)
    assert told[-1]["what"] == "set aside" and told[-1]["by"] == "some"
    assert not (beds.path.parent / "out").exists()  # nothing is written
    for wrong, says in (
        (["--output", "nothing"], "there is no such step or layer"),
        (["--output", "joined", "--where", "bed = 'X'"], "no feature meets the condition"),
        (["--output", "loaded"], "it stands for 3 layers"),
        ([], "name either an output or a source"),
    ):
        done = run.invoke(app, ["follow", str(beds.path), *wrong])
        assert done.exit_code != 0 and says in done.output + str(done.stderr)


def test_every_lesson_of_the_demo_is_followed_from_end_to_end(demo: Path) -> None:
    ends = {"returns.toml": ("yield", "register"), "tracks.toml": ("strip", "field"), "district.toml": ("figures", "register")}
    for name, (end, start) in ends.items():
        shutil.copy(demo / name, demo / f"again-{name}")
        work = Workflow.read(demo / f"again-{name}")
        found = work.follow(end, rows=[0])
        first, last = found.stations[0], next(s for s in found.stations if s.here)
        assert first.place[0] == start and len(first.rows) >= 1 and last.place[0] == end, name
        back = work.follow(":".join(first.place), rows=first.rows[:1].tolist())
        assert any(s.place == last.place and 0 in s.rows for s in back.stations), name  # there and back again


def test_all_steps_of_the_demo_say_which_row_came_of_which(demo: Path) -> None:
    """But for those that report: what they leave are no features of what entered."""
    reports = {"check", "find_gaps", "compare", "tally", "draft_words", "grid", "load", "load_coordinates", "sketch", "fetch"}
    seen = set()
    for path in sorted(demo.glob("*.toml")):
        work, links = Workflow.read(path), RowLinks()
        Run(work.document, workflow=path, folder=demo, checked=True, figures_alone=(), links=links).execute()
        for id, some in links.by_step.items():
            use = work.document.step(id).use
            for link in (
                (one for one in some if one.pairs is None)
                if use not in reports and not use.startswith("own:") and use != "workflow"
                else ()
            ):
                seen.add(use)
                out, into = sum(n for _, n in link.leaving), sum(n for _, n in link.entering)
                assert (link.origin is None) != (link.into is None), (path.name, id, use)
                told = link.origin if link.origin is not None else link.into
                assert told is not None and len(told) == (out if link.origin is not None else into)
                assert told.max(initial=-1) < (into if link.origin is not None else out) and told.min(initial=0) >= -1
    assert len(seen) > 20


def test_that_a_way_ends_before_a_step_that_failed_is_told(beds: Workflow) -> None:
    beds.document = replace_step(beds.document, "whole", beds.document.step("whole").with_setting("figures", {"n": "sum nothing"}))
    found = beds.follow("order", "bed = 'B05'")
    assert found.left == ("whole",) and found.lines()[-1].startswith("Not followed through whole")
    assert beds.follow("some", rows=[0]).stations[-1].place[0] == "each"


def test_too_many_are_refused(beds: Workflow, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("eskret.workflow.faces.follow.MOST", 5)
    with pytest.raises(InputError, match="12 features are meant"):
        beds.follow("loaded:beds")


@given(st.lists(st.integers(0, 3), min_size=1, max_size=12), st.data())
@settings(max_examples=examples(60), deadline=None)
def test_back_and_on_are_each_others_opposite(groups: list[int], data: st.DataObject) -> None:
    """Whatever the links are: a row is found on the way on from each of the rows that are found on its way back."""
    n = len(groups)
    aside = data.draw(st.sets(st.integers(0, n - 1), max_size=n - 1))
    kept = np.array([r for r in range(n) if r not in aside], np.int64)
    order = np.array(data.draw(st.permutations(range(len(kept)))), np.int64)
    into = np.unique(np.array(groups)[kept[order]], return_inverse=True)[1]
    count = int(into.max()) + 1
    links = {
        "b": [RowLink("b", ((("a", "x"), n),), ((("b", "x"), len(kept)),), kept[order], None, (SetAside(),))],
        "c": [RowLink("c", ((("b", "x"), len(kept)),), ((("c", "x"), count),), None, into, (SetAside(),))],
    }
    for row in range(count):
        back = way(links, ["a", "b", "c"], ("c", "x"), np.array([row]))
        records = next(s for s in back if s.place == ("a", "x")).rows
        assert {groups[r] for r in records} == {groups[records[0]]} and not aside & set(records.tolist())
        for record in records.tolist():
            on = way(links, ["a", "b", "c"], ("a", "x"), np.array([record]))
            assert next(s for s in on if s.place == ("c", "x")).rows.tolist() == [row]


def test_a_way_is_written_as_a_page(demo: Path) -> None:
    """Each station with what changed there, the shape where it is another; a page that needs nothing else."""
    page = demo / "way.html"
    asked = ("follow", demo / "returns.toml", "--output", "ranked:lease_beds", "--where", "lease = 'OS-0120'")
    code, out, _ = call(*asked, "--report", page)
    assert code == 0
    text = page.read_text()
    heads = re.findall(r"<h2>(\d+) · ", text)
    assert heads == re.findall(r"^ {1,2}(\d+)  \S", out, re.MULTILINE) and text.count("<svg") == 1, "the shape is the same all along"
    assert "landed_per_ha</td><td>–</td>" in text and "← asked for" in text and "set aside, is the same as before" in text
    assert text.count("as before</small>") >= 3 and "saved by step out to out/returns.gpkg" in text
    code, _, error = call(*asked, "--report", demo / "way.txt")
    assert code == 1 and "ends in .html" in error


@pytest.mark.parametrize("several", ["first", "list", "sum", "repeat"])
@settings(max_examples=examples(25))
@given(left=st.lists(st.integers(0, 4), min_size=1, max_size=7), right=st.lists(st.integers(0, 4), min_size=1, max_size=7))
def test_the_other_side_of_a_join_is_followed(several: str, left: list[int], right: list[int]) -> None:
    """Back from each row that leaves to the rows of the table with its key, and on from each of these; what went nowhere says so."""
    beds = Layer("beds", pa.table({"k": left}), shapely.points([(i, 0.0) for i in range(len(left))]), "EPSG:32626")
    table = Layer("landings", pa.table({"k": right, "t": [float(2**n) for n in range(len(right))]}))
    operation = operation_by_id("join_table")
    model = validate(operation.Settings, {"table": "x", "key": "k", "fields": ["t"], "several": several})
    outcome = operation.run(beds, model, Context(step="j", others={"table": [table]}))  # type: ignore[attr-defined]
    links = RowLinks()
    links.record("j", [beds.with_provenance("a")], [outcome], {"table": [table.with_provenance("b")]})
    out = outcome.layers[0].table.to_pylist()
    order, key = ["a", "b", "j"], {n: [i for i, k in enumerate(right) if k == n] for n in range(5)}
    for row, told in enumerate(out):
        stations = way(links.by_step, order, ("j", "beds"), np.array([row]))
        came = next((s.rows.tolist() for s in stations if s.place == ("b", "landings")), [])
        fitting = key[told["k"]]
        if several == "repeat":
            assert [2.0**n for n in came] == ([told["t"]] if fitting else [])
        else:
            assert came == (fitting[:1] if several == "first" else fitting)
    for row, k in enumerate(right):
        stations = way(links.by_step, order, ("b", "landings"), np.array([row]))
        became = {r for s in stations if s.place == ("j", "beds") for r in s.rows.tolist()}
        reasons = [s.reason for s in stations if s.reason]
        if several == "first" and key[k][0] != row:
            assert not became and len(reasons) == 1
        elif k not in left:
            assert not became and reasons == ["no feature has its key"]
        else:
            assert {out[r]["k"] for r in became} == {k} and not reasons


def test_what_lies_in_it_is_followed_by_place(tmp_path: Path) -> None:
    """Counted in areas, joined by place, nearest: from a mark to the beds that have something of it, and back."""
    beds = Layer("beds", pa.table({"bed": ["a", "b"]}), np.array([shapely.box(0, 0, 10, 10), shapely.box(20, 0, 30, 10)]), "EPSG:32626")
    marks = Layer("marks", pa.table({"m": [1, 2, 3, 4]}), shapely.points([(1.0, 1), (2, 2), (21, 1), (50, 1)]), "EPSG:32626")
    write(beds, tmp_path / "beds.gpkg", "beds")
    write(marks, tmp_path / "marks.gpkg", "marks")
    workflow = Workflow("w")
    workflow.load("in", files=[str(tmp_path / "beds.gpkg"), str(tmp_path / "marks.gpkg")])
    workflow.count_in_areas("counted", "in:beds", other="in:marks")
    workflow.join_by_place("joined", "in:beds", other="in:marks", several="list")
    workflow.nearest("near", "in:marks", other="in:beds", within="5 m")
    for use in ("counted", "joined"):
        told = workflow.follow(f"{use}:beds", where="bed = 'a'").table().to_pylist()
        assert sorted(r["row"] for r in told if r["layer"] == "marks") == [1, 2], use
    told = workflow.follow("in:marks", where="m >= 3", source=True).table().to_pylist()
    assert {(r["id"], r["row"]) for r in told if r["what"] == "became"} == {("counted", 2), ("joined", 2), ("near", 3), ("near", 4)}
    assert {(r["by"], r["row"]) for r in told if r["what"] == "set aside"} == {("counted", 4), ("joined", 4)}
    told = workflow.follow("in:beds", where="bed = 'b'", source=True).table().to_pylist()
    assert ("near", 3) in {(r["id"], r["row"]) for r in told if r["what"] == "became"}
