"""The schema of workflow files holds for those there are and refuses what the reader refuses; the page on the file says what is so."""

from __future__ import annotations

import json
import re
import tomllib
from pathlib import Path
from typing import Any

import jsonschema
import pytest
from typer.testing import CliRunner

from eskret.cli import app
from eskret.errors import EskretError
from eskret.operations import all_operations
from eskret.workflow.faces.schema import schema
from eskret.workflow.model import document
from tests.golden import drawn

ROOT = Path(__file__).parent.parent.parent
PAGE = (ROOT / "docs" / "workflow-file.md").read_text(encoding="utf-8")
BLOCKS = re.findall(r"```toml\n(.*?)```", PAGE, re.DOTALL)
CHECKER = jsonschema.Draft202012Validator(schema())


def problems(text: str) -> list[str]:
    return [e.message for e in CHECKER.iter_errors(json.loads(json.dumps(tomllib.loads(text), default=str)))]


def test_the_schema_is_one_and_says_every_setting() -> None:
    jsonschema.Draft202012Validator.check_schema(schema())
    told = {one["if"]["properties"]["use"]["const"]: one["then"]["properties"] for one in schema()["$defs"]["step"]["allOf"]}
    assert set(told) == set(all_operations())
    assert all(set(o.Settings.model_fields) <= set(told[id]) for id, o in all_operations().items())


def test_what_the_demo_and_the_drawn_workflows_say_is_allowed(demo: Path) -> None:
    texts = [p.read_text() for p in sorted(demo.glob("*.toml"))] + [drawn.workflow(n) for n in range(40)]
    assert len(texts) >= 50
    for text in texts:
        assert not problems(text), text


HEAD = 'eskret = 1\n[[steps]]\nid = "a"\nuse = "load"\nfiles = ["a.gpkg"]\n'


@pytest.mark.parametrize(
    "wrong",
    [
        'title = "no version"\n',
        "eskret = 2\n",
        'eskret = 1\ntitel = "x"\n',
        f'{HEAD}layer_names = ["x"]\n',
        f'{HEAD}if_unreadable = "cry"\n',
        f"{HEAD}together = 3\n",
        f'{HEAD}each = {{ values = "a" }}\n',
        f'{HEAD}[steps.style.a]\ncolour = "red"\n',
        f'{HEAD}[[steps]]\nid = "b"\nuse = "fly"\n',
        f'{HEAD}[[steps]]\nid = "b"\nuse = "buffer"\nfrom = "a"\n',
        'eskret = 1\n[parameters.p]\ntype = "colour"\n',
        'eskret = 1\n[map]\nlines = "stars"\n',
    ],
)
def test_what_is_refused_when_read_or_rehearsed_is_not_allowed(wrong: str, tmp_path: Path) -> None:
    assert problems(wrong)
    file = tmp_path / "w.toml"
    file.write_text(wrong)
    try:
        found: Any = document.read(file)
    except EskretError:
        return
    done = CliRunner().invoke(app, ["rehearse", str(file)])
    assert done.exit_code == 2, found


def test_the_page_on_the_file_says_what_is_so(demo: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(demo)
    for block in BLOCKS:
        text = block if block.startswith("eskret = 1") else f"eskret = 1\n\n{block}"
        assert not problems(text), block
        assert document.parse(text, "page").to_text() == text, "it stands in the canonical form"
    (demo / "whole.toml").write_text(BLOCKS[0])
    done = CliRunner().invoke(app, ["run", "whole.toml", "--set", "least=20"])
    assert done.exit_code == 0, done.output
    assert (demo / "out" / "worked_beds.gpkg").exists()
    named = set(re.findall(r"`([a-z_]+)(?: = [^`]*)?`", PAGE))
    assert {"eskret", "title", "names", "crs", "heading", "note", "off", "result", "go_on", "min", "max"} <= named
    done = CliRunner().invoke(app, ["schema", "--out", "workflow.schema.json"])
    assert done.exit_code == 0 and json.loads((demo / "workflow.schema.json").read_text())["title"] == "A workflow of Eskret"
