"""What is without end, or far too large, is refused in a sentence or ended: through the command line, as somebody meets it."""

from __future__ import annotations

import os
import sqlite3
import subprocess
import sys
import time
from contextlib import closing
from dataclasses import replace
from pathlib import Path

import numpy as np
import pyarrow as pa
import pytest
import shapely
from typer.testing import CliRunner

from eskret import Workflow, write
from eskret.cli import app
from eskret.core import watchdog
from eskret.core.expression import MOST_JOINED, parse
from eskret.core.files import log
from eskret.core.layer import Layer
from eskret.core.unforeseen import as_sentence
from eskret.errors import Code, ExpressionError
from eskret.formats import geopackage
from eskret.formats.geopackage import reader
from eskret.formats.geopackage.digest import layer_digest
from eskret.practice_server import PracticeServer
from eskret.practice_server.storage import sortable
from eskret.services.changing import FeatureChange, make_dataset
from eskret.services.connection import Connection, seconds_told
from eskret.services.journal import DONE, UNDOING, Push, PushJournal
from tests.conftest import TOKEN, squares

LOAD = 'eskret = 1\n[[steps]]\nid = "in"\nuse = "load"\nfiles = ["pts.csv"]\n'
KEEP = LOAD + '[[steps]]\nid = "k"\nuse = "keep"\nfrom = "in"\nwhere = "{where}"\n'


def told(*arguments: object) -> tuple[int, str]:
    begun = time.monotonic()
    result = CliRunner().invoke(app, [str(a) for a in arguments])
    assert result.exception is None or isinstance(result.exception, SystemExit), result.exception
    assert time.monotonic() - begun < 20
    return result.exit_code, result.output


@pytest.fixture
def home(tmp_path: Path) -> Path:
    (tmp_path / "pts.csv").write_text("name,n\nA,1\nB,2\n")
    return tmp_path


@pytest.mark.parametrize(
    ("where", "says"),
    [
        (" OR ".join(f"n = {i}" for i in range(50_000)), "200,000 are the most"),
        (" OR ".join(f"n = {i}" for i in range(MOST_JOINED + 2)), f"{MOST_JOINED:,} are the most"),
        ("(" * 5000 + "n = 1" + ")" * 5000, "brackets stand 5,000 deep"),
        ("n < " + "9" * 5000, "has 5,000 digits"),
    ],
    ids=["long", "joined", "deep", "digits"],
)
def test_conditions_that_nobody_can_answer(home: Path, where: str, says: str) -> None:
    (home / "w.toml").write_text(KEEP.format(where=where))
    code, text = told("rehearse", home / "w.toml", "-q")
    assert code == 2 and says in text
    with pytest.raises(ExpressionError) as error:
        parse(where, ["n"])
    assert error.value.code is Code.TOO_LARGE


def test_as_many_conditions_as_may_be_joined_are(home: Path) -> None:
    (home / "w.toml").write_text(KEEP.format(where=" OR ".join(f"n = {i}" for i in range(500))))
    assert told("rehearse", home / "w.toml", "-q")[0] == 0


@pytest.mark.parametrize(
    ("text", "says"),
    [
        (LOAD + '[[steps]]\nid = "k"\nuse = "keep"\nfrom = 1\n', "'from' must be a reference or a list of them"),
        ("[parameters.a]\ntype = {}\n", "there is no type"),
        ('[[steps]]\nid = "k"\nuse = "keep"\ntotals = 5\nfrom = "k"\n', "loop"),
        (LOAD + '[[steps]]\nid = "k"\nuse = "sort"\nfrom = "in"\nby = ["n"]\ntotals = 5\n', "'totals' cannot be 5: it must be a list"),
        ('[[steps]]\nid = "k"\nuse = "fetch"\nservice = "http://[::1"\ndataset = "d"\n', "http://[::1"),
        ('[parameters.a]\ntype = "number"\ndefault = \'' + "9" * 5000 + "'\n", "more characters"),
        ("title = 5\n", "'title' must be text"),
        ("", "this is no workflow file"),
        ("[[steps]]\nid = {}\n", "it has no id"),
    ],
)
def test_workflow_files_of_all_kinds(home: Path, text: str, says: str) -> None:
    head = "" if text.startswith("eskret") or not text else "eskret = 1\n"
    (home / "w.toml").write_text(head + text)
    code, out = told("run", home / "w.toml")
    assert code in (1, 2) and says in out and "fault of the program" not in out


def test_pipes_and_devices_are_no_files(home: Path) -> None:
    os.mkfifo(home / "pipe.csv")
    assert "this is a pipe, not a file" in told("look", home / "pipe.csv")[1]
    assert "this is a device, not a file" in told("look", "/dev/zero")[1]
    (home / "w.toml").write_text(LOAD.replace("pts.csv", "pipe.csv"))
    assert told("run", home / "w.toml", "-q")[0] == 2


@pytest.mark.parametrize("ending", [".kml", ".gpx", ".gml"])
def test_an_encoding_that_nobody_knows(home: Path, ending: str) -> None:
    (home / f"a{ending}").write_text('<?xml version="1.0" encoding="x-nonsense-99"?><gpx/>')
    code, text = told("look", home / f"a{ending}")
    assert code == 1 and "the encoding that its first line names is not known" in text


def test_a_view_without_end_is_found_out(home: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    path = home / "a.gpkg"
    with geopackage.writing(path) as container:
        container.add(squares(2, key="beds"), "beds")
    with closing(sqlite3.connect(path)) as db, db:
        db.execute("CREATE VIEW v AS WITH RECURSIVE c(x) AS (SELECT 1 UNION ALL SELECT x + 1 FROM c) SELECT x AS fid FROM c")
        db.execute("INSERT INTO gpkg_contents (table_name, data_type, identifier) VALUES ('v', 'attributes', 'v')")
    monkeypatch.setattr(reader, "COUNTING", 0.5)
    assert "does not come to an end when it is counted" in told("look", path)[1]


def test_an_expression_that_does_not_listen_ends_the_command_with_a_sentence(home: Path) -> None:
    (home / "w.toml").write_text(KEEP.format(where="list_sum(range(length(name) * 0 + 1500000000)) > 0"))
    script = (
        "import sys\nfrom eskret.core import expression, watchdog\nwatchdog.GRACE = 0.3\n"
        "expression.truth.__defaults__ = expression.evaluate.__defaults__ = (0.4,)\n"
        f"sys.argv = ['eskret', 'run', {str(home / 'w.toml')!r}, '--fresh']\nfrom eskret.cli import main\nmain()\n"
    )
    begun = time.monotonic()
    done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, timeout=60)
    assert done.returncode == 1 and time.monotonic() - begun < 15
    assert "The expression takes longer than 0.7 seconds and does not listen, so it was ended" in done.stderr


def test_nothing_is_ended_where_nobody_said_that_it_may() -> None:
    watchdog.may_be_ended(None)
    with watchdog.bounded(0.01, "It"):
        time.sleep(0.05)


def test_what_nobody_foresaw_is_a_sentence_and_stands_in_the_log(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    log.start_log("test")
    error = as_sentence(ZeroDivisionError("division by zero"), "keep")
    assert "'keep' failed with a fault of the program: ZeroDivisionError" in error.sentence() and error.code is Code.FAULT
    written = log.log_path().read_text()
    assert "ZeroDivisionError" in written and log.log_path().stat().st_mode & 0o077 == 0
    assert as_sentence(OSError(28, "No space left on device", "/x")).code is Code.DISK_FULL


@pytest.mark.parametrize(
    ("text", "seconds"),
    [
        ("5", 5.0),
        ("0.5", 0.5),
        ("²", None),
        ("", None),
        ("-1", None),
        ("1e9", None),
        ("٣", None),
        ("soon", None),
        ("Thu, 01 Jan 1970 00:00:00 GMT", 0.0),
        ("Thu, 99 Jan 1970", None),
    ],
)
def test_how_long_a_service_says_to_wait(text: str, seconds: float | None) -> None:
    """RFC 9110, section 10.2.3: seconds, or a date."""
    assert seconds_told(text) == seconds


def test_the_machine_is_looked_over() -> None:
    code, text = told("doctor")
    assert code == 0 and "All is well." in text and all(f"format {e}" in text for e in (".gpkg", ".shp", ".parquet", ".kml"))


def test_a_time_that_its_zone_leads_out_of_all_years_is_no_time() -> None:
    assert sortable("0001-01-01T00:00:00+01:00") is None and sortable("9999-12-31T23:59:59-01:00") is None
    assert sortable("2031-01-01T01:00:00+01:00") == ("2031-01-01T00:00:00.000000",) * 2


def test_a_shape_nested_without_end_is_refused_by_the_practice_server(server: PracticeServer) -> None:
    deep = '{"type":"GeometryCollection","geometries":[' * 500 + '{"type":"Point","coordinates":[0,0]}' + "]}" * 500
    with Connection(server.address, TOKEN) as there:
        make_dataset(there, "beds", "Beds", "", {})
        body = f'{{"type":"Feature","geometry":{deep},"properties":{{}}}}'.encode()
        headers = {"Content-Type": "application/geo+json"}
        answer = there.once("POST", there.below("collections/beds/items"), body=body, headers=headers)
    assert answer.status == 400 and b"nested more than 64 deep" in answer.body


def test_a_push_taken_back_in_part_says_which_part() -> None:
    made = [(str(n), FeatureChange(None, {"type": "Feature", "geometry": None, "properties": {"n": n}}, "", 0)) for n in range(3)]
    with PushJournal.create(Push("20310101-000000-x-ab", "http://127.0.0.1", "beds", "append", added=3), made) as journal:
        first = journal.entries()[0]
        journal.settle([replace(first, state=DONE)])
        assert journal.came() == (1, 3)
        journal.note(state=UNDOING)
        journal.settle([replace(first, state=DONE, undone=True)])
        assert journal.came() == (1, 3)


def test_damaged_shapes_are_set_aside_and_told(home: Path) -> None:
    path = home / "a.gpkg"
    with geopackage.writing(path) as container:
        container.add(squares(6, key="beds"), "beds")
    with closing(sqlite3.connect(path)) as db, db:
        for (name,) in db.execute("SELECT name FROM sqlite_master WHERE type = 'trigger'").fetchall():
            db.execute(f'DROP TRIGGER "{name}"')
        for row, blob in ((2, "x'00112233'"), (3, "substr(geom, 1, 70)"), (4, "'text'"), (5, "x'4750'"), (6, "NULL")):
            db.execute(f"UPDATE beds SET geom = {blob} WHERE fid = {row}")
    (home / "w.toml").write_text(LOAD.replace("pts.csv", "a.gpkg") + '[[steps]]\nid = "s"\nuse = "save"\nfrom = "in"\nto = "out.csv"\n')
    result = Workflow.read(home / "w.toml").run()
    assert result.steps and not result.error, result.error
    (account,) = result.steps[0].inputs
    assert account.rows == 6 and account.set_aside.counts() == [("its shape is damaged in the file", 4)]
    assert result.steps[0].outputs[0].rows == 2
    assert "4 left out: its shape is damaged in the file" in told("look", path, "--fields")[1]


@pytest.fixture(scope="module")
def heavy(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A layer of 70 MB, more rows than a chunk has."""
    folder = tmp_path_factory.mktemp("heavy")
    rows = 66_000
    with geopackage.writing(folder / "heavy.gpkg") as container:
        table = pa.table({"n": np.arange(rows), "said": pa.array(["x" * 1_000]).take(pa.array(np.zeros(rows, np.int64)))})
        container.add(Layer("heavy", table, shapely.points(np.arange(rows), np.zeros(rows)), "EPSG:32626"), "heavy")
    return folder


def _sorted(folder: Path, use: str) -> Path:
    path = folder / f"{use.split()[0].strip(chr(34))}.toml"
    path.write_text(
        'eskret = 1\n[[steps]]\nid = "in"\nuse = "load"\nfiles = ["heavy.gpkg"]\n'
        f'[[steps]]\nid = "it"\nfrom = "in"\nuse = {use}\n[[steps]]\nid = "out"\nuse = "save"\nfrom = "it"\nto = "out/{path.stem}.gpkg"\n'
    )
    return path


def test_a_run_that_would_take_more_memory_than_it_may_is_told_before(heavy: Path) -> None:
    path = _sorted(heavy, '"dissolve"')
    code, text = told("rehearse", path, "--memory", "300MB")
    assert code == 0 and "step 'it': It has 'heavy' whole" in text and "where it may take 300.0 MB" in text
    assert "whole" not in told("rehearse", path, "--memory", "3GB")[1]
    # row by row, or in parts, nobody has it whole
    for use in ('"keep"\nwhere = "n % 7 = 1"', '"sort"\nby = ["said"]'):
        code, text = told("rehearse", _sorted(heavy, use), "--memory", "300MB")
        assert code == 0 and "whole" not in text


def test_a_layer_that_a_setting_names_counts_where_it_is_there_whole(heavy: Path) -> None:
    """What is counted in areas comes in chunks; what a place is compared with is there at once."""
    write(squares(3, key="few"), heavy / "few.gpkg")
    by_place = '"keep_by_place"\nto = "in:heavy"\nrelation = "intersects"'
    for use, whole in (('"count_in_areas"\nother = "in:heavy"', False), (by_place, True)):
        path = heavy / "named.toml"
        path.write_text(
            'eskret = 1\n[[steps]]\nid = "in"\nuse = "load"\nfiles = ["heavy.gpkg", "few.gpkg"]\n'
            f'[[steps]]\nid = "it"\nfrom = "in:few"\nuse = {use}\n'
        )
        code, text = told("rehearse", path, "--memory", "300MB")
        assert code == 0 and ("It has 'heavy' whole" in text) is whole, text


@pytest.mark.parametrize("use", ['"sort"\nby = ["said"]', '"keep"\nwhere = "n % 7 = 1"'])
def test_what_comes_out_does_not_hang_on_how_much_memory_there_is(heavy: Path, use: str) -> None:
    path, made = _sorted(heavy, use), []
    for size in ("200MB", "6GB"):
        code, text = told("run", path, "--memory", size, "--fresh")
        assert code == 0, text
        made.append(layer_digest(heavy / "out" / f"{path.stem}.gpkg", "heavy"))
    assert made[0] == made[1]


@pytest.mark.parametrize(
    ("size", "said"), [("much", "'much' is no size"), ("5MB", "cannot do with 5.0 MB"), ("0", "cannot do with 0 bytes")]
)
def test_sizes_of_memory_that_mean_nothing_are_refused(heavy: Path, size: str, said: str) -> None:
    code, text = told("run", _sorted(heavy, '"sort"\nby = ["n"]'), "--memory", size)
    assert code != 0 and said in text
