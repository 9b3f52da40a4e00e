"""Code of the project's own in the window: allowed before it runs, its errors shown with their line, changes taken up."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from PySide6.QtWidgets import QApplication, QComboBox, QFileDialog, QPushButton

from eskret.desktop.user_operations.box import CodeBox
from eskret.user_operations import trust
from tests.desktop.conftest import Hand


def code_box(hand: Hand) -> CodeBox:
    hand.until(lambda: any(b.isVisible() for b in hand.bench.findChildren(CodeBox)))
    return next(b for b in hand.bench.findChildren(CodeBox) if b.isVisible())


def box_of(hand: Hand, name: str) -> QComboBox:
    found = hand.bench.form.blocks[name].editor.target()
    assert isinstance(found, QComboBox)
    return found


def offered(hand: Hand, name: str) -> list[str]:
    box = box_of(hand, name)
    return [box.itemText(n) for n in range(box.count())]


def test_code_that_came_along_is_read_and_allowed_before_it_runs(make_hand: Callable[..., Hand], demo: Path) -> None:
    hand = make_hand(demo / "closure.toml")
    hand.until(lambda: "Nothing of it runs before it is allowed" in hand.banner())
    hand.settled()
    assert "cannot be used now" in hand.row("closure")["step"] and hand.bench.code_button.isVisible()
    hand.click_step("closure")
    hand.click(hand.bench.code_button)
    box = code_box(hand)
    assert "def area_from_text(" in box.code.toPlainText() and not box.onward.isChecked()
    # what changed since it was shown is not what was read
    file = demo / "operations" / "area_from_text.py"
    text = file.read_text()
    hand.bench.own._quiet.setInterval(3_600_000)
    file.write_text(text + "\n# more\n")
    hand.click(box.allow)
    assert "has changed since it was shown" in box.says.text() and not trust.is_trusted(demo)
    hand.until(lambda: "# more" in box.code.toPlainText())
    hand.click(box.allow)
    hand.until(lambda: hand.bench.own.operations)
    assert "1 operation of this project" in box.says.text() and "found among the others" in box.says.text()
    hand.click(box.withdraw)
    hand.until(lambda: not hand.bench.own.trusted)
    hand.click(box.allow)
    hand.until(lambda: hand.bench.own.operations)
    box.reject()
    assert hand.banner() == "" and hand.row("closure")["step"].startswith("Area from text")
    hand.settled()
    hand.run()
    assert hand.row("closure")["out"] == "1" and hand.row("affected")["state"] == "balanced"


def test_choices_follow_other_settings_and_changed_files_are_taken_up(make_hand: Callable[..., Hand], demo: Path) -> None:
    trust.trust(demo, written_here=True)
    hand = make_hand(demo / "closure.toml")
    hand.until(lambda: hand.bench.own.operations)
    hand.click_step("closure")
    hand.until(lambda: offered(hand, "unit") == ["degrees", "degrees and minutes"])
    kind = box_of(hand, "kind")
    kind.setFocus()
    hand.keys("Up", kind)
    hand.until(lambda: offered(hand, "unit") == ["m", "km", "degrees and minutes (no choice any more)"])
    hand.until(lambda: "not one of the choices" in hand.bench.form.blocks["unit"].wrong.text())
    assert not hand.bench.form.blocks["crs"].isHidden()
    hand.keys("Ctrl+Z", hand.bench)
    hand.until(lambda: offered(hand, "unit") == ["degrees", "degrees and minutes"])
    # a mistake is told with its line; put right, the operation is back with what is new in it
    file = demo / "operations" / "area_from_text.py"
    text = file.read_text()
    file.write_text(text.replace("def number(text", "def number(text,,"))
    hand.until(lambda: "area_from_text.py, line 31" in hand.banner())
    assert "cannot be used now" in hand.row("closure")["step"]
    hand.click(hand.bench.code_button)
    box = code_box(hand)
    assert [s.cursor.blockNumber() for s in box.code.extraSelections()] == [30]  # type: ignore[attr-defined]
    file.write_text(text.replace('"Kind of coordinates"', '"What they are"'))
    hand.until(lambda: not hand.bench.own.problems and hand.bench.own.operations)
    assert hand.bench.form.blocks["kind"].info.label == "What they are" and hand.banner() == ""


def test_an_operation_is_begun_and_used(make_hand: Callable[..., Hand], project: Path) -> None:
    hand = make_hand(project)
    hand.menu("New operation …")
    box: Any = next(w for w in QApplication.topLevelWidgets() if w.windowTitle() == "New operation")
    hand.click(box.ok)
    assert box.wrong.text() == "Give it a title."
    hand.type("Widen marks", box.lines["title"])
    hand.keys("Return", box.lines["title"])
    shown = code_box(hand)
    hand.until(lambda: hand.bench.own.operations)
    assert "def widen_marks(" in shown.code.toPlainText() and "Widen marks" in shown.about.text()
    shown.reject()
    hand.click_step("chosen")
    hand.keys("Insert", hand.bench.ledger)
    hand.type("widen marks", hand.bench.finder.line)
    hand.keys("Return", hand.bench.finder.line)
    hand.settled()
    assert hand.steps()[1:3] == ["chosen", "widen_marks"]
    hand.run()
    assert hand.row("widen_marks")["out"] == hand.row("chosen")["out"] != ""


def test_a_file_that_an_operation_of_ones_own_asks_for_is_found_by_a_button(
    make_hand: Callable[..., Hand], project: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    folder = project.parent
    (folder / "operations").mkdir()
    (folder / "operations" / "code.py").write_text(
        "from pathlib import Path\n\nfrom geopandas import GeoDataFrame\n\nimport eskret\n\n\n"
        "@eskret.operation(title='Priced')\n"
        "def priced(layer: GeoDataFrame, prices: Path) -> GeoDataFrame:\n"
        '    """Give each row a price."""\n    return layer\n'
    )
    (folder / "lists").mkdir()
    (folder / "lists" / "prices.csv").write_text("kind,price\n")
    project.write_text(f'{project.read_text()}\n[[steps]]\nid = "priced"\nuse = "own:priced"\nfrom = "chosen"\n')
    trust.trust(folder)
    hand = make_hand(project)
    hand.until(lambda: hand.bench.own.operations)
    hand.settled()
    hand.click_step("priced")
    block = hand.bench.form.blocks["prices"]
    assert block.wrong.text() == "'Prices' is not filled in."
    asked: list[str] = []
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *a: asked.append(a[2]) or (str(folder / "lists" / "prices.csv"), ""))
    hand.click(next(b for b in block.editor.findChildren(QPushButton) if b.toolTip() == "Choose a file"))
    assert hand.bench.session.document.step("priced").settings["prices"] == "lists/prices.csv" and asked == [str(folder)]
    # and it can be a parameter, as any other
    hand.click(block.bind)
    next(a for a in block.bind.menu_.actions() if a.text() == "Make a parameter of it").trigger()
    made = hand.bench.session.document.parameters[-1]
    assert made.type == "file" and made.default == "lists/prices.csv"
    assert hand.bench.session.document.step("priced").settings["prices"] == {"parameter": made.name}
