"""Runs of earlier: kept with what they were given, made and left; found, compared, run again."""

from __future__ import annotations

import json
import shutil
import sqlite3
from pathlib import Path
from typing import Any

import pytest
from typer.testing import CliRunner

from eskret import Workflow, read, write
from eskret.cli import app
from eskret.errors import InputError
from eskret.workflow.history import runs as kept
from eskret.workflow.history.comparison import DIFFERS, GONE, NEW, SAME, compare, difference, keys_for
from eskret.workflow.history.runs import Runs, output_now
from eskret.workflow.model import document
from tests.conftest import points

TEXT = """eskret = 1
title = "Häuser"

[parameters.least]
type = "number"
default = 3

[[steps]]
id = "in"
use = "load"
files = ["places.gpkg"]

[[steps]]
id = "some"
use = "keep"
from = "in"
where = "n >= $least"

[[steps]]
id = "out"
use = "save"
from = "some"
to = "out/all.gpkg"

[[steps]]
id = "web"
use = "save"
from = "some"
to = "out/{layer}.geojson"
"""


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    write(points({"n": list(range(10)), "id": list("abcdefghij")}), tmp_path / "places.gpkg", "places")
    (tmp_path / "w.toml").write_text(TEXT)
    return tmp_path


def cli(*words: object) -> Any:
    done = CliRunner().invoke(app, [str(w) for w in words])
    assert done.exit_code == 0, done.output
    return done.output


def test_a_run_is_kept_with_all_that_came_of_it(folder: Path) -> None:
    cli("run", folder / "w.toml", "--set", "least=5", "-q")
    Workflow.read(folder / "w.toml").run()
    by_python, by_command = Runs().find()
    assert (by_python.how, by_command.how) == (kept.PYTHON, kept.COMMAND)
    assert by_command.title == "Häuser" and by_command.file == "w.toml" and by_command.features == 10
    whole = Runs().get(by_command.id)
    assert whole.told["values"] == {"least": 5} and whole.kept.given == {"least": 5} and whole.kept.state == "balanced"
    assert whole.document == document.read(folder / "w.toml")
    assert [o.name for o in whole.outputs] == ["all.gpkg, places", "places.geojson"]
    # the features are those of then, though the file holds others by now
    for output in whole.outputs:
        layer = Runs().layer(by_command.id, output)
        assert layer is not None and layer.load().table.column("n").to_pylist() == [5, 6, 7, 8, 9]
    assert read(folder / "out" / "all.gpkg", "places").table.num_rows == 7
    assert Runs().versions()[by_command.workflow] == {by_command.version: 1}
    with pytest.raises(InputError, match="there is no run 99"):
        Runs().get(99)


def test_runs_are_found_by_words(folder: Path) -> None:
    text = TEXT.replace("out/all.gpkg", "out/all_{least}.gpkg").replace("{layer}.geo", "{layer}_{least}.geo")
    (folder / "w.toml").write_text(text)
    cli("run", folder / "w.toml", "--for-each", "least=1,2,8", "-q")
    (folder / "other.toml").write_text(TEXT.replace("Häuser", "100 % of_it").replace("out/all", "out/some"))
    cli("run", folder / "other.toml", "-q")
    found = Runs().find()
    assert [r.label for r in found] == ["", "8", "2", "1"] and len({r.batch for r in found[1:]}) == 1
    assert [r.id for r in Runs().find("häuser")] == [r.id for r in found[1:]]
    assert [r.id for r in Runs().find("% of_")] == [found[0].id] and not Runs().find("% ofxit")
    assert [r.id for r in Runs().find("some.gpkg")] == [found[0].id]
    assert len(Runs().find(workflow=folder / "other.toml")) == 1 and len(Runs().find(most=2)) == 2
    assert all(o.sha256 for r in found for o in Runs().get(r.id).outputs)
    cli("runs", found[0].id, "--forget")
    assert [r.label for r in Runs().find()] == ["8", "2", "1"]
    assert "Häuser" in cli("runs", "--search", "häuser") and "No run is known" in cli("runs", "--search", "xyz")


def test_two_runs_are_compared(folder: Path) -> None:
    cli("run", folder / "w.toml", "-q")
    shutil.copy(folder / "places.gpkg", folder / "then.gpkg")
    (folder / "places.gpkg").unlink()
    table = {"n": [0, 1, 2, 3, 40, 5, 6, 7, 8, 9, 10], "id": list("abcdefghijk")}
    write(points(table), folder / "places.gpkg", "places")
    text = TEXT.replace('to = "out/{layer}.geojson"', 'to = "out/{layer}.csv"')
    (folder / "w.toml").write_text(text)
    cli("run", folder / "w.toml", "--set", "least=4", "-q")
    runs = Runs()
    a, b = runs.get(1), runs.get(2)
    found = compare(a, b, runs)
    assert found.values == (("least", "3", "4"),) and found.text == (
        ' from = "some"',
        '-to = "out/{layer}.geojson"',
        '+to = "out/{layer}.csv"',
    )
    assert [s.id for s in found.steps if s.differs] == ["in", "some"]
    assert [(o.name, o.state, o.shown) for o in found.outputs] == [
        ("all.gpkg, places", DIFFERS, True),
        ("places.csv", NEW, False),
        ("places.geojson", GONE, False),
    ]
    outcome, keys, key = difference(runs, a, b, a.outputs[0].path, "places")
    assert keys == ["n", "id"] and key == "n"
    outcome, _, _ = difference(runs, a, b, a.outputs[0].path, "places", "id")
    kinds = outcome.layers[0].table.column(0).to_pylist()
    assert {k: kinds.count(k) for k in set(kinds)} == {"added": 1, "removed": 1, "changed": 1}
    told = json.loads(cli("runs", 1, 2, "--json"))
    assert told["outputs"][0] == {"name": "all.gpkg, places", "state": DIFFERS, "added": 2, "changed": 0, "removed": 2}
    assert "least: 3 → 4" in cli("runs", 2, 1)  # whichever is named first, the earlier one is
    cli("runs", 1, "--again")
    assert [o.state for o in compare(a, runs.get(3), runs).outputs] == [DIFFERS, DIFFERS]
    (folder / "places.gpkg").unlink()
    (folder / "then.gpkg").rename(folder / "places.gpkg")
    cli("runs", 1, "--again")
    assert [o.state for o in compare(a, runs.get(4), runs).outputs] == [SAME, SAME]
    assert runs.get(4).told["values"] == {"least": 3}
    # once features are let go of, figures stay
    shutil.rmtree(runs.folder / "runs" / "1")
    assert not compare(a, b, runs).outputs[0].shown
    with pytest.raises(InputError, match="not kept any more"):
        difference(runs, a, b, a.outputs[0].path, "places")


def test_keys_are_fields_that_tell_features_apart() -> None:
    layer = points({"k": [1, 2], "same": [1, 1], "none": [1, None], "x": [0.5, 1.5]})
    assert keys_for(layer, layer) == ["k"]


def test_what_is_told_of_an_output_now(folder: Path) -> None:
    cli("run", folder / "w.toml", "-q")
    one, web = Runs().get(1).outputs
    assert output_now(Path(one.path), one.layer, one.content) == "same" == output_now(Path(web.path), "", web.sha256)
    Path(web.path).write_text("{}")
    assert output_now(Path(web.path), "", web.sha256) == "changed"
    assert output_now(Path(one.path), "other", one.content) == "gone" == output_now(folder / "none.csv", "", "")


def test_a_failing_run_is_kept_and_a_missing_place_is_no_harm(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (folder / "bad.toml").write_text(TEXT + '\n[[steps]]\nid = "test"\nuse = "check"\nfrom = "in"\nthat = "condition"\nwhere = "n < 4"\n')
    assert CliRunner().invoke(app, ["run", str(folder / "bad.toml"), "-q"]).exit_code == 3
    whole = Runs().get(1)
    assert whole.kept.state == "failed" and "n < 4" in whole.kept.error and not whole.outputs
    monkeypatch.setattr(kept, "data_place", lambda *a: folder / "w.toml")  # a file, where a folder should be
    done = CliRunner().invoke(app, ["run", str(folder / "w.toml"), "-q"])
    assert done.exit_code == 0 and "cannot be written down" in done.output
    assert Runs().find() == []


def test_room_is_made_for_features(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    for least in (1, 2, 3):
        cli("run", folder / "w.toml", "--set", f"least={least}", "-q")
    homes = sorted((Runs().folder / "runs").iterdir())
    size = sum({p.stat().st_ino: p.stat().st_size for p in homes[-1].rglob("*") if p.is_file()}.values())
    monkeypatch.setattr(kept, "ROOM", int(size * 1.5))
    cli("run", folder / "w.toml", "--set", "least=4", "-q")
    left = [r.id for r in Runs().find() if Runs().layer(r.id, Runs().get(r.id).outputs[0]) is not None]
    assert left == [4] and len(Runs().find()) == 4


def test_a_run_is_written_down_without_looking_through_all_others(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    looked: list[str] = []
    walk = Path.rglob
    for least in (1, 2, 2, 3):
        cli("run", folder / "w.toml", "--set", f"least={least}", "-q")
    with monkeypatch.context() as patch:
        patch.setattr(Path, "rglob", lambda self, pattern: looked.append(self.name) or walk(self, pattern))
        cli("run", folder / "w.toml", "--set", "least=4", "-q")
    homes = Runs().folder / "runs"
    assert [n for n in looked if n.isdigit()] == ["5"] and len(list(homes.iterdir())) == 5

    def there() -> int:
        return sum({p.stat().st_ino: p.stat().st_size for p in homes.rglob("*") if p.is_file()}.values())

    def told() -> int:
        with sqlite3.connect(Runs().folder / "runs.sqlite") as db:
            return int(db.execute("SELECT bytes FROM room").fetchone()[0])

    assert told() == there() > 0
    Runs().remove([2, 4])  # the third has the same features as the second
    assert told() == there() > 0


def test_a_share_that_changed_is_told_side_by_side(folder: Path) -> None:
    (folder / "m.toml").write_text(
        TEXT.replace('use = "keep"', 'use = "flag"\nfield = "far"').replace('title = "Häuser"', 'title = "Marks"'), encoding="utf-8"
    )
    cli("run", folder / "m.toml", "--set", "least=3", "-q")
    cli("run", folder / "m.toml", "--set", "least=5", "-q")
    told = " ".join(CliRunner().invoke(app, ["runs", "1", "2"], env={"COLUMNS": "160"}).output.split())
    assert "far 70.00 % → far 50.00 %" in told
    figures = json.loads(CliRunner().invoke(app, ["runs", "1", "2", "--json"]).output)["steps"]
    assert [s["later"]["total"] for s in figures if s["id"] == "some"] == ["far 50.00 %"]
