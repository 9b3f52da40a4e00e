"""The handbook: every operation explained and called as it says; the pages that ship are those of today."""

from __future__ import annotations

import json
import re
import shlex
from html import unescape
from html.parser import HTMLParser
from pathlib import Path
from typing import Any

import pytest
from typer.testing import CliRunner

from eskret import Workflow
from eskret.cli import app
from eskret.desktop.frame.handbook_pages import write as write_from_window
from eskret.desktop.state.session import Session
from eskret.operations import all_operations
from eskret.operations.base import Operation
from eskret.operations.settings import setting_info
from eskret.user_operations import trust
from eskret.workflow.faces.examples import printed
from eskret.workflow.faces.examples.cases import CASES
from eskret.workflow.faces.examples.picture import picture_of
from eskret.workflow.faces.handbook import index, on_the_command_line, page_name, page_of_operation, page_of_workflow, write_handbook
from eskret.workflow.model import document

SHIPPED = Path(__file__).parents[2] / "docs" / "handbook"
every = pytest.mark.parametrize("operation", list(all_operations().values()), ids=lambda o: o.id)


class Sound(HTMLParser):
    """Notes tags that are closed and were never opened."""

    def __init__(self) -> None:
        super().__init__()
        self.open: list[str] = []
        self.links: list[str] = []

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.open.append(tag)
        self.links += [v for n, v in attrs if n == "href" and v]

    def handle_endtag(self, tag: str) -> None:
        assert tag in self.open, tag


def test_the_pages_that_ship_are_those_of_today(tmp_path: Path) -> None:
    write_handbook(tmp_path)
    made, there = ({p.name: p.read_text() for p in home.iterdir()} for home in (tmp_path, SHIPPED))
    assert made.keys() == there.keys() and [n for n in made if made[n] != there[n]] == [], "run: make handbook"


@every
def test_a_page_tells_all_of_an_operation(operation: Operation) -> None:
    page = page_of_operation(operation)
    reader = Sound()
    reader.feed(page)
    assert reader.links == ["handbook.css", "index.html"] and operation.title in page
    text = unescape(page)
    for name, info in setting_info(operation.Settings).items():
        assert f"<code>{name}</code>" in page and info.help in text and info.label in text
        assert all(str(c) in text for c in info.choices)
    assert "An example" in page and "Limits" in page and "Author" in page


def test_what_each_operation_does_is_shown() -> None:
    """On a handful of features, as the engine does it: only what reads, writes or checks has nothing to be seen."""
    shown = {o.id: picture_of(o) for o in all_operations().values()}
    assert {id for id, one in shown.items() if one is None} == {"load", "load_coordinates", "fetch", "save", "publish", "workflow", "check"}
    assert CASES.keys() <= all_operations().keys()
    for id, one in shown.items():
        if one is None:
            continue
        assert one.after.svg or one.after.rows, id
        assert one.before != one.after and (one.before.svg, one.before.rows) != (one.after.svg, one.after.rows), f"{id} shows no difference"
    clip = shown["clip"]
    assert clip is not None and clip.before.svg.count("<path") == 6 + 1 and clip.after.svg.count("<path") == 4 + 2 + 1
    assert clip.told[0] == "Set aside from beds: 2 · lies outside the area"


def printed_on(page: str) -> list[str]:
    """The examples of a page: the workflow in Python, and the command."""
    return [unescape(text) for text in re.findall(r"<pre>(.*?)</pre>", page, re.DOTALL)]


@pytest.mark.parametrize("id", [id for id in all_operations() if id not in printed.ON_A_SERVICE])
def test_the_examples_of_a_page_run_in_the_demos_folder_as_they_stand(id: str, demo: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(demo)
    python, command = printed_on(page_of_operation(all_operations()[id]))
    found: dict[str, Any] = {}
    exec(python, found)
    result = found["result"]
    assert result.state in ("balanced", "look"), result.error
    made = next(s for s in result.steps if s.use == id)
    assert made.outputs or result.outputs, "it made something"
    rows = sum(o.rows for o in made.outputs)
    words = shlex.split(command)
    assert words[0] == "eskret"
    done = CliRunner().invoke(app, [*words[1:], "--json"] if words[1] == "do" else words[1:])
    assert done.exit_code == 0, done.output
    if words[1] == "do":
        told = next(s for s in json.loads(done.stdout)["steps"] if s["use"] == id)
        assert sum(o["rows"] for o in told["outputs"]) == rows, "both do the same"


def test_an_operation_without_an_example_of_its_own_has_a_general_one() -> None:
    assert "own:" not in "".join(printed.PRINTED) and set(printed.PRINTED) == set(all_operations())
    assert on_the_command_line(all_operations()["buffer"]).startswith("eskret do buffer beds.gpkg --distance ")


def test_workflows_and_operations_of_ones_own_have_pages(demo: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    page = page_of_workflow(document.read(demo / "district.toml"), "district.toml")
    for said in (
        "Whose beds are returned",
        "from register:districts",
        "--for-each district",
        "The register of Orrel Sound",
        "a bed on the line between two is cut",
        "beds of a district",
        "figures",
    ):
        assert said in page, said
    monkeypatch.chdir(demo)
    trust.trust(demo)
    done = CliRunner().invoke(app, ["handbook", "district.toml", "closure.toml", "-o", "pages"])
    assert done.exit_code == 0, done.output
    reader = Sound()
    reader.feed((demo / "pages" / "index.html").read_text())
    assert all((demo / "pages" / link).exists() for link in reader.links) and len(reader.links) == len(all_operations()) + 5
    own = (demo / "pages" / "own-area_from_text.html").read_text()
    assert "One area without holes" in own and 'workflow.step("own:area_from_text"' in unescape(own)
    assert Workflow.read(demo / "district.toml").document.author in (demo / "pages" / "workflow-district.html").read_text()


def test_the_window_writes_it_for_the_browser(qapp: object) -> None:
    session = Session()
    assert write_from_window(session, "clip").name == "clip.html" and write_from_window(session).name == "index.html"
    assert page_name(all_operations()["clip"]) in index(list(all_operations().values()))
    session.close()
