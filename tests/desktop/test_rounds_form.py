"""A step in rounds, another workflow as a step and values taken of parameters: set in the form, written to the file."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QMenu, QWidget

from eskret.desktop.forms.binding import BindButton
from eskret.desktop.forms.inner import InnerEditor
from eskret.desktop.forms.rounds_editor import RoundsEditor
from eskret.workflow.model.iteration import ForEach
from tests.desktop.conftest import Hand


@pytest.fixture
def hand(make_hand: Callable[..., Hand], demo: Path) -> Hand:
    made = make_hand(demo / "districts.toml")
    made.settled()
    made.click_step("returns")
    return made


def choose(hand: Hand, opener: QWidget, menu: QMenu, words: str) -> None:
    """Open a menu by a click and take one of its entries."""
    hand.click(opener)
    hand.until(menu.isVisible)
    action = next(a for a in menu.actions() if a.text().startswith(words))
    QTest.mouseClick(menu, Qt.MouseButton.LeftButton, pos=menu.actionGeometry(action).center())
    hand.until(lambda: not menu.isVisible())


def bind(hand: Hand, button: BindButton | None, words: str) -> None:
    assert button is not None
    choose(hand, button, button.menu_, words)


def test_another_workflows_parameters_are_the_settings_of_the_step(hand: Hand) -> None:
    session = hand.bench.session
    inner = hand.bench.form.blocks["values"].editor
    assert isinstance(inner, InnerEditor) and list(inner.rows) == ["district", "beds", "whole_only", "smallest"]
    district, smallest = inner.rows["district"], inner.rows["smallest"]
    assert district.bind.text() == "takes $district" and district.editor is not None and district.editor.isHidden()
    assert not smallest.isEnabled()  # it counts only where small pieces are left out
    flag = inner.rows["whole_only"].editor
    assert flag is not None and flag.flag is not None
    hand.keys("Space", flag.flag)
    hand.until(lambda: smallest.isEnabled())
    assert smallest.editor is not None and smallest.editor.line is not None
    line = smallest.editor.line
    line.setFocus()
    hand.keys("Ctrl+A", line)
    hand.type("500 m2", line)
    hand.keys("Return", line)
    values = {"district": {"parameter": "district"}, "whole_only": True, "smallest": "500 m2"}
    hand.until(lambda: session.document.step("returns").settings["values"] == values)
    hand.settled()
    hand.run()
    assert int(hand.row("returns")["out"].replace(",", "")) > 412 and hand.row("deliver")["state"] == "balanced"
    # its own value again, and a value of its own in place of the round's
    hand.click(smallest.own)
    assert "smallest" not in session.document.step("returns").settings["values"]
    bind(hand, district.bind, "A value of its own")
    assert "district" not in session.document.step("returns").settings["values"] and not district.editor.isHidden()
    bind(hand, district.bind, "district of the round")
    assert session.document.step("returns").settings["values"]["district"] == {"parameter": "district"}


def test_rounds_are_set_in_the_form(hand: Hand) -> None:
    session = hand.bench.session
    editor = hand.bench.form.blocks["step.each"].editor
    assert isinstance(editor, RoundsEditor)

    def each() -> ForEach | None:
        return session.document.step("returns").each

    assert each() == ForEach("values", "register:districts", "name", "district", False)
    hand.keys("Space", editor.go_on)
    hand.until(lambda: (each() or ForEach("layers", "")).go_on)
    editor.called.setFocus()
    hand.keys("Ctrl+A", editor.called)
    hand.type("part of it", editor.called)
    hand.keys("Return", editor.called)
    assert each() == ForEach("values", "register:districts", "name", "part_of_it", True)
    hand.settled()
    # what the settings name is called otherwise now
    hand.until(lambda: hand.row("returns")["state"] == "cannot run")
    hand.keys("Ctrl+Z", hand.bench)
    editor.kind.setFocus()
    hand.keys("Down", editor.kind)
    hand.until(lambda: (each() or ForEach("layers", "")).kind == "rows")
    assert "$field" in editor.says.text() and editor.field.isHidden()
    editor.kind.setFocus()
    hand.keys("Home", editor.kind)
    hand.until(lambda: each() is None)
    assert "each =" not in session.document.to_text()


def test_a_setting_takes_the_value_of_a_parameter(hand: Hand) -> None:
    session, form = hand.bench.session, hand.bench.form
    hand.click_step("sums")
    hand.keys("Insert", hand.bench.ledger)
    hand.type("buffer", hand.bench.finder.line)
    hand.keys("Return", hand.bench.finder.line)
    step = hand.steps()[4]
    name = next(n for n, b in form.blocks.items() if b.bind is not None and b.info.kind in ("measure", "number"))
    hand.fill(name, "25 m")
    bind(hand, form.blocks[name].bind, "Make a parameter of it")
    made = session.document.parameters[0]
    assert session.document.step(step).settings[name] == {"parameter": made.name} and str(made.default) == "25 m"
    bound = form.blocks[name]
    assert bound.bind is not None and bound.bind.text() == f"takes ${made.name}" and not bound.editor.isEnabled()
    bind(hand, bound.bind, "A value of its own")
    assert str(session.document.step(step).settings[name]) == "25 m"
    hand.keys("Ctrl+Z", hand.bench)
    hand.keys("Ctrl+Z", hand.bench)
    assert not session.document.parameters and str(session.document.step(step).settings[name]) == "25 m"


def test_a_list_takes_a_parameter_as_its_only_one_and_the_ledger_tells_the_value(hand: Hand) -> None:
    session, form = hand.bench.session, hand.bench.form
    hand.click_step("sums")
    bind(hand, form.blocks["by"].bind, "Make a parameter of it")
    made = session.document.parameters[0]
    assert (made.type, made.default) == ("field", "district")
    assert session.document.step("sums").settings["by"] == {"parameter": made.name}
    assert "by district" in hand.row("sums")["step"]
    hand.settled()
    assert hand.row("sums")["state"] != "cannot run"
    button = form.blocks["by"].editor.target()
    assert button.text() == "district"  # type: ignore[attr-defined]
    bind(hand, form.blocks["by"].bind, "A value of its own")
    assert session.document.step("sums").settings["by"] == ["district"]
