"""The command line, as a person or a script calls it."""

from __future__ import annotations

import json
import os
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest
import typer
from typer.testing import CliRunner

from eskret import read
from eskret.cli import app
from eskret.demo.generate import make
from eskret.operations import all_operations


def call(*arguments: str | Path) -> tuple[int, str, str]:
    result = CliRunner().invoke(app, [str(a) for a in arguments])
    if result.exception is not None and not isinstance(result.exception, SystemExit):
        raise result.exception
    return result.exit_code, result.stdout, result.stderr


def test_run_prints_the_ledger_and_what_was_saved(project: Path) -> None:
    code, out, _ = call("run", project)
    assert code == 0
    assert "Keep marks_waypoints where desc LIKE 'Pile' || '%'" in out and "1 · does not meet the condition" in out
    assert "survey.gpkg, pile_marks_waypoints: 1 feature" in out and "▲ look" in out


def test_run_takes_values_and_writes_reports(project: Path, tmp_path: Path) -> None:
    code, out, _ = call("run", project, "--set", "kind=Buoy", "--report", tmp_path / "r" / "run.json", "--quiet")
    assert (code, out) == (0, "")
    told = json.loads((tmp_path / "r" / "run.json").read_text())
    assert set(told) >= {"state", "seconds", "steps", "outputs"}
    assert set(told["steps"][1]) >= {"id", "use", "state", "seconds", "inputs", "outputs", "remarks"}
    assert set(told["steps"][1]["inputs"][0]) >= {"setting", "layer", "rows", "used", "set_aside", "altered"}
    assert set(told["outputs"][0]) >= {"path", "layer", "features", "crs", "sha256"}
    assert told["values"] == {"kind": "Buoy"} and told["steps"][1]["outputs"][0]["totals"] == []
    assert call("run", project, "--set", "kind=<b>&", "--report", tmp_path / "run.html")[0] == 0
    page = (tmp_path / "run.html").read_text()
    assert (
        "&lt;b&gt;&amp;" in page
        and "<b>&" not in page
        and "http:" not in page
        and "https:" not in page
        and "does not meet the condition" in page
    )


def test_json_output(project: Path) -> None:
    code, out, _ = call("run", project, "--json")
    assert code == 0 and json.loads(out)["state"] == "look"
    code, out, _ = call("rehearse", project, "--json")
    assert code == 0 and json.loads(out)["outputs"][0]["action"] == "replace"
    code, out, _ = call("look", project.parent / "field", "--json")
    first = json.loads(out)["layers"][0]
    assert (first["layer"], first["features"], first["unit"]) == ("waypoints", 3, "degrees")


@pytest.mark.parametrize(
    ("arguments", "code", "says"),
    [
        (["--set", "kind"], 2, "has no value"),
        (["--set", "nope=1"], 2, "there is no parameter 'nope'. There are kind"),
        (["--if-exists", "perhaps"], 2, "It can be own, stop, replace, number, skip"),
        (["--report", "x.pdf"], 2, "Give it .json or .html"),
    ],
)
def test_wrong_usage(project: Path, arguments: list[str], code: int, says: str) -> None:
    got, _, err = call("run", project, *arguments)
    assert got == code and says in err
    assert not (project.parent / "out").exists()


def test_exit_codes_of_mistakes_and_failures(project: Path, tmp_path: Path) -> None:
    assert call("run", tmp_path / "no.toml")[0] == 2
    assert call("run", project)[0] == 0
    code, _, err = call("run", project, "--if-exists", "stop")
    assert code == 2 and "is there already" in err and "step 'archive'" in err
    project.write_text(project.read_text().replace("desc LIKE", "dsc LIKE"))
    code, out, _ = call("run", project, "--rehearse")
    assert code == 2 and "Did you mean 'desc'?" in out
    assert call("rehearse", project, "--quiet") == (2, "", "marks_waypoints: there is no field 'dsc'. Did you mean 'desc'?\n")
    missing = tmp_path / "no.gpkg"
    for words in (["look"], ["do", "outlines"], ["store"], ["undo"], ["unpack"], ["script"], ["trust"], ["pack"], ["publish"], ["open"]):
        code, _, err = call(*words, missing)
        assert code == 2 and ("there is no such " in err or "no change of it" in err), (words, err)
    for words in (["runs", "99999"], ["cache", "--limit", "much"], ["run", project, "--set", "kind"], ["follow", project]):
        assert call(*words)[0] == 2, words
    told = json.loads(call("store", missing, "--json")[1])
    assert told["state"] == "failed" and told["code"] == "not-there"


def test_a_slip_of_the_finger_is_met_with_what_was_meant(project: Path, demo: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(demo)
    meant = {
        "piles.toml": ("run", "pile.toml"),
        "register'": ("look", "regster"),
        "register/register.gpkg": ("do", "outlines", "register/registr.gpkg"),
        "'buffer'": ("do", "bufer", "register"),
        "clip or ": ("do", "crop", "register"),
        "'distance'": ("do", "buffer", "register/register.gpkg:lease_beds", "--distanse", "2 m"),
        "'kind'": ("run", "piles.toml", "--set", "knd=Buoy"),
    }
    for words, command in meant.items():
        code, _, err = call(*command)
        assert code == 2 and "Did you mean" in err and words in err, (command, err)


def test_operations_are_found_by_what_they_should_do() -> None:
    assert call("operations", "only", "some")[1].split()[0] == "keep"
    code, out, err = call("operations", "hillshade")
    assert code == 2 and not out and "Eskret has nothing for rasters" in err
    assert "Perhaps one of these helps" in call("operations", "isochrone")[1]
    assert json.loads(call("operations", "turn outlines into areas", "--json")[1])["found"][0]["id"] == "enclose"


def test_help_tells_codes_and_settings(demo: Path) -> None:
    assert "130 stopped" in call("-h")[1] and "--for-each" in call("run", "-h")[1]
    code, out, _ = call("do", "dissolve", "--help")
    assert code == 0 and "--figures" in out and "--if-exists" in out and "130 stopped" in out
    assert "OPERATION" in call("do")[1] == call("do", "--help")[1]


def test_every_command_speaks_to_machines(project: Path, tmp_path: Path) -> None:
    commands = typer.main.get_command(app).commands  # type: ignore[attr-defined]
    silent = {name for name, c in commands.items() if not any("--json" in p.opts for p in c.params)}
    assert silent == {"open"}, "all but the window"
    packed = json.loads(call("pack", project, "--out", tmp_path / "p.zip", "--json")[1])
    assert {p["name"] for p in packed["pieces"]} >= {project.name}
    assert json.loads(call("unpack", tmp_path / "p.zip", tmp_path / "there", "--json")[1])["workflow"].endswith(project.name)
    assert json.loads(call("new-operation", "Thin", "--project", tmp_path, "--json")[1])["written"].endswith("thin.py")
    assert json.loads(call("cache", "--json")[1])[0]["limit"] > 0
    assert "Workflow(" in json.loads(call("script", project, "--json")[1])["script"]
    assert json.loads(call("handbook", "--out", tmp_path / "book", "--json")[1])["operations"] > 50


def test_a_pipe_takes_and_gives_geojson(demo: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(demo)
    one = ("do", "take_rows", "register/register.gpkg:lease_beds", "--number", "2", "--out", "-")
    code, first, err = call(*one)
    assert code == 0 and "Take the first 2 rows" in err and "take_rows: 412 in, 2 out, 410 set aside, balanced" in err
    found = json.loads(first)
    assert [f["properties"]["lease"] for f in found["features"]] == ["OS-0101", "OS-0102"]
    done = CliRunner().invoke(app, ["do", "centre_points", "-", "-o", "-", "-q"], input=first)
    assert [f["geometry"]["type"] for f in json.loads(done.stdout)["features"]] == ["Point", "Point"] and not done.stderr
    code, out, err = call("do", "take_rows", "register/register.gpkg", "--number", "1", "-o", "-", "-q")
    assert code == 2 and not out and "layers came of it" in err
    assert call(*one, "--workflow", "w.toml")[0] == 2 and not (demo / "w.toml").exists()


def test_what_is_there_already_is_for_the_user_to_say(demo: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(demo)
    one = ("do", "take_rows", "register/register.gpkg:lease_beds", "--number", "2", "-q", "--out", "exports/x.gpkg")
    assert call(*one)[0] == 0
    assert call(*one, "--if-exists", "stop")[0] == 2
    assert call(*one, "--if-exists", "append")[0] == 0 and len(read(demo / "exports" / "x.gpkg")) == 4
    assert call(*one)[0] == 0 and len(read(demo / "exports" / "x.gpkg")) == 2
    # a new folder that nearly has the name of one that is there is told
    assert "Did you mean 'exports'?" in call(*one[:-1], "exprots/x.gpkg")[2]


def test_rehearse_foretells(project: Path) -> None:
    code, out, _ = call("rehearse", project)
    assert code == 0 and "Ready to run; nothing was written" in out
    assert "marks_waypoints.geojson (at most 3 features)" in out and "pile_marks_tracks (1 feature)" in out
    assert not (project.parent / "out").exists()


def test_look_says_what_is_there(demo: Path) -> None:
    code, out, err = call("look", demo / "register")
    assert code == 0 and err == ""
    assert "lease_beds  412 areas  EPSG:32626 WGS 84 / UTM zone 26N, m" in out
    assert "granted (date), worked (yes/no)" in out and "tonnes (whole number)" in out
    (demo / "register" / "bad.gpkg").write_text("x")
    code, out, err = call("look", demo / "register")
    assert code == 1 and "bad.gpkg" in err and "moorings" in out


def test_operations_are_explained_from_their_one_place() -> None:
    code, out, _ = call("operations")
    assert code == 0 and [line.split()[0] for line in out.splitlines() if line.startswith(" ")] == list(all_operations())
    code, out, _ = call("operations", "save")
    assert "If it is there already; else own" in out and "One of: own, stop, replace, number, skip" in out
    assert json.loads(call("operations", "keep", "--json")[1])[0]["settings"]["where"]["label"] == "Condition"
    assert call("operations", "fly")[0] == 2


def test_script_prints_python_that_writes_the_same_file(project: Path, tmp_path: Path) -> None:
    code, out, _ = call("script", project)
    assert code == 0
    (tmp_path / "build.py").write_text(out)
    subprocess.run([sys.executable, "build.py", "again.toml"], cwd=tmp_path, check=True)
    assert (tmp_path / "again.toml").read_bytes() == project.read_bytes()


def test_demo_makes_and_runs(tmp_path: Path) -> None:
    code, out, _ = call("demo", tmp_path / "d", "--run")
    assert code == 0 and "173" in out and "61" in out and "112" in out and "● balanced" in out
    first = {p.name: p.read_bytes() for p in (tmp_path / "d" / "field" / "2031-09").iterdir()}
    make(tmp_path / "e")  # the same again, byte for byte, and so is what is made of it
    assert call("run", tmp_path / "e" / "piles.toml", "-q")[0] == 0
    assert first == {p.name: p.read_bytes() for p in (tmp_path / "e" / "field" / "2031-09").iterdir()}
    web = ("d/out/pile_marks.geojson", "e/out/pile_marks.geojson")
    assert (tmp_path / web[0]).read_bytes() == (tmp_path / web[1]).read_bytes()


def test_without_a_display_it_says_so(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    for name in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM"):
        monkeypatch.delenv(name, raising=False)
    code, _, err = call("open", tmp_path)
    assert code == 1 and "There is no display here" in err and "eskret run FILE" in err


@pytest.mark.parametrize("after", [0.9, 1.6])
def test_interrupt_stops_with_130_and_leaves_outputs(project: Path, after: float) -> None:
    slow = " + ".join(f"list_sum(range(length(name) * 0 + {20_000_000 + n}))" for n in range(20)) + " > 0"
    project.write_text(project.read_text().replace("desc LIKE $kind || '%'", slow))
    while True:
        process = subprocess.Popen(
            [sys.executable, "-m", "eskret", "run", str(project)], stderr=subprocess.PIPE, env={**os.environ}, text=True
        )
        time.sleep(after)
        process.send_signal(signal.SIGINT)
        _, err = process.communicate(timeout=60)
        if process.returncode != -signal.SIGINT or after > 10:
            break
        after *= 2  # on a busy machine it had not begun
    assert process.returncode == 130, err
    assert "Stopped; nothing was written." in err
    assert not list(project.parent.glob("out/*"))


@pytest.mark.parametrize(("width", "titles"), [(150, 9), (100, 7), (80, 6)])
def test_the_ledger_fits_its_terminal(project: Path, monkeypatch: pytest.MonkeyPatch, width: int, titles: int) -> None:
    from rich.console import Console

    from eskret import terminal

    monkeypatch.setattr(terminal, "_console", lambda: Console(width=width, highlight=False))
    _, out, _ = call("rehearse", project)
    head = next(line for line in out.splitlines() if line.startswith("#"))
    known = ("#", "Step", "Layers", "In", "Out", "Set aside", "Control total", "Time", "State")
    assert sum(title in head for title in known) == titles
    figures = out.splitlines()[: out.splitlines().index(next(x for x in out.splitlines() if x.startswith("Will")))]
    assert all(len(line) <= width for line in figures) and "Keep marks_waypoints" in out


def test_names_that_look_like_markup_are_printed_as_they_are(tmp_path: Path) -> None:
    from eskret import write
    from tests.conftest import squares

    write(squares(1), tmp_path / "[red]x[_].gpkg", "[bold]a")
    code, out, _ = call("look", tmp_path)
    assert code == 0 and "[bold]a  1 area" in out and "[red]x[_].gpkg" in out


@pytest.mark.parametrize(("command", "code"), [("operations", 0), ("run gather.toml", 0), ("run none.toml", 2)])
def test_whoever_reads_may_leave_and_the_work_is_done_all_the_same(command: str, code: int, demo: Path) -> None:
    shutil.rmtree(demo / "out", ignore_errors=True)
    line = f'"$0" -m eskret {command} 2>&1 | true; exit "${{PIPESTATUS[0]}}"'
    done = subprocess.run(["bash", "-c", line, sys.executable], cwd=demo, capture_output=True, text=True)
    assert done.returncode == code and "Traceback" not in done.stderr
    assert (demo / "out").exists() == ("gather" in command)
