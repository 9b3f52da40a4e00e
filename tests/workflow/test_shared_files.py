"""Files that others have open, write and kill runs over: nothing of theirs is lost, nothing is half, nothing is told wrong.

Everything goes through the real command line, in processes of their own where that is what matters.
"""

from __future__ import annotations

import json
import os
import signal
import sqlite3
import stat
import subprocess
import sys
import time
from collections.abc import Callable
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest

from eskret.formats import geopackage, sources
from eskret.formats.geopackage import triggers
from eskret.user_operations.trust import trust
from tests.conftest import squares

ESKRET = [sys.executable, "-m", "eskret"]

WORKFLOW = """eskret = 1
title = "Beds"

[[steps]]
id = "in"
use = "load"
files = ["in/{source}.gpkg"]

[[steps]]
id = "out"
use = "save"
from = "in"
to = "{to}"
name = "{name}"
if_exists = "{policy}"
"""

MEDDLE = '''
import subprocess, sys, time
from pathlib import Path
import eskret

@eskret.operation(title="Meddle")
def meddle(frame):
    """Somebody else at work while the steps run: what it does is in a file beside the project."""
    home = Path(__file__).parents[1]
    until = time.monotonic() + 20
    while not list((home / "out").glob(".eskret-*")) and time.monotonic() < until:
        time.sleep(0.01)
    time.sleep(0.3)
    script = home / "enemy.py"
    if script.exists():
        subprocess.run([sys.executable, str(script)], check=True)
        script.rename(home / "enemy.done")
    return frame
'''


def call(*arguments: object, cwd: Path, code: int | None = 0) -> subprocess.CompletedProcess[str]:
    done = subprocess.run([*ESKRET, *map(str, arguments)], cwd=cwd, capture_output=True, text=True, timeout=120)
    assert "Traceback" not in done.stderr, done.stderr
    assert code is None or done.returncode == code, (done.returncode, done.stdout, done.stderr)
    return done


def start(*arguments: object, cwd: Path) -> subprocess.Popen[str]:
    return subprocess.Popen([*ESKRET, *map(str, arguments)], cwd=cwd, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)


def project(
    home: Path,
    *,
    count: int = 60,
    to: str = "out/all.gpkg",
    name: str = "beds",
    policy: str = "own",
    file: str = "w.toml",
    meddling: bool = False,
) -> Path:
    """A workflow that saves a layer of so many areas."""
    source = home / "in" / f"{Path(file).stem}.gpkg"
    source.parent.mkdir(parents=True, exist_ok=True)
    source.unlink(missing_ok=True)
    with geopackage.writing(source) as container:
        container.add(squares(count, key="beds"), "beds")
    text = WORKFLOW.format(source=Path(file).stem, to=to, name=name, policy=policy)
    if meddling:
        text += '\n[[steps]]\nid = "other"\nuse = "own:meddle"\nfrom = "in"\n'
        (home / "operations").mkdir(exist_ok=True)
        (home / "operations" / "meddle.py").write_text(MEDDLE)
        trust(home)
    path = home / file
    path.write_text(text)
    (home / "out").mkdir(exist_ok=True)
    return path


def theirs(path: Path, rows: int = 3) -> None:
    """A GeoPackage of somebody else's with a layer and a table that is no layer."""
    with geopackage.writing(path) as container:
        container.add(squares(rows, key="theirs"), "theirs")
    with closing(sqlite3.connect(path)) as db, db:
        db.execute("CREATE TABLE notes (t TEXT)")


def sound(path: Path) -> sqlite3.Connection:
    db = sqlite3.connect(path)
    assert db.execute("PRAGMA integrity_check").fetchall() == [("ok",)]
    assert db.execute("PRAGMA foreign_key_check").fetchall() == []
    return db


def layers(path: Path) -> dict[str, int]:
    return {e.name: e.rows for e in geopackage.entries(path)}


def left_behind(home: Path, own_data: Path) -> list[str]:
    """What a commit should not leave: staged files, marks, journals, locks."""
    return [str(p) for p in home.rglob(".eskret-*")] + [str(p) for p in own_data.glob("transactions/*")]


@pytest.mark.parametrize("mode", ["wal", "delete"])
def test_a_file_that_another_program_has_open_is_changed_where_it_is(tmp_path: Path, own_data: Path, mode: str) -> None:
    """Written idle beside us in either journal mode: both go on, nobody's rows are lost, the mode stays."""
    workflow, path = project(tmp_path), tmp_path / "out" / "all.gpkg"
    theirs(path)
    editor = sqlite3.connect(path, isolation_level=None)
    triggers.know_shapes(editor)
    editor.execute(f"PRAGMA journal_mode = {mode}").fetchall()
    editor.execute("INSERT INTO notes VALUES ('before')")
    inode = path.stat().st_ino
    call("run", workflow, cwd=tmp_path)
    assert path.stat().st_ino == inode
    editor.execute("INSERT INTO notes VALUES ('after')")
    editor.execute("DELETE FROM beds WHERE fid = 1")
    assert editor.execute("PRAGMA journal_mode").fetchone() == (mode,)
    editor.close()
    with closing(sound(path)) as db:
        assert db.execute("SELECT t FROM notes").fetchall() == [("before",), ("after",)]
        assert db.execute("SELECT rtreecheck('rtree_beds_geom')").fetchone() == ("ok",)
    assert layers(path) == {"theirs": 3, "beds": 59} and len(sources.read(path, "beds", "beds").layer) == 59
    assert left_behind(tmp_path, own_data) == []


def test_what_an_idle_program_has_open_is_not_renamed_over_even_if_all_of_it_is_ours(tmp_path: Path) -> None:
    workflow, path = project(tmp_path), tmp_path / "out" / "all.gpkg"
    call("run", workflow, cwd=tmp_path)
    with closing(sqlite3.connect(path)) as reader:
        reader.execute("SELECT count(*) FROM beds").fetchone()
        project(tmp_path, count=70)
        call("run", workflow, cwd=tmp_path)
        assert reader.execute("SELECT count(*) FROM beds").fetchone() == (70,)
    project(tmp_path, count=80)
    inode = path.stat().st_ino
    call("run", workflow, cwd=tmp_path)
    assert layers(path) == {"beds": 80} and path.stat().st_ino != inode, "nobody has it open: a new file is faster"


def test_an_idle_reader_in_the_way_of_a_commit_is_told_and_nothing_is_written(tmp_path: Path, own_data: Path) -> None:
    workflow, path = project(tmp_path), tmp_path / "out" / "all.gpkg"
    theirs(path)
    with closing(sqlite3.connect(path, isolation_level=None)) as editor:
        editor.execute("BEGIN IMMEDIATE")
        done = call("run", workflow, cwd=tmp_path, code=None)
        assert done.returncode in (1, 2) and "another program holds this GeoPackage" in done.stderr
    assert layers(path) == {"theirs": 3} and left_behind(tmp_path, own_data) == []


def test_the_journal_of_a_killed_program_is_rolled_back_and_its_file_not_called_unsound(tmp_path: Path) -> None:
    path = tmp_path / "a.gpkg"
    theirs(path)
    script = (
        f"import sqlite3, os; db = sqlite3.connect({str(path)!r}, isolation_level=None); db.execute('PRAGMA cache_size = 1');"
        "db.execute('BEGIN'); db.executemany('INSERT INTO notes VALUES (?)', [('x' * 3000,)] * 500); os.kill(os.getpid(), 9)"
    )
    assert subprocess.run([sys.executable, "-c", script]).returncode == -signal.SIGKILL
    assert (tmp_path / "a.gpkg-journal").stat().st_size > 0
    told = json.loads(call("look", path, "--json", cwd=tmp_path).stdout)
    assert [(x["layer"], x["features"]) for x in told["layers"]] == [("theirs", 3)]
    with closing(sound(path)) as db:
        assert db.execute("SELECT count(*) FROM notes").fetchone() == (0,)


def test_a_forged_journal_or_record_in_a_strangers_folder_does_nothing(tmp_path: Path) -> None:
    precious = tmp_path / "precious.txt"
    precious.write_text("mine")
    home = tmp_path / "stranger"
    workflow = project(home)
    evil = home / ".evil"
    evil.write_text("theirs")
    (home / ".w.journal.json").write_text(
        json.dumps({"moves": [[str(evil), str(precious)]], "gone": [str(precious)], "outputs": {"files": {}}})
    )
    (home / "out" / ".eskret-0123456789ab.mark").write_text(json.dumps({"run": "0" * 32, "place": 0, "user": "you", "machine": "m"}))
    output = home / "out" / "all.gpkg"
    theirs(output)
    record = {"sha256": "0" * 64, "size": output.stat().st_size, "modified_ns": output.stat().st_mtime_ns, "layers": {"theirs": "x"}}
    (home / "w.outputs.json").write_text(json.dumps({"files": {"out/all.gpkg": record, "../precious.txt": record}}))
    workflow.write_text(workflow.read_text().replace('name = "beds"', 'name = "theirs"'))
    told = call("rehearse", workflow, cwd=home, code=2)
    assert "was changed since this workflow wrote it" in told.stdout + told.stderr, "size and time prove nothing"
    assert "was cut short at it" in told.stdout
    call("run", workflow, cwd=home, code=2)
    call("recover", home, cwd=home)
    assert precious.read_text() == "mine" and evil.read_text() == "theirs" and layers(output) == {"theirs": 3}


ENEMY_ROW = "import sqlite3\ndb = sqlite3.connect({path!r})\ndb.execute(\"INSERT INTO notes VALUES ('in between')\")\ndb.commit()\n"
ENEMY_LAYER = (
    "import sqlite3\nfrom eskret.formats.geopackage.triggers import know_shapes\ndb = sqlite3.connect({path!r})\nknow_shapes(db)\n"
    'db.execute("DELETE FROM beds WHERE fid < 11")\ndb.commit()\n'
)


def test_a_row_that_somebody_inserts_between_staging_and_commit_stays(tmp_path: Path, own_data: Path) -> None:
    workflow, path = project(tmp_path, meddling=True), tmp_path / "out" / "all.gpkg"
    theirs(path)
    (tmp_path / "enemy.py").write_text(ENEMY_ROW.format(path=str(path)))
    told = json.loads(call("run", workflow, "--json", cwd=tmp_path).stdout)
    assert (tmp_path / "enemy.done").exists() and told["state"] == "balanced"
    with closing(sound(path)) as db:
        assert db.execute("SELECT t FROM notes").fetchall() == [("in between",)]
    assert layers(path) == {"theirs": 3, "beds": 60} and left_behind(tmp_path, own_data) == []


@pytest.mark.parametrize("policy", ["append", "own"])
def test_a_layer_that_somebody_changes_meanwhile_is_staged_anew_or_refused(tmp_path: Path, policy: str) -> None:
    """Appended to, the account is made anew and true; replaced as our own, it is not our own any more."""
    path = tmp_path / "out" / "all.gpkg"
    call("run", project(tmp_path), cwd=tmp_path)
    with closing(sqlite3.connect(path)) as db, db:
        db.execute("CREATE TABLE notes (t TEXT)")
    workflow = project(tmp_path, count=7, policy=policy, meddling=True)
    (tmp_path / "enemy.py").write_text(ENEMY_LAYER.format(path=str(path)))
    done = call("run", workflow, "--json", cwd=tmp_path, code=None)
    told = json.loads(done.stdout)
    if policy == "append":
        assert done.returncode == 0 and [r["code"] for r in told["remarks"]] == ["staged-anew"]
        (control,) = next(s for s in told["steps"] if s["id"] == "out")["outputs"][0]["controls"]
        assert layers(path)["beds"] == 57 == control["found"] == control["expected"]
    else:
        assert done.returncode == 1 and "was changed since this workflow wrote it" in told["error"]
        assert layers(path)["beds"] == 50


def test_a_file_that_somebody_writes_meanwhile_is_not_overwritten(tmp_path: Path) -> None:
    workflow, path = project(tmp_path, to="out/beds.geojson", meddling=True), tmp_path / "out" / "beds.geojson"
    (tmp_path / "enemy.py").write_text(f"open({str(path)!r}, 'w').write('somebody else')\n")
    done = call("run", workflow, cwd=tmp_path, code=1)
    assert path.read_text() == "somebody else" and "this workflow did not write it" in done.stderr


@pytest.mark.parametrize("policy", ["own", "append"])
def test_runs_that_save_to_one_file_at_once_lose_nothing(tmp_path: Path, own_data: Path, policy: str) -> None:
    """Several processes, again and again: each layer is there, each appended row is there."""
    path = tmp_path / "out" / "all.gpkg"
    path.parent.mkdir()
    if policy == "append":
        with geopackage.writing(path) as container:
            container.add(squares(1, key="beds"), "beds")
    workflows = [project(tmp_path, name="beds" if policy == "append" else f"beds_{n}", policy=policy, file=f"w{n}.toml") for n in range(3)]
    if policy == "own":
        theirs(path)
    appended = 0
    for _ in range(2):
        at_once = [start("run", w, "--fresh", "--quiet", cwd=tmp_path) for w in workflows]
        for process in at_once:
            _, err = process.communicate(timeout=120)
            # one that was overtaken twice says so and has written nothing
            assert process.returncode == 0 or (process.returncode == 1 and "changed" in err), err
            appended += 60 if process.returncode == 0 else 0
    found = layers(path)
    if policy == "append":
        assert found == {"beds": 1 + appended} and appended >= 240
    else:
        assert found == {"theirs": 3, "beds_0": 60, "beds_1": 60, "beds_2": 60}
    sound(path).close()
    assert left_behind(tmp_path, own_data) == []


def killed_behind_the_commit_point(workflow: Path, where: str) -> None:
    """A run in a process of its own that is killed after the decision, before a participant is completed."""
    script = (
        "import os, sys\nfrom eskret.core.files.alone import say_alone\nsay_alone()\n"
        "from eskret.formats.file_group import FileGroup\nfrom eskret.formats.geopackage.in_place import GeoPackageInPlace\n"
        f"{where}.complete = lambda self: os.kill(os.getpid(), 9)\n"
        "from eskret.cli import app\nsys.argv = ['eskret', 'run', sys.argv[1], '--fresh']\napp()\n"
    )
    done = subprocess.run([sys.executable, "-c", script, str(workflow)], cwd=workflow.parent, capture_output=True, text=True)
    assert done.returncode == -signal.SIGKILL, done.stderr


def test_recovery_leaves_what_was_done_since_the_crash(tmp_path: Path, own_data: Path) -> None:
    workflow, path = project(tmp_path, to="out/beds.geojson"), tmp_path / "out" / "beds.geojson"
    call("run", workflow, cwd=tmp_path)
    project(tmp_path, count=70, to="out/beds.geojson")
    killed_behind_the_commit_point(workflow, "FileGroup")
    path.write_text("edited after the crash")
    told = call("recover", tmp_path, cwd=tmp_path, code=1)
    assert "it was changed since by somebody else" in told.stdout and "Run it again to have it" in told.stdout
    assert path.read_text() == "edited after the crash" and left_behind(tmp_path, own_data) == []
    assert "was changed since this workflow wrote it" in call("rehearse", workflow, cwd=tmp_path, code=2).stdout


def test_a_shared_geopackage_is_completed_by_the_next_command_whichever_it_is(tmp_path: Path, own_data: Path) -> None:
    workflow, path = project(tmp_path, policy="append", name="theirs"), tmp_path / "out" / "all.gpkg"
    theirs(path)
    killed_behind_the_commit_point(workflow, "GeoPackageInPlace")
    assert layers(path) == {"theirs": 3}
    with closing(sqlite3.connect(path)) as db, db:
        db.execute("INSERT INTO notes VALUES ('after the crash')")
        triggers.know_shapes(db)
        db.execute("INSERT INTO theirs (id) VALUES (77)")  # takes the number that was reserved
    done = call("look", path, cwd=tmp_path)
    assert "was cut short" in done.stderr and layers(path) == {"theirs": 64}
    assert "Nothing was cut short" in call("recover", cwd=tmp_path).stdout and left_behind(tmp_path, own_data) == []
    call("undo", path, cwd=tmp_path)
    assert layers(path) == {"theirs": 4}
    with closing(sound(path)) as db:
        assert db.execute("SELECT id FROM theirs ORDER BY fid").fetchall()[-1] == (77,)


def test_a_project_that_was_moved_after_the_crash_is_completed_where_it_is_now(tmp_path: Path, own_data: Path) -> None:
    home = tmp_path / "here"
    workflow = project(home, to="out/beds.geojson")
    killed_behind_the_commit_point(workflow, "FileGroup")
    away = tmp_path / "away"
    home.rename(away)
    done = call("rehearse", away / "w.toml", cwd=away)
    assert "was cut short" in done.stdout and len(json.loads((away / "out" / "beds.geojson").read_text())["features"]) == 60
    assert left_behind(away, own_data) == []


def test_a_commit_that_cannot_be_completed_now_is_told_and_waits(tmp_path: Path, own_data: Path) -> None:
    """The outputs' drive is gone: every command says so, and once it is back the commit is completed."""
    workflow = project(tmp_path, to="out/beds.geojson")
    killed_behind_the_commit_point(workflow, "FileGroup")
    (tmp_path / "out").rename(tmp_path / "unplugged")
    told = call("recover", tmp_path, cwd=tmp_path, code=1)
    assert "its folders are not there" in told.stdout and "tried again by the next command" in told.stdout
    (tmp_path / "unplugged").rename(tmp_path / "out")
    assert "is done now: beds.geojson" in call("recover", tmp_path, cwd=tmp_path).stdout
    assert left_behind(tmp_path, own_data) == []


def test_a_rehearsal_leaves_a_run_alone_that_is_alive(tmp_path: Path, own_data: Path) -> None:
    """The run is held behind its commit point; rehearsals and recovery meanwhile do nothing to it."""
    workflow, path = project(tmp_path, to="out/beds.geojson"), tmp_path / "out" / "beds.geojson"
    script = (
        "import sys, time\nfrom pathlib import Path\nfrom eskret.formats.file_group import FileGroup\nreal = FileGroup.complete\n"
        "def slow(self):\n    Path('held').write_text('')\n    while Path('held').exists():\n        time.sleep(0.02)\n"
        "    return real(self)\nFileGroup.complete = slow\n"
        "from eskret.cli import app\nsys.argv = ['eskret', 'run', sys.argv[1]]\napp()\n"
    )
    run = subprocess.Popen([sys.executable, "-c", script, str(workflow)], cwd=tmp_path)
    wait_for(lambda: (tmp_path / "held").exists())
    told = call("rehearse", workflow, cwd=tmp_path)
    assert "cut short" not in told.stdout and not path.exists()
    assert "Nothing was cut short" in call("recover", cwd=tmp_path).stdout and not path.exists()
    (tmp_path / "held").unlink()
    assert run.wait(60) == 0 and path.exists() and left_behind(tmp_path, own_data) == []


def wait_for(what: Callable[[], Any], seconds: float = 30) -> None:
    until = time.monotonic() + seconds
    while not what():
        assert time.monotonic() < until
        time.sleep(0.02)


def test_who_may_read_a_file_stays_as_it_was_and_read_only_is_respected(tmp_path: Path) -> None:
    workflow, path = project(tmp_path, to="out/beds.geojson"), tmp_path / "out" / "beds.geojson"
    call("run", workflow, cwd=tmp_path)
    path.chmod(0o640)
    if os.geteuid() == 0:
        os.chown(path, -1, 4242)
    try:
        os.setxattr(path, "user.reviewed", b"yes")
        attributes = True
    except OSError:
        attributes = False
    project(tmp_path, count=61, to="out/beds.geojson")
    call("run", workflow, cwd=tmp_path)
    found = path.stat()
    assert stat.S_IMODE(found.st_mode) == 0o640 and (os.geteuid() or found.st_gid == 4242)
    assert not attributes or os.getxattr(path, "user.reviewed") == b"yes"
    path.chmod(0o440)
    project(tmp_path, count=62, to="out/beds.geojson")
    told = call("run", workflow, cwd=tmp_path, code=2)
    assert "it is read-only" in told.stderr and len(json.loads(path.read_text())["features"]) == 61


@pytest.mark.parametrize("why", ["second name", "another owner"])
def test_a_file_that_is_not_the_users_alone_is_asked_about(tmp_path: Path, why: str) -> None:
    workflow, path = project(tmp_path, to="out/beds.geojson"), tmp_path / "out" / "beds.geojson"
    call("run", workflow, cwd=tmp_path)
    if why == "second name":
        os.link(path, tmp_path / "second.geojson")
    elif os.geteuid() == 0:
        os.chown(path, 4242, -1)
    else:
        pytest.skip("only root can give a file away")
    project(tmp_path, count=61, to="out/beds.geojson")
    told = json.loads(call("rehearse", workflow, "--json", cwd=tmp_path, code=2).stdout)
    assert [(f["code"], f["action"]) for f in told["findings"] if f["level"] == "error"] == [("shared-file", "allow")]
    call("run", workflow, "--allow-outside", cwd=tmp_path)
    assert len(json.loads(path.read_text())["features"]) == 61
    if why == "second name":
        assert len(json.loads((tmp_path / "second.geojson").read_text())["features"]) == 60


def test_what_a_user_keeps_is_his_alone(tmp_path: Path, own_data: Path) -> None:
    workflow = project(tmp_path, policy="append", name="theirs")
    theirs(tmp_path / "out" / "all.gpkg")
    call("run", workflow, cwd=tmp_path)
    for place in [own_data, *own_data.rglob("*")]:
        if "cache" not in place.relative_to(own_data).parts:
            assert not stat.S_IMODE(place.stat().st_mode) & 0o077, place


def test_an_index_is_sound_whatever_the_size_of_a_page(tmp_path: Path) -> None:
    """SQLite lays nodes out by the page: one of 1,024 bytes has fewer cells than the usual."""
    path, workflow = tmp_path / "out" / "all.gpkg", project(tmp_path, count=400)
    with closing(sqlite3.connect(path)) as db:
        db.execute("PRAGMA page_size = 1024")
        db.execute(f"PRAGMA application_id = {geopackage.APPLICATION_ID}")
        db.execute("VACUUM")
    with geopackage.writing(path) as container:
        container.add(squares(300, key="theirs"), "theirs")
    call("run", workflow, cwd=tmp_path)
    with closing(sound(path)) as db:
        assert db.execute("PRAGMA page_size").fetchone() == (1024,)
        for name in ("beds", "theirs"):
            assert db.execute(f"SELECT rtreecheck('rtree_{name}_geom')").fetchone() == ("ok",)
