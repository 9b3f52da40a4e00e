"""Every command and snippet of the README and the docs runs as it stands, in a copy of the demo, and the demo runs afterwards."""

from __future__ import annotations

import os
import pty
import re
import shlex
import signal
import subprocess
import sys
import time
import urllib.request
from collections.abc import Generator
from contextlib import contextmanager
from pathlib import Path

import pytest
from typer.testing import CliRunner

from eskret.cli import app
from eskret.operations.registry import all_operations, operation_by_id
from eskret.workflow.faces.examples import printed

ROOT = Path(__file__).parent.parent
LONG = {"eskret watch", "eskret practice-server", "eskret open"}
"""Commands that go on until they are told to end."""
ASKS = {"eskret publish publish.toml", "eskret publish --undo", "eskret trust", "eskret token"}
"""Commands that ask whoever sits there."""
ANSWERED = {"eskret token": (0, 1)}
"""A machine without a keyring says so."""


def lines_of(text: str) -> list[str]:
    """The commands of a document, in their order, without their remarks."""
    fence, lines = None, []
    for line in text.splitlines():
        if line.startswith("```"):
            fence = line[3:] if fence is None else None
        elif fence == "" and re.match("eskret |printf ", line):
            lines.append(re.sub(r"\s+#.*", "", line))
    return lines


def in_a_shell(line: str) -> tuple[int, str]:
    done = subprocess.run(["bash", "-c", line], capture_output=True, text=True, timeout=60, stdin=subprocess.DEVNULL)
    return done.returncode, done.stdout + done.stderr


def answering(line: str) -> tuple[int, str]:
    """Run a command at a terminal and say yes to whatever it asks, until it ends."""
    here, there = pty.openpty()
    process = subprocess.Popen(["bash", "-c", line], stdin=there, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True)
    for _ in range(120):
        os.write(here, b"y\n")  # what was typed before it asks for a secret is thrown away
        try:
            text, _ = process.communicate(timeout=0.5)
            break
        except subprocess.TimeoutExpired:
            continue
    else:
        process.kill()
        raise AssertionError(f"{line}: it does not end")
    os.close(here)
    os.close(there)
    return process.returncode, text


@contextmanager
def going_on(line: str) -> Generator[subprocess.Popen[str]]:
    """A command that goes on, once it has said something or answers; ended as Ctrl+C does."""
    process = subprocess.Popen(["bash", "-c", f"exec {line}"], stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True)
    assert process.stdout is not None
    try:
        if "practice-server" in line:
            _until_it_answers(process)
        elif "open" in line:
            time.sleep(3)
            assert process.poll() is None
        else:
            assert "balanced" in process.stdout.readline()
        yield process
    finally:
        process.send_signal(signal.SIGTERM if "open" in line else signal.SIGINT)
        process.wait(30)


def _until_it_answers(process: subprocess.Popen[str]) -> None:
    for _ in range(200):
        assert process.poll() is None
        try:
            urllib.request.urlopen("http://127.0.0.1:8731/", timeout=1).close()
            return
        except OSError:
            time.sleep(0.1)
    raise AssertionError("the practice server does not answer")


@pytest.fixture
def in_demo(demo: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.chdir(demo)
    monkeypatch.setenv("PATH", f"{Path(sys.executable).parent}:{os.environ['PATH']}")
    monkeypatch.setenv("QT_QPA_PLATFORM", "offscreen")
    for name in ("XDG_DATA_HOME", "XDG_CACHE_HOME", "XDG_STATE_HOME"):
        monkeypatch.setenv(name, str(tmp_path / name))
    return demo


def run_all(lines: list[str]) -> dict[str, str]:
    """Run commands one after the other, as they stand; what each said."""
    said: dict[str, str] = {}
    servers = []
    try:
        for line in lines:
            kind = " ".join(line.split()[:2])
            if kind in LONG:
                context = going_on(line)
                context.__enter__()
                if "practice-server" in line:
                    servers.append(context)
                else:
                    context.__exit__(None, None, None)
                continue
            if kind in ASKS or line in ASKS:
                code, text = answering(line)
            elif line.startswith("eskret ") and not {">", "|"} & set(line):
                done = CliRunner().invoke(app, shlex.split(line)[1:])
                code, text = done.exit_code, done.output
            else:
                code, text = in_a_shell(line)
            assert code in ANSWERED.get(kind, (0,)), f"{line}: {code}\n{text}"
            assert "Traceback" not in text, f"{line}\n{text}"
            said[line] = text
    finally:
        for context in servers:
            context.__exit__(None, None, None)
    return said


def the_demo_runs(home: Path) -> None:
    for file in sorted(home.glob("*.toml")):
        if file.name not in ("publish.toml", "wider.toml"):
            done = CliRunner().invoke(app, ["run", str(file), "--quiet"])
            assert done.exit_code == 0, f"{file.name}: {done.output}"


def page(name: str) -> str:
    return (ROOT / name).read_text(encoding="utf-8")


FIRST, _, REST = page("docs/command-line.md").partition("## Many at once")


def test_the_readmes_example_gives_the_ledger_that_stands_there(in_demo: Path) -> None:
    text = page("README.md")
    (line,) = lines_of(text)
    code, said = in_a_shell(line)
    assert code == 0
    (ledger,) = re.findall(r"```text\n(.*?)```", text, re.DOTALL)
    plain = " ".join(re.sub(r"\b(\d+\.\d s|reused|Time)\b", "", said).replace(f"{in_demo}/", "").split())
    for row in ledger.splitlines():
        assert " ".join(row.split()) in plain, row
    assert in_a_shell("eskret run worked.toml")[0] == 0
    number = re.search(r"\*\*(\d+) operations\*\*", text)
    assert number is not None and int(number[1]) == len(all_operations())
    assert len(text.splitlines()) < 80, "one screen and a half"


def test_all_commands(in_demo: Path) -> None:
    lines = lines_of(FIRST)
    assert len(lines) > 25
    said = run_all(lines)
    assert "Send this?" in said["eskret publish publish.toml"] and "taken back" in said["eskret publish --undo"]
    assert "is as it was before" in said["eskret undo wider.gpkg"]
    # the handbook's examples of what asks a service
    examples = [printed.on_the_command_line(operation_by_id(id)) for id in reversed(printed.ON_A_SERVICE)]
    said = run_all(["eskret practice-server", examples[0], "eskret publish publish.toml", examples[1]])
    assert "to add" in said[examples[0]] or "as they are" in said[examples[0]], said[examples[0]]
    assert "leases" in said[examples[1]]
    the_demo_runs(in_demo)


def test_the_commands_of_the_command_line_page(in_demo: Path) -> None:
    lines = lines_of(REST)
    assert len(lines) > 12
    said = run_all(lines)
    assert any("round" in text.lower() for text in said.values())
    the_demo_runs(in_demo)


def test_the_snippets_of_python(in_demo: Path) -> None:
    text = page("docs/python.md")
    # one behind the other, as somebody types them
    code = "\n".join(re.findall(r"```python\n(.*?)```", text, re.DOTALL))
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True)
    assert done.returncode == 0, done.stderr
    assert "('does not meet the condition', 125), ('a field the condition asks for is empty', 4)" in done.stdout
    assert (in_demo / "out" / "marks_of_a_kind.gpkg").exists()
    assert "does not meet the condition" in done.stdout and "'north': " in done.stdout
    (own,) = re.findall(r"```py\n(.*?)```", text, re.DOTALL)
    (in_demo / "operations" / "thin.py").write_text(own, encoding="utf-8")
    assert answering("eskret trust .")[0] == 0
    thinned = CliRunner().invoke(app, shlex.split("do own:thin register/register.gpkg:moorings --every 3 --out thin.gpkg"))
    assert thinned.exit_code == 0 and "is between the points kept" in thinned.output
    the_demo_runs(in_demo)


def test_every_document_is_reached_and_every_link_leads_somewhere() -> None:
    pages = [ROOT / "README.md", ROOT / "CONTRIBUTING.md", *sorted((ROOT / "docs").glob("*.md"))]
    reached = set()
    for one in pages:
        for link in re.findall(r"\]\(([^)#:]+)(?:#[^)]*)?\)", one.read_text(encoding="utf-8")):
            target = (one.parent / link).resolve()
            assert target.exists(), f"{one.name}: {link}"
            reached.add(target)
    assert not [p.name for p in (ROOT / "docs").glob("*.md") if p not in reached]
    assert lines_of(page("docs/workflow-file.md")) == ["eskret schema --out workflow.schema.json"]
