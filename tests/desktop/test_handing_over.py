"""A workflow packed in the window, and one that was handed over unpacked and opened."""

from __future__ import annotations

import shutil
from collections.abc import Callable
from pathlib import Path

import pytest
from PySide6.QtCore import QMimeData, QPointF, Qt, QUrl
from PySide6.QtGui import QDropEvent
from PySide6.QtWidgets import QFileDialog

from eskret.desktop.views.handover import PackBox, UnpackBox
from eskret.workflow.handover.pack import missing_in
from tests.desktop.conftest import Hand


def menu(hand: Hand, text: str) -> None:
    hand.menu(text)


def test_packed_here_and_unpacked_there(
    make_hand: Callable[..., Hand], demo: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    hand = make_hand(demo / "districts.toml")
    menu(hand, "Pack to hand over …")
    box = hand.bench.findChild(PackBox)
    hand.until(lambda: box.ok.isEnabled())
    assert box.pieces.grid.rowCount() == 3 and "1 file that it reads" in box.along.text()
    hand.keys("Space", box.along)
    assert "asked for by name" in box.says.text()
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(tmp_path / "over"), ""))
    hand.click(box.ok)
    hand.until(lambda: (tmp_path / "over.zip").exists() and "Packed as" in hand.banner())
    assert [m.name for m in missing_in(tmp_path / "over.zip")] == ["register/register.gpkg"]
    # dropped on the window, somewhere else
    register = shutil.copy(demo / "register" / "register.gpkg", tmp_path / "register.gpkg")
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(tmp_path / "over.zip"))])
    buttons, keys = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
    hand.bench.dropEvent(QDropEvent(QPointF(300, 300), Qt.DropAction.CopyAction, data, buttons, keys))
    unpack = hand.bench.findChild(UnpackBox)
    assert unpack.lines["folder"].text() == str(tmp_path / "over")
    unpack.lines["folder"].clear()
    hand.click(unpack.ok)
    assert unpack.wrong.text() == "Choose a folder."
    hand.type(str(tmp_path / "there"), unpack.lines["folder"])
    hand.type("none.gpkg", unpack.files["register/register.gpkg"])
    hand.click(unpack.ok)
    hand.until(lambda: "there is no such file" in unpack.wrong.text())
    unpack.files["register/register.gpkg"].setText(str(register))
    hand.click(unpack.ok)
    hand.until(lambda: hand.bench.session.path == tmp_path / "there" / "districts.toml")
    hand.settled()
    hand.run()
    assert hand.row("deliver")["state"] == "balanced" and (tmp_path / "there" / "out" / "all_districts.gpkg").exists()


def test_what_cannot_be_packed_or_unpacked_is_said(
    make_hand: Callable[..., Hand], demo: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    hand = make_hand(demo / "districts.toml")
    hand.click_step("sums")
    hand.keys("Delete", hand.bench.ledger)
    menu(hand, "Pack to hand over …")
    hand.until(lambda: "Save the workflow first" in hand.banner())
    (tmp_path / "no.zip").write_text("no")
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *a, **k: (str(tmp_path / "no.zip"), ""))
    menu(hand, "Unpack what was handed over …")
    box = hand.bench.findChild(UnpackBox)
    assert "this is no pack" in box.wrong.text() and not box.ok.isEnabled()
