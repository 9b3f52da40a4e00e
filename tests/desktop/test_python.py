"""Python in the window: the workflow as a script always in step, a script opened as a ledger, a pane to try things in."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from PySide6.QtCore import Qt
from PySide6.QtGui import QGuiApplication, QTextCursor
from PySide6.QtTest import QTest

from eskret import Workflow
from eskret.desktop.python_console.opening import ScriptBox
from eskret.desktop.theme.style import theme
from eskret.errors import DocumentError
from eskret.process.console_state import Layers, Results
from eskret.user_operations import trust
from eskret.workflow.faces.script import scripted
from eskret.workflow.model.built import built_by
from tests.desktop.conftest import Hand

FLEET = '''"""A workflow for every boat, built with an ordinary loop."""

from eskret import Workflow

workflow = Workflow("Marks of the fleet", crs="EPSG:32626")
boats = ["a", "b"]
marks = {}
for boat in boats:
    loaded = workflow.load(f"boat_{boat}", files=[f"field/2031-09/boat-{boat}.gpx"], parts=["tracks"])
    marks[boat] = workflow.buffer(f"near_{boat}", loaded, distance="200 m", heading=f"Boat {boat.upper()}")
whole = workflow.merge("whole", list(marks.values()))
workflow.save("out", whole, to="out/fleet.gpkg")
workflow.write("fleet.toml")
'''


# -- beside the ledger


def test_the_script_is_in_step_with_the_ledger(make_hand: Callable[..., Hand], demo: Path) -> None:
    hand = make_hand(demo / "harbour.toml")
    pane, session = hand.bench.side.script, hand.bench.session
    hand.keys("Ctrl+P", hand.bench)
    assert pane.isVisible() and pane.code.toPlainText() == scripted(session.document, "harbour.toml").text
    hand.click_step("water")
    first, last = scripted(session.document, "").places["water"]
    marked = [s.cursor.blockNumber() + 1 for s in pane.code.extraSelections()]  # type: ignore[attr-defined]
    assert marked == list(range(first, last + 1)) and "'water'" in pane.code.toPlainText().splitlines()[first - 1]
    hand.click_step("inside")
    hand.fill("sliver", "12 m2")
    assert "sliver='12 m2'" in pane.code.toPlainText()
    hand.keys("Ctrl+Z", hand.bench)
    hand.until(lambda: "sliver='10 m2'" in pane.code.toPlainText())
    # a click on a line takes its step in hand
    line = scripted(session.document, "").places["basin"][0]
    block = pane.code.document().findBlockByNumber(line)
    pane.code.setTextCursor(QTextCursor(block))
    pane.code.centerCursor()
    QTest.mouseClick(pane.code.viewport(), Qt.MouseButton.LeftButton, pos=pane.code.cursorRect().center())
    assert session.selected == "basin"
    hand.click(pane.copy)
    assert QGuiApplication.clipboard().text() == pane.code.toPlainText()
    # what it gives, run, is the workflow
    theme.use("dark")
    found: dict[str, Any] = {"__name__": "__main__"}
    place = Path.cwd()
    os.chdir(demo)
    try:
        exec(pane.code.toPlainText(), found)
    finally:
        os.chdir(place)
    assert found["workflow"].document.steps == session.document.steps
    theme.use("light")
    hand.keys("Ctrl+P", hand.bench)
    assert not pane.isVisible() and not hand.bench.side.isVisible()


# -- a script opened


def test_a_script_that_builds_with_loops_opens_as_a_ledger(make_hand: Callable[..., Hand], demo: Path) -> None:
    script = demo / "fleet.py"
    script.write_text(FLEET)
    hand = make_hand(demo / "harbour.toml")
    hand.bench.files.open_path(script)
    box = hand.bench.findChild(ScriptBox)
    assert "def" not in box.code.toPlainText() and "for boat in boats:" in box.code.toPlainText()
    script.write_text(FLEET + "\n# more\n")
    hand.click(box.ok)
    assert "has changed since it was shown" in box.wrong.text()
    box.reject()
    hand.bench.files.open_path(script)
    box = next(b for b in hand.bench.findChildren(ScriptBox) if b.isVisible())
    hand.click(box.ok)
    hand.until(lambda: hand.steps() == ["boat_a", "near_a", "boat_b", "near_b", "whole", "out"])
    assert "Built by fleet.py" in hand.banner() and hand.bench.session.path is None and hand.bench.session.dirty
    assert not (demo / "fleet.toml").exists()  # what it would write is left undone
    hand.settled()
    hand.run()
    assert hand.row("out")["state"] == "balanced"


def test_several_workflows_of_a_script_are_chosen_among(make_hand: Callable[..., Hand], demo: Path) -> None:
    script = demo / "two.py"
    script.write_text(
        "from eskret import Workflow\nfor name in ('One', 'Two'):\n    w = Workflow(name)\n"
        "    w.load('in', files=['register/register.gpkg'])\n    w.write(f'{name}.toml')\n"
    )
    trust.trust_file(script)
    hand = make_hand(demo / "harbour.toml")
    hand.bench.files.open_path(script)
    box = hand.bench.findChild(ScriptBox)
    hand.until(lambda: box.which.isVisible())
    box.which.setFocus()
    hand.keys("Down", box.which)
    hand.click(box.ok)
    hand.until(lambda: hand.bench.session.document.title == "Two")


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("from eskret import Workflow\nWorkflow('x')\n", "it builds no workflow"),
        ("from eskret import Workflow\n\nw = Workflow('x')\nw.nothing('a')\n", "no, line 4: AttributeError: a workflow has no 'nothing'"),
        ("def f(:\n", "line 1: this is not sound Python"),
        ("import time\ntime.sleep(60)\n", "did not come to an end within 3 s"),
        ("import os\nos._exit(3)\n", "it ended without a word"),
        ("import sys\nsys.exit('no data')\n", "no data"),
    ],
)
def test_what_is_wrong_with_a_script_is_said(tmp_path: Path, text: str, said: str) -> None:
    script = tmp_path / "s.py"
    script.write_text(text)
    with pytest.raises(DocumentError, match="nobody here has allowed"):
        built_by(script)
    trust.trust_file(script)
    with pytest.raises(DocumentError) as caught:
        built_by(script, patience=3 if "sleep" in text else 30)
    assert said.removeprefix("no, ") in caught.value.sentence()


def test_a_script_that_runs_what_it_builds_goes_no_further(tmp_path: Path) -> None:
    script = tmp_path / "s.py"
    script.write_text(
        "from pathlib import Path\nfrom eskret import Workflow\nprint('talk')\nw = Workflow('x')\nw.load('a', files=['a.gpkg'])\n"
        "w.run()\nPath('after').write_text('')\n"
    )
    trust.trust_file(script)
    (built,) = built_by(script)
    assert built.document.title == "x" and not (tmp_path / "after").exists()


# -- the pane


def test_the_pane_has_the_workflow_and_its_results_at_hand(make_hand: Callable[..., Hand], demo: Path) -> None:
    hand = make_hand(demo / "harbour.toml")
    hand.settled()
    hand.run()
    hand.keys("Ctrl+Shift+P", hand.bench)
    pane, session = hand.bench.side.console, hand.bench.session
    assert pane.isVisible() and pane.widget is not None

    def text() -> str:
        return str(pane.widget._control.toPlainText())

    hand.until(lambda: "In [1]:" in text())
    control = pane.widget._control
    hand.type("print(type(results['inside']['lease_beds']).__name__, len(results['inside']['lease_beds']), values['limit'])", control)
    hand.keys("Return", control)
    hand.until(lambda: "GeoDataFrame 30 2031" in text())
    hand.until(lambda: "In [2]:" in text())
    hand.type("workflow.measure('more', 'inside', what=['area']); ledger(workflow)", control)
    hand.keys("Return", control)
    hand.until(lambda: hand.steps()[-1] == "more")
    hand.keys("Ctrl+Z", hand.bench)
    hand.until(lambda: hand.steps()[-1] == "districts")
    # it follows the window
    session.set_value("limit", "2029")
    hand.until(lambda: "In [3]:" in text())
    hand.bot.wait(300)
    hand.type("values['limit'], len(workflow.steps)", control)
    hand.keys("Return", control)
    hand.until(lambda: "('2029', 13)" in text())
    # an end of its process is none of the window's
    process = pane._manager
    hand.click(pane.again)
    hand.until(lambda: "In [1]:" in text())
    folder = pane._folder
    pane.close_down()
    assert not process.is_alive() and folder is not None and not folder.exists()
    theme.changed.connect(pane._dress)


def test_results_say_what_there_is(tmp_path: Path) -> None:
    layers = {"beds": {"rows": 3, "path": str(tmp_path)}, "more": {"rows": 1, "path": str(tmp_path)}}
    results = Results({"cut": layers})
    assert list(results) == ["cut"] and repr(results["cut"]) == "<cut: beds: 3 rows; more: 1 row>"
    with pytest.raises(KeyError, match="no result of 'x'; there are cut"):
        results["x"]
    with pytest.raises(KeyError, match="left no 'x'; it left beds, more"):
        results["cut"]["x"]
    with pytest.raises(ValueError, match="left 2 layers"):
        _ = Layers("cut", layers).only
    assert "run the workflow" in repr(Results({})) and Workflow("x").document.title == "x"
