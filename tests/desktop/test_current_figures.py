"""Figures follow every edit: counts, set aside, table and map are made anew without Run, and nothing is written by it."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pyarrow as pa
import pytest
import shapely

from eskret import write
from eskret.core.layer import Layer
from eskret.desktop.state import current_figures
from eskret.formats import geopackage
from eskret.practice_server import PracticeServer
from eskret.services import practice
from tests.conftest import TOKEN, squares
from tests.desktop.conftest import Hand
from tests.test_cli import call

MakeHand = Callable[..., Hand]


def settled(hand: Hand) -> None:
    hand.settled()
    hand.until(lambda: not hand.bench.session.current.working)


def files(folder: Path) -> dict[str, int]:
    return {str(p.relative_to(folder)): p.stat().st_mtime_ns for p in folder.rglob("*") if p.name != "window.ini"}


def test_a_changed_condition_shows_its_figures_without_run(make_hand: MakeHand, project: Path) -> None:
    hand, before = make_hand(project, follows=True), files(project.parent)
    settled(hand)
    first = hand.row("chosen")
    assert first["state"] == "balanced" and first["aside"], "as soon as it is open"
    assert hand.row("web")["in"] == hand.row("web")["out"] == first["out"], "foretold of what is there"
    hand.click_step("archive")  # which takes the points from one step and the lines from another
    entering = hand.bench.session.entering_stored("archive")
    assert hand.row("archive")["in"] == str(sum(x.rows for x in entering)) and str(entering[0].rows) == first["out"]
    hand.until(lambda: hand.bench.viewer.table.model().rowCount() == int(first["out"]))
    hand.click_step("chosen")
    hand.fill("where", "name LIKE '%'")
    hand.until(lambda: hand.row("chosen") != first and hand.row("chosen")["state"] == "balanced")
    assert hand.row("chosen")["out"] == hand.row("chosen")["in"] == first["in"] and not hand.row("chosen")["aside"]
    assert hand.row("web")["in"] == first["in"] and hand.row("web")["state"] == "", "foretold, and not done"
    assert hand.bench.viewer.table.model().rowCount() == int(first["in"]), "the table follows"
    hand.keys("Ctrl+Z", hand.bench.ledger)
    hand.until(lambda: hand.row("chosen") == first)
    settled(hand)
    assert files(project.parent) == before and not hand.bench.session.last_run
    assert hand.bench.status.last.text() == ""


def test_another_value_of_a_parameter_moves_the_whole_ledger(make_hand: MakeHand, project: Path) -> None:
    hand = make_hand(project, follows=True)
    settled(hand)
    hand.bench.session.set_value("kind", "Wreck")
    hand.until(lambda: hand.row("chosen")["out"] == "0" and hand.row("chosen")["state"] == "look")
    assert hand.row("recordings")["state"] == "look", "which set some aside"


MORE = """
[[steps]]
id = "wrong"
use = "keep"
from = "recordings:*_waypoints"
where = "nowhere = 1"

[[steps]]
id = "after"
use = "number"
from = "wrong"

[[steps]]
id = "unmet"
use = "check"
from = "recordings:*_waypoints"
that = "condition"
where = "name = 'nobody'"

[[steps]]
id = "behind"
use = "number"
from = "unmet"
"""


def test_a_step_that_is_wrong_or_fails_keeps_only_its_own_branch(make_hand: MakeHand, project: Path) -> None:
    project.write_text(project.read_text() + MORE)
    hand = make_hand(project, follows=True)
    settled(hand)
    assert hand.row("chosen")["state"] == "balanced"
    assert hand.row("wrong")["state"] == "cannot run" and hand.row("after")["state"] == ""
    assert hand.row("unmet")["state"] == "failed" and hand.row("behind")["state"] == ""
    hand.keys("Ctrl+U", hand.bench.ledger)
    assert "can run are up to date" in hand.banner(), "and not all of them"


def test_what_takes_long_waits_for_a_key(make_hand: MakeHand, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """And what does not is there meanwhile."""
    monkeypatch.setattr(current_figures, "LONGEST", 1.5)
    places = np.random.default_rng(2).uniform((5e5, 5e6), (5.2e5, 5.02e6), (30_000, 2))
    with geopackage.writing(tmp_path / "p.gpkg") as container:
        container.add(Layer("p", pa.table({"n": np.arange(len(places))}), shapely.points(places), "EPSG:32626"), "p")
    path = tmp_path / "w.toml"
    path.write_text(
        'eskret = 1\n[[steps]]\nid = "in"\nuse = "load"\nfiles = ["p.gpkg"]\n'
        '[[steps]]\nid = "few"\nuse = "keep"\nfrom = "in"\nwhere = "n < 10"\n'
        '[[steps]]\nid = "round"\nuse = "buffer"\nfrom = "in"\ndistance = "300 m"\n'
        '[[steps]]\nid = "all"\nuse = "dissolve"\nfrom = "round"\n'
    )
    hand = make_hand(path, follows=True)
    settled(hand)
    waiting = [s for s in hand.steps() if hand.row(s)["state"] == "waiting"]
    assert waiting and hand.row("few")["state"] == "balanced"
    hand.keys("Ctrl+U", hand.bench.ledger)
    settled(hand)
    assert [hand.row(s)["state"] for s in hand.steps()] == ["balanced"] * 3 + ["look"], "much lies on each other"


def test_it_can_be_switched_off(make_hand: MakeHand, project: Path) -> None:
    hand = make_hand(project, follows=True)
    settled(hand)
    hand.bench.bar.menu.aboutToShow.emit()
    hand.menu("Do not update the figures")
    hand.click_step("chosen")
    hand.fill("where", "name LIKE '%'")
    settled(hand)
    assert hand.row("chosen")["state"] == "" and not hand.bench.session.current.making
    again = make_hand(project, follows=None)
    settled(again)
    assert again.row("chosen")["state"] == ""


def test_a_changed_value_moves_only_what_hangs_on_it(make_hand: MakeHand, project: Path) -> None:
    hand = make_hand(project, follows=True)
    settled(hand)
    session = hand.bench.session
    kept = session.results["recordings"]
    session.set_value("kind", "Wreck")
    assert session.results.get("recordings") is kept and "chosen" not in session.results  # the load stays as it is
    hand.until(lambda: hand.row("chosen")["out"] == "0")
    settled(hand)
    assert session.results["recordings"] is kept


def test_a_file_that_changes_on_disk_counts_as_an_edit(make_hand: MakeHand, project: Path) -> None:
    hand = make_hand(project, follows=True)
    settled(hand)
    before = int(hand.row("chosen")["in"])
    recording = project.parent / "field" / "marks.gpx"
    text = recording.read_text(encoding="utf-8")
    assert hand.bench.session.inputs._known  # they were looked at once
    at = text.index("<wpt")
    recording.write_text(f'{text[:at]}<wpt lat="47.1" lon="-27.1"><desc>Pile new</desc></wpt>{text[at:]}', encoding="utf-8")
    hand.until(lambda: hand.row("chosen")["in"] == str(before + 1) and hand.row("chosen")["state"] == "balanced")
    # one more file of the pattern
    recording.with_name("more.gpx").write_text(recording.read_text(encoding="utf-8"), encoding="utf-8")
    hand.until(lambda: hand.bench.session.results.get("recordings") and len(hand.bench.session.results["recordings"]["outputs"]) > 2)
    # what a run itself changes is none
    hand.run()
    hand.bot.wait(900)
    assert hand.row("archive")["state"] in ("balanced", "look")


def test_what_was_fetched_stands_until_a_run_asks_again(make_hand: MakeHand, tmp_path: Path, server: PracticeServer) -> None:
    """An edit below a fetched dataset shows its figures though nobody is asked, and says of when they are; a run asks again."""
    practice.note(server.address, TOKEN)
    write(squares(12, key="beds"), tmp_path / "beds.gpkg", "beds")
    online = f'service = "{server.address}"\ndataset = "beds"\n'
    (tmp_path / "publish.toml").write_text(
        'eskret = 1\n[[steps]]\nid = "beds"\nuse = "load"\nfiles = ["beds.gpkg"]\n'
        f'[[steps]]\nid = "out"\nuse = "publish"\nfrom = "beds"\nkey = ["id"]\ncreate = true\n{online}'
    )
    assert call("publish", tmp_path / "publish.toml", "--yes")[0] == 0
    path = tmp_path / "fetch.toml"
    few = '[[steps]]\nid = "few"\nuse = "keep"\nfrom = "got"\nwhere = "id < 3"\n'
    path.write_text(f'eskret = 1\n[[steps]]\nid = "got"\nuse = "fetch"\n{online}{few}')
    hand = make_hand(path, follows=True)
    settled(hand)
    assert hand.row("few")["state"] == "", "nobody is asked unasked"
    hand.run()
    assert (hand.row("got")["out"], hand.row("few")["out"]) == ("12", "3")
    write(squares(20, key="beds"), tmp_path / "more.gpkg", "beds")
    (tmp_path / "more.gpkg").replace(tmp_path / "beds.gpkg")
    assert call("publish", tmp_path / "publish.toml", "--yes")[0] == 0
    hand.click_step("few")
    hand.fill("where", "id < 7")
    hand.until(lambda: hand.row("few")["out"] == "7" and hand.row("few")["state"] == "balanced")
    again = make_hand(path, follows=True)  # another day: nothing was done in this window yet
    again.until(lambda: again.row("few")["out"] == "3")
    assert again.row("got")["out"] == "12"
    said = [r["text"] for r in again.bench.session.results["got"]["remarks"]]
    assert any(text.startswith("as it was on 20") and text.endswith("a run asks again") for text in said)
    again.run()
    assert again.row("got")["out"] == "20" and not again.bench.session.results["got"]["remarks"]
