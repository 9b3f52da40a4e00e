"""What is shipped beside the code: one version, files that desktops and shells read, the README of an index, the documents as a site."""

from __future__ import annotations

import configparser
import importlib.util
import re
import shutil
import subprocess
import sys
import tomllib
import xml.etree.ElementTree as ET
from pathlib import Path
from types import ModuleType

import pytest

import eskret

ROOT = Path(__file__).parent.parent
SHARE = ROOT / "packaging" / "share"
METAINFO = SHARE / "metainfo" / "org.eskret.Eskret.metainfo.xml"
OURS = ROOT / "src" / "eskret" / "desktop" / "resources" / "desktop_entry"


def script(name: str) -> ModuleType:
    found = importlib.util.spec_from_file_location(name, ROOT / "packaging" / f"{name}.py")
    assert found is not None and found.loader is not None
    module = importlib.util.module_from_spec(found)
    found.loader.exec_module(module)
    return module


def test_the_version_is_one_everywhere() -> None:
    changes = re.search(r"^## (\S+)", (ROOT / "CHANGELOG.md").read_text(), re.MULTILINE)
    release = ET.parse(METAINFO).find("releases/release")
    assert changes is not None and release is not None
    assert changes[1] == release.get("version") == eskret.__version__
    dynamic = tomllib.loads((ROOT / "pyproject.toml").read_text())["tool"]["setuptools"]["dynamic"]
    assert dynamic["version"] == {"attr": "eskret.__version__"}


def test_manual_and_completion_are_those_of_todays_commands() -> None:
    stale = [place for place, text in script("make_shell_files").made().items() if (SHARE / place).read_text() != text]
    assert not stale, "make handbook makes them anew"


def test_every_command_stands_in_the_manual_and_roff_reads_it() -> None:
    from typer.main import get_command

    from eskret.cli import app

    text = (SHARE / "man/man1/eskret.1").read_text()
    for name in get_command(app).commands:  # type: ignore[attr-defined]
        assert f"\\fBeskret {name.replace('-', chr(92) + '-')}\\fR" in text
    if shutil.which("mandoc"):
        told = subprocess.run(["mandoc", "-T", "lint", "-W", "warning", SHARE / "man/man1/eskret.1"], capture_output=True, text=True)
        assert not told.stdout


def test_bash_completes_operations_and_options() -> None:
    line = "source {0}; COMP_WORDS=({1}); COMP_CWORD={2}; _eskret_completion eskret; echo ${{COMPREPLY[@]}}"
    where = {"PATH": f"{Path(sys.executable).parent}:/usr/bin:/bin"}
    file = SHARE / "bash-completion/completions/eskret"
    for words, at, wanted in (("eskret rehe", 1, "rehearse"), ("eskret do cut_c", 2, "cut_crossings")):
        done = subprocess.run(["bash", "-c", line.format(file, words, at)], env=where, capture_output=True, text=True)
        assert done.stdout.split() == [wanted], done.stderr


def test_a_desktop_knows_the_program_and_its_files() -> None:
    entry = configparser.ConfigParser(interpolation=None)
    entry.read_string((OURS / "eskret.desktop").read_text())
    kinds = entry["Desktop Entry"]["MimeType"].strip(";").split(";")
    names = {"m": "http://www.freedesktop.org/standards/shared-mime-info"}
    (kind,) = ET.parse(OURS / "eskret-mime.xml").findall("m:mime-type", names)
    assert kind.get("type") == kinds[0] and [g.get("pattern") for g in kind.findall("m:glob", names)] == ["*.eskret.toml"]
    assert ET.parse(METAINFO).findtext("provides/mediatype") == kinds[0] and ET.parse(METAINFO).findtext("launchable") == "eskret.desktop"
    magic = kind.find("m:magic/m:match", names)
    assert magic is not None
    for path in (ROOT / "src/eskret/demo/workflows").glob("*.toml"):
        assert (magic.get("value") or "-").encode() in path.read_bytes()[:2048]
    for tool, file in (("desktop-file-validate", OURS / "eskret.desktop"), ("appstreamcli", METAINFO)):
        if shutil.which(tool):
            words = [tool, "validate", "--no-net", file] if tool == "appstreamcli" else [tool, file]
            done = subprocess.run(words, capture_output=True, text=True)
            assert done.returncode == 0, done.stdout + done.stderr


@pytest.mark.skipif(not shutil.which("update-mime-database") or not shutil.which("gio"), reason="the desktop's tools are not installed")
def test_only_workflows_are_taken_for_workflows(tmp_path: Path) -> None:
    (tmp_path / "mime/packages").mkdir(parents=True)
    shutil.copy(OURS / "eskret-mime.xml", tmp_path / "mime/packages")
    subprocess.run(["update-mime-database", tmp_path / "mime"], check=True, capture_output=True)
    workflow = (ROOT / "src/eskret/demo/workflows/piles.toml").read_text()
    wanted = {"piles.eskret.toml": workflow, "without_an_ending": "# mine\n" + workflow, "other.toml": "[tool]\nx = 1\n"}
    kinds = []
    for name, text in wanted.items():
        (tmp_path / name).write_text(text)
        asked = ["gio", "info", "-a", "standard::content-type", tmp_path / name]
        told = subprocess.run(asked, env={"XDG_DATA_HOME": str(tmp_path), "PATH": "/usr/bin"}, capture_output=True, text=True)
        kinds.append("eskret" in told.stdout.rpartition("content-type:")[2])
    assert kinds == [True, True, False]


def test_the_readme_of_an_index_leads_nowhere_or_to_where_it_says() -> None:
    for_index = script("readme_for_index").for_index
    text = (ROOT / "README.md").read_text()
    bare = for_index(text)
    assert "](docs" not in bare and "![" not in bare and "[CHANGELOG" not in bare and "make demo" in bare and "|---|" not in bare
    led = for_index(text, "https://files.example.org/eskret/0.1.0/")
    assert "](https://files.example.org/eskret/0.1.0/docs/screenshots/start.png)" in led and "](docs" not in led


def test_the_site_is_made_and_nothing_in_it_leads_astray(tmp_path: Path) -> None:
    """MkDocs holds every link between pages (``strict``); what it does not look at, the handbook and pictures, is held here."""
    done = subprocess.run([sys.executable, "-m", "mkdocs", "build", "-q", "-d", tmp_path], cwd=ROOT, capture_output=True, text=True)
    assert done.returncode == 0 and not done.stderr.strip(), done.stderr
    for page in tmp_path.glob("*.html"):
        for link in re.findall(r'(?:href|src)="([^"#?]+)', page.read_text()):
            if not link.startswith(("http", "data:", "mailto:", "/")):
                assert (tmp_path / link).exists(), f"{page.name}: {link}"
    reference = (tmp_path / "reference.html").read_text()
    assert all(f'id="eskret.{name}"' in reference for name in ("api.Workflow", "api.use", "errors.EskretError", "core.layer.Layer"))
    assert "lease_beds" in (tmp_path / "notebook.html").read_text()


def test_what_the_window_lacks_of_the_system_is_said_in_a_line_to_copy(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    from typer.testing import CliRunner

    from eskret.cli import app, window_needs

    assert window_needs.lacking(on_a_screen=False) == [], "the tests have what they need"
    table = tmp_path / "packages.txt"
    table.write_text("# library package when\nlibnone-7.so.1 libnone7 always\nlibscreen.so.2 libscreen2 screen\nlibc.so.6 libc6 always\n")
    monkeypatch.setattr(window_needs, "TABLE", table)
    monkeypatch.setenv("QT_QPA_PLATFORM", "offscreen")
    told = CliRunner().invoke(app, ["open"])
    assert told.exit_code == 1 and told.output.strip().endswith("sudo apt-get install libnone7")
    monkeypatch.setenv("QT_QPA_PLATFORM", "xcb")
    assert CliRunner().invoke(app, ["open"]).output.strip().endswith("sudo apt-get install libnone7 libscreen2")
